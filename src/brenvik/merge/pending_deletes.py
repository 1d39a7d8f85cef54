"""Deletes that do not end a life by themselves: held until a person releases them, or ignored.

They are set ``aside`` before a load works anything out, and decided once it is known which keys are alive. They are kept
like all changes, but do not count: ``counting`` leaves out every kept delete that is not in ``released`` (run and arrival).
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import sql
from brenvik.merge.schema import ARRIVAL, DELETE, EFFECTIVE, RUN, SHAPE, Blueprint


def find_released(relation: str) -> str:
    """Makes ``released``."""
    return f"CREATE TEMP TABLE {sql.work('released')} AS SELECT x.run, x.arrival FROM {relation} x"


def counts(alias: str) -> str:
    """Whether a kept change counts, where deletes do not by themselves."""
    return f"""({alias}.{DELETE} = 0 OR EXISTS (
  SELECT 1 FROM {sql.work("released")} r WHERE r.run = {alias}.{RUN} AND r.arrival = {alias}.{ARRIVAL}))"""


@lru_cache(maxsize=256)
def set_aside(blueprint: Blueprint) -> tuple[str, str]:
    """Two statements: the deletes of ``screened`` into ``aside``, and out of ``screened``."""
    names = sql.columns((ARRIVAL, SHAPE, DELETE, EFFECTIVE, *blueprint.carried), "c")
    return (
        f"CREATE TEMP TABLE {sql.work('aside')} AS SELECT {names}, CAST(NULL AS TEXT) AS brenvik_decision "
        f"FROM {sql.work('screened')} c WHERE c.{DELETE} = 1",
        f"DELETE FROM {sql.work('screened')} WHERE {DELETE} = 1",
    )


@lru_cache(maxsize=256)
def decide(blueprint: Blueprint, *, some_busy: bool, some_held: bool, all_busy: bool = False) -> str:
    """Gives every change of ``aside`` its decision. ``held_keys`` has the keys of deletes that are held already.

    ``all_busy`` says that ``desired`` has all rows of every key."""
    aside = sql.work("aside")

    def same_key(alias: str) -> str:
        return sql.same(alias, aside, blueprint.keys)

    cases = []
    if blueprint.order:
        never_null = (*blueprint.keys, *blueprint.order, EFFECTIVE, SHAPE)
        others = [name for name in blueprint.carried if name not in never_null]
        alike = f"{sql.same('o', aside, never_null)} AND {sql.alike('o', aside, others)}"
        kept = f"SELECT 1 FROM {sql.relation(str(blueprint.kept))} o WHERE o.{DELETE} = 1 AND {alike}"
        if blueprint.some_left_out and not all_busy:
            kept += f" AND NOT EXISTS (SELECT 1 FROM {sql.work('left_out')} w WHERE w.run = o.{RUN})"
        earlier_same = f"SELECT 1 FROM {aside} o WHERE o.{ARRIVAL} < {aside}.{ARRIVAL} AND {alike}"
        cases.append(f"WHEN EXISTS ({earlier_same}) OR EXISTS ({kept}) THEN 'duplicate'")
    drawn = f"SELECT 1 FROM {sql.work('desired')} d WHERE {same_key('d')}"
    known, living = f"EXISTS ({drawn})", f"EXISTS ({drawn} AND d.brenvik_until IS NULL)"
    if not all_busy:
        stored = f"SELECT 1 FROM {sql.relation(blueprint.table)} t WHERE {same_key('t')}"
        brought = f"EXISTS (SELECT 1 FROM {sql.work('screened')} s WHERE {same_key('s')})"
        there = f"(EXISTS ({stored} AND {blueprint.is_open('t')}) OR {brought})"
        busy = f"EXISTS (SELECT 1 FROM {sql.work('busy')} b WHERE {same_key('b')})"
        living = f"CASE WHEN {busy} THEN {living} ELSE {there} END" if some_busy else there
        known = f"(EXISTS ({stored}) OR {brought})"
    last = "'ignored'"
    if blueprint.holds == "hold":
        waits = [f"EXISTS (SELECT 1 FROM {aside} o WHERE o.{ARRIVAL} < {aside}.{ARRIVAL} AND {same_key('o')})"]
        waits += [f"EXISTS (SELECT 1 FROM {sql.work('held_keys')} h WHERE {same_key('h')})"] if some_held else []
        cases.append(f"WHEN NOT ({living}) AND NOT {known} THEN 'ignored'")
        cases.append(f"WHEN NOT ({living}) OR {sql.any_of(waits)} THEN 'unchanged'")
        last = "'held'"
    return f"UPDATE {aside} SET brenvik_decision = " + (f"CASE {' '.join(cases)} ELSE {last} END" if cases else last)


def summary() -> str:
    """How many changes set aside have which decision (``n``)."""
    return f"SELECT brenvik_decision, count(*) AS n FROM {sql.work('aside')} GROUP BY brenvik_decision"


@lru_cache(maxsize=256)
def keep(blueprint: Blueprint) -> str:
    """Appends what was set aside to the kept changes."""
    names = (ARRIVAL, SHAPE, DELETE, EFFECTIVE, *blueprint.carried)
    return f"""
INSERT INTO {sql.relation(str(blueprint.kept))} ({RUN}, {sql.columns(names)})
SELECT :run, {sql.columns(names, "c")} FROM {sql.work("aside")} c WHERE c.brenvik_decision <> 'duplicate'"""


@lru_cache(maxsize=256)
def find_held(blueprint: Blueprint, held: str) -> str:
    """Makes ``held_keys`` (with ``hold`` and whether an ``extract`` brought it) of the relation ``held``."""
    return f"""
CREATE TEMP TABLE {sql.work("held_keys")} AS
SELECT {sql.columns(blueprint.keys, "k")}, h.hold, h.from_extract
FROM {held} h JOIN {sql.relation(str(blueprint.kept))} k ON k.{RUN} = h.run AND k.{ARRIVAL} = h.arrival"""


def lapsed(blueprint: Blueprint) -> str:
    """The numbers of held deletes of extracts whose keys stand in ``extracted`` again."""
    return f"""
SELECT h.hold FROM {sql.work("held_keys")} h
WHERE h.from_extract = 1
  AND EXISTS (SELECT 1 FROM {sql.work("extracted")} e WHERE {sql.same("e", "h", blueprint.keys)})"""


@lru_cache(maxsize=256)
def listed(blueprint: Blueprint, held: str) -> str:
    """Held deletes with the living version of their key: what the relation ``held`` says, keys and values, effective."""
    values = sql.columns(blueprint.values, "t")
    return f"""
SELECT h.hold AS brenvik_hold, h.feed AS brenvik_feed, h.run AS brenvik_run, h.held_since AS brenvik_since,
  k.{EFFECTIVE} AS brenvik_effective, {sql.listed(sql.columns(blueprint.keys, "k"), values, sep=", ")}
FROM {held} h
JOIN {sql.relation(str(blueprint.kept))} k ON k.{RUN} = h.run AND k.{ARRIVAL} = h.arrival
LEFT JOIN {sql.relation(blueprint.table)} t ON {sql.same("t", "k", blueprint.keys)} AND {blueprint.is_open("t")}
ORDER BY h.hold"""


def is_one_of(relation: str) -> str:
    """Whether the kept change ``k`` is one that a relation (run, arrival) names."""
    return f"EXISTS (SELECT 1 FROM {relation} r WHERE r.run = k.{RUN} AND r.arrival = k.{ARRIVAL})"
