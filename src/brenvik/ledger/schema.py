"""The ledger's tables and views, and SQL on them that is part of larger statements.

They are in the schema ``brenvik`` of the store, as are the change logs. All of them are plain tables that anybody may read.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

from brenvik.merge import sequence, sql
from brenvik.merge.table_changes import CreateTable
from brenvik.model.decisions import DECISIONS
from brenvik.model.types import TIMESTAMP

SCHEMA = "brenvik"
SCHEMA_VERSION = 7
LONGEST_NAME = 63
"""The longest identifier in PostgreSQL, in bytes; longer ones are truncated."""

ROW_COUNTS = ("rows_before", "rows_added", "rows_updated", "rows_removed", "rows_after")

TABLES: dict[str, dict[str, str]] = {
    "schema_version": {
        "schema_version": "INTEGER",
        "written_by": "TEXT",
        "written_at": "TIMESTAMP",
        "last_run": "BIGINT",
    },
    "tables": {
        "table_name": "TEXT",
        "first_run": "BIGINT",
        "columns": "TEXT",
        "rules": "TEXT",
        "high_order": "TEXT",
        "high_effective": "TEXT",
        "last_key": "BIGINT",
        "row_count": "BIGINT",
        "current_keys": "BIGINT",
    },
    "column_sets": {"table_name": "TEXT", "column_set": "INTEGER", "columns": "TEXT"},
    "runs": {
        "run": "BIGINT",
        "table_name": "TEXT",
        "feed": "TEXT",
        "kind": "TEXT",
        "state": "TEXT",
        "source": "TEXT",
        "started_at": "TIMESTAMP",
        "ended_at": "TIMESTAMP",
        "host": "TEXT",
        "pid": "BIGINT",
        "version": "TEXT",
        "rules": "TEXT",
        "message": "TEXT",
        "label": "TEXT",
        "reason": "TEXT",
        "window_low": "TEXT",
        "window_high": "TEXT",
        "extract_scope": "TEXT",
        "extract_column_set": "INTEGER",
        "future_rows": "BIGINT",
        "without_watermark": "BIGINT",
        "read": "BIGINT",
        "derived": "BIGINT",
        **dict.fromkeys((*DECISIONS, *ROW_COUNTS), "BIGINT"),
    },
    "loaded_files": {
        "table_name": "TEXT",
        "feed": "TEXT",
        "file": "TEXT",
        "size": "BIGINT",
        "modified_ns": "BIGINT",
        "digest": "TEXT",
        "run": "BIGINT",
        "number": "INTEGER",
        "loaded_at": "TIMESTAMP",
    },
    "watermarks": {
        "table_name": "TEXT",
        "feed": "TEXT",
        "kind": "TEXT",
        "watermark": "TEXT",
        "run": "BIGINT",
        "advanced_at": "TIMESTAMP",
    },
    "reverted_runs": {
        "table_name": "TEXT",
        "run": "BIGINT",
        "reverted_by": "BIGINT",
        "reason": "TEXT",
        "undone_by": "BIGINT",
    },
    "pending_deletes": {
        "table_name": "TEXT",
        "delete_no": "BIGINT",
        "feed": "TEXT",
        "run": "BIGINT",
        "sequence_no": "BIGINT",
        "from_extract": "INTEGER",
        "state": "TEXT",
        "pending_since": "TIMESTAMP",
        "decided_by": "BIGINT",
    },
    "rejected_keys": {"table_name": "TEXT", "run": "BIGINT", "key": "TEXT"},
    "deduplicated": {"table_name": "TEXT", "run": "BIGINT", "of_run": "BIGINT", "changes": "BIGINT"},
    "rejects": {
        "reject": "BIGINT",
        "table_name": "TEXT",
        "feed": "TEXT",
        "run": "BIGINT",
        "file": "TEXT",
        "line": "BIGINT",
        "column_name": "TEXT",
        "value": "TEXT",
        "reason": "TEXT",
        "content": "TEXT",
        "state": "TEXT",
        "rejected_at": "TIMESTAMP",
        "decided_by": "BIGINT",
    },
}

KEYS: dict[str, tuple[str, ...]] = {
    "schema_version": (),
    "tables": ("table_name",),
    "column_sets": ("table_name", "column_set"),
    "runs": ("run",),
    "loaded_files": ("table_name", "feed", "file", "run"),
    "watermarks": ("table_name", "feed"),
    "reverted_runs": ("table_name", "run", "reverted_by"),
    "pending_deletes": ("table_name", "delete_no"),
    "rejected_keys": ("table_name", "run", "key"),
    "deduplicated": ("table_name", "run", "of_run"),
    "rejects": ("table_name", "reject"),
}
"""What identifies the rows of a ledger table; a primary key where the store has such and the values are never too long."""
_UNLIMITED = ("rejected_keys",)

SCRUBBED = ("rejects", "rejected_keys", "runs")
"""Tables in which an erased key can have left values."""

ERASE = "erase"
"""The kind of a run that erases a key. Its label is the salt of the table, so many hexadecimal digits, a colon and the digest."""
SALT = 32
TRIM = "trim"
"""The kind of a run that trims a change log. Its label is the last settled run, or 0 where nothing was trimmed; its window_high
the time before which changes are settled."""
LOADS = ("changes", "upserts", "full_extract", "append")
"""Kinds of run that bring changes; the others work on what is there."""

_RUNS, _REJECTS = f'"{SCHEMA}"."runs"', f'"{SCHEMA}"."rejects"'
COUNTS = (
    f'NOT EXISTS (SELECT 1 FROM "{SCHEMA}"."reverted_runs" w '
    "WHERE w.table_name = r.table_name AND w.run = r.run AND w.undone_by IS NULL)"
)
VIEWS = {
    # one row per table that was ever loaded: its last successful run that is not reverted, and what went wrong since
    "table_status": f"""
