"""What may be shown of requests and answers: secrets are masked, in every form that they may take."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterable, Iterator, Mapping
from urllib.parse import quote, quote_plus

#: Headers that hold a credential whatever stands in them.
_HEADERS = frozenset(["authorization", "proxy-authorization", "cookie", "set-cookie"])


class Redactor:
    """Knows secrets, and masks them in texts."""

    def __init__(self, secrets: Iterable[str]) -> None:
        self._forms: dict[str, None] = {}
        self.know(secrets)

    def know(self, secrets: Iterable[str]) -> None:
        """Mask these as well from now on."""
        for secret in secrets:
            if len(secret) > 2 and secret not in self._forms:
                self._forms.update(dict.fromkeys(_forms_of(secret)))
                self._forms = dict.fromkeys(sorted(self._forms, key=len, reverse=True))

    def text(self, text: str) -> str:
        """``text`` without any secret in it."""
        for form in self._forms:
            text = text.replace(form, "***")
        return text

    def headers(self, headers: Mapping[str, str]) -> list[str]:
        """Headers as they are shown, a line each."""
        return [f"{name}: {'***' if name.lower() in _HEADERS else self.text(value)}" for name, value in headers.items()]


def _forms_of(secret: str) -> Iterator[str]:
    raw = secret.encode()
    yield secret
    yield quote(secret, safe="")
    yield quote_plus(secret)
    yield json.dumps(secret)[1:-1]
    yield base64.b64encode(raw).decode()
    yield base64.urlsafe_b64encode(raw).decode()
