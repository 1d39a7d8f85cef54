"""Tables and queries of databases: read by a watermark column, or taken whole as an extract.

By a watermark, one transaction asks the source for its clock, then for what there is above the watermark, then for the rows
of the window. See ``database_reader`` for how rows are read.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Any
from zoneinfo import ZoneInfo

import pyarrow as pa
import sqlalchemy as sa

from brenvik.core import windows
from brenvik.core.windows import Mark, Span, Window, parse_mark, told
from brenvik.errors import DeclarationError, FeedError
from brenvik.feed_rules import Connection
from brenvik.feeds.base import Batch, ExtractTime, Memory, Waiting, Wanted
from brenvik.feeds.database_reader import Reader, Relation
from brenvik.types import TEXT, ColumnType, type_of_arrow

_DAY = "[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]"


class DatabaseSource:
    """See the module. ``types`` and ``zone`` are those of the table's rules; ``clock`` stands in for the source's own.

    window
        Cuts what there is into pieces: a number of rows (those of one mark stay together), or a distance.
    ordered
        Whether rows must come in the order of the watermark, because nothing else orders them.
    """

    def __init__(
        self,
        connection: Connection,
        *,
        name: str,
        kind: str,
        watermark: str,
        table: str | None = None,
        query: str | None = None,
        overlap: Span | None = None,
        settle: Span | None = None,
        start_at: str | None = None,
        window: Span | None = None,
        types: Mapping[str, ColumnType] | None = None,
        zone: str = "UTC",
        ordered: bool = False,
        clock: Callable[[], datetime] | None = None,
    ) -> None:
        self.name = name
        self.kind = kind
        self.watermark = watermark
        self.overlap = overlap
        self.settle = settle
        self._reader = Reader(connection, table=table, query=query)
        self._start_at = start_at
        self._piece = window
        self._declared = types or {}
        self._zone = zone
        self._ordered = ordered
        self._clock = clock

    def open(self, memory: Memory, wanted: Wanted | None = None) -> Batch:
        view = self._reader.view()
        try:
            with self._reader.telling():
                relation, marks = self._relation(view)
                window, seen, notes = self._look(view, relation, marks, memory, wanted)
                window = self._cut(view, marks, window)
                self._check(view, marks, window)
                tests = []
                if window.reads_from is not None:
                    tests.append(marks.column > marks.bound(window.reads_from))
                tests.append(sa.false() if window.high is None else marks.column <= marks.bound(window.high))
                batch = self._reader.batch(
                    view,
                    relation,
                    source=f"{self._reader.name} {window}",
                    tests=tests,
                    order_by=marks.column if self._ordered else None,
                )
                batch.window = window
                batch.seen, batch.notes = seen, notes
                return batch
        except BaseException:
            view.close()
            raise

    def waiting(self, memory: Memory) -> Waiting:
        with self._looking() as (view, relation, marks):
            window, seen, notes = self._look(view, relation, marks, memory, None)
            self._check(view, marks, window)
            count, oldest = 0, None
            if not window.is_empty:
                what = sa.select(sa.func.count(), sa.func.min(marks.column)).select_from(relation.what)
                count, oldest = view.execute(what.where(*marks.inside(window))).one()
            return Waiting(count, "rows", marks.instant(oldest), window, seen, tuple(notes))

    def columns(self) -> dict[str, dict[str, ColumnType]]:
        """See ``base.StandingSource``; the types of a query's columns cannot be known without reading and are text here."""
        with self._looking() as (_, relation, _):
            return {self._reader.name: {name: kind or TEXT for name, kind in relation.types.items()}}

    def parse_mark(self, text: str) -> tuple[str, Mark]:
        """A mark as people write it, and of which kind the watermark is. Raises DeclarationError when it is none."""
        with self._looking() as (_, _, marks):
            return marks.kind, self._mark(text, marks.kind, "--to")  # type: ignore[return-value]

    @contextmanager
    def _looking(self) -> Iterator[tuple[sa.Connection, Relation, _Marks]]:
        view = self._reader.view()
        try:
            with self._reader.telling():
                yield view, *self._relation(view)
        finally:
            view.close()

    def _relation(self, view: sa.Connection) -> tuple[Relation, _Marks]:
        relation = self._reader.relation(view)
        if self.watermark not in relation.types:
            raise FeedError(
                f"{self._reader.name} has no column {self.watermark!r} for the watermark; it has {', '.join(relation.types)}."
            )
        return relation, self._marks(view, relation)

    def _marks(self, view: sa.Connection, relation: Relation) -> _Marks:
        column = relation.what.c[self.watermark]
        declared = self._declared.get(self.watermark)
        stated = relation.types[self.watermark]
        example = None
        if declared is None and stated is None:
            example = view.execute(sa.select(sa.func.max(column))).scalar()
        kind = (declared or stated or _kind_of(example)).kind
        in_text = view.dialect.name == "sqlite" and kind != "integer"
        if kind not in windows.KINDS or (in_text and kind == "timestamp with time zone"):
            possible = "timestamp, date or integer" if in_text else ", ".join(windows.KINDS)
            raise FeedError(
                f"{self._reader.name}: the watermark {self.watermark!r} is {kind}; expected {possible}. "
                f'Declare what it is: types = {{ {self.watermark} = "timestamp" }}'
            )
        for name, span in (("overlap", self.overlap), ("settle", self.settle)):
            if not windows.span_fits(span, kind):
                expected = {"integer": "a number", "date": "whole days"}.get(kind, 'a time as in "2 minutes"')
                raise DeclarationError(
                    f"Feed {self.name!r}: {name} does not fit the watermark, which is {kind}; say {expected}."
                )
        separator = " "
        if in_text and kind == "timestamp":
            newest = view.execute(sa.select(sa.func.max(column))).scalar()
            separator = newest[10] if isinstance(newest, str) and newest[10:11] == "T" else " "
        return _Marks(column, kind, self._zone, separator if in_text else "")

    def _look(
        self, view: sa.Connection, relation: Relation, marks: _Marks, memory: Memory, wanted: Wanted | None
    ) -> tuple[Window, dict[str, int], list[str]]:
        """The window there is, whole; what was counted beside it; and what a person should know."""
        known = memory.watermark()
        if known and known.kind != marks.kind:
            raise FeedError(
                f"{self._reader.name}: the watermark {self.watermark!r} is {marks.kind} now and was {known.kind} until run "
                f"{known.run}. "
                "Load it as a feed of another name, which begins at the beginning."
            )
        low = known.mark if known else None
        until: Mark | None = None
        overlap, start_at = self.overlap, self._mark(self._start_at, marks.kind, "start_at")
        if wanted:
            if wanted.files or wanted.pattern:
                raise DeclarationError(f"Feed {self.name!r} reads a database and has no files; ask for a window of it.")
            low, overlap = self._mark(wanted.after, marks.kind, "--from"), None
            until = self._mark(wanted.until, marks.kind, "--to")
        clock = self._clock() if self._clock else self._reader.now(view)
        mark_of_clock = windows.clock_as(marks.kind, clock, self._zone)

        def one(what: Any, *tests: Any) -> Any:
            return view.execute(sa.select(what).select_from(relation.what).where(*tests)).scalar()

        above_low = [] if low is None else [marks.column > marks.bound(low)]
        limit = mark_of_clock if mark_of_clock is not None else marks.read(one(sa.func.max(marks.column)))
        if limit is not None:
            limit = windows.back(limit, self.settle)
        if until is not None and limit is not None:
            limit = min(limit, until)
        settled = [] if limit is None else [marks.column <= marks.bound(limit)]
        newest = one(sa.func.max(marks.column), *above_low, *settled)
        window = windows.next_window(marks.kind, low=low, high=marks.read(newest), overlap=overlap, start_at=start_at)
        moves = not wanted or (wanted.everything and (not known or window.high > known.mark))  # type: ignore[operator]
        window = Window(window.kind, window.low, window.high, window.reads_from, moves=moves and not window.is_empty)
        ahead = 0 if mark_of_clock is None else one(sa.func.count(), marks.column > marks.bound(mark_of_clock))
        seen = {"ahead": ahead, "without_watermark": one(sa.func.count(), marks.column.is_(None))}
        notes = list(self._notes(seen, mark_of_clock))
        if window.is_empty and low is not None and not wanted:
            if mark_of_clock is not None and mark_of_clock < low:  # type: ignore[operator]
                notes.append(
                    f"The source's clock says {told(mark_of_clock)}, which is before the watermark {told(low)}: nothing is "
                    "taken until it has passed that. If the clock is right, set the watermark back."
                )
            elif (highest := marks.read(one(sa.func.max(marks.column)))) is None or highest < low:  # type: ignore[operator]
                notes.append(
                    f"The newest {self.watermark} of {self._reader.name} is {told(highest)}, below the watermark {told(low)}. "
                    "If the source was put back to an earlier state, set the watermark back: brenvik watermarks set"
                )
        return window, seen, notes

    def _mark(self, text: str | None, kind: str, place: str) -> Mark | None:
        if text is None:
            return None
        try:
            return parse_mark(text, kind, zone=self._zone)
        except ValueError as error:
            raise DeclarationError(f"Feed {self.name!r}: {place}: {error}") from None

    def _notes(self, seen: Mapping[str, int], clock: Mark | None) -> Iterator[str]:
        if seen["ahead"]:
            now = told(clock.replace(microsecond=0) if isinstance(clock, datetime) else clock)
            rows, them = ("1 row is", "it") if seen["ahead"] == 1 else (f"{seen['ahead']:,} rows are", "them")
            yield f"{rows} ahead of the source's clock, {now}, and left out until it has passed {them}."
        if seen["without_watermark"]:
            rows = "1 row has" if seen["without_watermark"] == 1 else f"{seen['without_watermark']:,} rows have"
            yield f"{rows} no {self.watermark} and cannot be taken by it."

    def _check(self, view: sa.Connection, marks: _Marks, window: Window) -> None:
        """Text that stands for times must be written in one way, else its order is not that of time.

        The days of the window are looked at whole: its text may be written in ways that come before or after the bounds.
        """
        if not marks.separator:
            return
        what = f"{_DAY}{marks.separator}[0-9][0-9]:[0-9][0-9]*" if marks.kind == "timestamp" else _DAY
        text = sa.cast(marks.column, sa.Text)
        tests = [
            marks.column.is_not(None),
            sa.or_(
                sa.func.typeof(marks.column) != "text",
                text.op("NOT GLOB", is_comparison=True)(what),
                sa.func.substr(text, 12).op("GLOB", is_comparison=True)("*[-+zZ]*"),
            ),
        ]
        days = [marks.column < ""]  # numbers come before all text
        if window.high is not None:
            days.append(
                marks.column.between("" if window.low is None else str(window.low)[:10], f"{window.high}"[:10] + "~")
            )
        tests.append(sa.or_(*days))
        odd = view.execute(sa.select(marks.column).where(*tests).limit(1)).first()
        if odd:
            example = "2024-05-14" if marks.kind == "date" else f"2024-05-14{marks.separator}22:41:03"
            raise FeedError(
                f"{self._reader.name}: {self.watermark} holds {odd[0]!r}; expected every value written as in {example}, "
                "else their order is not that of time. Mend it in the source, or read a query that does."
            )

    def _cut(self, view: sa.Connection, marks: _Marks, window: Window) -> Window:
        if self._piece is None or window.is_empty:
            return window
        inside = marks.inside(window)
        if isinstance(self._piece, int):
            nth = sa.select(marks.column).where(*inside).order_by(marks.column).offset(self._piece - 1).limit(1)
            found = marks.read(view.execute(nth).scalar())
        else:
            oldest = marks.read(view.execute(sa.select(sa.func.min(marks.column)).where(*inside)).scalar())
            found = windows.forth(oldest, self._piece) if oldest is not None else None
        return window if found is None else windows.cut(window, found)


