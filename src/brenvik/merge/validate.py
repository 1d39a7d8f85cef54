"""From staged rows to changes and rejects: casts, missing keys and orders, operation codes, effective times.

Rows are staged as text or typed, from any source. The same engine (DuckDB) validates them for every store, so that a text
becomes the same value everywhere. This is therefore the one stage written in DuckDB's own dialect.

A value passes only if nothing of it is lost: ``12.0`` is an integer, ``12.5`` is not; a date with a time of day is not a
date; ``1.239`` does not fit decimal(5,2). Fractions of a second beyond the microsecond are the one exception.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache

from brenvik.merge import casts, sequence, sql
from brenvik.merge.capabilities import Capabilities
from brenvik.merge.row_errors import (
    IS_DELETE,
    RowError,
    deletes,
    derived_columns,
    first_beyond,
    joined,
    not_before_open_end,
    row_errors,
    sentence_or_nothing,
    some_deletes,
    storable,
)
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, SEQUENCE_NO, Column, TableSchema
from brenvik.model.feeds import Operations
from brenvik.model.types import ColumnType

STREAM = "brenvik_stream"
PRESENT = "brenvik_present"
"""The column of a stream that identifies which columns a row has, where rows differ."""
IS_INVALID = "brenvik_is_invalid"
"""The column that says whether a row has any error."""
RAW = "brenvik_raw"
"""The column of a stream with the original row, where its columns do not preserve it."""
ORIGINAL = "brenvik_row"
"""The column of staged rows with the original row, where valid rows may be rejected as well."""


@dataclass(frozen=True)
class Staging:
    """A stream of rows on its way into a new working relation: a query over ``STREAM`` in DuckDB's dialect, and the columns of
    its result with their types in the core's dialect.

    Where the store's capabilities say that it ``streams``, ``through`` can be a query in the core's dialect over the relation
    ``into``. Then ``into`` is never made, only the result of that query, as the working relation ``kept_as``.
    """

    into: str
    question: str
    columns: tuple[tuple[str, str], ...]
    through: str | None = None
    kept_as: str = ""
    known: tuple[tuple[str, str], ...] = ()
    """Columns that need not be transferred: a constant, or the name of a column with the same value."""
    order: tuple[str, ...] = ()
    """Columns by which the rows should be sorted, at least chunk by chunk."""

    @property
    def statement(self) -> str:
        """The statement that makes the working relation, in DuckDB's dialect."""
        if not self.through:
            return f"CREATE TEMP TABLE {sql.work(self.into)} AS {self.question}"
        through = sql.in_place(self.through, "$name")
        return (
            f"CREATE TEMP TABLE {sql.work(self.kept_as)} AS WITH {sql.work(self.into)} AS ({self.question}) {through}"
        )


def _effective(schema: TableSchema, values: Mapping[str, str], extract_at: str | None, *, in_store: bool) -> str:
    """The effective time of a row: of its extract, or in one of its columns (``values``), or else that of the whole load."""
    kind, mark = (schema.effective_type.sql, ":") if in_store else (casts.duck(schema.effective_type), "$")
    if extract_at is not None:
        value = extract_at or f"CAST({mark}extract_at AS {kind})"
    elif schema.effective is not None:
        value = values[schema.effective]
    else:
        value = f"CAST({mark}changed_at AS TIMESTAMP)"
    return schema.truncated(value, in_store=in_store)


def _value(
    schema: TableSchema, column: Column, types: Mapping[str, ColumnType], *, in_store: bool, can_delete: bool
) -> str:
    """The value of a column in the type of the table, of a key column in the form of keys."""
    value = _typed_value(schema, column, types, in_store=in_store, can_delete=can_delete)
    return schema.in_key_form(column.name, value, in_store=in_store)


def _typed_value(
    schema: TableSchema, column: Column, types: Mapping[str, ColumnType], *, in_store: bool, can_delete: bool
) -> str:
    """The value of a column in the type of the table. It is null where the feed lacks the column, and where not every store
    could be given it: then the row is rejected anyway, or is a delete, whose values have no effect."""
    if column.name not in types:
        return f"CAST(NULL AS {column.type.sql if in_store else casts.duck(column.type)})"
    if in_store:
        value = f"CAST({sql.quote(column.name)} AS {column.type.sql})"
    else:
        value = casts.cast_of(column.name, types[column.name], column.type)[0]
    if column.type.is_temporal and not (in_store and schema.untyped):
        any_row = column.name in schema.keys or (can_delete and column.name in schema.values)
        fits = casts.within(value, column.type) if any_row else f"NOT {IS_INVALID}"
        return f"CASE WHEN {fits} THEN {value} END"
    if column.type.kind == "text" and not in_store:
        tests = [f"NOT contains({value}, chr(0))"] if "NUL" in schema.store.lacks else []
        tests += [f"{first_beyond(value, schema.store.beyond)} = ''"] if schema.store.beyond else []
        return f"CASE WHEN {' AND '.join(tests)} THEN {value} END" if tests else value
    return value


