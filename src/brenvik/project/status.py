"""How far each feed is, what waits in it, and how a person moves it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

from brenvik.engines.protocol import Engine
from brenvik.errors import BrenvikError, DeclarationError
from brenvik.ledger.entries import now
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import Trimmed
from brenvik.ledger.schema import LOADS
from brenvik.model.feeds import DatabaseFeed, FeedRules
from brenvik.model.positions import Position, PositionKind, as_text
from brenvik.model.watermarks import Window, parse_span
from brenvik.project.project import Project, ProjectTable

if TYPE_CHECKING:
    from brenvik.feeds.protocol import LoadRequest, Waiting
    from brenvik.store import Store


@dataclass(frozen=True)
class FeedProgress:
    """How far one feed is.

    ``taken`` is the last file or the watermark, moved by ``run`` at ``loaded_at`` (UTC, without a zone); None when nothing was
    taken yet. ``waiting`` is None when the source could not be looked at; ``error`` then says why.
    """

    table: str
    feed: FeedRules
    taken: str | None
    run: int | None
    loaded_at: datetime | None
    waiting: Waiting | None
    error: str | None

    def as_plain(self) -> dict[str, Any]:
        """The same as values that JSON supports."""
        waiting = self.waiting
        window = waiting.window if waiting else None
        return {
            "table": self.table,
            "feed": self.feed.name,
            "reads": self.feed.reads,
            "loaded_up_to": self.taken,
            "run": self.run,
            "loaded_at": self.loaded_at,
            "waiting": waiting.count if waiting else None,
            "unit": waiting.unit if waiting else None,
            "waiting_since": waiting.since if waiting else None,
            "waiting_s": waited_s(waiting) if waiting else None,
            "next_window": window.as_plain() if window else None,
            **(waiting.rows_skipped if waiting else {}),
            "notes": list(waiting.notes) if waiting else [],
            "attention": list(waiting.attention) if waiting else [],
            "error": self.error,
        }


def waited_s(waiting: Waiting) -> float | None:
    """How long the oldest waiting data have waited, in seconds."""
    return max(0.0, (now() - waiting.since).total_seconds()) if waiting.since else None


def how_far(project: Project, store: Store, *tables: ProjectTable) -> list[FeedProgress]:
    """The progress of each feed of some tables, in the order of the project file. A source that is unavailable has its error in
    the entry."""
    progress = store.ledger.progress()
    return [entry for table in tables for entry in _how_far(project, store, table, progress)]


def _how_far(
    project: Project, store: Store, table: ProjectTable, progress: Mapping[tuple[str, str], Mapping[str, Any]]
) -> list[FeedProgress]:
    found = []
    for feed in table.feeds:
        name = table.rules.table
        memory = store.ledger.memory(name, feed.name)
        waiting, error = None, None
        try:
            waiting = project.source(table, feed, store).waiting(memory)
        except BrenvikError as raised:
            error = str(raised)
        known = progress.get((name, feed.name)) or dict.fromkeys(("loaded_up_to", "run", "loaded_at"))
        watermark = memory.watermark() if isinstance(feed, DatabaseFeed) else None
        taken = as_text(watermark.mark) if watermark else known["loaded_up_to"]
        run, loaded_at = known["run"], known["loaded_at"]
        if feed.kind == "full_extract" and isinstance(feed, DatabaseFeed) and store.ledger.exists():
            newest = store.ledger.newest_extract(name, feed.name)
            run, taken = newest or (None, None)
            about = store.ledger.run(run) if run else None
            loaded_at = about["started_at"] if about else None
        found.append(FeedProgress(name, feed, taken, run, loaded_at, waiting, error))
    return found


@dataclass(frozen=True)
class TableStatus:
    """The state of one table. Times are UTC without a zone, or None.

    ``since`` counts runs that failed, were blocked or crashed after the last successful one. ``behind_s`` is how long, in
    seconds, the oldest waiting data have waited. ``overdue``: the last successful run ended longer ago than ``expected_every``.
    ``log_trimmed_before`` (an effective time, as text) and ``log_trimmed_to_run``: how far the change log was trimmed, None where
    it never was.
    """

    table: str
    last_run: int | None
    last_at: datetime | None
    expected_every: timedelta | None
    overdue: bool
    behind_s: float | None
    waiting: dict[str, int]
    protected: int
    open_rejects: int
    pending_deletes: int
    since: dict[str, int]
    log_trimmed_before: str | None
    log_trimmed_to_run: int | None
    errors: list[str]
    attention: list[str]

    @property
    def needs_attention(self) -> bool:
        """Whether someone should look at the table; not for an unavailable source alone, which may recover."""
        waits = self.open_rejects or self.pending_deletes or self.protected
        return bool(self.overdue or waits or self.attention or any(self.since.values()))

    @property
    def is_ok(self) -> bool:
        return not (self.needs_attention or self.errors)


def status_of(project: Project, store: Store, tables: Sequence[ProjectTable]) -> list[TableStatus]:
    """The state of each of some tables; a source that cannot be reached is in ``errors``."""
    known, progress, trimmed = store.ledger.status(), store.ledger.progress(), store.ledger.all_trimmed()
    return [
        _status_of(
            table,
            known.get(table.rules.table, {}),
            _how_far(project, store, table, progress),
            trimmed.get(table.rules.table),
        )
        for table in tables
    ]


def _status_of(
    table: ProjectTable, known: Mapping[str, Any], feeds: Sequence[FeedProgress], trimmed: Trimmed | None
) -> TableStatus:
    waiting: dict[str, int] = {}
    behind: list[float] = []
    for each in feeds:
        if each.waiting and each.waiting.count:
            waiting[each.waiting.unit] = waiting.get(each.waiting.unit, 0) + each.waiting.count
            seconds = waited_s(each.waiting)
            behind += [] if seconds is None else [seconds]
    last_at = known.get("last_done_at")
    every = table.expected_every
    return TableStatus(
        table=table.rules.table,
        last_run=known.get("last_done_run") or None,
        last_at=last_at,
        expected_every=every,
        overdue=every is not None and (last_at is None or now() - last_at > every),
        behind_s=max(behind, default=None),
        waiting=waiting,
        protected=known.get("protected", 0),
        open_rejects=known.get("open_rejects", 0),
        pending_deletes=known.get("pending_deletes", 0),
        since={state: known.get(f"{state}_since", 0) for state in ("failed", "blocked", "crashed")},
        log_trimmed_before=trimmed.before if trimmed else None,
        log_trimmed_to_run=trimmed.run if trimmed else None,
        errors=[f"{each.feed.name}: {each.error}" for each in feeds if each.error],
        attention=[f"{each.feed.name}: {text}" for each in feeds if each.waiting for text in each.waiting.attention],
    )


@dataclass(frozen=True)
class Move:
    """A watermark before and after a move; carried out by ``set_watermark``."""

    table: ProjectTable
    feed: FeedRules
    kind: PositionKind
    before: Position | None
    after: Position


def plan_move(project: Project, store: Store, table: str, feed: str | None, *, to: str | None, by: str | None) -> Move:
    """What moving a watermark ``to`` a value, or back ``by`` a distance, would do; nothing is written.

    Raises DeclarationError for a feed without a watermark, or an invalid value.
    """
    found, rules = project.feed(table, feed)
    if not isinstance(rules, DatabaseFeed):
        raise DeclarationError(
            f"Feed {rules.name!r} of {table} reads files, each loaded once, and has no watermark. "
            f"To load one again: brenvik load {table} --again FILE"
        )
    if rules.watermark is None:
        raise DeclarationError(f"Feed {rules.name!r} of {table} reads whole extracts and has no watermark.")
    if (to is None) == (by is None):
        raise DeclarationError('Expected either --to VALUE or --back "2 days".')
    known = store.ledger.memory(found.rules.table, rules.name).watermark()
    try:
        if by is not None:
            if known is None:
                raise DeclarationError(
                    f"Feed {rules.name!r} of {table} has not loaded anything yet; there is no watermark to move back."
                )
            span = parse_span(int(by) if by.isdigit() else by)
            if span and not known.kind.fits(span):
                raise ValueError(f"does not fit the watermark, which is {known.kind.name}")
            return Move(found, rules, known.kind, known.mark, known.kind.back(known.mark, span))
        assert to is not None
        if known is None:
            source: Any = project.source(found, rules, store)  # one with a watermark
            kind, mark = source.parse_position(to)
            return Move(found, rules, kind, None, mark)
        return Move(found, rules, known.kind, known.mark, known.kind.parse(to, zone=found.rules.time_zone))
    except ValueError as error:
        raise DeclarationError(f"{'--back' if by is not None else '--to'}: {error}") from None


def set_watermark(ledger: Ledger[Engine], move: Move, *, reason: str | None, wait_s: float = 30.0) -> int:
    """Moves a watermark, recorded as a run of its own; returns its number.

    Raises DeclarationError when the watermark has changed since the plan was made, Busy while the table is locked.
    """
    rules, feed = move.table.rules, move.feed
    ledger.prepare()
    with ledger.engine.lock(rules.table, wait_s=wait_s):
        known = ledger.watermark(rules.table, feed.name)
        if (known.mark if known else None) != move.before:
            raise DeclarationError(f"The watermark of {rules.table} {feed.name} has moved in the meantime; try again.")
        window = Window(move.kind, move.before, move.after, move.before)
        run, _ = ledger.start_run(
            rules, feed=feed.name, kind="watermark", source="set by hand", window=window, reason=reason
        )
        with ledger.engine.transaction(rules):
            ledger.set_watermark(run, move.kind, move.after)
            ledger.end_run(run, "done", {})
        return run.number


def begin_watermarks(project: Project, store: Store, table: ProjectTable, *, wait_s: float = 30.0) -> list[str]:
    """Sets the watermarks of a table that was just adopted, where the table shows them: a feed whose watermark is the
    effective column continues from the highest time in the table. Returns notes on what was set and what is left to set."""
    notes = []
    state = store.ledger.state(table.rules.table)
    for feed in table.feeds:
        if not isinstance(feed, DatabaseFeed) or feed.watermark is None:
            continue
        name = table.rules.table
        if state is None or feed.watermark != table.rules.effective_column or state.high_effective is None:
            notes.append(
                f"Feed {feed.name} will start from the beginning; to set its watermark: brenvik watermarks set {name} --to VALUE"
            )
            continue
        move = plan_move(project, store, name, feed.name, to=state.high_effective, by=None)
        run = set_watermark(store.ledger, move, reason="adopted", wait_s=wait_s)
        notes.append(
            f"Feed {feed.name} will continue from {as_text(move.after)}, the highest time in the table (run {run})."
        )
    return notes


def loaded_by(store: Store, run: int) -> tuple[str, str, LoadRequest]:
    """The table and feed of a run, and the request that loads the same again.

    Raises DeclarationError when there is no such run, or when what it loaded cannot be loaded again.
    """
    from brenvik.feeds.protocol import LoadRequest

    row = store.ledger.run(run)
    if row is None:
        raise DeclarationError(f"There is no run {run}: brenvik runs")
    if row["kind"] not in LOADS or row["state"] != "done":
        raise DeclarationError(
            f"Run {run} loaded nothing ({row['kind']}, {row['state']}), so there is nothing to load again."
        )
    if row["window_high"] is not None and row["kind"] != "full_extract":
        return row["table_name"], row["feed"], LoadRequest(after=row["window_low"], until=row["window_high"])
    files = tuple(name for _, _, name in store.ledger.files_of(row["table_name"], [run]))
    if not files:
        raise DeclarationError(
            f"Run {run} loaded {row['source']}; only files and windows of databases can be loaded again."
        )
    return row["table_name"], row["feed"], LoadRequest(files=files)
