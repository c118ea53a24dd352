"""The ``concordex`` command: its parts, and how errors become messages and exit statuses."""

from __future__ import annotations

import atexit
import errno
import os
import signal
import sys
import threading
import time
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal, NoReturn

import typer

from concordex.cli.context import current, entered
from concordex.cli.parts import SUMMARIES, Parts
from concordex.cli.statuses import Status
from concordex.errors import ConcordexError, StoreError
from concordex.spans import span

if TYPE_CHECKING:
    from logging import LogRecord

app = typer.Typer(
    name="concordex",
    cls=Parts,
    help="Pull device inventories from any management system, reconcile them into one truth, and write it back once.",
    no_args_is_help=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
    epilog="Begin with: concordex demo.  More: concordex COMMAND --help",
)


def _tell_version(asked: bool) -> None:
    if asked:
        from concordex.version import __version__

        typer.echo(f"concordex {__version__}")
        raise typer.Exit


@app.callback()
def common(
    workspace: Annotated[
        Path | None,
        typer.Option(
            "--workspace",
            "-w",
            help="The workspace; else CONCORDEX_WORKSPACE, else the nearest from here upwards.",
        ),
    ] = None,
    debug: Annotated[bool, typer.Option("--debug", help="Show requests, and traces of errors.")] = False,
    log: Annotated[
        Literal["text", "json"], typer.Option("--log", help="How standard error is written: json is a document a line.")
    ] = "text",
    version: Annotated[
        bool, typer.Option("--version", help="Show the version and end.", is_eager=True, callback=_tell_version)
    ] = False,
) -> None:
    """Take what stands before the command."""
    if workspace is not None:
        current().workspace = workspace
    current().log = log
    if debug:
        current().debug = True
        import logging

        logging.basicConfig(stream=sys.stderr, format="%(message)s")
        if log == "json":
            from concordex.cli.draw import told_as_document

            logging.getLogger().handlers[0].format = lambda record: told_as_document(  # type: ignore[method-assign]
                record.getMessage(), record.levelname.lower()
            )
        for handler in logging.getLogger().handlers:
            handler.addFilter(_unseen)
        logging.getLogger("concordex").setLevel(logging.DEBUG)


def _unseen(record: LogRecord) -> bool:
    """Let a line of the log through, without a secret in it."""
    from concordex.unseen import masked

    record.msg, record.args = masked(record.getMessage()), ()
    return True


#: What the option parser makes of Ctrl-C.
_INTERRUPTED = 130


def run() -> None:
    """Run the command line, and end the process with its status; asked to end, it ends as by Ctrl-C."""
    if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:  # as in the background of a script: it is held, to be let go
        signal.pthread_sigmask(signal.SIG_BLOCK, (signal.SIGINT,))
        signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.signal(signal.SIGTERM, _end)
    _end_with_parent()
    if sys.stdout is None or sys.stderr is None:  # before anything is done of which nobody would hear
        with suppress(OSError):
            os.write(2, b"concordex: standard output or error is closed\n  -> to hear nothing: >/dev/null 2>&1\n")
        os._exit(Status.FAILED)
    status = status_of(sys.argv[1:])
    signal.signal(signal.SIGTERM, signal.SIG_IGN)  # the interpreter, as it ends, would let it end by the signal
    _leave(status)


def _leave(status: int) -> NoReturn:
    """End the process; where nothing is left to be waited for, the interpreter is not taken apart.

    To free what the kernel frees anyway takes a sixth of the time of most commands.
    """
    if all(thread.daemon for thread in threading.enumerate() if thread is not threading.main_thread()):
        atexit._run_exitfuncs()  # what the interpreter calls at this point
        with suppress(OSError, ValueError):
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(status)
    sys.exit(status)


def _end_with_parent() -> None:
    """A line of a job ends when the process that runs the job is gone: nobody would hear of it, or stop it."""
    parent = os.environ.pop("CONCORDEX_PARENT", "")
    if not parent.isdecimal():
        return

    def watch() -> None:
        while os.getppid() == int(parent):
            time.sleep(_LOOK)
        os.kill(os.getpid(), signal.SIGTERM)

    threading.Thread(target=watch, daemon=True).start()


