"""All that a run must know of its table, read once while the table is locked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import TableState


@dataclass(frozen=True)
class LoadMemory:
    """What the ledger knows of a table.

    ``state`` is None for a table that was never loaded. ``reverted`` maps reverted runs to the runs that reverted them.
    ``extracts`` and ``other_loads`` count the active loads of each kind; ``newest_extract`` is the run and time (as text) of
    the feed's newest extract.
    """

    has_ledger: bool = False
    state: TableState | None = None
    reverted: Mapping[int, int] = field(default_factory=dict)
    extracts: int = 0
    other_loads: int = 0
    newest_extract: tuple[int, str] | None = None

    @property
    def is_first(self) -> bool:
        """Whether no change of the table was ever loaded."""
        return self.state is None or self.state.high_effective is None


def read_memory(ledger: Ledger[Any], table: str, feed: str | None = None, *, is_extract: bool = False) -> LoadMemory:
    """What the ledger knows of a table; for a load from a ``feed``, also of the loads before it."""
    if not ledger.exists():
        return LoadMemory()
    state, reverted = ledger.state(table), ledger.reverted(table)
    if feed is None:
        return LoadMemory(True, state, reverted)
    extracts, others = ledger.loads_taken(table, without=reverted)
    newest = ledger.newest_extract(table, feed, without=reverted) if is_extract else None
    return LoadMemory(True, state, reverted, extracts, others, newest)
