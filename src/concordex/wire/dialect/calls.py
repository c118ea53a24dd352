"""One request, and in what shape its answer comes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import BeforeValidator, Field, field_validator, model_validator

from concordex.documents import Part, fault_at
from concordex.wire.dialect.templates import TemplateText, compiled, names_in

if TYPE_CHECKING:
    import regex

#: Any value, in which names are filled.
Filled = Annotated[Any, BeforeValidator(compiled)]
Method = Annotated[str, Field(pattern=r"^[A-Z][A-Z-]*$", max_length=20)]


def words(given: Any) -> Any:
    """One word where a list of words is meant."""
    return [given] if isinstance(given, str | int) else given


class JsonShape(Part):
    """JSON (RFC 8259)."""

    by: Literal["json"] = "json"


class XmlShape(Part):
    """XML: an element is a mapping, `@name` an attribute, `#text` its text beside attributes."""

    by: Literal["xml"]
    namespaces: dict[str, str] = Field(
        default_factory=dict, description="Prefix: URI; elements of other namespaces are known by their bare name."
    )


class CsvShape(Part):
    """Comma-separated values with a line of names (RFC 4180)."""

    by: Literal["csv"]
    separator: str = Field(",", min_length=1, max_length=1)


def _compiled(pattern: str) -> regex.Pattern[str]:
    import regex

    try:
        return regex.compile(pattern, regex.MULTILINE)
    except regex.error as error:
        raise ValueError(f"is not a regular expression: {error}") from error


class TextShape(Part):
    """Plain text; each match of a regular expression with named groups is a record."""

    by: Literal["text"]
    pattern: str = Field(description="Python's regular expressions, with ^ and $ at every line.")
    skip: str | None = Field(None, description="Lines that this finds are meant to be passed over, such as comments.")

    @field_validator("skip")
    @classmethod
    def _is_pattern(cls, given: str | None) -> str | None:
        if given is not None:
            _compiled(given)
        return given

    @field_validator("pattern")
    @classmethod
    def _compiles(cls, given: str) -> str:
        compiled = _compiled(given)
        if not compiled.groupindex:
            raise ValueError("names no group: write (?P<name>…) for each member of a record")
        return given


class LinesShape(Part):
    """One JSON document a line."""

    by: Literal["ndjson"]


class MetricsShape(Part):
    """OpenMetrics text: each sample is a record (`id`, `metric`, `value`, `unit`, `type`, `at`, `labels`)."""

    by: Literal["openmetrics"]


class SheetShape(Part):
    """A sheet of an XLSX workbook, with a row of names; for files only."""

    by: Literal["xlsx"]
    sheet: str | None = Field(None, description="The first one, where none is named.")


class ParquetShape(Part):
    """A Parquet file; for files only."""

    by: Literal["parquet"]


Shape = Annotated[
    JsonShape | XmlShape | CsvShape | TextShape | LinesShape | MetricsShape | SheetShape | ParquetShape,
    Field(discriminator="by"),
]


def short_shape(given: Any) -> Any:
    """`shape: csv` where `shape: {by: csv}` is meant."""
    return {"by": given} if isinstance(given, str) else given


class Call(Part):
    """One request; `{name}` stands for a credential, a lookup, or a member of the record at hand."""

    method: Method = "GET"
    path: TemplateText = Field("", validate_default=True)
    query: dict[str, TemplateText] = Field(default_factory=dict, description="Parameters of the address.")
    headers: dict[str, TemplateText] = Field(default_factory=dict)
    json_body: dict[str, Filled] | None = Field(default=None, alias="json", description="Sent as JSON.")
    form: dict[str, TemplateText] | None = Field(None, description="Sent as application/x-www-form-urlencoded.")
    xml: dict[str, Filled] | None = Field(None, description="Sent as XML: {root: {element: …}}.")
    rpc: str | None = Field(None, description="The method of a JSON-RPC 2.0 call; `path` is then the dialect's.")
    params: dict[str, Filled] = Field(default_factory=dict, description="Parameters of a JSON-RPC call.")
    shape: Shape | None = Field(None, description="Of the answer, where it is not the dialect's.")

    _shaped = field_validator("shape", mode="before")(short_shape)

    @property
    def names(self) -> set[str]:
        """The names that stand in it, wherever."""
        return names_in([self.path, self.query, self.headers, self.json_body, self.form, self.xml, self.params])

    @model_validator(mode="after")
    def _one_body(self) -> Call:
        bodies = [
            name
            for name, body in (("json", self.json_body), ("form", self.form), ("xml", self.xml), ("rpc", self.rpc))
            if body is not None
        ]
        if len(bodies) > 1:
            raise fault_at((bodies[1],), f"a call has one body, and this one has {bodies[0]} already")
        if self.params and not self.rpc:
            raise fault_at(("params",), "belongs to `rpc`; parameters of the address go into `query`")
        return self


class Post(Call):
    """A call that is a POST where it does not say otherwise."""

    method: Method = "POST"
