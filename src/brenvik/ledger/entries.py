"""What all parts of the ledger share: the store that it lives in, and whether it is there at all."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any, Generic, TypeVar

from brenvik import __version__
from brenvik.errors import LedgerVersionError
from brenvik.ledger.protocol import Home
from brenvik.ledger.schema import SCHEMA, SCHEMA_VERSION, UPGRADABLE, place
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
            if self.engine.has_table(f"{SCHEMA}.layout"):  # of a version that had no other name for it
                raise self._of_other_version(self.engine.rows(f"SELECT layout AS n FROM {place('layout')}"))
            return False
        found = self.engine.rows(f"SELECT schema_version AS n FROM {place('schema_version')}")
        if len(found) != 1 or found[0]["n"] != SCHEMA_VERSION:
            raise self._of_other_version(found)
        return True

    def _of_other_version(self, found: Sequence[Mapping[str, Any]]) -> LedgerVersionError:
        if len(found) != 1:
            return LedgerVersionError(
                f"The ledger in {self.engine.address} is damaged: {SCHEMA}.schema_version has {len(found)} rows, expected 1. "
                "Nothing was written; restore the store from a backup."
            )
        version = found[0]["n"]
        next_step = "Use the version of Brenvik that wrote it."
        if version in UPGRADABLE:
            next_step = "Nothing was read or written. Make a backup of the store, then: brenvik upgrade"
        return LedgerVersionError(
            f"The ledger in {self.engine.address} has schema version {version}; Brenvik {__version__} needs version "
            f"{SCHEMA_VERSION}. {next_step}"
        )

    def _insert(self, table: str, values: Mapping[str, Any]) -> None:
        marks = ", ".join(f":{name}" for name in values)
        self.engine.run(f"INSERT INTO {place(table)} ({sql.columns(values)}) VALUES ({marks})", values)
