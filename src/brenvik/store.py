"""A store as a library user sees it."""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable
from datetime import timedelta
from functools import wraps
from html import escape
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Concatenate, ParamSpec, TypeVar, cast

from brenvik.arguments import SEVERAL, check_call, one_at_a_time, period_of
from brenvik.errors import DeclarationError
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.schema import change_log_table
from brenvik.ledger.upgrade import upgrade_ledger
from brenvik.model.addresses import without_secrets
from brenvik.model.rules import TableRules
from brenvik.table import Table

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.engines.protocol import Compacted, Engine, Relocated

MEMORY = re.compile(r"\d+ ?[MG]i?B")

_P = ParamSpec("_P")
_R = TypeVar("_R")


def _of_table(method: Callable[Concatenate[Table, _P], _R]) -> Callable[Concatenate[Store, TableRules, _P], _R]:
    """A method of ``Table`` as one of ``Store``, with the rules as its first argument."""
    signature = inspect.signature(method)
    own, *others = signature.parameters.values()
    rules = inspect.Parameter("rules", inspect.Parameter.POSITIONAL_OR_KEYWORD, annotation="TableRules")

    @wraps(method)
    def call(self: Store, rules: TableRules, *args: _P.args, **kwargs: _P.kwargs) -> _R:
        check_call(f"Store.{method.__name__}", rules=rules)
        return method(self.table(rules), *args, **kwargs)

    call.__signature__ = signature.replace(parameters=[own, rules, *others])  # type: ignore[attr-defined]
    return cast("Callable[Concatenate[Store, TableRules, _P], _R]", call)


class Store:
    """The place where tables live. Made by ``open_store``; closed by ``close`` or at the end of a ``with`` block.

    The methods that take the rules of a table are those of ``Table``: ``store.load(rules, frame, …)`` is
    ``store.table(rules).load(frame, …)``. Threads may share a store: they take turns. Invalid arguments raise DeclarationError
    before anything is done.
    """

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        assert engine.turn  # made here, before threads can ask for it
        self.ledger = Ledger(engine)

    @property
    def address(self) -> str:
        """The address of the store without secrets."""
        return self.engine.address

    def table(self, rules: TableRules) -> Table:
        """A table of this store under its rules; it need not exist yet."""
        check_call("Store.table", rules=rules)
        return Table(self.ledger, rules)

    load = _of_table(Table.load)
    preview = _of_table(Table.preview)
    read = _of_table(Table.read)
    history = _of_table(Table.history)
    as_of = _of_table(Table.as_of)
    change_log = _of_table(Table.change_log)
    erase = _of_table(Table.erase)
    trim = _of_table(Table.trim)
    decisions = _of_table(Table.decisions)
    revert = _of_table(Table.revert)
    rebuild = _of_table(Table.rebuild)
    adopt = _of_table(Table.adopt)
    pending_deletes = _of_table(Table.pending_deletes)
    approve_deletes = _of_table(Table.approve_deletes)
    discard_deletes = _of_table(Table.discard_deletes)
    retry_rejects = _of_table(Table.retry_rejects)
    discard_rejects = _of_table(Table.discard_rejects)

    @one_at_a_time()
    def runs(self, *, table: str | None = None, last: int | None = None) -> pa.Table:
        """The runs in the ledger, the newest first; of all tables or one, all or the ``last`` few. Times are UTC."""
        return self.ledger.all_runs(table, last=last)

    @one_at_a_time()
    def rejects(self, *, table: str | None = None, run: int | None = None, state: str | None = "open") -> pa.Table:
        """Rejected rows of all tables or one, the oldest first; see ``Table.rejects``."""
        return self.ledger.all_rejects(table, run=run, state=state)

    @one_at_a_time()
    def watermarks(self) -> pa.Table:
        """How far each feed has been loaded: ``table_name``, ``feed``, ``loaded_up_to`` (a watermark or the last file, as text),
        ``run`` and ``loaded_at`` (UTC)."""
        return self.ledger.all_progress()

    @one_at_a_time(rules=SEVERAL)
    def compact(self, *rules: TableRules, keep: str | timedelta = "7 days", wait_s: float = 30.0) -> list[Compacted]:
        """Compacts the files of tables, of their change logs and of the ledger, and says what it did, table by table.

        In a lakehouse small files are merged, deleted rows removed from files, snapshots older than ``keep`` expired, and
        unused files deleted. Readers see the same rows before and after. Other stores manage their own storage: the list is
        empty.

        Raises DeclarationError when ``keep`` is not a period, and Busy when a table is locked for longer than ``wait_s``
        seconds.
        """
        span = period_of(keep)
        done = []
        for each in rules:
            with self.engine.lock(each.table, wait_s=wait_s):
                done += self.engine.compact([each.stored_as, change_log_table(each.table)], keep=span)
        return done + self.engine.compact((), keep=span)

    @one_at_a_time()
    def upgrade(self, *, wait_s: float = 30.0) -> tuple[int, int] | None:
        """Brings the ledger of an older Brenvik to the schema version of this one, in one transaction; returns the version before
        and after, None where nothing was to be done.

        Until then such a store is neither read nor written. Rows of tables and change logs stay as they are; make a backup
        first. Raises Busy when a table is locked for longer than ``wait_s`` seconds.
        """
        return upgrade_ledger(self.engine, wait_s=wait_s)

    @one_at_a_time()
    def relocate(self) -> list[Relocated]:
        """Makes the tables of a lakehouse folder that was copied or moved point to the files in it, not to the original's.

        Until then such a folder is neither read nor written. Data files are not rewritten; metadata are. Returns the tables
        that were changed: none where all of them point to their own files, and for other stores. Raises StoreError when the
        copy is incomplete; nothing is changed then.
        """
        return self.engine.relocate()

    def close(self) -> None:
        """Closes the store. Outcomes cannot explain their decisions afterwards."""
        self.engine.close()

    def __enter__(self) -> Store:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def __repr__(self) -> str:
        return f"<Store {self.address}>"

    def _repr_html_(self) -> str:
        rows = "".join(
            f"<tr><td>{escape(name)}</td><td>{row['last_done_run'] or '–'}</td><td>{row['open_rejects']}</td>"
            f"<td>{row['pending_deletes']}</td></tr>"
            for name, row in sorted(self.ledger.status().items())
        )
        head = "<tr><th>table</th><th>last successful run</th><th>open rejects</th><th>pending deletes</th></tr>"
        return f"<table><caption>{escape(self.address)}</caption>{head}{rows}</table>"


