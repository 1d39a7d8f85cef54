"""What all parts of the ledger share: the store that it lives in, and whether it is there at all."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any, Generic, TypeVar

from brenvik.ledger.protocol import Home
from brenvik.ledger.schema import SCHEMA, SCHEMA_VERSION, VIEWS, place
from brenvik.ledger.versions import other_version, version_of
from brenvik.merge import sql

H = TypeVar("H", bound=Home)


def now() -> datetime:
    """The current time in UTC, without a zone, as the ledger stores it."""
    return datetime.now(UTC).replace(tzinfo=None)


def make_views(engine: Home) -> None:
    """Makes the index and the views of a ledger whose tables exist."""
    engine.index(f"{SCHEMA}.runs", ("table_name", "state", "run", "kind"))
    for name, text in VIEWS.items():
        engine.run(f"CREATE VIEW {place(name)} AS {text}")


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

    def _insert(self, table: str, values: Mapping[str, Any]) -> None:
        marks = ", ".join(f":{name}" for name in values)
        self.engine.run(f"INSERT INTO {place(table)} ({sql.columns(values)}) VALUES ({marks})", values)
