"""Looks at a file and proposes the declaration of a table that fits it."""

from __future__ import annotations

import glob
import re
import unicodedata
from collections import Counter
from collections.abc import Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import duckdb

from brenvik.engines.scratch import scratch
from brenvik.errors import FeedError, ProjectError
from brenvik.feeds.dialects import reading_of
from brenvik.feeds.formats import batch_of, columns_of
from brenvik.feeds.protocol import BrokenLine
from brenvik.feeds.reading import FIRST_SHEET, RFC_4180, WORKBOOKS, ReadOptions
from brenvik.ledger.records import LoadedFile
from brenvik.merge import sql
from brenvik.model.feeds import Operations
from brenvik.model.types import CAN_ORDER, ColumnType, parse_type
from brenvik.project import toml
from brenvik.project.formats import Found, find_formats, format_lines

LOOKED_AT = 200_000
_WIDE = 60
_SAMPLE, _MANY_ODD = 4096, 0.1
_GUESSES = ("boolean", "integer", "decimal", "date", "timestamp with time zone", "timestamp")
_CODES = {*Operations("").keeping, *Operations("").deleting}
_NAMED_LIKE_KEY = re.compile(r"(^|_)(id|code|key|no|nr|number)$", re.IGNORECASE)
_NAMED_LIKE_TIME = re.compile(r"(chang|modif|updat|valid|effect|at$|_on$|time|date|seq|entry|version)", re.IGNORECASE)


@dataclass(frozen=True)
class Proposal:
    """A declaration as TOML, and where it belongs."""

    table: str
    text: str
    project: Path
    is_new_project: bool
    found: list[str]

    def write(self) -> None:
        """Appends the table to the project file, or creates the file."""
        with self.project.open("a", encoding="utf-8") as file:
            file.write(self.text if self.is_new_project else "\n" + self.text)


def propose(file: Path, *, table: str | None, project: Path) -> Proposal:
    """A declaration for a file, proposed from its first 200,000 rows.

    Raises FeedError when the file cannot be read, ProjectError when the project already has a table of that name.
    """
    if not file.is_file():
        raise ProjectError(f"{file} does not exist; expected a CSV, JSON Lines, Parquet or Excel file of the feed.")
    stem, _ = _parts(file)
    name = table or re.sub(r"\W+", "_", re.sub(r"[\W\d_]+$", "", stem).lower() or stem).strip("_") or "feed"
    is_new = not project.exists()
    if not is_new and re.search(
        rf"^\[table\.\"?{re.escape(name)}\"?\]", project.read_text(encoding="utf-8"), re.MULTILINE
    ):
        raise ProjectError(f"{project} already declares a table {name!r}; choose another name with --table.")
    reading = reading_of(file)
    columns = columns_of(file, reading)
    _check_text(file)
    _check_columns(file, columns)
    renamed = _new_names(columns)
    given = {renamed.get(column, column): kind for column, kind in columns.items()}
    with scratch() as work:
        broken = _take(work, file, reading, renamed)
        written = find_formats(work, "looked_at", [column for column, kind in given.items() if kind.kind == "text"])
        facts = _facts(work, given, written)
    _check_rows(file, facts)
    operation = next((c for c in given if facts[c]["values"] and facts[c]["values"] <= _CODES), None)
    found = [f"{_many(facts[next(iter(given))]['rows'], 'row')}, {_many(len(given), 'column')}"]
    lines = [] if not is_new else [f'store = "duckdb:{name}.duckdb"       # a file, created by the first load', ""]
    if broken:
        lines_of = "1 line is not a row" if len(broken) == 1 else f"{len(broken):,} lines are not rows"
        found.append(f"{lines_of}, which a load would reject; line {broken[0].line} {broken[0].reason}")
    if objects := _objects(facts):
        there = {new: old for old, new in renamed.items()}
        members = [there.get(name, name) for name in objects]
        found.append(
            f"JSON objects in {', '.join(members)}; if the row is in there, declare it in the feed: "
            f"record = {{ new_row = {toml.value(sql.member(members[0]))} }}"
        )
    lines += _table_lines(name, given, facts, operation, found, written)
    lines += _feed_lines(file, name, project, reading, operation, facts, found)
    lines += _rename_lines(renamed, found)
    lines += format_lines(f"[table.{toml.key(name)}.feed.files.values]", written, found)
    return Proposal(name, "\n".join(_aligned(lines)) + "\n", project, is_new, found)


