"""Tables and queries of databases, read by a watermark column or whole as an extract.

By watermark, one transaction reads the source's clock, then what there is above the watermark, then the rows of the window.
For how rows are read see ``database_reader``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, date, datetime, time
from typing import Any

import pyarrow as pa
import sqlalchemy as sa

from brenvik.errors import DeclarationError, FeedError
from brenvik.feeds.by_watermark import ByWatermark
from brenvik.feeds.database_reader import Reader, Relation
from brenvik.feeds.protocol import Batch, ExtractTime, LoadRequest, Memory, Waiting
from brenvik.model.feeds import Connection
from brenvik.model.positions import KINDS, Position, PositionKind, Span, kind_of
from brenvik.model.types import TEXT, ColumnType, parse_type, type_of_arrow
from brenvik.model.watermarks import Window

_DAY = "[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]"


class DatabaseSource:
    """See the module. ``types`` and ``zone`` are those of the table's rules; ``clock`` replaces the source's own.

    window
        Splits what there is: a number of rows (those with the same value stay together), or a distance.
    ordered
        Whether rows must be read in the order of the watermark, because nothing else orders them.
    """

    can_reopen = True

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
        lag: Span | None = None,
        start_at: str | None = None,
        window: Span | None = None,
        types: Mapping[str, ColumnType] | None = None,
        zone: str = "UTC",
        ordered: bool = False,
        clock: Callable[[], datetime] | None = None,
    ) -> None:
        self.name = name
        self.kind = kind
        self._reader = Reader(connection, table=table, query=query)
        self._by = ByWatermark(name, watermark, overlap, lag, start_at, window, zone)
        self._declared = types or {}
        self._ordered = ordered
        self._clock = clock

    def open(self, memory: Memory, request: LoadRequest | None = None) -> Batch:
        view = self._reader.view()
        try:
            with self._reader.driver_errors():
                marks = self._marks(view)
                window, seen, notes = self._by.look(marks, memory, request)
                window = self._by.cut(marks, window, request)
                marks.check(window)
                full = request is not None and request.full
                tests = marks.all_from(window) if full else marks.to_read(window)
                batch = self._reader.batch(
                    view,
                    marks.relation,
                    source=f"{self._reader.name} {'in full' if full else window}",
                    tests=tests,
                    order_by=marks.column if self._ordered else None,
                )
                batch.window = window
                batch.complete_at = marks.clock().astimezone(UTC) if full else None
                batch.rows_skipped, batch.notes = seen, notes
                return batch
        except BaseException:
            view.close()
            raise

    def sample(self, memory: Memory) -> Batch:
        return self.open(memory, LoadRequest(everything=True))

    def waiting(self, memory: Memory) -> Waiting:
        with self._looking() as marks:
            window, seen, notes = self._by.look(marks, memory, None)
            marks.check(window)
            return self._by.waiting(marks, window, seen, notes)

    def columns(self) -> dict[str, dict[str, ColumnType]]:
        """See ``protocol.ProjectSource``; the types of a query's columns are unknown without reading it, and text here."""
        with self._looking() as marks:
            return {self._reader.name: {name: kind or TEXT for name, kind in marks.relation.types.items()}}

    def parse_position(self, text: str) -> tuple[PositionKind, Position]:
        """A position given as text, and its kind. Raises DeclarationError when it is not valid."""
        with self._looking() as marks:
            return marks.kind, self._by.mark(text, marks.kind, "--to")  # type: ignore[return-value]

    @contextmanager
    def _looking(self) -> Iterator[_Marks]:
        view = self._reader.view()
        try:
            with self._reader.driver_errors():
                yield self._marks(view)
        finally:
            view.close()

    def _marks(self, view: sa.Connection) -> _Marks:
        relation, watermark = self._reader.relation(view), self._by.column
        if watermark not in relation.types:
            raise FeedError(
                f"{self._reader.name} has no watermark column {watermark!r}; it has {', '.join(relation.types)}."
            )
        column = relation.what.c[watermark]
        declared = self._declared.get(watermark)
        stated = relation.types[watermark]
        example = None
        if declared is None and stated is None:
            example = view.execute(sa.select(sa.func.max(column))).scalar()
        kind = (declared or stated or _kind_of(example)).kind
        in_text = view.dialect.name == "sqlite" and kind != "integer"
        if kind not in KINDS or (in_text and kind == "timestamp with time zone"):
            possible = "timestamp, date or integer" if in_text else ", ".join(KINDS)
            raise FeedError(
                f"{self._reader.name}: the watermark {watermark!r} is {kind}; expected {possible}. "
                f'Declare its type: types = {{ {watermark} = "timestamp" }}'
            )
        self._by.check(kind_of(kind))
        separator = " "
        if in_text and kind == "timestamp":
            newest = view.execute(sa.select(sa.func.max(column))).scalar()
            separator = newest[10] if isinstance(newest, str) and newest[10:11] == "T" else " "
        clock = self._clock or (lambda: self._reader.now(view))
        return _Marks(
            view, relation, column, kind_of(kind), self._by.zone, separator if in_text else "", self._reader.name, clock
        )


