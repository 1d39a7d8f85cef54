"""Existing tables: whether their rows form a timeline, and their versions as the changes of a first run."""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import row_ids, sql
from brenvik.merge.row_changes import UpdateRows
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, RUN, SEQUENCE_NO, TableSchema
from brenvik.model.types import ColumnType

LOWEST = {
    "integer": (str(-(2**63)), str(-(2**63) + 1)),
    "date": ("0001-01-01", "0001-01-02"),
    "timestamp": ("0001-01-01 00:00:00", "0001-01-01 00:00:00.000001"),
    "timestamp with time zone": ("0001-01-01 00:00:00+00:00", "0001-01-01 00:00:00.000001+00:00"),
}
"""For rows without a start time or an order: the lowest value, and the one right after it."""


def lowest(kind: ColumnType) -> str:
    """The lowest value of a type that can order, as text."""
    if kind.kind != "decimal":
        return LOWEST[kind.kind][0]
    digits = "9" * kind.precision
    whole, rest = digits[: kind.precision - kind.scale] or "0", digits[kind.precision - kind.scale :]
    return f"-{whole}.{rest}" if rest else f"-{whole}"


def low_values(schema: TableSchema) -> dict[str, str]:
    """The parameters of ``versions_as_changes``."""
    first, second = LOWEST[schema.effective_type.kind]
    others = {f"low_{i}": lowest(schema.type_of(name)) for i, name in enumerate(schema.order)}
    return {"low": first, "low_next": second, **others}


@lru_cache(maxsize=64)
def count_timeline_errors(schema: TableSchema) -> str:
    """One row of counts: what keeps the table's rows from being a timeline. The names are those of
    ``TIMELINE_ERRORS``."""
    own, table = schema.system_column, sql.relation(schema.table)
    null_key = sql.any_of(f"t.{sql.quote(name)} IS NULL" for name in schema.keys)
    current = schema.is_current("t")
    keys = sql.columns(schema.keys, "t")
    items = [
        f"(SELECT count(*) FROM {table} t WHERE {null_key}) AS null_keys",
        f"(SELECT count(*) FROM (SELECT {keys} FROM {table} t WHERE {current} GROUP BY {keys} HAVING count(*) > 1) s) AS current",
    ]
    if start := own("valid_from"):
        begins = f"t.{sql.quote(start)}"
        items.append(f"(SELECT count(*) FROM {table} t WHERE {begins} IS NULL) AS no_start")
        if end := own("valid_to"):
            ends = f"t.{sql.quote(end)}"
            items.append(
                f"(SELECT count(*) FROM {table} t WHERE NOT ({current}) AND ({ends} IS NULL OR {ends} <= {begins})) AS backwards"
            )
            items.append(f"""(SELECT count(*) FROM (
  SELECT {ends} AS brenvik_end, lead({begins}) OVER (PARTITION BY {keys} ORDER BY {begins}) AS brenvik_next,
    {sql.flag(current)} AS brenvik_open
  FROM {table} t WHERE {begins} IS NOT NULL
) s WHERE s.brenvik_next IS NOT NULL AND (s.brenvik_open = 1 OR s.brenvik_next < s.brenvik_end)) AS overlapping""")
    if schema.formed_keys:
        values = {name: f"t.{sql.quote(name)}" for name in schema.formed_keys}
        other = sql.any_of(f"{value} <> {schema.in_key_form(name, value)}" for name, value in values.items())
        items.append(f"(SELECT count(*) FROM {table} t WHERE {other}) AS other_form")
    if not schema.has_versions:
        several = f"SELECT {keys} FROM {table} t GROUP BY {keys} HAVING count(*) > 1"
        items.append(f"(SELECT count(*) FROM ({several}) s) AS several")
    if (column := own("is_current")) and own("valid_to"):
        flag = sql.flag(f"t.{sql.quote(column)} = TRUE")
        items.append(f"(SELECT count(*) FROM {table} t WHERE {flag} <> {sql.flag(current)}) AS flagged")
    return f"SELECT {', '.join(items)}"


ALIKE = (("a", "A"), ("a", "a "), ("e", "\u00e9"), ("\u00e9", "e\u0301"), ("ss", "\u00df"))
"""Texts that differ but that a collation may treat as equal."""


@lru_cache(maxsize=64)
def count_alike(table: str, columns: tuple[str, ...]) -> str:
    """For each of the text columns, by position, how many pairs of ``ALIKE`` it treats as equal."""

    def takes(name: str, one: str, other: str) -> str:
        column, place = sql.quote(name), sql.relation(table)
        values = f"SELECT {column} FROM {place} WHERE 1 = 0 UNION ALL SELECT {sql.literal(one)}"
        return f"(SELECT count(*) FROM ({values}) s WHERE s.{column} = {sql.literal(other)})"

    sums = (" + ".join(takes(name, *pair) for pair in ALIKE) for name in columns)
    return "SELECT " + ", ".join(f"{each} AS alike_{index}" for index, each in enumerate(sums))


TIMELINE_ERRORS = {
    "null_keys": "rows without a natural key: {n}",
    "other_form": "rows whose natural key is not in natural_key_form: {n}",
    "current": "keys with several current rows: {n}",
    "no_start": "rows without valid_from: {n}",
    "backwards": "rows that end before they begin, or have no length: {n}",
    "overlapping": "versions that overlap the next of their key: {n}",
    "several": "keys with several rows, in a table without type 2 columns: {n}",
    "flagged": "rows that are current by is_current and not by valid_to, or the reverse: {n}",
}


