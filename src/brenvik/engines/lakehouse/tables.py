"""Tables of files in an embedded DuckDB: shown as views, read by key, changed by parts until a commit writes them.

Nothing here knows a catalog: a table is given as its columns and files (a ``LakeTable``).
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from brenvik.engines.duckdb.engine import DuckDBEngine
from brenvik.engines.lakehouse import changes
from brenvik.engines.lakehouse.catalogs import file_system, scheme_of
from brenvik.engines.lakehouse.changes import Part
from brenvik.engines.lakehouse.files import ROW_GROUP
from brenvik.engines.lakehouse.lake import MAIN, LakeColumn, LakeTable, kind_of, local, promotes
from brenvik.engines.lakehouse.stored import POSITION, FileColumns, Group, Stored, by_file, in_order, text
from brenvik.engines.turns import Turn
from brenvik.errors import StoreError
from brenvik.merge import sql
from brenvik.merge.capabilities import Capabilities
from brenvik.merge.row_changes import DeleteRows, InsertRows, RowChange, UpdateRows
from brenvik.merge.row_ids import PseudoColumn
from brenvik.merge.table_changes import (
    AddColumns,
    AllowNulls,
    ChangeTypes,
    CreateTable,
    DropColumns,
    RenameColumns,
    SetColumns,
    TableChange,
)

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.merge.stored_rows import StoredRows
    from brenvik.merge.validate import Staging
    from brenvik.model.types import ColumnType

MEMORY = "brenvik_lake"
"""The schema, in DuckDB's memory, of what belongs to no store."""

_OWN = "brenvik_lake_"
"""What relations begin with that belong to no run."""


def plain(name: str) -> str:
    """How a table is known here."""
    return name.casefold().removeprefix(f"{MAIN}.")