def _column_set(column_sets: tuple[tuple[int, int], ...]) -> str:
    """The number of the column set of a row."""
    if len({column_set for _, column_set in column_sets}) == 1:
        return f"CAST({column_sets[0][1]} AS INTEGER)"
    cases = " ".join(f"WHEN {present} THEN {number}" for present, number in column_sets)
    return f"CAST(CASE {PRESENT} {cases} END AS INTEGER)"


def _flag(number: int) -> str:
    """The column that says whether a row has an error."""
    return f"brenvik_error_{number}"


def _original(schema: TableSchema, types: Mapping[str, ColumnType], *, keeps_raw: bool, in_store: bool) -> str:
    """The original row, as JSON text."""
    columns = ", ".join(f"{sql.literal(name)}, CAST({sql.quote(name)} AS VARCHAR)" for name in types)
    json_object = schema.store.json_object if in_store else "json_object"
    raw = f"CAST({json_object}({columns}) AS VARCHAR)"
    raw = f"COALESCE({RAW}, {raw})" if keeps_raw else raw
    return raw if in_store else storable(schema.store, raw)


def may_be_beyond(schema: TableSchema, effective: str, *, in_store: bool = True) -> str:
    """A test: whether a trimmed change log may be unable to place a change with this effective time: it is late, and no later
    than the base states of some keys. Needs the parameters ``settled_before`` and ``high_effective``."""
    mark, kind = ":" if in_store else "$", schema.effective_type.sql
    before, high = (f"CAST({mark}{name} AS {kind})" for name in ("settled_before", "high_effective"))
    return f"{effective} < {before} AND {effective} <= {high}"


def _original_beside(schema: TableSchema, original: str, effective: str, *, some_beyond: bool, in_store: bool) -> str:
    """The original row as a further column, where valid rows may be rejected as well; else ''."""
    if some_beyond and not schema.rejects_ties:
        original = f"CASE WHEN {may_be_beyond(schema, effective, in_store=in_store)} THEN {original} END"
    return f", {original} AS {ORIGINAL}" if some_beyond or schema.rejects_ties else ""


def _error_object(schema: TableSchema, errors: tuple[RowError, ...], original: str, *, in_store: bool) -> str:
    """A JSON object about an invalid row, as text: column and value of its first error, all reasons, and the original row. Null
    where no row can be invalid."""
    if not errors:
        return "CAST(NULL AS VARCHAR)"

    def kept(text: str) -> str:
        return text if in_store else storable(schema.store, text)

    json_object = schema.store.json_object if in_store else "json_object"
    first = " ".join(f"WHEN {_flag(number)} THEN {sql.literal(error.column)}" for number, error in enumerate(errors))
    value = " ".join(f"WHEN {_flag(number)} THEN {error.value}" for number, error in enumerate(errors))
    says = [f"CASE WHEN {_flag(number)} THEN {error.says} END" for number, error in enumerate(errors)]
    reasons = joined("; ", says) if in_store else f"concat_ws('; ', {', '.join(says)})"
    return (
        f"CAST({json_object}('column', CASE {first} END, 'value', {kept(f'CASE {value} END')}, "
        f"'reason', {kept(reasons)}, 'row', {original}) AS VARCHAR)"
    )


def _extract_time(schema: TableSchema, column: str, of: ColumnType, *, in_store: bool) -> tuple[str, RowError]:
    """The time of an extract in a column of its rows, and the error of a row without one."""
    cast, test = casts.cast_of(column, of, schema.effective_type)
    value = casts.value_of(column, of, schema.effective_type)
    if in_store:
        cast, test, value = sql.quote(column), "", sql.quote(column)
    says = sentence_or_nothing(column, f"is not a valid {schema.effective_type}, the type of the extract time")
    return cast, RowError(column, sql.any_of([f"{value} IS NULL", test]), says)


def _constants(
    schema: TableSchema, column_sets: tuple[tuple[int, int], ...], is_delete: str, extract_time: str | None
) -> Iterator[tuple[str, str]]:
    """Columns that need not be transferred; see ``Staging.known``."""
    if len({column_set for _, column_set in column_sets}) == 1:
        yield COLUMN_SET, str(column_sets[0][1])
    if is_delete == "0":
        yield DELETE, "0"
    if extract_time is None and schema.effective and schema.time_precision is None:
        yield EFFECTIVE_AT, schema.effective


