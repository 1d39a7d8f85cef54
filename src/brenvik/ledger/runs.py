"""Runs in the ledger: started, ended, reverted."""

from __future__ import annotations

import json
import logging
import math
import os
import socket
from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

from brenvik import __version__
from brenvik.errors import Blocked, BrenvikError
from brenvik.ledger.entries import H, now
from brenvik.ledger.memory import LoadMemory, Memories
from brenvik.ledger.records import Extract, Preview, Run, Trimmed
from brenvik.ledger.schema import ROW_COUNTS, SCHEMA, TABLES, TRIM, place
from brenvik.merge import sql
from brenvik.model.decisions import DECISIONS, RunState
from brenvik.model.positions import Position
from brenvik.model.rules import TableRules
from brenvik.model.watermarks import Window

if TYPE_CHECKING:
    import pyarrow as pa

_log = logging.getLogger("brenvik")
_log.addHandler(logging.NullHandler())  # a library does not print its records unasked


def _text(mark: Position | None) -> str | None:
    return None if mark is None else str(mark)


class Runs(Memories[H]):
    """Runs and their reverts."""

    def preview(self, table: str, *, feed: str = "", kind: str, source: str) -> tuple[Preview, LoadMemory]:
        """A run that writes nothing, with the number that it would have, and what the ledger knows before it."""
        memory = self.read_memory(table)
        return Preview(memory.last_run + 1, table, feed, kind, source, now()), memory

    def start_run(
        self,
        rules: TableRules,
        *,
        feed: str,
        kind: str,
        source: str,
        window: Window | None = None,
        rows_skipped: Mapping[str, int] | None = None,
        label: str | None = None,
        reason: str | None = None,
        extract_scope: str | None = None,
    ) -> tuple[Run, LoadMemory]:
        """Records a run as ``running`` in a transaction of its own.

        The caller holds the table's lock, so nothing else works on other runs of it that are still ``running``: they become
        ``crashed``. Returns the run, and what the ledger knew before it.
        """
        with self.engine.lock(f"{SCHEMA}.runs", wait_s=60.0), self.engine.transaction():
            memory = self.read_memory(rules.table)
            if memory.running:
                ended = {"state": "crashed", "message": "the process ended before the run did"}
                self._update("runs", ended, {"table_name": rules.table, "state": "running"})
            run = Run(memory.last_run + 1, rules.table, feed, kind, source, now())
            self._update("schema_version", {"last_run": run.number}, {})
            values = {
                "run": run.number,
                "table_name": run.table,
                "feed": feed,
                "kind": kind,
                "state": "running",
                "source": source,
                "started_at": run.started_at,
                "host": socket.gethostname(),
                "pid": os.getpid(),
                "version": __version__,
                "rules": json.dumps(rules._for_ledger(), default=str),
                "label": label,
                "reason": reason,
                "extract_scope": extract_scope,
                "window_low": _text(window.low) if window else None,
                "window_high": _text(window.high) if window else None,
                **(rows_skipped or {}),
            }
            self._insert("runs", {name: value for name, value in values.items() if value is not None})
        return run, memory

    def end_run(
        self, run: Run, state: RunState, counts: Mapping[str, int], message: str = "", **others: str | int | None
    ) -> None:
        """Records the end of a run, and other columns of it; for ``done`` in the transaction of the data.

        A failure after that transaction does not undo it: a run that is done stays done.
        """
        columns = ("read", "derived", *DECISIONS, *ROW_COUNTS)
        values: dict[str, Any] = {name: counts[name] for name in columns if name in counts}
        values |= {"state": state, "ended_at": now(), "message": message or None, **others}
        self._update("runs", values, {"run": run.number, "state": "running"})

    def enter_failure(self, run: Run, error: BaseException) -> None:
        """Records how a run failed. The transaction of the data was rolled back before."""
        state: RunState = "blocked" if isinstance(error, Blocked) else "failed"
        message = str(error) if isinstance(error, BrenvikError) else type(error).__name__
        _log.error("%s: %s", state, message, extra=run.about())
        try:
            with self.engine.transaction():
                self.end_run(run, state, getattr(error, "counts", {}), message)
        except BrenvikError as second:  # the store is gone: the first error is the one to report
            error.add_note(f"The run could not be entered as {state} either: {second}")

    def extracts(self, table: str) -> dict[int, Extract]:
        """All extracts loaded into a table, by run."""
        found = self._rows(
            f"SELECT run, feed, window_high, extract_scope, extract_column_set FROM {place('runs')} "
            "WHERE table_name = :table_name AND kind = 'full_extract' AND state = 'done' ORDER BY run",
            {"table_name": table},
        )
        return {
            row["run"]: Extract(row["feed"], row["window_high"], row["extract_scope"], row["extract_column_set"])
            for row in found
        }

    def trimmed(self, table: str) -> Trimmed | None:
        """How far the change log of a table was trimmed; None where it never was."""
        return self.all_trimmed(" AND table_name = :table_name", table_name=table).get(table)

    def all_trimmed(self, which: str = "", **params: str) -> dict[str, Trimmed]:
        """How far the change logs of all tables were trimmed, as far as they were."""
        if not self.exists():
            return {}
        found = self._rows(
            f"SELECT table_name, label, window_high FROM {place('runs')} "
            f"WHERE kind = '{TRIM}' AND state = 'done' AND label <> '0'{which}",
            params,
        )
        reached: dict[str, Trimmed] = {}
        for row in found:
            its = Trimmed(int(row["label"]), str(row["window_high"]))
            last = reached.get(row["table_name"], its)
            reached[row["table_name"]] = Trimmed(max(its.run, last.run), max(its.before, last.before))
        return reached

    def last_trim(self, table: str) -> str | None:
        """Up to which time the change log of a table was last looked through, as text."""
        found = self._rows(
            f"SELECT max(window_high) AS high FROM {place('runs')} "
            f"WHERE table_name = :table_name AND kind = '{TRIM}' AND state = 'done'",
            {"table_name": table},
        )
        return found[0]["high"] if found else None

    def last_run_before(self, table: str, moment: datetime) -> int | None:
        """The last run of a table that started before a moment (UTC)."""
        found = self._rows(
            f"SELECT max(run) AS run FROM {place('runs')} "
            "WHERE table_name = :table_name AND started_at < CAST(:moment AS TIMESTAMP)",
            {"table_name": table, "moment": moment},
        )
        return found[0]["run"] if found[0]["run"] is None else int(found[0]["run"])

    def runs_of(self, table: str) -> list[int]:
        """The numbers of all runs of a table."""
        found = self._rows(f"SELECT run FROM {place('runs')} WHERE table_name = :table_name", {"table_name": table})
        return [int(row["run"]) for row in found]

    def runs(self, table: str | None = None, *, last: int | None = None) -> pa.Table:
        """Runs, the newest first."""
        where = "WHERE table_name = :table_name" if table else ""
        limit = f"LIMIT {last:d}" if last else ""
        return self._ask(
            f"SELECT {sql.columns(TABLES['runs'])} FROM {place('runs')} {where} ORDER BY run DESC {limit}",
            {"table_name": table},
        )

    def run(self, number: int) -> dict[str, Any] | None:
        """One run, as in ``runs``; None when there is none of that number."""
        if not self.exists():
            return None
        found = self._rows(
            f"SELECT {sql.columns(TABLES['runs'])} FROM {place('runs')} WHERE run = :run", {"run": number}
        )
        return next(iter(found), None)

    def starts_of(self, table: str, runs: Collection[int]) -> dict[int, datetime]:
        """When some runs of a table started (UTC)."""
        found = self._rows(
            f"SELECT run, started_at FROM {place('runs')} WHERE table_name = :table_name AND run BETWEEN :low AND :high",
            {"table_name": table, "low": min(runs), "high": max(runs)},
        )
        return {row["run"]: row["started_at"] for row in found if row["run"] in runs}

    def reverted(self, table: str, *, known_at: int | None = None) -> dict[int, int]:
        """The reverted runs of a table, each with the run that reverted it; as of the run ``known_at``."""
        if not self.exists():
            return {}
        found = self._rows(
            f"SELECT run, reverted_by, undone_by FROM {place('reverted_runs')} WHERE table_name = :table_name "
            "ORDER BY reverted_by",
            {"table_name": table},
        )
        until = math.inf if known_at is None else known_at
        return {
            row["run"]: row["reverted_by"]
            for row in found
            if row["reverted_by"] <= until and (row["undone_by"] is None or row["undone_by"] > until)
        }

    def revert(self, run: Run, targets: Iterable[int], reason: str | None) -> None:
        """Records reverts, in the transaction that removes their changes from the table; rejects that the runs had retried are
        open again."""
        for target in targets:
            self._insert(
                "reverted_runs", {"table_name": run.table, "run": target, "reverted_by": run.number, "reason": reason}
            )
            self._set_rejects(run.table, target, "retried", "open")

    def undo_revert(self, run: Run, targets: Iterable[int]) -> None:
        for target in targets:
            undone = {"undone_by": run.number}
            self._update("reverted_runs", undone, {"table_name": run.table, "run": target, "undone_by": None})
            self._set_rejects(run.table, target, "open", "retried")

    def _set_rejects(self, table: str, decided_by: int, before: str, state: str) -> None:
        self._update("rejects", {"state": state}, {"table_name": table, "decided_by": decided_by, "state": before})

    def record_duplicates(self, run: Run, changes: Mapping[int, int]) -> None:
        """Records how many changes of a run were duplicates of changes of each earlier run."""
        for of_run, count in changes.items():
            self._insert(
                "deduplicated", {"table_name": run.table, "run": run.number, "of_run": of_run, "changes": count}
            )

    def deduplicated(self, table: str, of_runs: Sequence[int]) -> dict[int, int]:
        """How many changes of these runs came again, by the later run that deduplicated them."""
        found = self._rows(
            f"SELECT run, of_run, changes FROM {place('deduplicated')} WHERE table_name = :table_name ORDER BY run",
            {"table_name": table},
        )
        counts: dict[int, int] = {}
        for row in found:
            if row["of_run"] in of_runs and row["run"] not in of_runs:
                counts[row["run"]] = counts.get(row["run"], 0) + row["changes"]
        return counts
