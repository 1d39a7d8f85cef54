"""The plain way: keys with exactly one change, newer than everything, need only a join with their living version.

``plain`` holds a row per such change: its decision as a number (``brenvik_decided``), the stored row it met
(``brenvik_locator``), whether type 1 values differ (``brenvik_sets``), and what the stored row held before
(``brenvik_was_0``, …; null where nothing is done). Numbers and not words, and old values that the write can do without
only where the decisions shall be told: each is a tenth of a load. The decision ``full`` is none: it sends the key
through the windows, see ``send_on``.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import sql
from brenvik.merge.schema import ARRIVAL, DELETE, EFFECTIVE, SHAPE, Blueprint

FULL = "full"
_NUMBERS = {
    name: number
    for number, name in enumerate((FULL, "inserted", "versioned", "overwritten", "deleted", "protected", "unchanged"))
}


def decided(alias: str, *decisions: str) -> str:
    """Whether a row of ``plain`` has one of these decisions."""
    return f"{alias}.brenvik_decided IN ({', '.join(str(_NUMBERS[name]) for name in decisions)})"


def decision(alias: str) -> str:
    """The decision of a row of ``plain`` as a word."""
    cases = " ".join(f"WHEN {number} THEN '{name}'" for name, number in _NUMBERS.items())
    return f"CASE {alias}.brenvik_decided {cases} END"


def was(blueprint: Blueprint, name: str) -> str:
    """The column of a working table that holds the earlier value of a column."""
    return f"brenvik_was_{blueprint.values.index(name)}"


def _needs_earlier(blueprint: Blueprint, name: str) -> bool:
    """Whether the write needs the earlier value of a column: it stays where a change carries none; type 0 keeps it; of type 1
    it tells whether the column changes at all."""
    if blueprint.absent_in(name) or name in blueprint.type_0:
        return True
    return name in blueprint.type_1 and not blueprint.store.whole_rows


def carries(blueprint: Blueprint, alias: str, name: str) -> str:
    """Whether a change carries a column at all; '' when all changes do."""
    absent = blueprint.absent_in(name)
    return f"{alias}.{SHAPE} NOT IN ({', '.join(map(str, absent))})" if absent else ""


def _differs(blueprint: Blueprint, name: str, before: str = "") -> str:
    here = carries(blueprint, "c", name)
    test = f"c.{sql.quote(name)} IS DISTINCT FROM {before or 't.' + sql.quote(name)}"
    return f"({here} AND {test})" if here else test


def any_differs(blueprint: Blueprint, names: tuple[str, ...]) -> str:
    """Whether a change ``c`` differs in any of these columns from a row ``t`` of the table."""
    return sql.any_of(_differs(blueprint, name) for name in names)


@lru_cache(maxsize=256)
def decide(blueprint: Blueprint, *, some_busy: bool, told: bool, met: str | None = None) -> str:
    """Makes ``plain``; ``told`` says that the decisions shall be told with all old values. ``met`` is a relation that stands for
    the table: its living versions, as far as the changes are of their keys."""
    locator = f"t.{sql.quote(blueprint.locator)}"
    learns = sql.any_of(
        f"(t.{sql.quote(name)} IS NULL AND c.{sql.quote(name)} IS NOT NULL)" for name in blueprint.type_0
    )
    joins = sql.same("t", "c", blueprint.keys)
    full, unchanged = _NUMBERS[FULL], _NUMBERS["unchanged"]
    cases = [
        f"WHEN {locator} IS NULL AND c.{DELETE} = 1 THEN {full}",
        f"WHEN {locator} IS NULL THEN {_NUMBERS['inserted']}",
    ]
    if not blueprint.meets_living:
        cases.append(
            f"WHEN NOT ({blueprint.is_open('t')}) THEN CASE WHEN c.{DELETE} = 1 THEN {unchanged} ELSE {full} END"
        )
    elif blueprint.type_2 and not met:
        joins += f" AND {blueprint.is_open('t')}"
    cases.append(f"WHEN c.{DELETE} = 1 THEN {_NUMBERS['deleted']}")
    for names, name in (
        ((), FULL),
        (blueprint.type_2, "versioned"),
        (blueprint.type_1, "overwritten"),
        (blueprint.type_0, "protected"),
    ):
        test = learns if name == FULL else any_differs(blueprint, names)
        if test != "1 = 0":
            cases.append(f"WHEN {test} THEN {_NUMBERS[name]}")
    sets = f"c.{DELETE} = 0 AND {locator} IS NOT NULL AND {any_differs(blueprint, blueprint.type_1)}"
    changed = sql.any_of(_differs(blueprint, name) for name in blueprint.values)
    before = [
        f"CASE WHEN {changed} THEN t.{sql.quote(name)} END AS {was(blueprint, name)}"
        for name in blueprint.values
        if told or _needs_earlier(blueprint, name)
    ]
    without_busy = (
        f"WHERE NOT EXISTS (SELECT 1 FROM {sql.work('busy')} b WHERE {sql.same('b', 'c', blueprint.keys)})"
        if some_busy
        else ""
    )
    return f"""
