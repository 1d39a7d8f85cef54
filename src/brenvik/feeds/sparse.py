"""Rows that lack columns although their file has them: a word in place of a value says so.

Which columns a row has must be known before rows are staged, so the rows are read once and kept in a temporary file.
"""

from __future__ import annotations

import tempfile
import weakref
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import IO, TYPE_CHECKING, Any

from brenvik.errors import FeedError
from brenvik.feeds.protocol import Batch, Chunk
from brenvik.merge.schema import SEQUENCE_NO
from brenvik.merge.validate import PRESENT, RAW
from brenvik.merge.value_formats import BLANKS
from brenvik.model.value_formats import ValueFormats

if TYPE_CHECKING:
    import pyarrow as pa


def with_absent_values(batch: Batch, always: Collection[str]) -> Batch:
    """The batch with the columns that each row really has; the same batch if no word says that one is absent. The columns
    ``always`` are never absent.

    Raises FeedError for rows that stay in the store.
    """
    words = {
        name: formats
        for name, formats in batch.value_formats.items()
        if formats.absent_words and name in batch.columns and batch.columns[name].kind == "text" and name not in always
    }
    if not words:
        return batch
    if batch.store_query:
        raise FeedError(
            f"{batch.source} is read inside the store, where absent_words do not apply; read a query that has only the columns "
            "that are there."
        )
    kept = _Kept(batch, words)
    weakref.finalize(kept, kept.file.close)  # with the last batch that has the rows
    kept.read()
    return replace(batch, chunks=kept.chunks, column_sets=kept.column_sets, can_reread=True)


_MANY = 32
"""How many flags fit into a number beside that of a column set."""


@dataclass(eq=False)
class _Kept:
    """The chunks of a batch in a temporary file, each with the column set of every row."""

    batch: Batch
    words: Mapping[str, ValueFormats]
    column_sets: dict[int, tuple[str, ...]] = field(default_factory=dict)
    file: IO[bytes] = field(default_factory=tempfile.TemporaryFile)

    def read(self) -> None:
        import pyarrow as pa

        numbers: dict[tuple[str, ...], int] = {}
        for chunk in self.batch.chunks():
            rows = chunk.rows.append_column(PRESENT, self._column_set_of(chunk, numbers))
            rows = rows.append_column(SEQUENCE_NO, chunk.sequence_numbers)
            if chunk.raw is not None:
                rows = rows.append_column(RAW, chunk.raw)
            with pa.ipc.new_stream(self.file, rows.schema) as stream:
                stream.write_batch(rows)
        self.column_sets = {number: names for names, number in numbers.items()} or {
            number: tuple(names) for number, names in self.batch.column_sets.items()
        }

    def _column_set_of(self, chunk: Chunk, numbers: dict[tuple[str, ...], int]) -> pa.Array:
        """The column set of each row; ``numbers`` are those of all chunks so far."""
        import numpy as np

        from brenvik.engines.arrays import of_numbers

        given = chunk.column_set
        sets = np.full(len(chunk.rows), given) if isinstance(given, int) else given.to_numpy()
        names = [name for name in self.words if name in chunk.rows.schema.names]
        absent = {name: _is_absent(chunk.rows.column(name), self.words[name]) for name in names}
        patterns = sets.astype(np.int64)  # a number for each combination
        for index, flags in enumerate(absent.values(), 1):
            patterns = patterns * 2 + flags
            if index % _MANY == 0:
                _, patterns = np.unique(patterns, return_inverse=True)
        _, examples, which = np.unique(patterns, return_index=True, return_inverse=True)
        found = []
        for row in examples:
            there = (
                name for name in self.batch.column_sets[int(sets[row])] if not (name in absent and absent[name][row])
            )
            found.append(numbers.setdefault(tuple(there), len(numbers)))
        return of_numbers(np.array(found, dtype=np.int32)[which])

    def chunks(self) -> Iterator[Chunk]:
        import pyarrow as pa

        end = self.file.seek(0, 2)
        self.file.seek(0)
        while self.file.tell() < end:
            with pa.ipc.open_stream(self.file) as stream:
                (rows,) = stream
            names = [name for name in rows.schema.names if name not in (PRESENT, SEQUENCE_NO, RAW)]
            raw = rows.column(RAW) if RAW in rows.schema.names else None
            yield Chunk(rows.select(names), rows.column(SEQUENCE_NO), rows.column(PRESENT), raw)


def _is_absent(values: Any, formats: ValueFormats) -> Any:
    """Whether each value is a word for an absent one."""
    import pyarrow as pa
    import pyarrow.compute as pc

    if formats.trim:
        values = pc.utf8_trim(values, characters=BLANKS)
    return pc.is_in(values, value_set=pa.array(formats.absent_words, values.type)).to_numpy(zero_copy_only=False)