def _order_items(schema: TableSchema, when: str, *, values: bool) -> list[str]:
    """What a change has besides its key: the values of the row ``t`` (or none), and its order and time."""
    items = []
    for name in schema.change_columns:
        if name in schema.keys:
            continue
        kind = schema.type_of(name).sql
        if name == schema.effective and (name in schema.order or not values or name not in schema.values):
            items.append(when)
        elif name in schema.values and values and name not in schema.order:
            items.append(f"t.{sql.quote(name)}")
        elif name in schema.order:
            low = f"CAST(:low_{schema.order.index(name)} AS {kind})"
            held = values and name in schema.values
            items.append(f"COALESCE(t.{sql.quote(name)}, {low})" if held else low)
        else:
            items.append(f"CAST(NULL AS {kind})")
    return items


@lru_cache(maxsize=64)
def versions_as_changes(schema: TableSchema, column_set: int, *, begins: str = "", ends: str = "") -> tuple[str, str]:
    """Two queries in the form of the change log: each version of the table as an upsert at its beginning; and a delete where a
    version ends and no other adjoins; for rows ``t`` that pass the tests ``begins`` and ``ends``.

    Needs the parameters ``low_values`` and ``run``; the second also ``count``, the number of changes of the first.
    """
    table, own, kind = sql.relation(schema.table), schema.system_column, schema.effective_type.sql
    others = tuple(name for name in schema.change_columns if name not in schema.keys)
    keys = sql.columns(schema.keys, "t")
    start = f"t.{sql.quote(own('valid_from') or '')}" if own("valid_from") else f"CAST(:low AS {kind})"
    end = f"t.{sql.quote(own('valid_to') or '')}" if own("valid_to") else f"CAST(:low_next AS {kind})"
    number = f"row_number() OVER (ORDER BY {keys}, {start})"

    def change(number: str, deleted: int, when: str, *tests: str) -> str:
        values = zip(_order_items(schema, when, values=not deleted), others, strict=True)
        head = (
            f"CAST(:run AS BIGINT) AS {RUN}, {number} AS {SEQUENCE_NO}, {column_set} AS {COLUMN_SET}, {deleted} AS {DELETE}, "
            f"{when} AS {EFFECTIVE_AT}"
        )
        shown = sql.listed(head, keys, *(sql.named(value, name) for value, name in values))
        where = " AND ".join(filter(None, tests))
        return f"SELECT {shown}\nFROM {table} t{f' WHERE {where}' if where else ''}"

    return (
        change(f"2 * {number} + 1", 0, start, begins),
        change(f"2 * (CAST(:count AS BIGINT) + {number}) + 1", 1, end, _ends_for_good(schema, "t"), ends),
    )


def _ends_for_good(schema: TableSchema, alias: str) -> str:
    """A test: whether a stored row has ended and no other begins where it did."""
    ended, own = f"NOT ({schema.is_current(alias)})", schema.system_column
    if not (own("valid_from") and own("valid_to")):
        return ended
    begins, end = sql.quote(own("valid_from") or ""), f"{alias}.{sql.quote(own('valid_to') or '')}"
    same = sql.same("n", alias, schema.keys)
    return (
        f"({ended} AND NOT EXISTS (SELECT 1 FROM {sql.relation(schema.table)} n WHERE {same} AND n.{begins} = {end}))"
    )


def number_rows(schema: TableSchema) -> UpdateRows:
    """Assigns a surrogate key to every row."""
    start = schema.system_column("valid_from")
    order = f"ORDER BY {sql.columns((*schema.keys, *filter(None, [start])), 't')}" if schema.keys else ""
    value = f"row_number() OVER ({order})"
    if schema.surrogate_key != "counter":
        value = schema.surrogate_keys.value("t", f"t.{sql.quote(start or '')}") or ""
    numbered = f"(SELECT {row_ids.taken(schema, 't')}, {value} AS brenvik_nth FROM {sql.relation(schema.table)} t)"
    key = schema.system_column("surrogate_key") or ""
    return UpdateRows(schema.table, ((key, "s.brenvik_nth"),), numbered, schema.row_ids)


def fill(schema: TableSchema, columns: tuple[str, ...]) -> UpdateRows:
    """Fills system columns that were just added; surrogate keys are numbered separately."""
    values = {
        "durable_key": schema.durable_keys.value("t", ""),
        "is_current": f"({schema.is_current('t')})",
        "is_deleted": _ends_for_good(schema, "t"),
        "first_run": ":run",
        "last_run": ":run",
        "first_loaded_at": "CAST(:loaded_at AS TIMESTAMP)",
        "last_loaded_at": "CAST(:loaded_at AS TIMESTAMP)",
    }
    given = [(schema.system_column(column) or "", values[column]) for column in columns]
    items = ", ".join(f"{value} AS {sql.quote(name)}" for name, value in given)
    source = f"(SELECT {row_ids.taken(schema, 't')}, {items} FROM {sql.relation(schema.table)} t)"
    return UpdateRows(schema.table, tuple((name, f"s.{sql.quote(name)}") for name, _ in given), source, schema.row_ids)


def highest_key(schema: TableSchema) -> str:
    """The highest surrogate key (``n``)."""
    key = schema.system_column("surrogate_key") if schema.surrogate_key == "counter" else None
    return (
        f"SELECT COALESCE(max(t.{sql.quote(key)}), 0) AS n FROM {sql.relation(schema.table)} t"
        if key
        else "SELECT 0 AS n"
    )
