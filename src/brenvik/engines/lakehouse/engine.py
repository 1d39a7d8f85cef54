"""The store protocol for a lakehouse: the commit of a transaction, compaction."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import timedelta
from functools import partial
from typing import TYPE_CHECKING

import pyarrow.compute as pc

from brenvik.engines.conflicts import retry_on_conflict
from brenvik.engines.duckdb.engine import type_of
from brenvik.engines.lakehouse import entries
from brenvik.engines.lakehouse.catalogs import Folder
from brenvik.engines.lakehouse.changes import deleted_by, rows_of, shown
from brenvik.engines.lakehouse.compaction import forget, to_rewrite
from brenvik.engines.lakehouse.entries import LEDGER
from brenvik.engines.lakehouse.lake import OURS, LakeTable
from brenvik.engines.lakehouse.log import ENTRIES, LoggedTables
from brenvik.engines.lakehouse.relocating import relocate
from brenvik.engines.lakehouse.shown import LOG, in_our_words
from brenvik.engines.lakehouse.snapshots import Change
from brenvik.engines.lakehouse.tables import plain
from brenvik.engines.locks import QUERY, held, locked_in_file
from brenvik.engines.protocol import Compacted, Relocated
from brenvik.ledger.schema import SCHEMA, TABLES
from brenvik.merge import sql
from brenvik.merge.schema import StoredColumn

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.model.rules import TableRules
    from brenvik.model.types import ColumnType


class LakehouseEngine(LoggedTables):
    """See ``protocol.Engine``.

    A transaction becomes one snapshot of the table that it is of, which is when it counts: before that, the changes it keeps
    become a snapshot of theirs and the ledger's entries a file, which that snapshot names. What no snapshot names never was.
    A transaction that is of no table becomes a snapshot of the ledger's own.
    """

    def malformed(self, name: str, columns: Mapping[str, ColumnType]) -> dict[str, int]:
        return {}

    def has_table(self, name: str) -> bool:
        self._refresh()
        name = name.casefold()
        if self._older and name.startswith(f"{SCHEMA}."):
            return name == f"{SCHEMA}.{self._older.version_table}"
        if name.startswith(f"{SCHEMA}.") and name.partition(".")[2] in TABLES:
            return self._has_ledger
        return plain(name) in self._tables or plain(name) in self._unread

    def columns_of(self, name: str) -> list[StoredColumn]:
        if name.startswith(QUERY):
            return self.duck.columns_of(name)
        self._refresh()
        if unread := self._unread.get(plain(name)):
            raise unread[0]
        state = self._tables.get(plain(name))
        return [
            StoredColumn(column.name, type_of(column.kind), column.kind, needed=column.needed)
            for column in (state.columns if state else ())
        ]

    def missing_rights(self, tables: Sequence[str], *, own_schema: str) -> list[str]:
        with in_our_words(self.address):
            return self._lake.home.missing_rights()

    @contextmanager
    def transaction(self, of: TableRules | None = None) -> Iterator[None]:
        self._refresh()
        before = (dict(self._tables), self._locations, self._read_so_far, self._seq, self._has_ledger)
        self._under_way = True
        try:
            with self.duck.transaction():
                yield
                with in_our_words(self.address):
                    self._commit_run(of)
                changed = dict.fromkeys((*self._parts, *self._stale))
                self._forget_changes()
                for name in changed:
                    self._show(name)
        except BaseException:
            self._tables, self._locations, self._read_so_far, self._seq, self._has_ledger = before
            self._parts, self._current, self._stale = {}, {}, {}  # gone with the transaction of DuckDB
            raise
        finally:
            self._under_way = False
            self._touched = {}

    def close(self) -> None:
        if self._some_named:
            self._adopt()
        self.duck.close()
        self._lake.home.close()

    @contextmanager
    def lock(self, table: str, *, wait_s: float) -> Iterator[None]:
        locks = self._lake.home.locks
        with in_our_words(self.address):
            locks.mkdir(parents=True, exist_ok=True)
        lock = locks / hashlib.blake2b(table.casefold().encode(), digest_size=8).hexdigest()
        with (
            held(self._identity, table, address=self.address, wait_s=wait_s),
            locked_in_file(lock, table, address=self.address, wait_s=wait_s),
        ):
            yield

    # Compaction

    def compact(self, tables: Sequence[str], *, keep: timedelta) -> list[Compacted]:
        self._refresh()
        names = [name for name in (plain(table) for table in tables) if name in self._tables]
        whole = [partial(self._compact, name, keep) for name in names]
        if not tables and LEDGER in self._locations:
            whole.append(partial(self._compact_ledger, keep))
        with in_our_words(self.address):
            return [retry_on_conflict(do) for do in whole]

    def scrub(self, tables: Sequence[str]) -> None:
        """The log comes first: the table's snapshots name one of the log, which stays as long as they do."""
        with in_our_words(self.address):
            for name in map(plain, tables):
                retry_on_conflict(partial(self._scrub, name))
            if LEDGER in self._locations:
                retry_on_conflict(partial(self._compact_ledger, timedelta(0), every=True))

    def relocate(self) -> list[Relocated]:
        home = self._lake.home
        if not isinstance(home, Folder):
            return []
        with in_our_words(self.address):
            return relocate(home)

    def _scrub(self, name: str) -> None:
        self._refresh()
        if name not in self._tables:
            return
        log, _, _ = self._tables[name].properties.get(LOG, "").rpartition(" ")
        named = {}
        if log:
            self._rewrite(f"{SCHEMA}.{log}".casefold(), every=True)
            snapshot = self._tables[f"{SCHEMA}.{log}".casefold()].snapshot
            assert snapshot
            named = {LOG: f"{log} {snapshot.snapshot_id}"}
        self._rewrite(name, every=True, named=named)
        for each in (name, *([f"{SCHEMA}.{log}".casefold()] if log else [])):
            self._forget(each, timedelta(0))
            self._show(each)

    def _compact(self, name: str, keep: timedelta) -> Compacted:
        self._refresh()
        before = self._tables[name]
        rows, deleted = self._rewrite(name)
        swept, size = self._forget(name, keep)
        state = self._tables[name]
        self._show(name)
        assert state.table and before.table
        return Compacted(
            name,
            (len(before.files), len(state.files)),
            (rows, deleted),
            (len(before.table.metadata.snapshots), len(state.table.metadata.snapshots)),
            swept,
            size,
        )

    def _rewrite(self, name: str, *, every: bool = False, named: Mapping[str, str] | None = None) -> tuple[int, int]:
        """Rewrites the files of a table that are worth it, or ``every`` file with deleted rows; ``named`` are properties that its
        snapshot gets in any case. Returns how many deleted rows there were in files, and are."""
        state = self._tables[name]
        stored = self._stored(state)
        deleted = self._by_file(state, f"({stored.deleted})")
        counts = {path: len(rows) for path, rows in deleted}
        chosen = to_rewrite(state, counts)
        if every:
            chosen |= {number for number, file in enumerate(state.files) if counts.get(file.file_path)}
        if chosen or named or len(state.deletes) > (0 if every else 1):
            rows = f"(SELECT f.* FROM ({stored.only(chosen).rows}) f{stored.without_deleted('f')})"
            paths = {state.files[number].file_path for number in chosen}
            left = [(path, rows) for path, rows in deleted if path not in paths]
            dropped = frozenset(paths.union(file.file_path for file in state.deletes))
            properties = {**state.properties, **(named or {})} if state.identifier[0] != SCHEMA else {}
            state = self._lake.commit(
                state, Change(self._in_order(state, rows), left, properties, dropped=dropped, same_rows=True)
            )
            deleted = left
            assert state.table
            self._tables[name] = state
            self._locations = {**self._locations, state.identifier: state.table.metadata_location}
        return sum(counts.values()), sum(len(rows) for _, rows in deleted)

    def _forget(self, name: str, keep: timedelta) -> tuple[int, int]:
        """Removes what nothing needs: how many files, and their bytes."""
        needed = [
            int(each.properties[LOG].rpartition(" ")[2])
            for each in self._tables.values()
            if self._names_log(each, name)
        ]
        state, swept, size = forget(self._lake, self._tables[name], needed, keep)
        assert state.table
        self._tables[name] = state
        self._locations = {**self._locations, state.identifier: state.table.metadata_location}
        return swept, size

    def _names_log(self, state: LakeTable, name: str) -> bool:
        """Whether a table names a snapshot of the change log of this name."""
        return f"{SCHEMA}.{state.properties.get(LOG, '').rpartition(' ')[0]}".casefold() == name

    def _compact_ledger(self, keep: timedelta, *, every: bool = False) -> Compacted:
        for error, properties in self._unread.values():
            if properties is None:  # it may name files of the ledger
                raise error
        before = self._ledger()
        if every or len(before.files) > 1:
            self._append(None, fold=True)
        state, swept, size = forget(self._lake, self._ledger(), (), keep, named=self._named(before))
        assert state.table and before.table
        self._locations = {**self._locations, LEDGER: state.table.metadata_location}
        snapshots = (len(before.table.metadata.snapshots), len(state.table.metadata.snapshots))
        return Compacted(".".join(LEDGER), (len(before.files), len(state.files)), (0, 0), snapshots, swept, size)

    def _before_reading(self, statement: str) -> None:
        self._refresh()
        for name, (error, _) in self._unread.items():
            if sql.relation(name) in statement:
                raise error
        super()._before_reading(statement)

    # The commit

    def _commit_run(self, of: TableRules | None) -> None:
        main = plain(of.stored_as) if of else ""
        names = list(self._touched)
        seq = self._seq + 1
        entered = self.duck.ask(entries.not_entered(names, seq)) if names else None
        some = entered is not None and entered.num_rows > 0
        if of and main in self._tables:
            self._commit(main, entered if some else None, rewritten=of.write_mode == "copy_on_write")
        elif some:
            assert not self._parts
            self._append(entered)
        if some:
            self._seq = seq
            for statement in entries.enter(names, seq):
                self.execute(statement)

    def _commit(self, main: str, entered: pa.Table | None, *, rewritten: bool) -> None:
        state = self._tables[main]
        properties = {name: value for name, value in state.properties.items() if name in (LOG, ENTRIES)}
        for name in list(self._parts):
            if name != main:
                log = self._write(name, {f"{OURS}of": ".".join(state.identifier)}, rewritten=rewritten)
                assert log.snapshot
                properties[LOG] = f"{log.identifier[1]} {log.snapshot.snapshot_id}"
        if entered is not None:
            properties[ENTRIES] = self._write_entries(entered)
            runs = entered.filter(pc.equal(entered["entry_of"], "runs")).to_pylist()
            properties |= {
                f"{OURS}{name}": str(row[name]) for row in runs for name in ("run", "feed", "kind", "source")
            }
        self._write(main, properties, rewritten=rewritten)

    def _write(self, name: str, properties: Mapping[str, str], *, rewritten: bool) -> LakeTable:
        """Commits the changes of a transaction to a table; rows are deleted by position, or their files ``rewritten``."""
        state, parts = self._tables[name], self._parts.get(name, [])
        deleted = self._by_file(state, f"({deleted_by(parts)})")
        columns = [(column.name, column.kind) for column in state.columns]
        rows = rows_of(parts, columns)
        dropped: frozenset[str] = frozenset()
        if rewritten and deleted:
            dropped = frozenset(path for path, _ in deleted)
            numbers = {number for number, file in enumerate(state.files) if file.file_path in dropped}
            rows, deleted = [shown(self._stored(state).only(numbers), parts)], []
        added = self._in_order(state, f"({' UNION ALL '.join(rows)})") if rows else ()
        if state.table is None and state.identifier[0] == SCHEMA and state.identifier in self._locations:
            self._lake.drop(state.identifier)  # left by a run that never came to its end
        done = self._lake.commit(state, Change(added, deleted, properties, dropped=dropped))
        assert done.table
        self._tables[name] = done
        self._locations = {**self._locations, done.identifier: done.table.metadata_location}
        return done