def _columns(schema: TableSchema, *, some_beyond: bool) -> tuple[tuple[str, str], ...]:
    """The columns of ``staged`` with their types."""
    return (
        *(
            (SEQUENCE_NO, "BIGINT"),
            (COLUMN_SET, "INTEGER"),
            (DELETE, "INTEGER"),
            (EFFECTIVE_AT, schema.effective_type.sql),
        ),
        *((column.name, column.type.sql) for column in schema.columns),
        ("brenvik_error", "TEXT"),
        *([(ORIGINAL, "TEXT")] if schema.rejects_ties or some_beyond else []),
    )


def _with_columns(rows: str, alias: str, columns: Iterable[str]) -> str:
    """Rows with further columns, if any."""
    further = ", ".join(columns)
    return f"(SELECT {alias}.*, {further} FROM {rows} AS {alias})" if further else rows


def _typed_rows(
    schema: TableSchema,
    types: Mapping[str, ColumnType],
    derived: Mapping[str, tuple[str, ColumnType]],
    extract_time: str | None,
    in_store: str | None,
) -> str:
    """The rows of the stream, or those of the relation ``in_store``, with their casts and derived columns."""
    values = [sql.named(value, name) for name, (value, _) in derived.items()]
    if in_store:
        return _with_columns(in_store, "read_rows", values)
    texts, cast = casts.cast_columns(schema, types, extract_time)
    rows = _with_columns(_with_columns(STREAM, "rows_as_written", texts), "rows_as_read", cast)
    further = casts.cast_columns(schema, {name: kind for name, (_, kind) in derived.items()}, None)[1]
    return _with_columns(_with_columns(rows, "read_rows", values), "derived_rows", further)


def _tested_rows(rows: str, errors: tuple[RowError, ...]) -> str:
    """Rows with a flag for each error, and one that says whether they have any."""
    # As CASE, because DuckDB evaluates both sides of "a OR b" where it is a value.
    tests = (f"CASE WHEN {each.test} THEN TRUE ELSE FALSE END AS {_flag(n)}" for n, each in enumerate(errors))
    flags = " OR ".join(_flag(number) for number in range(len(errors))) or "FALSE"
    return _with_columns(_with_columns(rows, "typed_rows", tests), "tested_rows", [f"{flags} AS {IS_INVALID}"])


@lru_cache(maxsize=256)
def validate(
    schema: TableSchema,
    feed: tuple[tuple[str, ColumnType], ...],
    operations: Operations | None,
    column_sets: tuple[tuple[int, int], ...],
    *,
    keeps_raw: bool = False,
    into: str = "staged",
    extract_time: str | None = None,
    scope: str | None = None,
    in_store: str | None = None,
    some_beyond: bool = False,
) -> Staging:
    """Makes ``staged`` from the stream, or from the relation ``in_store``, then in the core's dialect. ``column_sets`` maps
    what a row has to the number of its column set.

    ``staged`` holds, per row: its sequence number and column set, the delete flag, the effective time, the typed columns, and
    ``brenvik_error``: null, or a JSON object with the column and value of its first error, the reasons (all of its errors) and
    the original row; where ties are rejected, also the original of every row (``ORIGINAL``), and with ``some_beyond`` that of
    rows that hold from before ``settled_before``. ``into`` names another relation to make. The effective time of an extract is in
    the column ``extract_time``, or where that is '', the parameter ``extract_at``; a row for which ``scope`` is not true is
    invalid.
    """
    own, inside = dict(feed), bool(in_store)
    derived = derived_columns(schema, own, in_store=inside)
    types = own | {name: kind for name, (_, kind) in derived.items()}
    errors = row_errors(
        schema, tuple(types.items()), operations, is_extract=extract_time is not None, scope=scope, in_store=inside
    )
    extract_at = extract_time
    if extract_time:
        extract_at, error = _extract_time(schema, extract_time, types[extract_time], in_store=inside)
        errors = (error, *not_before_open_end(schema, extract_time, types, in_store=inside), *errors)
    is_delete = IS_DELETE if some_deletes(schema, operations) else "0"
    values = {
        column.name: _value(schema, column, types, in_store=inside, can_delete=is_delete != "0")
        for column in schema.columns
    }
    original = _original(schema, own, keeps_raw=keeps_raw, in_store=inside)
    effective = _effective(schema, values, extract_at, in_store=inside)
    also = _original_beside(schema, original, effective, some_beyond=some_beyond, in_store=inside)
    rows = _typed_rows(schema, own, derived, extract_time, in_store)
    if is_delete == IS_DELETE:
        test = deletes(schema, types, operations, in_store=inside)
        rows = _with_columns(rows, "cast_rows", [f"{test} AS {IS_DELETE}"])
    question = f"""
SELECT
  {SEQUENCE_NO}, {_column_set(column_sets)} AS {COLUMN_SET},
  {is_delete} AS {DELETE},
  {effective} AS {EFFECTIVE_AT},
  {", ".join(sql.named(value, name) for name, value in values.items())},
  CASE WHEN {IS_INVALID} THEN {_error_object(schema, errors, original, in_store=inside)} END AS brenvik_error{also}
FROM {_tested_rows(rows, errors)} AS checked_rows"""
    return Staging(
        into,
        question,
        _columns(schema, some_beyond=some_beyond),
        known=tuple(_constants(schema, column_sets, is_delete, extract_time)),
        order=schema.keys if schema.store.seeks else (),
    )


