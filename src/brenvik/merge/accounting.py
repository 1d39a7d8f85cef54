"""Whether the change log accounts for the table's rows: a version begins at a change of its key, and ends at one. Where no such
change is logged, the log has lost entries, or something else wrote to the table."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

from brenvik.merge import baseline, sql
from brenvik.merge.schema import EFFECTIVE_AT, TableSchema


def _no_change(schema: TableSchema, events: str, moment: str | None, which: str = "") -> str:
    """A test: whether none of the changes ``events`` has the key of a row ``s`` and a given effective time."""
    tests = [sql.same("e", "s", schema.keys), f"e.{EFFECTIVE_AT} = {moment}" if moment else "", which]
    return f"NOT EXISTS (SELECT 1 FROM {events} e WHERE {' AND '.join(filter(None, tests))})"


def _unaccounted(schema: TableSchema, events: str, which: str = "") -> tuple[str, ...]:
    """Tests of a row ``s`` in the form of ``target_versions``: no logged change at its beginning, and none at its end."""
    start = f"s.{EFFECTIVE_AT}" if schema.system_column("valid_from") else None
    tests = [_no_change(schema, events, start, which)]
    if schema.system_column("valid_to"):
        tests.append(f"s.brenvik_valid_to IS NOT NULL AND {_no_change(schema, events, 's.brenvik_valid_to', which)}")
    return tuple(tests)


def _count(schema: TableSchema, rows: str, tests: Iterable[str]) -> str:
    """How many keys (``n``) have a row for which a test holds, and the first of them (``key``)."""
    found = " UNION ALL ".join(
        f"SELECT {schema.key_text('s')} AS brenvik_key FROM {rows} s WHERE {test}" for test in tests
    )
    return f"SELECT count(DISTINCT q.brenvik_key) AS n, min(q.brenvik_key) AS key FROM ({found}) q"


@lru_cache(maxsize=256)
def count_in_load(schema: TableSchema) -> str:
    """How many keys with a full replay have a row that begins or ends without a change (``n``), and the first (``key``)."""
    was_there = "(e.brenvik_is_new = 0 OR e.brenvik_replaces IS NOT NULL)"
    tests = _unaccounted(schema, sql.work("decided"), was_there)
    return _count(schema, sql.work("stored_versions"), (f"s.brenvik_full_replay = 1 AND {test}" for test in tests))


@lru_cache(maxsize=256)
def count_in_replay(schema: TableSchema) -> str:
    """The same for the stored rows of recomputed keys; changes of reverted runs account for rows as well."""
    return _count(schema, sql.work("stored_versions"), _unaccounted(schema, sql.relation(str(schema.change_log))))


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
    return _count(schema, rows, _unaccounted(schema, sql.relation(str(schema.change_log))))


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