def _table_lines(
    name: str,
    given: Mapping[str, ColumnType],
    facts: Mapping[str, Any],
    operation: str | None,
    found: list[str],
    written: Found,
) -> list[str]:
    """The lines that declare the table; the evidence for them is added to ``found``."""
    types = {column: _guess(facts[column]) if given[column].kind == "text" else given[column] for column in given}
    keys = _keys(facts, types, operation)
    order = _order(facts, types, keys)
    lines = [f"[table.{toml.key(name)}]"]
    lines.append(_line("natural_key", keys, _why_key(facts, keys)))
    if not operation and not any(map(_NAMED_LIKE_KEY.search, keys)):
        found.append(
            f'{keys[0]} may not be a natural key; rows without one are appended: no natural_key, kind = "append"'
        )
    if order:
        lines.append(_line("order_by", order, "the later of two changes of a key wins"))
    else:
        lines.append('# order_by = ["…"]       # no order column found: without one, changes apply in order of arrival')
        moments = [column for column in given if column not in keys and types[column].kind.startswith("timestamp")]
        since = next(filter(_NAMED_LIKE_TIME.search, moments), next(iter(moments), "…"))
        lines.append(
            f"# effective_at = {toml.value(since)}       # without it, history begins at the time of each load"
        )
    rest = [column for column in given if column not in (*keys, *order, operation)]
    lines.append('other_columns = "type_2"       # keep history (SCD type 2); overwrite the columns in type_1')
    lines.append("# type_0 = []       # columns that keep their first value")
    lines.append(f"# type_1 = []       # of {', '.join(map(toml.key, rest))}")
    if operation:
        lines.append('deletes = "close"       # or "remove"')
    declared = {c: types[c] for c in given if c != operation and given[c].kind == "text" and types[c].kind != "text"}
    if declared or written.open:
        width = max(map(len, map(toml.key, declared)), default=0)
        lines += ["", f"[table.{toml.key(name)}.types]       # text stays text unless a type is declared"]
        lines += [f'{toml.key(column):<{width}} = "{kind}"' for column, kind in declared.items()]
        lines += [
            f'# {toml.key(column)} = "{kind}"       # once its format is declared below'
            for column, kind in written.open.items()
        ]
        found += [f"types proposed for {', '.join(declared)}; other columns stay text"] if declared else []
    return lines