SELECT t.table_name, t.last_done_run, d.ended_at AS last_done_at, COALESCE(d.protected, 0) AS protected,
  (SELECT count(*) FROM {_RUNS} r WHERE r.table_name = t.table_name AND r.state = 'failed'
    AND r.run > t.last_done_run) AS failed_since,
  (SELECT count(*) FROM {_RUNS} r WHERE r.table_name = t.table_name AND r.state = 'blocked'
    AND r.run > t.last_done_run) AS blocked_since,
  (SELECT count(*) FROM {_RUNS} r WHERE r.table_name = t.table_name AND r.state = 'crashed'
    AND r.run > t.last_done_run) AS crashed_since,
  (SELECT count(*) FROM {_RUNS} r WHERE r.table_name = t.table_name AND r.state = 'running') AS running,
  (SELECT count(*) FROM {_REJECTS} x WHERE x.table_name = t.table_name AND x.state = 'open') AS open_rejects,
  (SELECT count(*) FROM "{SCHEMA}"."pending_deletes" r WHERE r.table_name = t.table_name AND r.state = 'pending'
    AND {COUNTS}) AS pending_deletes
FROM (
  SELECT a.table_name, COALESCE((
    SELECT r.run FROM {_RUNS} r
    WHERE r.table_name = a.table_name AND r.state = 'done' AND r.kind IN ('changes', 'upserts', 'full_extract', 'append')
      AND {COUNTS} AND NOT (r.rejected > 0 AND r.rejected + r.duplicate = r.read)
    ORDER BY r.run DESC LIMIT 1), 0) AS last_done_run
  FROM (SELECT DISTINCT table_name FROM {_RUNS}) a
) t
LEFT JOIN {_RUNS} d ON d.run = t.last_done_run""",
    # one row per feed that ever took something: how far it is
    "feed_progress": f"""
SELECT w.table_name, w.feed, w.watermark AS loaded_up_to, w.run, w.advanced_at AS loaded_at FROM "{SCHEMA}"."watermarks" w
UNION ALL
SELECT f.table_name, f.feed, f.file, f.run, f.loaded_at FROM "{SCHEMA}"."loaded_files" f
WHERE NOT EXISTS (
  SELECT 1 FROM "{SCHEMA}"."loaded_files" o WHERE o.table_name = f.table_name AND o.feed = f.feed
    AND (o.run > f.run OR (o.run = f.run AND o.number > f.number)))""",
}
"""Views for people and monitoring; their columns stay as they are."""
PROGRESS = {
    "table_name": "TEXT",
    "feed": "TEXT",
    "loaded_up_to": "TEXT",
    "run": "BIGINT",
    "loaded_at": "TIMESTAMP",
}
"""The columns of the view ``feed_progress``."""

TIMES = dict.fromkeys(
    ("last_done_at", *(name for columns in TABLES.values() for name, kind in columns.items() if kind == "TIMESTAMP")),
    TIMESTAMP,
)
"""The types of columns of the ledger's tables and views that not every store knows by itself."""


