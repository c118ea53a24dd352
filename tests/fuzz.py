"""What a person, a script or a cat may type, made of what each command says that it takes; and how answers arrive."""

from __future__ import annotations

import typer
from hypothesis import strategies as st

from concordex.cli.app import app

#: What is nothing that a command could mean, or means it oddly.
WORDS = (
    "", " ", "-", "--", "-1", "0", "1", "99999999999999999999", "1e400", "nan", "a", "muster", "stowage", "devices",
    "muster/1", ".", "..", "/dev/null", "nosuch.csv", "odd.csv", "odd.yaml", "odd.json", "odd.xlsx", "*",
    "%", "\\", "'", '"', "\n", "\x00", "\x1b[31m", "\u2028", "\U0001f600", "é", "x" * 5_000, "name = x", "name = 'x",
    "((((", "name ~ '('", "last_seen > 99999-01-01", "9999999999d", "0001-01-01", "{}", "{{", "a=b", "a=", "=b",
    "env:NO", "http://", "http://[", "http://x:99999999", "https://u:p@x", "=cmd|x", "kind", "name,name",
    "E00001", "00:00",
)  # fmt: skip
#: Not called: they serve, ask, or wait for the world.
LEFT_OUT = {"demo", "review", "work", "metrics"}


def commands() -> dict[tuple[str, ...], list]:
    """Each command by its words, and its parameters."""
    whole, found = typer.main.get_command(app), {}
    context = typer.Context(whole)

    def walk(words: tuple[str, ...], command) -> None:
        if hasattr(command, "list_commands"):
            for name in command.list_commands(context):
                if name not in LEFT_OUT:
                    walk((*words, name), command.get_command(context, name))
        else:
            found[words] = command.params

    walk((), whole)
    return found


@st.composite
def calls(draw, known: dict[tuple[str, ...], list]) -> list[str]:
    """One call: a command, its arguments, some of its options, mostly with odd values."""
    words = draw(st.sampled_from(sorted(known)))
    said = list(words)
    value = st.sampled_from(WORDS) | st.text(max_size=6) | st.integers().map(str)
    for one in known[words]:
        if not one.opts or one.opts[0].startswith("-"):
            if draw(st.integers(0, 3)) == 0 and one.opts and "--help" not in one.opts:
                said.append(draw(st.sampled_from(one.opts)))
                if not getattr(one, "is_flag", False):
                    choices = getattr(getattr(one, "type", None), "choices", ())
                    said.append(str(draw(st.sampled_from([*choices]) if choices and draw(st.booleans()) else value)))
        elif one.required or draw(st.booleans()):
            said.append(draw(value))
    # no system passes a zero on, and nothing outside of the test's own folder is touched
    said = [word.replace("\x00", "") for word in said]
    return [word if word == "/dev/null" or not word.startswith("/") else f".{word}" for word in said]


def _begun(status: int, headers: list, length: str) -> bytes:
    said = "".join(f"{name}: {value}\r\n" for name, value in headers)
    return f"HTTP/1.1 {status} Said\r\n{said}{length}\r\n\r\n".encode("latin-1", "replace")


def cut(status, body, headers):
    yield _begun(status, headers, f"Content-Length: {len(body) + 9}") + body, 0


def dribbled(status, body, headers):
    whole = _begun(status, headers, f"Content-Length: {len(body)}") + body
    yield from ((whole[at : at + 7], 0.001) for at in range(0, len(whole), 7))


def stalled(status, body, headers):
    yield _begun(status, headers, f"Content-Length: {len(body) + 9}") + body, 0.4


def unnumbered(status, body, headers):
    yield _begun(status, headers, "Connection: close") + body, 0


def in_bad_chunks(status, body, headers):
    yield _begun(status, headers, "Transfer-Encoding: chunked") + b"%x\r\n" % (len(body) + 1) + body + b"\r\n0\r\n", 0


def in_chunks_without_end(status, body, headers):
    yield _begun(status, headers, "Transfer-Encoding: chunked") + b"zz\r\n" + body, 0


def twice_measured(status, body, headers):
    yield _begun(status, headers, f"Content-Length: {len(body)}\r\nContent-Length: 3") + body, 0


def no_answer(status, body, headers):
    yield body or b"\0", 0


def endless_headers(status, body, headers):
    yield _begun(status, headers, "X: " + "x" * 70_000), 0


MANNERS = (cut, dribbled, stalled, unnumbered, in_bad_chunks, in_chunks_without_end, twice_measured, no_answer,
           endless_headers)  # fmt: skip
