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

from brenvik.core import arrivals, conditions, sql
from brenvik.core.blueprint import ARRIVAL, DELETE, EFFECTIVE, SHAPE, Blueprint
from brenvik.types import ColumnType

STREAM = "brenvik_stream"
CARRIED = "brenvik_carried"
"""The column of a stream that tells which columns a row carries, where they differ."""
RAW = "brenvik_raw"
"""The column of a stream that holds the row as it came, where its columns do not say all of it."""

_WHOLE = r"\s*[+-]?\d+(\.0*)?\s*"
_HAS_ZONE = r".*:\d{2}(\.\d+)?\s*([zZ]|[+-]\d{2}(:?\d{2})?|[A-Za-z]+[A-Za-z/_]*)\s*"


@dataclass(frozen=True)
class Operations:
    """Which codes of which column say insert, update or delete; compared without case and outer blanks."""

    column: str
    insert: tuple[str, ...] = ("i", "insert")
    update: tuple[str, ...] = ("u", "update")
    delete: tuple[str, ...] = ("d", "delete")

    @property
    def keeping(self) -> tuple[str, ...]:
        return tuple(code.strip().lower() for code in (*self.insert, *self.update))

    @property
    def deleting(self) -> tuple[str, ...]:
        return tuple(code.strip().lower() for code in self.delete)


@dataclass(frozen=True)
class Fault:
    """Why a row can be rejected: the column at fault, the test that finds it, and the sentence that tells it.

    ``says`` is an expression that gives the sentence.
    """

    column: str
    test: str
    says: str


def _text_cast(value: str, to: ColumnType, zone: str) -> tuple[str, str]:
    """The cast of a text, and a test for texts that must not be cast."""
    cast = f"TRY_CAST({value} AS {_duck(to)})"
    match to.kind:
        case "integer":
            return cast, f"NOT regexp_full_match({value}, '{_WHOLE}')"
        case "decimal":
            some = rf"\d+(\.\d{{0,{to.scale}}}0*)?|\.\d{{1,{to.scale}}}0*" if to.scale else r"\d+(\.0*)?"
            return cast, rf"NOT regexp_full_match({value}, '\s*[+-]?({some})\s*')"
        case "double":
            return cast, f"contains({value}, '_')"
        case "date":
            return cast, f"(NOT isfinite({cast}) OR TRY_CAST({value} AS TIMESTAMP) <> CAST({cast} AS TIMESTAMP))"
        case "timestamp":
            return cast, f"NOT isfinite({cast})"
        case "timestamp with time zone":
            if zone.upper() != "UTC":
                local = f"timezone({_literal(zone)}, TRY_CAST({value} AS TIMESTAMP))"
                cast = f"CASE WHEN regexp_full_match({value}, '{_HAS_ZONE}') THEN {cast} ELSE {local} END"
            return cast, f"NOT isfinite({cast})"
    return cast, ""


def _typed_cast(value: str, of: ColumnType, to: ColumnType, zone: str) -> tuple[str, str]:
    cast = f"TRY_CAST({value} AS {_duck(to)})"
    if (of.kind, to.kind) == ("timestamp", "timestamp with time zone"):
        return f"timezone({_literal(zone)}, {value})", f"NOT isfinite({value})"
    if (of.kind, to.kind) == ("timestamp with time zone", "timestamp"):
        return f"timezone('UTC', {value})", f"NOT isfinite({value})"
    if to.kind in {"text", "binary"} or of.kind == to.kind != "decimal":
        return cast, ""
    return cast, f"CAST({cast} AS {_duck(of)}) IS DISTINCT FROM {value}"


def _duck(kind: ColumnType) -> str:
    return {"BYTEA": "BLOB", "DOUBLE PRECISION": "DOUBLE"}.get(kind.sql, kind.sql)