@dataclass(frozen=True)
class _Marks:
    """The watermark column, and how marks are written in it. ``separator`` is '' where times are no text."""

    column: sa.ColumnElement[Any]
    kind: str
    zone: str
    separator: str

    def bound(self, mark: Mark | None) -> Any:
        """A mark as a value to compare the column with by > or <=.

        In text one time may be written with or without seconds and fractions. The bound comes after all of these and before
        every later time.
        """
        if not self.separator or mark is None:
            return mark
        return f"{mark.isoformat(self.separator, 'microseconds')}~" if isinstance(mark, datetime) else str(mark)

    def inside(self, window: Window) -> list[sa.ColumnElement[bool]]:
        """Whether a row lies in (low, high]."""
        above = [] if window.low is None else [self.column > self.bound(window.low)]
        return [*above, self.column <= self.bound(window.high)]

    def instant(self, value: Any) -> datetime | None:
        """When a value of the column was, in UTC and without a zone; integers do not say."""
        mark = self.read(value)
        if mark is None or isinstance(mark, int):
            return None
        moment = mark if isinstance(mark, datetime) else datetime(mark.year, mark.month, mark.day)
        return (
            (moment if moment.tzinfo else moment.replace(tzinfo=ZoneInfo(self.zone)))
            .astimezone(UTC)
            .replace(tzinfo=None)
        )

    def read(self, value: Any) -> Mark | None:
        """A value of the column as a mark."""
        if value is None or isinstance(value, int):
            return value
        if isinstance(value, datetime) and self.kind == "timestamp with time zone":
            return (value if value.tzinfo else value.replace(tzinfo=UTC)).astimezone(UTC)
        if isinstance(value, date) and not self.separator:
            return value
        try:
            return parse_mark(value, self.kind, zone=self.zone)
        except ValueError as error:
            raise FeedError(f"{self.column.name} holds {value!r} as a watermark: {error}") from None