class FileTables:
    """What the merge needs of its store, for tables of files; see ``engines.protocol.Engine``."""

    dialect = "duckdb"
    capabilities = Capabilities(
        PseudoColumn(POSITION),
        whole_rows=True,
        updates_rows_read=True,
        streams=True,
        lacks=frozenset({"identity"}),
    )

    def __init__(self, address: str, *, memory_limit: str | None = None) -> None:
        self.address = address
        self.duck = DuckDBEngine(":memory:", memory_limit=memory_limit)
        self.duck.address = address
        self._tables: dict[str, LakeTable] = {}
        self._parts: dict[str, list[Part]] = {}
        """What the transaction under way does to tables."""
        self._stale: dict[str, None] = {}
        """Tables whose views do not show all of these yet."""
        self._current: dict[str, list[str]] = {}
        """Relations with rows of tables that it has read."""
        self._numbers = itertools.count(1)
        self._file_columns: dict[str, FileColumns] = {}
        """The columns of each file that was read."""
        self._reached: set[str] = set()
        """How locations elsewhere begin that DuckDB can read."""
        self.execute(f"CREATE SCHEMA {MEMORY}")

    @property
    def turn(self) -> Turn:
        return self.duck.turn

    def execute(self, statement: str) -> int:
        """Runs a statement of DuckDB's dialect."""
        return self.duck.execute(statement)

    # Relations

    def statement(self, text: str, *, pretty: bool = False) -> str:
        return self.duck.statement(text, pretty=pretty)

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
        self._before_reading(query)
        return self.duck.make(relation, query, values, work=work, view=view)

    def ask(
        self,
        text: str,
        values: Mapping[str, Any] | None = None,
        *,
        work: str = sql.WORK,
        types: Mapping[str, ColumnType] | None = None,
    ) -> pa.Table:
        self._before_reading(text)
        answer = self.duck.ask(text, values, work=work)
        return answer.drop_columns([POSITION]) if POSITION in answer.column_names else answer

    def rows(
        self,
        text: str,
        values: Mapping[str, Any] | None = None,
        *,
        work: str = sql.WORK,
        types: Mapping[str, ColumnType] | None = None,
    ) -> list[dict[str, Any]]:
        self._before_reading(text)
        return self.duck.rows(text, values, work=work)

    def stage(self, rows: pa.RecordBatchReader, staging: Staging, values: Mapping[str, Any], *, work: str) -> None:
        self._before_reading(staging.through or "")
        self.duck.stage(rows, staging, values, work=work)

    def view(self, query: str) -> str:
        self._before_reading(query)
        return self.duck.view(query)

    def index_work(self, relation: str, keys: Sequence[str], *, work: str) -> None:
        """DuckDB joins by hashing."""

    def reserve(self) -> str:
        return self.duck.reserve()

    def on_discard(self, work: str) -> Callable[[], None]:
        return self.duck.on_discard(work)

    def current(self, rows: StoredRows, values: Mapping[str, Any], *, work: str) -> str:
        name = plain(rows.table)
        if name not in self._tables:
            return sql.relation(rows.table)
        query = changes.near(
            self._stored(self._tables[name]), self._parts.get(name, ()), rows.of, rows.keys, rows.where
        )
        self.duck.make(rows.name, query, values, work=work)
        self._current.setdefault(name, []).append(f'"{work}{rows.name}"')
        return sql.work(rows.name)

    # Changes

    def apply(self, change: RowChange, values: Mapping[str, Any], *, work: str) -> int:
        name = plain(change.table)
        parts = self._parts.setdefault(name, [])
        columns = [(column.name, column.kind) for column in self._tables[name].columns]
        match change:
            case InsertRows():
                query = changes.inserted(change, columns, len(parts))
            case UpdateRows():
                query = changes.updated(change, columns, self._rows_read(name))
            case DeleteRows():
                query = changes.deleted(change)
        relation = f"part_{next(self._numbers)}"
        count = self.duck.make(relation, query, values, work=work)
        made = f'"{work}{relation}"'
        rows, gone = not isinstance(change, DeleteRows), not isinstance(change, InsertRows)
        parts.append(Part(made if rows else "", tuple(column for column, _ in columns), made if gone else ""))
        self._stale[name] = None
        return count

    def _forget_changes(self) -> None:
        """Drops what a transaction has read and made, at its end."""
        made = {each for parts in self._parts.values() for part in parts for each in (part.rows, part.gone) if each}
        for each in sorted(made):
            self.execute(f"DROP TABLE IF EXISTS temp.{each}")
        self._parts, self._current, self._stale = {}, {}, {}

    def _rows_read(self, name: str) -> str:
        """A relation with the rows of a table that the transaction has read, and updates; or with all where it has read none."""
        read = self._current.get(name, [])
        if not read:
            self._before_reading("")
            return self._relation_of(name)
        if len(read) == 1:
            return read[0]
        every = " UNION ALL ".join(f"SELECT * FROM {each}" for each in read)
        return f"(SELECT DISTINCT ON ({POSITION}) * FROM ({every}))"

    def change_table(self, change: TableChange) -> None:
        name = plain(change.table)
        if isinstance(change, CreateTable):
            self._create(name, change)
        elif isinstance(change, SetColumns):
            self._set(name, change.columns)
        elif isinstance(change, ChangeTypes):
            self._change_types(name, change)
        elif isinstance(change, RenameColumns):
            self._rename(name, dict(change.columns))
        else:
            self._parts.setdefault(name, [])
            self._tables[name] = replace(self._tables[name], columns=_altered(self._tables[name], change))
        self._show(name)

    def _set(self, name: str, columns: Sequence[tuple[str, str]]) -> None:
        """Sets columns in all rows, each by an expression over the columns that the view of the table has."""
        row = f"(SELECT {POSITION} AS brenvik_row_id, {', '.join(f'{v} AS {sql.quote(n)}' for n, v in columns)} "
        source = f"{row}FROM {self._relation_of(name)})"
        given = tuple((column, f"s.{sql.quote(column)}") for column, _ in columns)
        self.apply(UpdateRows(name, given, source, ((POSITION, "brenvik_row_id"),)), {}, work=_OWN)

    def _change_types(self, name: str, change: ChangeTypes) -> None:
        """A column that the format can promote stays, files and all; any other becomes a new one, and all rows are written."""
        state = self._tables[name]
        kinds = {column: kind_of(kind) for column, kind, _ in change.columns}
        columns = tuple(_retyped(each, kinds.get(each.name, each.kind)) for each in state.columns)
        new = {each.name for each in columns if each.field is None}
        self._parts.setdefault(name, [])
        self._tables[name] = replace(state, columns=columns)
        if values := [(column, value) for column, _, value in change.columns if column in new]:
            self._set(name, values)

    def _rename(self, name: str, names: Mapping[str, str]) -> None:
        """A column keeps its id under another name, so that its files stay."""
        state = self._tables[name]
        if any(field is None for group in self._groups(state.paths) for field, _, _ in group.stored_columns):
            raise StoreError(
                f"{self.address}: {name} has files whose columns have no field ids, so that a renamed column would not be found "
                "in them. Nothing was written; have the engine that wrote them rewrite the files of the table."
            )
        columns = tuple(replace(each, name=names.get(each.name, each.name)) for each in state.columns)
        in_order = tuple(names.get(each, each) for each in state.sorted_by)
        self._parts.setdefault(name, [])
        self._tables[name] = replace(state, columns=columns, sorted_by=in_order)

    def _create(self, name: str, change: CreateTable) -> None:
        if name in self._tables:
            raise StoreError(f"{self.address} rejected a statement: it already has a table {name}")
        space, _, table = change.table.rpartition(".")
        columns = tuple(LakeColumn(column, kind_of(kind), needed=needed) for column, kind, needed in change.columns)
        self._tables[name] = LakeTable(
            (space or MAIN, table), columns, sorted_by=change.found_by, split_by=change.split_by
        )
        self._parts[name] = []

    # Views

    def give(self, state: LakeTable) -> None:
        """Shows a table as it is given."""
        name = plain(".".join(state.identifier))
        self._tables[name] = state
        self._show(name)

    def _relation_of(self, name: str) -> str:
        space, table = self._tables[name].identifier
        return sql.quote(table) if space == MAIN else f"{sql.quote(space)}.{sql.quote(table)}"

    def _show(self, name: str) -> None:
        """Makes the view of a table, as the transaction under way has changed it."""
        state = self._tables[name]
        space = state.identifier[0]
        if space != MAIN:
            self.execute(f"CREATE SCHEMA IF NOT EXISTS {sql.quote(space)}")
        query = changes.shown(self._stored(state), self._parts.get(name, ()))
        self.execute(f"CREATE OR REPLACE VIEW {self._relation_of(name)} AS {query}")
        self._stale.pop(name, None)

    def _before_reading(self, statement: str) -> None:
        """What comes before a statement that reads: views that show the tables as they are now. A load changes tables and does
        not read them again, so this is left until then."""
        for name in list(self._stale):
            self._show(name)

    def _hide(self, name: str) -> None:
        if name in self._tables:
            self.execute(f"DROP VIEW IF EXISTS {self._relation_of(name)}")
            del self._tables[name]

    def _stored(self, state: LakeTable) -> Stored:
        for file in (*state.files, *state.deletes):
            scheme = scheme_of(file.file_path)
            if scheme and scheme not in self._reached:
                assert state.table
                self.duck.reach(file_system(state.table.io, file.file_path))
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
            listed = ", ".join(map(text, new))
            self._file_columns |= dict.fromkeys(new, ())
            found = self.duck.rows(
                "SELECT file_name, field_id, name, duckdb_type AS type_name "
                f"FROM parquet_schema([{listed}]) WHERE num_children IS NULL"
            )
            for row in found:
                self._file_columns[row["file_name"]] += ((row["field_id"], row["name"], row["type_name"]),)
        groups: dict[FileColumns, list[int]] = {}
        for number, path in enumerate(paths):
            groups.setdefault(self._file_columns[path], []).append(number)
        return tuple(
            Group(tuple(numbers), tuple(paths[number] for number in numbers), columns)
            for columns, numbers in groups.items()
        )

    # What a commit writes

    def _in_order(self, state: LakeTable, rows: str) -> Iterator[pa.RecordBatchReader]:
        """Rows in the order of the files to write, as readers to be read one after the other."""
        names = [column.name for column in state.columns]
        split_by = state.split_by if state.split_by in names else None
        for question in in_order(rows, names, state.sorted_by, split_by):
            yield self.duck.read(question, ROW_GROUP)

    def _by_file(self, state: LakeTable, positions: str) -> list[tuple[str, pa.Array]]:
        """Positions as the numbers of rows by file."""
        found = self.duck.ask(by_file(positions))
        files = (state.files[number].file_path for number in found["file"].to_pylist())
        return [(path, rows.values) for path, rows in zip(files, found["rows"], strict=True)]


def _retyped(column: LakeColumn, kind: str) -> LakeColumn:
    """A column with another type; without its id, if files with the former type could not be read as the new one."""
    return replace(column, kind=kind, field=column.field if promotes(column.kind, kind) else None)


def _altered(state: LakeTable, change: AddColumns | DropColumns | AllowNulls) -> tuple[LakeColumn, ...]:
    match change:
        case AddColumns():
            new = (LakeColumn(name, kind_of(kind), needed=False) for name, kind in change.columns)
            return (*state.columns, *new)
        case DropColumns():
            return tuple(each for each in state.columns if each.name not in change.columns)
        case AllowNulls():
            return tuple(replace(each, needed=False) if each.name in change.columns else each for each in state.columns)
