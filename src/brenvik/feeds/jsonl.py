"""JSON Lines: one JSON object per line (RFC 8259), whose members are columns; or a change record that contains its row.

A file that ends in ``.gz`` is decompressed while it is read. Text stays text, and so do numbers: they arrive as written. A
member that is null is null; one that is absent is not part of the row's column set. Objects and arrays inside a row arrive
as JSON. A blank line is not a row; a line that is not a JSON object is rejected.

For a *change record*, the declaration says where its parts are: the row after the change, the row before it, the operation,
the order. Where both rows are present and their natural keys differ, the record is two changes: a delete of the old key is
derived from it.

The lines are parsed in DuckDB. It reads numbers with a fraction as binary floating point, so where any would not be read back
as written, the numbers of the line become texts that begin with a mark, which is removed afterwards. It also accepts what is
not JSON: a comma after the last member, NaN, and infinities; such lines are rejected.
"""

from __future__ import annotations

import codecs
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from brenvik.engines.arrays import of_numbers
from brenvik.engines.arrow import types_of
from brenvik.engines.scratch import parsed, scratch
from brenvik.errors import FeedError
from brenvik.feeds.protocol import BrokenLine, Chunk
from brenvik.feeds.reading import Record
from brenvik.merge import sql
from brenvik.merge.sequence import sequence_no

_BLOCK = 16 << 20
_LINES = 8_192  # parts of a block that DuckDB works on side by side
_NEVER = "\x01"  # no control character may stand in a line of JSON
_NOR = "\x02"
_MARK = "\ufdd0"  # a noncharacter, which Unicode keeps for use inside of programs
_MARKED = f'"{_MARK}([^"]*)"'
_LENIENT = r",\s*[}\]]|(?i:nan|inf)"
_TEXT = r'"(?:[^"\\]|\\.)*"'
_INEXACT = r"[0-9]\.[0-9]*0([^0-9]|$)|[0-9.]{16,}|[0-9][eE][-+0-9]|\.0000|[^0-9A-Za-z]-0"
_TEXT_OR_NUMBER = r'("(?:[^"\\]|\\.)*")|(-?[0-9][0-9.eE+-]*)'


Columns = tuple[str, ...]


def column_sets_in(path: Path, record: Record) -> dict[Columns, Columns]:
    """The column sets of records that are not rejected: the members of their rows, mapped to all of their columns; both
    sorted by name."""
    found: dict[Columns, Columns] = {}
    outside = [name for name, _ in record.columns]
    _check_encoding(path)
    with scratch() as work:
        for lines, _ in _lines(path, []):
            work.register("lines", lines)
            for (members,) in work.execute(
                f"SELECT DISTINCT members FROM ({_parted(record, exact=False)}) p WHERE reason IS NULL"
            ).fetchall():
                found[tuple(members)] = tuple(sorted({*members, *outside}))
    types_of(pa.schema([(name, pa.string()) for name in sorted({n for c in found.values() for n in c})]), path.name)
    return found


def read(
    path: Path,
    number: int,
    column_sets: Mapping[Columns, int],
    columns: Sequence[str],
    broken: list[BrokenLine],
    record: Record,
) -> Iterator[Chunk]:
    """The rows of a file; ``column_sets`` numbers what ``column_sets_in`` found. Other lines go to ``broken``."""
    with scratch() as work:
        work.execute("CREATE TEMP TABLE sets (members VARCHAR[], column_set INTEGER)")
        for members, its_number in column_sets.items():
            work.execute("INSERT INTO sets VALUES (?, ?)", [list(members), its_number])
        shaped = _shaped(record, columns)
        for lines, first in _lines(path, broken, number):
            work.register("lines", lines)
            rows = work.sql(parsed(shaped, work)).to_arrow_table().combine_chunks()
            if rows["reason"].null_count < len(rows):
                broken_rows = (
                    rows.filter(pc.is_valid(rows["reason"])).select(["place", "line", "reason"]).sort_by("place")
                )
                broken += [
                    BrokenLine(number, first + row["place"], row["line"], row["reason"])
                    for row in broken_rows.to_pylist()
                ]
                rows = rows.filter(pc.is_null(rows["reason"])).combine_chunks()
            if rows["column_set"].null_count:
                raise FeedError(f"{path.name} changed while it was being read. Nothing was loaded; load it again.")
            places = rows["place"].to_numpy() + first
            sequence_numbers = sequence_no(number, places) - rows["derived"].to_numpy()
            values = rows.select([_numbered(index) for index in range(len(columns))]).rename_columns(list(columns))
            for batch in values.to_batches():
                yield Chunk(
                    batch,
                    of_numbers(sequence_numbers),
                    rows["column_set"].combine_chunks(),
                    rows["line"].combine_chunks(),
                )