CREATE TEMP TABLE {sql.work("plain")} AS
SELECT
  c.{ARRIVAL}, c.{EFFECTIVE}, {locator} AS brenvik_locator,
  CASE {" ".join(cases)} ELSE {unchanged} END AS brenvik_decided,
  {sql.flag(sets)} AS brenvik_sets{"," if before else ""}
  {", ".join(before)}
FROM {sql.work("screened")} c
LEFT JOIN {met or sql.relation(blueprint.table)} t ON {joins}
{without_busy}"""


def summary() -> str:
    """How many changes have which decision (``n``), and how many of them set type 1 values (``sets``)."""
    return (
        f"SELECT {decision('p')} AS brenvik_decision, n, sets FROM ("
        "SELECT brenvik_decided, count(*) AS n, CAST(sum(brenvik_sets) AS BIGINT) AS sets "
        f"FROM {sql.work('plain')} GROUP BY brenvik_decided) p"
    )


@lru_cache(maxsize=256)
def returning_keys(blueprint: Blueprint) -> str:
    """Marks as ``full`` the inserts of keys that have closed versions: their type 1 values change as well."""
    return f"""
UPDATE {sql.work("plain")} SET brenvik_decided = {_NUMBERS[FULL]}
WHERE {decided(sql.work("plain"), "inserted")} AND EXISTS (
  SELECT 1 FROM {sql.work("screened")} c
  JOIN {sql.relation(blueprint.table)} t ON {sql.same("t", "c", blueprint.keys)}
  WHERE c.{ARRIVAL} = {sql.work("plain")}.{ARRIVAL} AND NOT ({blueprint.is_open("t")}))"""


@lru_cache(maxsize=256)
def send_on(blueprint: Blueprint) -> tuple[str, str]:
    """Two statements that send the keys decided as ``full`` on to the windows."""
    return (
        f"""
INSERT INTO {sql.work("busy")} ({sql.columns(blueprint.keys)}, brenvik_full)
SELECT {sql.columns(blueprint.keys, "c")}, 1
FROM {sql.work("plain")} p JOIN {sql.work("screened")} c ON c.{ARRIVAL} = p.{ARRIVAL}
WHERE {decided("p", FULL)}""",
        f"DELETE FROM {sql.work('plain')} WHERE {decided(sql.work('plain'), FULL)}",
    )


@lru_cache(maxsize=256)
def spread(blueprint: Blueprint) -> str:
    """Makes ``spread``: closed versions of a key that get the new type 1 values of its plain change."""
    some = sql.any_of(_differs(blueprint, name) for name in blueprint.type_1)
    return f"""
CREATE TEMP TABLE {sql.work("spread")} AS
SELECT t.{sql.quote(blueprint.locator)} AS brenvik_locator, p.{ARRIVAL}
FROM {sql.work("plain")} p
JOIN {sql.work("screened")} c ON c.{ARRIVAL} = p.{ARRIVAL}
JOIN {sql.relation(blueprint.table)} t ON {sql.same("t", "c", blueprint.keys)}
WHERE p.brenvik_sets = 1 AND NOT ({blueprint.is_open("t")}) AND {some}"""


@lru_cache(maxsize=256)
def find_again(blueprint: Blueprint) -> str:
    """Gives the plain changes that closed a version and overwrite it, too, the locator that it has since."""
    plain = sql.work("plain")
    return f"""
UPDATE {plain} SET brenvik_locator = t.{sql.quote(blueprint.locator)}
FROM {sql.work("screened")} c
JOIN {sql.relation(blueprint.table)} t
  ON {sql.same("t", "c", blueprint.keys)} AND t.{sql.quote(blueprint.own("valid_to") or "")} = c.{EFFECTIVE}
WHERE c.{ARRIVAL} = {plain}.{ARRIVAL} AND {plain}.brenvik_sets = 1 AND {decided(plain, "versioned")}"""


@lru_cache(maxsize=256)
def touched_type_1(blueprint: Blueprint) -> str:
    """For each type 1 column, whether any plain change differs in it (0 or 1)."""
    flags = [
        f"max({sql.flag(_differs(blueprint, name, 'p.' + was(blueprint, name)))}) AS {sql.quote(name)}"
        for name in blueprint.type_1
    ]
    return f"""
SELECT {", ".join(flags)}
FROM {sql.work("plain")} p JOIN {sql.work("screened")} c ON c.{ARRIVAL} = p.{ARRIVAL}
WHERE p.brenvik_sets = 1"""


@lru_cache(maxsize=256)
def removed_keys(blueprint: Blueprint) -> str:
    """Rows (``brenvik_locator``) that plain deletes take away, where deletes remove."""
    return f"""
SELECT t.{sql.quote(blueprint.locator)} AS brenvik_locator
FROM {sql.relation(blueprint.table)} t
WHERE EXISTS (
  SELECT 1 FROM {sql.work("plain")} p JOIN {sql.work("screened")} c ON c.{ARRIVAL} = p.{ARRIVAL}
  WHERE {decided("p", "deleted")} AND {sql.same("t", "c", blueprint.keys)})"""
