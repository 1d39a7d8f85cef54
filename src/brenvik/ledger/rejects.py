"""Rejected rows in the ledger."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from brenvik.errors import DeclarationError
from brenvik.ledger.entries import Entries, H
from brenvik.ledger.records import Run
from brenvik.ledger.schema import TABLES, place
from brenvik.merge import sql

if TYPE_CHECKING:
    import pyarrow as pa


class Rejects(Entries[H]):
    """Rejects."""

    def rejects(self, table: str | None = None, *, run: int | None = None, state: str | None = "open") -> pa.Table:
        """Rejected rows by table, the oldest first."""
        tests = {"table_name": table, "run": run, "state": state}
        where = " AND ".join(f"{name} = :{name}" for name, value in tests.items() if value is not None) or "1 = 1"
        return self._ask(
            f"SELECT {sql.columns(TABLES['rejects'])} FROM {place('rejects')} WHERE {where} ORDER BY table_name, reject",
            tests,
        )

    def last_reject(self, table: str) -> int:
        """The highest number of a table's rejects; they are numbered per table, under its lock."""
        found = self._rows(
            f"SELECT COALESCE(max(reject), 0) AS reject FROM {place('rejects')} WHERE table_name = :table_name",
            {"table_name": table},
        )
        return int(found[0]["reject"])

    def decide_rejects(self, run: Run, rejects: Iterable[int], state: str) -> None:
        """Records what became of open rejects: ``retried`` or ``discarded``. Raises DeclarationError when one is not open."""
        numbers = list(rejects)
        values = {"state": state, "decided_by": run.number}
        open_ones = {"table_name": run.table, "state": "open"}
        decided = self._update("rejects", values, open_ones, numbers=("reject", numbers))
        if decided != len(numbers):
            raise DeclarationError(
                f"Of {len(numbers):,} rejects of table {run.table!r}, {len(numbers) - decided:,} are not open any more: "
                "brenvik rejects"
            )
