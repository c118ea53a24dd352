"""The calls that people made, one after the other: reads for a while, writes for good; secrets never."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from concordex.errors import StoreError
from concordex.landing import landing
from concordex.store.locks import Locks
from concordex.unseen import in_data, masked

#: So many reads are kept, and twice as many before they are gone through.
_READS = 200

Row = dict[str, Any]


class CallLog:
    """A file of JSON lines: each call when it is sent, and once more when it is answered."""

    def __init__(self, store: Path) -> None:
        self.path, self._locks = store / "calls.ndjson", Locks(store)

    def sent(self, row: Mapping[str, Any]) -> int:
        """Note a call that is about to leave, on the disk; its number."""
        with self._locks.of_file(self.path):
            rows = self.rows()
            number = max((row["call"] for row in rows), default=0) + 1
            if sum(not row["wrote"] for row in rows) > 2 * _READS:
                self._keep(rows)
            self._add({"call": number, **row})
        return number

    def answered(self, number: int, row: Mapping[str, Any]) -> None:
        """Note what came of a call."""
        with self._locks.of_file(self.path):
            self._add({"call": number, **row})

    def rows(self) -> list[Row]:
        """Every call with what came of it, the earliest first; a line that was cut off is none."""
        if not self.path.exists():
            return []
        known: dict[int, Row] = {}
        for line in self.path.read_text(encoding="utf-8").splitlines():
            try:
                row = json.loads(line)
            except ValueError:
                continue
            if isinstance(row, dict) and isinstance(row.get("call"), int):
                known.setdefault(row["call"], {}).update(row)
        return [row for row in known.values() if "system" in row]

    def _add(self, row: Mapping[str, Any]) -> None:
        try:
            with os.fdopen(os.open(self.path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600), "w") as file:
                file.write(("\n" if self._is_cut() else "") + _line(row))
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            raise StoreError(f"{self.path} cannot be written", why=error.strerror or str(error)) from error

    def _is_cut(self) -> bool:
        """Whether the last line did not come to its end: the next one is not to be lost with it."""
        content = self.path.read_bytes()[-1:] if self.path.exists() else b""
        return content not in (b"", b"\n")

    def _keep(self, rows: list[Row]) -> None:
        """Every write, and the latest reads."""
        reads = [row["call"] for row in rows if not row["wrote"]]
        gone = set(reads[:-_READS])
        with landing(self.path, private=True) as making:
            making.write_text("".join(_line(row) for row in rows if row["call"] not in gone), encoding="utf-8")


def _line(row: Mapping[str, Any]) -> str:
    return masked(json.dumps(in_data(dict(row)), ensure_ascii=False)) + "\n"
