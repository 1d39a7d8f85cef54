"""The current path: a key with exactly one change, newer than everything loaded, needs only its current version.

``current_path`` holds a row per such change: its decision as a number (``brenvik_decision_no``), the stored row it meets
(``brenvik_row_id``), whether type 1 values differ (``brenvik_sets_type_1``), and the stored values from before
(``brenvik_before_0``, …; null where nothing changes). Numbers instead of words, and old values only where decisions will be
explained or the write needs them: each costs a tenth of a load. The decision ``full`` sends a key to the replay path.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

from brenvik.merge import sql
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, SEQUENCE_NO, TableSchema

FULL = "full"
_NUMBERS = {
    name: number
    for number, name in enumerate((FULL, "inserted", "versioned", "overwritten", "deleted", "protected", "unchanged"))
}


def decided(alias: str, *decisions: str) -> str:
    """A test: whether a row of ``current_path`` has one of these decisions."""
    numbers = [str(_NUMBERS[name]) for name in decisions]
    return f"{alias}.brenvik_decision_no " + (f"IN ({', '.join(numbers)})" if len(numbers) > 1 else f"= {numbers[0]}")


def decision(alias: str) -> str:
    """The decision of a row of ``current_path`` as a word."""
    cases = " ".join(f"WHEN {number} THEN '{name}'" for name, number in _NUMBERS.items())
    return f"CASE {alias}.brenvik_decision_no {cases} END"


def before_column(schema: TableSchema, name: str) -> str:
    """The column of a working relation that holds a column's value from before the change."""
    return f"brenvik_before_{schema.values.index(name)}"


def _needs_earlier(schema: TableSchema, name: str) -> bool:
    """Whether the write needs a column's stored value: it stays where a change lacks the column; type 0 keeps it; for type 1
    it shows whether the column changes at all."""
    if schema.absent_in(name) or name in schema.type_0:
        return True
    return name in schema.type_1 and not schema.store.whole_rows


def is_present(schema: TableSchema, alias: str, name: str) -> str:
    """A test: whether a change has a column; '' when all changes have it."""
    absent = schema.absent_in(name)
    return f"{alias}.{COLUMN_SET} NOT IN ({', '.join(map(str, absent))})" if absent else ""


def _differs(schema: TableSchema, name: str, before: str = "") -> str:
    here = is_present(schema, "c", name)
    test = f"c.{sql.quote(name)} IS DISTINCT FROM {before or 't.' + sql.quote(name)}"
    return f"({here} AND {test})" if here else test


def any_differs(schema: TableSchema, names: tuple[str, ...]) -> str:
    """A test: whether a change ``c`` differs in any of these columns from a row ``t`` of the table."""
    return sql.any_of(_differs(schema, name) for name in names)


_GROUPS = (("type_2", "versioned"), ("type_1", "overwritten"), ("type_0", "protected"))
"""The columns of each type, and the decision on a change that differs in them, in the order in which it is made."""


