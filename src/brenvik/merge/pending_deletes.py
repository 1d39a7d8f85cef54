"""Deletes that have no effect by themselves: they await approval, or are ignored.

They are moved to ``inactive_deletes`` before anything is computed, and decided once it is known which keys are current. They
are logged like all changes, but not active: ``active_changes`` omits every delete that is not in ``approved``.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import sql
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, RUN, SEQUENCE_NO, TableSchema


def find_approved(relation: str) -> str:
    """Makes ``approved`` (run and sequence number of deletes)."""
    return f"CREATE TEMP TABLE {sql.work('approved')} AS SELECT x.run, x.sequence_no FROM {relation} x"


def is_active(alias: str) -> str:
    """A test: whether a logged change is active, where deletes are not by themselves."""
    return f"""({alias}.{DELETE} = 0 OR EXISTS (
  SELECT 1 FROM {sql.work("approved")} r WHERE r.run = {alias}.{RUN} AND r.sequence_no = {alias}.{SEQUENCE_NO}))"""


@lru_cache(maxsize=256)
def set_deletes_aside(schema: TableSchema) -> tuple[str, str]:
    """Two statements: the deletes of ``changes`` into ``inactive_deletes``, and out of ``changes``."""
    names = sql.columns((SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns), "c")
    return (
        f"CREATE TEMP TABLE {sql.work('inactive_deletes')} AS SELECT {names}, CAST(NULL AS TEXT) AS brenvik_decision "
        f"FROM {sql.work('changes')} c WHERE c.{DELETE} = 1",
        f"DELETE FROM {sql.work('changes')} WHERE {DELETE} = 1",
    )


@lru_cache(maxsize=256)
def decide(schema: TableSchema, *, some_replayed: bool, some_pending: bool, all_replayed: bool = False) -> str:
    """Decides the changes in ``inactive_deletes``. ``pending_keys`` holds the keys whose deletes are pending already.

    ``all_replayed`` means that ``target_versions`` has all rows of every key.
    """
    inactive = sql.work("inactive_deletes")

    def same_key(alias: str) -> str:
        return sql.same(alias, inactive, schema.keys)

    cases = []
    if schema.order:
        never_null = (*schema.keys, *schema.order, EFFECTIVE_AT, COLUMN_SET)
        others = [name for name in schema.change_columns if name not in never_null]
        alike = f"{sql.same('o', inactive, never_null)} AND {sql.alike('o', inactive, others)}"
        kept = f"SELECT 1 FROM {sql.relation(str(schema.change_log))} o WHERE o.{DELETE} = 1 AND {alike}"
        if schema.some_excluded and not all_replayed:
            kept += f" AND NOT EXISTS (SELECT 1 FROM {sql.work('excluded_runs')} w WHERE w.run = o.{RUN})"
        earlier_same = f"SELECT 1 FROM {inactive} o WHERE o.{SEQUENCE_NO} < {inactive}.{SEQUENCE_NO} AND {alike}"
        cases.append(f"WHEN EXISTS ({earlier_same}) OR EXISTS ({kept}) THEN 'duplicate'")
    in_target = f"SELECT 1 FROM {sql.work('target_versions')} d WHERE {same_key('d')}"
    known, is_current = f"EXISTS ({in_target})", f"EXISTS ({in_target} AND d.brenvik_valid_to IS NULL)"
    if not all_replayed:
        stored = f"SELECT 1 FROM {sql.relation(schema.table)} t WHERE {same_key('t')}"
        brought = f"EXISTS (SELECT 1 FROM {sql.work('changes')} s WHERE {same_key('s')})"
        there = f"(EXISTS ({stored} AND {schema.is_current('t')}) OR {brought})"
        replayed = f"EXISTS (SELECT 1 FROM {sql.work('replay_keys')} b WHERE {same_key('b')})"
        is_current = f"CASE WHEN {replayed} THEN {is_current} ELSE {there} END" if some_replayed else there
        known = f"(EXISTS ({stored}) OR {brought})"
    last = "'ignored'"
    if schema.inactive_deletes == "review":
        waits = [
            f"EXISTS (SELECT 1 FROM {inactive} o WHERE o.{SEQUENCE_NO} < {inactive}.{SEQUENCE_NO} AND {same_key('o')})"
        ]
        waits += [f"EXISTS (SELECT 1 FROM {sql.work('pending_keys')} h WHERE {same_key('h')})"] if some_pending else []
        cases.append(f"WHEN NOT ({is_current}) AND NOT {known} THEN 'ignored'")
        cases.append(f"WHEN NOT ({is_current}) OR {sql.any_of(waits)} THEN 'unchanged'")
        last = "'pending'"
    return f"UPDATE {inactive} SET brenvik_decision = " + (f"CASE {' '.join(cases)} ELSE {last} END" if cases else last)


def summary() -> str:
    """How many inactive deletes have which decision (``n``)."""
    return f"SELECT brenvik_decision, count(*) AS n FROM {sql.work('inactive_deletes')} GROUP BY brenvik_decision"


@lru_cache(maxsize=256)
def log_deletes(schema: TableSchema) -> str:
    """Appends the inactive deletes to the change log."""
    names = (SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns)
    return f"""
INSERT INTO {sql.relation(str(schema.change_log))} ({RUN}, {sql.columns(names)})
SELECT :run, {sql.columns(names, "c")} FROM {sql.work("inactive_deletes")} c WHERE c.brenvik_decision <> 'duplicate'"""


@lru_cache(maxsize=256)
def find_pending(schema: TableSchema, pending: str) -> str:
    """Makes ``pending_keys`` (with ``delete_no`` and whether an extract brought it) from the relation ``pending``."""
    return f"""
CREATE TEMP TABLE {sql.work("pending_keys")} AS
SELECT {sql.columns(schema.keys, "k")}, h.delete_no, h.from_extract
FROM {pending} h JOIN {sql.relation(str(schema.change_log))} k ON k.{RUN} = h.run AND k.{SEQUENCE_NO} = h.sequence_no"""


def lapsed(schema: TableSchema) -> str:
    """The numbers of pending deletes from extracts whose keys are in ``extract_rows`` again."""
    return f"""
SELECT h.delete_no FROM {sql.work("pending_keys")} h
WHERE h.from_extract = 1
  AND EXISTS (SELECT 1 FROM {sql.work("extract_rows")} e WHERE {sql.same("e", "h", schema.keys)})"""


@lru_cache(maxsize=256)
def listed(schema: TableSchema, pending: str) -> str:
    """Pending deletes with the current version of their key: the columns of ``pending``, keys and values, effective time."""
    values = sql.columns(schema.values, "t")
    return f"""
SELECT h.delete_no AS brenvik_delete_no, h.feed AS brenvik_feed, h.run AS brenvik_run, h.pending_since AS brenvik_pending_since,
  k.{EFFECTIVE_AT} AS brenvik_effective_at, {sql.listed(sql.columns(schema.keys, "k"), values, sep=", ")}
FROM {pending} h
JOIN {sql.relation(str(schema.change_log))} k ON k.{RUN} = h.run AND k.{SEQUENCE_NO} = h.sequence_no
LEFT JOIN {sql.relation(schema.table)} t ON {sql.same("t", "k", schema.keys)} AND {schema.is_current("t")}
ORDER BY h.delete_no"""


def is_one_of(relation: str) -> str:
    """A test: whether the logged change ``k`` is in a relation (run, sequence_no)."""
    return f"EXISTS (SELECT 1 FROM {relation} r WHERE r.run = k.{RUN} AND r.sequence_no = k.{SEQUENCE_NO})"
