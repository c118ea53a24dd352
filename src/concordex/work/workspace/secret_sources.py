"""Secrets: named in the workspace, fetched when they are needed, and unseen from then on."""

from __future__ import annotations

import os
import shlex
import subprocess
from collections.abc import Callable
from pathlib import Path

from concordex.errors import SecretError
from concordex.unseen import Secret

SCHEMES = ("env", "file", "keyring", "command", "ask")

#: What a person does who typed a secret itself.
SAY_WHERE = "say where it is kept (env:NAME, file:PATH, …), not what it is"


def is_reference(text: str) -> bool:
    """Whether ``text`` says where a secret is kept, such as ``env:NAME``."""
    return text.partition(":")[0] in SCHEMES


def fetch(reference: str, base: Path) -> Secret:
    """The secret that ``reference`` names for the workspace in ``base``, from which relative files are meant."""
    scheme, _, rest = reference.partition(":")
    text = _FETCH[scheme](rest, base)
    if not text:
        raise SecretError(f"the secret {reference} is empty")
    return Secret(text)


def _env(name: str, _base: Path) -> str:
    if name not in os.environ:
        raise SecretError(f"the environment variable {name} is not set", advice=f"set it: export {name}=…")
    return os.environ[name]


def _file(name: str, base: Path) -> str:
    path = base / Path(name).expanduser()
    try:
        return path.read_text(encoding="utf-8").rstrip("\r\n")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "not UTF-8 text"
        raise SecretError(f"the secret file {path} cannot be read", why=reason) from error


def _command(line: str, base: Path) -> str:
    try:
        done = subprocess.run(
            shlex.split(line),
            cwd=base,
            capture_output=True,
            text=True,
            timeout=60,
            check=True,
            stdin=subprocess.DEVNULL,
        )
    except (OSError, ValueError, subprocess.SubprocessError) as error:
        status = f"exit status {error.returncode}" if isinstance(error, subprocess.CalledProcessError) else str(error)
        raise SecretError(f"the command for a secret failed: {line}", why=status) from error
    return done.stdout.rstrip("\r\n")


def _keyring(name: str, _base: Path) -> str:
    service, _, user = name.partition("/")
    try:
        import keyring
    except ImportError as error:
        raise SecretError("keyring: needs a further package", advice="pip install 'concordex[keyring]'") from error
    try:
        secret = keyring.get_password(service, user)
    except keyring.errors.KeyringError as error:
        raise SecretError(f"the keyring refused keyring:{name}", why=str(error)) from error
    if secret is None:
        raise SecretError(f"the keyring holds nothing for keyring:{name}")
    return str(secret)


def _ask(name: str, _base: Path) -> str:
    """Asked for at the terminal; a run without one never waits for an answer."""
    import sys
    from getpass import getpass

    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        raise SecretError(
            f"ask:{name} is asked for at a terminal, and this run has none",
            advice="name the secret with env:, file:, keyring: or command: for unattended runs",
        )
    try:
        return getpass(f"{name}: ", sys.stderr)
    except EOFError as error:
        raise SecretError(f"nothing was said for ask:{name}") from error


_FETCH: dict[str, Callable[[str, Path], str]] = {
    "env": _env, "file": _file, "command": _command, "keyring": _keyring, "ask": _ask,
}  # fmt: skip
