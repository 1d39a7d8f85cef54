"""Pending deletes in the ledger."""

from __future__ import annotations

from collections.abc import Iterable

from brenvik.ledger.entries import Entries, H
from brenvik.ledger.records import Run
from brenvik.ledger.schema import place


class PendingDeletes(Entries[H]):
    """Pending deletes."""

    def last_delete_no(self, table: str) -> int:
        """The highest number of a table's pending deletes; they are numbered per table, under its lock."""
        found = self._rows(
            f"SELECT COALESCE(max(delete_no), 0) AS delete_no FROM {place('pending_deletes')} WHERE table_name = :table_name",
            {"table_name": table},
        )
        return int(found[0]["delete_no"])

    def decide_pending_deletes(self, run: Run, numbers: Iterable[int], state: str) -> None:
        """Records what became of pending deletes: ``approved``, ``discarded`` or ``lapsed``."""
        decided = {"state": state, "decided_by": run.number}
        self._update("pending_deletes", decided, {"table_name": run.table}, numbers=("delete_no", numbers))
