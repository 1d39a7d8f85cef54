"""The outcomes of loads, previews and other runs."""

from __future__ import annotations

import weakref
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from html import escape
from typing import TYPE_CHECKING, Any

from brenvik.errors import Blocked, BrenvikError, Busy, DeclarationError, NotClean, StoreError
from brenvik.merge import explain
from brenvik.merge.schema import TableSchema
from brenvik.model.decisions import DECISIONS
from brenvik.model.watermarks import Window

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.engines.workspace import Workspace


@dataclass
class DecisionLog:
    """Explains the decisions of a load while its working tables exist."""

    workspace: Workspace
    schema: TableSchema
    some_replayed: bool
    some_rejected: bool
    some_decided_deletes: bool
    files: tuple[tuple[int, str], ...]
    some_current: bool = True
    some_returning: bool = False
    some_erased: bool = False
    key_places: explain.KeyPlaces = ()

    def __post_init__(self) -> None:
        weakref.finalize(self, self.workspace.engine.on_discard(self.workspace.prefix))

    def decisions(self) -> pa.Table:
        from brenvik.engines.scratch import parsed, scratch

        questions = (
            explain.collect(
                self.schema,
                current=self.some_current,
                replayed=self.some_replayed,
                inactive_deletes=self.some_decided_deletes,
                some_returning=self.some_returning,
                some_erased=self.some_erased,
            ),
            explain.rejected(none=not self.some_rejected),
        )
        try:
            engine = self.workspace.engine
            with engine.turn.taken(engine.address):
                wide, rejected = (self.workspace.ask(text, self.schema) for text in questions)
        except StoreError as error:
            raise StoreError(f"Decisions can be read only while the store is open: {error}") from error
        with scratch() as work:
            work.register(explain.WIDE, wide)
            work.register(explain.REJECTED, rejected)
            return work.sql(parsed(explain.tabulate(self.schema, self.files, self.key_places), work)).to_arrow_table()