def place(name: str) -> str:
    """The quoted name of a ledger table."""
    return sql.relation(f"{SCHEMA}.{name}")


def table_of(name: str) -> CreateTable:
    """A table of the ledger as it is made in stores with primary keys."""
    columns = tuple((column, kind, False) for column, kind in TABLES[name].items())
    found_by = ("table_name", "state", "run", "kind") if name == "runs" else ()
    return CreateTable(f"{SCHEMA}.{name}", columns, found_by, key=() if name in _UNLIMITED else KEYS[name])


def change_log_table(table: str, prefix: str = "change_log_") -> str:
    """The name of a table's change log, no longer than any store allows."""
    name = f"{prefix}{table.replace('.', '_')}"
    if len(name.encode()) > LONGEST_NAME:
        mark = hashlib.blake2b(table.encode(), digest_size=5).hexdigest()
        name = f"{name.encode()[: LONGEST_NAME - 11].decode(errors='ignore')}_{mark}"
    return f"{SCHEMA}.{name}"


def approved_deletes(*, known: bool = False, also: Sequence[int] = ()) -> str:
    """Approved deletes of the table ``table_name``, as a relation (run, sequence_no) in parentheses.

    ``known`` restricts them to those approved by the run ``known_at`` or before; ``also`` adds some by number.
    """
    until = " AND r.decided_by <= :known_at" if known else ""
    others = f" OR r.delete_no IN ({', '.join(str(int(number)) for number in also)})" if also else ""
    return f"""(
  SELECT r.run, r.sequence_no FROM {place("pending_deletes")} r
  WHERE r.table_name = :table_name AND ((r.state = 'approved'{until}){others}))"""


def numbered_deletes(numbers: Sequence[int]) -> str:
    """Pending deletes of the table ``table_name`` by number, as a relation (run, sequence_no) in parentheses."""
    some = ", ".join(str(int(number)) for number in numbers)
    return f"""(
  SELECT r.run, r.sequence_no FROM {place("pending_deletes")} r WHERE r.table_name = :table_name AND r.delete_no IN ({some}))"""


def currently_pending() -> str:
    """Pending deletes of the table ``table_name``, as a relation in parentheses."""
    return f"""(
  SELECT r.delete_no, r.feed, r.run, r.sequence_no, r.from_extract, r.pending_since FROM {place("pending_deletes")} r
  WHERE r.table_name = :table_name AND r.state = 'pending' AND {COUNTS})"""


def ever_pending() -> str:
    """All deletes of the table ``table_name`` that were ever pending, with their state, as a relation in parentheses."""
    return f"""(
  SELECT r.run, r.sequence_no, r.state, r.decided_by FROM {place("pending_deletes")} r WHERE r.table_name = :table_name)"""


def ever_reverted() -> str:
    """All reverts of runs of the table ``table_name``, as a relation in parentheses."""
    return f"""(
  SELECT r.run, r.reverted_by, r.undone_by FROM {place("reverted_runs")} r WHERE r.table_name = :table_name)"""


def pending_in_extract() -> str:
    """Deletes of absent keys that were pending when the run ``to_run`` had ended, as a relation (run, sequence_no) in
    parentheses: these keys were not in that extract."""
    return f"""(
  SELECT r.run, r.sequence_no FROM {place("pending_deletes")} r
  WHERE r.table_name = :table_name AND r.from_extract = 1 AND r.run <= :to_run
    AND (r.decided_by IS NULL OR r.decided_by > :to_run)
    AND NOT EXISTS (
      SELECT 1 FROM {place("reverted_runs")} w
      WHERE w.table_name = r.table_name AND w.run = r.run AND w.reverted_by < :to_run
        AND (w.undone_by IS NULL OR w.undone_by > :to_run)))"""


