"""The ledger of a lakehouse: its tables are in memory, where the core works on them, and are stored in one log.

The entries of a run are a file that the snapshot of its table names: they count with it. The log adopts such files with the
next commit of its own.
"""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from brenvik.engines.lakehouse import entries, upgrading
from brenvik.engines.lakehouse.entries import LEDGER, NEW, SEQ
from brenvik.engines.lakehouse.files import write_whole
from brenvik.engines.lakehouse.lake import OURS, LakeTable, local
from brenvik.engines.lakehouse.shown import LOG, CatalogTables, in_our_words
from brenvik.engines.lakehouse.snapshots import Change
from brenvik.engines.ledger_entries import entry_statement
from brenvik.errors import BrenvikError, Conflict
from brenvik.ledger.entries import now
from brenvik.ledger.schema import SCHEMA, TABLES, place
from brenvik.ledger.versions import UPGRADES, Upgrade
from brenvik.merge import sql

if TYPE_CHECKING:
    import pyarrow as pa
    from pyiceberg.table import Table

    from brenvik.ledger.records import LedgerEntry

ENTRIES, _COMPACTED = f"{OURS}ledger", f"{OURS}compacted"
"""Properties of snapshots. Of a table: the log, and the file of entries that belongs to it. Of the log: the files of entries that
tables name and that were rewritten with all others."""
MANY_FILES = 24
_TRIES = 10