@contextmanager
def _read_errors(path: Path) -> Iterator[None]:
    try:
        yield
    except (pa.ArrowInvalid, OSError, UnicodeError) as error:
        raise FeedError(
            f"{path.name} cannot be read: {error}. Expected one JSON object per line in UTF-8; nothing was loaded."
        ) from error


def _opened(path: Path) -> pa.NativeFile:
    return pa.input_stream(path, compression="gzip" if path.suffix.lower() == ".gz" else None)


def _check_encoding(path: Path) -> None:
    """Raises FeedError with the line where a file is not UTF-8; the reader would replace such bytes and continue."""
    decode, line = codecs.getincrementaldecoder("utf-8")().decode, 1
    with _read_errors(path), _opened(path) as stream:
        block = None
        while block != b"":
            block = stream.read(_BLOCK)
            try:
                decode(block, final=not block)
            except UnicodeDecodeError as error:
                line += error.object.count(b"\n", 0, error.start)
                raise FeedError(
                    f"{path.name}: line {line:,} has bytes that are not UTF-8. Expected one JSON object per line in UTF-8; "
                    "nothing was loaded."
                ) from None
            line += block.count(b"\n")


def _lines(path: Path, broken: list[BrokenLine], number: int = 0) -> Iterator[tuple[pa.Table, int]]:
    """The lines of a file block by block, as a column ``line`` and their ``place`` in the block, and the number of the first."""
    bad: list[Any] = []

    def note(row: Any) -> str:
        bad.append(row)
        return "skip"

    if path.stat().st_size == 0:
        return
    with (
        _read_errors(path),
        pa.csv.open_csv(
            _opened(path),
            read_options=pa.csv.ReadOptions(use_threads=False, block_size=_BLOCK, column_names=["line"]),
            parse_options=pa.csv.ParseOptions(
                delimiter=_NEVER, quote_char=False, ignore_empty_lines=False, invalid_row_handler=note
            ),
            convert_options=pa.csv.ConvertOptions(column_types={"line": pa.string()}, strings_can_be_null=False),
        ) as reader,
    ):
        reported, line = 0, 1
        for chunk in reader:
            numbers = np.array([row.number for row in bad], dtype=np.int64)
            places = np.arange(len(chunk)) + line
            for row in numbers:  # the reader leaves them out, but counts them
                places[places >= row] += 1
            lines = pa.table({"line": chunk.column(0), "place": of_numbers(places - line)})
            yield pa.Table.from_batches(lines.to_batches(max_chunksize=_LINES)), line
            line = int(places[-1]) + 1 if len(places) else line
            broken += [BrokenLine(number, row.number, row.text, "is not JSON") for row in bad[reported:]]
            reported = len(bad)


