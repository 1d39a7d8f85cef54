"""Rows in memory: pandas frames, and anything that offers an Arrow stream (Arrow tables and readers, polars, DuckDB
relations)."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from typing import Any

import numpy as np
import pyarrow as pa

from brenvik.engines.arrays import of_numbers
from brenvik.engines.arrow import travelling, types_of
from brenvik.errors import FeedError
from brenvik.feeds.protocol import Batch, Chunk, ExtractTime, LoadRequest, Memory
from brenvik.merge.sequence import sequence_no

ROWS_PER_CHUNK = 122_880  # DuckDB's own row group: smaller chunks are stored worse


class FrameSource:
    """A frame passed by the caller. Its rows are numbered from 1. ``at`` is the time of an extract."""

    def __init__(self, frame: Any, *, name: str, kind: str, at: str | None = None) -> None:
        self.name = name
        self.kind = kind
        self._frame = frame
        self._at = at
        self.can_reopen = _is_frame(frame, "pandas") or _is_frame(frame, "polars") or isinstance(frame, pa.Table)

    def open(self, memory: Memory, request: LoadRequest | None = None) -> Batch:
        source = f"the {type(self._frame).__module__.partition('.')[0]} {type(self._frame).__name__}"
        first = _reader(self._frame, source)
        columns = types_of(first.schema, source)

        def chunks() -> Iterator[Chunk]:
            reader = _reader(self._frame, source) if self.can_reopen else first
            line = 1
            while (chunk := _next(reader, source, line)) is not None:
                for start in range(0, len(chunk), ROWS_PER_CHUNK):
                    part = travelling(chunk.slice(start, ROWS_PER_CHUNK), columns, source)
                    yield Chunk(part, of_numbers(sequence_no(0, np.arange(line, line + len(part)))))
                    line += len(part)

        return Batch(
            source,
            columns,
            parts={source: tuple(columns)},
            column_sets={0: tuple(columns)},
            chunks=chunks,
            can_reread=self.can_reopen,
            extract=ExtractTime(self._at) if self.kind == "full_extract" else None,
        )


def _next(reader: pa.RecordBatchReader, source: str, line: int) -> pa.RecordBatch | None:
    try:
        return reader.read_next_batch()
    except StopIteration:
        return None
    except (pa.ArrowException, OSError) as error:
        message = str(error).partition("\n")[0].partition(". Detail:")[0]
        raise FeedError(f"{source} failed before row {line}: {message}. Nothing was loaded.") from error


def _is_frame(frame: Any, library: str) -> bool:
    """Whether this is a frame of a library, found without importing it: whoever made the frame has imported it."""
    module = sys.modules.get(library)
    return module is not None and isinstance(frame, module.DataFrame)


def _reader(frame: Any, source: str) -> pa.RecordBatchReader:
    try:
        if isinstance(frame, pa.RecordBatchReader):
            return frame
        if _is_frame(frame, "pandas"):
            return pa.Table.from_pandas(frame, preserve_index=False).to_reader(ROWS_PER_CHUNK)
        if hasattr(frame, "__arrow_c_stream__"):
            return pa.RecordBatchReader.from_stream(frame)
    except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError, ValueError) as error:
        raise FeedError(f"{source} cannot be converted to Arrow columns: {error}") from error
    raise FeedError(
        f"Expected a pandas or polars frame, an Arrow table or reader, or a DuckDB relation, got {source}. "
        "To load rows held in plain Python: pyarrow.Table.from_pylist(rows)"
    )
