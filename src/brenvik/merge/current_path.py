"""The current path: a key with exactly one change, newer than everything loaded, needs only its current version.

``current_path`` holds a row per such change: its decision as a number (``brenvik_decision_no``), the stored row it meets
(``brenvik_row_id``), whether type 1 values differ (``brenvik_sets_type_1``), and the stored values from before
(``brenvik_before_0``, …; null where nothing changes). Numbers instead of words, and old values only where decisions will be
explained or the write needs them: each costs a tenth of a load. The decision ``full`` sends a key to the replay path, and so
does an insert of a key that returns (``returning_changes``).
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

from brenvik.merge import row_ids, sql
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, SEQUENCE_NO, TableSchema

FULL = "full"
_NUMBERS = {
    name: number
    for number, name in enumerate((FULL, "inserted", "versioned", "overwritten", "deleted", "protected", "unchanged"))
}


def decision_of(number: int) -> str:
    """The decision as a word."""
    return next(name for name, known in _NUMBERS.items() if known == number)


def decided(alias: str, *decisions: str) -> str:
    """A test: whether a row of ``current_path`` has one of these decisions."""
    numbers = [str(_NUMBERS[name]) for name in decisions]
    return f"{alias}.brenvik_decision_no " + (f"IN ({', '.join(numbers)})" if len(numbers) > 1 else f"= {numbers[0]}")


def is_decided_here(alias: str, *, some_returning: bool) -> str:
    """A test: whether a row of ``current_path`` is not sent to the replay path."""
    test = f"{alias}.brenvik_decision_no <> {_NUMBERS[FULL]}"
    return f"{test}{not_returning(alias)}" if some_returning else test


def not_returning(alias: str) -> str:
    """The end of a condition: the change is not that of a key that returns."""
    return f" AND NOT EXISTS (SELECT 1 FROM {sql.work('returning_changes')} r WHERE r.{SEQUENCE_NO} = {alias}.{SEQUENCE_NO})"


def decision(alias: str) -> str:
    """The decision of a row of ``current_path`` as a word."""
    cases = " ".join(f"WHEN {number} THEN '{name}'" for name, number in _NUMBERS.items())
    return f"CASE {alias}.brenvik_decision_no {cases} END"


def before_column(schema: TableSchema, name: str) -> str:
    """The column of a working relation that holds a column's value from before the change."""
    return f"brenvik_before_{schema.stored_values.index(name)}"


def differs_column(schema: TableSchema, name: str) -> str:
    """The column of a working relation that says whether a column changes."""
    return f"brenvik_differs_{schema.stored_values.index(name)}"


def needs_earlier(schema: TableSchema, name: str) -> bool:
    """Whether the write needs a column's stored value: it stays where a change lacks the column; type 0 keeps it; type 3 keeps
    it as the previous one; of values that do not really differ the first one stays."""
    if any(name in pair for pair in schema.previous) or name in dict(schema.ignored):
        return True
    return bool(schema.absent_in(name)) or name in schema.type_0


def is_present(schema: TableSchema, alias: str, name: str) -> str:
    """A test: whether a change has a column; '' when all changes have it."""
    absent = schema.absent_in(name)
    return f"{alias}.{COLUMN_SET} NOT IN ({', '.join(map(str, absent))})" if absent else ""


def _differs(schema: TableSchema, name: str) -> str:
    here = is_present(schema, "c", name)
    test = schema.differs(name, f"c.{sql.quote(name)}", f"t.{sql.quote(name)}")
    return f"({here} AND {test})" if here else test


def any_differs(schema: TableSchema, names: tuple[str, ...]) -> str:
    """A test: whether a change ``c`` differs in any of these columns from a row ``t`` of the table."""
    return sql.any_of(_differs(schema, name) for name in names)


_GROUPS = (("type_2", "versioned"), ("type_1", "overwritten"), ("type_0", "protected"))
"""The columns of each type, and the decision on a change that differs in them, in the order in which it is made."""


def _touched(schema: TableSchema) -> tuple[str, ...]:
    """The type 1 columns of which the write must know whether they change at all."""
    return () if schema.store.whole_rows else schema.type_1


@lru_cache(maxsize=256)
def decide(schema: TableSchema, *, some_late_or_several: bool, explains: bool, matched: bool = False) -> str:
    """The query for ``current_path``. ``explains``: with all old values, for explaining the decisions. ``matched``: ``met``
    has the current versions of the keys with changes, and nothing else."""
    touched = _touched(schema)
    type_1 = " OR ".join(f"m.{differs_column(schema, name)} = 1" for name in touched) or "m.brenvik_type_1_differs = 1"
    groups = [
        (type_1 if group == "type_1" else f"m.brenvik_{group}_differs = 1", name)
        for group, name in _GROUPS
        if getattr(schema, group)
    ]
    unchanged, nothing_stored = _NUMBERS["unchanged"], row_ids.is_none(schema, "m")
    cases = [
        f"WHEN {nothing_stored} THEN CASE WHEN m.{DELETE} = 1 THEN {_NUMBERS[FULL]} ELSE {_NUMBERS['inserted']} END"
    ]
    if not schema.meets_current_only:
        cases.append(
            f"WHEN m.brenvik_is_current = 0 THEN CASE WHEN m.{DELETE} = 1 THEN {unchanged} ELSE {_NUMBERS[FULL]} END"
        )
    cases.append(f"WHEN m.{DELETE} = 1 THEN {_NUMBERS['deleted']}")
    if schema.type_0:
        cases.append(f"WHEN m.brenvik_is_learned = 1 THEN {_NUMBERS[FULL]}")
    cases += [f"WHEN {test} THEN {_NUMBERS[name]}" for test, name in groups]
    kept = [f"m.{DELETE} = 0", f"NOT ({nothing_stored})"]  # keys sent to the replay path are overwritten there
    kept += [] if schema.meets_current_only else ["m.brenvik_is_current = 1"]
    kept += ["m.brenvik_is_learned = 0"] if schema.type_0 else []
    changed = " OR ".join(test for test, _ in groups)
    before = [before_column(schema, name) for name in schema.stored_values if explains or needs_earlier(schema, name)]
    sets = sql.flag(" AND ".join([*kept, f"({type_1})"])) if schema.type_1 else "0"
    counted = []
    if schema.counts_type_0_changes:
        counted = [f"{sql.flag(' AND '.join([*kept, 'm.brenvik_type_0_differs = 1']))} AS brenvik_changes_type_0"]
    items = sql.listed(
        f"m.{SEQUENCE_NO}, m.{EFFECTIVE_AT}, {row_ids.listed(schema, 'm')}",
        f"CASE {' '.join(cases)} ELSE {unchanged} END AS brenvik_decision_no",
        f"{sets} AS brenvik_sets_type_1",
        *counted,
        *(f"m.{differs_column(schema, name)}" for name in touched),
        *(f"CASE WHEN {changed} THEN m.{name} END AS {name}" for name in before),
    )
    return f"""
SELECT {items}
FROM ({_compared(schema, before, some_late_or_several=some_late_or_several, matched=matched)}
) m"""


