"""Past runs decided again, all in one pass: what each decided on its changes, given what was known when it began.

The run (``REPLAYED_RUN``) precedes the natural key: one key in two runs is two keys, each with the changes active at the
time. So one replay decides any number of runs. The table itself is not needed; the change log says it all.
"""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

from brenvik.merge import change_log, sequence, sql
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, REPLAYED_RUN, RUN, SEQUENCE_NO, Column, TableSchema
from brenvik.model.types import INTEGER


def replayed_runs(runs: tuple[tuple[int, int], ...]) -> str:
    """The query for ``replayed_runs``: runs, each with the number of its first file, which keeps the files of runs apart."""
    rows = ", ".join(f"(CAST({int(run)} AS BIGINT), CAST({int(file)} AS BIGINT))" for run, file in runs)
    return f"WITH v (run, first_file) AS (VALUES {rows}) SELECT v.run, v.first_file FROM v"


def by_run(schema: TableSchema) -> TableSchema:
    """The schema of the same table with the run before the natural key and ``log_by_run`` as its change log."""
    return replace(
        schema,
        columns=(Column(REPLAYED_RUN, INTEGER, "key"), *schema.columns),
        change_log=f"{sql.WORK}log_by_run",
    )


@lru_cache(maxsize=256)
def changes_of_runs(schema: TableSchema, *, where: str = "") -> str:
    """The query for ``accepted``: what the runs logged, as far as it fits ``where`` (of ``k``)."""
    names = sql.columns((COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns), "k")
    given = f" AND {where}" if where else ""
    return f"""
SELECT k.{SEQUENCE_NO} + r.first_file * {sequence.FILE_STEP} AS {SEQUENCE_NO}, r.run AS {REPLAYED_RUN}, {names}
FROM {sql.relation(str(schema.change_log))} k JOIN {sql.work("replayed_runs")} r ON r.run = k.{RUN}
WHERE NOT ({sequence.is_explicit(f"k.{SEQUENCE_NO}")}){given}"""


@lru_cache(maxsize=256)
def select_keys(schema: TableSchema) -> str:
    """The query for ``replay_keys`` from all that was ``accepted``."""
    keys = sql.columns((REPLAYED_RUN, *schema.keys), "c")
    return f"""
SELECT DISTINCT {keys}, 1 AS brenvik_full_replay FROM {sql.work("accepted")} c"""


@lru_cache(maxsize=256)
def find_log_by_run(schema: TableSchema, *, reverted: str, pending: str) -> str:
    """The query for ``log_by_run``: the changes of the replayed keys that were logged before each run, without those of runs
    that were ``reverted`` at the time.

    Where deletes have no effect by themselves, ``brenvik_is_active`` says which were approved at the time, and
    ``brenvik_is_pending`` which were waiting; ``pending`` is a relation of all that ever waited.
    """
    names = sql.columns(change_log.log_columns(schema), "k")
    flags = joined = ""
    if schema.inactive_deletes:
        released = f"h.state = 'approved' AND h.decided_by < b.{REPLAYED_RUN}"
        waits = f"h.run IS NOT NULL AND (h.decided_by IS NULL OR h.decided_by >= b.{REPLAYED_RUN})"
        flags = f", {sql.flag(f'k.{DELETE} = 0 OR {released}')} AS brenvik_is_active, {sql.flag(waits)} AS brenvik_is_pending"
        joined = f"LEFT JOIN {pending} h ON h.run = k.{RUN} AND h.sequence_no = k.{SEQUENCE_NO}"
    return f"""
SELECT b.{REPLAYED_RUN}, {names}{flags}
FROM {sql.relation(str(schema.change_log))} k
JOIN {sql.work("replay_keys")} b ON {sql.same("b", "k", schema.keys)} AND k.{RUN} < b.{REPLAYED_RUN}
{joined}
WHERE NOT EXISTS (
  SELECT 1 FROM {reverted} w
  WHERE w.run = k.{RUN} AND w.reverted_by < b.{REPLAYED_RUN} AND (w.undone_by IS NULL OR w.undone_by >= b.{REPLAYED_RUN}))"""


def active_changes(schema: TableSchema) -> str:
    """The query for ``active_changes`` for the schema ``by_run``, where deletes have no effect by themselves."""
    names = sql.columns(change_log.log_columns(schema), "k")
    return f"SELECT {names} FROM {sql.work('log_by_run')} k WHERE k.brenvik_is_active = 1"


def find_pending(schema: TableSchema) -> str:
    """The query for ``pending_keys`` for the schema ``by_run``."""
    keys = sql.columns(schema.keys, "k")
    return f"SELECT {keys} FROM {sql.work('log_by_run')} k WHERE k.brenvik_is_pending = 1"


def count_deletes() -> str:
    """How many deletes (``n``) there are in ``accepted``."""
    return f"SELECT count(*) AS n FROM {sql.work('accepted')} c WHERE c.{DELETE} = 1"


def runs_of_key(schema: TableSchema) -> str:
    """The runs after the run ``after`` that logged changes of a key, the earliest first: ``run``, how many changes (``n``), and
    the highest number of a ``file`` they came from."""
    return f"""
SELECT k.{RUN} AS run, count(*) AS n, max({sequence.file_of(f"k.{SEQUENCE_NO}")}) AS file
FROM {sql.relation(str(schema.change_log))} k
WHERE {change_log.of_key(schema)} AND NOT ({sequence.is_explicit(f"k.{SEQUENCE_NO}")}) AND k.{RUN} > :after
GROUP BY k.{RUN} ORDER BY k.{RUN}"""
