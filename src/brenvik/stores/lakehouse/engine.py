"""A folder of tables of the open Apache Iceberg format, worked on by an embedded DuckDB."""

from __future__ import annotations

import hashlib
import itertools
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from datetime import timedelta
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pyarrow.compute as pc
import sqlglot
from pyarrow import ArrowException
from pyiceberg.exceptions import NoSuchTableError
from pyiceberg.table.snapshots import Operation
from sqlalchemy.exc import SQLAlchemyError

from brenvik.core import sql
from brenvik.core.blueprint import StoredColumn, Traits
from brenvik.errors import BrenvikError, Overtaken, StoreError
from brenvik.ledger_tables import SCHEMA, TABLES
from brenvik.patience import again_when_overtaken
from brenvik.stores.base import Tidied, Written
from brenvik.stores.duckdb import DuckDBEngine, type_of
from brenvik.stores.holds import QUERY, held, held_in_file, missing_rights_of_file
from brenvik.stores.lakehouse import entries, pending
from brenvik.stores.lakehouse.catalogs import BY_NAME, Folder, Named, file_system, scheme_of
from brenvik.stores.lakehouse.entries import LEDGER, NEW, SEQ
from brenvik.stores.lakehouse.files import ROW_GROUP, write_whole
from brenvik.stores.lakehouse.lake import MAIN, SAID, Lake, LakeColumn, LakeTable, kind_of, local, named, said_of
from brenvik.stores.lakehouse.pending import PLACE, ROOM, Group, Held, Rooms, Stored
from brenvik.stores.lakehouse.snapshots import Change
from brenvik.stores.lakehouse.tidying import forget, to_write_anew

if TYPE_CHECKING:
    import pyarrow as pa
    from pyiceberg.table import Table
    from pyiceberg.table.snapshots import Snapshot

    from brenvik.core.near import Near
    from brenvik.core.screen import Staging
    from brenvik.rules import TableRules
    from brenvik.types import ColumnType

_KEPT, _ENTRIES, _FOLDED = "brenvik.kept", "brenvik.ledger", "brenvik.folded"
"""What a snapshot says: the snapshot of the kept changes that belongs to it; the file of the ledger's entries; of the ledger
itself, the files of entries that others name and that were written anew with all others."""
_NAME = r'(?:"(?:[^"]|"")+"\.)?"(?:[^"]|"")+"'
_TARGET = re.compile(rf"(INSERT INTO|UPDATE|DELETE FROM|CREATE TABLE|ALTER TABLE) ({_NAME})")
_ALTER = re.compile(rf'ALTER TABLE ({_NAME}) (ADD COLUMN|DROP COLUMN|ALTER COLUMN) ("(?:[^"]|"")+") ?(.*)')
_WRITTEN = (("added-data-files", "added-delete-files"), ("added-files-size",), ("added-position-deletes",))
"""What the format has snapshots say of files, bytes and rows that are gone."""
_MANY_FILES = 24
_TRIES = 10


