"""A store as a library user sees it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from datetime import UTC, date, datetime, timedelta
from operator import index
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any

from brenvik.arguments import COLUMNS, SEVERAL, check_call, one_at_a_time
from brenvik.errors import DeclarationError, ForeignTable
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import TableState
from brenvik.ledger.schema import LOADS, change_log_table
from brenvik.merge import questions
from brenvik.merge.schema import types_of
from brenvik.model.addresses import without_secrets
from brenvik.model.feeds import Operations
from brenvik.model.keys import Key, key_values
from brenvik.model.rules import SYSTEM_COLUMNS, Kind, TableRules
from brenvik.model.types import parse_type
from brenvik.model.watermarks import parse_span
from brenvik.outcome import Outcome
from brenvik.runs.adopt import adopt
from brenvik.runs.guards import Allowed
from brenvik.runs.load import LoadOptions, load
from brenvik.runs.missing import explain_if_missing
from brenvik.runs.past import changes_of_key, decided_by, known
from brenvik.runs.pending_deletes import decide_deletes, list_pending_deletes
from brenvik.runs.rebuild import Unlogged, rebuild
from brenvik.runs.revert import revert

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.engines.protocol import Compacted, Engine, Relocated
    from brenvik.feeds.protocol import Source

MEMORY = re.compile(r"\d+ ?[MG]i?B")


class Store:
    """The place where tables live. Made by ``open_store``; closed by ``close`` or at the end of a ``with`` block.

    Threads may share it: they take turns. Calls that do not fit raise DeclarationError before anything is done.
    """

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        assert engine.turn  # made here, before threads can ask for it
        self.ledger = Ledger(engine)

    @property
    def address(self) -> str:
        return self.engine.address

    @one_at_a_time()
    def load(
        self,
        rules: TableRules,
        frame: Any,
        *,
        kind: Kind,
        operation: str | Operations | None = None,
        feed: str = "frame",
        at: str | date | datetime | None = None,
        extract_scope: str | None = None,
        label: str | None = None,
        explain: bool | None = None,
        wait_s: float = 30.0,
        allow_deletes: int | None = None,
        allow_changes: int | None = None,
    ) -> Outcome:
        """Takes the rows of a frame into a table, wholly or not at all.

        frame
            A pandas or polars frame, an Arrow table or reader, or a DuckDB relation. It is not changed.
        kind
            ``"changes"``: each row says insert, update or delete in the column ``operation``.
            ``"upserts"``: each row is a new or newer state of its key.
            ``"full_extract"``: the rows are all there are; a key that is absent is gone.
        operation
            The column that says insert, update or delete (``I``, ``U``, ``D`` or the words, case does not count), or an
            ``Operations`` with other codes.
        feed
            The name under which the run is entered.
        at
            When an extract holds; times without a zone are in the rules' time zone. None: now.
        extract_scope
            A condition over the table's columns, as in ``"region = 'north'"``: the extract holds this part of the table
            only, so that living rows outside of it are not missed. None: it holds all of it.
        label
            Kept with the run, such as a scheduler's own id.
        explain
            Whether to keep what ``Outcome.decisions`` needs, which costs a tenth of the load. None: for up to 100,000 rows.
        wait_s
            How long to wait, in seconds, while another load holds the table.
        allow_deletes, allow_changes
            Lets a load through once that was refused (LimitExceeded), by the number seen; one that does more is refused again.

        Raises FeedError when the frame does not fit the rules, TooManyRejects, LimitExceeded, StaleExtract, RulesChanged,
        ForeignTable or Busy; in each case nothing was written but the run.
        """
        source, codes = _frame(frame, kind, operation, feed, at, extract_scope)
        options = LoadOptions(
            operations=codes,
            label=label,
            explain=explain,
            wait_s=wait_s,
            allowed=Allowed(allow_deletes, allow_changes),
            extract_scope=extract_scope,
        )
        return load(self.ledger, rules, source, options)

    @one_at_a_time()
    def preview(
        self,
        rules: TableRules,
        frame: Any,
        *,
        kind: Kind,
        operation: str | Operations | None = None,
        feed: str = "frame",
        at: str | date | datetime | None = None,
        extract_scope: str | None = None,
        explain: bool | None = None,
    ) -> Outcome:
        """The outcome that ``load`` would have; nothing is written. An Arrow reader is used up by it.

        Where a load would be refused, ``Outcome.blocked_by`` says why.
        """
        source, codes = _frame(frame, kind, operation, feed, at, extract_scope)
        options = LoadOptions(operations=codes, explain=explain, extract_scope=extract_scope, preview=True)
        return load(self.ledger, rules, source, options)

    @one_at_a_time()
    def _load_from(self, rules: TableRules, source: Source, options: LoadOptions) -> Outcome:
        """The same for any feed; a project loads its tables through it."""
        return load(self.ledger, rules, source, options)

    @one_at_a_time()
    def revert(
        self,
        rules: TableRules,
        *runs: int,
        reason: str | None = None,
        undo: bool = False,
        preview: bool = False,
        wait_s: float = 30.0,
    ) -> Outcome:
        """Reverts runs: the table becomes what it would be if they had never been, even if later runs followed.

        ``undo`` restores reverted runs. Watermarks and loaded files stay as they are. ``Outcome.changed_keys`` lists the keys
        whose rows changed. Raises DeclarationError for runs that brought no changes to this table, and for those that are
        reverted already (or, with ``undo``, are not).
        """
        targets = _numbers("Runs", runs)
        return revert(self.ledger, rules, targets, reason=reason, undo=undo, preview=preview, wait_s=wait_s)

    @one_at_a_time()
    def pending_deletes(self, rules: TableRules) -> pa.Table:
        """The deletes that await approval, each with the row it would end; see ``runs.pending_deletes`` for the columns."""
        return list_pending_deletes(self.ledger, rules)

    @one_at_a_time()
    def approve_deletes(
        self,
        rules: TableRules,
        *numbers: int,
        every: bool = False,
        reason: str | None = None,
        preview: bool = False,
        wait_s: float = 30.0,
    ) -> Outcome:
        """Approves pending deletes by number, or ``every`` one; each takes effect at the time given by its source.

        Raises DeclarationError for numbers that are not pending.
        """
        chosen = _chosen(numbers, every=every)
        return decide_deletes(self.ledger, rules, chosen, discard=False, reason=reason, preview=preview, wait_s=wait_s)

    @one_at_a_time()
    def discard_deletes(
        self,
        rules: TableRules,
        *numbers: int,
        every: bool = False,
        reason: str | None = None,
        preview: bool = False,
        wait_s: float = 30.0,
    ) -> Outcome:
        """Discards pending deletes by number, or ``every`` one: they will never take effect, and the rows stay.

        Raises DeclarationError for numbers that are not pending.
        """
        chosen = _chosen(numbers, every=every)
        return decide_deletes(self.ledger, rules, chosen, discard=True, reason=reason, preview=preview, wait_s=wait_s)

    @one_at_a_time()
    def rebuild(
        self,
        rules: TableRules,
        *,
        preview: bool = False,
        drop_columns: bool = False,
        unlogged: Unlogged | None = None,
        wait_s: float = 30.0,
    ) -> Outcome:
        """Works the table out again from its kept changes, under the rules as they are now; see ``runs.rebuild``."""
        return rebuild(self.ledger, rules, preview=preview, drop_columns=drop_columns, unlogged=unlogged, wait_s=wait_s)

    @one_at_a_time(feed=COLUMNS)
    def adopt(
        self,
        rules: TableRules,
        feed: Mapping[str, str] | None = None,
        *,
        allow_changes: int = 0,
        reason: str | None = None,
        preview: bool = False,
        wait_s: float = 30.0,
    ) -> Outcome:
        """Takes over a table that the store had before, with every row and surrogate key it has.

        ``feed`` names the columns that its feeds will carry, with their types as in ``TableRules.types``; columns of the table
        that neither it nor the rules name stay as they are. Raises SchemaMismatch when the table does not fit, or when more than
        ``allow_changes`` rows are not what the rules would make of them. See ``runs.adopt``.
        """
        carried = {name: parse_type(kind) for name, kind in (feed or {}).items()}
        return adopt(
            self.ledger,
            rules,
            carried,
            allow_changes=allow_changes,
            reason=reason,
            preview=preview,
            wait_s=wait_s,
        )

    @one_at_a_time()
    def decisions(self, rules: TableRules, run: int) -> pa.Table:
        """What a past run decided on the changes it kept, worked out again; columns as in ``Outcome.decisions``.

        Duplicates and rejects are not kept as changes and not among them. Raises DeclarationError for a table that keeps
        no changes.
        """
        return decided_by(self.ledger, rules, run)

    @one_at_a_time()
    def change_log(self, rules: TableRules, key: Key) -> list[dict[str, Any]]:
        """All changes of a key in the log, in order of arrival; see ``runs.past``."""
        state = self._state(rules)
        return changes_of_key(self.ledger, rules, key_values(rules, key, state.types if state else {}))

    @one_at_a_time()
    def read(self, rules: TableRules, *, known_at: int | None = None, without: Iterable[int] = ()) -> pa.Table:
        """All rows of a table, in the order of natural key and valid_from; no rows when it was never loaded.

        ``known_at`` asks for the table as it was after that run, ``without`` as it would be without some: worked out of the kept
        changes, without surrogate keys and stamps. Raises DeclarationError when none are kept.
        """
        if known_at is not None or (without := _numbers("Runs", without)):
            return known(self.ledger, rules, known_at=known_at, without=without)
        state = self._state(rules)
        return self._ask(rules, state, "", {}) if state else self._no_rows(rules)

    @one_at_a_time()
    def history(
        self, rules: TableRules, key: Key, *, known_at: int | None = None, without: Iterable[int] = ()
    ) -> pa.Table:
        """All versions of one natural key, the oldest first; no rows when the key is unknown.

        ``key`` is a value, or for a key of several columns a dict of their values. ``known_at`` and ``without`` as in ``read``.
        """
        state = self._state(rules)
        values = key_values(rules, key, state.types if state else {})
        if known_at is not None or (without := _numbers("Runs", without)):
            return known(self.ledger, rules, known_at=known_at, without=without, key=values)
        return self._ask(rules, state, questions.of_key(rules, state.types), values) if state else self._no_rows(rules)

    @one_at_a_time()
    def as_of(
        self,
        rules: TableRules,
        when: str | int | date | datetime,
        *,
        known_at: int | None = None,
        without: Iterable[int] = (),
    ) -> pa.Table:
        """The rows that held at a moment: ``valid_from <= when < valid_to``.

        ``when`` is a value of the effective column's type, or a text of it; a day means its first moment. Timestamps
        with a zone become UTC. Raises DeclarationError when it is none, and for a table without valid_from or valid_to.
        ``known_at`` and ``without`` as in ``read``.
        """
        if not (rules.system_column_name("valid_from") and rules.system_column_name("valid_to")):
            raise DeclarationError(
                f"Table {rules.table!r} has no valid_from or no valid_to, so the rows valid at a given time are unknown."
            )
        state = self._state(rules)
        if state is None:
            return self._no_rows(rules)
        moment = _moment(when, state.effective_type.kind)
        if known_at is not None or (without := _numbers("Runs", without)):
            return known(self.ledger, rules, known_at=known_at, without=without, moment=moment)
        return self._ask(rules, state, questions.at_moment(rules, state.effective_type), {"moment": moment})

    @one_at_a_time(rules=SEVERAL)
    def compact(self, *rules: TableRules, keep: str | timedelta = "7 days", wait_s: float = 30.0) -> list[Compacted]:
        """Puts the files of tables, of their kept changes and of the ledger in order, and says what it did, table by table.

        In a lakehouse small files become larger ones, rows that are gone leave the files, snapshots older than ``keep`` are
        dropped, and what nobody needs any more is taken away. Every reader sees the same rows before and after. Other stores
        see to their order themselves: the list is empty.

        Raises DeclarationError when ``keep`` is no span of time, and Busy when another run holds a table for longer than
        ``wait_s`` seconds.
        """
        try:
            span = keep if isinstance(keep, timedelta) else parse_span(keep)
        except ValueError:
            span = None
        if not isinstance(span, timedelta):
            raise DeclarationError(f"keep is {keep!r}; expected a period, as in '7 days'")
        done = []
        for each in rules:
            with self.engine.lock(each.table, wait_s=wait_s):
                done += self.engine.compact([each.stored_as, change_log_table(each.table)], keep=span)
        return done + self.engine.compact((), keep=span)

    @one_at_a_time()
    def relocate(self) -> list[Relocated]:
        """Makes the tables of a lakehouse folder that was copied or moved point to the files in it, not to the original's.

        Until then such a folder is neither read nor written. Data files are not rewritten; metadata are. Returns the tables
        that were changed: none where all of them point to their own files, and for other stores. Raises StoreError when the
        copy is incomplete; nothing is changed then.
        """
        return self.engine.relocate()

    def close(self) -> None:
        """Lets go of the store. Outcomes cannot tell their decisions afterwards."""
        self.engine.close()

    def __enter__(self) -> Store:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def _state(self, rules: TableRules) -> TableState | None:
        return self.ledger.state(rules.table) if self.ledger.exists() else None

    def _ask(self, rules: TableRules, state: TableState, where: str, values: Mapping[str, Any]) -> pa.Table:
        open_end = str(rules.open_end) if rules.open_end is not None else None
        own = ((column, rules.system_column_name(column)) for column in SYSTEM_COLUMNS)
        types = types_of(state.columns, state.effective_type, own)
        with explain_if_missing(self.engine, rules, state):
            return self.engine.ask(questions.rows(rules, where), {**values, "open_end": open_end}, types=types)

    def _no_rows(self, rules: TableRules) -> pa.Table:
        """What there is to read of a table that was never loaded. Raises ForeignTable when the store has one of that name."""
        import pyarrow as pa

        if self.engine.has_table(rules.stored_as):
            raise ForeignTable(
                f"{self.address} has a table {rules.stored_as!r}, which is not in the ledger: something else created it, or "
                f"its ledger entry is lost. To take it over: brenvik check {rules.table}, then brenvik adopt {rules.table}"
            )
        return pa.table({})


def open_store(
    address: str, *, read_only: bool = False, wait_s: float = 30.0, memory_limit: str | None = None
) -> Store:
    """The store at an address: ``duckdb:coast.duckdb`` or ``sqlite:coast.db`` (files, made when missing), ``duckdb::memory:``,
    ``lakehouse:coast`` (a folder of Apache Iceberg tables, made when missing), ``lakehouse:@coast`` (the catalog that the
    configuration of pyiceberg knows as coast, wherever its tables lie), or a database of a PostgreSQL server
    (``postgresql://coast@db.halvorsund.example/warehouse``; what its client understands in a URL counts, TLS settings and
    timeouts included).

    ``read_only`` opens without the right to write. ``wait_s`` is how long to wait, in seconds, while another process
    holds the file. ``memory_limit`` (``"500 MB"``, ``"4 GB"``) is what the engine may use of memory, as far as it works in this
    process; beyond it, it works on disk. None leaves that to the engine.

    Raises DeclarationError for an address of no known kind, StoreError when it cannot be opened, Busy when another
    process holds it for longer.
    """
    check_call("open_store", read_only=read_only, wait_s=wait_s, memory_limit=memory_limit)
    kind, _, place = str(address).partition(":")
    if memory_limit is not None and not MEMORY.fullmatch(memory_limit):
        raise DeclarationError(f'memory_limit: expected a size as in "500 MB" or "4 GB", got {memory_limit!r}')
    if kind == "duckdb" and place:
        from brenvik.engines.duckdb import DuckDBEngine

        if read_only and place != ":memory:" and not Path(place).exists():
            place = ":memory:"  # nothing was ever loaded; there is nothing to read either
        return Store(DuckDBEngine(place, read_only=read_only, wait_s=wait_s, memory_limit=memory_limit))
    if kind == "postgresql" and place.startswith("//"):
        try:
            from brenvik.engines.postgres import PostgresEngine
        except ModuleNotFoundError as error:
            raise DeclarationError(
                f"A PostgreSQL store needs the package {error.name}: pip install 'brenvik[postgres]'"
            ) from None
        return Store(PostgresEngine(address))
    if kind == "sqlite" and place:
        from brenvik.engines.sqlite import SQLiteEngine

        if read_only and place != ":memory:" and not Path(place).exists():
            place = ":memory:"
        return Store(SQLiteEngine(place, read_only=read_only))
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


def _numbers(what: str, given: Iterable[int]) -> tuple[int, ...]:
    try:
        found: tuple[Any, ...] = tuple(given)
        if not any(isinstance(each, bool) for each in found):
            return tuple(map(index, found))  # numbers of other libraries as well
    except TypeError:
        pass
    told = ", ".join(map(repr, given)) if isinstance(given, (list, tuple)) else repr(given)
    raise DeclarationError(f"{what} are given by number; expected whole numbers, got {told}")


def _chosen(numbers: tuple[int, ...], *, every: bool) -> tuple[int, ...] | None:
    if every == bool(numbers):
        raise DeclarationError("Name the deletes by number, or use every=True for all of them.")
    return None if every else _numbers("Pending deletes", numbers)


def _moment(when: str | int | date | datetime, kind: str) -> str:
    """A moment as text that the store casts to the type of valid_from."""
    try:
        if kind == "integer":
            return str(int(str(when)))
        moment = when if isinstance(when, (date, datetime)) else datetime.fromisoformat(str(when))
    except ValueError:
        raise DeclarationError(f"{when!r} is not a valid {kind}, the type of valid_from in this table") from None
    if isinstance(moment, datetime) and moment.tzinfo:
        moment = moment.astimezone(UTC).replace(tzinfo=None)
    if kind == "date" and isinstance(moment, datetime):
        moment = moment.date()
    return moment.isoformat(" ") if isinstance(moment, datetime) else str(moment)


def _frame(
    frame: Any,
    kind: str,
    operation: str | Operations | None,
    feed: str,
    at: str | date | datetime | None,
    extract_scope: str | None,
) -> tuple[Source, Operations | None]:
    if kind not in LOADS:
        raise DeclarationError(f"kind is {kind!r}; expected 'changes', 'upserts' or 'full_extract'")
    if extract_scope is not None and kind != "full_extract":
        raise DeclarationError("extract_scope is for extracts; changes and upserts cannot mean a delete by absence")
    if at is not None and kind != "full_extract":
        raise DeclarationError("at is the time of an extract; changes and upserts have it in the effective column")
    if (kind == "changes") != (operation is not None):
        raise DeclarationError(
            "kind 'changes' needs the column with the operation (insert, update or delete): operation = 'op'"
            if kind == "changes"
            else f"kind {kind!r} has no operations; omit operation, or use kind = 'changes'"
        )
    from brenvik.feeds.frames import FrameSource

    codes = Operations(operation) if isinstance(operation, str) else operation
    return FrameSource(frame, name=feed, kind=kind, at=None if at is None else str(at)), codes