def _text(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def _at(pointer: str, of: str) -> str:
    """What is at a pointer of a JSON text, if it is an object; else null."""
    if not pointer:
        return f"CASE WHEN json_type({of}) = 'OBJECT' THEN {of} END"
    return f"CASE WHEN json_type({of}, {_text(pointer)}) = 'OBJECT' THEN json_extract({of}, {_text(pointer)}) END"


def _one(pointer: str, of: str) -> str:
    """The value at a pointer as text, exactly as written."""
    return _unmarked(f"json_extract_string({of}, {_text(pointer)})")


def _unmarked(value: str) -> str:
    """A value whose numbers may be marked, as written."""
    plain = f"replace(regexp_replace({value}, {_text(_MARKED)}, '\\1', 'g'), '{_MARK}', '')"
    return f"CASE WHEN is_marked AND contains({value}, '{_MARK}') THEN {plain} ELSE {value} END"


def _numbered(index: int) -> str:
    """The temporary name of a column: members may have any name."""
    return f"value_{index}"


def _is_json(line: str) -> str:
    """A test for lines that are JSON without DuckDB's extensions."""
    bare = f"regexp_replace({line}, {_text(_TEXT)}, '\"\"', 'g')"
    lenient = f"regexp_matches({line}, {_text(_LENIENT)}) AND regexp_matches({bare}, {_text(_LENIENT)})"
    return f"json_valid({line}) AND NOT ({lenient})"


def _marked(line: str) -> str:
    """A line with its numbers as texts that begin with the mark."""
    parts = f"regexp_replace({line}, {_text(_TEXT_OR_NUMBER)}, '\\1{_NEVER}\\2{_NOR}', 'g')"
    parts = f"replace({parts}, '{_NEVER}{_NOR}', '')"
    return f"""replace(replace({parts}, '{_NEVER}', '"{_MARK}'), '{_NOR}', '"')"""


def _parted(record: Record, *, exact: bool = True) -> str:
    """The lines with their parts: ``parsed`` (exact), the rows ``now`` and ``was``, ``plain`` (the row as written in the line),
    ``members`` of the row, its operation, and a reason where the line cannot be a change."""
    operations = record.operations
    code = "NULL"
    if operations:
        outside = dict(record.columns).get(operations.column)
        code = (
            _one(outside, "parsed")
            if outside is not None
            else _one(sql.member(operations.column), "COALESCE(now, was)")
        )
        code = f"lower(trim({code}))"
    deleting = ", ".join(_text(each) for each in operations.deleting) if operations else ""
    is_delete = f"COALESCE({code} IN ({deleting}), FALSE)" if deleting else "FALSE"
    marked = f"regexp_matches(line, {_text(_INEXACT)})" if exact else "FALSE"
    both = record.new_row + (f" nor {record.old_row}" if record.old_row is not None else "")
    return f"""
SELECT *,
  CASE
    WHEN parsed IS NULL THEN 'is not a JSON object'
    WHEN is_marked AND regexp_matches(line, '(?i:{_MARK}|\\\\ufdd0)') THEN
      'has the character U+FDD0, which is reserved, and a number that cannot be read exactly without it'
    WHEN now IS NULL AND was IS NULL THEN {_text(f"has no row at {both}")}
    WHEN now IS NULL AND NOT deletes THEN {_text(f"is not a delete, but has no row at {record.new_row}")}
    WHEN list_contains(members, '') THEN 'has a member with an empty name'
    WHEN len(members) > len(list_distinct(list_transform(members, lambda m: lower(m)))) THEN
      'names a column twice: '
        || list_first(list_filter(members, lambda m: len(list_filter(members, lambda o: lower(o) = lower(m))) > 1))
  END AS reason
FROM (
  SELECT *, {is_delete} AS deletes,
    list_sort(json_keys(COALESCE(now, was))) AS members
  FROM (
    SELECT *, {_at(record.new_row, "parsed")} AS now, {"NULL" if record.old_row is None else _at(record.old_row, "parsed")} AS was
    FROM (
      SELECT line, place, is_marked, CASE WHEN {_is_json("line")} THEN CASE WHEN json_type(line) = 'OBJECT' THEN
        CASE WHEN is_marked THEN {_marked("line")} ELSE line END END END AS parsed
      FROM (
        SELECT line, place, {marked} AS is_marked FROM lines WHERE trim(line) <> ''
      ) m
    ) l
  ) r
) p"""


def _shaped(record: Record, columns: Sequence[str]) -> str:
    """The lines with their columns, or the reason for rejecting them; and the changes derived from them."""
    outside = dict(record.columns)
    keys = record.keys if record.old_row is not None else ()
    inside = [name for name in columns if name not in outside]
    where = {name: f"row_values[{index}]" for index, name in enumerate(inside, 1)}

    def value(name: str) -> str:
        if name in outside:
            return _one(outside[name], "parsed")
        found = _unmarked(where[name])
        return f"COALESCE({found}, {before(name)})" if name in keys else found

    def before(name: str) -> str:
        return _one(sql.member(name), "was")

    pointers = ", ".join(_text(sql.member(name)) for name in inside)
    own = ", ".join(f"{value(name)} AS {_numbered(index)}" for index, name in enumerate(columns))
    parted = f"""
WITH parted AS MATERIALIZED (
  SELECT q.*, s.column_set, json_extract_string(COALESCE(now, was), CAST([{pointers}] AS VARCHAR[])) AS row_values
  FROM ({_parted(record)}) q LEFT JOIN sets s ON s.members = q.members
)"""
    text = f"SELECT place, reason, 0 AS derived, column_set, line, {own} FROM parted"
    if not record.can_derive:
        return f"{parted.replace(' MATERIALIZED', '')}\n{text}"
    assert record.operations
    stead = {name: f"COALESCE({before(name)}, {value(name)})" for name in keys}
    stead[record.operations.column] = _text(record.operations.deleting[0])
    derived = ", ".join(stead.get(name) or value(name) for name in columns)
    moved = sql.any_of(f"{_unmarked(where[name])} <> {before(name)}" for name in keys if name in where)
    return f"""{parted}
{text}
UNION ALL
SELECT place, reason, 1, column_set, line, {derived} FROM parted
WHERE reason IS NULL AND NOT deletes AND now IS NOT NULL AND was IS NOT NULL AND {moved}"""
