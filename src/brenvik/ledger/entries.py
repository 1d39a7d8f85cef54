"""What all parts of the ledger share: the store that it lives in, and whether it is there at all."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from brenvik.ledger.protocol import Home
from brenvik.ledger.records import ChangedRows, NewRows
from brenvik.ledger.schema import SCHEMA_VERSION, TIMES
from brenvik.ledger.versions import other_version, version_of

if TYPE_CHECKING:
    import pyarrow as pa

H = TypeVar("H", bound=Home)


def now() -> datetime:
    """The current time in UTC, without a zone, as the ledger stores it."""
    return datetime.now(UTC).replace(tzinfo=None)


class Entries(Generic[H]):
    """The ledger of one store. Entries are written inside the caller's transactions."""

    def __init__(self, engine: H) -> None:
        self.engine = engine
        self._exists = False

    def exists(self) -> bool:
        """Whether this store has a ledger. Raises LedgerVersionError if it has another schema version."""
        self._exists = self._exists or self._look()
        return self._exists

    def _look(self) -> bool:
        version = version_of(self.engine)
        if version not in (None, SCHEMA_VERSION):
            raise other_version(self.engine, version)
        return version is not None

    def _rows(self, text: str, values: Mapping[str, Any] | None = None) -> list[dict[str, Any]]:
        return self.engine.rows(text, values, types=TIMES)

    def _ask(self, text: str, values: Mapping[str, Any] | None = None) -> pa.Table:
        return self.engine.ask(text, values, types=TIMES)

    def _insert(self, table: str, values: Mapping[str, Any]) -> None:
        self.engine.record(NewRows(table, [values]))

    def _update(
        self,
        table: str,
        values: Mapping[str, Any],
        where: Mapping[str, Any],
        *,
        numbers: tuple[str, Iterable[int]] | None = None,
    ) -> int:
        """Changes rows, as in ``ChangedRows``; returns how many. No numbers are no rows."""
        chosen = (numbers[0], [int(number) for number in numbers[1]]) if numbers else None
        if chosen and not chosen[1]:
            return 0
        return self.engine.record(ChangedRows(table, values, where, chosen))
