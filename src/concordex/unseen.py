"""What no text may show: every secret and session token that this process has had in hand.

Everything that is printed, logged, raised or kept as a reason goes through ``masked``.  A secret is known in every form
that it may take on its way (as it is, percent-encoded, escaped for JSON, XML or a program text, inside Base64 such as
that of Basic, RFC 7617), and what stands where credentials stand is masked whether it is known or not.
"""

from __future__ import annotations

import base64
import json
import re
import string
from collections.abc import Iterable, Mapping
from functools import lru_cache
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, quote_plus

if TYPE_CHECKING:
    import polars as pl

MASK = "***"
#: What stands in data where one of our secrets stood; it looks the same in JSON, XML and a form, and is never sent.
WITHHELD = "_a-secret-of-ours_"

#: The same in a recording, whose every value may be sent again when it is played.
HIDDEN = "hidden-secret"

#: Shorter ones would mask half of every text, and are no secrets.
_SHORTEST = 3
#: So many characters of Base64 belong to a secret and to nothing else.
_SURE = 6
#: What a system keeps may hold a shorter one by chance.
_NO_WORD = 8
#: How many tokens of sessions are known at once.
_MOST = 200
_BASE64 = string.ascii_letters + string.digits + "+/_-"
#: Lines of a secret of several lines, such as a key, that are known by themselves.
_LINE = 8

#: Headers that hold a credential whatever stands in them.
_CREDENTIAL = r"(?:proxy-)?authorization|(?:set-)?cookie|[\w-]*(?:token|secret|passw(?:or)?d|api-?key|session)[\w-]*"
_HEADER_NAME = re.compile(_CREDENTIAL, re.IGNORECASE)
#: A header of credentials that an answer quotes, with the word for its manner (RFC 9110, section 11.4) left.
_QUOTED = re.compile(r"""(?i)((?:proxy-)?authorization["']?\s*[:=]\s*["']?(?:[\w-]+\s+)?)[^\s"'<>,;]+""")
#: Name and password in an address (RFC 3986, section 3.2.1).
_USERINFO = re.compile(r"""([A-Za-z][A-Za-z0-9+.-]{0,20}://)[^\s/?#'"<>]{0,500}@""")


