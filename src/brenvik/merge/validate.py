"""From staged rows to changes and rejects: casts, missing keys and orders, operation codes, effective times.

Staged rows come as text or typed, from any source; they are screened by the same engine (DuckDB) for every store, so
that a text becomes the same value everywhere. This is therefore the one stage written in DuckDB's own flavour.

A value passes only if nothing of it is lost: ``12.0`` is an integer, ``12.5`` is not; a date with a time of day is
none; ``1.239`` does not fit decimal(5,2). Fractions of a second beyond the microsecond are the one exception.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import lru_cache

from brenvik.merge import casts, conditions, sequence, sql
from brenvik.merge.schema import ARRIVAL, DELETE, EFFECTIVE, SHAPE, Blueprint, Column, Traits
from brenvik.model.conditions import columns_of
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


@dataclass(frozen=True)
class Fault:
    """Why a row can be rejected: the columns at fault, the test that finds it, and the sentence that tells it.

    ``says`` is an expression that gives the sentence. Of the columns, ``carried`` are those that the feed has.
    """

    column: str
    test: str
    says: str
    carried: tuple[str, ...] | None = None

    @property
    def value(self) -> str:
        """An expression that gives what stands in the columns, as text."""
        texts = [f"CAST({sql.quote(name)} AS VARCHAR)" for name in self.carried or (self.column,)]
        if self.carried == ():
            return "NULL"
        return texts[0] if len(texts) == 1 else _joined(", ", texts)


def _joined(separator: str, texts: Iterable[str]) -> str:
    """The texts that are not null, one behind the other."""
    parts = (f"COALESCE('{separator}' || {text}, '')" for text in texts)
    return f"substr({' || '.join(parts)}, {len(separator) + 1})"


@lru_cache(maxsize=256)
def faults(
    blueprint: Blueprint,
    feed: tuple[tuple[str, ColumnType], ...],
    operations: Operations | None,
    *,
    is_extract: bool = False,
    scope: str | None = None,
    inside: bool = False,
) -> tuple[Fault, ...]:
    """Every reason for which a row of this feed can be rejected, in the order in which they are told.

    ``inside`` asks for tests in the core's flavour, of rows that stand in the store with the types of the table."""
    types = dict(feed)
    found: list[Fault] = []
    living = ""
    deletes = _delete(blueprint, types, operations, inside=inside)
    if deletes != "0":
        living = f"{deletes} = 0 AND "
    if operations:
        code = f"lower(trim(CAST({sql.quote(operations.column)} AS VARCHAR)))"
        codes = ", ".join(sql.literal(each) for each in (*operations.keeping, *operations.deleting))
        known = ", ".join((*operations.insert, *operations.update, *operations.delete))
        test = f"{code} IS NULL OR {code} NOT IN ({codes})"
        found.append(
            Fault(operations.column, test, _sentence(operations.column, f"is no operation; known are {known}"))
        )
    tells_when = blueprint.effective if not is_extract else None
    for name in dict.fromkeys((*blueprint.keys, *blueprint.order, *filter(None, [tells_when]))):
        says = sql.literal(f"{name} is empty")
        found.append(Fault(name, f"{sql.quote(name)} IS NULL", says))
    for column in blueprint.columns:
        if column.name not in types:
            continue
        guard = living if column.name in blueprint.values else ""
        if inside:
            value, test = sql.quote(column.name), _test_inside(blueprint, column, types[column.name])
        else:
            value, test = casts.cast_of(column.name, types[column.name], column.type, blueprint.time_zone)
            found += _lacks(blueprint, column, types[column.name], guard)
        if not test:
            continue
        if column.type.length is not None:
            length = f"CAST(length(CAST({sql.quote(column.name)} AS VARCHAR)) AS VARCHAR)"
            says = f"{sql.literal(f'{column.name} has ')} || {length} || ' characters, {column.type.length} fit'"
        else:
            says = _sentence(column.name, f"is no {column.type}")
        if column.type.is_temporal and not (inside and blueprint.untyped):
            far = _sentence(column.name, "lies outside of the years 1 to 9999")
            skipped = (
                "" if inside else casts.skipped_in(column.name, types[column.name], column.type, blueprint.time_zone)
            )
            if skipped:
                never = _sentence(column.name, f"was skipped in {blueprint.time_zone}, where the clock was put forward")
                says = f"CASE WHEN {skipped} THEN {never} ELSE {says} END"
            says = f"CASE WHEN isfinite({value}) AND NOT {casts.within(value, column.type)} THEN {far} ELSE {says} END"
        found.append(Fault(column.name, f"{guard}({test})", says))
    found += _too_long(blueprint, types, inside=inside)
    named = list(blueprint.reject_if)
    if scope:  # what an extract says of others could not be told apart from what it does not say
        named.append((f"lies outside of extract_scope: {scope}", f"({scope}) IS NOT TRUE"))
    for name, text in named:
        test = _condition(blueprint, types, text, inside=inside)
        looks_at = columns_of(text)
        carried = tuple(column for column in looks_at if column in types)
        found.append(Fault(", ".join(looks_at), f"{living}({test})", sql.literal(name), carried))
    return tuple(found)