class LakehouseEngine(DuckDBEngine):
    """See ``base.Engine``.

    A transaction becomes one snapshot of the table that it is of, which is when it counts: before that, the changes it keeps
    become a snapshot of theirs and the ledger's entries a file, which that snapshot names. What no snapshot names never was.
    A transaction that is of no table becomes a snapshot of the ledger's own.
    """

    traits = Traits(PLACE, whole_rows=True, streams=True)

    def __init__(self, place: str, *, memory_limit: str | None = None) -> None:
        super().__init__(":memory:", memory_limit=memory_limit)
        self.address = f"lakehouse:{place}"
        home = Named(place[1:]) if place.startswith(BY_NAME) else Folder(Path(place))
        self._lake = Lake(home)
        self._identity = f"lakehouse {home.holds}"
        self._reached: set[str] = set()
        """How places elsewhere begin that DuckDB can read."""
        self._places: dict[tuple[str, str], str] = {}
        self._tables: dict[str, LakeTable] = {}
        self._unread: dict[str, tuple[StoreError, Mapping[str, str]]] = {}
        """Tables that are not understood: why, and what their newest snapshot of ours says all the same."""
        self._rooms: dict[str, Rooms] = {}
        self._numbers = itertools.count(1)
        self._changed: dict[str, None] = {}
        self._near: dict[str, None] = {}
        """Tables of which the transaction under way asks only for rows that were brought near."""
        self._has_ledger = False
        self._touched: dict[str, None] = {}
        self._held: dict[str, Held] = {}
        """What is held by each file that was looked at."""
        self._taken_in: frozenset[str] = frozenset()
        self._seq = 0
        self._some_told = False
        """Whether snapshots were told of runs that the ledger's log may not have yet."""
        self._under_way = False
        self._execute(f"CREATE SCHEMA {ROOM}", None)
        self._execute(f"CREATE SEQUENCE {ROOM}.places START {pending.FIRST_NEW}", None)

    def run(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = sql.WORK) -> int:
        self._look(text)
        compiled = sql.compile_for(text, self.dialect)
        target = _TARGET.match(compiled)
        if not target or target[2].startswith(f'"{sql.WORK}'):
            return self._execute(sql.as_written(compiled, work), values)
        name, verb = _name(target[2]), target[1]
        if name.startswith(f"{SCHEMA}.") and name.partition(".")[2] in TABLES:
            return self._run_on_ledger(verb, name.partition(".")[2], sql.as_written(compiled, work), values)
        if verb == "CREATE TABLE":
            return self._create(name, compiled)
        if name not in self._tables:
            return self._execute(sql.as_written(compiled, work), values)
        if verb == "ALTER TABLE":
            return self._alter(name, compiled)
        self._change(name)
        names = tuple(column.name for column in self._tables[name].columns)
        first, *others = pending.rewrite(compiled, self._rooms[name], names)
        count = self._execute(sql.as_written(first, work), values)
        for other in others:
            self._execute(other, None)
        return count

    def ask(
        self,
        text: str,
        values: Mapping[str, Any] | None = None,
        *,
        work: str = sql.WORK,
        types: Mapping[str, ColumnType] | None = None,
    ) -> pa.Table:
        self._look(text)
        answer = super().ask(text, values, work=work, types=types)
        return answer.drop_columns([PLACE]) if PLACE in answer.column_names else answer

    def rows(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = sql.WORK) -> list[dict[str, Any]]:
        self._look(text)
        return super().rows(text, values, work=work)

    def stage(self, rows: pa.RecordBatchReader, staging: Staging, values: Mapping[str, Any], *, work: str) -> None:
        self._look(staging.question)
        super().stage(rows, staging, values, work=work)

    def view(self, query: str) -> str:
        self._look(query)
        return super().view(query)

    def has_table(self, name: str) -> bool:
        self._refresh()
        name = name.casefold()
        if name.startswith(f"{SCHEMA}.") and name.partition(".")[2] in TABLES:
            return self._has_ledger
        return _plain(name) in self._tables or _plain(name) in self._unread

    def columns_of(self, name: str) -> list[StoredColumn]:
        if name.startswith(QUERY):
            return super().columns_of(name)
        self._refresh()
        if unread := self._unread.get(_plain(name.casefold())):
            raise unread[0]
        state = self._tables.get(_plain(name.casefold()))
        return [
            StoredColumn(column.name, type_of(column.kind), column.kind, needed=column.needed)
            for column in (state.columns if state else ())
        ]

    def index(self, table: str, columns: Sequence[str], *, apart: str | None = None) -> None:
        """Files are written in the order of these columns, those of either value of ``apart`` apart."""
        name = _plain(table.casefold())
        self._tables[name] = replace(self._tables[name], sorted_by=tuple(columns), apart=apart)

    def bring_near(self, near: Near, values: Mapping[str, Any], *, work: str) -> None:
        name = _plain(near.table.casefold())
        if name not in self._tables:
            return
        state, rooms = self._tables[name], self._rooms_of(name)
        where = sql.compile_for(near.where, self.dialect) if near.where else ""
        for statement in pending.bring_near(rooms, self._stored(state), near, where=where):
            self._execute(sql.as_written(statement, work), values)
        self._near[name] = None
        self._show(name)

    def missing_rights(self, tables: Sequence[str], *, own_schema: str) -> list[str]:
        if not isinstance(self._lake.home, Folder):
            return []  # what a catalog lets one do is known only when it is done
        place = self._lake.home.path
        while not place.exists():
            place = place.parent
        return missing_rights_of_file(place / "catalog.db")

    @contextmanager
    def transaction(self, of: TableRules | None = None) -> Iterator[None]:
        self._refresh()
        before = (dict(self._tables), self._places, self._taken_in, self._seq, self._has_ledger)
        self._under_way = True
        try:
            with super().transaction():
                yield
                with _told(self.address):
                    self._land(of)
                for name in list(self._near):
                    self._let_go(name)
        except BaseException:
            self._tables, self._places, self._taken_in, self._seq, self._has_ledger = before
            raise
        finally:
            self._under_way = False
            self._changed, self._near, self._touched = {}, {}, {}

    def close(self) -> None:
        if self._some_told:
            self._adopt()
        super().close()
        self._lake.home.close()

    @contextmanager
    def hold(self, table: str, *, wait_s: float) -> Iterator[None]:
        holds = self._lake.home.holds
        with _told(self.address):
            holds.mkdir(parents=True, exist_ok=True)
        lock = holds / hashlib.blake2b(table.casefold().encode(), digest_size=8).hexdigest()
        with (
            held(self._identity, table, address=self.address, wait_s=wait_s),
            held_in_file(lock, table, address=self.address, wait_s=wait_s),
        ):
            yield

    # Statements that change something

    def _run_on_ledger(self, verb: str, name: str, statement: str, values: Mapping[str, Any] | None) -> int:
        if verb == "CREATE TABLE":
            statement = f"{statement[:-1]}, {SEQ} BIGINT)"
            self._has_ledger = True
        self._touched[name] = None
        if verb == "UPDATE":
            statement = statement.replace(" SET ", f" SET {sql.quote(SEQ)} = NULL, ", 1)
        return self._execute(statement, values)

    def _create(self, name: str, statement: str) -> int:
        tree = sqlglot.parse_one(statement, read=self.dialect)
        columns = tuple(
            LakeColumn(
                column.name,
                kind_of(column.kind.sql(dialect=self.dialect)),
                needed=column.find(sqlglot.exp.NotNullColumnConstraint) is not None,
            )
            for column in tree.this.expressions
        )
        table = tree.this.this
        self._tables[name] = LakeTable((table.db or MAIN, table.name), columns)
        self._change(name)
        return 0

    def _alter(self, name: str, statement: str) -> int:
        self._change(name)
        state, found = self._tables[name], _ALTER.fullmatch(statement)
        assert found
        relation, what, column = found[1], found[2], found[3][1:-1].replace('""', '"')
        if what == "ADD COLUMN":
            columns = (*state.columns, LakeColumn(column, kind_of(found[4]), needed=False))
        elif what == "DROP COLUMN":
            columns = tuple(each for each in state.columns if each.name != column)
        else:
            columns = tuple(replace(each, needed=False) if each.name == column else each for each in state.columns)
        self._tables[name] = replace(state, columns=columns)
        self._execute(statement.replace(relation, self._rooms[name].added, 1), None)
        self._show(name)
        return 0

    def _change(self, name: str) -> None:
        """Makes room for what this transaction does to a table."""
        assert self._under_way
        if name in self._changed:
            return
        self._changed[name] = None
        state = self._tables[name]
        rooms = self._rooms_of(name)
        for statement in pending.make_rooms(rooms, [(each.name, each.kind, each.needed) for each in state.columns]):
            self._execute(statement, None)
        self._show(name)

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

    # What was

    def at_run(self, table: str, run: int, columns: Iterable[str]) -> str | None:
        self._refresh()
        name = _plain(table.casefold())
        if name not in self._tables or not (its := self._tables[name].table):
            return None
        snapshot = next((each for each in its.snapshots() if _said(each).get(f"{SAID}run") == str(run)), None)
        if snapshot is None:
            return None
        with _told(self.address):
            state = self._lake.at(its, snapshot)
        if not {*columns} <= {column.name for column in state.columns}:
            return None
        rooms = Rooms(f"{ROOM}.{sql.quote(f'was_{next(self._numbers)}')}", 0)
        self._execute(pending.show(rooms, self._stored(state), some_pending=False, near=False), None)
        return rooms.relation

    def written(self, table: str) -> dict[int, Written]:
        self._refresh()
        state = self._tables.get(_plain(table.casefold()))
        if state is None or state.table is None:
            return {}
        found: dict[int, Written] = {}
        counted: set[str] = set()
        for snapshot in state.table.snapshots():
            said = _said(snapshot)
            tidied = snapshot.summary and snapshot.summary.operation == Operation.REPLACE
            if tidied or f"{SAID}run" not in said:
                continue
            wrote = [snapshot]
            name, _, number = said.get(_KEPT, "").rpartition(" ")
            kept = self._tables.get(f"{SCHEMA}.{name}".casefold())
            if kept and kept.table and number not in counted:
                wrote += filter(None, [kept.table.metadata.snapshot_by_id(int(number))])
            counted.add(number)
            found[int(said[f"{SAID}run"])] = Written(
                *(sum(int(_said(each).get(name, 0)) for each in wrote for name in names) for names in _WRITTEN)
            )
        return found

    # Order among files

    def tidy(self, tables: Sequence[str], *, keep: timedelta) -> list[Tidied]:
        self._refresh()
        names = [name for name in (_plain(table.casefold()) for table in tables) if name in self._tables]
        found = []
        for do in [
            *(partial(self._tidy, name, keep) for name in names),
            *([] if tables else [partial(self._tidy_ledger, keep)]),
        ]:
            with _told(self.address):
                found += again_when_overtaken(do)
        return found

    def _tidy(self, name: str, keep: timedelta) -> list[Tidied]:
        self._refresh()
        before = state = self._tables[name]
        stored, gone = self._stored(state), self._by_file(state, f"({self._stored(state).gone})")
        counts = {path: len(rows) for path, rows in gone}
        anew = to_write_anew(state, counts)
        if anew or len(state.deletes) > 1:
            rows = f"(SELECT f.* FROM ({stored.only(anew).rows}) f{stored.without_gone('f')})"
            goes = {state.files[number].file_path for number in anew}
            left = [(path, rows) for path, rows in gone if path not in goes]
            dropped = frozenset(goes.union(file.file_path for file in state.deletes))
            said = state.said if state.identifier[0] != SCHEMA else {}
            state = self._lake.commit(
                state, Change(self._in_order(state, rows), left, said, dropped=dropped, same_rows=True)
            )
            gone = left
        needed = [int(each.said[_KEPT].rpartition(" ")[2]) for each in self._tables.values() if self._keeps(each, name)]
        state, swept, size = forget(self._lake, state, needed, keep)
        assert state.table and before.table
        self._tables[name] = state
        self._places = {**self._places, state.identifier: state.table.metadata_location}
        self._show(name)
        return [
            Tidied(
                name,
                (len(before.files), len(state.files)),
                (sum(counts.values()), sum(len(rows) for _, rows in gone)),
                (len(before.table.metadata.snapshots), len(state.table.metadata.snapshots)),
                swept,
                size,
            )
        ]

    def _keeps(self, state: LakeTable, name: str) -> bool:
        """Whether a table names a snapshot of the kept changes of this name."""
        return f"{SCHEMA}.{state.said.get(_KEPT, '').rpartition(' ')[0]}".casefold() == name

    def _tidy_ledger(self, keep: timedelta) -> list[Tidied]:
        if LEDGER not in self._lake.places():
            return []
        before = self._ledger()
        if len(before.files) > 1:
            self._append(None, fold=True)
        state, swept, size = forget(self._lake, self._ledger(), (), keep, named=self._named(before))
        assert state.table and before.table
        self._places = {**self._places, LEDGER: state.table.metadata_location}
        snapshots = (len(before.table.metadata.snapshots), len(state.table.metadata.snapshots))
        return [Tidied(".".join(LEDGER), (len(before.files), len(state.files)), (0, 0), snapshots, swept, size)]

    def _ledger(self) -> LakeTable:
        """The ledger's log as it is now."""
        table = self._lake.load(LEDGER)
        return self._lake.at(table, table.current_snapshot())

    # What others did

    def _look(self, statement: str) -> None:
        """What has to be done before a statement: see what there is."""
        self._refresh()
        for name, (error, _) in self._unread.items():
            if sql.relation(name) in statement:
                raise error

    def _refresh(self) -> None:
        """Sees to it that tables and ledger are shown as they are now; not within a transaction, which goes on from what it saw
        first."""
        if self._under_way:
            return
        with _told(self.address):
            places = self._lake.places()
            if places != self._places:
                self._take_all(places)

    def _take_all(self, places: dict[tuple[str, str], str]) -> None:
        for identifier in places.keys() | self._places.keys():
            if identifier[0] != SCHEMA and places.get(identifier) != self._places.get(identifier):
                self._take(identifier, there=identifier in places)
        kept = {}
        for state in self._tables.values():
            if state.identifier[0] != SCHEMA and _KEPT in state.said:
                name, _, snapshot = state.said[_KEPT].rpartition(" ")
                kept[name] = int(snapshot)
        for identifier in places:
            if identifier[0] == SCHEMA and identifier != LEDGER and identifier[1] in kept:
                self._take(identifier, snapshot=kept[identifier[1]])
        if LEDGER in places:
            self._take_entries()
        self._places = places

    def _take(self, identifier: tuple[str, str], *, there: bool = True, snapshot: int | None = None) -> None:
        name = _plain(".".join(identifier).casefold())
        self._unread.pop(name, None)
        if not there:
            self._tables.pop(name, None)
            return
        table = self._lake.load(identifier)
        current = table.current_snapshot()
        at = named(table.metadata, snapshot) if snapshot else current
        try:
            self._tables[name] = self._lake.at(table, at)
        except StoreError as error:
            self._tables.pop(name, None)
            self._unread[name] = (error, said_of(table.metadata))
            return
        self._show(name)

    def _take_entries(self) -> None:
        """Brings what the ledger's log, and snapshots that it does not know of yet, tell into the tables in memory."""
        if not self._has_ledger:
            self._execute(f"CREATE SCHEMA IF NOT EXISTS {sql.quote(SCHEMA)}", None)
            for statement in entries.tables():
                self._execute(sql.compile_for(statement, self.dialect), None)
            self._has_ledger = True
        state = self._ledger()
        files = [
            path for path in dict.fromkeys([*state.paths, *self._not_adopted(state)]) if path not in self._taken_in
        ]
        if files:
            self._execute(
                f"CREATE OR REPLACE TABLE {NEW} AS {replace(self._stored(state), groups=self._groups(files)).rows}",
                None,
            )
            answer = super().rows(f"SELECT entry_of, max(seq) AS seq FROM {NEW} GROUP BY entry_of")
            for row in answer:
                for statement in entries.take_in(row["entry_of"]):
                    self._execute(statement, None)
            self._seq = max(self._seq, *(row["seq"] for row in answer))
        self._taken_in = frozenset([*state.paths, *self._not_adopted(state)])

    def _not_adopted(self, ledger: LakeTable) -> list[str]:
        """Files of entries that snapshots name and that the log does not have yet."""
        known = {*ledger.paths, *ledger.said.get(_FOLDED, "").split("\n")}
        return [path for path in self._named(ledger) if path not in known]

    def _named(self, ledger: LakeTable) -> list[str]:
        """Files of entries that snapshots name."""
        told = [*(state.said for state in self._tables.values()), *(said for _, said in self._unread.values())]
        there = [said[_ENTRIES].partition(" ") for said in told if _ENTRIES in said]
        return [path for log, _, path in there if log == _identity_of(ledger.table)]

    # The commit

    def _land(self, of: TableRules | None) -> None:
        main = _plain(of.stored_as.casefold()) if of else ""
        names = list(self._touched)
        seq = self._seq + 1
        told = super().ask(entries.not_entered(names, seq)) if names else None
        some = told is not None and told.num_rows > 0
        if of and main in self._tables:
            self._commit(main, told if some else None, rewritten=of.changed_files == "rewritten")
        elif some:
            assert not self._changed
            self._append(told)
        if some:
            self._seq = seq
            for statement in entries.enter(names, seq):
                self._execute(statement, None)

    def _commit(self, main: str, told: pa.Table | None, *, rewritten: bool) -> None:
        state = self._tables[main]
        said = {name: value for name, value in state.said.items() if name in (_KEPT, _ENTRIES)}
        for name in list(self._changed):
            if name != main:
                kept = self._write(name, {"brenvik.of": ".".join(state.identifier)}, rewritten=rewritten)
                assert kept.snapshot
                said[_KEPT] = f"{kept.identifier[1]} {kept.snapshot.snapshot_id}"
        if told is not None:
            if self._not_adopted(self._ledger()):
                self._append(None)
            ledger = self._lake.load(LEDGER)
            path = local(write_whole(ledger, ledger.schema(), told))
            said[_ENTRIES] = f"{_identity_of(ledger)} {path}"
            self._taken_in |= {path}
            runs = told.filter(pc.equal(told["entry_of"], "runs")).to_pylist()
            said |= {f"brenvik.{name}": str(row[name]) for row in runs for name in ("run", "feed", "kind", "source")}
            self._some_told = True
        self._write(main, said, rewritten=rewritten)

    def _write(self, name: str, said: Mapping[str, str], *, rewritten: bool) -> LakeTable:
        """Commits what a transaction does to a table; files of which rows go are ``rewritten``, or the rows marked as gone."""
        state, rooms = self._tables[name], self._rooms_of(name)
        added: Iterable[pa.RecordBatchReader] = ()
        gone: list[tuple[str, pa.Array]] = []
        dropped: frozenset[str] = frozenset()
        if name in self._changed:
            rows, gone = rooms.added, self._by_file(state, rooms.gone)
            if rewritten and gone:
                dropped = frozenset(path for path, _ in gone)
                anew = {number for number, file in enumerate(state.files) if file.file_path in dropped}
                rows, gone = pending.anew(rooms, self._stored(state), anew), []
            added = self._in_order(state, rows)
        if state.table is None and state.identifier[0] == SCHEMA and state.identifier in self._places:
            self._lake.drop(state.identifier)  # left by a run that never came to its end
        done = self._lake.commit(state, Change(added, gone, said, dropped=dropped))
        assert done.table
        self._tables[name] = done
        self._places = {**self._places, done.identifier: done.table.metadata_location}
        if name in self._changed:
            del self._changed[name]
            for room in (rooms.added, rooms.gone, rooms.near):
                self._execute(f"DROP TABLE IF EXISTS {room}", None)
        self._near.pop(name, None)
        self._show(name)
        return done

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

    def _adopt(self) -> None:
        """Has the log know what snapshots told. Where that fails, the next transaction does it: it counts already."""
        with suppress(BrenvikError), _told(self.address):
            self._append(None)

    def _append(self, told: pa.Table | None, *, fold: bool = False) -> None:
        """Commits entries to the ledger's log, with what snapshots told and it does not have yet; ``fold`` writes all of them
        anew, as is done by itself once they lie in many files."""
        for attempt in range(_TRIES):
            state = self._ledger() if LEDGER in self._lake.places() else LakeTable(LEDGER, entries.columns())
            others = self._not_adopted(state)
            if told is None and not others and not fold:
                return
            fold = (fold or len(state.files) > _MANY_FILES) and self._taken_in >= {*state.paths} and not attempt
            said = {}
            if fold:
                told = super().ask(entries.not_entered(list(TABLES), self._seq + 1, all_of_them=True))
                said = {_FOLDED: "\n".join(self._taken_in.intersection(self._named(state)))}
                others = [path for path in others if path not in self._taken_in]
            try:
                added = [told.to_reader()] if told else ()
                done = self._lake.commit(state, Change(added, said=said, files=others), instead=fold)
            except Overtaken:
                if attempt == _TRIES - 1:
                    raise
                continue
            assert done.table
            new = {*done.paths} - {*state.paths}
            if {*state.paths} <= self._taken_in:  # else what others entered is still to be read
                self._places = {**self._places, LEDGER: done.table.metadata_location}
            self._taken_in |= new
            return


@contextmanager
def _told(address: str) -> Iterator[None]:
    try:
        yield
    except NoSuchTableError as error:
        raise Overtaken(f"{address}: somebody else took a table away: {error}") from error
    except (OSError, ArrowException, SQLAlchemyError) as error:
        first = str(error).partition("\n")[0]
        raise StoreError(f"{address} cannot be read or written: {first}") from error


def _said(snapshot: Snapshot) -> Mapping[str, str]:
    return snapshot.summary.additional_properties if snapshot.summary else {}


def _identity_of(table: Table | None) -> str:
    """What tells a table from an earlier one of its name."""
    return str(table.metadata.table_uuid) if table else ""


def _name(relation: str) -> str:
    """How a table is known here, of its quoted name."""
    return _plain(relation[1:-1].replace('"."', ".").replace('""', '"').casefold())


def _plain(name: str) -> str:
    return name.removeprefix(f"{MAIN}.")
