"""Whether the change log accounts for the table's rows: a version begins at a change of its key, and ends at one. Where no such
change is logged, the log has lost entries, or something else wrote to the table."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache
from typing import Literal

from brenvik.merge import baseline, sql
from brenvik.merge.schema import EFFECTIVE_AT, TableSchema

Checked = Literal["decided", "log"]
"""Against what the rows of replayed keys are checked: the changes that were replayed, which are those of full replays only; or
the whole log, where changes of reverted runs account for rows as well."""


def _no_change(schema: TableSchema, events: str, moment: str | None, which: str = "") -> str:
    """A test: whether none of the changes ``events`` has the key of a row ``s`` and a given effective time."""
    tests = [sql.same("e", "s", schema.keys), f"e.{EFFECTIVE_AT} = {moment}" if moment else "", which]
    return f"NOT EXISTS (SELECT 1 FROM {events} WHERE {' AND '.join(filter(None, tests))})"


def _unaccounted(schema: TableSchema, events: str, which: str = "") -> tuple[str, ...]:
    """Tests of a row ``s`` in the form of ``target_versions``: no logged change at its beginning, and none at its end."""
    start = f"s.{EFFECTIVE_AT}" if schema.system_column("valid_from") else None
    tests = [_no_change(schema, events, start, which)]
    if schema.system_column("valid_to"):
        tests.append(f"s.brenvik_valid_to IS NOT NULL AND {_no_change(schema, events, 's.brenvik_valid_to', which)}")
    return tuple(tests)


def is_unlogged(schema: TableSchema, checked: Checked) -> str:
    """Whether a stored row ``s`` of a replayed key begins or ends without a change (1), or not (0)."""
    if checked == "decided":
        events = f"{sql.work('decided')} e"
        tests = _unaccounted(schema, events, "(e.brenvik_is_new = 0 OR e.brenvik_replaces IS NOT NULL)")
        which = "s.brenvik_full_replay = 1"
    else:
        replayed = f"{sql.work('replay_keys')} b ON {sql.same('b', 'e', schema.keys)}"
        tests = _unaccounted(schema, f"{sql.relation(str(schema.change_log))} e JOIN {replayed}")
        which = f"s.{sql.quote(schema.keys[0])} IS NOT NULL"
    return sql.flag(f"{which} AND ({' OR '.join(f'({test})' for test in tests)})")


@lru_cache(maxsize=256)
def count_in_table(schema: TableSchema) -> str:
    """Of all rows of the table, how many keys (``n``) have one that begins or ends without a change, and the first (``key``)."""
    start, end = (schema.system_column(name) for name in ("valid_from", "valid_to"))
    begins = f", t.{sql.quote(start)} AS {EFFECTIVE_AT}" if start else ""
    ends = (
        f", CASE WHEN {schema.is_current('t')} THEN NULL ELSE t.{sql.quote(end)} END AS brenvik_valid_to" if end else ""
    )
    keys = sql.columns(schema.keys, "t")
    rows = f"(SELECT {keys}{begins}{ends} FROM {sql.relation(schema.table)} t)"
    return _count(schema, rows, _unaccounted(schema, f"{sql.relation(str(schema.change_log))} e"))


def _count(schema: TableSchema, rows: str, tests: Iterable[str]) -> str:
    """How many keys (``n``) have a row for which a test holds, and the first of them (``key``)."""
    found = " UNION ALL ".join(
        f"SELECT {schema.key_text('s')} AS brenvik_key FROM {rows} s WHERE {test}" for test in tests
    )
    return f"SELECT count(DISTINCT q.brenvik_key) AS n, min(q.brenvik_key) AS key FROM ({found}) q"


@lru_cache(maxsize=64)
def unlogged_rows(schema: TableSchema, column_set: int) -> tuple[str, str]:
    """Two queries for changes that account for the rows that are not accounted for, as an adoption would log them; see
    ``baseline.versions_as_changes``, also for the parameters."""
    kept = sql.relation(str(schema.change_log))
    start, end = (schema.system_column(name) for name in ("valid_from", "valid_to"))

    def none(column: str | None) -> str:
        at = f" AND e.{EFFECTIVE_AT} = t.{sql.quote(column)}" if column else ""
        return f"NOT EXISTS (SELECT 1 FROM {kept} e WHERE {sql.same('e', 't', schema.keys)}{at})"

    return baseline.versions_as_changes(schema, column_set, begins=none(start), ends=none(end))
