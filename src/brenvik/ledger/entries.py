"""What all parts of the ledger share: the store that it lives in, and whether it is there at all."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any, Generic, TypeVar

from brenvik import __version__
from brenvik.errors import LedgerVersionError
from brenvik.ledger.protocol import Home
from brenvik.ledger.schema import SCHEMA, SCHEMA_VERSION, place
from brenvik.merge import sql

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
        if not self.engine.has_table(f"{SCHEMA}.schema_version"):
            return False
        found = self.engine.rows(f"SELECT schema_version FROM {place('schema_version')}")
        if len(found) != 1:
            raise LedgerVersionError(
                f"The ledger in {self.engine.address} is damaged: {SCHEMA}.schema_version has {len(found)} rows, expected 1. "
                "Nothing was written; restore the store from a backup."
            )
        version = found[0]["schema_version"]
        if version != SCHEMA_VERSION:
            older = "older" if version < SCHEMA_VERSION else "newer"
            raise LedgerVersionError(
                f"The ledger in {self.engine.address} has schema version {version}, which is {older} than {SCHEMA_VERSION}, the "
                f"one of Brenvik {__version__}. Use the version of Brenvik that wrote it."
            )
        return True

    def _insert(self, table: str, values: Mapping[str, Any]) -> None:
        marks = ", ".join(f":{name}" for name in values)
        self.engine.run(f"INSERT INTO {place(table)} ({sql.columns(values)}) VALUES ({marks})", values)