def _literal(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def _cast(name: str, of: ColumnType, to: ColumnType, zone: str) -> tuple[str, str]:
    """The value of a feed's column in the type of the table, and a test for values that do not fit."""
    value = sql.quote(name)
    if of.kind == to.kind and (of.kind != "decimal" or (of.precision, of.scale) == (to.precision, to.scale)):
        too_long = f"length({value}) > {to.length}" if to.length is not None and of.length != to.length else ""
        infinite = f"NOT isfinite({value})" if to.is_temporal else ""
        return value, too_long or infinite
    if of.kind == "text":
        cast, never = _text_cast(value, to, zone)
    else:
        cast, never = _typed_cast(value, of, to, zone)
    if to.length is not None:
        return cast, f"length({cast}) > {to.length}"
    return cast, f"{value} IS NOT NULL AND {sql.any_of([f'({cast}) IS NULL', never])}"


@lru_cache(maxsize=256)
def faults(
    blueprint: Blueprint,
    feed: tuple[tuple[str, ColumnType], ...],
    operations: Operations | None,
    *,
    is_extract: bool = False,
) -> tuple[Fault, ...]:
    """Every reason for which a row of this feed can be rejected, in the order in which they are told."""
    types = dict(feed)
    found: list[Fault] = []
    living = ""
    deletes = _delete(blueprint, types, operations)
    if deletes != "0":
        living = f"{deletes} = 0 AND "
    if operations:
        code = f"lower(trim(CAST({sql.quote(operations.column)} AS VARCHAR)))"
        codes = ", ".join(_literal(each) for each in (*operations.keeping, *operations.deleting))
        known = ", ".join((*operations.insert, *operations.update, *operations.delete))
        test = f"{code} IS NULL OR {code} NOT IN ({codes})"
        found.append(
            Fault(operations.column, test, _sentence(operations.column, f"is no operation; known are {known}"))
        )
    tells_when = blueprint.effective if not is_extract else None
    for name in dict.fromkeys((*blueprint.keys, *blueprint.order, *filter(None, [tells_when]))):
        says = _literal(f"{name} is empty")
        found.append(Fault(name, f"{sql.quote(name)} IS NULL", says))
    for column in blueprint.columns:
        if column.name not in types:
            continue
        test = _cast(column.name, types[column.name], column.type, blueprint.time_zone)[1]
        if not test:
            continue
        if column.type.length is not None:
            length = f"length(CAST({sql.quote(column.name)} AS VARCHAR))"
            says = f"concat({_literal(column.name)}, ' has ', {length}, ' characters, {column.type.length} fit')"
        else:
            says = _sentence(column.name, f"is no {column.type}")
        guard = living if column.name in blueprint.values else ""
        found.append(Fault(column.name, f"{guard}({test})", says))
    for name, text in blueprint.reject_if:
        test = conditions.in_duckdb(text, _values(blueprint, types, text))
        found.append(Fault(", ".join(conditions.columns_of(text)), f"{living}({test})", _literal(name)))
    return tuple(found)


def _values(blueprint: Blueprint, types: Mapping[str, ColumnType], text: str) -> dict[str, str]:
    """The columns that a condition names as typed values; what a feed does not carry is null."""
    wanted = {column.name: column.type for column in blueprint.columns} | dict(blueprint.beside)
    return {
        name: _cast(name, types[name], wanted[name], blueprint.time_zone)[0]
        if name in types
        else f"CAST(NULL AS {_duck(wanted[name])})"
        for name in conditions.columns_of(text)
    }


def _sentence(column: str, rest: str) -> str:
    value = f"COALESCE(chr(39) || CAST({sql.quote(column)} AS VARCHAR) || chr(39), 'nothing')"
    return f"concat({_literal(column + ': ')}, {value}, {_literal(' ' + rest)})"


def _delete(blueprint: Blueprint, types: Mapping[str, ColumnType], operations: Operations | None) -> str:
    """Whether a row says that its key is gone, as 0 or 1."""
    tests = []
    if operations:
        tests.append(_says_delete(operations))
    if blueprint.delete_if:
        tests.append(conditions.in_duckdb(blueprint.delete_if, _values(blueprint, types, blueprint.delete_if)))
    return sql.flag(sql.any_of(f"({test})" for test in tests)) if tests else "0"


def _says_delete(operations: Operations) -> str:
    codes = ", ".join(_literal(code) for code in operations.deleting)
    return f"lower(trim(CAST({sql.quote(operations.column)} AS VARCHAR))) IN ({codes})"


def _effective(blueprint: Blueprint, extract_time: str | None) -> str:
    kind = _duck(blueprint.effective_type)
    if extract_time is None and blueprint.effective is None:
        return "CAST($loaded_at AS TIMESTAMP)"
    if extract_time is None:
        value = sql.quote(str(blueprint.effective))
    else:
        value = "brenvik_at" if extract_time else f"CAST($extract_at AS {kind})"
    if blueprint.grain is None:
        return value
    cut = f"date_trunc('{blueprint.grain}', {value})"
    return f"CAST({cut} AS {kind})"


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
) -> str:
    """The statement that makes ``screened`` of the staged stream; ``shapes`` tells the shape of what a row carries.

    ``screened`` holds, per row: its arrival number and shape, the delete flag, the effective time, the typed columns,
    With ``into`` another working table is made. The effective time of an extract is that of the column ``extract_time``, or
    where this is '' of the parameter ``extract_at``.
    ``brenvik_fault``: null, or a JSON object with the column and value of its first fault, the reason (all of its
    faults) and the row as it came.
    """
    types = dict(feed)
    tests = faults(blueprint, feed, operations, is_extract=extract_time is not None)
    at = ""
    if extract_time:
        cast, test = _cast(extract_time, types[extract_time], blueprint.effective_type, blueprint.time_zone)
        says = _sentence(extract_time, f"is no {blueprint.effective_type}, which the time of an extract must be")
        test = sql.any_of([f"{sql.quote(extract_time)} IS NULL", test])
        tests = (Fault(extract_time, test, says), *tests)
        at = f"\n    {cast} AS brenvik_at,"
    some = sql.any_of(f"({fault.test})" for fault in tests)
    columns = ", ".join(f"{_literal(name)}, CAST({sql.quote(name)} AS VARCHAR)" for name in types)
    raw = f"CAST(json_object({columns}) AS VARCHAR)"
    raw = f"COALESCE({RAW}, {raw})" if keeps_raw else raw
    first = " ".join(f"WHEN {fault.test} THEN {_literal(fault.column)}" for fault in tests)
    value = " ".join(f"WHEN {fault.test} THEN CAST({sql.quote(fault.column)} AS VARCHAR)" for fault in tests)
    reasons = ", ".join(f"CASE WHEN {fault.test} THEN {fault.says} END" for fault in tests)
    told = (
        f"json_object('column', CASE {first} END, 'value', CASE {value} END, "
        f"'reason', concat_ws('; ', {reasons}), 'row', {raw})"
    )
    casts = [
        f"{_cast(column.name, types[column.name], column.type, blueprint.time_zone)[0]} AS {sql.quote(column.name)}"
        if column.name in types
        else f"CAST(NULL AS {_duck(column.type)}) AS {sql.quote(column.name)}"
        for column in blueprint.columns
    ]
    if len({shape for _, shape in shapes}) == 1:
        shape = f"CAST({shapes[0][1]} AS INTEGER)"
    else:
        cases = " ".join(f"WHEN {carried} THEN {number}" for carried, number in shapes)
        shape = f"CAST(CASE {CARRIED} {cases} END AS INTEGER)"
    return f"""
CREATE TEMP TABLE {sql.work(into)} AS
SELECT
  {ARRIVAL}, {SHAPE}, {DELETE}, {_effective(blueprint, extract_time)} AS {EFFECTIVE},
  {sql.columns(blueprint.carried)},
  brenvik_fault
FROM (
  SELECT
    {ARRIVAL}, {shape} AS {SHAPE}, {_delete(blueprint, types, operations)} AS {DELETE},
    {sql.listed(*casts, sep=", ")},{at}
    CASE WHEN {some} THEN CAST({told} AS VARCHAR) END AS brenvik_fault
  FROM {STREAM}
) AS cast_rows"""


