"""Watermarks in the ledger."""

from __future__ import annotations

from brenvik.ledger.entries import Entries, H
from brenvik.ledger.records import Run, Watermark
from brenvik.ledger.schema import place
from brenvik.model.watermarks import WatermarkValue, parse_value


class Watermarks(Entries[H]):
    """Watermarks."""

    def watermark(self, table: str, feed: str) -> Watermark | None:
        """The watermark of a feed; None when it never loaded anything."""
        if not self.exists():
            return None
        found = self.engine.rows(
            f"SELECT kind, watermark, run, advanced_at FROM {place('watermarks')} "
            "WHERE table_name = :table_name AND feed = :feed",
            {"table_name": table, "feed": feed},
        )
        return next(
            (Watermark(r["kind"], parse_value(r["watermark"], r["kind"]), r["run"], r["advanced_at"]) for r in found),
            None,
        )

    def set_watermark(self, run: Run, kind: str, mark: WatermarkValue) -> None:
        """Moves a feed's watermark, in the transaction of the data loaded up to it."""
        values = {
            "table_name": run.table,
            "feed": run.feed,
            "kind": kind,
            "watermark": str(mark),
            "run": run.number,
            "advanced_at": run.started_at,
        }
        moved = self.engine.run(
            f"UPDATE {place('watermarks')} SET kind = :kind, watermark = :watermark, run = :run, advanced_at = :advanced_at "
            "WHERE table_name = :table_name AND feed = :feed",
            values,
        )
        if not moved:
            self._insert("watermarks", values)