def _is_new(place: str) -> bool:
    """Whether a file is still to be made by the first load: there is nothing to read, then."""
    return place != ":memory:" and not Path(place).exists()


def open_store(
    address: str, *, read_only: bool = False, wait_s: float = 30.0, memory_limit: str | None = None
) -> Store:
    """Opens the store at an address.

    The addresses are ``duckdb:coast.duckdb``, ``duckdb::memory:``, ``sqlite:coast.db``, ``lakehouse:coast`` (a folder of Apache
    Iceberg tables), ``lakehouse:@coast`` (the catalog of this name in the configuration of pyiceberg), and
    ``postgresql://coast@db.halvorsund.example/warehouse`` (with any parameters of its client, such as TLS settings and
    timeouts). Files and folders are created if they do not exist.

    ``read_only`` opens the store for reading. ``wait_s`` is how many seconds to wait while another process has locked the file.
    ``memory_limit`` (``"500 MB"``, ``"4 GB"``) limits the memory of an engine in this process, which then works on disk; None is
    the engine's default.

    Raises DeclarationError for an invalid address, StoreError when the store cannot be opened, Busy when it stays locked.
    """
    check_call("open_store", read_only=read_only, wait_s=wait_s, memory_limit=memory_limit)
    kind, _, place = str(address).partition(":")
    if memory_limit is not None and not MEMORY.fullmatch(memory_limit):
        raise DeclarationError(f'memory_limit: expected a size as in "500 MB" or "4 GB", got {memory_limit!r}')
    if kind == "duckdb" and place:
        from brenvik.engines.duckdb.engine import DuckDBEngine

        found = ":memory:" if read_only and _is_new(place) else place
        duck = DuckDBEngine(found, read_only=read_only, wait_s=wait_s, memory_limit=memory_limit)
        duck.address = str(address)
        return Store(duck)
    if kind == "postgresql" and place.startswith("//"):
        try:
            from brenvik.engines.postgres.engine import PostgresEngine
        except ModuleNotFoundError as error:
            raise DeclarationError(
                f"A PostgreSQL store needs the package {error.name}: pip install 'brenvik[postgres]'"
            ) from None
        return Store(PostgresEngine(address))
    if kind == "sqlite" and place:
        from brenvik.engines.sqlite.engine import SQLiteEngine

        sqlite = SQLiteEngine(":memory:" if read_only and _is_new(place) else place, read_only=read_only)
        sqlite.address = str(address)
        return Store(sqlite)
    if kind == "lakehouse" and place:
        try:
            from brenvik.engines.lakehouse.engine import LakehouseEngine
        except ModuleNotFoundError as error:
            raise DeclarationError(
                f"A lakehouse store needs the package {error.name}: pip install 'brenvik[lakehouse]'"
            ) from None
        return Store(LakehouseEngine(place, memory_limit=memory_limit))
    raise DeclarationError(
        f"{without_secrets(str(address))!r} is not a valid store address; expected duckdb:FILE, duckdb::memory:, sqlite:FILE, "
        "lakehouse:FOLDER, lakehouse:@CATALOG or postgresql://USER@HOST/DATABASE"
    )
