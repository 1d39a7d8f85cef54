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
from brenvik.feeds.frames import ROWS_PER_PIECE
from brenvik.feeds.protocol import Piece
from brenvik.merge.sequence import sequence_no
from brenvik.model.types import ColumnType


def columns_of(path: Path) -> dict[str, ColumnType]:
    """The columns and their types. Raises FeedError when the file cannot be read, or has types that no table can hold."""
    try:
        return types_of(pq.read_schema(path), path.name)
    except (pa.ArrowInvalid, OSError) as error:
        raise FeedError(f"{path.name} is no Parquet file that can be read: {error}") from error


def read(path: Path, number: int, carried: int, columns: Mapping[str, ColumnType]) -> Iterator[Piece]:
    """The rows, their values in the types of ``columns``."""
    line = 1
    try:
        for piece in pq.ParquetFile(path).iter_batches(batch_size=ROWS_PER_PIECE):
            lines = np.arange(line, line + len(piece))
            yield Piece(travelling(piece, columns, path.name), of_numbers(sequence_no(number, lines)), carried)
            line += len(piece)
    except (pa.ArrowInvalid, OSError) as error:
        raise FeedError(f"{path.name} breaks off at row {line}: {error}. Nothing of it was taken.") from error