@lru_cache(maxsize=64)
def find_invalid(relation: str, *, derives: bool, malformed: bool) -> str:
    """The query for ``invalid``: the invalid rows of a relation, and with ``malformed`` the lines that are not rows.

    A row and the change derived from it are rejected together, with the row's own error if it has one.
    """
    taken = ", ".join(
        f"CAST(s.brenvik_error AS JSON) ->> '{name}' AS brenvik_{name}" for name in ("column", "value", "reason", "row")
    )
    rows = sql.work(relation)
    own = sequence.own_of(f"s.{SEQUENCE_NO}") if derives else f"s.{SEQUENCE_NO}"
    only_own = ""
    if derives:
        only_own = f""" AND NOT (s.{SEQUENCE_NO} <> {own} AND EXISTS (
  SELECT 1 FROM {rows} o WHERE o.{SEQUENCE_NO} = {own} AND o.brenvik_error IS NOT NULL))"""
    lines = (
        f" UNION ALL SELECT b.{SEQUENCE_NO}, CAST(NULL AS TEXT), CAST(NULL AS TEXT), b.brenvik_reason, b.brenvik_row "
        f"FROM {sql.work('malformed')} b"
    )
    return (
        f"SELECT {own} AS {SEQUENCE_NO}, {taken} FROM {rows} s WHERE s.brenvik_error IS NOT NULL{only_own}"
        f"{lines if malformed else ''}"
    )


@lru_cache(maxsize=64)
def find_valid(relation: str, *, derives: bool) -> str:
    """The query for the valid rows of a relation."""
    twin = ""
    if derives:
        twin = f""" AND NOT EXISTS (
  SELECT 1 FROM {sql.work("invalid")} f WHERE f.{SEQUENCE_NO} = {sequence.own_of(f"s.{SEQUENCE_NO}")})"""
    return f"SELECT s.* FROM {sql.work(relation)} s WHERE s.brenvik_error IS NULL{twin}"


def also_invalid(
    schema: TableSchema, rows: str, invalid: str, columns: tuple[str, ...], reason: str, kept: tuple[str, ...] = ()
) -> str:
    """The query for staged rows with their errors, in which those whose numbers are in the relation ``invalid`` have one as well,
    in these ``columns``; ``reason`` is an expression over a row ``t`` of it. ``kept`` are further columns of the rows."""
    value = joined(", ", (f"CAST(s.{sql.quote(name)} AS TEXT)" for name in columns))
    error = (
        f"{schema.store.json_object}('column', {sql.literal(', '.join(columns))}, 'value', {value}, "
        f"'reason', {reason}, 'row', s.{ORIGINAL})"
    )
    names = (SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns, *kept)
    return f"""
SELECT {sql.columns(names, "s")},
  CASE WHEN t.{SEQUENCE_NO} IS NULL THEN s.brenvik_error ELSE CAST({error} AS TEXT) END AS brenvik_error
FROM {rows} s
LEFT JOIN {invalid} t ON t.{SEQUENCE_NO} = s.{SEQUENCE_NO}"""


def malformed(store: Capabilities) -> Staging:
    """Makes ``malformed``: lines that are not rows."""
    renamed = (("reason", "brenvik_reason"), ("line_text", "brenvik_row"))
    texts = ", ".join(f"{storable(store, name)} AS {into}" for name, into in renamed)
    columns = ((SEQUENCE_NO, "BIGINT"), *((into, "TEXT") for _, into in renamed))
    return Staging("malformed", f"SELECT {SEQUENCE_NO}, {texts} FROM {STREAM}", columns)
