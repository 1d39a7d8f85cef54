"""The tables of a catalog in an embedded DuckDB: as they are, and as they were."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

import duckdb
from pyarrow import ArrowException
from pyiceberg.exceptions import NoSuchTableError
from pyiceberg.table.snapshots import Operation
from sqlalchemy.exc import SQLAlchemyError

from brenvik.engines.lakehouse.catalogs import BY_NAME, Folder, Named
from brenvik.engines.lakehouse.changes import shown
from brenvik.engines.lakehouse.lake import OURS, Lake, named, properties_of, summary_of, whole
from brenvik.engines.lakehouse.tables import MEMORY, FileTables, plain
from brenvik.engines.protocol import Written
from brenvik.errors import Conflict, StoreError
from brenvik.ledger.schema import SCHEMA
from brenvik.merge import sql

LOG = f"{OURS}kept"
"""A property of a table's snapshots: the name of its change log, and the snapshot of that which belongs to it."""
_WRITTEN = (("added-data-files", "added-delete-files"), ("added-files-size",), ("added-position-deletes",))
"""The format's own properties of snapshots: added files, bytes and deleted rows."""


class CatalogTables(FileTables):
    """The tables of a catalog, as they are and as they were."""

    def __init__(self, place: str, *, memory_limit: str | None = None) -> None:
        super().__init__(f"lakehouse:{place}", memory_limit=memory_limit)
        home = Named(place[1:]) if place.startswith(BY_NAME) else Folder(Path(place))
        self._lake = Lake(home)
        self._identity = f"lakehouse {home.locks}"
        self._unread: dict[str, tuple[StoreError, Mapping[str, str] | None]] = {}
        """Tables that cannot be read: why, and our properties of their newest snapshot, None if those cannot be read either."""
        self._under_way = False
        self._locations: dict[tuple[str, str], str] = {}
        """Where the metadata of each table stood when it was last looked at."""

    def _refresh(self) -> None:
        """Refreshes the views of tables and ledger; not within a transaction, which keeps what it saw first."""
        if self._under_way:
            return
        with in_our_words(self.address):
            locations = self._lake.locations()
            if locations != self._locations:
                self._read_tables(locations)
                self._locations = locations

    def _read_tables(self, locations: dict[tuple[str, str], str]) -> None:
        for identifier in locations.keys() | self._locations.keys():
            if identifier[0] != SCHEMA and locations.get(identifier) != self._locations.get(identifier):
                self._read_table(identifier, there=identifier in locations)
        logs = {}
        for state in self._tables.values():
            if state.identifier[0] != SCHEMA and LOG in state.properties:
                name, _, snapshot = state.properties[LOG].rpartition(" ")
                logs[name] = int(snapshot)
        for identifier in locations:
            if identifier[0] == SCHEMA and identifier[1] in logs:
                self._read_table(identifier, snapshot=logs[identifier[1]])

    def _read_table(self, identifier: tuple[str, str], *, there: bool = True, snapshot: int | None = None) -> None:
        name = plain(".".join(identifier))
        self._unread.pop(name, None)
        if not there:
            self._hide(name)
            return
        properties = None
        try:
            table = self._lake.load(identifier)
            properties = properties_of(table.metadata)
            current = table.current_snapshot()
            state = self._lake.at(table, named(table.metadata, snapshot) if snapshot else current)
            with whole(identifier):
                self.give(state)
        except StoreError as error:
            self._hide(name)
            self._unread[name] = (error, properties)

    def at_run(self, table: str, run: int, columns: Iterable[str]) -> str | None:
        self._refresh()
        name = plain(table)
        if name not in self._tables or not (its := self._tables[name].table):
            return None
        snapshot = next((each for each in its.snapshots() if summary_of(each).get(f"{OURS}run") == str(run)), None)
        if snapshot is None:
            return None
        with in_our_words(self.address):
            state = self._lake.at(its, snapshot)
        now, then = (
            {(each.name, each.field, each.kind) for each in its.columns} for its in (self._tables[name], state)
        )
        if not {*columns} <= {column for column, _, _ in now & then}:
            return None
        relation = f"{MEMORY}.{sql.quote(f'was_{next(self._numbers)}')}"
        self.execute(f"CREATE OR REPLACE VIEW {relation} AS {shown(self._stored(state), ())}")
        return relation

    def written(self, table: str) -> dict[int, Written]:
        self._refresh()
        state = self._tables.get(plain(table))
        if state is None or state.table is None:
            return {}
        found: dict[int, Written] = {}
        counted: set[str] = set()
        log = self._tables.get(f"{SCHEMA}.{state.properties.get(LOG, '').rpartition(' ')[0]}".casefold())
        for snapshot in state.table.snapshots():
            properties = summary_of(snapshot)
            compacted = snapshot.summary and snapshot.summary.operation == Operation.REPLACE
            if compacted or f"{OURS}run" not in properties:
                continue
            wrote = [snapshot]
            number = properties.get(LOG, "").rpartition(" ")[2]
            if log and log.table and number and number not in counted:
                wrote += filter(None, [log.table.metadata.snapshot_by_id(int(number))])
            counted.add(number)
            found[int(properties[f"{OURS}run"])] = Written(
                *(sum(int(summary_of(each).get(name, 0)) for each in wrote for name in names) for names in _WRITTEN)
            )
        return found


@contextmanager
def in_our_words(address: str) -> Iterator[None]:
    try:
        yield
    except NoSuchTableError as error:
        raise Conflict(f"{address}: another process removed a table: {error}") from error
    except (OSError, ArrowException, SQLAlchemyError, duckdb.Error) as error:
        first = str(error).partition("\n")[0]
        raise StoreError(f"{address} cannot be read or written: {first}") from error
