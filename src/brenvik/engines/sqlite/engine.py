"""An SQLite database, in a file or in memory, through Python's own interface.

How values are kept: see ``values``. SQLite has no schemas: ``brenvik.runs`` is a table with a dot in its name.
"""

from __future__ import annotations

import json
import sqlite3
import uuid
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext, suppress
from pathlib import Path
from typing import Any

import pyarrow as pa

from brenvik.engines.in_place import InPlace
from brenvik.engines.locks import held, locked_in_file, missing_rights_of_file, name_of_query
from brenvik.engines.scratch import in_transit
from brenvik.engines.sqlite.language import compiled, transpiled
from brenvik.engines.sqlite.values import FUNCTIONS, as_arrow, kept_as, type_of
from brenvik.errors import Conflict, StoreError
from brenvik.merge import sql
from brenvik.merge.capabilities import Capabilities
from brenvik.merge.row_ids import PseudoColumn
from brenvik.merge.schema import StoredColumn
from brenvik.merge.table_changes import AllowNulls, ChangeTypes, TableChange
from brenvik.merge.validate import Staging
from brenvik.model.rules import TableRules
from brenvik.model.types import ColumnType

_NEEDED = (3, 39)
_ROWS = 20_000
_WORTH_AN_INDEX = 200
_NUMBERS = ("brenvik_sequence_no", "brenvik_version_no", "brenvik_row_id")


