"""Deletes that have no effect by themselves: they await approval, or are ignored.

They are set aside in ``inactive_deletes`` before anything is computed, and decided once it is known which keys are current. They
are logged like all changes, but not active: ``active_changes`` omits every delete that is not in ``approved``.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import classify, sql
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, RUN, SEQUENCE_NO, TableSchema


def find_approved(relation: str) -> str:
    """The query for ``approved`` (run and sequence number of deletes)."""
    return f"SELECT x.run, x.sequence_no FROM {relation} x"


def is_active(alias: str) -> str:
    """A test: whether a logged change is active, where deletes are not by themselves."""
    return f"""({alias}.{DELETE} = 0 OR EXISTS (
  SELECT 1 FROM {sql.work("approved")} r WHERE r.run = {alias}.{RUN} AND r.sequence_no = {alias}.{SEQUENCE_NO}))"""


@lru_cache(maxsize=256)
def set_deletes_aside(schema: TableSchema) -> tuple[str, str]:
    """Two queries on ``accepted``: the deletes, and the other changes."""
    names = sql.columns((SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns), "c")
    rows = f"SELECT {names} FROM {sql.work('accepted')} c"
    return f"{rows} WHERE c.{DELETE} = 1", f"{rows} WHERE c.{DELETE} = 0"


@lru_cache(maxsize=256)
def decide(schema: TableSchema, *, some_replayed: bool, some_pending: bool, again: bool = False) -> str:
    """The query for ``decided_deletes``: the changes in ``inactive_deletes``, decided. ``pending_keys`` holds the keys whose
    deletes are pending already.

    ``again``: past runs are decided again, so that ``target_versions`` has all rows of every key.
    """
    inactive = sql.work("inactive_deletes")

    def same_key(alias: str) -> str:
        return sql.same(alias, "c", schema.keys)

    earlier = f"o.{SEQUENCE_NO} < c.{SEQUENCE_NO}"
    cases = []
    if schema.order:
        same = classify.same_change(schema, "o", "c")
        kept = f"SELECT 1 FROM {sql.work('unreverted_changes')} o WHERE {same}"
        cases.append(
            f"WHEN EXISTS (SELECT 1 FROM {inactive} o WHERE {earlier} AND {same}) OR EXISTS ({kept}) THEN 'duplicate'"
        )
    in_target = f"SELECT 1 FROM {sql.work('target_versions')} d WHERE {same_key('d')}"
    known, is_current = f"EXISTS ({in_target})", f"EXISTS ({in_target} AND d.brenvik_valid_to IS NULL)"
    if not again:
        stored = f"SELECT 1 FROM {sql.work('stored_of_deletes')} t WHERE {same_key('t')}"
        brought = f"EXISTS (SELECT 1 FROM {sql.work('changes')} s WHERE {same_key('s')})"
        there = f"(EXISTS ({stored} AND {schema.is_current('t')}) OR {brought})"
        replayed = f"EXISTS (SELECT 1 FROM {sql.work('replay_keys')} b WHERE {same_key('b')})"
        is_current = f"CASE WHEN {replayed} THEN {is_current} ELSE {there} END" if some_replayed else there
        known = f"(EXISTS ({stored}) OR {brought})"
    last = "'ignored'"
    if schema.inactive_deletes == "review":
        waits = [f"EXISTS (SELECT 1 FROM {inactive} o WHERE {earlier} AND {same_key('o')})"]
        waits += [f"EXISTS (SELECT 1 FROM {sql.work('pending_keys')} h WHERE {same_key('h')})"] if some_pending else []
        cases.append(f"WHEN NOT ({is_current}) AND NOT {known} THEN 'ignored'")
        cases.append(f"WHEN NOT ({is_current}) OR {sql.any_of(waits)} THEN 'unchanged'")
        last = "'pending'"
    decision = f"CASE {' '.join(cases)} ELSE {last} END" if cases else last
    return f"SELECT c.*, {decision} AS brenvik_decision FROM {inactive} c"


@lru_cache(maxsize=256)
def summarize(schema: TableSchema, *, late: str) -> str:
    """How many inactive deletes have which decision (``n``), and how many of these are ``late``, a test of a change ``c``."""
    return (
        f"SELECT c.brenvik_decision, count(*) AS n, CAST(sum({sql.flag(late) if late else '0'}) AS BIGINT) AS late "
        f"FROM {sql.work('decided_deletes')} c GROUP BY c.brenvik_decision"
    )


@lru_cache(maxsize=256)
def find_pending(schema: TableSchema, pending: str) -> str:
    """The query for ``pending_keys`` (with ``delete_no`` and whether an extract brought it) from the relation ``pending``."""
    return f"""
SELECT {sql.columns(schema.keys, "k")}, h.delete_no, h.from_extract
FROM {pending} h JOIN {sql.relation(str(schema.change_log))} k ON k.{RUN} = h.run AND k.{SEQUENCE_NO} = h.sequence_no"""


def lapsed(schema: TableSchema, rows: str) -> str:
    """The numbers of pending deletes from extracts whose keys are in the relation ``rows`` again."""
    return f"""
SELECT h.delete_no FROM {sql.work("pending_keys")} h
WHERE h.from_extract = 1
  AND EXISTS (SELECT 1 FROM {sql.work(rows)} e WHERE {sql.same("e", "h", schema.keys)})"""


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
