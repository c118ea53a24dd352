"""The ways by which a message goes: mail, a webhook, a file, a command.  Each takes it, or says why not."""

from __future__ import annotations

import hashlib
import hmac
import os
import shlex
import smtplib
import ssl
import subprocess
import time
from collections.abc import Callable
from datetime import UTC, datetime
from email.message import EmailMessage
from email.utils import format_datetime
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from concordex.errors import SecretError, WireError
from concordex.parallel import completed
from concordex.trust import check
from concordex.version import __version__
from concordex.work.tell.message import ToldMessage
from concordex.work.workspace.secrets import wanted_by
from concordex.work.workspace.tell_settings import ByCommand, ByMail, ByWebhook, IntoFile

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: Seconds for each step with a server, and for a message as a whole: one that never answers keeps nobody for long.
_STEP, _WHOLE = 15.0, 60.0


class NotTold(WireError):
    """A message was not taken; it is kept, and tried again."""


def send(workspace: BaseWorkspace, name: str, message: ToldMessage) -> None:
    """Have a message taken by whoever brings it; raises NotTold, or SecretError, where it is not."""
    place = workspace.config.tell[name]
    try:
        _WAYS[type(place)](workspace, name, place, message)
    except (OSError, smtplib.SMTPException, subprocess.SubprocessError, ValueError) as error:
        raise NotTold(f"{name} took no message", why=_why(error)) from error


def _why(error: Exception) -> str:
    if isinstance(error, smtplib.SMTPResponseException):
        said = error.smtp_error.decode("utf-8", "replace") if isinstance(error.smtp_error, bytes) else error.smtp_error
        return f"{error.smtp_code} {said}"
    return str(error) or type(error).__name__


def _by_mail(workspace: BaseWorkspace, name: str, place: ByMail, message: ToldMessage) -> None:
    """RFC 5321; TLS from the start (RFC 8314), or by STARTTLS (RFC 3207) without which nothing is sent."""
    letter = EmailMessage()
    letter["Subject"], letter["From"], letter["To"] = message.subject, place.sender, ", ".join(place.to)
    letter["Date"] = format_datetime(datetime.now(UTC))
    letter["Message-ID"] = f"<{message.id}@{place.sender.rpartition('@')[2]}>"  # the same when it is sent again
    letter["Auto-Submitted"] = "auto-generated"  # RFC 3834: nothing answers it by itself
    letter.set_content(message.written or message.text)
    parts = urlsplit(place.server)
    host, context = parts.hostname or "", ssl.create_default_context(cafile=_file(workspace, place.ca))
    begun, name_here = time.monotonic(), "concordex"
    server: smtplib.SMTP
    if parts.scheme == "smtps":
        server = smtplib.SMTP_SSL(host, parts.port or 465, name_here, timeout=_STEP, context=context)
    else:
        server = smtplib.SMTP(host, parts.port or 587, name_here, timeout=_STEP)
    with server:
        if parts.scheme == "smtp":
            server.ehlo()
            if server.has_extn("starttls"):
                server.starttls(context=context)
            elif not place.is_here:
                raise NotTold(
                    f"{name} took no message", why=f"{host} offers no STARTTLS, and nothing is sent in the clear"
                )
        if place.user and place.password:
            server.login(place.user, workspace.secrets.of_place(place.password, name, place.server).reveal())
        if time.monotonic() - begun > _WHOLE:
            raise TimeoutError(f"{host} takes longer than {_WHOLE:g} s")
        refused = server.send_message(letter)
    if refused:
        raise NotTold(
            f"{name} took the message, but not for {', '.join(refused)}", why=str(next(iter(refused.values())))
        )


def _by_webhook(workspace: BaseWorkspace, name: str, place: ByWebhook, message: ToldMessage) -> None:
    body = message.written.encode() if message.written is not None else message.json
    kind = place.media_type if message.written is not None else "application/json"
    headers = {
        "Content-Type": kind, "User-Agent": f"concordex/{__version__}", "Concordex-Message": message.id,
        **place.headers,
    }  # fmt: skip
    if place.key:
        key = workspace.secrets.of_place(place.key, name, place.url).reveal()
        _sign(place, key, headers, body)
    completed(_posted(workspace, name, place, headers, body))


def _sign(place: ByWebhook, key: str, headers: dict[str, str], body: bytes) -> None:
    """An HMAC (RFC 2104) of the moment and the body, or HTTP message signatures (RFC 9421)."""
    if place.signed == "hmac":
        moment = str(int(time.time()))
        made = hmac.new(key.encode(), f"{moment}.".encode() + body, hashlib.sha256).hexdigest()
        headers |= {"Concordex-Moment": moment, "Concordex-Hmac": f"sha256={made}"}
        return
    try:
        from concordex.wire.dialect.signin import SignatureSignIn
        from concordex.wire.http.signature import Signer
    except ImportError as error:
        raise SecretError(
            "signatures by RFC 9421 need a package that is not installed", advice="pip install 'concordex[signatures]'"
        ) from error
    how = SignatureSignIn.model_validate({"by": "signature", "algorithm": place.signed, "lasts": 300})
    Signer(how, key, place.key_id).sign("POST", place.url, headers, body)


async def _posted(workspace: BaseWorkspace, name: str, place: ByWebhook, headers: dict[str, str], body: bytes) -> None:
    from concordex.wire.http.authorities import aiohttp

    trusted = ssl.create_default_context(cafile=_file(workspace, place.ca)) if place.url.startswith("https") else False
    timeout = aiohttp.ClientTimeout(total=_WHOLE, sock_connect=_STEP, sock_read=_STEP)
    try:
        async with (
            aiohttp.ClientSession(timeout=timeout) as client,
            client.post(place.url, data=body, headers=headers, ssl=trusted, allow_redirects=False) as answer,
        ):
            if not 200 <= answer.status < 300:
                said = (await answer.content.read(200)).decode("utf-8", "replace")
                raise NotTold(f"{name} took no message", why=f"HTTP {answer.status} {said}".strip())
    except (aiohttp.ClientError, TimeoutError) as error:
        raise NotTold(f"{name} took no message", why=str(error) or "it did not answer") from error


def _into_file(workspace: BaseWorkspace, _name: str, place: IntoFile, message: ToldMessage) -> None:
    text = (message.written.rstrip("\n") if message.written is not None else message.json.decode()) + "\n"
    descriptor = os.open(workspace.root / place.file, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
    with os.fdopen(descriptor, "ab") as file:  # one write: lines of several processes do not mix
        file.write(text.encode())
        file.flush()
        os.fsync(file.fileno())


def _by_command(workspace: BaseWorkspace, name: str, place: ByCommand, message: ToldMessage) -> None:
    if (wanted := wanted_by(name, place)) is not None:
        check(workspace.root, wanted)
    body = message.written.encode() if message.written is not None else message.json
    done = subprocess.run(
        shlex.split(place.run), cwd=workspace.root, input=body, capture_output=True, timeout=_WHOLE, check=False
    )
    if done.returncode:
        said = done.stderr.decode("utf-8", "replace").strip()[-200:]
        raise NotTold(f"{name} took no message", why=f"exit status {done.returncode} {said}".strip())


def _file(workspace: BaseWorkspace, name: str | None) -> str | None:
    return str(workspace.root / name) if name else None


_WAYS: dict[type[Any], Callable[..., None]] = {
    ByMail: _by_mail, ByWebhook: _by_webhook, IntoFile: _into_file, ByCommand: _by_command,
}  # fmt: skip
