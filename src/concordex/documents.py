"""YAML files of ours: read with line numbers, checked against a format, every fault named.

A format is a tree of :class:`Part` classes (pydantic).  The same classes give the JSON Schema
that editors use, so that what an editor accepts and what the program accepts cannot differ.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from datetime import date
from io import StringIO
from pathlib import Path
from typing import Annotated, Any, TypeVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator
from pydantic_core import PydanticCustomError

from concordex.errors import DocumentError
from concordex.landing import make_folder, write_text
from concordex.plain_yaml import plain_yaml
from concordex.unseen import in_data
from concordex.words import nearest

#: How long a document may be, of how many values, and how deeply nested: a person never writes more.
_LONGEST, _LARGEST, _DEEPEST = 32_000_000, 2_000_000, 100
_TOO_DEEP = f"is nested more than {_DEEPEST} deep"

#: How deep the readers go at the most, and what leads them there: brackets, and lists that begin within lists.
_BEARABLE = 1_000
_NESTING = re.compile(r"[\[\]{}]|(?:[-?:][ \t]+){400}")

Fault = tuple[int, str, str]
Location = tuple[int | str, ...]
P = TypeVar("P", bound="Part")
T = TypeVar("T")


#: A name that stands in files and commands.
Slug = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9_-]*$", max_length=60)]


class Part(BaseModel):
    """A part of a document: frozen, and strict about keys it does not know."""

    model_config = ConfigDict(frozen=True, extra="forbid", populate_by_name=True, defer_build=True)

    @model_validator(mode="before")
    @classmethod
    def _known_keys(cls, given: Any) -> Any:
        if not isinstance(given, Mapping):
            return given
        known = {field.alias or name for name, field in cls.model_fields.items()}
        strange = [str(key) for key in given if key not in known]
        if strange:
            hints = {key: nearest(key, known) for key in strange}
            raise PydanticCustomError("unknown_key", "unknown key", {"keys": hints, "known": sorted(known)})
        return given


def fault_at(place: tuple[str, ...], text: str) -> PydanticCustomError:
    """To be raised by a validator: ``text`` is what is wrong at ``place`` below the part it looks at."""
    return PydanticCustomError("at", "{text}", {"place": place, "text": text})


def read_yaml(path: Path) -> Any:
    """The YAML document in ``path``, with its line numbers kept."""
    return parse_yaml(read_text(path), str(path))


def read_text(path: Path) -> str:
    """The text in ``path``."""
    try:
        return path.read_text(encoding="utf-8")
    except FileNotFoundError as error:
        raise DocumentError(str(path), [(0, "", "there is no such file")]) from error
    except UnicodeDecodeError as error:
        raise DocumentError(str(path), [(0, "", f"not UTF-8 text: {error.reason}")]) from error
    except OSError as error:
        raise DocumentError(str(path), [(0, "", f"cannot be read: {error.strerror or error}")]) from error


def parse_yaml(text: str, name: str) -> Any:
    """``text`` as YAML; ``name`` is what an error calls it."""
    import warnings

    from ruamel.yaml import YAML
    from ruamel.yaml.error import MarkedYAMLError, ReusedAnchorWarning, YAMLError

    warnings.simplefilter(
        "ignore", ReusedAnchorWarning
    )  # a name may mean something else further down (YAML 1.2.2, 7.1)
    try:
        with suppress(NotYaml):  # else it is read again, to say where
            parse_fast(text)  # what is not bounded would take the slow reader very long
        return YAML().load(text)
    except Unbounded as error:
        raise DocumentError(name, [(0, "", str(error))]) from error
    except MarkedYAMLError as error:
        line = error.problem_mark.line + 1 if error.problem_mark else 0
        problem = (error.problem or "cannot be read").split("\n")[0]
        raise DocumentError(name, [(line, "", f"not valid YAML: {problem}")]) from error
    except YAMLError as error:
        raise DocumentError(name, [(0, "", f"not valid YAML: {str(error).splitlines()[0]}")]) from error


def read_as(path: Path, form: type[P]) -> P:
    """The document in ``path``, checked against its format."""
    return quickly(path, lambda document: check(plain(document), form, str(path), at=document))


def quickly(path: Path, make: Callable[[Any], T]) -> T:
    """What ``make`` makes of the document in ``path``.

    It is read without line numbers, several times as fast as with them; only where something is wrong, which
    ``make`` says by a DocumentError, it is read again with them.
    """
    try:
        return make(parse_fast(path.read_text(encoding="utf-8")))
    except (OSError, ValueError, DocumentError):
        return make(read_yaml(path))


def parse_fast(text: str) -> Any:
    """``text`` as YAML, without line numbers; raises NotYaml where it is none, Unbounded where it is huge."""
    from ruamel.yaml import YAML
    from ruamel.yaml.error import YAMLError

    try:
        return _bounded(YAML(typ="safe").load(_short(text)))
    except RecursionError as error:
        raise Unbounded(_TOO_DEEP) from error
    except YAMLError as error:
        raise NotYaml(str(error)) from error


class NotYaml(ValueError):
    """A text that is no YAML."""


class Unbounded(ValueError):
    """A document that is small as a text and huge as what it says."""


def _short(text: str) -> str:
    """``text``, if it is no longer and no deeper nested than the readers, which go down by calling themselves, bear."""
    if len(text) > _LONGEST:
        raise Unbounded(f"is longer than {_LONGEST:,} characters")
    depth = 0
    for bracket in _NESTING.finditer(text):
        depth += 1 if bracket[0] in "[{" else -1 if bracket[0] in "]}" else _BEARABLE + 1
        if depth > _BEARABLE:
            raise Unbounded(_TOO_DEEP)
    return text


def _bounded(document: Any) -> Any:
    """``document``, if what it comes to with all its aliases is bounded; an alias within itself is not."""
    sizes: dict[int, int | None] = {}

    def size(value: Any, depth: int) -> int:
        parts = value.values() if isinstance(value, Mapping) else value if isinstance(value, list | set | tuple) else ()
        if not parts:
            return 1
        if depth > _DEEPEST:
            raise Unbounded(_TOO_DEEP)
        if id(value) not in sizes:
            sizes[id(value)] = None  # being counted
            sizes[id(value)] = 1 + sum(size(part, depth + 1) for part in parts)
        known = sizes[id(value)]
        if known is None:
            raise Unbounded("holds an alias within what it stands for")
        return known

    if (whole := size(document, 0)) > _LARGEST:
        raise Unbounded(f"comes to {whole:,} values, with its aliases; at most {_LARGEST:,} are read")
    return document


def plain(value: Any) -> Any:
    """What was read as JSON knows it: without what the reader keeps for writing it again, dates as texts."""
    if isinstance(value, Mapping):
        return {str(name): plain(part) for name, part in value.items()}
    if isinstance(value, list):
        return [plain(part) for part in value]
    if isinstance(value, date):
        return value.isoformat()
    for kind in (bool, int, float, str):
        if isinstance(value, kind):
            return value if isinstance(value, bool) else kind(value)
    return value


def yaml_text(document: Any) -> str:
    """A document as YAML, with the comments that it was read with; texts of several lines are blocks."""
    if not hasattr(document, "ca"):
        return plain_yaml(document)
    from ruamel.yaml import YAML

    yaml = YAML()

    class Representer(yaml.Representer):  # type: ignore[name-defined, misc]
        """Ours alone: what is added to a representer is added to its class."""

        def ignore_aliases(self, data: Any) -> bool:
            """Write out again what occurs twice, rather than refer to it."""
            return True

    Representer.add_representer(str, _text_node)
    yaml.Representer = Representer
    yaml.default_flow_style = False
    yaml.allow_unicode = True
    yaml.width = 120
    yaml.indent(mapping=2, sequence=4, offset=2)
    text = StringIO()
    yaml.dump(document, text)
    return text.getvalue()


def _text_node(representer: Any, value: str) -> Any:
    if not value.replace("\n", "").isprintable():  # else such signs are lost, or refused when it is read
        style: str | None = '"'
    else:
        style = "|" if "\n" in value else None
    return representer.represent_scalar("tag:yaml.org,2002:str", value, style=style)


def write_yaml(path: Path, document: Any, *, private: bool = False, lasting: bool = True) -> None:
    """Write a document, whole or not at all; its folder is made."""
    make_folder(path.parent)
    write_text(path, in_data(yaml_text(document)), private=private, lasting=lasting)


def check(document: Any, form: type[P], name: str, at: Any = None) -> P:
    """``document`` as ``form``; raises DocumentError with every fault, its line and its key.

    Lines are those of ``at``, where the document was made of it and others.
    """
    if not isinstance(document, Mapping):
        raise DocumentError(name, [(1, "", "should be a mapping of keys to values, and is not")])
    try:
        return form.model_validate(document)
    except ValidationError as error:
        raise DocumentError(name, sorted(set(_faults(document if at is None else at, error)))) from error


def line_of(document: Any, location: Location) -> int:
    """The line, from 1, on which the value at ``location`` begins (or its nearest parent)."""
    line = 1
    for step in _real(document, location):
        marks = getattr(document, "lc", None)
        if marks is None:
            break
        try:
            line = (marks.item(step) if isinstance(step, int) else marks.key(step))[0] + 1
            document = document[step]
        except (KeyError, IndexError, TypeError, AttributeError):
            break
    return line


def dotted(document: Any, location: Location) -> str:
    """The key path as a person would write it: ``tables.devices.fields.name``, ``prefer[0]``."""
    steps = (f"[{step}]" if isinstance(step, int) else step for step in _real(document, location))
    return ".".join(steps).replace(".[", "[")


def _real(document: Any, location: Location) -> Iterator[int | str]:
    """``location`` without the steps that name no key, but the branch of a union or what a short form stands for."""
    branch_seen = False
    for at, step in enumerate(location):
        if isinstance(document, str | int | float):
            return
        if isinstance(document, list) and isinstance(step, str):
            continue
        is_branch = isinstance(document, Mapping) and document.get("by") == step and at < len(location) - 1
        if is_branch and not branch_seen:
            branch_seen = True
            continue
        branch_seen = False
        yield step
        try:
            document = document[step]
        except (KeyError, IndexError, TypeError):
            document = None


def _faults(document: Any, error: ValidationError) -> Iterator[Fault]:
    for item in error.errors(include_url=False):
        location = item["loc"]
        if item["type"] == "unknown_key":
            for key, hint in item["ctx"]["keys"].items():
                known = ", ".join(item["ctx"]["known"])
                advice = f"did you mean `{hint}`?" if hint else f"known here: {known}"
                place = (*location, key)
                yield line_of(document, place), dotted(document, place), f"unknown key; {advice}"
        elif item["type"] == "at":
            place = (*location, *item["ctx"]["place"])
            yield line_of(document, place), dotted(document, place), item["msg"]
        else:
            yield line_of(document, location), dotted(document, location), _plain(item)


def _plain(item: Any) -> str:
    kind, given = item["type"], item.get("input")
    if kind == "missing":
        return "is required and missing"
    if kind == "literal_error":
        return f"is {given!r}; should be one of {item['ctx']['expected']}"
    if kind in ("union_tag_invalid", "union_tag_not_found"):
        wanted = item["ctx"].get("expected_tags", "")
        return f"should say `by:` with one of {wanted}" if wanted else "should say `by:`, and does not"
    text = str(item["msg"]).removeprefix("Value error, ")
    return text if isinstance(given, Mapping | list) else f"{text} (given: {given!r})"
