"""From staged rows to changes and rejects: casts, missing keys and orders, operation codes, effective times.

Staged rows come as text or typed, from any source; they are screened by the same engine (DuckDB) for every store, so
that a text becomes the same value everywhere. This is therefore the one stage written in DuckDB's own flavour.

A value passes only if nothing of it is lost: ``12.0`` is an integer, ``12.5`` is not; a date with a time of day is
none; ``1.239`` does not fit decimal(5,2). Fractions of a second beyond the microsecond are the one exception.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache

from brenvik.merge import casts, sequence, sql
from brenvik.merge.faults import Fault, as_told, deletes, faults, first_beyond, joined, sentence
from brenvik.merge.schema import ARRIVAL, DELETE, EFFECTIVE, SHAPE, Blueprint, Column, Traits
from brenvik.model.feeds import Operations
from brenvik.model.types import ColumnType

STREAM = "brenvik_stream"
CARRIED = "brenvik_carried"
"""The column of a stream that tells which columns a row carries, where they differ."""
RAW = "brenvik_raw"
"""The column of a stream that holds the row as it came, where its columns do not say all of it."""


@dataclass(frozen=True)
class Staging:
    """A stream of rows on its way into a new working table: a question over ``STREAM`` in DuckDB's own flavour, and the
    columns of its answer with their types in the core's.

    Where the store's traits say that it ``streams``, ``through`` can be a question in the core's flavour over the working
    table ``into``, which then is never made: only the answer is, as the working table ``kept_as``.
    """

    into: str
    question: str
    columns: tuple[tuple[str, str], ...]
    through: str | None = None
    kept_as: str = ""
    known: tuple[tuple[str, str], ...] = ()
    """Columns that need not travel: a number that is the same in all rows, or the name of a column that holds the same."""
    order: tuple[str, ...] = ()
    """Columns by which the rows shall be in order, at least piece by piece."""


def _effective(blueprint: Blueprint, extract_time: str | None, *, inside: bool) -> str:
    kind, mark = (blueprint.effective_type.sql, ":") if inside else (casts.duck(blueprint.effective_type), "$")
    if extract_time is None and blueprint.effective is None:
        value = f"CAST({mark}loaded_at AS TIMESTAMP)"
    elif extract_time is None:
        value = sql.quote(str(blueprint.effective))
    else:
        value = "brenvik_at" if extract_time else f"CAST({mark}extract_at AS {kind})"
    if blueprint.grain is None:
        return value
    cut = f"date_trunc('{blueprint.grain}', {value})"
    return f"CAST({cut} AS {kind})"


def _given(
    blueprint: Blueprint, column: Column, types: Mapping[str, ColumnType], *, inside: bool, some_deletes: bool
) -> str:
    """The value of a column in the type of the table; null where the feed does not carry it, or not every store could be told it:
    then it stands in a row that is refused, or in a delete, of whose values none counts."""
    if column.name not in types:
        return f"CAST(NULL AS {column.type.sql if inside else casts.duck(column.type)})"
    if inside:
        value = f"CAST({sql.quote(column.name)} AS {column.type.sql})"
    else:
        value = casts.cast_of(column.name, types[column.name], column.type, blueprint.time_zone)[0]
    if column.type.is_temporal and not (inside and blueprint.untyped):
        any_row = column.name in blueprint.keys or (some_deletes and column.name in blueprint.values)
        fits = casts.within(value, column.type) if any_row else "brenvik_first IS NULL"
        return f"CASE WHEN {fits} THEN {value} END"
    if column.type.kind == "text" and not inside:
        tests = [f"NOT contains({value}, chr(0))"] if "NUL" in blueprint.store.lacks else []
        tests += [f"{first_beyond(value, blueprint.store.beyond)} = ''"] if blueprint.store.beyond else []
        return f"CASE WHEN {' AND '.join(tests)} THEN {value} END" if tests else value
    return value


def _shape(shapes: tuple[tuple[int, int], ...]) -> str:
    """The number of the shape of a row, by what it carries."""
    if len({shape for _, shape in shapes}) == 1:
        return f"CAST({shapes[0][1]} AS INTEGER)"
    cases = " ".join(f"WHEN {carried} THEN {number}" for carried, number in shapes)
    return f"CAST(CASE {CARRIED} {cases} END AS INTEGER)"


def _told(
    blueprint: Blueprint, tests: tuple[Fault, ...], types: Mapping[str, ColumnType], *, keeps_raw: bool, inside: bool
) -> str:
    """A JSON object that tells what is wrong with a row: column and value of its first fault, all reasons, the row as it came."""

    def kept(text: str) -> str:
        return text if inside else as_told(blueprint.store, text)

    columns = ", ".join(f"{sql.literal(name)}, CAST({sql.quote(name)} AS VARCHAR)" for name in types)
    json_object = blueprint.store.json_object if inside else "json_object"
    raw = f"CAST({json_object}({columns}) AS VARCHAR)"
    raw = f"COALESCE({RAW}, {raw})" if keeps_raw else raw
    first = " ".join(f"WHEN {number} THEN {sql.literal(fault.column)}" for number, fault in enumerate(tests, 1))
    value = " ".join(f"WHEN {number} THEN {fault.value}" for number, fault in enumerate(tests, 1))
    reasons = joined("; ", (f"CASE WHEN {fault.test} THEN {fault.says} END" for fault in tests))
    return (
        f"{json_object}('column', CASE brenvik_first {first} END, 'value', {kept(f'CASE brenvik_first {value} END')}, "
        f"'reason', {kept(reasons)}, 'row', {kept(raw)})"
    )


@lru_cache(maxsize=256)
def screen(
    blueprint: Blueprint,
    feed: tuple[tuple[str, ColumnType], ...],
    operations: Operations | None,
    shapes: tuple[tuple[int, int], ...],
    *,
    keeps_raw: bool = False,
    into: str = "screened",
    extract_time: str | None = None,
    scope: str | None = None,
    inside: str | None = None,
) -> Staging:
    """Makes ``screened`` of the staged stream, or of a relation ``inside`` the store, then in the core's flavour. ``shapes``
    tells the shape of what a row carries.

    ``screened`` holds, per row: its arrival number and shape, the delete flag, the effective time, the typed columns, and
    ``brenvik_fault``: null, or a JSON object with the column and value of its first fault, the reason (all of its faults) and
    the row as it came. With ``into`` another working table is made. The effective time of an extract is that of the column
    ``extract_time``, or where this is '' of the parameter ``extract_at``; a row for which ``scope`` is not true is at fault.
    """
    types = dict(feed)
    tests = faults(
        blueprint, feed, operations, is_extract=extract_time is not None, scope=scope, inside=inside is not None
    )
    at = ""
    if extract_time:
        cast, test = casts.cast_of(extract_time, types[extract_time], blueprint.effective_type, blueprint.time_zone)
        if inside:
            cast, test = sql.quote(extract_time), "1 = 0"
        says = sentence(extract_time, f"is no {blueprint.effective_type}, which the time of an extract must be")
        test = sql.any_of([f"{sql.quote(extract_time)} IS NULL", test])
        tests = (Fault(extract_time, test, says), *tests)
        at = f"\n    {cast} AS brenvik_at,"

    numbered = " ".join(f"WHEN {fault.test} THEN {number}" for number, fault in enumerate(tests, 1))
    is_delete = deletes(blueprint, types, operations, inside=bool(inside))
    given = [
        f"{_given(blueprint, column, types, inside=bool(inside), some_deletes=is_delete != '0')} AS {sql.quote(column.name)}"
        for column in blueprint.columns
    ]
    told = _told(blueprint, tests, types, keeps_raw=keeps_raw, inside=bool(inside))
    rows = inside or STREAM
    if not inside and (readings := casts.readings(blueprint, types, extract_time)):
        rows = f"(SELECT rows_as_read.*, {', '.join(readings)} FROM {STREAM} AS rows_as_read)"
    question = f"""
