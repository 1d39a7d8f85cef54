"""Rejected rows, loaded again: unchanged, or as fixed in a file."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from pathlib import Path

from brenvik.feeds.formats import batch_of
from brenvik.feeds.protocol import Batch, LoadRequest, Memory
from brenvik.feeds.reading import ReadOptions, Record
from brenvik.ledger.records import LoadedFile


class RejectSource:
    """Open rejects of one feed by number, each as a line of JSON; they are read like the records of the feed. ``origins`` are the
    file and line of each."""

    can_reopen = True

    def __init__(
        self,
        lines: Mapping[int, str],
        *,
        name: str,
        kind: str,
        record: Record,
        origins: Mapping[int, tuple[str | None, int | None]],
    ) -> None:
        self.name = name
        self.kind = kind
        self._lines = dict(sorted(lines.items()))
        self._record = record
        self._origins = origins

    def open(self, memory: Memory, request: LoadRequest | None = None) -> Batch:
        source = "1 reject" if len(self._lines) == 1 else f"{len(self._lines):,} rejects"
        folder = tempfile.TemporaryDirectory(prefix="brenvik-")
        path = Path(folder.name) / "rejects.jsonl"
        path.write_text("".join(f"{line}\n" for line in self._lines.values()), encoding="utf-8")
        batch = batch_of([path], [LoadedFile(source, 0, "", number=1)], ReadOptions(record=self._record))
        batch.files = ()
        batch.retries = {number: self._origins[number] for number in self._lines}
        batch.close = folder.cleanup
        return batch
