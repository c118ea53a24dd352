"""One request and its reply as they were, whatever the reply says; and what its status means."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from concordex.wire.http.answers import Reply


@dataclass(frozen=True, kw_only=True)
class Exchange:
    """A request as it left, and what came back; ``seconds`` is how long that took, without signing in."""

    method: str
    url: str
    headers: Mapping[str, str]
    body: bytes | None
    reply: Reply
    seconds: float


#: What statuses usually mean for whoever asks (RFC 9110, section 15, and RFC 6585).
_MEANINGS = {
    200: "done", 201: "made; Location or the body says what", 202: "taken, and not done yet: look whether it is",
    204: "done, and there is nothing to say", 206: "a part of it, as Range asked for",
    301: "it stands elsewhere: correct the url", 302: "elsewhere; often a sign-in page", 303: "look at Location for it",
    304: "not altered since", 307: "elsewhere, for now", 308: "it stands elsewhere: correct the url",
    400: "the request is not as this system wants it: a parameter, its name, or the form of a value",
    401: "who asks is not known: the credential, or how it is sent", 402: "not without a subscription",
    403: "known, and not allowed: the right, the licence, or the address from which it is asked",
    404: "no such path here, or no such record; some systems say so where one has no right",
    405: "not by this method: Allow says by which", 406: "not in the form that Accept asks for",
    408: "the request did not come to its end in time", 409: "it is there already, or has changed meanwhile",
    410: "it was there, and is gone for good", 411: "the length of the body is wanted",
    412: "it is not as If-Match said: somebody altered it", 413: "the body is too large: send less at once",
    414: "the address is too long: send it in a body, or ask for less",
    415: "the body is in a form that it does not read: Content-Type",
    422: "read, and refused: a value in it, or a rule that it breaks", 423: "locked by somebody",
    425: "too early: send it again", 428: "it wants If-Match: read the record first",
    429: "too many requests: Retry-After says when", 431: "the headers are too large", 451: "not for reasons of law",
    500: "it failed inside: whether it was done is not known", 501: "it cannot do that",
    502: "what stands before it got no good answer from it", 503: "not now: too busy, or in maintenance",
    504: "what stands before it got no answer in time: whether it was done is not known",
}  # fmt: skip
_CLASSES = {
    1: "not an end yet",
    2: "done",
    3: "elsewhere",
    4: "refused: the request is at fault",
    5: "failed on its side",
}


def meaning(status: int) -> str:
    """What a status usually means; of one that nobody registered, what its class does (RFC 9110, section 15)."""
    return _MEANINGS.get(status) or _CLASSES.get(status // 100, "no status of HTTP")