def _end(*_: object) -> None:
    """End as by Ctrl-C, which an event loop takes in its own time.

    An exception raised here might come where Python drops it, as while an object is taken away.  A loop that is
    interrupted twice breaks off wherever it is, and may then wait for ever for a task of which it has lost hold: so it
    is told once, and again only where it has not ended after a while; nor is what comes after it, as its tasks are
    cleared away.
    """
    if signal.SIGINT in signal.sigpending():  # it was held back: it and this one are one
        signal.sigwait((signal.SIGINT,))
    signal.pthread_sigmask(signal.SIG_UNBLOCK, (signal.SIGINT,))
    handler, now, none = signal.getsignal(signal.SIGINT), time.monotonic(), signal.default_int_handler
    ending = [loop for loop, when in _told_to_end if now < when + _PATIENCE and loop is not none]
    if not any(handler in (loop, none) for loop in ending):
        _told_to_end.append((handler, now))
        signal.raise_signal(signal.SIGINT)


#: Loops, by their handlers of Ctrl-C, and when each was told to end; and the seconds after which it is told once more.
_told_to_end: list[tuple[object, float]] = []
_PATIENCE = 10.0
#: Seconds between two looks at who runs this one.
_LOOK = 0.5


def status_of(arguments: list[str]) -> int:
    """Run one command; what went wrong goes to standard error, and its status comes back."""
    with entered():
        return _status_of(arguments)


@cache
def _command() -> Any:
    """The command line, made once in a process, which may run several commands, as the demo does."""
    return typer.main.get_command(app)


def _status_of(arguments: list[str]) -> int:
    try:
        named = next((word for word in arguments if word in SUMMARIES), "")
        with span(f"concordex {named}".rstrip()):
            status = _command()(arguments, standalone_mode=False)
        sys.stdout.flush()
    except ConcordexError as error:
        return _told(error)
    except KeyboardInterrupt:
        status = _INTERRUPTED
    except BrokenPipeError:  # the reader has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return Status.DONE
    except typer.Abort as aborted:
        cause = aborted.__cause__  # of a file that ends too soon, not of a person at a question
        return _called_wrongly_or_unforeseen(cause) if isinstance(cause, EOFError) else Status.STOPPED
    except (SystemExit, GeneratorExit):
        raise
    except BaseException as error:  # a part that is not written in Python ends by errors that are no `Exception`
        if not _is_ctrl_c(error):
            return _called_wrongly_or_unforeseen(_alone(error))
        status = _INTERRUPTED
    if status == _INTERRUPTED:
        sys.stderr.write("\nstopped\n")
        return Status.STOPPED
    return status if isinstance(status, int) else Status.DONE


def _is_ctrl_c(error: BaseException) -> bool:
    """Whether Ctrl-C is what came: Python wraps it where a class is made, as do libraries that are not Python's."""
    cause: BaseException | None = error
    while cause is not None and not isinstance(cause, KeyboardInterrupt):
        cause = cause.__cause__
    return cause is not None or (not isinstance(error, Exception) and "KeyboardInterrupt" in str(error))


def _alone(error: BaseException) -> BaseException:
    """Of several errors at once, the first."""
    while isinstance(error, ExceptionGroup):
        error = error.exceptions[0]
    return error


def _told(error: Exception) -> int:
    from concordex.cli import draw

    assert isinstance(error, ConcordexError)
    if current().debug:
        _trace(error)
    draw.note(f"concordex: {error}", "red")
    for line in error.advice.splitlines():
        draw.note(f"  -> {line}")
    return error.status


#: What a stream says that takes no more; files are written whole elsewhere, and say so by their names.
_FULL = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG, errno.EIO, errno.EBADF)


def _nowhere(error: OSError) -> int:
    """What is to be shown has no place to go; nor is there one when the process ends."""
    sys.stdout = Path(os.devnull).open("w", encoding="utf-8")  # noqa: SIM115 - until the process ends
    what = error.filename or "standard output"
    return _told(StoreError(f"{what} cannot be used", why=error.strerror or str(error)))


def _trace(error: BaseException) -> None:
    """Where an error came from, without the secrets that its texts may hold."""
    import traceback

    from concordex.unseen import masked

    sys.stderr.write(masked("".join(traceback.format_exception(error))))


def _called_wrongly_or_unforeseen(error: BaseException) -> int:
    if hasattr(error, "format_message") and hasattr(error, "show"):  # a usage error of the option parser
        error.show()
        return Status.CALLED_WRONGLY
    if isinstance(error, OSError) and (error.filename or error.errno in _FULL):
        return _nowhere(error)
    if current().debug:
        _trace(error)
    from concordex.unseen import masked

    sys.stderr.write(
        f"concordex: an error of our own: {type(error).__name__}: {masked(str(error))}\n"
        "  -> run it again with --debug before the command, and report what it shows\n"
    )
    return Status.FAILED
