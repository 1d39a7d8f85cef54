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
        found = self._rows(
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
            "kind": kind,
            "watermark": str(mark),
            "run": run.number,
            "advanced_at": run.started_at,
        }
        of_feed = {"table_name": run.table, "feed": run.feed}
        if not self._update("watermarks", values, of_feed):
            self._insert("watermarks", of_feed | values)
