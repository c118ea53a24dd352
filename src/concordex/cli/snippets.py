"""A call as a colleague can make it elsewhere, in a shell or in Python; secrets are names of variables."""

from __future__ import annotations

import re
import shlex
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from concordex.work.call.colleague import CallCopy

_VARIABLE = re.compile(r"\$([A-Z][A-Z0-9_]*_[A-Z0-9_]+)")


def curl(copy: CallCopy) -> str:
    """For a shell; what is no variable is quoted."""
    parts = ["curl", "-X", copy.method] if copy.method != "GET" else ["curl"]
    parts.append(_for_shell(copy.url))
    if copy.basic is not None:
        parts.append(f"-u {_for_shell(copy.basic)}")
    parts += [f"-H {_for_shell(f'{name}: {value}')}" for name, value in copy.headers.items()]
    if copy.body is not None:
        parts.append(f"--data-binary {_for_shell(copy.body)}")
    first = " ".join(parts[: 3 if copy.method != "GET" else 1])
    return " \\\n  ".join([first, *parts[3 if copy.method != "GET" else 1 :]])


def python(copy: CallCopy) -> str:
    """With nothing but Python's own library."""
    headers = dict(copy.headers)
    lines = ["import base64", "import os", "import urllib.request", ""]
    if copy.basic is None:
        lines.remove("import base64")
    lines += ["request = urllib.request.Request(", f"    {_for_python(copy.url)},", f"    method={copy.method!r},",
              "    headers={"]  # fmt: skip
    lines += [f"        {name!r}: {_for_python(value)}," for name, value in headers.items()]
    if copy.basic is not None:
        encoded = f"base64.b64encode(({_for_python(copy.basic)}).encode()).decode()"
        lines.append(f"        'Authorization': 'Basic ' + {encoded},")
    lines += ["    },"]
    lines += [f"    data=({_for_python(copy.body)}).encode(),"] if copy.body is not None else []
    lines += [")", "with urllib.request.urlopen(request) as answer:", "    print(answer.read().decode())"]
    return "\n".join(lines)


def _for_shell(text: str) -> str:
    """A word of a shell's: what is not a variable stands in single quotes, variables in double ones."""
    parts = _VARIABLE.split(text)
    told = [f'"${part}"' if at % 2 else shlex.quote(part) if part else "" for at, part in enumerate(parts)]
    return "".join(told) or "''"


def _for_python(text: str) -> str:
    parts = _VARIABLE.split(text)
    told = [f'os.environ["{part}"]' if at % 2 else repr(part) for at, part in enumerate(parts) if part]
    return " + ".join(told) or "''"