class Unseen:
    """Knows secrets, and the names of parameters that hold some, and masks them in texts."""

    def __init__(self) -> None:
        self.forget()

    def forget(self) -> None:
        """Know nothing any more: for a process that begins something else."""
        self._known: dict[str, None] = {}
        self._passing: dict[str, None] = {}
        self._parameters: re.Pattern[str] | None = None
        self._names: set[str] = set()
        self._telling: list[str] | None = None
        self._escaped: bool | None = None

    def know(self, secrets: Iterable[str], *, passing: bool = False) -> None:
        """Mask these from now on, in every form; of one of several lines also each line.

        Of what is only ``passing``, such as the tokens of sessions, the latest are known.
        """
        known = self._passing if passing else self._known
        self._telling = self._escaped = None
        for secret in secrets:
            lines = [line for line in secret.splitlines() if len(line) >= _LINE] if "\n" in secret.strip() else []
            for line in (secret, secret.strip(), *lines):
                if len(line) >= _SHORTEST:
                    known.pop(line, None)
                    known[line] = None  # the newest last
        while len(self._passing) > _MOST:  # some systems give a token with each answer
            del self._passing[next(iter(self._passing))]

    def know_parameters(self, names: Iterable[str]) -> None:
        """Mask what these parameters of an address hold, whatever it is."""
        self._names |= set(names)
        if self._names:
            listed = "|".join(sorted(map(re.escape, self._names | {quote(name, safe="") for name in self._names})))
            self._parameters = re.compile(rf"""([?&;](?:{listed})=)[^&;#\s'"<>]+""")

    def telling(self) -> list[str]:
        """Texts of which one stands in every larger text that holds a secret, of those that are no common words."""
        if self._telling is not None:
            return self._telling
        forms: dict[str, None] = {}
        for secret in (*self._known, *self._passing):
            if len(secret) >= _NO_WORD:
                plain = (secret, json.dumps(secret)[1:-1], json.dumps(secret, ensure_ascii=False)[1:-1])
                address = (quote(secret, safe=""), quote(secret), quote_plus(secret))
                forms |= dict.fromkeys([*plain, *address, *_in_base64(secret.encode())])
        self._telling = list(forms)
        return self._telling

    def is_escaped(self) -> bool:
        """Whether some of these texts may be hidden in a document: within a text of it, what is escaped is so twice."""
        if self._escaped is None:
            self._escaped = any(json.dumps(piece)[1:-1] != piece for piece in self.telling())
        return self._escaped

    def text(self, text: str) -> str:
        """``text`` without any secret in it, and without what stands where credentials stand."""
        text = self._without_known(text, (*self._known, *self._passing), MASK)
        if self._parameters:
            text = self._parameters.sub(rf"\1{MASK}", text)
        return _QUOTED.sub(rf"\1{MASK}", _USERINFO.sub(rf"\1{MASK}@", text))

    def hidden(self, text: str, *, words: bool = True) -> str:
        """``text`` for a recording, with ``HIDDEN`` for our secrets; without ``words`` only for those that are none."""
        known = [one for one in (*self._known, *self._passing) if words or len(one) >= _NO_WORD]
        return self._without_known(text, [one for one in known if one != HIDDEN], HIDDEN)

    def data(self, value: Any) -> Any:
        """What a system said or a person wrote, in texts, lists and mappings, with ``WITHHELD`` for our secrets.

        Such as common words might be are left: it is data, and a name is not masked because a password is like it.
        """
        if not (self._known or self._passing):
            return value
        if isinstance(value, str):
            long = [known for known in (*self._known, *self._passing) if len(known) >= _NO_WORD]
            return self._without_known(value, long, WITHHELD) if any(t in value for t in self.telling()) else value
        if isinstance(value, Mapping):
            return {self.data(name): self.data(member) for name, member in value.items()}
        return [self.data(member) for member in value] if isinstance(value, list | tuple) else value

    @staticmethod
    def _without_known(text: str, secrets: Iterable[str], mask: str) -> str:
        escapes = _ESCAPES.search(text)  # where there are none, a secret stands as it is or not at all
        for secret in sorted(secrets, key=len, reverse=True):  # one that holds another one goes first
            if escapes:
                text = _forms(secret).sub(mask, text)
            else:
                text = text.replace(_whole_base64(secret), mask).replace(secret, mask)
            text = _without_base64(text, secret, mask)
        return text


#: What this process must not tell.
UNSEEN = Unseen()


def masked(text: str) -> str:
    """``text`` without any secret in it."""
    return UNSEEN.text(text)


def fit_to_keep(text: str | None) -> str | None:
    """A text as it may be stored; none stays none."""
    return masked(text) if text else None


def in_data(value: Any) -> Any:
    """Data as it may be kept and shown: without our secrets."""
    return UNSEEN.data(value)


def may_tell(text: str) -> bool:
    """Whether a text, such as a document in JSON, may hold a secret of ours: where not, none of its values does."""
    return UNSEEN.is_escaped() or any(piece in text for piece in UNSEEN.telling())


#: So many bytes of a frame are searched for one text after the other.
_SMALL = 200_000


def in_frame(frame: pl.DataFrame) -> pl.DataFrame:
    """The same for a frame: some systems repeat in their records what they were sent."""
    import polars as pl

    telling = UNSEEN.telling()
    texts = [name for name, kind in frame.schema.items() if kind == pl.String]
    lists = [name for name, kind in frame.schema.items() if kind == pl.List(pl.String)]
    if not telling or not (texts or lists):
        return frame
    # together: to prepare the search costs more than to search
    flat = [frame[name].alias("") for name in texts] + [frame[name].explode().alias("") for name in lists]
    values = pl.concat(flat)
    if frame.estimated_size() < _SMALL:  # to prepare that search takes longer than another search does
        whole = "\n".join(values.drop_nulls().to_list())
        if not any(piece in whole for piece in telling):
            return frame
    elif not values.str.contains_any(telling).any():
        return frame
    holds = {name: pl.col(name).str.contains_any(telling) for name in texts}
    holds |= {name: pl.col(name).list.join("\n", ignore_nulls=True).str.contains_any(telling) for name in lists}
    hidden = {name: pl.col(name).map_elements(UNSEEN.data, return_dtype=pl.String) for name in texts}
    of_each = pl.element().map_elements(UNSEEN.data, return_dtype=pl.String)
    hidden |= {name: pl.col(name).list.eval(of_each) for name in lists}
    return frame.with_columns(
        pl.when(holds[name]).then(hidden[name]).otherwise(pl.col(name)).alias(name) for name in hidden
    )