@lru_cache(maxsize=256)
def decide(schema: TableSchema, *, some_replayed: bool, explains: bool, matched: str | None = None) -> str:
    """Makes ``current_path``. ``explains``: with all old values, for explaining the decisions. ``matched`` is a relation in place
    of the table: the current versions of the keys with changes."""
    groups = [(f"m.brenvik_{group}_differs = 1", name) for group, name in _GROUPS if getattr(schema, group)]
    unchanged = _NUMBERS["unchanged"]
    cases = [
        f"WHEN m.brenvik_row_id IS NULL THEN CASE WHEN m.{DELETE} = 1 THEN {_NUMBERS[FULL]} ELSE {_NUMBERS['inserted']} END"
    ]
    if not schema.meets_current_only:
        cases.append(
            f"WHEN m.brenvik_is_current = 0 THEN CASE WHEN m.{DELETE} = 1 THEN {unchanged} ELSE {_NUMBERS[FULL]} END"
        )
    cases.append(f"WHEN m.{DELETE} = 1 THEN {_NUMBERS['deleted']}")
    if schema.type_0:
        cases.append(f"WHEN m.brenvik_is_learned = 1 THEN {_NUMBERS[FULL]}")
    cases += [f"WHEN {test} THEN {_NUMBERS[name]}" for test, name in groups]
    sets = f"m.{DELETE} = 0 AND m.brenvik_row_id IS NOT NULL AND m.brenvik_type_1_differs = 1"
    changed = " OR ".join(test for test, _ in groups)
    before = [before_column(schema, name) for name in schema.values if explains or _needs_earlier(schema, name)]
    items = sql.listed(
        f"m.{SEQUENCE_NO}, m.{EFFECTIVE_AT}, m.brenvik_row_id",
        f"CASE {' '.join(cases)} ELSE {unchanged} END AS brenvik_decision_no",
        f"{sql.flag(sets) if schema.type_1 else 0} AS brenvik_sets_type_1",
        *(f"CASE WHEN {changed} THEN m.{name} END AS {name}" for name in before),
    )
    return f"""
CREATE TEMP TABLE {sql.work("current_path")} AS
SELECT {items}
FROM ({_compared(schema, before, some_replayed=some_replayed, matched=matched)}
) m"""


def _compared(schema: TableSchema, before: Sequence[str], *, some_replayed: bool, matched: str | None) -> str:
    """Each change of the current path with the current version of its key, and in columns of which types the two differ."""
    joins = sql.same("t", "c", schema.keys)
    if schema.meets_current_only and schema.type_2 and not matched:
        joins += f" AND {schema.is_current('t')}"
    is_current = [] if schema.meets_current_only else [f"{sql.flag(schema.is_current('t'))} AS brenvik_is_current"]
    learns = [f"t.{sql.quote(name)} IS NULL AND c.{sql.quote(name)} IS NOT NULL" for name in schema.type_0]
    is_learned = [f"{sql.flag(' OR '.join(learns))} AS brenvik_is_learned"] if learns else []
    differs = [
        f"{sql.flag(any_differs(schema, names))} AS brenvik_{group}_differs"
        for group, _ in _GROUPS
        if (names := getattr(schema, group))
    ]
    values = [
        f"t.{sql.quote(name)} AS {column}"
        for name in schema.values
        if (column := before_column(schema, name)) in before
    ]
    replayed = f"""
  WHERE NOT EXISTS (SELECT 1 FROM {sql.work("replay_keys")} b WHERE {sql.same("b", "c", schema.keys)})"""
    row_id = f"c.{SEQUENCE_NO}, c.{EFFECTIVE_AT}, c.{DELETE}, t.{sql.quote(schema.row_id)} AS brenvik_row_id"
    return f"""
  SELECT {sql.listed(row_id, *is_current, *is_learned, *differs, *values)}
  FROM {sql.work("changes")} c
  LEFT JOIN {matched or sql.relation(schema.table)} t ON {joins}{replayed if some_replayed else ""}"""


def summary() -> str:
    """How many changes have which decision (``n``), and how many of them set type 1 values (``sets``)."""
    return (
        f"SELECT {decision('p')} AS brenvik_decision, n, sets FROM ("
        "SELECT brenvik_decision_no, count(*) AS n, CAST(sum(brenvik_sets_type_1) AS BIGINT) AS sets "
        f"FROM {sql.work('current_path')} GROUP BY brenvik_decision_no) p"
    )


@lru_cache(maxsize=256)
def find_returning_keys(schema: TableSchema) -> str:
    """Marks inserts of keys that have closed versions as ``full``: type 1 values change in those as well."""
    return f"""
UPDATE {sql.work("current_path")} SET brenvik_decision_no = {_NUMBERS[FULL]}
WHERE {decided(sql.work("current_path"), "inserted")} AND EXISTS (
  SELECT 1 FROM {sql.work("changes")} c
  JOIN {sql.relation(schema.table)} t ON {sql.same("t", "c", schema.keys)}
  WHERE c.{SEQUENCE_NO} = {sql.work("current_path")}.{SEQUENCE_NO} AND NOT ({schema.is_current("t")}))"""


