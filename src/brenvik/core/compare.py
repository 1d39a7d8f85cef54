"""An extract against the table: what it says by its rows, and by what is absent, becomes changes at the extract's time.

``extracted`` holds the rows that passed the screening. A row that equals the living version of its key says nothing new
and is only counted. Where a key stands twice, all of its rows go on, so that the last counts. A living key that does not
stand in the extract is gone; unless its row was refused, which says that it is there.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.core import sql
from brenvik.core.blueprint import ARRIVAL, DELETE, EFFECTIVE, SHAPE, Blueprint
from brenvik.core.plain import any_differs

EXTRACTED = "extracted"


@lru_cache(maxsize=256)
def find_refused(blueprint: Blueprint) -> str:
    """Makes ``refused_keys`` of the rows of ``extracted`` with a fault, as far as their keys can be read."""
    there = " AND ".join(f"e.{sql.quote(name)} IS NOT NULL" for name in blueprint.keys)
    return f"""
CREATE TEMP TABLE {sql.work("refused_keys")} AS
SELECT DISTINCT {sql.columns(blueprint.keys, "e")} FROM {sql.work(EXTRACTED)} e
WHERE e.brenvik_fault IS NOT NULL AND {there}"""


@lru_cache(maxsize=256)
def find_twice(blueprint: Blueprint) -> str:
    """Makes ``twice``: keys that stand in several rows."""
    keys = sql.columns(blueprint.keys, "e")
    return f"""
CREATE TEMP TABLE {sql.work("twice")} AS
SELECT {keys} FROM {sql.work(EXTRACTED)} e GROUP BY {keys} HAVING count(*) > 1"""


@lru_cache(maxsize=256)
def find_differing(blueprint: Blueprint, *, some_twice: bool) -> str:
    """Makes ``screened`` of the rows that differ from the living version of their key, or whose key has none."""
    names = sql.columns((ARRIVAL, SHAPE, DELETE, EFFECTIVE, *blueprint.carried), "c")
    twice = f"EXISTS (SELECT 1 FROM {sql.work('twice')} w WHERE {sql.same('w', 'c', blueprint.keys)})"
    known = f"t.{sql.quote(blueprint.keys[0])} IS NOT NULL"
    says_so = f"(c.{DELETE} = 0 AND NOT ({known}))"  # a delete of what is gone says nothing new
    tests = [says_so, f"({known} AND (c.{DELETE} = 1 OR {any_differs(blueprint, blueprint.values)}))"]
    return f"""
CREATE TEMP TABLE {sql.work("screened")} AS
SELECT {names}
FROM {sql.work(EXTRACTED)} c
LEFT JOIN {sql.relation(blueprint.table)} t ON {sql.same("t", "c", blueprint.keys)} AND {blueprint.is_open("t")}
WHERE {sql.any_of([*tests, twice if some_twice else ""])}"""


@lru_cache(maxsize=256)
def add_absent(blueprint: Blueprint, *, some_refused: bool, some_held: bool, shape: int) -> str:
    """Adds a delete to ``screened`` for each living key that is absent; numbered on from the parameter ``absent_from``."""
    refused = f"""
  AND NOT EXISTS (SELECT 1 FROM {sql.work("refused_keys")} r WHERE {sql.same("r", "t", blueprint.keys)})"""
    held = f"""
  AND NOT EXISTS (SELECT 1 FROM {sql.work("held_keys")} h WHERE {sql.same("h", "t", blueprint.keys)})"""
    when = f"CAST(:extract_at AS {blueprint.effective_type.sql})"
    return f"""
INSERT INTO {sql.work("screened")} ({ARRIVAL}, {SHAPE}, {DELETE}, {EFFECTIVE}, {sql.columns(blueprint.keys)})
SELECT :absent_from + 2 * row_number() OVER (ORDER BY {sql.columns(blueprint.keys, "t")}), {shape}, 1, {when},
  {sql.columns(blueprint.keys, "t")}
FROM {sql.relation(blueprint.table)} t
WHERE {blueprint.is_open("t")}
  AND NOT EXISTS (SELECT 1 FROM {sql.work(EXTRACTED)} e WHERE {sql.same("e", "t", blueprint.keys)})
  {refused if some_refused else ""}{held if some_held else ""}"""


def times() -> str:
    """The earliest and the latest time of the rows of an extract, as text."""
    return (
        f"SELECT CAST(min(e.{EFFECTIVE}) AS TEXT) AS earliest, CAST(max(e.{EFFECTIVE}) AS TEXT) AS latest "
        f"FROM {sql.work(EXTRACTED)} e"
    )


def count_lost(blueprint: Blueprint) -> str:
    """How many busy keys are alive in the table and will not be (``n``)."""
    return f"""
SELECT count(*) AS n FROM {sql.work("stored")} s
WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0 AND NOT EXISTS (
  SELECT 1 FROM {sql.work("desired")} d WHERE {sql.same("d", "s", blueprint.keys)} AND d.brenvik_until IS NULL)"""


def count_living(blueprint: Blueprint) -> str:
    """How many keys of the table are alive (``n``)."""
    return f"SELECT count(*) AS n FROM {sql.relation(blueprint.table)} t WHERE {blueprint.is_open('t')}"
