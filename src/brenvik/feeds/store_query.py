"""Tables and queries of the store itself: their rows never leave it.

They are validated in place, so their columns must have the types of the table; a query can cast them.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError, FeedError
from brenvik.feeds.by_watermark import ByWatermark
from brenvik.feeds.protocol import Batch, ExtractTime, LoadRequest, Memory, Waiting
from brenvik.merge import sql
from brenvik.merge.schema import SEQUENCE_NO
from brenvik.model.positions import KINDS, Position, PositionKind, Span, kind_of
from brenvik.model.types import ColumnType
from brenvik.model.watermarks import Window


class StoreQuery:
    """A table or query of the store that also has the target table, read by a watermark; without one, read whole as an
    extract.

    ``types`` are those declared in the rules, ``zone`` is the time zone of times without one; columns in ``ignored`` are not
    loaded. For the rest see ``databases.DatabaseSource``.
    """

    can_reopen = True

    def __init__(
        self,
        engine: Engine,
        *,
        name: str,
        kind: str,
        table: str | None = None,
        query: str | None = None,
        watermark: str | None = None,
        overlap: Span | None = None,
        lag: Span | None = None,
        start_at: str | None = None,
        window: Span | None = None,
        time_column: str | None = None,
        types: Mapping[str, ColumnType] | None = None,
        zone: str = "UTC",
        ignored: Collection[str] = (),
    ) -> None:
        self.name = name
        self.kind = kind
        self._engine = engine
        self._ignored = ignored
        self._table = table
        self._query = query
        self._by = ByWatermark(name, watermark or "", overlap, lag, start_at, window, zone)
        self._time_column = time_column
        self._declared = types or {}
        self._what = table or "a query"

    @cached_property
    def _relation(self) -> str:
        return self._table or self._engine.view(str(self._query))

    @cached_property
    def _types(self) -> dict[str, ColumnType]:
        found = self._engine.columns_of(self._relation)
        if not found:
            raise FeedError(f"{self._engine.address} has no table {self._what!r} to read feed {self.name!r} from.")
        types: dict[str, ColumnType] = {}
        faults = []
        for column in found:
            declared, type_name = self._declared.get(column.name), column.type_name
            # "nothing" is the type of an expression in a store without types
            kind = column.type or (declared if type_name == "nothing" else None)
            if column.name == self._engine.capabilities.row_id.name:  # what a view of files has besides its columns
                continue
            if kind is None:
                hint = "of unknown type; declare it under types" if type_name == "nothing" else type_name
                faults.append(f"{column.name} is {hint}")
            elif declared and (declared.kind != kind.kind or (kind.kind == "decimal" and declared != kind)):
                faults.append(f"{column.name} is {type_name} there, and {declared} in the rules")
            else:
                types[column.name] = kind.wide
        if faults:
            raise FeedError(
                "\n  ".join([f"{self._what} is read inside the store, so its types must match:", *faults])
                + '\nTo convert them, read a query: query = "select cast(… as …) as … from …"'
            )
        return types

    @property
    def _loaded(self) -> dict[str, ColumnType]:
        return {name: kind for name, kind in self._types.items() if name not in self._ignored}

    def columns(self) -> dict[str, dict[str, ColumnType]]:
        """See ``protocol.ProjectSource``."""
        return {self._what: self._loaded}

    def open(self, memory: Memory, request: LoadRequest | None = None) -> Batch:
        columns = self._loaded
        names = tuple(columns)
        batch = Batch(
            source=self._what,
            columns=columns,
            parts={self._what: names},
            column_sets={0: names},
            chunks=lambda: iter(()),
        )
        tests, order = ["1 = 1"], ""
        if self._by.column:
            marks = self._marks()
            window, seen, notes = self._by.look(marks, memory, request)
            window = self._by.cut(marks, window, request)
            full = request is not None and request.full
            if window.reads_from is not None:
                above = marks.test(">", "window_from")
                tests.append(f"({above} OR {marks.column} IS NULL)" if full else above)
            if not full:
                tests.append("1 = 0" if window.high is None else marks.test("<=", "window_to"))
            order = f"ORDER BY {marks.column}"
            batch.store_query_values = {"window_from": _plain(window.reads_from), "window_to": _plain(window.high)}
            batch.source = f"{self._what} {'in full' if full else window}"
            batch.window, batch.rows_skipped, batch.notes = window, seen, notes
            batch.complete_at = marks.clock() if full else None
        else:
            if request and not request.everything:
                raise DeclarationError(f"Feed {self.name!r} loads everything each time; it has no windows or files.")
            batch.extract = ExtractTime(None if self._time_column else str(_clock(self._engine)), self._time_column)
        batch.store_query = (
            f"SELECT 2 * row_number() OVER ({order}) + 1 AS {SEQUENCE_NO}, {sql.columns(names, 's')} "
            f"FROM {sql.relation(self._relation)} s WHERE {' AND '.join(tests)}"
        )
        return batch

    def sample(self, memory: Memory) -> Batch:
        return self.open(memory, LoadRequest(everything=True))

    def waiting(self, memory: Memory) -> Waiting:
        if not self._by.column:
            self.columns()
            return Waiting(1, "extracts")
        marks = self._marks()
        return self._by.waiting(marks, *self._by.look(marks, memory, None))

    def parse_position(self, text: str) -> tuple[PositionKind, Position]:
        """A position given as text, and its kind. Raises DeclarationError when it is not valid."""
        kind = self._marks().kind
        return kind, self._by.mark(text, kind, "--to")  # type: ignore[return-value]

    def _marks(self) -> _Marks:
        watermark = self._by.column
        if watermark not in self._types:
            there = ", ".join(self._types)
            raise FeedError(f"{self._what} has no watermark column {watermark!r}; it has {there}.")
        kind = self._types[watermark]
        if kind.kind not in KINDS:
            raise FeedError(f"{self._what}: the watermark {watermark!r} is {kind.kind}; expected {', '.join(KINDS)}.")
        self._by.check(kind_of(kind.kind))
        return _Marks(self._engine, self._relation, watermark, kind, self._what)


@dataclass(frozen=True)
class _Marks:
    """The watermark column of a relation of the store, and what can be asked of it: see ``by_watermark.WatermarkColumn``."""

    engine: Engine
    relation: str
    watermark: str
    type: ColumnType
    name: str

    @property
    def kind(self) -> PositionKind:
        return kind_of(self.type.kind)

    @property
    def column(self) -> str:
        return f"s.{sql.quote(self.watermark)}"

    def test(self, how: str, parameter: str) -> str:
        """A test of the column against a parameter."""
        return f"{self.column} {how} CAST(:{parameter} AS {self.type.sql})"

    def clock(self) -> datetime:
        return _clock(self.engine).replace(tzinfo=UTC)

    def newest(self, *, above: Position | None = None, up_to: Position | None = None) -> Position | None:
        tests = [] if above is None else [self.test(">", "low")]
        tests += [] if up_to is None else [self.test("<=", "high")]
        found = self._ask(f"CAST(max({self.column}) AS TEXT) AS mark", tests, low=above, high=up_to)
        return self._read(found["mark"])

    def count_skipped(self, clock: Position | None) -> tuple[int, int]:
        ahead = "0" if clock is None else f"COALESCE(sum({sql.flag(self.test('>', 'clock'))}), 0)"
        found = self._ask(f"{ahead} AS ahead, count(*) - count({self.column}) AS unmarked", [], clock=clock)
        return int(found["ahead"]), int(found["unmarked"])

    def count_in(self, window: Window) -> int:
        return int(self._ask("count(*) AS n", self._inside(window), low=window.low, high=window.high)["n"])

    def oldest_in(self, window: Window) -> Position | None:
        oldest = f"CAST(min({self.column}) AS TEXT) AS mark"
        return self._read(self._ask(oldest, self._inside(window), low=window.low, high=window.high)["mark"])

    def nth_in(self, window: Window, nth: int) -> Position | None:
        where = " AND ".join(self._inside(window))
        first = (
            f"SELECT {self.column} AS mark FROM {sql.relation(self.relation)} s WHERE {where} ORDER BY {self.column}"
        )
        question = f"SELECT CAST(max(f.mark) AS TEXT) AS mark, count(*) AS n FROM ({first} LIMIT {nth:d}) f"
        (found,) = self.engine.rows(question, {"low": _plain(window.low), "high": _plain(window.high)})
        return self._read(found["mark"]) if found["n"] == nth else None

    def _inside(self, window: Window) -> list[str]:
        """Whether a row lies in (low, high]."""
        return [*([] if window.low is None else [self.test(">", "low")]), self.test("<=", "high")]

    def _ask(self, what: str, tests: list[str], **marks: Position | None) -> dict[str, Any]:
        question = f"SELECT {what} FROM {sql.relation(self.relation)} s WHERE {' AND '.join(['1 = 1', *tests])}"
        (found,) = self.engine.rows(question, {name: _plain(mark) for name, mark in marks.items()})
        return found

    def _read(self, text: str | None) -> Position | None:
        return None if text is None else self.kind.parse(text)


def _clock(engine: Engine) -> datetime:
    """What the store's clock says, in UTC and without a zone."""
    (found,) = engine.rows("SELECT CAST(CAST(CURRENT_TIMESTAMP AS TIMESTAMP) AS TEXT) AS at")
    return datetime.fromisoformat(found["at"])


def _plain(mark: Position | None) -> str | None:
    return None if mark is None else str(mark)
