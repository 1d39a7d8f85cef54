"""Whether the change log accounts for the table's rows: a version begins at a change of its key, and ends at one. Where no such
change is logged, the log has lost entries, or something else wrote to the table."""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import baseline, sql
from brenvik.merge.schema import EFFECTIVE_AT, TableSchema


def _no_change(schema: TableSchema, events: str, moment: str | None) -> str:
    """A test: whether none of the changes ``events`` has the key of a row ``s`` and a given effective time."""
    at = f" AND e.{EFFECTIVE_AT} = {moment}" if moment else ""
    return f"NOT EXISTS (SELECT 1 FROM {events} e WHERE {sql.same('e', 's', schema.keys)}{at})"


def _unaccounted(schema: TableSchema, events: str) -> tuple[str, str | None]:
    """Tests of a row ``s`` in the form of ``target_versions``: no logged change at its beginning, or at its end."""
    starts = _no_change(schema, events, f"s.{EFFECTIVE_AT}" if schema.system_column("valid_from") else None)
    if not schema.system_column("valid_to"):
        return starts, None
    return starts, f"s.brenvik_valid_to IS NOT NULL AND {_no_change(schema, events, 's.brenvik_valid_to')}"


def _count(schema: TableSchema, rows: str, events: str) -> str:
    """How many keys (``n``) have a row that begins or ends without a change, and the first of them (``key``)."""
    found = " UNION ALL ".join(
        f"SELECT {schema.key_text('s')} AS brenvik_key FROM {rows} s WHERE {test}"
        for test in filter(None, _unaccounted(schema, events))
    )
    return f"SELECT count(DISTINCT q.brenvik_key) AS n, min(q.brenvik_key) AS key FROM ({found}) q"


@lru_cache(maxsize=256)
def count_in_load(schema: TableSchema) -> str:
    """The same for the stored rows of keys with a full replay."""
    rows = f"(SELECT * FROM {sql.work('stored_versions')} a WHERE a.brenvik_full_replay = 1)"
    before = f"(SELECT * FROM {sql.work('decided')} j WHERE j.brenvik_is_new = 0 OR j.brenvik_replaces IS NOT NULL)"
    return _count(schema, rows, before)


@lru_cache(maxsize=256)
def count_in_replay(schema: TableSchema) -> str:
    """The same for the stored rows of recomputed keys; changes of reverted runs account for rows as well."""
    return _count(schema, sql.work("stored_versions"), sql.relation(str(schema.change_log)))


@lru_cache(maxsize=256)
def count_in_table(schema: TableSchema) -> str:
    """The same for all rows of the table."""
    start, end = (schema.system_column(name) for name in ("valid_from", "valid_to"))
    begins = f", t.{sql.quote(start)} AS {EFFECTIVE_AT}" if start else ""
    ends = (
        f", CASE WHEN {schema.is_current('t')} THEN NULL ELSE t.{sql.quote(end)} END AS brenvik_valid_to" if end else ""
    )
    keys = sql.columns(schema.keys, "t")
    rows = f"(SELECT {keys}{begins}{ends} FROM {sql.relation(schema.table)} t)"
    return _count(schema, rows, sql.relation(str(schema.change_log)))


@lru_cache(maxsize=64)
def log_unlogged(schema: TableSchema, column_set: int) -> tuple[str, str]:
    """Two statements that add changes to ``explicit`` for the rows that are not accounted for, as an adoption would log them;
    see ``baseline.log_versions``, also for the parameters."""
    kept, into = sql.relation(str(schema.change_log)), sql.work("explicit")
    start, end = (schema.system_column(name) for name in ("valid_from", "valid_to"))

    def none(column: str | None) -> str:
        at = f" AND e.{EFFECTIVE_AT} = t.{sql.quote(column)}" if column else ""
        return f"NOT EXISTS (SELECT 1 FROM {kept} e WHERE {sql.same('e', 't', schema.keys)}{at})"

    return baseline.as_changes(schema, column_set, into=into, begins=none(start), ends=none(end))
