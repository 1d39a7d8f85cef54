"""An extract compared with the table: its rows, and what is absent, become changes at the extract's time.

A row that equals the current version of its key is only counted. Where a key occurs twice, all of its rows become changes, so
that the last one counts. A current key that is absent is deleted; unless its row was rejected, which shows that it is there.

``extract_diff`` holds what remains when equal rows are left out: rows that differ, rows without a current version
(``brenvik_matched`` is 0), and the keys of current versions without a row (no sequence number). It includes the stored values,
so that neither of the two large sides is needed again: a store that can read a stream while a query runs never holds
``extract_rows``, but compares them as they come (``diff_of_stream``). They are needed only to find rows that were left out
although their key occurs twice (``duplicated_rows``).
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from brenvik.merge import conditions, row_ids, sql
from brenvik.merge.current_path import any_differs, before_column
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, SEQUENCE_NO, TableSchema

EXTRACT_ROWS, EXTRACT_DIFF = "extract_rows", "extract_diff"
READ_ROWS = "read_rows"
"""The valid rows of a source that was read in full."""
DIFF_OF_STREAM = "diff_of_stream"
"""Rows that were compared while they were read, the invalid ones among them."""


def _of_row(schema: TableSchema) -> tuple[str, ...]:
    """The columns of ``extract_diff`` that come from a row, besides its key."""
    others = (name for name in schema.change_columns if name not in schema.keys)
    return (SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *others, "brenvik_error")


@lru_cache(maxsize=256)
def find_rejected_keys(schema: TableSchema, relation: str) -> str:
    """The query for ``rejected_keys`` from the invalid rows of a relation, as far as their keys can be read and no valid row
    has the same key."""
    rows, same = sql.work(relation), sql.same("g", "e", schema.keys)
    there = " AND ".join(f"e.{sql.quote(name)} IS NOT NULL" for name in schema.keys)
    return f"""
SELECT DISTINCT {sql.columns(schema.keys, "e")} FROM {rows} e
WHERE e.brenvik_error IS NOT NULL AND {there}
  AND NOT EXISTS (SELECT 1 FROM {rows} g WHERE g.{SEQUENCE_NO} IS NOT NULL AND g.brenvik_error IS NULL AND {same})"""


@lru_cache(maxsize=256)
def compare(schema: TableSchema, scope: str | None) -> str:
    """The query for ``extract_diff``; current versions outside of ``scope`` cannot be absent.

    Nearly all rows are equal, so each column is first compared with ``=``, which engines answer faster than a null-safe
    comparison; only nulls need the latter.
    """
    key, absent = f"t.{sql.quote(schema.keys[0])}", f"c.{SEQUENCE_NO} IS NULL"
    new, matched = f"{key} IS NULL", f"{key} IS NOT NULL"
    differing = (
        f"CASE WHEN {sql.same('c', 't', (name,))} THEN FALSE ELSE {any_differs(schema, (name,))} END"
        for name in schema.values
        if name not in schema.not_compared
    )
    where = sql.any_of([new, absent, *differing])
    if schema.delete_if:  # else the flag is always 0; deleting an absent key changes nothing
        where = f"CASE WHEN c.{DELETE} = 1 THEN {matched} ELSE {where} END"
    if scope:
        where = f"CASE WHEN {absent} THEN {conditions.of_row(scope, 't', schema)} ELSE {where} END"
    keys = (f"COALESCE(c.{sql.quote(name)}, t.{sql.quote(name)}) AS {sql.quote(name)}" for name in schema.keys)
    before = (f"t.{sql.quote(name)} AS {before_column(schema, name)}" for name in schema.stored_values)
    shown = (*keys, sql.columns(_of_row(schema), "c"), row_ids.listed(schema, "t"), *before)
    return f"""
