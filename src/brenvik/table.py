"""One table of a store, as a library user sees it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from html import escape
from operator import index
from typing import TYPE_CHECKING, Any

from brenvik.arguments import COLUMNS, one_at_a_time, period_of
from brenvik.errors import DeclarationError, ForeignTable
from brenvik.ledger.records import TableState
from brenvik.merge import questions
from brenvik.merge.schema import types_of
from brenvik.merge.stamps import stamps_of
from brenvik.merge.surrogate_keys import key_type
from brenvik.model.feeds import FeedColumns, Operations
from brenvik.model.keys import Key, key_values
from brenvik.model.rules import SYSTEM_COLUMNS, Kind, TableRules
from brenvik.model.types import parse_type
from brenvik.outcome import Outcome
from brenvik.runs.adopt import adopt
from brenvik.runs.erase import erase
from brenvik.runs.guards import Allowed
from brenvik.runs.load import LoadOptions, load
from brenvik.runs.missing import explain_if_missing
from brenvik.runs.past import changes_of_key, decided_by, known
from brenvik.runs.pending_deletes import decide_deletes, list_pending_deletes
from brenvik.runs.rebuild import Unlogged, rebuild
from brenvik.runs.rejects import discard_rejects, retry_rejects
from brenvik.runs.revert import revert
from brenvik.runs.trim import trim
from brenvik.sources import source_of_call

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.engines.protocol import Engine
    from brenvik.feeds.protocol import Source
    from brenvik.ledger.ledger import Ledger


class Table:
    """A table of a store under its rules. Made by ``Store.table``; usable as long as the store is open.

    Threads may share it: they take turns. Invalid arguments raise DeclarationError before anything is done.
    """

    def __init__(self, ledger: Ledger[Engine], rules: TableRules) -> None:
        self.ledger = ledger
        self.rules = rules

    @property
    def engine(self) -> Engine:
        return self.ledger.engine

    @one_at_a_time()
    def load(
        self,
        rows: Any,
        *,
        kind: Kind | None = None,
        operation: str | Operations | None = None,
        feed: str = "frame",
        at: str | date | datetime | None = None,
        extract_scope: str | None = None,
        columns: FeedColumns | None = None,
        label: str | None = None,
        explain: bool | None = None,
        wait_s: float = 30.0,
        allow_deletes: int | None = None,
        allow_changes: int | None = None,
        allow_type_0: int | None = None,
    ) -> Outcome:
        """Loads rows into the table, completely or not at all.

        rows
            A pandas or polars frame, an Arrow table or reader, or a DuckDB relation; it is not changed. Or a feed, of which what
            is new is loaded: a ``FileFeed`` (paths are relative to the current folder), a ``DatabaseFeed`` (connections are
            URLs), or a ``Source`` of your own.
        kind
            What the rows of a frame are. ``"changes"``: each row is an insert, update or delete, by the column ``operation``.
            ``"upserts"``: each row is a new or newer state of its key. ``"full_extract"``: the rows are complete; a key that is
            absent is deleted. ``"append"``: rows for a table without a natural key. A feed has its own kind.
        operation
            The column with the operation (``I``, ``U``, ``D`` or the words; case is ignored), or ``Operations`` with other codes.
        feed
            The name of the feed that the run is recorded with, for a frame.
        at
            The time of rows that have none: of an extract, or where the table has no effective column. None: now. Without a zone
            it is in that of the rules.
        extract_scope
            A condition over the table's columns, as in ``"region = 'north'"``: current rows outside of it are not absent from
            the extract. None: it covers the whole table.
        columns
            How the columns of the rows become those of the table: renamed, added, and how texts are written. A feed has its own.
        label
            Recorded with the run, such as a scheduler's own id.
        explain
            Whether to keep what ``Outcome.decisions`` needs, which costs a tenth of the load. None: for up to 100,000 rows.
        wait_s
            How many seconds to wait if the table is locked by another run.
        allow_deletes, allow_changes, allow_type_0
            Approves, once, a load that was blocked (LimitExceeded), by the number reported; one that does more is blocked again.

        Raises an InputError when the rows do not match the rules, Blocked or Temporary errors; only the failed run is recorded.
        """
        called = source_of_call(self.engine, self.rules, rows, kind, operation, feed, at, extract_scope, columns)
        allowed = Allowed(allow_deletes, allow_changes, allow_type_0)
        options = replace(called.options, label=label, explain=explain, wait_s=wait_s, allowed=allowed)
        return load(self.ledger, self.rules, called.source, options)

    @one_at_a_time()
    def preview(
        self,
        rows: Any,
        *,
        kind: Kind | None = None,
        operation: str | Operations | None = None,
        feed: str = "frame",
        at: str | date | datetime | None = None,
        extract_scope: str | None = None,
        columns: FeedColumns | None = None,
        explain: bool | None = None,
    ) -> Outcome:
        """The outcome that ``load`` would have; nothing is written. An Arrow reader is consumed by it.

        If a load would be blocked, ``Outcome.blocked_by`` has the error.
        """
        called = source_of_call(self.engine, self.rules, rows, kind, operation, feed, at, extract_scope, columns)
        options = replace(called.options, explain=explain, preview=True)
        return load(self.ledger, self.rules, called.source, options)

    @one_at_a_time()
    def load_from(self, source: Source, options: LoadOptions) -> Outcome:
        """The same for any source and all options; a project loads its tables through it."""
        return load(self.ledger, self.rules, source, options)

    @one_at_a_time()
    def read(self, *, known_at: int | None = None, without: Iterable[int] = ()) -> pa.Table:
        """All rows of the table, in the order of natural key and valid_from; no rows if it was never loaded.

        ``known_at`` reads the table as it was after that run, ``without`` as if some runs had never been: recomputed from the
        change log, without surrogate keys, runs and load times. Raises DeclarationError for a table without a change log.
        """
        if known_at is not None or (without := numbers_of("Runs", without)):
            return known(self.ledger, self.rules, known_at=known_at, without=without)
        state = self._state()
        return self._ask(state, "", {}) if state else self._no_rows()

    @one_at_a_time()
    def history(self, key: Key, *, known_at: int | None = None, without: Iterable[int] = ()) -> pa.Table:
        """All versions of one natural key, the oldest first; no rows if the key is unknown.

        ``key`` is a value, or for a key of several columns a dict of their values. For ``known_at`` and ``without`` see
        ``read``.
        """
        state, rules = self._state(), self.rules
        values = key_values(rules, key, state.types if state else {})
        if known_at is not None or (without := numbers_of("Runs", without)):
            return known(self.ledger, rules, known_at=known_at, without=without, key=values)
        return self._ask(state, questions.of_key(rules, state.types), values) if state else self._no_rows()

    @one_at_a_time()
    def as_of(
        self,
        when: str | int | date | datetime,
        *,
        known_at: int | None = None,
        without: Iterable[int] = (),
    ) -> pa.Table:
        """The rows that were valid at a given time: ``valid_from <= when < valid_to``.

        ``when`` is a value of the effective column's type, or one as text; a day means its first moment. Timestamps with a zone
        are converted to UTC. Raises DeclarationError for an invalid value, and for a table without valid_from or valid_to.
        For ``known_at`` and ``without`` see ``read``.
        """
        rules = self.rules
        if rules.appends:
            raise DeclarationError(f"Table {rules.table!r} has no natural key, so its rows have no history.")
        if not (rules.system_column_name("valid_from") and rules.system_column_name("valid_to")):
            raise DeclarationError(
                f"Table {rules.table!r} has no valid_from or no valid_to, so the rows valid at a given time are unknown."
            )
        state = self._state()
        if state is None:
            return self._no_rows()
        moment = _moment(when, state.effective_type.kind)
        if known_at is not None or (without := numbers_of("Runs", without)):
            return known(self.ledger, rules, known_at=known_at, without=without, moment=moment)
        return self._ask(state, questions.at_moment(rules, state.effective_type), {"moment": moment})

    @one_at_a_time()
    def change_log(self, key: Key) -> list[dict[str, Any]]:
        """All changes of a key in the log, in order of arrival, each with its run, decision and effect.

        The entries are those of ``Outcome.decisions`` with ``run``, ``arrived_at`` (the start of the run, UTC; None where the
        ledger has lost the run) and ``reverted_by`` (None while it is active).
        """
        state = self._state()
        return changes_of_key(self.ledger, self.rules, key_values(self.rules, key, state.types if state else {}))

    @one_at_a_time()
    def decisions(self, run: int) -> pa.Table:
        """What a past run decided on the changes that it logged, recomputed; columns as in ``Outcome.decisions``.

        Duplicates and rejects are not logged and not included. Raises DeclarationError for a table without a change log.
        """
        return decided_by(self.ledger, self.rules, run)

    @one_at_a_time()
    def revert(
        self,
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
        targets = numbers_of("Runs", runs)
        return revert(self.ledger, self.rules, targets, reason=reason, undo=undo, preview=preview, wait_s=wait_s)

    @one_at_a_time()
    def erase(self, key: Key, *, reason: str | None = None, preview: bool = False, wait_s: float = 30.0) -> Outcome:
        """Erases a key for good: its rows, its changes in the log, its rejects, and what files of the store have left of them.

        A digest of the key is remembered, so that its rows are ignored when they are loaded again; reverting the run allows them.
        Raises DeclarationError for a table without a natural key, or one that was never loaded.
        """
        state = self._state()
        values = key_values(self.rules, key, state.types if state else {})
        return erase(self.ledger, self.rules, values, reason=reason, preview=preview, wait_s=wait_s)

    @one_at_a_time()
    def trim(
        self,
        *,
        keep: str | timedelta | None = None,
        reason: str | None = None,
        preview: bool = False,
        wait_s: float = 30.0,
    ) -> Outcome:
        """Trims the change log: changes older than ``keep``, by effective time and by run, become base states. The table stays as
        it is.

        ``keep`` is a period, as in ``"400 days"``; None: that of the rules (``change_log``). Afterwards a change is rejected when
        it holds from no later than the last base state of its key, and runs older than ``keep`` cannot be reverted. Raises
        DeclarationError for a table without a change log, and one whose effective time is an integer.
        """
        span = None if keep is None else period_of(keep)
        return trim(self.ledger, self.rules, keep=span, reason=reason, preview=preview, wait_s=wait_s)

    @one_at_a_time()
    def rebuild(
        self,
        *,
        preview: bool = False,
        drop_columns: bool = False,
        unlogged: Unlogged | None = None,
        wait_s: float = 30.0,
    ) -> Outcome:
        """Recomputes the table from its change log under the current rules; only rows that differ are written.

        ``drop_columns`` allows dropping columns that the rules now exclude; the change log keeps their values. ``unlogged``
        decides on rows that have no change in the log: ``"keep"`` logs them as changes of this run, ``"remove"`` removes them.

        Raises RulesChanged for rules that it cannot apply and for columns that it may not drop, ChangesMissing where there
        are such rows and ``unlogged`` is None, DeclarationError for a table without a change log.
        """
        return rebuild(
            self.ledger, self.rules, preview=preview, drop_columns=drop_columns, unlogged=unlogged, wait_s=wait_s
        )

    @one_at_a_time(feed=COLUMNS)
    def adopt(
        self,
        feed: Mapping[str, str] | None = None,
        *,
        allow_changes: int = 0,
        reason: str | None = None,
        preview: bool = False,
        wait_s: float = 30.0,
    ) -> Outcome:
        """Takes over an existing table of the store, with all its rows and surrogate keys.

        ``feed`` are the columns that its feeds will have, with types as in ``TableRules.types``; columns of the table that are
        neither there nor in the rules are left unchanged. Raises SchemaMismatch when the table does not match its rules, or
        when more than ``allow_changes`` rows differ from what the rules would produce.
        """
        columns = {name: parse_type(kind) for name, kind in (feed or {}).items()}
        return adopt(
            self.ledger,
            self.rules,
            columns,
            allow_changes=allow_changes,
            reason=reason,
            preview=preview,
            wait_s=wait_s,
        )

    @one_at_a_time()
    def pending_deletes(self) -> pa.Table:
        """The deletes that await approval: ``brenvik_delete_no`` (their number), ``brenvik_feed``, ``brenvik_run``,
        ``brenvik_pending_since``, ``brenvik_effective_at``, then key and values of the row that each would end."""
        return list_pending_deletes(self.ledger, self.rules)

    @one_at_a_time()
    def approve_deletes(
        self,
        *numbers: int,
        every: bool = False,
        reason: str | None = None,
        preview: bool = False,
        wait_s: float = 30.0,
    ) -> Outcome:
        """Approves pending deletes by number, or ``every`` one; each takes effect at the time given by its source.

        Raises DeclarationError for numbers that are not pending.
        """
        chosen = _chosen("deletes", numbers, every=every)
        return decide_deletes(
            self.ledger, self.rules, chosen, discard=False, reason=reason, preview=preview, wait_s=wait_s
        )

    @one_at_a_time()
    def discard_deletes(
        self,
        *numbers: int,
        every: bool = False,
        reason: str | None = None,
        preview: bool = False,
        wait_s: float = 30.0,
    ) -> Outcome:
        """Discards pending deletes by number, or ``every`` one: they will never take effect, and the rows stay.

        Raises DeclarationError for numbers that are not pending.
        """
        chosen = _chosen("deletes", numbers, every=every)
        return decide_deletes(
            self.ledger, self.rules, chosen, discard=True, reason=reason, preview=preview, wait_s=wait_s
        )

    @one_at_a_time()
    def rejects(self, *, run: int | None = None, state: str | None = "open") -> pa.Table:
        """Rejected rows of the table, the oldest first: those in a state (``open``, ``retried``, ``discarded``; None: any), of
        all runs or of one. ``content`` is the whole row as JSON, or the text of a line that is not a row."""
        return self.ledger.rejects(self.rules.table, run=run, state=state)

    @one_at_a_time()
    def retry_rejects(
        self,
        *numbers: int,
        kind: Kind,
        operation: str | Operations | None = None,
        feed: str = "frame",
        columns: FeedColumns | None = None,
        fixed: Mapping[int, Mapping[str, Any]] | None = None,
        preview: bool = False,
        wait_s: float = 30.0,
    ) -> Outcome:
        """Loads open rejects of a feed again, by number or (without numbers) all, as after the rules were fixed.

        ``columns`` are those of the feed; see ``load``. ``fixed`` has corrected rows by the number of their reject. Rows that are
        rejected again become new rejects. Raises DeclarationError for numbers that are not open.
        """
        codes = Operations(operation) if isinstance(operation, str) else operation
        chosen = numbers_of("Rejects", numbers) or None
        options = LoadOptions(codes, columns or FeedColumns(), explain=True, preview=preview, wait_s=wait_s)
        return retry_rejects(self.ledger, self.rules, chosen, feed=feed, kind=kind, fixed=fixed or {}, options=options)

    @one_at_a_time()
    def discard_rejects(
        self, *numbers: int, every: bool = False, reason: str | None = None, wait_s: float = 30.0
    ) -> Outcome:
        """Discards open rejects for good, by number or ``every`` one; their rows stay in the ledger.

        Raises DeclarationError for numbers that are not open.
        """
        chosen = _chosen("rejects", numbers, every=every)
        return discard_rejects(self.ledger, self.rules, chosen, reason=reason, wait_s=wait_s)

    def __repr__(self) -> str:
        return f"<Table {self.rules.table} in {self.engine.address}>"

    def _repr_html_(self) -> str:
        state = self._state()
        if state is None:
            return f"<p>{escape(self.rules.table)} in {escape(self.engine.address)}: never loaded</p>"
        rows = "".join(
            f"<tr><td>{escape(column.name)}</td><td>{escape(str(column.type))}</td>"
            f"<td>{escape('key' if column.role == 'key' else column.role.replace('_', ' '))}</td></tr>"
            for column in state.columns
            if column.role != "when"
        )
        size = f"{state.row_count:,} rows, {state.current_keys:,} current keys"
        return (
            f"<table><caption>{escape(self.rules.table)} in {escape(self.engine.address)}: {size}</caption>"
            f"<tr><th>column</th><th>type</th><th>role</th></tr>{rows}</table>"
        )

    def _state(self) -> TableState | None:
        return self.ledger.state(self.rules.table) if self.ledger.exists() else None

    def _ask(self, state: TableState, where: str, values: Mapping[str, Any]) -> pa.Table:
        rules = self.rules
        open_end = str(rules.open_end) if rules.open_end is not None else None
        own = ((column, rules.system_column_name(column)) for column in SYSTEM_COLUMNS)
        types = types_of(state.columns, state.effective_type, own, key_type(rules.surrogate_key), rules.type_3.items())
        types |= {stamp.name: stamp.type for stamp in stamps_of(rules)}
        with explain_if_missing(self.engine, rules, state):
            return self.engine.ask(questions.rows(rules, where), {**values, "open_end": open_end}, types=types)

    def _no_rows(self) -> pa.Table:
        """No rows, of a table that was never loaded. Raises ForeignTable when the store has one of that name."""
        import pyarrow as pa

        rules = self.rules
        if self.engine.has_table(rules.stored_as):
            raise ForeignTable(
                f"{self.engine.address} has a table {rules.stored_as!r} that is not in the ledger: something else created it, "
                f"or its ledger entry is lost. To take it over: brenvik check {rules.table}, then brenvik adopt {rules.table}"
            )
        return pa.table({})


def numbers_of(what: str, given: Iterable[int]) -> tuple[int, ...]:
    """The numbers of runs, deletes or rejects as a caller gives them. Raises DeclarationError for anything else."""
    try:
        found: tuple[Any, ...] = tuple(given)
        if not any(isinstance(each, bool) for each in found):
            return tuple(map(index, found))  # numbers of other libraries as well
    except TypeError:
        pass
    shown = ", ".join(map(repr, given)) if isinstance(given, (list, tuple)) else repr(given)
    raise DeclarationError(f"{what} are given by number; expected whole numbers, got {shown}")


def _chosen(what: str, numbers: tuple[int, ...], *, every: bool) -> tuple[int, ...] | None:
    if every == bool(numbers):
        raise DeclarationError(f"Name the {what} by number, or use every=True for all of them.")
    return None if every else numbers_of(what.capitalize(), numbers)


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
