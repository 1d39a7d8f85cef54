"""A table or query of a database, read by a watermark column through SQLAlchemy.

The source is only read, in one transaction that sees one state of it where the database offers that: first its clock,
then what there is above the watermark, then the rows of the window, as a stream. Values come as the driver gives them,
past SQLAlchemy's own types, and become Arrow columns of the types the source states. Where the source holds text for what
it calls a time or a number (SQLite does, and any query's types are guesses), values travel as text and are screened like
those of a file: a value that does not fit rejects its row, never the load.
"""

from __future__ import annotations

import itertools
import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import pyarrow as pa
import sqlalchemy as sa
from sqlalchemy import exc

from brenvik.core import windows
from brenvik.core.arrivals import numbered
from brenvik.core.windows import Mark, Span, Window, parse_mark, told
from brenvik.errors import DeclarationError, FeedError, SourceDown
from brenvik.feed_rules import Connection
from brenvik.feeds.base import Batch, Memory, Piece, Waiting, Wanted, arrow_type
from brenvik.types import TEXT, ColumnType, parse_type, type_of_arrow

ROWS_PER_PIECE = 20_000
_SQLITE_KEEPS = frozenset({"binary", "double", "integer"})

_CLOCKS = {
    "sqlite": "SELECT strftime('%Y-%m-%d %H:%M:%f', 'now')",
    "mysql": "SELECT UTC_TIMESTAMP(6)",
    "mariadb": "SELECT UTC_TIMESTAMP(6)",
    "mssql": "SELECT SYSUTCDATETIME()",
    "oracle": "SELECT SYS_EXTRACT_UTC(SYSTIMESTAMP) FROM DUAL",
}
_DAY = "[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]"
_OF_THE_CALL = (
    "no such",
    'near "',
    "incomplete input",
    "ambiguous column",
    "misuse of",
)  # SQLite: what trying again cannot mend


def _url(connection: Connection) -> sa.URL:
    """The whole URL, secrets included. Raises DeclarationError when it is none."""
    try:
        url = sa.make_url(connection.url)
    except exc.ArgumentError:
        raise DeclarationError(
            f"connections.{connection.name}: is no database URL; expected one as in postgresql+psycopg://host/database"
        ) from None
    if connection.user is not None:
        url = url.set(username=connection.user)
    if connection.password is not None:
        url = url.set(password=connection.password)
    if url.get_backend_name() == "sqlite" and url.database and not url.database.startswith((":", "file:")):
        url = url.set(database=str(connection.folder / url.database))
    return url


def _masked(text: str, url: sa.URL) -> str:
    """A text in which no secret of a URL stands."""
    secrets = [str(url.password or ""), *(str(value) for value in url.query.values())]
    for secret in sorted(filter(None, secrets), key=len, reverse=True):
        text = text.replace(secret, "…")
    return text