def _feed_lines(
    file: Path,
    name: str,
    project: Path,
    reading: ReadOptions,
    operation: str | None,
    facts: Mapping[str, Any],
    found: list[str],
) -> list[str]:
    """The lines that declare the feed of a file; the evidence for them is added to ``found``."""
    folder = _relative(file.parent, project.resolve().parent)
    stem, ending = _parts(file)
    pattern = "*".join(map(glob.escape, re.split(r"\d[\d_\-]*", stem))) + ending
    pattern = pattern if "*" in pattern else glob.escape(file.name)
    lines = ["", f"[table.{toml.key(name)}.feed.files]"]
    if operation:
        lines.append('kind = "changes"       # each row says insert, update or delete')
        lines.append(
            f"operation = {toml.value(operation)}       # found {', '.join(sorted(facts[operation]['values']))}"
        )
        found.append(f"{operation} is the operation: insert, update or delete")
    else:
        lines.append('kind = "upserts"       # each row is a new or newer state of its key')
    lines.append(
        f"files = {toml.value(glob.escape(folder) + pattern)}       # each loaded once, in the order of their names"
    )
    if dated := re.fullmatch(r"(\D*)(\d{4}[-_]?\d\d(?:[-_]?\d\d)?).*", stem):
        digits = re.sub("[0-9]", r"\\d", dated[2]).replace(r"\d\d\d\d", r"\d{4}", 1)
        told = f"{re.escape(dated[1])}({digits})"
        lines.append(
            f"# add = {{ file_date = {{ file_name = {toml.pattern(told)} }} }}       # the date in the file name"
        )
    if written := _written(reading, named_so=ending.lower().startswith(".csv")):
        lines.append(f"csv = {{ {', '.join(written)} }}       # the format of the files")
        found.append(f"CSV with {' and '.join(written)}")
    if (sheet := reading.sheet) != FIRST_SHEET:
        named = [f"sheet = {toml.value(sheet.name)}"] if sheet.name else []
        told = ", ".join([*named, *([f"header_row = {sheet.header_row}"] if sheet.header_row > 1 else [])])
        lines.append(f"excel = {{ {told} }}       # where the columns have their names")
        found.append(f"Excel with {told}")
    return lines


def _check_columns(file: Path, columns: Iterable[str]) -> None:
    """Raises FeedError when a file has no columns, or reserved ones."""
    if not columns:
        raise _without_rows(file)
    if own := [column for column in columns if column.startswith("brenvik_")]:
        raise FeedError(
            f"{file} has columns named {', '.join(own)}: names that begin with brenvik_ are reserved. Rename them in the source."
        )


def _check_rows(file: Path, facts: Mapping[str, Any]) -> None:
    """Raises FeedError when a file has no rows."""
    if not any(its["rows"] for its in facts.values()):
        raise _without_rows(file)


def _without_rows(file: Path) -> FeedError:
    return FeedError(
        f"{file} has no readable rows, so no key and no types can be proposed; expected a file of the feed with some rows."
    )


def _check_text(file: Path) -> None:
    """Raises FeedError when a file is neither text nor of another format that can be read."""
    with file.open("rb") as opened:
        sample = opened.read(_SAMPLE)
    packed = sample[:2] == b"\x1f\x8b"
    if file.suffix.lower() in (".parquet", *WORKBOOKS) or (packed and file.suffix.lower() == ".gz") or not sample:
        return
    encoding = "utf-16" if sample[:2] in (b"\xff\xfe", b"\xfe\xff") else "latin-1"
    text = sample.decode(encoding, errors="replace")
    odd = sum(unicodedata.category(each) == "Cc" and each not in "\t\r\n" for each in text)
    with suppress(UnicodeDecodeError):  # what is UTF-8 has no such characters where it only looks like it
        text = sample.decode("utf-8")
        odd = sum(unicodedata.category(each) == "Cc" and each not in "\t\r\n" for each in text)
    if odd > _MANY_ODD * len(text):
        raise FeedError(
            f"{file} has {odd:,} control characters in its first {len(sample):,} bytes, so it is not a text file; "
            "expected a CSV, JSON Lines, Parquet or Excel file of the feed."
        )


def _parts(file: Path) -> tuple[str, str]:
    """The name of a file without its extension, and the extension, including that of a compressed file."""
    stem = re.sub(r"\.gz$", "", file.name, flags=re.IGNORECASE)
    stem = Path(stem).stem
    return stem, file.name[len(stem) :]


def _written(reading: ReadOptions, *, named_so: bool) -> list[str]:
    """The CSV dialect as entries of a declaration, as far as it must be declared."""
    if reading.dialect is None:
        return []
    fields = {"delimiter": reading.dialect.delimiter, "encoding": reading.dialect.encoding}
    differing = [name for name, value in fields.items() if value != getattr(RFC_4180, name)]
    return [f"{name} = {toml.value(fields[name])}" for name in differing or ([] if named_so else ["delimiter"])]


