"""Several commands in one process, one after another: what only a process of its own has, at the price of one."""

from __future__ import annotations

import io
import json
import sys

from concordex.cli.app import status_of


def main() -> None:
    """Run the commands of the first argument; of each its status, output and errors, as a line of JSON."""
    real = sys.stdout
    for words in json.loads(sys.argv[1]):
        sys.stdout, sys.stderr = io.StringIO(), io.StringIO()
        status = status_of(words)
        real.write(json.dumps([status, sys.stdout.getvalue(), sys.stderr.getvalue()]) + "\n")


if __name__ == "__main__":
    main()
