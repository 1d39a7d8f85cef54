"""Parquet: typed columns, rows numbered from 1."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from brenvik.engines.arrays import of_numbers
from brenvik.engines.arrow import travelling, types_of
from brenvik.errors import FeedError
from brenvik.feeds.frames import ROWS_PER_CHUNK
from brenvik.feeds.protocol import Chunk
from brenvik.merge.sequence import sequence_no
from brenvik.model.types import ColumnType


def columns_of(path: Path) -> dict[str, ColumnType]:
    """The columns and their types. Raises FeedError when the file cannot be read or has types that no table supports."""
    try:
        return types_of(pq.read_schema(path), path.name)
    except (pa.ArrowInvalid, OSError) as error:
        raise FeedError(f"{path.name} is not a readable Parquet file: {error}") from error


def read(path: Path, number: int, column_set: int, columns: Mapping[str, ColumnType]) -> Iterator[Chunk]:
    """The rows, with values in the types of ``columns``."""
    line = 1
    try:
        for chunk in pq.ParquetFile(path).iter_batches(batch_size=ROWS_PER_CHUNK):
            lines = np.arange(line, line + len(chunk))
            yield Chunk(travelling(chunk, columns, path.name), of_numbers(sequence_no(number, lines)), column_set)
            line += len(chunk)
    except (pa.ArrowInvalid, OSError) as error:
        raise FeedError(
            f"{path.name} cannot be read beyond row {line}: {str(error).rstrip('.')}. Nothing was loaded."
        ) from error
