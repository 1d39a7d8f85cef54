"""Text files without delimiters: each column has its place in the line. All values are text.

A value is without the blanks around it, and null where nothing is left; a line that is too short has nulls at its end. Characters
that no column has are ignored. A line of blanks is not a row, nor is the end-of-file mark of old systems (``Ctrl-Z``).
"""

from __future__ import annotations

import codecs
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from brenvik.engines.arrays import of_numbers
from brenvik.engines.arrow import types_of
from brenvik.errors import FeedError
from brenvik.feeds.protocol import BrokenLine, Chunk
from brenvik.feeds.reading import Layout
from brenvik.merge.sequence import sequence_no
from brenvik.model.types import TEXT, ColumnType

_READ_AT_ONCE = 4 << 20
_BLANKS = " \u00a0"
_END_OF_FILE = "\x1a"


def columns_of(path: Path, layout: Layout) -> dict[str, ColumnType]:
    """The columns of the layout, all of them text. Raises FeedError when the file cannot be read."""
    next(_lines(path, layout), None)
    names = [name for name, _, _ in layout.columns]
    return dict.fromkeys(types_of(pa.schema([(name, pa.string()) for name in names]), path.name), TEXT)


def read(
    path: Path, number: int, column_set: int, columns: Sequence[str], broken: list[BrokenLine], layout: Layout
) -> Iterator[Chunk]:
    """The rows. Lines with a tab, after which places are unclear, go to ``broken``."""
    places = {name: (first - 1, last) for name, first, last in layout.columns}
    for start, lines in _lines(path, layout):
        numbers = np.arange(start, start + len(lines))
        filled = pc.not_equal(pc.utf8_trim(lines, characters=_BLANKS + _END_OF_FILE), "")
        clear = pc.invert(pc.match_substring(lines, "\t"))
        for line in np.flatnonzero(~clear.to_numpy(zero_copy_only=False)):
            reason = "contains a tab, so that the places of columns are unclear"
            broken.append(BrokenLine(number, int(numbers[line]), lines[int(line)].as_py(), reason))
        good = pc.and_(filled, clear)
        rows = lines.filter(good)
        arrays = [_values(rows, *places[name]) for name in columns]
        chunk = pa.record_batch(arrays, schema=pa.schema([(name, pa.string()) for name in columns]))
        kept = numbers[good.to_numpy(zero_copy_only=False)]
        yield Chunk(chunk, of_numbers(sequence_no(number, kept)), column_set)


def _values(lines: Any, start: int, stop: int) -> pa.Array:
    """What lines have from ``start`` (from 0) up to ``stop`` (exclusive)."""
    found = pc.utf8_trim(pc.utf8_slice_codeunits(lines, start, stop), characters=_BLANKS)
    return pc.if_else(pc.equal(found, ""), pa.scalar(None, pa.string()), found)


def _lines(path: Path, layout: Layout) -> Iterator[tuple[int, pa.Array]]:
    """The lines below the header, some at a time, with the number of the first of them (from 1)."""
    decoder = codecs.getincrementaldecoder(layout.encoding)()
    start, rest = 1, ""
    try:
        with pa.input_stream(path, compression="gzip" if path.suffix.lower() == ".gz" else None) as file:
            while raw := file.read(_READ_AT_ONCE):
                whole, line_end, rest = (rest + decoder.decode(raw)).rpartition("\n")
                if line_end:
                    lines = _split(whole, first=start == 1)
                    yield _below(lines, start, layout.header_lines)
                    start += len(lines)
            if rest := rest + decoder.decode(b"", final=True):
                yield _below(_split(rest, first=start == 1), start, layout.header_lines)
    except UnicodeDecodeError as error:
        raise FeedError(
            f"{path.name} is not {layout.encoding}: {error.reason} after line {start - 1}. Nothing was loaded. To read it: "
            'fixed_width = { encoding = "…" }'
        ) from error
    except (OSError, pa.ArrowException) as error:
        raise FeedError(f"{path.name} cannot be read: {error}. Nothing was loaded.") from error


def _split(text: str, *, first: bool) -> pa.Array:
    """The lines of a text; ``first`` says that the file begins with it."""
    lines = pc.split_pattern(pa.array([text.removeprefix("\ufeff") if first else text]), "\n").flatten()
    return pc.utf8_rtrim(lines, characters="\r")


def _below(lines: pa.Array, start: int, header_lines: int) -> tuple[int, pa.Array]:
    """The lines below the header, with the number of the first of them."""
    header = min(max(header_lines - start + 1, 0), len(lines))
    return start + header, lines[header:]