def _too_long(blueprint: Blueprint, types: Mapping[str, ColumnType], *, inside: bool) -> list[Fault]:
    """The fault of keys that are longer than this kind of store can find rows by."""
    most = blueprint.store.longest_key
    names = [name for name in blueprint.keys if blueprint.type_of(name).kind in ("text", "binary")]
    if most is None or not names:
        return []
    texts = (sql.quote(name) if inside else f"CAST({sql.quote(name)} AS VARCHAR)" for name in names)
    size = " + ".join(f"{'octet_length' if inside else 'strlen'}({text})" for text in texts)
    rest = sql.literal(f" bytes long; keys in this store can have at most {most:,}")
    says = f"{sql.literal('the key (' + ', '.join(names) + ') is ')} || CAST({size} AS VARCHAR) || {rest}"
    return [Fault(", ".join(names), f"{size} > {most}", says, tuple(names))]


def _lacks(blueprint: Blueprint, column: Column, of: ColumnType, guard: str) -> list[Fault]:
    """The faults of values that this kind of store cannot hold, though they are of the column's type."""
    value = casts.cast_of(column.name, of, column.type, blueprint.time_zone)[0]
    tests = {
        "NUL": (column.type.kind == "text", f"contains({value}, chr(0))", "holds the character NUL"),
        "NaN": (column.type.kind == "double", f"isnan({value})", "is NaN"),
    }
    beyond = blueprint.store.beyond
    if beyond and column.type.kind == "text":
        first = (
            f"{sql.literal(f'{column.name} holds the character ')} || {_escaped(_first_beyond(value, beyond), beyond)}"
        )
        says = f"{first} || {sql.literal(', which this store cannot hold')}"
        found = [Fault(column.name, f"{guard}({_first_beyond(value, beyond)} <> '')", says)]
    else:
        found = []
    return found + [
        Fault(column.name, f"{guard}({test})", sql.literal(f"{column.name} {says}, which this store cannot hold"))
        for lack, (fits, test, says) in tests.items()
        if fits and lack in blueprint.store.lacks
    ]


def _first_beyond(value: str, beyond: str) -> str:
    """The first character of a text that a store cannot hold; '' where it can hold all of them."""
    return f"regexp_extract({value}, {sql.literal(beyond)})"


def _escaped(text: str, beyond: str) -> str:
    """A text with the characters that a store cannot hold as JSON escapes them."""
    high, low = "55296 + ((unicode(c) - 65536) >> 10)", "56320 + ((unicode(c) - 65536) & 1023)"
    pair = f"printf('\\u%04x\\u%04x', {high}, {low})"
    held = f"NOT regexp_matches(c, {sql.literal(beyond)})"
    one = f"CASE WHEN {held} THEN c WHEN unicode(c) < 65536 THEN printf('\\u%04x', unicode(c)) ELSE {pair} END"
    return f"array_to_string(list_transform(string_split({text}, ''), lambda c: {one}), '')"


def as_told(store: Traits, text: str) -> str:
    """A text that is kept with a reject, in characters that the store can hold."""
    if not store.beyond:
        return text
    return f"CASE WHEN regexp_matches({text}, {sql.literal(store.beyond)}) THEN {_escaped(text, store.beyond)} ELSE {text} END"


def _test_inside(blueprint: Blueprint, column: Column, of: ColumnType) -> str:
    """A test for values that do not fit, though they stand in the store with the column's type."""
    value = sql.quote(column.name)
    if column.type.length is not None and column.type.length != of.length:
        return f"length({value}) > {column.type.length}"
    if blueprint.untyped and column.type.kind != "text":
        return f"brenvik_odd({value}, '{column.type.sql}') = 1"
    return casts.beyond(value, column.type)