@dataclass
class Outcome:
    """The outcome of one load, preview or other run of one table.

    table, feed, source
        What was loaded, from which feed, from what (a file, several, a frame).
    run
        The number of the run; None for a preview and when there was nothing new.
    state
        ``done``, ``preview`` or ``nothing new``; in a project's load also ``failed``, ``blocked``, ``busy`` or
        ``skipped``, with the ``error``.
    started_at, duration_s
        The start of the run in UTC without a zone, and its duration in seconds.
    counts
        ``read``, and ``derived`` (changes derived from a row, as when its key changed); the number of changes per decision,
        which add up to these two; ``rows_before``, ``rows_added``, ``rows_updated``, ``rows_removed`` and ``rows_after`` of
        the table. For a run that trimmed the change log ``changes_trimmed`` and ``base_states``.
    window, rows_skipped
        For a feed with a watermark: what was loaded, and how many rows of the source were skipped because they are dated in
        the future (``future_rows``) or have no watermark (``without_watermark``).
    notes
        Sentences that a person should read.
    blocked_by
        For a preview: the error that would block a load.
    more
        Whether there is more to load: another window, another extract.
    changed_keys
        For a run that recomputed keys: per key whose rows changed, how many rows were ``brenvik_added``,
        ``brenvik_changed`` and ``brenvik_removed``.
    """

    table: str
    feed: str
    run: int | None
    state: str
    source: str = ""
    started_at: datetime | None = None
    duration_s: float = 0.0
    counts: Mapping[str, int] = field(default_factory=dict)
    window: Window | None = None
    rows_skipped: Mapping[str, int] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    changed_keys: pa.Table | None = field(default=None, repr=False)
    blocked_by: Blocked | None = field(default=None, repr=False)
    more: bool = False
    decision_log: DecisionLog | None = field(default=None, repr=False)
    error: BrenvikError | None = field(default=None, repr=False)

    @classmethod
    def nothing_new(cls, table: str, feed: str, *, notes: Iterable[str] = ()) -> Outcome:
        return cls(table, feed, None, "nothing new", notes=list(notes))

    @classmethod
    def stopped(cls, table: str, feed: str, error: BrenvikError, *, state: str | None = None) -> Outcome:
        """The outcome of a load that ended with an error."""
        state = state or ("blocked" if isinstance(error, Blocked) else "busy" if isinstance(error, Busy) else "failed")
        return cls(table, feed, None, state, error=error)

    @property
    def is_clean(self) -> bool:
        """Whether the load was done, nothing was rejected and no deletes are pending."""
        return self.error is None and not (self.counts.get("rejected", 0) or self.counts.get("pending", 0))

    def decisions(self) -> pa.Table:
        """The decision on each row, in the order of the source.

        Columns: ``file`` (null for frames), ``line`` (from 1; a CSV header is line 1), ``key`` (a struct of the natural key,
        with nulls where it cannot be read), ``effective``, ``decision``, ``reason``, and ``changes``: a list of structs
        (column, before, after) as text, with the values that an insert brought, that changed, that a delete ended, or that
        were protected. ``protected``: the same for values of type 0 that stayed while a change set other columns; ``after`` is
        the value that it had.

        Available as long as the store is open. Raises DeclarationError when nothing was new, and for a large load without
        ``explain=True``.
        """
        if self.decision_log is None:
            raise DeclarationError(
                f"The decisions of {self.counts.get('read', 0):,} rows were not kept; to keep them, load with explain=True."
                if self.counts
                else "There was no new data, so there are no decisions."
            )
        return self.decision_log.decisions()

    def require_clean(self) -> Outcome:
        """Returns the outcome itself; raises NotClean if rows were rejected or deletes are pending, and the load's error if it
        had one."""
        if self.error:
            raise self.error
        if self.is_clean:
            return self
        open_ = {name: self.counts.get(name, 0) for name in ("rejected", "pending")}
        found = " and ".join(f"{count:,} {name}" for name, count in open_.items() if count)
        lines = [f"{self.table} from {self.source}: {found}."]
        if self.decision_log:
            rows = self.decision_log.decisions().select(["line", "decision", "reason"]).to_pylist()
            rejected = [row for row in rows if row["decision"] == "rejected"]
            lines += [f"  line {row['line']}: {row['reason']}" for row in rejected[:5]]
            lines += [f"  and {len(rejected) - 5} more"] if len(rejected) > 5 else []
        raise NotClean("\n".join(lines))

    def to_dict(self) -> dict[str, Any]:
        """The outcome as values that JSON supports."""
        return {
            "table": self.table,
            "feed": self.feed,
            "run": self.run,
            "state": self.state,
            "source": self.source,
            "started_at": self.started_at.isoformat() + "Z" if self.started_at else None,
            "duration_s": round(self.duration_s, 6),
            "counts": dict(self.counts),
            "window": self.window.as_plain() if self.window else None,
            "rows_skipped": dict(self.rows_skipped),
            "notes": list(self.notes),
            "error": str(self.error) if self.error else None,
            "blocked_by": str(self.blocked_by) if self.blocked_by else None,
        }

    def sums(self) -> tuple[str, str]:
        """The two sums that every load satisfies: decisions, and rows of the table."""
        counts = self.counts
        parts = [f"{counts[name]:,} {name}" for name in DECISIONS if counts.get(name)]
        derived = f" + {counts['derived']:,} derived" if counts.get("derived") else ""
        return (
            f"{counts.get('read', 0):,} read{derived} = {' + '.join(parts) or '0'}",
            f"{counts.get('rows_before', 0):,} rows + {counts.get('rows_added', 0):,} added "
            f"− {counts.get('rows_removed', 0):,} removed = {counts.get('rows_after', 0):,}",
        )

    def __str__(self) -> str:
        run = f", run {self.run}" if self.run else ""
        head = f"{self.table} from {self.feed}: {self.state}{run}"
        return "\n".join([head, *(f"  {line}" for line in (*self.sums(), *self.notes))]) if self.counts else head

    def _repr_html_(self) -> str:
        shown = [(name, self.counts[name]) for name in ("read", "derived", *DECISIONS) if self.counts.get(name)]
        head = "".join(f"<th>{escape(name)}</th>" for name, _ in shown)
        body = "".join(f"<td>{count:,}</td>" for _, count in shown)
        caption = escape(str(self).partition("\n")[0])
        notes = "".join(f"<p>{escape(line)}</p>" for line in (*(self.sums() if self.counts else ()), *self.notes))
        return f"<table><caption>{caption}</caption><tr>{head}</tr><tr>{body}</tr></table>{notes}"


class Outcomes(list[Outcome]):
    """The outcomes of a project's load, one per feed, in order."""

    @property
    def is_clean(self) -> bool:
        """Whether all of them are clean."""
        return all(outcome.is_clean for outcome in self)

    def require_clean(self) -> Outcomes:
        """Returns the outcomes; raises what ``Outcome.require_clean`` raises for the first that is not clean."""
        for outcome in self:
            outcome.require_clean()
        return self

    def __str__(self) -> str:
        return "\n".join(map(str, self))

    def _repr_html_(self) -> str:
        used = [name for name in ("read", "derived", *DECISIONS) if any(each.counts.get(name) for each in self)]
        head = "".join(f"<th>{escape(name)}</th>" for name in ("table", "feed", "state", "run", *used))
        rows = "".join(
            f"<tr><td>{escape(each.table)}</td><td>{escape(each.feed)}</td><td>{escape(each.state)}</td>"
            f"<td>{each.run or '–'}</td>"
            + "".join(f"<td>{each.counts[name]:,}</td>" if each.counts.get(name) else "<td>–</td>" for name in used)
            + "</tr>"
            for each in self
        )
        notes = "".join(f"<p>{escape(each.table)}: {escape(str(each.error))}</p>" for each in self if each.error)
        return f"<table><tr>{head}</tr>{rows}</table>{notes}"
