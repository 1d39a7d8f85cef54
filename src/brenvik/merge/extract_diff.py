"""An extract against the table: what it says by its rows, and by what is absent, becomes changes at the extract's time.

A row that equals the living version of its key says nothing new and is only counted. Where a key stands twice, all of its
rows go on, so that the last counts. A living key that does not stand in the extract is gone; unless its row was refused, which
says that it is there.

``compared`` holds what is left when equals are set off against each other: the rows that differ, that no living version stands
against (``brenvik_met`` is 0) or that have a fault, and the keys of living versions that no row stands against (no arrival
number). It has the stored rows as well, so that nothing else is needed of the two large sides: a store that can read a
stream while it works never holds the rows of the extract itself, ``extracted``. They are needed only to find rows that were
set off though their key stands in another row as well.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import conditions, sql
from brenvik.merge.current_path import any_differs, was
from brenvik.merge.schema import ARRIVAL, DELETE, EFFECTIVE, SHAPE, Blueprint

EXTRACTED, COMPARED = "extracted", "compared"


def _of_row(blueprint: Blueprint) -> tuple[str, ...]:
    """What ``compared`` has of a row, beside its key."""
    others = (name for name in blueprint.carried if name not in blueprint.keys)
    return (ARRIVAL, SHAPE, DELETE, EFFECTIVE, *others, "brenvik_fault")


@lru_cache(maxsize=256)
def find_refused(blueprint: Blueprint, relation: str) -> str:
    """Makes ``refused_keys`` of the rows of a relation with a fault, as far as their keys can be read and stand in no row of it
    that was taken."""
    rows, same = sql.work(relation), sql.same("g", "e", blueprint.keys)
    there = " AND ".join(f"e.{sql.quote(name)} IS NOT NULL" for name in blueprint.keys)
    return f"""
CREATE TEMP TABLE {sql.work("refused_keys")} AS
SELECT DISTINCT {sql.columns(blueprint.keys, "e")} FROM {rows} e
WHERE e.brenvik_fault IS NOT NULL AND {there}
  AND NOT EXISTS (SELECT 1 FROM {rows} g WHERE g.{ARRIVAL} IS NOT NULL AND g.brenvik_fault IS NULL AND {same})"""


@lru_cache(maxsize=256)
def compare(blueprint: Blueprint, scope: str | None) -> str:
    """The question whose answer is ``compared``; living versions outside of ``scope`` cannot be absent.

    Nearly all rows are equal, so each column is first asked as plain values, which engines answer faster than whether they differ
    where nulls are values too; only nulls leave that open."""
    new, absent = f"t.{sql.quote(blueprint.keys[0])} IS NULL", f"c.{ARRIVAL} IS NULL"
    differing = (
        f"CASE WHEN {sql.same('c', 't', (name,))} THEN 1 = 0 ELSE {any_differs(blueprint, (name,))} END"
        for name in blueprint.values
    )
    where = sql.any_of([new, absent, *differing])
    if blueprint.delete_if:  # else the flag is always 0; a delete of what is gone says nothing new
        where = f"CASE WHEN c.{DELETE} = 1 THEN NOT ({new}) ELSE {where} END"
    if scope:
        where = f"CASE WHEN {absent} THEN {conditions.of_row(scope, 't', blueprint)} ELSE {where} END"
    keys = (f"COALESCE(c.{sql.quote(name)}, t.{sql.quote(name)}) AS {sql.quote(name)}" for name in blueprint.keys)
    before = (f"t.{sql.quote(name)} AS {was(blueprint, name)}" for name in blueprint.values)
    shown = (*keys, sql.columns(_of_row(blueprint), "c"), "t.brenvik_locator", *before)
    return f"""
SELECT {sql.listed(*shown, sep=", ")}, {sql.flag(f"NOT ({new})")} AS brenvik_met
FROM {sql.work(EXTRACTED)} c
FULL JOIN (
  SELECT v.{sql.quote(blueprint.locator)} AS brenvik_locator, {sql.columns((*blueprint.keys, *blueprint.values), "v")}
  FROM {sql.relation(blueprint.table)} v
  WHERE {blueprint.is_open("v")}
) t ON {sql.same("t", "c", blueprint.keys)}
WHERE c.brenvik_fault IS NOT NULL OR {where}"""


@lru_cache(maxsize=256)
def met(blueprint: Blueprint) -> str:
    """The living versions in ``compared``, as a relation in parentheses that can stand for the table. Only where each key stands
    there once."""
    values = (f"m.{was(blueprint, name)} AS {sql.quote(name)}" for name in blueprint.values)
    locator = f"m.brenvik_locator AS {sql.quote(blueprint.locator)}"
    return f"""(
  SELECT {sql.listed(locator, sql.columns(blueprint.keys, "m"), *values, sep=", ")}
  FROM {sql.work(COMPARED)} m WHERE m.brenvik_met = 1)"""


@lru_cache(maxsize=256)
def sizes(blueprint: Blueprint, *, first: bool) -> str:
    """Of ``compared``: how many rows have a fault (``faulty``), how many of these a living version stands against
    (``faulty_met``), how many others are ``new``, how many versions are ``absent`` and how many ``living``; and the time of the
    extract (``at``), cut to the grain, as text, and whether it is ``late`` (0 or 1).

    Each living version is absent or was read; what is read beyond that was read twice."""
    good = f"d.{ARRIVAL} IS NOT NULL AND d.brenvik_fault IS NULL"
    at = f"CAST(:extract_at AS {blueprint.effective_type.sql})"
    if blueprint.grain:
        at = f"CAST(date_trunc('{blueprint.grain}', {at}) AS {blueprint.effective_type.sql})"
    return f"""