@lru_cache(maxsize=4)
def take_out_rejected(*, derives: bool, relation: str = "screened") -> tuple[str, str]:
    """Two statements: the rows with a fault into ``faulty``, and out of ``screened`` (or another relation).

    Where changes are derived, a row and what is derived of it are refused together, for the fault of the row if it has one.
    """
    taken = ", ".join(
        f"json_extract_string(s.brenvik_fault, '$.{name}') AS brenvik_{name}"
        for name in ("column", "value", "reason", "row")
    )
    screened = sql.work(relation)
    own = arrivals.own_of(f"s.{ARRIVAL}") if derives else f"s.{ARRIVAL}"
    only_own = twin = ""
    if derives:
        only_own = f""" AND NOT (s.{ARRIVAL} <> {own} AND EXISTS (
  SELECT 1 FROM {screened} o WHERE o.{ARRIVAL} = {own} AND o.brenvik_fault IS NOT NULL))"""
        twin = f""" OR EXISTS (
  SELECT 1 FROM {sql.work("faulty")} f WHERE f.{ARRIVAL} = {arrivals.own_of(f"{screened}.{ARRIVAL}")})"""
    return (
        f"CREATE TEMP TABLE {sql.work('faulty')} AS "
        f"SELECT {own} AS {ARRIVAL}, {taken} FROM {screened} s WHERE s.brenvik_fault IS NOT NULL{only_own}",
        f"DELETE FROM {screened} WHERE brenvik_fault IS NOT NULL{twin}",
    )


def add_broken() -> str:
    """Adds a stream of lines that are no rows (arrival number, reason, text) to ``faulty``."""
    return (
        f"INSERT INTO {sql.work('faulty')} ({ARRIVAL}, brenvik_reason, brenvik_row) "
        f"SELECT {ARRIVAL}, reason, line_text FROM {STREAM}"
    )