SELECT {sql.listed(*shown, sep=", ")}, {sql.flag(matched)} AS brenvik_matched
FROM {sql.work(EXTRACT_ROWS)} c
FULL JOIN (
  SELECT {row_ids.taken(schema, "v")}, {sql.columns((*schema.keys, *schema.stored_values), "v")}
  FROM {sql.relation(schema.table)} v
  WHERE {schema.is_current("v")}
) t ON {sql.same("t", "c", schema.keys)}
WHERE c.brenvik_error IS NOT NULL OR {where}"""


@lru_cache(maxsize=256)
def matched_versions(schema: TableSchema) -> str:
    """The current versions in ``extract_diff``, as a relation in parentheses that can stand in for the table. Only valid
    where each key occurs once."""
    values = {name: f"m.{sql.quote(name)}" for name in schema.keys}
    values |= {name: f"m.{before_column(schema, name)}" for name in schema.stored_values}
    values |= {column: f"m.{name}" for column, name in schema.row_ids if column not in values}
    return f"""(
  SELECT {", ".join(f"{value} AS {sql.quote(name)}" for name, value in values.items())}
  FROM {sql.work(EXTRACT_DIFF)} m WHERE m.brenvik_matched = 1)"""


@lru_cache(maxsize=256)
def count_rows(schema: TableSchema, relation: str, *, first: bool) -> str:
    """Of a relation like ``extract_diff``: how many rows are ``invalid``, how many of these match a current version
    (``invalid_matched``), how many others are ``new``, how many versions are ``absent`` and how many ``current_keys``; and the
    extract's time (``at``), truncated to the time precision, as text, and whether it is ``late`` (0 or 1).

    Each current version is absent or was read; whatever was read beyond that was read twice.
    """
    good = f"d.{SEQUENCE_NO} IS NOT NULL AND d.brenvik_error IS NULL"
    at = schema.truncated(f"CAST(:extract_at AS {schema.effective_type.sql})")
    return f"""
SELECT count(d.brenvik_error) AS invalid,
  {sql.count_if("d.brenvik_error IS NOT NULL AND d.brenvik_matched = 1")} AS invalid_matched,
  {sql.count_if(f"{good} AND d.brenvik_matched = 0")} AS new,
  count(*) - count(d.{SEQUENCE_NO}) AS absent,
  ({count_current_keys(schema)}) AS current_keys,
  CAST({at} AS TEXT) AS at,
  {sql.flag(f"{at} <= CAST(:high_effective AS {schema.effective_type.sql})") if not first else 0} AS late
FROM {sql.work(relation)} d"""


@lru_cache(maxsize=256)
def find_duplicated_rows(schema: TableSchema) -> str:
    """All rows of ``extract_rows`` whose keys occur more than once and that are not in ``extract_diff``."""
    keys, names = sql.columns(schema.keys, "e"), _of_change(schema)
    return f"""
SELECT {sql.columns(names, "c")} FROM {sql.work(EXTRACT_ROWS)} c
JOIN (
  SELECT {keys} FROM {sql.work(EXTRACT_ROWS)} e GROUP BY {keys} HAVING count(*) > 1
) w ON {sql.same("w", "c", schema.keys)}
WHERE NOT EXISTS (SELECT 1 FROM {sql.work(EXTRACT_DIFF)} d WHERE d.{SEQUENCE_NO} = c.{SEQUENCE_NO})"""


def _of_change(schema: TableSchema) -> tuple[str, ...]:
    return (SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns, "brenvik_error")


@lru_cache(maxsize=256)
def find_absent_keys(schema: TableSchema, *, some_rejected: bool, some_pending: bool, column_set: int) -> str:
    """A delete for each current key that is absent; numbered from the parameter ``absent_from``."""
    rejected = f"""
  AND NOT EXISTS (SELECT 1 FROM {sql.work("rejected_keys")} r WHERE {sql.same("r", "d", schema.keys)})"""
    pending = f"""
  AND NOT EXISTS (SELECT 1 FROM {sql.work("pending_keys")} h WHERE {sql.same("h", "d", schema.keys)})"""
    at = f"CAST(:extract_at AS {schema.effective_type.sql})"
    return f"""
