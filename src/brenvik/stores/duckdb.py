"""A DuckDB database, in a file or in memory, through its native interface."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

import duckdb

from brenvik.core import sql
from brenvik.core.screen import STREAM
from brenvik.errors import Busy, StoreError
from brenvik.ledger_tables import SCHEMA

if TYPE_CHECKING:
    import pyarrow as pa

_MADE = re.compile(r'CREATE TEMPORARY (TABLE|VIEW) "(\w+)"')
_PARAMETER = re.compile(r""""(?:[^"]|"")*"|'(?:[^']|'')*'|\$([a-z_][a-z_0-9]*)""")  # not inside quotes
_HOLDER = re.compile(r"held in (.*?) \(PID (\d+)\)")

_SETTINGS = (
    "TimeZone = 'UTC'",
    "preserve_insertion_order = false",
    "enable_progress_bar = false",
    "external_threads = 0",  # else a commit's checkpoint of several tables may leave all but one core idle
)

_holds_guard = threading.Lock()
_holds: dict[tuple[str, str], str] = {}
_freed = threading.Condition(_holds_guard)


class DuckDBEngine:
    """See ``base.Engine``.

    DuckDB lets one process write a file at a time. ``wait_s`` says for how long opening waits for another process to
    let go of it; then Busy names that process. Within one process tables are held one by one.
    """

    dialect = "duckdb"
    locator = "rowid"

    def __init__(
        self, path: str, *, read_only: bool = False, wait_s: float = 30.0, memory_limit: str | None = None
    ) -> None:
        in_memory = path == ":memory:"
        self.address = f"duckdb:{path}"
        self._identity = f"memory {id(self)}" if in_memory else str(Path(path).resolve())
        self._connection = _connect(path, read_only=read_only and not in_memory, wait_s=wait_s)
        self._made: dict[str, str] = {}
        self._discarded: list[str] = []
        limit = [f"memory_limit = '{memory_limit}'"] if memory_limit else []
        for setting in (*_SETTINGS, *limit):
            self._connection.execute(f"SET {setting}").fetchall()

    def run(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = sql.WORK) -> int:
        return self._execute(sql.compile_for(text, self.dialect, work_prefix=work), values)

    def ask(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = sql.WORK) -> pa.Table:
        statement = sql.compile_for(text, self.dialect, work_prefix=work)
        with _told(self.address):
            return self._connection.sql(statement, params=_used(statement, values) or None).to_arrow_table()

    def stage(self, rows: pa.RecordBatchReader, screen: str, values: Mapping[str, Any], *, work: str) -> None:
        statement = sql.compile_for(screen, self.dialect, work_prefix=work, flavour="duckdb")
        self._connection.register(STREAM, rows)
        try:
            self._execute(statement, values)
        finally:
            with suppress(duckdb.TransactionException):  # refused after a failure; the next stream takes its place
                self._connection.unregister(STREAM)

    def has_table(self, name: str) -> bool:
        schema, _, table = name.rpartition(".")
        question = (
            "SELECT count(*) FROM duckdb_tables() WHERE NOT temporary AND database_name = current_database() "
            "AND lower(schema_name) = lower(?) AND lower(table_name) = lower(?)"
        )
        ((found,),) = self._connection.execute(question, [schema or "main", table]).fetchall()
        return bool(found)

    def make_schema(self, name: str) -> None:
        self._execute(f"CREATE SCHEMA IF NOT EXISTS {sql.quote(name)}", None)

    @contextmanager
    def transaction(self) -> Iterator[None]:
        self._drop_discarded()
        self._connection.begin()
        try:
            yield
        except BaseException:
            self._connection.rollback()
            raise
        with _told(self.address):
            self._connection.commit()

    @contextmanager
    def hold(self, table: str, *, wait_s: float) -> Iterator[None]:
        place = (self._identity, table.casefold())
        me = f"thread {threading.current_thread().name!r} of this process"
        deadline = time.monotonic() + wait_s
        with _freed:
            while (holder := _holds.get(place)) is not None:
                left = deadline - time.monotonic()
                if left <= 0 or not _freed.wait(left):
                    raise Busy(
                        f"Table {table!r} in {self.address} is being loaded by {holder}; waited {wait_s:g} s. "
                        "Try again when that load has ended.",
                        holder=holder,
                    )
            _holds[place] = me
        try:
            yield
        finally:
            with _freed:
                del _holds[place]
                _freed.notify_all()

    def on_discard(self, work: str) -> Callable[[], None]:
        discarded = self._discarded  # no reference to the engine: an outcome must not keep it alive
        return lambda: discarded.append(work)

    def close(self) -> None:
        self._connection.close()

    def _execute(self, statement: str, values: Mapping[str, Any] | None) -> int:
        if made := _MADE.match(statement):
            self._made[made[2]] = made[1]
        with _told(self.address):
            # DuckDB 2 lets no statement follow one whose answer was not fetched to its end.
            rows = self._connection.execute(statement, _used(statement, values)).fetchall()
        return rows[0][0] if rows and isinstance(rows[0][0], int) else 0

    def _drop_discarded(self) -> None:
        while self._discarded:
            prefix = self._discarded.pop()
            made = [name for name in self._made if name.startswith(prefix)]
            drops = [f"DROP {self._made.pop(name)} IF EXISTS temp.{sql.quote(name)}" for name in made]
            if drops:
                self._connection.execute(";".join(drops)).fetchall()


@lru_cache(maxsize=4096)
def _parameters(statement: str) -> frozenset[str]:
    return frozenset(filter(None, _PARAMETER.findall(statement)))


def _used(statement: str, values: Mapping[str, Any] | None) -> dict[str, Any]:
    """The values that the statement names; DuckDB refuses others."""
    return {name: value for name, value in (values or {}).items() if name in _parameters(statement)}


def _connect(path: str, *, read_only: bool, wait_s: float) -> duckdb.DuckDBPyConnection:
    if path != ":memory:" and not Path(path).parent.is_dir():
        raise StoreError(
            f"duckdb:{path}: the folder {Path(path).parent} does not exist; make it, or mend the store's address."
        )
    if Path(path).stem.casefold() == SCHEMA:
        raise StoreError(
            f"duckdb:{path}: DuckDB could not tell a file of this name from the schema {SCHEMA!r} that Brenvik's own "
            "tables live in; give the file another name."
        )
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
                    f"duckdb:{path} is held by {holder}; waited {wait_s:g} s. "
                    "Try again when that process has let go of it.",
                    holder=holder,
                ) from None
            time.sleep(min(0.1, max(0.0, deadline - time.monotonic())))
        except duckdb.Error as error:
            raise StoreError(f"duckdb:{path} cannot be opened: {_first_line(error)}") from error


@contextmanager
def _told(address: str) -> Iterator[None]:
    try:
        yield
    except duckdb.Error as error:
        raise StoreError(f"{address} refused a statement: {_first_line(error)}") from error


def _first_line(error: Exception) -> str:
    return str(error).partition("\n")[0]
