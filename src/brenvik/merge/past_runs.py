"""Runs of the past decided again, all in one pass: what each made of the changes it brought, by what was known when it began.

The run (``AS_OF``) stands before the natural key: one key in two runs is two keys, each with the changes that counted then.
So the windows work out any number of runs at once. The table itself is not asked; the changes that were kept say it all.
"""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

from brenvik.merge import change_log, sequence, sql
from brenvik.merge.schema import ARRIVAL, AS_OF, DELETE, EFFECTIVE, RUN, SHAPE, Blueprint, Column
from brenvik.model.types import INTEGER

RUNS = f"CREATE TEMP TABLE {sql.work('replayed')} (run BIGINT, first_file BIGINT)"


def enter_runs(runs: int = 1) -> str:
    """Enters so many runs, at most ``change_log.AT_ONCE``: the parameters ``run_0``, … and ``first_file_0``, …; the second keep
    the numbers of their files apart."""
    return f"INSERT INTO {sql.work('replayed')} (run, first_file) VALUES " + ", ".join(
        f"(:run_{n}, :first_file_{n})" for n in range(runs)
    )


def by_run(blueprint: Blueprint) -> Blueprint:
    """The same table with the run before the natural key, and ``recalled`` for its kept changes."""
    return replace(
        blueprint,
        columns=(Column(AS_OF, INTEGER, "key"), *blueprint.columns),
        kept=f"{sql.WORK}recalled",
        some_left_out=blueprint.holds is not None,
    )


@lru_cache(maxsize=256)
def screen(blueprint: Blueprint, *, where: str = "") -> str:
    """Makes ``screened`` of what the runs brought, as far as it fits ``where`` (of ``k``)."""
    names = sql.columns((SHAPE, DELETE, EFFECTIVE, *blueprint.carried), "k")
    given = f" AND {where}" if where else ""
    return f"""
CREATE TEMP TABLE {sql.work("screened")} AS
SELECT k.{ARRIVAL} + r.first_file * {sequence.FILE_STEP} AS {ARRIVAL}, r.run AS {AS_OF}, {names}
FROM {sql.relation(str(blueprint.kept))} k JOIN {sql.work("replayed")} r ON r.run = k.{RUN}
WHERE NOT ({sequence.is_explicit(f"k.{ARRIVAL}")}){given}"""


@lru_cache(maxsize=256)
def choose(blueprint: Blueprint) -> str:
    """Makes ``busy`` of all that was ``screened``."""
    keys = sql.columns((AS_OF, *blueprint.keys), "c")
    return f"CREATE TEMP TABLE {sql.work('busy')} AS SELECT DISTINCT {keys}, 1 AS brenvik_full FROM {sql.work('screened')} c"


@lru_cache(maxsize=256)
def recall(blueprint: Blueprint, *, withdrawn: str, held: str) -> str:
    """Makes ``recalled``: the changes of the busy keys that were kept before each run, without those ``withdrawn`` then.

    Where deletes do not count by themselves, ``brenvik_counts`` tells which counted then, and ``brenvik_waits`` which deletes
    were held; ``held`` is a relation of all that ever were."""
    names = sql.columns(change_log.kept_columns(blueprint), "k")
    flags = joined = ""
    if blueprint.holds:
        released = f"h.state = 'released' AND h.decided_by < b.{AS_OF}"
        waits = f"h.run IS NOT NULL AND (h.decided_by IS NULL OR h.decided_by >= b.{AS_OF})"
        flags = f", {sql.flag(f'k.{DELETE} = 0 OR {released}')} AS brenvik_counts, {sql.flag(waits)} AS brenvik_waits"
        joined = f"LEFT JOIN {held} h ON h.run = k.{RUN} AND h.arrival = k.{ARRIVAL}"
    return f"""
CREATE TEMP TABLE {sql.work("recalled")} AS
SELECT b.{AS_OF}, {names}{flags}
FROM {sql.relation(str(blueprint.kept))} k
JOIN {sql.work("busy")} b ON {sql.same("b", "k", blueprint.keys)} AND k.{RUN} < b.{AS_OF}
{joined}
WHERE NOT EXISTS (
  SELECT 1 FROM {withdrawn} w
  WHERE w.run = k.{RUN} AND w.by_run < b.{AS_OF} AND (w.put_back_by IS NULL OR w.put_back_by >= b.{AS_OF}))"""


def count(blueprint: Blueprint) -> str:
    """Makes ``counting`` of the blueprint ``by_run``, where deletes do not count by themselves."""
    names = sql.columns(change_log.kept_columns(blueprint), "k")
    return f"""
CREATE TEMP VIEW {sql.work("counting")} AS
SELECT {names} FROM {sql.work("recalled")} k WHERE k.brenvik_counts = 1"""


def find_held(blueprint: Blueprint) -> str:
    """Makes ``held_keys`` of the blueprint ``by_run``."""
    keys = sql.columns(blueprint.keys, "k")
    return (
        f"CREATE TEMP TABLE {sql.work('held_keys')} AS SELECT {keys} FROM {sql.work('recalled')} k "
        "WHERE k.brenvik_waits = 1"
    )


def runs_of_key(blueprint: Blueprint) -> str:
    """The runs that brought changes of a key, the earliest first: ``run``, how many changes (``n``), and the highest number of a
    ``file`` they stood in."""
    return f"""
SELECT k.{RUN} AS run, count(*) AS n, max({sequence.file_of(f"k.{ARRIVAL}")}) AS file
FROM {sql.relation(str(blueprint.kept))} k
WHERE {change_log.of_key(blueprint)} AND NOT ({sequence.is_explicit(f"k.{ARRIVAL}")})
GROUP BY k.{RUN} ORDER BY k.{RUN}"""