def _new_names(columns: Iterable[str]) -> dict[str, str]:
    """New names for columns whose names have blanks or marks, as far as they stay distinct."""
    bare = {
        column: column.strip() if re.fullmatch(r"\s*\w+\s*", column) else re.sub(r"\W+", "_", column.lower()).strip("_")
        for column in columns
    }
    taken = Counter(name.lower() for name in bare.values())
    return {column: new for column, new in bare.items() if new and new != column and taken[new.lower()] == 1}


def _rename_lines(renamed: Mapping[str, str], found: list[str]) -> list[str]:
    renamed = {
        old: new for old, new in renamed.items() if old.strip() != new
    }  # blanks around a name do not count anyway
    if not renamed:
        return []
    found.append(
        f"{_many(len(renamed), 'column')} renamed: {', '.join(f'{old} as {new}' for old, new in renamed.items())}"
    )
    entries = ", ".join(f"{toml.key(old)} = {toml.value(new)}" for old, new in renamed.items())
    return [f"rename = {{ {entries} }}"]


def _take(
    work: duckdb.DuckDBPyConnection, file: Path, reading: ReadOptions, renamed: Mapping[str, str]
) -> list[BrokenLine]:
    """Makes ``looked_at``, the first rows of a file; returns the lines that are not rows."""
    batch = batch_of([file], [LoadedFile(file.name, 0, "", number=1)], reading)
    work.register("rows_of_file", batch.rows())
    try:
        columns = ", ".join(f"{sql.quote(name)} AS {sql.quote(renamed.get(name, name))}" for name in batch.columns)
        work.execute(f"CREATE TEMP TABLE looked_at AS SELECT {columns} FROM rows_of_file LIMIT {LOOKED_AT}").fetchall()
    except duckdb.Error:
        if batch.failure:  # raised inside the stream, and wrapped by the engine that read it
            raise batch.failure from None
        raise
    return batch.broken


def _facts(work: duckdb.DuckDBPyConnection, given: Iterable[str], written: Found) -> dict[str, dict[str, Any]]:
    """Per column: rows, nulls, distinct values, which types (or JSON objects) its values are, decimals, and short values in lower
    case."""
    read = ", ".join(f"{written.canonical_text(name)} AS {sql.quote(name)}" for name in given)
    work.execute(f"CREATE TEMP TABLE read_rows AS SELECT {read} FROM looked_at").fetchall()
    facts: dict[str, dict[str, Any]] = {}
    for name in given:
        column = sql.quote(name)
        text = f"CAST({column} AS VARCHAR)"
        tests = {
            "boolean": f"lower({text}) IN ('true', 'false')",
            "integer": rf"regexp_full_match({text}, '-?(0|[1-9]\d*)') AND TRY_CAST({text} AS BIGINT) IS NOT NULL",
            "decimal": rf"regexp_full_match({text}, '-?(0|[1-9]\d*)(\.\d+)?') AND length({text}) < 38",
            "date": rf"regexp_full_match({text}, '\d{{4}}-\d\d-\d\d') AND TRY_CAST({text} AS DATE) IS NOT NULL",
            "timestamp with time zone": rf"regexp_matches({text}, '^\d{{4}}-\d\d-\d\d[ T]\d.*:\d\d.*([zZ]|[+-]\d\d(:?\d\d)?)$') "
            f"AND TRY_CAST({text} AS TIMESTAMP WITH TIME ZONE) IS NOT NULL",
            "timestamp": rf"regexp_matches({text}, '^\d{{4}}-\d\d-\d\d[ T]\d') AND TRY_CAST({text} AS TIMESTAMP) IS NOT NULL",
            "object": f"starts_with({text}, '{{') AND json_valid({text})",
        }
        counts = ", ".join(f"count(*) FILTER (WHERE {test})" for test in tests.values())
        ((rows, there, distinct, decimals, *fits),) = work.execute(
            f"SELECT count(*), count({column}), count(DISTINCT {column}), "
            f"max(length(split_part({text}, '.', 2))), {counts} FROM read_rows"
        ).fetchall()
        values: set[str] = set()
        if 0 < distinct <= len(_CODES) and there == rows:
            values = {v for (v,) in work.execute(f"SELECT DISTINCT lower(trim({text})) FROM read_rows").fetchall()}
        facts[name] = {
            "rows": rows,
            "nulls": rows - there,
            "distinct": distinct,
            "decimals": decimals or 0,
            "fits": {kind: there > 0 and count >= there * 0.9 for kind, count in zip(tests, fits, strict=True)},
            "values": values,
        }
    return facts


