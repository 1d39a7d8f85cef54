"""Watermarks in the ledger."""

from __future__ import annotations

from brenvik.ledger.entries import Entries, H
from brenvik.ledger.records import Run, Watermark
from brenvik.ledger.schema import place
from brenvik.model.positions import Position, PositionKind, kind_of


class Watermarks(Entries[H]):
    """Watermarks."""

    def watermark(self, table: str, feed: str) -> Watermark | None:
        """The watermark of a feed; None when it never loaded anything."""
        if not self.exists():
            return None
        found = self._rows(
            f"SELECT kind, watermark, run, advanced_at FROM {place('watermarks')} "
            "WHERE table_name = :table_name AND feed = :feed",
            {"table_name": table, "feed": feed},
        )
        if not found:
            return None
        (row,) = found
        kind = kind_of(row["kind"])
        return Watermark(kind, kind.parse(row["watermark"]), row["run"], row["advanced_at"])

    def set_watermark(self, run: Run, kind: PositionKind, mark: Position) -> None:
        """Moves a feed's watermark, in the transaction of the data loaded up to it."""
        values = {
            "kind": kind.name,
            "watermark": str(mark),
            "run": run.number,
            "advanced_at": run.started_at,
        }
        of_feed = {"table_name": run.table, "feed": run.feed}
        if not self._update("watermarks", values, of_feed):
            self._insert("watermarks", of_feed | values)
