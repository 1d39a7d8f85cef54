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
from brenvik.engines.lakehouse.lake import MAIN, SAID, Lake, LakeTable, local, named, said_of, summary_of, whole
from brenvik.engines.lakehouse.pending import ROOM, Group, Held, Rooms, Stored
from brenvik.engines.protocol import Written
from brenvik.errors import Conflict, StoreError
from brenvik.ledger.schema import SCHEMA
from brenvik.merge import sql

if TYPE_CHECKING:
    import pyarrow as pa

KEPT = f"{SAID}kept"
"""What a snapshot says: the name of the kept changes, and the snapshot of theirs that belongs to it."""
_WRITTEN = (("added-data-files", "added-delete-files"), ("added-files-size",), ("added-position-deletes",))
"""What the format has snapshots say of files, bytes and rows that are gone."""


class ShownTables(DuckDBEngine):
    """Tables of files that are shown in DuckDB; what waits in ``pending`` for the commit is shown as if it was done."""

    def __init__(self, place: str, *, memory_limit: str | None = None) -> None:
        super().__init__(":memory:", memory_limit=memory_limit)
        self.address = f"lakehouse:{place}"
        home = Named(place[1:]) if place.startswith(BY_NAME) else Folder(Path(place))
        self._lake = Lake(home)
        self._identity = f"lakehouse {home.holds}"
        self._tables: dict[str, LakeTable] = {}
        self._unread: dict[str, tuple[StoreError, Mapping[str, str] | None]] = {}
        """Tables that are not understood: why, and what their newest snapshot of ours says all the same, None where that cannot
        be read either."""
        self._changed: dict[str, None] = {}
        """Tables to which the transaction under way does something."""
        self._near: dict[str, None] = {}
        """Tables of which it asks only for rows that were brought near."""
        self._under_way = False
        self._places: dict[tuple[str, str], str] = {}
        """Where the metadata of each table stood when it was last looked at."""
        self._rooms: dict[str, Rooms] = {}
        self._numbers = itertools.count(1)
        self._held: dict[str, Held] = {}
        """What is held by each file that was looked at."""
        self._reached: set[str] = set()
        """How places elsewhere begin that DuckDB can read."""
        self._execute(f"CREATE SCHEMA {ROOM}", None)
        self._execute(f"CREATE SEQUENCE {ROOM}.places START {pending.FIRST_NEW}", None)

    def _refresh(self) -> None:
        """Sees to it that tables and ledger are shown as they are now; not within a transaction, which goes on from what it saw
        first."""
        if self._under_way:
            return
        with in_our_words(self.address):
            places = self._lake.places()
            if places != self._places:
                self._take_all(places)
                self._places = places

    def _take_all(self, places: dict[tuple[str, str], str]) -> None:
        for identifier in places.keys() | self._places.keys():
            if identifier[0] != SCHEMA and places.get(identifier) != self._places.get(identifier):
                self._take(identifier, there=identifier in places)
        kept = {}
        for state in self._tables.values():
            if state.identifier[0] != SCHEMA and KEPT in state.said:
                name, _, snapshot = state.said[KEPT].rpartition(" ")
                kept[name] = int(snapshot)
        for identifier in places:
            if identifier[0] == SCHEMA and identifier[1] in kept:
                self._take(identifier, snapshot=kept[identifier[1]])

    def _rooms_of(self, name: str) -> Rooms:
        if name not in self._rooms:
            space, table = self._tables[name].identifier
            relation = sql.quote(table) if space == MAIN else f"{sql.quote(space)}.{sql.quote(table)}"
            self._rooms[name] = Rooms(relation, next(self._numbers))
        return self._rooms[name]

    def _show(self, name: str) -> None:
        state, rooms = self._tables[name], self._rooms_of(name)
        space = state.identifier[0]
        if space != MAIN:
            self._execute(f"CREATE SCHEMA IF NOT EXISTS {sql.quote(space)}", None)
        some = {"some_pending": name in self._changed, "near": name in self._near}
        self._execute(pending.show(rooms, self._stored(state), **some), None)

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
        """Files of a table by what they hold."""
        if new := [path for path in paths if path not in self._held]:
            listed = ", ".join(map(pending.text, new))
            self._held |= dict.fromkeys(new, ())
            for path, field, name, kind in self._connection.execute(
                f"SELECT file_name, field_id, name, duckdb_type FROM parquet_schema([{listed}]) WHERE num_children IS NULL"
            ).fetchall():
                self._held[path] += ((field, name, kind),)
        groups: dict[Held, list[int]] = {}
        for number, path in enumerate(paths):
            groups.setdefault(self._held[path], []).append(number)
        return tuple(
            Group(tuple(numbers), tuple(paths[number] for number in numbers), held) for held, numbers in groups.items()
        )

    def _let_go(self, name: str) -> None:
        """Shows all of a table again."""
        del self._near[name]
        self._execute(f"DROP TABLE {self._rooms[name].near}", None)
        self._show(name)

    def _take(self, identifier: tuple[str, str], *, there: bool = True, snapshot: int | None = None) -> None:
        name = plain(".".join(identifier).casefold())
        self._unread.pop(name, None)
        if not there:
            self._hide(name)
            return
        said = None
        try:
            table = self._lake.load(identifier)
            said = said_of(table.metadata)
            current = table.current_snapshot()
            self._tables[name] = self._lake.at(table, named(table.metadata, snapshot) if snapshot else current)
            with whole(identifier):
                self._show(name)
        except StoreError as error:
            self._hide(name)
            self._unread[name] = (error, said)

    def _hide(self, name: str) -> None:
        if name in self._tables and name in self._rooms:
            self._execute(f"DROP VIEW IF EXISTS {self._rooms[name].relation}", None)
        self._tables.pop(name, None)

    def _in_order(self, state: LakeTable, rows: str) -> Iterator[pa.RecordBatchReader]:
        """Rows as they shall lie in the files of a table, read one reader after the other."""
        names = [column.name for column in state.columns]
        for question in pending.in_order(rows, names, state.sorted_by, state.apart if state.apart in names else None):
            yield self._connection.sql(question).to_arrow_reader(ROW_GROUP)

    def _by_file(self, state: LakeTable, places: str) -> list[tuple[str, pa.Array]]:
        """Places as the numbers of rows by file."""
        found = self._connection.sql(pending.by_file(places)).to_arrow_table()
        files = (state.files[number].file_path for number in found["file"].to_pylist())
        return [(path, rows.values) for path, rows in zip(files, found["rows"], strict=True)]

    def at_run(self, table: str, run: int, columns: Iterable[str]) -> str | None:
        self._refresh()
        name = plain(table.casefold())
        if name not in self._tables or not (its := self._tables[name].table):
            return None
        snapshot = next((each for each in its.snapshots() if summary_of(each).get(f"{SAID}run") == str(run)), None)
        if snapshot is None:
            return None
        with in_our_words(self.address):
            state = self._lake.at(its, snapshot)
        if not {*columns} <= {column.name for column in state.columns}:
            return None
        rooms = Rooms(f"{ROOM}.{sql.quote(f'was_{next(self._numbers)}')}", 0)
        self._execute(pending.show(rooms, self._stored(state), some_pending=False, near=False), None)
        return rooms.relation

    def written(self, table: str) -> dict[int, Written]:
        self._refresh()
        state = self._tables.get(plain(table.casefold()))
        if state is None or state.table is None:
            return {}
        found: dict[int, Written] = {}
        counted: set[str] = set()
        log = self._tables.get(f"{SCHEMA}.{state.said.get(KEPT, '').rpartition(' ')[0]}".casefold())
        for snapshot in state.table.snapshots():
            said = summary_of(snapshot)
            compacted = snapshot.summary and snapshot.summary.operation == Operation.REPLACE
            if compacted or f"{SAID}run" not in said:
                continue
            wrote = [snapshot]
            number = said.get(KEPT, "").rpartition(" ")[2]
            if log and log.table and number and number not in counted:
                wrote += filter(None, [log.table.metadata.snapshot_by_id(int(number))])
            counted.add(number)
            found[int(said[f"{SAID}run"])] = Written(
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