def _compared(schema: TableSchema, before: Sequence[str], *, some_late_or_several: bool, matched: bool) -> str:
    """Each change of the current path with the current version of its key, and in columns of which types the two differ."""
    joins = sql.same("t", "c", schema.keys)
    if schema.meets_current_only and schema.type_2 and not matched:
        joins += f" AND {schema.is_current('t')}"
    is_current = [] if schema.meets_current_only else [f"{sql.flag(schema.is_current('t'))} AS brenvik_is_current"]
    learns = [f"t.{sql.quote(name)} IS NULL AND c.{sql.quote(name)} IS NOT NULL" for name in schema.type_0]
    is_learned = [f"{sql.flag(' OR '.join(learns))} AS brenvik_is_learned"] if learns else []
    touched = _touched(schema)
    differs = [
        f"{sql.flag(any_differs(schema, names))} AS brenvik_{group}_differs"
        for group, _ in _GROUPS
        if (names := getattr(schema, group)) and names != touched
    ]
    differs += [f"{sql.flag(_differs(schema, name))} AS {differs_column(schema, name)}" for name in touched]
    values = [
        f"t.{sql.quote(name)} AS {column}"
        for name in schema.stored_values
        if (column := before_column(schema, name)) in before
    ]
    replayed = f"""
  WHERE NOT EXISTS (SELECT 1 FROM {sql.work("late_or_several")} b WHERE {sql.same("b", "c", schema.keys)})"""
    found = f"c.{SEQUENCE_NO}, c.{EFFECTIVE_AT}, c.{DELETE}, {row_ids.taken(schema, 't')}"
    return f"""
  SELECT {sql.listed(found, *is_current, *is_learned, *differs, *values)}
  FROM {sql.work("changes")} c
  LEFT JOIN {sql.work("met")} t ON {joins}{replayed if some_late_or_several else ""}"""


@lru_cache(maxsize=256)
def summarize(schema: TableSchema) -> str:
    """How many changes have which decision (``n``), how many of them set type 1 values (``sets``), and whether any of these sets
    a column (``brenvik_differs_0``, …; 0 or 1), where the write must know. Where such changes are refused, also how many have
    other values of type 0 columns (``type_0``)."""
    touched = "".join(
        f", max(CASE WHEN brenvik_sets_type_1 = 1 THEN {column} ELSE 0 END) AS {column}"
        for column in (differs_column(schema, name) for name in _touched(schema))
    )
    sets = "CAST(sum(brenvik_sets_type_1) AS BIGINT)" if schema.type_1 else "0"
    counted = f", {sql.total('brenvik_changes_type_0')} AS type_0" if schema.counts_type_0_changes else ""
    return (
        f"SELECT brenvik_decision_no, count(*) AS n, {sets} AS sets{counted}{touched} "
        f"FROM {sql.work('current_path')} GROUP BY brenvik_decision_no"
    )


@lru_cache(maxsize=256)
def find_returning_changes(schema: TableSchema) -> str:
    """The inserts of keys that have closed versions: type 1 values change in those as well."""
    return f"""
SELECT p.{SEQUENCE_NO}
FROM {sql.work("current_path")} p
JOIN {sql.work("changes")} c ON c.{SEQUENCE_NO} = p.{SEQUENCE_NO}
WHERE {decided("p", "inserted")} AND EXISTS (
  SELECT 1 FROM {sql.work("stored")} t WHERE {sql.same("t", "c", schema.keys)} AND NOT ({schema.is_current("t")}))"""


@lru_cache(maxsize=256)
def find_closed_versions(schema: TableSchema) -> str:
    """Closed versions that get the new type 1 values of a change on the current path."""
    some = sql.any_of(_differs(schema, name) for name in schema.type_1)
    return f"""
SELECT {row_ids.taken(schema, "t")}, p.{SEQUENCE_NO}
FROM {sql.work("current_path")} p
JOIN {sql.work("changes")} c ON c.{SEQUENCE_NO} = p.{SEQUENCE_NO}
JOIN {sql.work("stored")} t ON {sql.same("t", "c", schema.keys)}
WHERE p.brenvik_sets_type_1 = 1 AND NOT ({schema.is_current("t")}) AND {some}"""