def _kind_of(value: Any) -> ColumnType:
    return type_of_arrow(pa.array([value]).type) or TEXT if value is not None else TEXT


class DatabaseExtract:
    """A table or query taken whole: what is absent from it is gone. It holds when the source's clock says it was read, or
    where ``time_column`` names one, when this column says."""

    def __init__(
        self,
        connection: Connection,
        *,
        name: str,
        table: str | None = None,
        query: str | None = None,
        time_column: str | None = None,
        clock: Callable[[], datetime] | None = None,
    ) -> None:
        self.name = name
        self.kind = "extract"
        self._reader = Reader(connection, table=table, query=query)
        self._time_column = time_column
        self._clock = clock

    def open(self, memory: Memory, wanted: Wanted | None = None) -> Batch:
        if wanted and not wanted.everything:
            raise DeclarationError(f"Feed {self.name!r} takes all there is each time; it has no windows or files.")
        view = self._reader.view()
        try:
            with self._reader.telling():
                clock = self._clock() if self._clock else self._reader.now(view)
                batch = self._reader.batch(view, self._reader.relation(view), source=self._reader.name)
                moment = None if self._time_column else clock.astimezone(UTC).replace(tzinfo=None)
                batch.extract = ExtractTime(None if moment is None else str(moment), self._time_column)
                return batch
        except BaseException:
            view.close()
            raise

    def waiting(self, memory: Memory) -> Waiting:
        """There is always an extract to take."""
        self.columns()
        return Waiting(1, "extracts")

    def columns(self) -> dict[str, dict[str, ColumnType]]:
        """See ``base.StandingSource``."""
        view = self._reader.view()
        try:
            with self._reader.telling():
                relation = self._reader.relation(view)
                return {self._reader.name: {name: kind or TEXT for name, kind in relation.types.items()}}
        finally:
            view.close()
