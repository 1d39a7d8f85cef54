"""The tables of a lakehouse as views of its files in an embedded DuckDB: as they are, and as they were."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import duckdb
from pyarrow import ArrowException
from pyiceberg.exceptions import NoSuchTableError
from pyiceberg.table.snapshots import Operation
from sqlalchemy.exc import SQLAlchemyError

from brenvik.engines.duckdb import DuckDBEngine
from brenvik.engines.lakehouse import pending
from brenvik.engines.lakehouse.catalogs import BY_NAME, Folder, Named, file_system, scheme_of
from brenvik.engines.lakehouse.files import ROW_GROUP
from brenvik.engines.lakehouse.lake import MAIN, OURS, Lake, LakeTable, local, named, properties_of, summary_of, whole
from brenvik.engines.lakehouse.pending import MEMORY, FileColumns, Group, Relations, Stored
from brenvik.engines.protocol import Written
from brenvik.errors import Conflict, StoreError
from brenvik.ledger.schema import SCHEMA
from brenvik.merge import sql

if TYPE_CHECKING:
    import pyarrow as pa

LOG = f"{OURS}kept"
"""A property of a table's snapshots: the name of its change log, and the snapshot of that which belongs to it."""
_WRITTEN = (("added-data-files", "added-delete-files"), ("added-files-size",), ("added-position-deletes",))
"""The format's own properties of snapshots: added files, bytes and deleted rows."""