def _guess(facts: Mapping[str, Any]) -> ColumnType:
    """The narrowest type that at least nine of ten values fit: a load may reject the others. Decimals have two digits at least,
    since the next file may have a finer value than the first."""
    for kind in _GUESSES:
        if facts["fits"][kind]:
            return parse_type(f"decimal(38,{max(facts['decimals'], 2)})" if kind == "decimal" else kind)
    return parse_type("text")


def _objects(facts: Mapping[str, Mapping[str, Any]]) -> list[str]:
    return [column for column, its in facts.items() if its["fits"]["object"]]


def _keys(facts: Mapping[str, Mapping[str, Any]], types: Mapping[str, ColumnType], operation: str | None) -> list[str]:
    """The column most likely to be the natural key: named like one, early, hardly ever null, not a time."""

    def likeness(column: str) -> tuple[bool, bool, int]:
        named = bool(_NAMED_LIKE_KEY.search(column)) and not _NAMED_LIKE_TIME.search(column)
        often_null = facts[column]["nulls"] > facts[column]["rows"] * 0.1
        return (named, not often_null, -list(facts).index(column))

    no_key = {operation, *_objects(facts)}
    possible = [c for c in facts if c not in no_key and not types[c].is_temporal and types[c].kind != "double"]
    return [max(possible or list(facts), key=likeness)]


def _order(facts: Mapping[str, Mapping[str, Any]], types: Mapping[str, ColumnType], keys: list[str]) -> list[str]:
    """Times first, then numbers, that are named like something that increases with every change."""
    possible = [c for c in facts if c not in keys and types[c].kind in CAN_ORDER and _NAMED_LIKE_TIME.search(c)]
    moments = [c for c in possible if types[c].kind.startswith("timestamp")]
    counters = [c for c in possible if types[c].kind == "integer" and facts[c]["distinct"] > 1]
    if moments:
        return [max(moments, key=lambda c: facts[c]["distinct"]), *counters[:1]]
    return counters[:1]


def _why_key(facts: Mapping[str, Mapping[str, Any]], keys: list[str]) -> str:
    found = facts[keys[0]]
    nulls = f", {found['nulls']:,} empty" if found["nulls"] else ""
    return f"{found['distinct']:,} distinct values in {_many(found['rows'], 'row')}{nulls}"


def _many(number: int, what: str) -> str:
    return f"{number:,} {what}{'' if number == 1 else 's'}"


def _line(key: str, columns: list[str], comment: str) -> str:
    listed = ", ".join(map(toml.value, columns))
    return f"{key} = [{listed}]       # {comment}"


def _aligned(lines: list[str]) -> list[str]:
    """Comments in one column, those of long lines excepted."""
    parts = [line.partition("       # ") for line in lines]
    width = max(len(code) for code, mark, _ in parts if mark and len(code) <= _WIDE)
    return [f"{code:<{width}}  # {comment}" if mark else code for code, mark, comment in parts]


def _relative(folder: Path, base: Path) -> str:
    try:
        relative = folder.resolve().relative_to(base).as_posix()
    except ValueError:
        return folder.resolve().as_posix() + "/"
    return "" if relative == "." else relative + "/"
