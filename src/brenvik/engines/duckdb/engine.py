"""A DuckDB database, in a file or in memory, through its native interface."""

from __future__ import annotations

import os
import re
import shutil
import threading
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, nullcontext, suppress
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import duckdb

from brenvik.engines.in_place import InPlace
from brenvik.engines.locks import QUERY, held, missing_rights_of_file, name_of_query
from brenvik.engines.scratch import parsed, used
from brenvik.errors import Busy, StoreError
from brenvik.ledger.schema import SCHEMA
from brenvik.merge import sql
from brenvik.merge.capabilities import DUCKDB
from brenvik.merge.schema import StoredColumn
from brenvik.merge.table_changes import CreateTable, TableChange
from brenvik.merge.validate import STREAM, Staging
from brenvik.model.types import ColumnType, parse_type

if TYPE_CHECKING:
    import pyarrow as pa
    from fsspec import AbstractFileSystem

    from brenvik.model.rules import TableRules

_HOLDER = re.compile(r"held in (.*?) \(PID (\d+)\)")

_MARKER = "brenvik_scrubbed"
"""A table that only a file that was just rewritten has."""
_SETTINGS = (
    "TimeZone = 'UTC'",
    "preserve_insertion_order = false",
    "enable_progress_bar = false",
    "GLOBAL python_enable_replacements = false",  # else a table called like a variable here would be taken for that
    "external_threads = 0",  # else a commit's checkpoint of several tables may leave all but one core idle
)