@dataclass(frozen=True)
class _Marks:
    """The watermark column of a source (see ``by_watermark.WatermarkColumn``), and how its values are written. ``separator`` is
    '' where times are not text."""

    view: sa.Connection
    relation: Relation
    column: sa.ColumnElement[Any]
    kind: PositionKind
    zone: str
    separator: str
    name: str
    clock: Callable[[], datetime]

    def newest(self, *, above: Position | None = None, up_to: Position | None = None) -> Position | None:
        tests = [] if above is None else [self.column > self.bound(above)]
        tests += [] if up_to is None else [self.column <= self.bound(up_to)]
        return self.read(self._one(sa.func.max(self.column), *tests))

    def count_skipped(self, clock: Position | None) -> tuple[int, int]:
        ahead = 0 if clock is None else self._one(sa.func.count(), self.column > self.bound(clock))
        return ahead, self._one(sa.func.count(), self.column.is_(None))

    def count_in(self, window: Window) -> int:
        return int(self._one(sa.func.count(), *self._inside(window)))

    def oldest_in(self, window: Window) -> Position | None:
        return self.read(self._one(sa.func.min(self.column), *self._inside(window)))

    def nth_in(self, window: Window, nth: int) -> Position | None:
        ordered = sa.select(self.column).where(*self._inside(window)).order_by(self.column)
        return self.read(self.view.execute(ordered.offset(nth - 1).limit(1)).scalar())

    def to_read(self, window: Window) -> list[sa.ColumnElement[bool]]:
        """A test for the rows of a window, its overlap included."""
        above = [] if window.reads_from is None else [self.column > self.bound(window.reads_from)]
        return [*above, sa.false() if window.high is None else self.column <= self.bound(window.high)]

    def all_from(self, window: Window) -> list[sa.ColumnElement[bool]]:
        """A test for all rows but those from before the first window."""
        if window.reads_from is None:
            return []
        return [sa.or_(self.column.is_(None), self.column > self.bound(window.reads_from))]

    def _one(self, what: Any, *tests: Any) -> Any:
        return self.view.execute(sa.select(what).select_from(self.relation.what).where(*tests)).scalar()

    def _inside(self, window: Window) -> list[sa.ColumnElement[bool]]:
        """A test for rows in (low, high]."""
        above = [] if window.low is None else [self.column > self.bound(window.low)]
        return [*above, self.column <= self.bound(window.high)]

    def bound(self, mark: Position | None) -> Any:
        """A position to compare the column with by > or <=.

        In text a time may be written with or without seconds and fractions. The bound sorts after all of these and before every
        later time.
        """
        if not self.separator or mark is None:
            return mark
        return f"{mark.isoformat(self.separator, 'microseconds')}~" if isinstance(mark, datetime) else str(mark)

    def read(self, value: Any) -> Position | None:
        """A value of the column as a position."""
        if value is None or isinstance(value, int):
            return value
        if isinstance(value, datetime) and self.kind.name == "timestamp with time zone":
            return (value if value.tzinfo else value.replace(tzinfo=UTC)).astimezone(UTC)
        if isinstance(value, date) and not self.separator:
            return value
        try:
            return self.kind.parse(value, zone=self.zone)
        except ValueError as error:
            raise FeedError(f"{self.column.name} has the watermark value {value!r}: {error}") from None

    def check(self, window: Window) -> None:
        """Raises FeedError when times as text are written in several formats: they would not sort by time.

        The days of the window are checked whole, because text in another format can sort before or after its bounds.
        """
        if not self.separator:
            return
        what = f"{_DAY}{self.separator}[0-9][0-9]:[0-9][0-9]*" if self.kind.name == "timestamp" else _DAY
        text = sa.cast(self.column, sa.Text)
        tests = [
            self.column.is_not(None),
            sa.or_(
                sa.func.typeof(self.column) != "text",
                text.op("NOT GLOB", is_comparison=True)(what),
                sa.func.substr(text, 12).op("GLOB", is_comparison=True)("*[-+zZ]*"),
            ),
        ]
        days = [self.column < ""]  # numbers come before all text
        if window.high is not None:
            days.append(
                self.column.between("" if window.low is None else str(window.low)[:10], f"{window.high}"[:10] + "~")
            )
        tests.append(sa.or_(*days))
        odd = self.view.execute(sa.select(self.column).where(*tests).limit(1)).first()
        if odd:
            example = "2024-05-14" if self.kind.name == "date" else f"2024-05-14{self.separator}22:41:03"
            raise FeedError(
                f"{self.name}: {self.column.name} has the value {odd[0]!r}; expected all values as in {example}, because "
                "text sorts by time only in one format. Fix it in the source, or read a query that does."
            )


