"""Tables that were there before: whether their rows make a time line, and their versions as changes of a first run."""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import sql
from brenvik.merge.schema import ARRIVAL, DELETE, EFFECTIVE, RUN, SHAPE, Blueprint
from brenvik.model.types import ColumnType

LOWEST = {
    "integer": (str(-(2**63)), str(-(2**63) + 1)),
    "date": ("0001-01-01", "0001-01-02"),
    "timestamp": ("0001-01-01 00:00:00", "0001-01-01 00:00:00.000001"),
    "timestamp with time zone": ("0001-01-01 00:00:00+00:00", "0001-01-01 00:00:00.000001+00:00"),
}
"""Where nothing tells when a row began or in which order it came: before everything, and just after that."""


def lowest(kind: ColumnType) -> str:
    """The lowest value that can order, as text."""
    if kind.kind != "decimal":
        return LOWEST[kind.kind][0]
    digits = "9" * kind.precision
    whole, rest = digits[: kind.precision - kind.scale] or "0", digits[kind.precision - kind.scale :]
    return f"-{whole}.{rest}" if rest else f"-{whole}"


def lows(blueprint: Blueprint) -> dict[str, str]:
    """The parameters of ``keep_as_changes``."""
    first, second = LOWEST[blueprint.effective_type.kind]
    others = {f"low_{i}": lowest(blueprint.type_of(name)) for i, name in enumerate(blueprint.order)}
    return {"low": first, "low_next": second, **others}


@lru_cache(maxsize=64)
def count_faults(blueprint: Blueprint) -> str:
    """One row of numbers: what of the table's rows is no time line. The names are those of ``FAULTS``."""
    own, table = blueprint.own, sql.relation(blueprint.table)
    null_key = sql.any_of(f"t.{sql.quote(name)} IS NULL" for name in blueprint.keys)
    living = blueprint.is_open("t")
    keys = sql.columns(blueprint.keys, "t")
    items = [
        f"(SELECT count(*) FROM {table} t WHERE {null_key}) AS null_keys",
        f"(SELECT count(*) FROM (SELECT {keys} FROM {table} t WHERE {living} GROUP BY {keys} HAVING count(*) > 1) s) AS current",
    ]
    if start := own("valid_from"):
        begins = f"t.{sql.quote(start)}"
        items.append(f"(SELECT count(*) FROM {table} t WHERE {begins} IS NULL) AS no_start")
        if end := own("valid_to"):
            ends = f"t.{sql.quote(end)}"
            items.append(
                f"(SELECT count(*) FROM {table} t WHERE NOT ({living}) AND ({ends} IS NULL OR {ends} <= {begins})) AS backwards"
            )
            items.append(f"""(SELECT count(*) FROM (
  SELECT {ends} AS brenvik_end, lead({begins}) OVER (PARTITION BY {keys} ORDER BY {begins}) AS brenvik_next,
    {sql.flag(living)} AS brenvik_open
  FROM {table} t WHERE {begins} IS NOT NULL
) s WHERE s.brenvik_next IS NOT NULL AND (s.brenvik_open = 1 OR s.brenvik_next < s.brenvik_end)) AS overlapping""")
    if not blueprint.has_versions:
        several = f"SELECT {keys} FROM {table} t GROUP BY {keys} HAVING count(*) > 1"
        items.append(f"(SELECT count(*) FROM ({several}) s) AS several")
    if (current := own("is_current")) and own("valid_to"):
        flag = sql.flag(f"t.{sql.quote(current)} = TRUE")
        items.append(f"(SELECT count(*) FROM {table} t WHERE {flag} <> {sql.flag(living)}) AS flagged")
    return f"SELECT {', '.join(items)}"


ALIKE = (("a", "A"), ("a", "a "), ("e", "\u00e9"), ("\u00e9", "e\u0301"), ("ss", "\u00df"))
"""Texts that differ, and that a column's collation may take for equal."""


@lru_cache(maxsize=64)
def count_alike(table: str, columns: tuple[str, ...]) -> str:
    """For each of the text columns, by its place, how many of ``ALIKE`` it takes for equal."""

    def takes(name: str, one: str, other: str) -> str:
        column, place = sql.quote(name), sql.relation(table)
        values = f"SELECT {column} FROM {place} WHERE 1 = 0 UNION ALL SELECT {sql.literal(one)}"
        return f"(SELECT count(*) FROM ({values}) s WHERE s.{column} = {sql.literal(other)})"

    sums = (" + ".join(takes(name, *pair) for pair in ALIKE) for name in columns)
    return "SELECT " + ", ".join(f"{each} AS alike_{index}" for index, each in enumerate(sums))


FAULTS = {
    "null_keys": "rows without a natural key: {n}",
    "current": "keys with several current rows: {n}",
    "no_start": "rows without valid_from: {n}",
    "backwards": "rows that end before they begin, or have no length: {n}",
    "overlapping": "versions that overlap the next of their key: {n}",
    "several": "keys with several rows, in a table without type 2 columns: {n}",
    "flagged": "rows that are current by is_current and not by valid_to, or the reverse: {n}",
}