class DuckDBEngine(InPlace):
    """See ``protocol.Engine``.

    DuckDB lets one process write a file at a time. ``wait_s`` says for how long opening waits for another process to
    let go of it; then Busy names that process. Within one process tables are held one by one.
    """

    dialect = "duckdb"
    capabilities = DUCKDB

    def __init__(
        self, path: str, *, read_only: bool = False, wait_s: float = 30.0, memory_limit: str | None = None
    ) -> None:
        super().__init__()
        in_memory = path == ":memory:"
        self.address = f"duckdb:{path}"
        self._path = None if in_memory else Path(path).resolve()
        self._identity = f"memory {id(self)}" if in_memory else str(Path(path).resolve())
        limit = [f"memory_limit = '{memory_limit}'"] if memory_limit else []
        self._settings = (*_SETTINGS, *limit)
        self._open(path, read_only=read_only and not in_memory, wait_s=wait_s)

    def _open(self, path: str, *, read_only: bool, wait_s: float) -> None:
        self._connection = _connect(path, read_only=read_only, wait_s=wait_s)
        for setting in self._settings:
            self._connection.execute(f"SET {setting}").fetchall()

    def statement(self, text: str, *, pretty: bool = False) -> str:
        return sql.translate(text, self.dialect, pretty=pretty)

    def run(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = sql.WORK) -> int:
        return self.execute(_compile(text, work), values)

    def run_script(self, statements: Sequence[str]) -> None:
        with _reporting(self.address):
            self._connection.execute(";\n".join(_compile(each, sql.WORK) for each in statements)).fetchall()

    def ask(
        self,
        text: str,
        values: Mapping[str, Any] | None = None,
        *,
        work: str = sql.WORK,
        types: Mapping[str, ColumnType] | None = None,
    ) -> pa.Table:
        statement = _compile(text, work)
        with _reporting(self.address):
            return self._connection.sql(
                parsed(statement, self._connection), params=used(statement, values) or None
            ).to_arrow_table()

    def rows(
        self,
        text: str,
        values: Mapping[str, Any] | None = None,
        *,
        work: str = sql.WORK,
        types: Mapping[str, ColumnType] | None = None,
    ) -> list[dict[str, Any]]:
        statement = _compile(text, work)
        with _reporting(self.address):  # a part of the time that Arrow takes
            answer = self._connection.execute(parsed(statement, self._connection), used(statement, values))
            names = [column[0] for column in answer.description or ()]
            return [dict(zip(names, row, strict=True)) for row in answer.fetchall()]

    def stage(self, rows: pa.RecordBatchReader, staging: Staging, values: Mapping[str, Any], *, work: str) -> None:
        self._made[work + (staging.kept_as if staging.through else staging.into)] = "TABLE"
        self._connection.register(STREAM, rows)
        try:
            with self._looked_up_in_table() if staging.through else nullcontext():
                self.execute(sql.of_work(staging.statement, work), values)
        finally:
            with suppress(duckdb.TransactionException):  # not possible after a failure; the next stream takes its place
                self._connection.unregister(STREAM)

    @contextmanager
    def _looked_up_in_table(self) -> Iterator[None]:
        """A stream looks like one row to the planner, which would make it the side of a join that is looked up in."""
        with self._connection.cursor() as beside:  # which may still speak when a failure has ended the transaction
            beside.execute("SET disabled_optimizers = 'build_side_probe_side'").fetchall()
            try:
                yield
            finally:
                beside.execute("RESET disabled_optimizers").fetchall()

    def has_table(self, name: str) -> bool:
        schema, _, table = name.rpartition(".")
        place = f"{sql.quote(schema or 'main')}.{sql.quote(table)}"
        with self._connection.cursor() as beside:  # a no would undo the transaction under way
            try:  # a relation would also be found in a file or a variable of that name
                beside.execute("SELECT 1 FROM pragma_table_info(?) LIMIT 1", [place]).fetchall()
            except duckdb.CatalogException:
                return False
        return True

    def columns_of(self, name: str) -> list[StoredColumn]:
        is_query = name.startswith(QUERY)
        if not (is_query or self.has_table(name)):
            return []
        schema, _, table = name.rpartition(".")
        place = sql.quote(name) if is_query else f"{sql.quote(schema or 'main')}.{sql.quote(table)}"
        found = self._connection.execute(
            'SELECT name, type, "notnull", dflt_value FROM pragma_table_info(?)', [place]
        ).fetchall()
        return [
            StoredColumn(
                column,
                type_of(type_name),
                type_name,
                needed=never_null and not default,
                filled="default" if default else "",
            )
            for column, type_name, never_null, default in found
        ]

    def view(self, query: str) -> str:
        name = name_of_query(query)
        self.execute(f"CREATE OR REPLACE TEMPORARY VIEW {sql.quote(name)} AS {query.rstrip().rstrip(';')}")
        return name

    def malformed(self, name: str, columns: Mapping[str, ColumnType]) -> dict[str, int]:
        return {}

    def change_table(self, change: TableChange) -> None:
        if not isinstance(change, CreateTable) or not change.numbered:
            super().change_table(change)
            return
        super().change_table(replace(change, numbered=None))  # DuckDB has sequences, but no identity columns
        table, numbers = sql.relation(change.table), sql.relation(f"{change.table}_{change.numbered}")
        self.execute(f"CREATE OR REPLACE SEQUENCE {numbers}")
        self.execute(
            f"ALTER TABLE {table} ALTER COLUMN {sql.quote(change.numbered)} SET DEFAULT nextval({sql.literal(numbers)})"
        )

    def make_schema(self, name: str) -> None:
        self.execute(f"CREATE SCHEMA IF NOT EXISTS {sql.quote(name)}")

    def index(self, table: str, columns: Sequence[str]) -> None:
        """A scan of the columns asked for is faster than an index would be, and the table needs none to keep."""

    def missing_rights(self, tables: Sequence[str], *, own_schema: str) -> list[str]:
        return missing_rights_of_file(self._path)

    @contextmanager
    def transaction(self, of: TableRules | None = None) -> Iterator[None]:
        with self._dropping() as relations, _reporting(self.address):
            drops = [f"DROP {kind} IF EXISTS temp.{sql.quote(name)};" for kind, name in relations]
            self._connection.execute(f"{''.join(drops)}BEGIN").fetchall()
        try:
            yield
        except BaseException:
            with suppress(duckdb.Error):  # gone with its connection
                self._connection.rollback()
            raise
        with _reporting(self.address):
            self._connection.commit()

    @contextmanager
    def lock(self, table: str, *, wait_s: float) -> Iterator[None]:
        with held(self._identity, table, address=self.address, wait_s=wait_s):
            yield

    def execute(self, statement: str, values: Mapping[str, Any] | None = None) -> int:
        """Runs a statement of DuckDB's own dialect; returns how many rows it made or changed."""
        with _reporting(self.address):
            # DuckDB 2 lets no statement follow one whose answer was not fetched to its end.
            rows = self._connection.execute(parsed(statement, self._connection), used(statement, values)).fetchall()
        return rows[0][0] if rows and isinstance(rows[0][0], int) else 0

    def read(self, query: str, rows: int) -> pa.RecordBatchReader:
        """The result of a query, so many rows at a time."""
        return self._connection.sql(query).to_arrow_reader(rows)

    def reach(self, files: AbstractFileSystem) -> None:
        """Has files elsewhere found through a file system."""
        self._connection.register_filesystem(files)

    def scrub(self, tables: Sequence[str]) -> None:
        """DuckDB leaves the values of deleted rows in free blocks: the whole database is written into a new file, which takes the
        place of the old one."""
        if self._path is None:
            return
        fresh, old = (self._path.with_name(f".{self._path.name}.{what}") for what in ("scrubbed", "replaced"))
        for leftover in (fresh, old):
            leftover.unlink(missing_ok=True)
        try:
            self._copy_into(fresh)
            shutil.copymode(self._path, fresh)
            os.link(self._path, old)
            fresh.replace(self._path)  # others wait until the old file is closed, and open this one
            self._connection.close()
            self._made.clear()
            self._open(str(self._path), read_only=False, wait_s=30.0)
            if not self.has_table(_MARKER):  # a further connection of this process has kept the old file open
                self._connection.close()
                old.replace(self._path)
                self._open(str(self._path), read_only=False, wait_s=30.0)
                raise Busy(
                    f"{self.address}: another connection of this process has the file open, so it cannot be rewritten. Close "
                    "it, and erase the key again.",
                    holder="another connection of this process",
                )
            self.execute(f"DROP TABLE {_MARKER}")
        finally:
            fresh.unlink(missing_ok=True)
            old.unlink(missing_ok=True)

    def _copy_into(self, place: Path) -> None:
        with _reporting(self.address):
            self._connection.execute("CHECKPOINT").fetchall()  # a log of writes would be taken for that of the new file
            ((name,),) = self._connection.execute("SELECT current_database()").fetchall()
            self._connection.execute(f"ATTACH {sql.literal(str(place))} AS brenvik_scrubbed").fetchall()
            try:
                self._connection.execute(f"COPY FROM DATABASE {sql.quote(name)} TO brenvik_scrubbed").fetchall()
                self._connection.execute(
                    f"CREATE OR REPLACE TABLE brenvik_scrubbed.main.{_MARKER} (scrubbed BOOLEAN)"
                ).fetchall()
            finally:
                self._connection.execute("DETACH brenvik_scrubbed").fetchall()

    def close(self) -> None:
        self._connection.close()