class SQLiteEngine(InPlace):
    """See ``protocol.Engine``.

    One process at a time loads tables of a file: while it does, it holds a lock in a file of the same name with
    ``-brenvik`` behind it, which ends with its process.
    """

    dialect = "sqlite"
    capabilities = Capabilities(
        PseudoColumn("rowid"),
        home="",
        whole_rows=True,
        seeks=True,
        own_names=frozenset({"true", "false"}),  # columns of subqueries that are called so cannot be named
        md5="brenvik_md5({0})",
        lacks=frozenset({"NaN", "comparing"}),
    )

    def __init__(self, path: str, *, read_only: bool = False) -> None:
        super().__init__()
        self.address = f"sqlite:{path}"
        self._path = None if path == ":memory:" else Path(path).resolve()
        self._read_only = read_only and self._path is not None
        self._holds = 0
        if sqlite3.sqlite_version_info < _NEEDED:
            raise StoreError(
                f"{self.address}: SQLite 3.39 or later is required; this Python has {sqlite3.sqlite_version}."
            )
        if self._path and not self._path.parent.is_dir():
            raise StoreError(
                f"{self.address}: the folder {self._path.parent} does not exist; create it, or correct the address of the store."
            )
        place = f"{self._path.as_uri()}?mode={'ro' if self._read_only else 'rwc'}" if self._path else ":memory:"
        with _reporting(self.address):
            self._connection = sqlite3.connect(
                place, uri=self._path is not None, isolation_level=None, timeout=30.0, check_same_thread=False
            )
            self._connection.execute("PRAGMA foreign_keys = ON")
            self._connection.execute("PRAGMA case_sensitive_like = ON")
            self._connection.execute("SELECT count(*) FROM sqlite_master").fetchall()  # is it a database at all?
        for name, words, function in FUNCTIONS:
            self._connection.create_function(name, words, function, deterministic=True)
        self._connection.create_function("uuid", 0, lambda: str(uuid.uuid4()))
        self._sizes: dict[str, int] = {}

    def statement(self, text: str, *, pretty: bool = False) -> str:
        return transpiled(text, pretty=pretty)[0]

    def run(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = sql.WORK) -> int:
        statement, given = compiled(text, values, work)
        return max(self._execute(statement, given).rowcount, 0)

    def measure(self, table: str, reported: int) -> int:
        ((self._sizes[table],),) = self._execute(f"SELECT count(*) FROM {sql.quote(table)}").fetchall()
        return self._sizes[table]

    def change_table(self, change: TableChange) -> None:
        if isinstance(change, ChangeTypes):
            self._change_types(change)
        elif not isinstance(change, AllowNulls):  # no column was ever told not to be
            super().change_table(change)

    def _change_types(self, change: ChangeTypes) -> None:
        """SQLite changes no types: each column is replaced by a new one, the last of the table. A column in an index cannot be
        dropped, so its indexes are made again."""
        names = json.dumps([name for name, _, _ in change.columns])
        indexes = self._execute(
            "SELECT DISTINCT m.name, m.sql FROM sqlite_master m, pragma_index_info(m.name) i "
            "WHERE m.type = 'index' AND m.sql IS NOT NULL AND lower(m.tbl_name) = lower(:table) "
            "AND i.name IN (SELECT value FROM json_each(:names))",
            {"table": change.table, "names": names},
        ).fetchall()
        table = sql.quote(change.table)
        for index, _ in indexes:
            self._execute(f"DROP INDEX {sql.quote(index)}")
        for name, kind, value in change.columns:
            old, new = sql.quote(name), sql.quote(f"brenvik_new_{name}")
            self.run(f"ALTER TABLE {sql.relation(change.table)} ADD COLUMN {new} {kind}")
            self.run(f"UPDATE {sql.relation(change.table)} SET {new} = {value}")
            self._execute(f"ALTER TABLE {table} DROP COLUMN {old}")
            self._execute(f"ALTER TABLE {table} RENAME COLUMN {new} TO {old}")
        for _, statement in indexes:
            self._execute(statement)

    def ask(
        self,
        text: str,
        values: Mapping[str, Any] | None = None,
        *,
        work: str = sql.WORK,
        types: Mapping[str, ColumnType] | None = None,
    ) -> pa.Table:
        statement, given = compiled(text, values, work)
        cursor = self._execute(statement, given)
        names = [column[0] for column in cursor.description]
        with _reporting(self.address):
            rows = cursor.fetchall()
        columns = zip(*rows, strict=True) if rows else [()] * len(names)
        known = types or {}
        return pa.table(
            [as_arrow(values, known.get(name)) for name, values in zip(names, columns, strict=True)], names=names
        )

    def stage(self, rows: pa.RecordBatchReader, staging: Staging, values: Mapping[str, Any], *, work: str) -> None:
        given = ", ".join(f"{sql.quote(name)} {kind}" for name, kind in staging.columns)
        self._made[work + staging.into] = "TABLE"
        self.run(f"CREATE TEMP TABLE {sql.work(staging.into)} ({given})", work=work)
        shown = ", ".join(f"{kept_as(sql.quote(name), kind)} AS {sql.quote(name)}" for name, kind in staging.columns)
        places = ", ".join("?" * len(staging.columns))
        insert = f"INSERT INTO {sql.quote(work + staging.into)} VALUES ({places})"
        count = 0
        with _reporting(self.address):
            for chunk in in_transit(rows, staging, shown, values, address=self.address):
                count += chunk.num_rows
                for start in range(0, chunk.num_rows, _ROWS):
                    some = chunk.slice(start, _ROWS)
                    self._connection.executemany(insert, zip(*(column.to_pylist() for column in some), strict=True))
        self._sizes[work + staging.into] = count

    def has_table(self, name: str) -> bool:
        question = "SELECT count(*) FROM sqlite_master WHERE type IN ('table', 'view') AND lower(name) = lower(:name)"
        ((found,),) = self._execute(question, {"name": name}).fetchall()
        return bool(found)

    def columns_of(self, name: str) -> list[StoredColumn]:
        question = 'SELECT name, type, "notnull", dflt_value, pk, hidden FROM pragma_table_xinfo(:name)'
        columns = []
        for column, type_name, never_null, default, key, hidden in self._execute(question, {"name": name}).fetchall():
            numbers = bool(key) and type_name.upper() == "INTEGER"  # SQLite gives a number itself, or takes ours
            filled: Any = "generated" if hidden in (2, 3) else "default" if default is not None or numbers else ""
            needed = bool(never_null) and not filled
            columns.append(
                StoredColumn(column, type_of(type_name), type_name or "nothing", needed=needed, filled=filled)
            )
        return columns

    def view(self, query: str) -> str:
        name = name_of_query(query)
        self._execute(f"CREATE TEMPORARY VIEW IF NOT EXISTS {sql.quote(name)} AS {query.rstrip().rstrip(';')}")
        return name

    def malformed(self, name: str, columns: Mapping[str, ColumnType]) -> dict[str, int]:
        tests = {
            column: f"COALESCE(sum(brenvik_odd({sql.quote(column)}, '{kind.sql}')), 0)"
            for column, kind in columns.items()
        }
        if not tests:
            return {}
        (found,) = self._execute(f"SELECT {', '.join(tests.values())} FROM {sql.quote(name)}").fetchall()
        return {column: count for column, count in zip(tests, found, strict=True) if count}

    def make_schema(self, name: str) -> None:
        """SQLite has no schemas here: the part before the dot is part of the name."""

    def index(self, table: str, columns: Sequence[str]) -> None:
        name = f"brenvik index of {table} by {' '.join(columns)}"
        self._execute(f"CREATE INDEX {sql.quote(name)} ON {sql.quote(table)} ({sql.columns(columns)})")

    def index_work(self, relation: str, keys: Sequence[str], *, work: str) -> None:
        """SQLite looks a row up through an index, or else reads the whole table for each row that it joins."""
        table = work + relation
        if self._sizes.get(table, 0) < _WORTH_AN_INDEX:
            return
        names = {row[0] for row in self._execute("SELECT name FROM pragma_table_info(:table)", {"table": table})}
        for columns in (tuple(keys), *((name,) for name in _NUMBERS)):
            if names.issuperset(columns):
                index = sql.quote(f"{table} by {' '.join(columns)}")
                self._execute(f"CREATE INDEX IF NOT EXISTS temp.{index} ON {sql.quote(table)} ({sql.columns(columns)})")

    def missing_rights(self, tables: Sequence[str], *, own_schema: str) -> list[str]:
        return missing_rights_of_file(self._path)

    @contextmanager
    def transaction(self, of: TableRules | None = None) -> Iterator[None]:
        self._drop_discarded()
        self._execute("BEGIN IMMEDIATE" if self._holds else "BEGIN")
        try:
            yield
        except BaseException:
            with suppress(sqlite3.Error):
                self._connection.rollback()
            raise
        self._execute("COMMIT")

    @contextmanager
    def lock(self, table: str, *, wait_s: float) -> Iterator[None]:
        identity = f"sqlite {self._path or id(self)}"
        alone: AbstractContextManager[None] = nullcontext()
        if self._path and not self._holds:
            alone = locked_in_file(Path(f"{self._path}-brenvik"), table, address=self.address, wait_s=wait_s)
        with held(identity, table, address=self.address, wait_s=wait_s), alone:
            self._holds += 1
            try:
                yield
            finally:
                self._holds -= 1

    def scrub(self, tables: Sequence[str]) -> None:
        if self._path is not None:
            self._execute("VACUUM")
            self._execute("PRAGMA wal_checkpoint(TRUNCATE)")

    def close(self) -> None:
        self._connection.close()

    def _execute(self, statement: str, values: Mapping[str, Any] | None = None) -> sqlite3.Cursor:
        with _reporting(self.address):
            return self._connection.execute(statement, dict(values or {}))

    def _drop_discarded(self) -> None:
        with self._dropping() as relations:
            for kind, name in relations:
                self._sizes.pop(name, None)
                self._execute(f"DROP {kind} IF EXISTS temp.{sql.quote(name)}")


@contextmanager
def _reporting(address: str) -> Iterator[None]:
    try:
        yield
    except sqlite3.OperationalError as error:
        if getattr(error, "sqlite_errorcode", 0) & 0xFF in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
            raise Conflict(f"{address} is locked by another connection: {error}. Try again later.") from error
        raise StoreError(f"{address} rejected a statement: {error}") from error
    except sqlite3.Error as error:
        raise StoreError(f"{address} rejected a statement: {error}") from error