class LoggedTables(CatalogTables):
    """Tables with their ledger."""

    def __init__(self, place: str, *, memory_limit: str | None = None) -> None:
        super().__init__(place, memory_limit=memory_limit)
        self._has_ledger = False
        self._older: Upgrade | None = None
        """The upgrade that the ledger needs, where it is of an older version."""
        self._touched: dict[str, None] = {}
        """Tables of the ledger that the transaction under way changed."""
        self._read_so_far: frozenset[str] = frozenset()
        """Files whose entries are in the tables in memory."""
        self._seq = 0
        self._some_named = False
        """Whether snapshots name entries that the log may not have yet."""

    def record(self, entry: LedgerEntry, values: Mapping[str, Any] | None = None, *, work: str = sql.WORK) -> int:
        self._touched[entry.table] = None
        statement, own = entry_statement(entry, also=(f"{sql.quote(SEQ)} = NULL",))
        return self.duck.run(statement, {**(values or {}), **own}, work=work)

    def make_ledger(self) -> None:
        self.execute(f"CREATE SCHEMA IF NOT EXISTS {sql.quote(SCHEMA)}")
        for statement in entries.tables():  # some may be left of a time that broke off
            self.execute(statement)
        self._has_ledger = True

    def _read_tables(self, locations: dict[tuple[str, str], str]) -> None:
        super()._read_tables(locations)
        if LEDGER in locations:
            self._read_entries()

    def _read_entries(self) -> None:
        """Reads new entries of the ledger's log, and of snapshots that it does not have yet, into the tables in memory."""
        if not self._has_ledger:
            self.make_ledger()
        state = self._ledger()
        files = [
            path for path in dict.fromkeys([*state.paths, *self._not_adopted(state)]) if path not in self._read_so_far
        ]
        self._older = next(
            (each for each in UPGRADES.values() if each.version_column in {column.name for column in state.columns}),
            None,
        )
        if self._older:
            self._show_version(state, files, self._older)
            return
        if files:
            entered = replace(self._stored(state), groups=self._groups(files))
            self.execute(f"CREATE OR REPLACE TABLE {NEW} AS {entered.rows}")
            answer = self.duck.rows(f"SELECT entry_of, max(seq) AS seq FROM {NEW} GROUP BY entry_of")
            for row in answer:
                for statement in entries.apply(row["entry_of"]):
                    self.execute(statement)
            self._seq = max(self._seq, *(row["seq"] for row in answer))
        self._read_so_far = frozenset([*state.paths, *self._not_adopted(state)])

    def _show_version(self, state: LakeTable, files: list[str], older: Upgrade) -> None:
        """Of a ledger of an older version, shows the version and the names of its tables only."""
        entered = replace(self._stored(state), groups=self._groups(files))
        self.execute(f"CREATE OR REPLACE TABLE {NEW} AS {entered.rows}")
        for name, column in ((older.version_table, older.version_column), ("tables", "table_name")):
            what = f"SELECT DISTINCT ON ({sql.quote(column)}) {sql.quote(column)} FROM {NEW} WHERE entry_of = '{name}'"
            self.execute(f"CREATE OR REPLACE TABLE {place(name)} AS {what}")

    def upgrade_ledger(self, upgrade: Upgrade, logs: Mapping[str, str]) -> None:
        for error, properties in self._unread.values():
            if properties is None or LOG in properties:
                raise error
        with in_our_words(self.address):
            state = self._ledger()
            upgraded = upgrading.entries_of(self.duck, NEW, upgrade, now())
            for old, new in logs.items():
                upgrading.rename_log(self._lake, old, new, upgrade.log_columns)
                for table in self._tables.values():
                    upgrading.name_log(self._lake, table, old, new, LOG)
            upgrading.write_log(self._lake, state, upgraded, {_COMPACTED: "\n".join(self._named(state))})
        self._has_ledger, self._older, self._locations = False, None, {}  # all is read again
        self._tables.clear()

    def _not_adopted(self, ledger: LakeTable) -> list[str]:
        """Files of entries that snapshots name and that the log does not have yet."""
        known = {*ledger.paths, *_compacted(ledger)}
        return [path for path in self._named(ledger) if path not in known]

    def _named(self, ledger: LakeTable) -> list[str]:
        """Files of entries that snapshots name."""
        found = [
            *(state.properties for state in self._tables.values()),
            *(properties for _, properties in self._unread.values() if properties),
        ]
        there = [properties[ENTRIES].partition(" ") for properties in found if ENTRIES in properties]
        return [path for log, _, path in there if log == _identity_of(ledger.table)]

    def _ledger(self) -> LakeTable:
        """The ledger's log as it is now."""
        table = self._lake.load(LEDGER)
        return self._lake.at(table, table.current_snapshot())

    def _write_entries(self, entered: pa.Table) -> str:
        """Writes entries as a file that belongs to no snapshot yet; returns the property with which a snapshot names it."""
        if self._not_adopted(self._ledger()):
            self._append(None)
        ledger = self._lake.load(LEDGER)
        path = local(write_whole(ledger, ledger.schema(), entered))
        self._read_so_far |= {path}
        self._some_named = True
        return f"{_identity_of(ledger)} {path}"

    def _adopt(self) -> None:
        """Adds the entries that snapshots name to the log. Where that fails, the next transaction does it: they count already."""
        with suppress(BrenvikError), in_our_words(self.address):
            self._append(None)

    def _append(self, entered: pa.Table | None, *, fold: bool = False) -> None:
        """Commits entries to the ledger's log, with those that snapshots name and it does not have yet; ``fold`` rewrites all of
        them, as happens by itself once they are in many files."""
        for attempt in range(_TRIES):
            state = self._ledger() if LEDGER in self._lake.locations() else LakeTable(LEDGER, entries.columns())
            others = self._not_adopted(state)
            fold = (fold or len(state.files) > MANY_FILES) and self._read_so_far >= {*state.paths} and not attempt
            if entered is None and not others and not fold:
                return
            properties = {}
            if fold:
                entered = self.duck.ask(entries.not_entered(list(TABLES), self._seq + 1, all_of_them=True))
                known = self._read_so_far.union(_compacted(state))
                properties = {_COMPACTED: "\n".join(known.intersection(self._named(state)))}
                others = [path for path in others if path not in self._read_so_far]
            try:
                added = [entered.to_reader()] if entered else ()
                done = self._lake.commit(state, Change(added, properties=properties, files=others), instead=fold)
            except Conflict:
                if attempt == _TRIES - 1:
                    raise
                continue
            assert done.table
            new = {*done.paths} - {*state.paths}
            if {*state.paths} <= self._read_so_far:  # else what others entered is still to be read
                self._locations = {**self._locations, LEDGER: done.table.metadata_location}
            self._read_so_far |= new
            return


def _compacted(ledger: LakeTable) -> list[str]:
    """Files of entries that snapshots name and that were rewritten with all others."""
    return ledger.properties.get(_COMPACTED, "").split("\n")


def _identity_of(table: Table | None) -> str:
    """What distinguishes a table from an earlier one of its name."""
    return str(table.metadata.table_uuid) if table else ""
