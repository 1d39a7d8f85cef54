"""The ledger: what Brenvik records beside the data, and the queries on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from brenvik import __version__
from brenvik.ledger.deletes import PendingDeletes
from brenvik.ledger.entries import H, now
from brenvik.ledger.erasures import Erasures
from brenvik.ledger.files import Files
from brenvik.ledger.records import LoadedFile, Watermark
from brenvik.ledger.rejects import Rejects
from brenvik.ledger.runs import Runs
from brenvik.ledger.schema import PROGRESS, SCHEMA, SCHEMA_VERSION, TABLES, place
from brenvik.ledger.tables import Tables
from brenvik.ledger.watermarks import Watermarks
from brenvik.merge import sql

if TYPE_CHECKING:
    import pyarrow as pa


class Ledger(Runs[H], Tables[H], Files[H], Watermarks[H], Rejects[H], PendingDeletes[H], Erasures[H]):
    """Queries and entries of one store's ledger. Entries are written inside the caller's transactions."""

    def prepare(self) -> None:
        """Makes the ledger's tables where they are missing."""
        if self.exists():
            return
        with self.engine.lock(f"{SCHEMA}.schema_version", wait_s=60.0), self.engine.transaction():
            if self.exists():  # another process made it
                return
            self.engine.make_ledger()
            self._insert(
                "schema_version",
                {"schema_version": SCHEMA_VERSION, "written_by": __version__, "written_at": now(), "last_run": 0},
            )
        self._exists = True

    def all_runs(self, table: str | None = None, *, last: int | None = None) -> pa.Table:
        """As ``runs``; no rows in a store without a ledger."""
        return self.runs(table, last=last) if self.exists() else _no_rows("runs")

    def all_rejects(self, table: str | None = None, *, run: int | None = None, state: str | None = "open") -> pa.Table:
        """As ``rejects``; no rows in a store without a ledger."""
        return self.rejects(table, run=run, state=state) if self.exists() else _no_rows("rejects")

    def all_progress(self) -> pa.Table:
        """The view ``feed_progress`` as a table."""
        if not self.exists():
            return _no_rows("feed_progress")
        order = "ORDER BY p.table_name, p.feed"
        return self._ask(f"SELECT {sql.columns(PROGRESS, 'p')} FROM {place('feed_progress')} p {order}")

    def memory(self, table: str, feed: str) -> FeedMemory:
        return FeedMemory(self, table, feed)


def _no_rows(name: str) -> pa.Table:
    import pyarrow as pa

    types = {"TEXT": pa.string(), "BIGINT": pa.int64(), "INTEGER": pa.int32(), "TIMESTAMP": pa.timestamp("us")}
    columns = TABLES.get(name) or PROGRESS
    return pa.schema([(column, types[kind]) for column, kind in columns.items()]).empty_table()


@dataclass(frozen=True)
class FeedMemory:
    """What the ledger remembers of one feed; see ``feeds.protocol.Memory``."""

    ledger: Ledger[Any]
    table: str
    feed: str

    def loaded_files(self, names: Sequence[str]) -> dict[str, LoadedFile]:
        return self.ledger.loaded_files(self.table, self.feed, names)

    def loaded_any_file(self) -> bool:
        return self.ledger.loaded_any_file(self.table, self.feed)

    def watermark(self) -> Watermark | None:
        return self.ledger.watermark(self.table, self.feed)
