"""A snapshot that goes to the disk while it comes: row groups are appended to a file that nobody sees until then."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack, suppress
from pathlib import Path
from queue import Full, Queue
from threading import Thread
from typing import Any

import polars as pl
from polars.io.plugins import register_io_source

from concordex.errors import StoreError
from concordex.landing import landing, make_folder
from concordex.store.snapshots import FACTS, LASTING, Content, digest_of
from concordex.unseen import in_frame

#: How many pieces may wait to be made, and as many to be written: then whoever brings them waits too.
_WAITING = 2


class GrowingFile:
    """Takes frames of one schema; they are made, masked and written beside the thread that brings them."""

    def __init__(self, path: Path) -> None:
        make_folder(path.parent)
        self.path, self.content = path, Content()
        self._landing = ExitStack()
        self._making = self._landing.enter_context(landing(path, private=True))
        self._facts: Mapping[str, Any] = {}
        self._pieces: Queue[pl.DataFrame | None] = Queue(_WAITING)
        self._worker = ThreadPoolExecutor(1)
        self._under_way: list[Future[None]] = []
        self._writer: Thread | None = None
        self._fault: Exception | None = None
        self._is_closed = False

    def add(self, make: Callable[[], pl.DataFrame]) -> None:
        """Write what ``make`` gives, which is called in another thread; raises what went wrong before."""
        while len(self._under_way) > _WAITING or (self._under_way and self._under_way[0].done()):
            self._under_way.pop(0).result()
        self._under_way.append(self._worker.submit(lambda: self._put(make())))

    def settle(self) -> None:
        """Wait until all that was added is made; raises what went wrong with it."""
        while self._under_way:
            self._under_way.pop(0).result()

    def finish(self, facts: Mapping[str, Any]) -> str:
        """The file, with what it says that it is, in its place and on the disk; its digest."""
        self._facts = facts
        self._close()
        digest = digest_of(self._making)
        self._landing.close()
        return digest

    def discard(self) -> None:
        """Leave nothing of it, where it is not finished."""
        with suppress(Exception):  # whatever went wrong with it, it goes
            self._close()
        with suppress(_Discarded):  # once it is finished there is nothing left to be ended
            self._landing.__exit__(_Discarded, _Discarded(), None)

    def _put(self, frame: pl.DataFrame) -> None:
        self.content.add(frame)
        if self._writer is None:
            self._writer = Thread(target=self._write, args=(frame.schema,), daemon=True)
            self._writer.start()
        self._hand_over(in_frame(frame))

    def _hand_over(self, piece: pl.DataFrame | None) -> None:
        """Let a piece be written, or say that there are no more; raises what went wrong with it."""
        while self._fault is None:
            with suppress(Full):
                return self._pieces.put(piece, timeout=1)
        raise self._fault

    def _write(self, schema: pl.Schema) -> None:
        def all_of_them() -> Iterator[pl.DataFrame]:
            while (piece := self._pieces.get()) is not None:
                yield piece

        try:
            register_io_source(lambda *_asked: all_of_them(), schema=schema).sink_parquet(
                self._making, metadata=lambda _context: {FACTS: json.dumps(self._facts)}, **LASTING
            )
        except Exception as error:
            advice = "may this user write there, and is there room?"
            self._fault = StoreError(f"{self.path} cannot be written", why=str(error).split("\n")[0], advice=advice)

    def _close(self) -> None:
        if self._is_closed:
            return
        self._is_closed = True
        try:
            self.settle()
        finally:
            self._worker.shutdown()
            if self._writer is not None:
                with suppress(StoreError):
                    self._hand_over(None)
                self._writer.join()
        if self._fault is not None:
            raise self._fault


class _Discarded(Exception):
    """Ends the landing of a file that nobody wants any more."""