def _condition(blueprint: Blueprint, types: Mapping[str, ColumnType], text: str, *, inside: bool) -> str:
    """A condition over the typed values of a row; what a feed does not carry is null."""
    wanted = {column.name: column.type for column in blueprint.columns} | dict(blueprint.beside)
    values = {}
    for name in columns_of(text):
        if name not in types:
            values[name] = f"CAST(NULL AS {wanted[name].sql if inside else casts.duck(wanted[name])})"
        elif inside:
            values[name] = sql.quote(name)
        else:
            values[name] = f"({casts.cast_of(name, types[name], wanted[name], blueprint.time_zone)[0]})"
    return conditions.with_values(text, values, wanted, untyped=inside and blueprint.untyped)


def _sentence(column: str, rest: str) -> str:
    value = f"COALESCE(chr(39) || CAST({sql.quote(column)} AS VARCHAR) || chr(39), 'nothing')"
    return f"{sql.literal(column + ': ')} || {value} || {sql.literal(' ' + rest)}"


def _delete(
    blueprint: Blueprint, types: Mapping[str, ColumnType], operations: Operations | None, *, inside: bool = False
) -> str:
    """Whether a row says that its key is gone, as 0 or 1."""
    tests = []
    if operations:
        tests.append(_says_delete(operations))
    if blueprint.delete_if:
        tests.append(_condition(blueprint, types, blueprint.delete_if, inside=inside))
    return sql.flag(sql.any_of(f"({test})" for test in tests)) if tests else "0"


def _says_delete(operations: Operations) -> str:
    codes = ", ".join(sql.literal(code) for code in operations.deleting)
    return f"lower(trim(CAST({sql.quote(operations.column)} AS VARCHAR))) IN ({codes})"


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
        tests += [f"{_first_beyond(value, blueprint.store.beyond)} = ''"] if blueprint.store.beyond else []
        return f"CASE WHEN {' AND '.join(tests)} THEN {value} END" if tests else value
    return value


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
        says = _sentence(extract_time, f"is no {blueprint.effective_type}, which the time of an extract must be")
        test = sql.any_of([f"{sql.quote(extract_time)} IS NULL", test])
        tests = (Fault(extract_time, test, says), *tests)
        at = f"\n    {cast} AS brenvik_at,"

    def kept(text: str) -> str:
        return text if inside else as_told(blueprint.store, text)

    numbered = " ".join(f"WHEN {fault.test} THEN {number}" for number, fault in enumerate(tests, 1))
    columns = ", ".join(f"{sql.literal(name)}, CAST({sql.quote(name)} AS VARCHAR)" for name in types)
    json_object = blueprint.store.json_object if inside else "json_object"
    raw = f"CAST({json_object}({columns}) AS VARCHAR)"
    raw = f"COALESCE({RAW}, {raw})" if keeps_raw else raw
    first = " ".join(f"WHEN {number} THEN {sql.literal(fault.column)}" for number, fault in enumerate(tests, 1))
    value = " ".join(f"WHEN {number} THEN {fault.value}" for number, fault in enumerate(tests, 1))
    reasons = _joined("; ", (f"CASE WHEN {fault.test} THEN {fault.says} END" for fault in tests))
    told = (
        f"{json_object}('column', CASE brenvik_first {first} END, 'value', {kept(f'CASE brenvik_first {value} END')}, "
        f"'reason', {kept(reasons)}, 'row', {kept(raw)})"
    )
    deletes = _delete(blueprint, types, operations, inside=bool(inside))
    given = [
        f"{_given(blueprint, column, types, inside=bool(inside), some_deletes=deletes != '0')} AS {sql.quote(column.name)}"
        for column in blueprint.columns
    ]
    if len({shape for _, shape in shapes}) == 1:
        shape = f"CAST({shapes[0][1]} AS INTEGER)"
    else:
        cases = " ".join(f"WHEN {carried} THEN {number}" for carried, number in shapes)
        shape = f"CAST(CASE {CARRIED} {cases} END AS INTEGER)"
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
    {ARRIVAL}, {shape} AS {SHAPE}, {deletes} AS {DELETE},
    {sql.listed(*given, sep=", ")},{at}
    CASE WHEN brenvik_first IS NOT NULL THEN CAST({told} AS VARCHAR) END AS brenvik_fault
  FROM (
    SELECT all_rows.*, CASE {numbered} END AS brenvik_first FROM {rows} AS all_rows
  ) AS tested_rows
) AS cast_rows"""
    known = [(SHAPE, str(shapes[0][1]))] if len({shape for _, shape in shapes}) == 1 else []
    known += [(DELETE, "0")] if deletes == "0" else []
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
