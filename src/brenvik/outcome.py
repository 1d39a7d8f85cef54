"""What came of a load or a preview."""

from __future__ import annotations

import weakref
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from html import escape
from typing import TYPE_CHECKING, Any

from brenvik.errors import Blocked, BrenvikError, Busy, DeclarationError, NotClean, StoreError
from brenvik.merge import explain
from brenvik.merge.plan.steps import DECISIONS
from brenvik.merge.schema import TableSchema
from brenvik.model.watermarks import Window

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.engines.protocol import Engine


@dataclass
class DecisionLog:
    """How the decisions of a load can be told while its working tables are still there."""

    engine: Engine
    work: str
    schema: TableSchema
    some_replayed: bool
    some_rejected: bool
    some_inactive_deletes: bool
    files: tuple[tuple[int, str], ...]
    some_current: bool = True
    key_places: explain.KeyPlaces = ()

    def __post_init__(self) -> None:
        weakref.finalize(self, self.engine.on_discard(self.work))

    def decisions(self) -> pa.Table:
        from brenvik.engines.scratch import parsed, scratch

        questions = (
            explain.collect(
                self.schema,
                current=self.some_current,
                replayed=self.some_replayed,
                inactive_deletes=self.some_inactive_deletes,
            ),
            explain.rejected(none=not self.some_rejected),
        )
        try:
            with self.engine.turn.taken(self.engine.address):
                wide, rejected = (
                    self.engine.ask(text, work=self.work, types=self.schema.answers) for text in questions
                )
        except StoreError as error:
            raise StoreError(f"Decisions can be read only while the store is open: {error}") from error
        with scratch() as work:
            work.register(explain.WIDE, wide)
            work.register(explain.REJECTED, rejected)
            return work.sql(parsed(explain.tabulate(self.schema, self.files, self.key_places))).to_arrow_table()


@dataclass
class Outcome:
    """What came of one load or preview of one table.

    table, feed, source
        What was loaded, from which feed, from what (a file, several, a frame).
    run
        The number of the run; None for a preview and when there was nothing new.
    state
        ``done``, ``preview`` or ``nothing new``; in a project's load also ``failed``, ``blocked``, ``busy`` or
        ``skipped``, with the ``error`` that made it so.
    started_at, duration_s
        The time of the load in UTC without a zone, and the seconds it took.
    counts
        ``read``, and ``derived`` (changes that come of a row beside itself, as when its key changed); the number of changes
        per decision, which sum up to these two; ``rows_before``, ``rows_added``,
        ``rows_updated``, ``rows_removed`` and ``rows_after`` of the table.
    window, seen
        For a feed with a watermark: what was taken, and how many rows of the source were ``ahead`` of its clock or
        ``without_watermark``, which were not.
    notes
        Sentences a person should read.
    blocked_by
        Of a preview: why a load would be refused.
    more
        Whether something is left for a next load: a further piece of a window, a further extract.
    touched
        Of a run that worked keys out again: per key of which rows changed, how many rows were ``brenvik_added``,
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
        """Of a load that an error ended."""
        state = state or ("blocked" if isinstance(error, Blocked) else "busy" if isinstance(error, Busy) else "failed")
        return cls(table, feed, None, state, error=error)

    @property
    def is_clean(self) -> bool:
        """Whether the load was done and nothing was rejected or held."""
        return self.error is None and not (self.counts.get("rejected", 0) or self.counts.get("pending", 0))

    def decisions(self) -> pa.Table:
        """What became of each row, in the order in which they stood in the source.

        Columns: ``file`` (null for frames), ``line`` (from 1; a CSV header is line 1), ``key`` (a struct of the natural
        key; null inside where it cannot be read), ``effective``, ``decision``, ``reason``, and ``changes``: a list of structs
        (column, before, after) as text, of what an insert brought, what changed, what a delete ended, or what was refused to
        change.

        Can be asked as long as the store is open. Raises DeclarationError when nothing was new, and when the load was
        large and ``explain=True`` was not said.
        """
        if self.decision_log is None:
            raise DeclarationError(
                f"The decisions of {self.counts.get('read', 0):,} rows were not kept; to keep them, load with explain=True."
                if self.counts
                else "There was no new data, so there are no decisions."
            )
        return self.decision_log.decisions()

    def require_clean(self) -> Outcome:
        """The outcome itself; raises NotClean when any row was rejected or held, and the load's own error when it had one."""
        if self.error:
            raise self.error
        if self.is_clean:
            return self
        refused = {name: self.counts.get(name, 0) for name in ("rejected", "pending")}
        told = " and ".join(f"{count:,} {name}" for name, count in refused.items() if count)
        lines = [f"{self.table} from {self.source}: {told}."]
        if self.decision_log:
            rows = self.decision_log.decisions().select(["line", "decision", "reason"]).to_pylist()
            rejected = [row for row in rows if row["decision"] == "rejected"]
            lines += [f"  line {row['line']}: {row['reason']}" for row in rejected[:5]]
            lines += [f"  and {len(rejected) - 5} more"] if len(rejected) > 5 else []
        raise NotClean("\n".join(lines))

    def to_dict(self) -> dict[str, Any]:
        """The outcome as plain values that JSON can hold."""
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
        """The two sums that a load must satisfy: decisions, and rows of the table."""
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