SELECT {_delete(schema, "d", {EFFECTIVE_AT: at}, column_set=column_set)}
FROM {sql.work(EXTRACT_DIFF)} d
WHERE d.{SEQUENCE_NO} IS NULL{rejected if some_rejected else ""}{pending if some_pending else ""}"""


def _delete(schema: TableSchema, alias: str, times: Mapping[str, str], *, column_set: int) -> str:
    """Select items: a delete of the key of a row; ``times`` are its effective time and its order."""
    number = f"CAST(:absent_from AS BIGINT) + 2 * row_number() OVER (ORDER BY {sql.columns(schema.keys, alias)})"
    given = {SEQUENCE_NO: number, COLUMN_SET: str(column_set), DELETE: "1", "brenvik_error": "CAST(NULL AS TEXT)"}
    given |= {**times, **{name: f"{alias}.{sql.quote(name)}" for name in schema.keys}}
    items = (
        sql.named(given.get(name) or f"CAST(NULL AS {schema.type_of(name).sql})", name) for name in _of_change(schema)
    )
    return sql.listed(*items)


def absent_at(index: int) -> str:
    """The parameter with the time of an absence, in the form of the effective time (0) or of an order column (from 1 on)."""
    return f"absent_at_{index}"


@lru_cache(maxsize=256)
def find_keys_not_read(schema: TableSchema, *, some_pending: bool, column_set: int) -> str:
    """A delete for each current key without a row in ``staged``, be it valid or not, of a source that was read in full; numbered
    from ``absent_from``."""
    times = {
        name: f"CAST(:{absent_at(index)} AS {schema.type_of(name).sql})" for index, name in enumerate(schema.order, 1)
    }
    at = f"CAST(:{absent_at(0)} AS {schema.effective_type.sql})"
    if schema.effective and schema.effective not in times:
        times[schema.effective] = at
    times[EFFECTIVE_AT] = schema.truncated(at)
    read = f"SELECT 1 FROM {sql.work('staged')} s WHERE {sql.same('s', 'd', schema.keys)}"
    pending = f"SELECT 1 FROM {sql.work('pending_keys')} h WHERE {sql.same('h', 'd', schema.keys)}"
    return f"""
SELECT {_delete(schema, "d", times, column_set=column_set)}
FROM {sql.relation(schema.table)} d
WHERE {schema.is_current("d")} AND NOT EXISTS ({read}){f" AND NOT EXISTS ({pending})" if some_pending else ""}"""


@lru_cache(maxsize=256)
def with_absent_keys(schema: TableSchema) -> str:
    """The query for ``accepted``: the valid rows, and the deletes of absent keys."""
    names = sql.columns(_of_change(schema), "d")
    return f"SELECT {names} FROM {sql.work(READ_ROWS)} d UNION ALL SELECT {names} FROM {sql.work('absent_keys')} d"


@lru_cache(maxsize=256)
def extract_changes(schema: TableSchema, *, duplicated: bool, absent: bool) -> str:
    """The query for ``extract_changes``: the rows in ``extract_diff``, and those of duplicated and absent keys."""
    names = sql.columns(_of_change(schema), "d")
    parts = [f"SELECT {names} FROM {sql.work(EXTRACT_DIFF)} d WHERE d.{SEQUENCE_NO} IS NOT NULL"]
    parts += [f"SELECT {names} FROM {sql.work('duplicated_rows')} d"] if duplicated else []
    parts += [f"SELECT {names} FROM {sql.work('absent_keys')} d"] if absent else []
    return " UNION ALL ".join(parts)


def times(relation: str) -> str:
    """The earliest and the latest time of the rows of an extract, as text; and how many are ``invalid``."""
    return (
        f"SELECT count(e.brenvik_error) AS invalid, CAST(min(e.{EFFECTIVE_AT}) AS TEXT) AS earliest, "
        f"CAST(max(e.{EFFECTIVE_AT}) AS TEXT) AS latest FROM {sql.work(relation)} e"
    )


def count_current_keys(schema: TableSchema, scope: str | None = None) -> str:
    """How many keys of the table, or of the part ``scope`` of it, are current (``n``)."""
    within = f" AND ({conditions.of_row(scope, 't', schema)})" if scope else ""
    return f"SELECT count(*) AS n FROM {sql.relation(schema.table)} t WHERE {schema.is_current('t')}{within}"
