"""What stores that change their tables in place have in common."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import timedelta
from functools import cached_property
from typing import TYPE_CHECKING, Any

from brenvik.engines.ledger_entries import entry_statement
from brenvik.engines.protocol import Compacted, Relocated, Written
from brenvik.engines.row_changes import row_statement, table_statements
from brenvik.engines.turns import Turn
from brenvik.ledger.schema import SCHEMA, TABLES, VIEWS, place, table_of
from brenvik.ledger.upgrade import upgrade_in_place
from brenvik.ledger.versions import Upgrade
from brenvik.merge import sql
from brenvik.merge.row_changes import RowChange, UpdateRows
from brenvik.merge.table_changes import CreateTable, TableChange

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.ledger.records import LedgerEntry
    from brenvik.merge.stored_rows import StoredRows
    from brenvik.model.types import ColumnType


class InPlace:
    """A part of ``protocol.Engine``, for a store that runs statements; there are no files to look after.

    A further store of that kind says how it runs one (``run``, ``ask``), makes a schema and an index, and does the rest of the
    protocol.
    """

    dialect: str
    address: str

    def __init__(self) -> None:
        self._made: dict[str, str] = {}
        """The working relations that are there, each with its kind."""
        self._reserved: set[str] = set()
        self._discarded: list[str] = []

    @cached_property
    def turn(self) -> Turn:
        return Turn()

    def run(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = sql.WORK) -> int:
        """Runs one statement; returns how many rows it inserted, updated or deleted, or put into the table that it made."""
        raise NotImplementedError

    def ask(
        self,
        text: str,
        values: Mapping[str, Any] | None = None,
        *,
        work: str = sql.WORK,
        types: Mapping[str, ColumnType] | None = None,
    ) -> pa.Table:
        """The result of a query."""
        raise NotImplementedError

    def rows(
        self,
        text: str,
        values: Mapping[str, Any] | None = None,
        *,
        work: str = sql.WORK,
        types: Mapping[str, ColumnType] | None = None,
    ) -> list[dict[str, Any]]:
        """The result of a small query, row by row."""
        return list(self.ask(text, values, work=work, types=types).to_pylist())

    def index(self, table: str, columns: Sequence[str]) -> None:
        """Makes rows of a table findable by these columns without a full scan."""
        raise NotImplementedError

    def make_schema(self, name: str) -> None:
        """Makes a schema unless it exists."""
        raise NotImplementedError

    def make(
        self,
        relation: str,
        query: str,
        values: Mapping[str, Any],
        *,
        work: str,
        view: bool = False,
        compares: Sequence[str] = (),
    ) -> int:
        kind = self._made[work + relation] = "VIEW" if view else "TABLE"
        count = self.run(f"CREATE TEMP {kind} {sql.work(relation)} AS {query}", values, work=work)
        return 0 if view else self.measure(work + relation, count)

    def measure(self, table: str, reported: int) -> int:
        """How many rows a new working table has, of which the statement ``reported`` a number; where the store needs to know
        sizes, it takes note."""
        return reported

    def index_work(self, relation: str, keys: Sequence[str], *, work: str) -> None:
        """Stores that join by hashing need no indexes."""

    def current(self, rows: StoredRows, values: Mapping[str, Any], *, work: str) -> str:
        return sql.relation(rows.table)

    def apply(self, change: RowChange, values: Mapping[str, Any], *, work: str) -> int:
        statement = row_statement(change)
        if isinstance(change, UpdateRows) and not change.columns:
            return int(self.rows(statement, values, work=work)[0]["n"])
        return self.run(statement, values, work=work)

    def change_table(self, change: TableChange) -> None:
        schema = change.table.rpartition(".")[0] if isinstance(change, CreateTable) else ""
        if schema and schema != SCHEMA:
            self.make_schema(schema)
        for statement in table_statements(change):
            self.run(statement)
        if isinstance(change, CreateTable) and change.found_by:
            self.index(change.table, change.found_by)

    def record(self, entry: LedgerEntry, values: Mapping[str, Any] | None = None, *, work: str = sql.WORK) -> int:
        text, own = entry_statement(entry)
        return self.run(text, {**(values or {}), **own}, work=work)

    def make_ledger(self) -> None:
        tables = [table_of(name) for name in TABLES]
        views = (f"CREATE VIEW {place(name)} AS {text}" for name, text in VIEWS.items())
        made = (each for table in tables for each in table_statements(table))
        self.make_schema(SCHEMA)
        self.run_script([*made, *views])
        for table in tables:
            if table.found_by:
                self.index(table.table, table.found_by)

    def run_script(self, statements: Sequence[str]) -> None:
        """Runs statements without parameters, one after the other."""
        for statement in statements:
            self.run(statement)

    def upgrade_ledger(self, upgrade: Upgrade, logs: Mapping[str, str]) -> None:
        upgrade_in_place(self, upgrade, logs)  # type: ignore[arg-type]  # the rest is in the store's own class

    def compact(self, tables: Sequence[str], *, keep: timedelta) -> list[Compacted]:
        return []

    def relocate(self) -> list[Relocated]:
        return []

    def at_run(self, table: str, run: int, columns: Iterable[str]) -> str | None:
        return None

    def written(self, table: str) -> dict[int, Written]:
        return {}

    def reserve(self) -> str:
        prefixes = (f"brenvik_w{number}_" for number in itertools.count(1))
        prefix = next(each for each in prefixes if each not in self._reserved)
        self._reserved.add(prefix)
        return prefix

    def on_discard(self, work: str) -> Callable[[], None]:
        discarded = self._discarded  # no reference to the engine: an outcome must not keep it alive
        return lambda: discarded.append(work)

    @contextmanager
    def _dropping(self) -> Iterator[list[tuple[str, str]]]:
        """For a block that drops working relations: those that can go, each with its kind. After it others may get their
        prefixes; where it fails, they are still to go."""
        prefixes = tuple(self._discarded)
        names = [name for name in self._made if name.startswith(prefixes)]
        yield [(self._made[name], name) for name in names]
        for name in names:
            del self._made[name]
        for prefix in prefixes:
            self._discarded.remove(prefix)
            self._reserved.discard(prefix)
