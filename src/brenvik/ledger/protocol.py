"""What the ledger needs from its store: a part of what an engine does."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.ledger.records import LedgerEntry
    from brenvik.merge.capabilities import Capabilities
    from brenvik.model.types import ColumnType


class Home(Protocol):
    """The store of a ledger; see ``engines.protocol.Engine``."""

    address: str
    capabilities: Capabilities

    def make_ledger(self) -> None: ...

    def record(self, entry: LedgerEntry) -> int: ...

    def ask(
        self, text: str, values: Mapping[str, Any] | None = None, *, types: Mapping[str, ColumnType] | None = None
    ) -> pa.Table: ...

    def rows(
        self, text: str, values: Mapping[str, Any] | None = None, *, types: Mapping[str, ColumnType] | None = None
    ) -> list[dict[str, Any]]: ...

    def has_table(self, name: str) -> bool: ...

    def transaction(self) -> AbstractContextManager[None]: ...

    def lock(self, table: str, *, wait_s: float) -> AbstractContextManager[None]: ...