@dataclass(frozen=True)
class _Relation:
    """What is read: something to select from, and the type each column is stated to have (none: unknown)."""

    what: sa.FromClause
    types: Mapping[str, ColumnType | None]


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
        self.read = table or "the query"
        self._connection = connection
        self._table = table
        self._query = query
        self._start_at = start_at
        self._piece = window
        self._declared = types or {}
        self._zone = zone
        self._ordered = ordered
        self._clock = clock

    @property
    def _address(self) -> str:
        """What to call the source in messages: without user, password and options."""
        url = _url(self._connection)
        return f"{url.get_backend_name()}://{url.host or ''}{f':{url.port}' if url.port else ''}/{url.database or ''}"

    def open(self, memory: Memory, wanted: Wanted | None = None) -> Batch:
        view = self._view()
        try:
            with self._telling():
                relation, marks = self._relation(view)
                window, seen, notes = self._look(view, relation, marks, memory, wanted)
                window = self._cut(view, marks, window)
                self._check(view, marks, window)
                batch = self._batch(view, relation, marks, window)
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
            return {self.read: {name: kind or TEXT for name, kind in relation.types.items()}}

    def parse_mark(self, text: str) -> tuple[str, Mark]:
        """A mark as people write it, and of which kind the watermark is. Raises DeclarationError when it is none."""
        with self._looking() as (_, _, marks):
            return marks.kind, self._mark(text, marks.kind, "--to")  # type: ignore[return-value]

    @contextmanager
    def _looking(self) -> Iterator[tuple[sa.Connection, _Relation, _Marks]]:
        view = self._view()
        try:
            with self._telling():
                yield view, *self._relation(view)
        finally:
            view.close()

    def _view(self) -> sa.Connection:
        """A connection with a transaction that only reads, and sees one state of the source if it can."""
        url = _url(self._connection)
        backend = url.get_backend_name()
        in_file = backend == "sqlite" and url.database and not url.database.startswith((":", "file:"))
        if in_file and not Path(url.database or "").is_file():  # else SQLite would make an empty one
            raise SourceDown(f"{self._address}: there is no such file. Nothing was read.")
        with self._telling():
            try:
                engine = sa.create_engine(url, poolclass=sa.NullPool)
            except exc.NoSuchModuleError:
                raise DeclarationError(
                    f"connections.{self._connection.name}: no driver for {url.drivername!r} is known to SQLAlchemy"
                ) from None
            except ModuleNotFoundError as error:
                raise DeclarationError(
                    f"connections.{self._connection.name}: {url.drivername} needs the package {error.name!r}; "
                    f"pip install {error.name}, or name another driver in the URL"
                ) from None
            view = engine.connect()
            try:
                if backend == "postgresql":
                    view = view.execution_options(isolation_level="REPEATABLE READ", postgresql_readonly=True)
                elif backend in {"mysql", "mariadb"}:
                    view = view.execution_options(isolation_level="AUTOCOMMIT")
                    view.exec_driver_sql("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
                elif backend == "sqlite":
                    view = view.execution_options(isolation_level="AUTOCOMMIT")
                    view.exec_driver_sql("PRAGMA query_only = ON")
                    view.exec_driver_sql("BEGIN")
            except BaseException:
                view.close()
                raise
            return view

    def _relation(self, view: sa.Connection) -> tuple[_Relation, _Marks]:
        types: dict[str, ColumnType | None]
        if self._table is not None:
            schema, _, table = self._table.rpartition(".")
            try:
                found = sa.inspect(view).get_columns(table, schema=schema or None)
            except exc.NoSuchTableError:
                raise FeedError(f"{self._address} has no table {self._table!r} that this user may see.") from None
            types = {str(column["name"]): _stated(column["type"]) for column in found}
            what: sa.FromClause = sa.table(table, *(sa.column(name) for name in types), schema=schema or None)
        else:
            text = re.sub(r"(?<![:\\]):(?=\w)", r"\\:", (self._query or "").strip().rstrip(";"))
            text += "\n"  # it may end with a comment
            empty = view.execute(sa.text(f"SELECT * FROM ({text}) brenvik_query WHERE 1 = 0"))
            types = dict.fromkeys(empty.keys())
            what = sa.text(text).columns(*(sa.column(name) for name in types)).subquery("brenvik_query")
        if self.watermark not in types:
            raise FeedError(
                f"{self.read} has no column {self.watermark!r} for the watermark; it has {', '.join(types)}."
            )
        relation = _Relation(what, types)
        return relation, self._marks(view, relation)

    def _marks(self, view: sa.Connection, relation: _Relation) -> _Marks:
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
                f"{self.read}: the watermark {self.watermark!r} is {kind}; expected {possible}. "
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
        self, view: sa.Connection, relation: _Relation, marks: _Marks, memory: Memory, wanted: Wanted | None
    ) -> tuple[Window, dict[str, int], list[str]]:
        """The window there is, whole; what was counted beside it; and what a person should know."""
        known = memory.watermark()
        if known and known.kind != marks.kind:
            raise FeedError(
                f"{self.read}: the watermark {self.watermark!r} is {marks.kind} now and was {known.kind} until run {known.run}. "
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
        clock = self._now(view)
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
                    f"The newest {self.watermark} of {self.read} is {told(highest)}, below the watermark {told(low)}. If the "
                    "source was put back to an earlier state, set the watermark back: brenvik watermarks set"
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

    def _now(self, view: sa.Connection) -> datetime:
        if self._clock:
            return self._clock()
        found = view.execute(
            sa.text(_CLOCKS.get(view.dialect.name, "SELECT CURRENT_TIMESTAMP").replace(":%", r"\:%"))
        ).scalar()
        moment = datetime.fromisoformat(found) if isinstance(found, str) else found
        if not isinstance(moment, datetime):
            raise FeedError(f"{self._address} tells no time; its clock gave {moment!r}.")
        return moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)

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
                f"{self.read}: {self.watermark} holds {odd[0]!r}; expected every value written as in {example}, "
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

    def _batch(self, view: sa.Connection, relation: _Relation, marks: _Marks, window: Window) -> Batch:
        tests = []
        if window.reads_from is not None:
            tests.append(marks.column > marks.bound(window.reads_from))
        tests.append(sa.false() if window.high is None else marks.column <= marks.bound(window.high))
        names = tuple(relation.types)
        rows = sa.select(*(relation.what.c[name] for name in names)).where(*tests)
        if self._ordered:
            rows = rows.order_by(marks.column)
        answer = view.execution_options(stream_results=True, yield_per=ROWS_PER_PIECE).execute(rows)
        pieces = self._pieces(answer)
        natively = _SQLITE_KEEPS if view.dialect.name == "sqlite" else None
        stated = dict(relation.types)
        if self._table is None:  # nobody states the types of a query's columns: the first rows tell
            first = next(pieces, None)
            if first:
                stated = {name: _guess(values) for name, values in zip(names, first, strict=True)}
                pieces = itertools.chain([first], pieces)
            natively = frozenset({"binary"})
        columns = {
            name: kind if kind and (natively is None or kind.kind in natively) else TEXT
            for name, kind in stated.items()
        }

        def close() -> None:
            with suppress(exc.SQLAlchemyError):  # the connection may be gone
                answer.close()
            view.close()

        def arrays() -> Iterator[Piece]:
            line = 1
            for piece in pieces:
                made = [_array(v, columns[name], f"{self.read}: {name}") for name, v in zip(names, piece, strict=True)]
                count = len(piece[0])
                numbers = numbered(0, np.arange(line, line + count))
                yield Piece(pa.RecordBatch.from_arrays(made, names=list(names)), pa.array(numbers))
                line += count

        return Batch(
            source=f"{self.read} {window}",
            columns=columns,
            parts={self.read: names},
            carried={0: names},
            pieces=arrays(),
            stated={name: kind for name, kind in stated.items() if kind and kind != columns[name]},
            window=window,
            close=close,
        )

    def _pieces(self, answer: sa.CursorResult[Any]) -> Iterator[list[tuple[Any, ...]]]:
        """The rows of an answer by columns, a piece at a time."""
        with self._telling(reading=True):
            for rows in answer.partitions(ROWS_PER_PIECE):
                yield list(zip(*rows, strict=True))

    @contextmanager
    def _telling(self, *, reading: bool = False) -> Iterator[None]:
        """Turns the driver's errors into ours: those that may pass, and those that somebody must mend."""
        try:
            yield
        except exc.DBAPIError as error:
            said = _masked(str(error.orig).strip().partition("\n")[0], _url(self._connection))
            where = self._address
            mended = isinstance(error, (exc.OperationalError, exc.InterfaceError)) and not said.startswith(_OF_THE_CALL)
            if error.connection_invalidated or mended:
                what = "went away while it was read" if reading else "cannot be reached"
                raise SourceDown(f"{where} {what}: {said}. Nothing was taken; try again later.") from None
            raise FeedError(f"{where} refused to read {self.read}: {said}") from None
        except exc.SQLAlchemyError as error:
            raise FeedError(f"{self.read} cannot be read: {_masked(str(error), _url(self._connection))}") from None


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


