"""The ways of signing in."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from concordex.documents import Part
from concordex.wire.dialect.calls import Call, Filled, Post
from concordex.wire.dialect.paths import SourceText
from concordex.wire.dialect.templates import TemplateText


class Credential(Part):
    """One thing that signing in needs, or that paths need (a tenant, a site's label)."""

    secret: bool = Field(False, description="Named in the workspace (env:, file:, …), never written there.")
    about: str = Field("", description="What it is and where a person finds it.")


class NoSignIn(Part):
    """The system asks for nothing, or for a client certificate, which the workspace's `tls:` names."""

    by: Literal["none"] = "none"


class BasicSignIn(Part):
    """A name and a password with every request (RFC 7617)."""

    by: Literal["basic"]
    user: TemplateText = Field("{user}", validate_default=True)
    password: TemplateText = Field("{password}", validate_default=True)


class HeaderSignIn(Part):
    """A key that stands in a header of every request."""

    by: Literal["header"]
    header: str
    value: TemplateText = Field(description="What the header says, such as `Key {token}`.")


class QuerySignIn(Part):
    """A key that stands in the address of every request."""

    by: Literal["query"]
    parameter: str
    value: TemplateText = Field(description="What the parameter says, such as `{key}`.")


class Carried(Part):
    """What the requests after a sign-in call carry; `{name}` stands for what `gives` names."""

    headers: dict[str, TemplateText] = Field(default_factory=dict)
    query: dict[str, TemplateText] = Field(default_factory=dict)
    body: dict[str, Filled] = Field(default_factory=dict, description="Members of every JSON or JSON-RPC body.")
    params: dict[str, Filled] = Field(default_factory=dict, description="Parameters of every JSON-RPC call.")
    cookies: bool = Field(False, description="The cookies that the system sets (RFC 6265).")


class CallSignIn(Part):
    """A call that opens a session: what it gives goes with the requests after it."""

    by: Literal["call"]
    call: Post
    gives: dict[str, SourceText] = Field(
        default_factory=dict,
        description="Name: where it stands in the answer: a path into the body, `header:NAME` or `cookie:NAME`.",
    )
    lasts: SourceText | None = Field(None, description="Where its life in seconds stands, if it is told.")
    carries: Carried
    sign_out: Call | None = Field(None, description="Called when the work is done.")


class ClientCredentials(Part):
    """OAuth 2.0 client credentials (RFC 6749, section 4.4); the token goes along as RFC 6750 says."""

    by: Literal["client_credentials"]
    path: TemplateText
    client: TemplateText = Field("{client}", validate_default=True)
    secret: TemplateText = Field("{secret}", validate_default=True)
    scope: str | None = None
    send: Literal["body", "basic"] = Field("body", description="Where client and secret stand (RFC 6749, 2.3.1).")
    more: dict[str, TemplateText] = Field(default_factory=dict, description="Further members of the form.")


class SignatureSignIn(Part):
    """Every request signed with a key (RFC 9421), and its body by its digest (RFC 9530)."""

    by: Literal["signature"]
    key: TemplateText = Field(
        "{key}", validate_default=True, description="A key in PEM, or the shared secret of hmac-sha256."
    )
    key_id: TemplateText = Field("{key_id}", validate_default=True)
    algorithm: Literal["ed25519", "ecdsa-p256-sha256", "rsa-pss-sha512", "rsa-v1_5-sha256", "hmac-sha256"] = "ed25519"
    covers: list[str] = Field(
        default_factory=lambda: ["@method", "@authority", "@path", "@query"],
        description="What is signed, beside the digest of a body.",
    )
    digest: Literal["sha-256", "sha-512"] = "sha-256"
    label: str = "sig1"
    tag: str | None = None
    lasts: int | None = Field(None, ge=1, description="Seconds after which the signature is void.")


SignIn = Annotated[
    NoSignIn | BasicSignIn | HeaderSignIn | QuerySignIn | CallSignIn | ClientCredentials | SignatureSignIn,
    Field(discriminator="by"),
]