def headers(given: Mapping[str, str]) -> list[str]:
    """Headers as they may be shown, a line each."""
    return [f"{name}: {MASK if _HEADER_NAME.fullmatch(name) else masked(value)}" for name, value in given.items()]


def is_credential(name: str) -> bool:
    """Whether a header of that name holds a credential, whatever stands in it."""
    return _HEADER_NAME.fullmatch(name) is not None


@lru_cache(1_000)
def _forms(secret: str) -> re.Pattern[str]:
    """A pattern of a secret in every form, also of one in which some characters are escaped and others are not."""
    whole = re.escape(_whole_base64(secret))  # of a short one nothing else is sure
    return re.compile(f"{whole}|{''.join(map(_any_form, secret))}", re.DOTALL)


def _whole_base64(secret: str) -> str:
    return base64.b64encode(secret.encode()).decode()


def _without_base64(text: str, secret: str, mask: str) -> str:
    """``text`` without the Base64 words (RFC 4648) in which a secret stands, whatever stands beside it there."""
    for piece in _in_base64(secret.encode()):
        while len(piece) >= _SURE and (at := text.find(piece)) >= 0:
            begin, end = at, at + len(piece)
            while begin and text[begin - 1] in _BASE64:
                begin -= 1
            while end < len(text) and text[end] in _BASE64 + "=":
                end += 1
            text = f"{text[:begin]}{mask}{text[end:]}"
    return text


def _any_form(sign: str) -> str:
    """One character as it is, or escaped for an address, JSON, XML, HTML or a program text."""
    octets = sign.encode("utf-8", "surrogatepass")
    percent = "".join(f"%{octet:02X}" for octet in octets)
    units = sign.encode("utf-16-be", "surrogatepass")
    escaped = "".join(rf"\\u{units[at]:02x}{units[at + 1]:02x}" for at in range(0, len(units), 2))
    program = "".join(rf"\\x{octet:02x}" for octet in octets)
    forms = [f"(?i:{percent})", f"(?i:{escaped})", f"(?i:{program})", f"&#0*{ord(sign)};", f"(?i:&#x0*{ord(sign):x};)"]
    forms += _NAMED.get(sign, ())
    forms.append((r"\\?" if sign in _ESCAPED else "") + re.escape(sign))
    return f"(?:{'|'.join(forms)})"


#: What every escape has in it.
_ESCAPES = re.compile(r"[%\\&+]")

#: Characters that escape by a stroke before them, and those that have names of their own.
_ESCAPED = "\"'\\/"
_NAMED = {
    "&": ["&amp;"], "<": ["&lt;"], ">": ["&gt;"], '"': ["&quot;"], "'": ["&apos;"], " ": [r"\+"],
    "\n": [r"\\n"], "\t": [r"\\t"], "\r": [r"\\r"], "\b": [r"\\b"], "\f": [r"\\f"],
}  # fmt: skip


def _in_base64(octets: bytes) -> Iterable[str]:
    """What of a Base64 text (RFC 4648) belongs to ``octets`` alone, wherever in it they begin."""
    for before in range(3):
        first, last = (before * 8 + 5) // 6, (before + len(octets)) * 8 // 6
        for encode in (base64.b64encode, base64.urlsafe_b64encode):
            yield encode(bytes(before) + octets).decode()[first:last]


class Secret:
    """A text that never prints: ``reveal`` is the one way to it."""

    __slots__ = ("_text",)

    def __init__(self, text: str) -> None:
        UNSEEN.know([text])
        self._text = text

    def reveal(self) -> str:
        """The text itself, to be put into a request and nowhere else."""
        return self._text

    def __str__(self) -> str:
        return "***"

    def __repr__(self) -> str:
        return "Secret('***')"

    def __bool__(self) -> bool:
        return bool(self._text)