def _stated(kind: sa.types.TypeEngine[Any]) -> ColumnType | None:
    """The type of a reflected column; None where a table would have no better one than text."""
    match kind:
        case sa.Boolean():
            return parse_type("boolean")
        case sa.Integer():
            return parse_type("integer")
        case sa.Float():
            return parse_type("double")
        case sa.Numeric():
            if kind.precision and kind.precision <= 38:
                return parse_type(f"decimal({kind.precision},{kind.scale or 0})")
            return None
        case sa.DateTime():
            return parse_type("timestamp with time zone" if kind.timezone else "timestamp")
        case sa.Date():
            return parse_type("date")
        case sa.Time():
            return parse_type("time")
        case sa.LargeBinary():
            return parse_type("binary")
    return TEXT if isinstance(kind, sa.String) else None


def _kind_of(value: Any) -> ColumnType:
    return type_of_arrow(pa.array([value]).type) or TEXT if value is not None else TEXT


def _guess(values: Sequence[Any]) -> ColumnType | None:
    """The type that a query's values seem to have; None where that is text."""
    try:
        kind = type_of_arrow(pa.array(values).type)
    except (pa.ArrowException, OverflowError):
        return None
    return kind if kind and kind.kind not in {"text", "decimal"} else None


def _array(values: Sequence[Any], kind: ColumnType, place: str) -> pa.Array:
    with suppress(pa.ArrowException, OverflowError, TypeError):
        return pa.array(values, arrow_type(kind))
    if kind == TEXT:
        return pa.array([None if value is None else _text(value) for value in values], pa.string())
    odd = next((value for value in values if not _fits(value, kind)), None)
    raise FeedError(
        f"{place} holds {odd!r}, which is no {kind}, as the source says the column is. "
        "Read a query that casts it, or mend it in the source; nothing was taken."
    )


def _fits(value: Any, kind: ColumnType) -> bool:
    try:
        pa.array([value], arrow_type(kind))
    except (pa.ArrowException, OverflowError, TypeError):
        return False
    return True


def _text(value: Any) -> str:
    if isinstance(value, str):
        return value
    if isinstance(value, (dict, list)):
        return json.dumps(value, ensure_ascii=False, default=str)
    return value.hex() if isinstance(value, bytes) else str(value)