class ShownTables(DuckDBEngine):
    """Tables of files that are shown in DuckDB; what waits in ``pending`` for the commit is shown as if it was done."""

    def __init__(self, place: str, *, memory_limit: str | None = None) -> None:
        super().__init__(":memory:", memory_limit=memory_limit)
        self.address = f"lakehouse:{place}"
        home = Named(place[1:]) if place.startswith(BY_NAME) else Folder(Path(place))
        self._lake = Lake(home)
        self._identity = f"lakehouse {home.locks}"
        self._tables: dict[str, LakeTable] = {}
        self._unread: dict[str, tuple[StoreError, Mapping[str, str] | None]] = {}
        """Tables that cannot be read: why, and our properties of their newest snapshot, None if those cannot be read either."""
        self._changed: dict[str, None] = {}
        """Tables to which the transaction under way does something."""
        self._pruned: dict[str, None] = {}
        """Tables that it sees pruned to the rows of some keys."""
        self._under_way = False
        self._locations: dict[tuple[str, str], str] = {}
        """Where the metadata of each table stood when it was last looked at."""
        self._relations: dict[str, Relations] = {}
        self._numbers = itertools.count(1)
        self._file_columns: dict[str, FileColumns] = {}
        """The columns of each file that was read."""
        self._reached: set[str] = set()
        """How locations elsewhere begin that DuckDB can read."""
        self._execute(f"CREATE SCHEMA {MEMORY}", None)
        self._execute(f"CREATE SEQUENCE {MEMORY}.positions START {pending.FIRST_NEW}", None)

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

    def _relations_of(self, name: str) -> Relations:
        if name not in self._relations:
            space, table = self._tables[name].identifier
            relation = sql.quote(table) if space == MAIN else f"{sql.quote(space)}.{sql.quote(table)}"
            self._relations[name] = Relations(relation, next(self._numbers))
        return self._relations[name]

    def _show(self, name: str) -> None:
        state, relations = self._tables[name], self._relations_of(name)
        space = state.identifier[0]
        if space != MAIN:
            self._execute(f"CREATE SCHEMA IF NOT EXISTS {sql.quote(space)}", None)
        some = {"some_pending": name in self._changed, "pruned": name in self._pruned}
        self._execute(pending.show(relations, self._stored(state), **some), None)

    def _stored(self, state: LakeTable) -> Stored:
        for file in (*state.files, *state.deletes):
            scheme = scheme_of(file.file_path)
            if scheme and scheme not in self._reached:
                assert state.table
                self._connection.register_filesystem(file_system(state.table.io, file.file_path))
                self._reached.add(scheme)
        return Stored(
            tuple((each.name, each.kind, each.field) for each in state.columns),
            self._groups(state.paths),
            tuple(file.file_path for file in state.files),
            tuple(local(file.file_path) for file in state.deletes),
        )

    def _groups(self, paths: Sequence[str]) -> tuple[Group, ...]:
        """Files of a table by their columns."""
        if new := [path for path in paths if path not in self._file_columns]:
            listed = ", ".join(map(pending.text, new))
            self._file_columns |= dict.fromkeys(new, ())
            for path, field, name, kind in self._connection.execute(
                f"SELECT file_name, field_id, name, duckdb_type FROM parquet_schema([{listed}]) WHERE num_children IS NULL"
            ).fetchall():
                self._file_columns[path] += ((field, name, kind),)
        groups: dict[FileColumns, list[int]] = {}
        for number, path in enumerate(paths):
            groups.setdefault(self._file_columns[path], []).append(number)
        return tuple(
            Group(tuple(numbers), tuple(paths[number] for number in numbers), columns)
            for columns, numbers in groups.items()
        )

    def _forget_current(self, name: str) -> None:
        """Shows all of a table again."""
        del self._pruned[name]
        self._execute(f"DROP TABLE {self._relations[name].current}", None)
        self._show(name)

    def _read_table(self, identifier: tuple[str, str], *, there: bool = True, snapshot: int | None = None) -> None:
        name = plain(".".join(identifier).casefold())
        self._unread.pop(name, None)
        if not there:
            self._hide(name)
            return
        properties = None
        try:
            table = self._lake.load(identifier)
            properties = properties_of(table.metadata)
            current = table.current_snapshot()
            self._tables[name] = self._lake.at(table, named(table.metadata, snapshot) if snapshot else current)
            with whole(identifier):
                self._show(name)
        except StoreError as error:
            self._hide(name)
            self._unread[name] = (error, properties)

    def _hide(self, name: str) -> None:
        if name in self._tables and name in self._relations:
            self._execute(f"DROP VIEW IF EXISTS {self._relations[name].relation}", None)
        self._tables.pop(name, None)

    def _in_order(self, state: LakeTable, rows: str) -> Iterator[pa.RecordBatchReader]:
        """Rows in the order of the files to write, as readers to be read one after the other."""
        names = [column.name for column in state.columns]
        for question in pending.in_order(
            rows, names, state.sorted_by, state.split_by if state.split_by in names else None
        ):
            yield self._connection.sql(question).to_arrow_reader(ROW_GROUP)

    def _by_file(self, state: LakeTable, positions: str) -> list[tuple[str, pa.Array]]:
        """Places as the numbers of rows by file."""
        found = self._connection.sql(pending.by_file(positions)).to_arrow_table()
        files = (state.files[number].file_path for number in found["file"].to_pylist())
        return [(path, rows.values) for path, rows in zip(files, found["rows"], strict=True)]

    def at_run(self, table: str, run: int, columns: Iterable[str]) -> str | None:
        self._refresh()
        name = plain(table.casefold())
        if name not in self._tables or not (its := self._tables[name].table):
            return None
        snapshot = next((each for each in its.snapshots() if summary_of(each).get(f"{OURS}run") == str(run)), None)
        if snapshot is None:
            return None
        with in_our_words(self.address):
            state = self._lake.at(its, snapshot)
        if not {*columns} <= {column.name for column in state.columns}:
            return None
        relations = Relations(f"{MEMORY}.{sql.quote(f'was_{next(self._numbers)}')}", 0)
        self._execute(pending.show(relations, self._stored(state), some_pending=False, pruned=False), None)
        return relations.relation

    def written(self, table: str) -> dict[int, Written]:
        self._refresh()
        state = self._tables.get(plain(table.casefold()))
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


def plain(name: str) -> str:
    return name.removeprefix(f"{MAIN}.")