SELECT count(d.brenvik_fault) AS faulty,
  COALESCE(sum({sql.flag("d.brenvik_fault IS NOT NULL AND d.brenvik_met = 1")}), 0) AS faulty_met,
  COALESCE(sum({sql.flag(f"{good} AND d.brenvik_met = 0")}), 0) AS new,
  count(*) - count(d.{ARRIVAL}) AS absent,
  ({count_living(blueprint)}) AS living,
  CAST({at} AS TEXT) AS at,
  {sql.flag(f"{at} <= CAST(:high_effective AS {blueprint.effective_type.sql})") if not first else 0} AS late
FROM {sql.work(COMPARED)} d"""


@lru_cache(maxsize=256)
def add_twice(blueprint: Blueprint) -> str:
    """Adds to ``compared`` all rows of ``extracted`` whose keys stand in several rows."""
    keys = sql.columns(blueprint.keys, "e")
    names = (*blueprint.keys, *_of_row(blueprint))
    return f"""
INSERT INTO {sql.work(COMPARED)} ({sql.columns(names)}, brenvik_met)
SELECT {sql.columns(names, "c")}, 1 FROM {sql.work(EXTRACTED)} c
JOIN (
  SELECT {keys} FROM {sql.work(EXTRACTED)} e GROUP BY {keys} HAVING count(*) > 1
) w ON {sql.same("w", "c", blueprint.keys)}
WHERE NOT EXISTS (SELECT 1 FROM {sql.work(COMPARED)} d WHERE d.{ARRIVAL} = c.{ARRIVAL})"""


@lru_cache(maxsize=256)
def screen_differing(blueprint: Blueprint) -> str:
    """Makes ``screened`` of the rows in ``compared``."""
    names = sql.columns((ARRIVAL, SHAPE, DELETE, EFFECTIVE, *blueprint.carried, "brenvik_fault"), "d")
    return f"""
CREATE TEMP TABLE {sql.work("screened")} AS
SELECT {names} FROM {sql.work(COMPARED)} d WHERE d.{ARRIVAL} IS NOT NULL"""


@lru_cache(maxsize=256)
def add_absent(blueprint: Blueprint, *, some_refused: bool, some_held: bool, shape: int) -> str:
    """Adds a delete to ``screened`` for each living key that is absent; numbered on from the parameter ``absent_from``."""
    refused = f"""
  AND NOT EXISTS (SELECT 1 FROM {sql.work("refused_keys")} r WHERE {sql.same("r", "d", blueprint.keys)})"""
    held = f"""
  AND NOT EXISTS (SELECT 1 FROM {sql.work("held_keys")} h WHERE {sql.same("h", "d", blueprint.keys)})"""
    when = f"CAST(:extract_at AS {blueprint.effective_type.sql})"
    return f"""
INSERT INTO {sql.work("screened")} ({ARRIVAL}, {SHAPE}, {DELETE}, {EFFECTIVE}, {sql.columns(blueprint.keys)})
SELECT :absent_from + 2 * row_number() OVER (ORDER BY {sql.columns(blueprint.keys, "d")}), {shape}, 1, {when},
  {sql.columns(blueprint.keys, "d")}
FROM {sql.work(COMPARED)} d
WHERE d.{ARRIVAL} IS NULL{refused if some_refused else ""}{held if some_held else ""}"""


def times() -> str:
    """The earliest and the latest time of the rows of an extract, as text; and how many have a fault (``faulty``)."""
    return (
        f"SELECT count(e.brenvik_fault) AS faulty, CAST(min(e.{EFFECTIVE}) AS TEXT) AS earliest, "
        f"CAST(max(e.{EFFECTIVE}) AS TEXT) AS latest FROM {sql.work(EXTRACTED)} e"
    )


def count_living(blueprint: Blueprint, scope: str | None = None) -> str:
    """How many keys of the table, or of the part ``scope`` of it, are alive (``n``)."""
    within = f" AND ({conditions.of_row(scope, 't', blueprint)})" if scope else ""
    return f"SELECT count(*) AS n FROM {sql.relation(blueprint.table)} t WHERE {blueprint.is_open('t')}{within}"
