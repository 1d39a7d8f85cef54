"""Pending deletes in the ledger."""

from __future__ import annotations

from collections.abc import Iterable

from brenvik.ledger.entries import Entries, H
from brenvik.ledger.records import Run
from brenvik.ledger.schema import place


class HeldDeletes(Entries[H]):
    """Pending deletes."""

    def last_hold(self, table: str) -> int:
        """The highest number of a table's pending deletes; they are numbered per table, under its lock."""
        found = self.engine.rows(
            f"SELECT COALESCE(max(hold), 0) AS hold FROM {place('held_deletes')} WHERE table_name = :table_name",
            {"table_name": table},
        )
        return int(found[0]["hold"])

    def decide_holds(self, run: Run, holds: Iterable[int], state: str) -> None:
        """Records what became of pending deletes: ``released``, ``dropped`` or ``lapsed``."""
        numbers = ", ".join(str(int(hold)) for hold in holds)
        if numbers:
            self.engine.run(
                f"UPDATE {place('held_deletes')} SET state = :state, decided_by = :run "
                f"WHERE table_name = :table_name AND hold IN ({numbers})",
                {"state": state, "run": run.number, "table_name": run.table},
            )