@lru_cache(maxsize=256)
def send_to_replay(schema: TableSchema) -> tuple[str, str]:
    """Two statements that move the keys decided as ``full`` to the replay path."""
    return (
        f"""
INSERT INTO {sql.work("replay_keys")} ({sql.columns(schema.keys)}, brenvik_full_replay)
SELECT {sql.columns(schema.keys, "c")}, 1
FROM {sql.work("current_path")} p JOIN {sql.work("changes")} c ON c.{SEQUENCE_NO} = p.{SEQUENCE_NO}
WHERE {decided("p", FULL)}""",
        f"DELETE FROM {sql.work('current_path')} WHERE {decided(sql.work('current_path'), FULL)}",
    )


@lru_cache(maxsize=256)
def find_closed_versions(schema: TableSchema) -> str:
    """Makes ``to_overwrite``: closed versions that get the new type 1 values of a change on the current path."""
    some = sql.any_of(_differs(schema, name) for name in schema.type_1)
    return f"""
CREATE TEMP TABLE {sql.work("to_overwrite")} AS
SELECT t.{sql.quote(schema.row_id)} AS brenvik_row_id, p.{SEQUENCE_NO}
FROM {sql.work("current_path")} p
JOIN {sql.work("changes")} c ON c.{SEQUENCE_NO} = p.{SEQUENCE_NO}
JOIN {sql.relation(schema.table)} t ON {sql.same("t", "c", schema.keys)}
WHERE p.brenvik_sets_type_1 = 1 AND NOT ({schema.is_current("t")}) AND {some}"""


@lru_cache(maxsize=256)
def refresh_row_ids(schema: TableSchema) -> str:
    """Looks up the new row ids of versions that were closed and will also be overwritten."""
    plain = sql.work("current_path")
    return f"""
UPDATE {plain} SET brenvik_row_id = t.{sql.quote(schema.row_id)}
FROM {sql.work("changes")} c
JOIN {sql.relation(schema.table)} t
  ON {sql.same("t", "c", schema.keys)} AND t.{sql.quote(schema.system_column("valid_to") or "")} = c.{EFFECTIVE_AT}
WHERE c.{SEQUENCE_NO} = {plain}.{SEQUENCE_NO} AND {plain}.brenvik_sets_type_1 = 1 AND {decided(plain, "versioned")}"""


@lru_cache(maxsize=256)
def touched_type_1(schema: TableSchema) -> str:
    """For each type 1 column, whether any change on the current path differs in it (0 or 1)."""
    flags = [
        f"max({sql.flag(_differs(schema, name, 'p.' + before_column(schema, name)))}) AS {sql.quote(name)}"
        for name in schema.type_1
    ]
    return f"""
SELECT {", ".join(flags)}
FROM {sql.work("current_path")} p JOIN {sql.work("changes")} c ON c.{SEQUENCE_NO} = p.{SEQUENCE_NO}
WHERE p.brenvik_sets_type_1 = 1"""


@lru_cache(maxsize=256)
def removed_keys(schema: TableSchema) -> str:
    """The rows (``brenvik_row_id``) that deletes on the current path remove, where deletes remove."""
    return f"""
SELECT t.{sql.quote(schema.row_id)} AS brenvik_row_id
FROM {sql.relation(schema.table)} t
WHERE EXISTS (
  SELECT 1 FROM {sql.work("current_path")} p JOIN {sql.work("changes")} c ON c.{SEQUENCE_NO} = p.{SEQUENCE_NO}
  WHERE {decided("p", "deleted")} AND {sql.same("t", "c", schema.keys)})"""