def record_rejected_keys(key: str) -> str:
    """The query for new rows of ``rejected_keys``, from the working relation of that name: the keys of the rows that an extract
    rejected; ``key`` is the whole key of a row ``r`` as text. The extract says only that these keys exist."""
    return f"SELECT :table_name, :run, {key} FROM {sql.work('rejected_keys')} r"


def rejected_in_extract() -> str:
    """The keys of the rows that the extract ``to_run`` rejected, as a relation (key) in parentheses."""
    return f"(SELECT r.key FROM {place('rejected_keys')} r WHERE r.table_name = :table_name AND r.run = :to_run)"


def record_pending() -> str:
    """The query for new rows of ``pending_deletes``, from the working relation ``decided_deletes``."""
    return f"""
SELECT :table_name, :last_delete_no + row_number() OVER (ORDER BY a.brenvik_sequence_no), :feed, :run, a.brenvik_sequence_no,
  :from_extract, 'pending', CAST(:loaded_at AS TIMESTAMP), NULL
FROM {sql.work("decided_deletes")} a
WHERE a.brenvik_decision = 'pending'"""


def record_rejects(files: Sequence[tuple[int, str]], retries: Sequence[int] = ()) -> str:
    """The query for new rows of ``rejects``, from the working relation ``rejected``; ``files`` maps numbers to names.

    Rows of the rejects ``retries``, which are retried in this order, have the file and line of the original ones.
    """
    names = " ".join(f"WHEN {number:d} THEN :file_{number}" for number, _ in files)
    file = f"CASE {sequence.file_of('r.brenvik_sequence_no')} {names} END" if files else "NULL"
    line, original = sequence.line_of("r.brenvik_sequence_no"), ""
    if retries:
        numbers = " ".join(f"WHEN {nth} THEN {int(number)}" for nth, number in enumerate(retries, 1))
        original = (
            f"\nLEFT JOIN {place('rejects')} o ON o.table_name = :table_name AND o.reject = CASE {line} {numbers} END"
        )
        file, line = "o.file", "o.line"
    return f"""
SELECT :last_reject + row_number() OVER (ORDER BY r.brenvik_sequence_no), :table_name, :feed, :run, {file}, {line},
  r.brenvik_column, r.brenvik_value, r.brenvik_reason, r.brenvik_row, 'open', CAST(:loaded_at AS TIMESTAMP), NULL
FROM {sql.work("rejected")} r{original}
WHERE r.brenvik_is_duplicate = 0"""


def erased_keys() -> str:
    """The digests of the erased keys of the table ``table_name``, as a relation (digest) in parentheses."""
    return f"""(
  SELECT substr(r.label, {SALT + 2}) AS digest FROM {place("runs")} r
  WHERE r.table_name = :table_name AND r.kind = '{ERASE}' AND r.state = 'done' AND {COUNTS})"""


def open_rejects(retries: Sequence[int] = ()) -> str:
    """The open rejects of a feed that are not being retried, as a relation (reason, content) in parentheses."""
    others = f" AND r.reject NOT IN ({', '.join(str(int(number)) for number in retries)})" if retries else ""
    return f"""(
  SELECT r.reason, r.content FROM {place("rejects")} r
  WHERE r.table_name = :table_name AND r.feed = :feed AND r.state = 'open'{others})"""


def known_rejects(*, has_ledger: bool, retries: Sequence[int] = ()) -> str:
    """The query for ``rejected`` from ``invalid``: ``brenvik_is_duplicate`` marks rows that equal an open reject, or an earlier
    row.

    The rejects ``retries`` are being retried; rows that equal them are rejected again.
    """
    is_open = f"EXISTS (SELECT 1 FROM {open_rejects(retries)} r WHERE r.content = f.brenvik_row) OR"
    return f"""
SELECT f.brenvik_sequence_no, f.brenvik_column, f.brenvik_value, f.brenvik_reason, f.brenvik_row,
  CASE WHEN {is_open if has_ledger else ""}
    row_number() OVER (PARTITION BY f.brenvik_row ORDER BY f.brenvik_sequence_no) > 1
  THEN 1 ELSE 0 END AS brenvik_is_duplicate
FROM {sql.work("invalid")} f"""