def _kind_of(value: Any) -> ColumnType:
    known = {bool: "boolean", int: "integer", float: "double", str: "text", bytes: "binary", date: "date", time: "time"}
    if value is None or type(value) in known:
        return parse_type(known[type(value)]) if value is not None else TEXT
    return type_of_arrow(pa.array([value]).type) or TEXT


class DatabaseExtract:
    """A table or query read whole: what is absent from it is gone. Its time is when it was read by the source's clock,
    or the value of ``time_column``."""

    can_reopen = True

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
        self.kind = "full_extract"
        self._reader = Reader(connection, table=table, query=query)
        self._time_column = time_column
        self._clock = clock

    def open(self, memory: Memory, request: LoadRequest | None = None) -> Batch:
        if request and not request.everything:
            raise DeclarationError(f"Feed {self.name!r} loads everything each time; it has no windows or files.")
        view = self._reader.view()
        try:
            with self._reader.driver_errors():
                clock = self._clock() if self._clock else self._reader.now(view)
                batch = self._reader.batch(view, self._reader.relation(view), source=self._reader.name)
                moment = None if self._time_column else clock.astimezone(UTC).replace(tzinfo=None)
                batch.extract = ExtractTime(None if moment is None else str(moment), self._time_column)
                return batch
        except BaseException:
            view.close()
            raise

    def sample(self, memory: Memory) -> Batch:
        return self.open(memory, LoadRequest(everything=True))

    def waiting(self, memory: Memory) -> Waiting:
        """There is always an extract to load."""
        self.columns()
        return Waiting(1, "extracts")

    def columns(self) -> dict[str, dict[str, ColumnType]]:
        """See ``protocol.ProjectSource``."""
        view = self._reader.view()
        try:
            with self._reader.driver_errors():
                relation = self._reader.relation(view)
                return {self._reader.name: {name: kind or TEXT for name, kind in relation.types.items()}}
        finally:
            view.close()