def _compile(text: str, work: str) -> str:
    """DuckDB reads the core's SQL as it is."""
    return sql.of_work(sql.in_place(text, "$name"), work)


def _connect(path: str, *, read_only: bool, wait_s: float) -> duckdb.DuckDBPyConnection:
    if path != ":memory:" and not Path(path).parent.is_dir():
        raise StoreError(
            f"duckdb:{path}: the folder {Path(path).parent} does not exist; create it, or correct the address of the store."
        )
    if Path(path).stem.casefold() == SCHEMA:
        raise StoreError(
            f"duckdb:{path}: DuckDB cannot distinguish a file of this name from the schema {SCHEMA!r}, in which Brenvik "
            "keeps its own tables; give the file another name."
        )
    if path != ":memory:" and not read_only:
        _create(Path(path))
    deadline = time.monotonic() + wait_s
    while True:
        try:
            return duckdb.connect(path, read_only=read_only)
        except duckdb.IOException as error:
            held = _HOLDER.search(str(error))
            if not held:
                raise StoreError(f"duckdb:{path} cannot be opened: {_first_line(error)}") from error
            if time.monotonic() >= deadline:
                holder = f"process {held[2]} ({Path(held[1]).name})"
                raise Busy(
                    f"duckdb:{path} is locked by {holder}; waited {wait_s:g} s. Try again when it is released.",
                    holder=holder,
                ) from None
            time.sleep(min(0.1, max(0.0, deadline - time.monotonic())))
        except duckdb.Error as error:
            raise StoreError(f"duckdb:{path} cannot be opened: {_first_line(error)}") from error


def _create(path: Path) -> None:
    """Creates an empty database at the path if nothing is there.

    DuckDB writes a new file in several steps. Another process cannot open it in between, and no process ever can if this
    one dies there. So the file is created under another name, and gets its own when it is complete.
    """
    if path.exists() or Path(f"{path}.wal").exists():
        return
    complete = path.with_name(f".{path.name}.{os.getpid()}-{threading.get_ident()}")
    with suppress(duckdb.Error, OSError):  # connect, which comes next, says what stands in the way
        try:
            duckdb.connect(str(complete)).close()
            os.link(complete, path)  # leaves alone what another process has put there meanwhile
        finally:
            complete.unlink(missing_ok=True)


_TYPES = {
    "VARCHAR": "text", "BIGINT": "integer", "INTEGER": "integer(32)", "SMALLINT": "integer(16)", "TINYINT": "integer(8)",
    "DOUBLE": "double", "BOOLEAN": "boolean", "DATE": "date", "TIME": "time", "TIMESTAMP": "timestamp",
    "TIMESTAMP WITH TIME ZONE": "timestamp with time zone", "BLOB": "binary",
}  # fmt: skip


def type_of(type_name: str) -> ColumnType | None:
    if type_name in _TYPES:
        return parse_type(_TYPES[type_name])
    return parse_type(type_name.lower()) if type_name.startswith("DECIMAL(") else None


@contextmanager
def _reporting(address: str) -> Iterator[None]:
    try:
        yield
    except duckdb.Error as error:
        raise StoreError(f"{address} rejected a statement: {_first_line(error)}") from error


def _first_line(error: Exception) -> str:
    return str(error).partition("\n")[0]