def _order_items(blueprint: Blueprint, when: str, *, values: bool) -> list[str]:
    """What a change carries beside its key: the values of the row ``t`` (or none), and what tells when."""
    items = []
    for name in blueprint.carried:
        if name in blueprint.keys:
            continue
        kind = blueprint.type_of(name).sql
        if name == blueprint.effective and (name in blueprint.order or not values or name not in blueprint.values):
            items.append(when)
        elif name in blueprint.values and values and name not in blueprint.order:
            items.append(f"t.{sql.quote(name)}")
        elif name in blueprint.order:
            low = f"CAST(:low_{blueprint.order.index(name)} AS {kind})"
            held = values and name in blueprint.values
            items.append(f"COALESCE(t.{sql.quote(name)}, {low})" if held else low)
        else:
            items.append(f"CAST(NULL AS {kind})")
    return items


@lru_cache(maxsize=64)
def keep_as_changes(blueprint: Blueprint, shape: int) -> tuple[str, str]:
    """Two statements that append to the kept changes: a row per version of the table, as an upsert when it begins; and a delete
    where a version ends that no other touches. Needs the parameters ``lows`` and ``run``; the second also ``count``, how many
    the first made."""
    return as_changes(blueprint, shape, into=sql.relation(str(blueprint.kept)))


def as_changes(
    blueprint: Blueprint, shape: int, *, into: str, begins: str = "1 = 1", ends: str = "1 = 1"
) -> tuple[str, str]:
    """The same for another relation, of those rows ``t`` for which ``begins`` is true, and ``ends`` for their ends."""
    kept, table, own = into, sql.relation(blueprint.table), blueprint.own
    kind = blueprint.effective_type.sql
    others = tuple(name for name in blueprint.carried if name not in blueprint.keys)
    into = f"INSERT INTO {kept} ({sql.columns((RUN, ARRIVAL, SHAPE, DELETE, EFFECTIVE, *blueprint.keys, *others))})"
    keys = sql.columns(blueprint.keys, "t")
    start = f"t.{sql.quote(own('valid_from') or '')}" if own("valid_from") else f"CAST(:low AS {kind})"
    end = f"t.{sql.quote(own('valid_to') or '')}" if own("valid_to") else f"CAST(:low_next AS {kind})"
    number = f"row_number() OVER (ORDER BY {keys}, {start})"

    def change(number: str, deleted: int, when: str) -> str:
        head = f":run, {number}, {shape}, {deleted}, {when}"
        return f"{into}\nSELECT {sql.listed(head, keys, *_order_items(blueprint, when, values=not deleted))}\nFROM {table} t"

    return (
        f"{change(f'2 * {number} + 1', 0, start)} WHERE {begins}",
        f"{change(f'2 * (:count + {number}) + 1', 1, end)} WHERE {_ends_for_good(blueprint, 't')} AND {ends}",
    )


def _ends_for_good(blueprint: Blueprint, alias: str) -> str:
    """Whether a stored row has ended and no other one begins where it did."""
    ended, own = f"NOT ({blueprint.is_open(alias)})", blueprint.own
    if not (own("valid_from") and own("valid_to")):
        return ended
    begins, end = sql.quote(own("valid_from") or ""), f"{alias}.{sql.quote(own('valid_to') or '')}"
    same = sql.same("n", alias, blueprint.keys)
    return f"({ended} AND NOT EXISTS (SELECT 1 FROM {sql.relation(blueprint.table)} n WHERE {same} AND n.{begins} = {end}))"


def number_rows(blueprint: Blueprint) -> str:
    """Gives every row a surrogate key."""
    key, at = sql.quote(blueprint.own("surrogate_key") or ""), sql.quote(blueprint.locator)
    table = sql.relation(blueprint.table)
    order = sql.columns((*blueprint.keys, *filter(None, [blueprint.own("valid_from")])), "t")
    return (
        f"UPDATE {table} SET {key} = n.brenvik_nth FROM (SELECT t.{at} AS brenvik_locator, "
        f"row_number() OVER (ORDER BY {order}) AS brenvik_nth FROM {table} t) n WHERE {table}.{at} = n.brenvik_locator"
    )


def fill(blueprint: Blueprint, columns: tuple[str, ...]) -> str:
    """Fills housekeeping columns that were just added, by their roles; the surrogate key is numbered apart."""
    row = sql.relation(blueprint.table)
    values = {
        "is_current": f"({blueprint.is_open(row)})",
        "is_deleted": _ends_for_good(blueprint, row),
        "first_run": ":run",
        "last_run": ":run",
        "first_loaded_at": "CAST(:loaded_at AS TIMESTAMP)",
        "last_loaded_at": "CAST(:loaded_at AS TIMESTAMP)",
    }
    given = ", ".join(f"{sql.quote(blueprint.own(column) or '')} = {values[column]}" for column in columns)
    return f"UPDATE {sql.relation(blueprint.table)} SET {given}"


def highest_key(blueprint: Blueprint) -> str:
    """The highest surrogate key (``n``)."""
    key = blueprint.own("surrogate_key")
    return (
        f"SELECT COALESCE(max(t.{sql.quote(key)}), 0) AS n FROM {sql.relation(blueprint.table)} t"
        if key
        else "SELECT 0 AS n"
    )