SELECT
  {ARRIVAL}, {SHAPE}, {DELETE}, {_effective(blueprint, extract_time, inside=bool(inside))} AS {EFFECTIVE},
  {sql.columns(blueprint.carried)},
  brenvik_fault
FROM (
  SELECT
    {ARRIVAL}, {_shape(shapes)} AS {SHAPE}, {is_delete} AS {DELETE},
    {sql.listed(*given, sep=", ")},{at}
    CASE WHEN brenvik_first IS NOT NULL THEN CAST({told} AS VARCHAR) END AS brenvik_fault
  FROM (
    SELECT all_rows.*, CASE {numbered} END AS brenvik_first FROM {rows} AS all_rows
  ) AS tested_rows
) AS cast_rows"""
    known = [(SHAPE, str(shapes[0][1]))] if len({shape for _, shape in shapes}) == 1 else []
    known += [(DELETE, "0")] if is_delete == "0" else []
    if extract_time is None and blueprint.effective and blueprint.grain is None:
        known.append((EFFECTIVE, blueprint.effective))
    made = (
        *((ARRIVAL, "BIGINT"), (SHAPE, "INTEGER"), (DELETE, "INTEGER"), (EFFECTIVE, blueprint.effective_type.sql)),
        *((column.name, column.type.sql) for column in blueprint.columns),
        ("brenvik_fault", "TEXT"),
    )
    order = blueprint.keys if blueprint.store.seeks else ()
    return Staging(into, question, made, known=tuple(known), order=order)


@lru_cache(maxsize=4)
def take_out_rejected(*, derives: bool, relation: str = "screened") -> tuple[str, str]:
    """Two statements: the rows with a fault into ``faulty``, and out of ``screened`` (or another relation).

    Where changes are derived, a row and what is derived of it are refused together, for the fault of the row if it has one.
    """
    taken = ", ".join(
        f"CAST(s.brenvik_fault AS JSON) ->> '{name}' AS brenvik_{name}" for name in ("column", "value", "reason", "row")
    )
    screened = sql.work(relation)
    own = sequence.own_of(f"s.{ARRIVAL}") if derives else f"s.{ARRIVAL}"
    only_own = twin = ""
    if derives:
        only_own = f""" AND NOT (s.{ARRIVAL} <> {own} AND EXISTS (
  SELECT 1 FROM {screened} o WHERE o.{ARRIVAL} = {own} AND o.brenvik_fault IS NOT NULL))"""
        twin = f""" OR EXISTS (
  SELECT 1 FROM {sql.work("faulty")} f WHERE f.{ARRIVAL} = {sequence.own_of(f"{screened}.{ARRIVAL}")})"""
    return (
        f"CREATE TEMP TABLE {sql.work('faulty')} AS "
        f"SELECT {own} AS {ARRIVAL}, {taken} FROM {screened} s WHERE s.brenvik_fault IS NOT NULL{only_own}",
        f"DELETE FROM {screened} WHERE brenvik_fault IS NOT NULL{twin}",
    )


def broken(store: Traits) -> Staging:
    """Makes ``broken``: lines that are no rows."""
    told = (("reason", "brenvik_reason"), ("line_text", "brenvik_row"))
    texts = ", ".join(f"{as_told(store, name)} AS {into}" for name, into in told)
    columns = ((ARRIVAL, "BIGINT"), *((into, "TEXT") for _, into in told))
    return Staging("broken", f"SELECT {ARRIVAL}, {texts} FROM {STREAM}", columns)


def add_broken() -> str:
    """Adds ``broken`` to ``faulty``."""
    return (
        f"INSERT INTO {sql.work('faulty')} ({ARRIVAL}, brenvik_reason, brenvik_row) "
        f"SELECT b.{ARRIVAL}, b.brenvik_reason, b.brenvik_row FROM {sql.work('broken')} b"
    )
