"""How far a feed is in its source.

A position is opaque to everything but its kind and its source. Its kind says how it is written, how it is moved, and what a clock
says of it. Positions of one kind are ordered as their source orders them. A feed of a further sort needs at most a further kind.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any, Protocol, TypeVar
from zoneinfo import ZoneInfo

Span = timedelta | int
"""A distance between two positions: a duration, or for integers a number."""


class Position(Protocol):
    """A place in a source, after which there is more to load or nothing. Its text is what the ledger records."""

    def __lt__(self, other: Any, /) -> bool: ...
    def __le__(self, other: Any, /) -> bool: ...
    def __gt__(self, other: Any, /) -> bool: ...
    def __ge__(self, other: Any, /) -> bool: ...


class PositionKind(Protocol):
    """What can be done with positions of a kind."""

    @property
    def name(self) -> str:
        """What the ledger and messages call it."""
        ...

    def parse(self, text: Any, *, zone: str = "UTC") -> Position:
        """A position as people or the ledger write it; times without a zone are in ``zone``. Raises ValueError that says what
        was expected."""
        ...

    def fits(self, span: Span) -> bool:
        """Whether positions can be moved by a distance."""
        ...

    def back(self, position: Any, span: Span | None) -> Position:
        """A position less a distance; at the least the first one there is."""
        ...

    def forth(self, position: Any, span: Span | None) -> Position:
        """A position plus a distance; at the most the last one there is."""
        ...

    def before(self, position: Any) -> Position:
        """The last position below another."""
        ...

    def at(self, moment: datetime, zone: str) -> Position | None:
        """The position of an instant (UTC); None where a clock says nothing of positions."""
        ...

    def moment(self, position: Any, zone: str) -> datetime | None:
        """The time of a position, in UTC and without a zone; None where it has none."""
        ...


T = TypeVar("T", datetime, date)


def _moved(position: T, span: Span | None, sign: int, limit: T) -> T:
    if not isinstance(span, timedelta):
        return position
    try:
        return position + sign * span
    except OverflowError:
        return limit


@dataclass(frozen=True)
class Times:
    """Timestamps: zoned ones, in UTC, or those of a wall clock."""

    name: str
    zoned: bool

    def parse(self, text: Any, *, zone: str = "UTC") -> datetime:
        try:
            moment = datetime.fromisoformat(str(text))
        except ValueError:
            also = " or 2024-05-14T22:41+02:00" if self.zoned else ""
            raise ValueError(f"expected a time as in 2024-05-14 22:41{also}, got {text!r}") from None
        if self.zoned:
            return (moment if moment.tzinfo else moment.replace(tzinfo=ZoneInfo(zone))).astimezone(UTC)
        return moment.astimezone(ZoneInfo(zone)).replace(tzinfo=None) if moment.tzinfo else moment

    def fits(self, span: Span) -> bool:
        return isinstance(span, timedelta)

    def back(self, position: datetime, span: Span | None) -> datetime:
        return _moved(position, span, -1, datetime.min.replace(tzinfo=position.tzinfo))

    def forth(self, position: datetime, span: Span | None) -> datetime:
        return _moved(position, span, 1, datetime.max.replace(tzinfo=position.tzinfo))

    def before(self, position: datetime) -> datetime:
        return self.back(position, timedelta(microseconds=1))

    def at(self, moment: datetime, zone: str) -> datetime:
        return moment if self.zoned else moment.astimezone(ZoneInfo(zone)).replace(tzinfo=None)

    def moment(self, position: datetime, zone: str) -> datetime:
        zoned = position if self.zoned else position.replace(tzinfo=ZoneInfo(zone))
        return zoned.astimezone(UTC).replace(tzinfo=None)


@dataclass(frozen=True)
class Days:
    name: str = "date"

    def parse(self, text: Any, *, zone: str = "UTC") -> date:
        try:
            found = datetime.fromisoformat(str(text))
            if (found.hour, found.minute, found.second, found.microsecond) != (0, 0, 0, 0):
                raise ValueError
        except ValueError:
            raise ValueError(f"expected a day as in 2024-05-14, got {text!r}") from None
        return found.date()

    def fits(self, span: Span) -> bool:
        return isinstance(span, timedelta) and span % timedelta(days=1) == timedelta(0)

    def back(self, position: date, span: Span | None) -> date:
        return _moved(position, span, -1, date.min)

    def forth(self, position: date, span: Span | None) -> date:
        return _moved(position, span, 1, date.max)

    def before(self, position: date) -> date:
        return self.back(position, timedelta(days=1))

    def at(self, moment: datetime, zone: str) -> date:
        return moment.astimezone(ZoneInfo(zone)).date()

    def moment(self, position: date, zone: str) -> datetime:
        begin = datetime(position.year, position.month, position.day, tzinfo=ZoneInfo(zone))
        return begin.astimezone(UTC).replace(tzinfo=None)


@dataclass(frozen=True)
class Integers:
    name: str = "integer"

    def parse(self, text: Any, *, zone: str = "UTC") -> int:
        try:
            return int(str(text))
        except ValueError:
            raise ValueError(f"expected a whole number, got {text!r}") from None

    def fits(self, span: Span) -> bool:
        return isinstance(span, int)

    def back(self, position: int, span: Span | None) -> int:
        return position - span if isinstance(span, int) else position

    def forth(self, position: int, span: Span | None) -> int:
        return position + span if isinstance(span, int) else position

    def before(self, position: int) -> int:
        return position - 1

    def at(self, moment: datetime, zone: str) -> None:
        return None

    def moment(self, position: int, zone: str) -> None:
        return None


class _Pair(tuple[Any, Any]):
    """Two positions, of which the first counts more."""

    __slots__ = ()

    def __str__(self) -> str:
        return f"{self[0]}, {self[1]}"


@dataclass(frozen=True)
class Pairs:
    """Two positions each, such as a commit and the number of a change in it. Distances are those of the first."""

    first: PositionKind
    second: PositionKind

    @property
    def name(self) -> str:
        return f"{self.first.name}, {self.second.name}"

    def parse(self, text: Any, *, zone: str = "UTC") -> Position:
        first, comma, second = str(text).partition(",")
        if not comma:
            raise ValueError(f"expected two values with a comma between them, got {text!r}")
        return _Pair((self.first.parse(first.strip(), zone=zone), self.second.parse(second.strip(), zone=zone)))

    def fits(self, span: Span) -> bool:
        return self.first.fits(span)

    def back(self, position: _Pair, span: Span | None) -> Position:
        return _Pair((self.first.back(position[0], span), position[1]))

    def forth(self, position: _Pair, span: Span | None) -> Position:
        return _Pair((self.first.forth(position[0], span), position[1]))

    def before(self, position: _Pair) -> Position:
        return _Pair((position[0], self.second.before(position[1])))

    def at(self, moment: datetime, zone: str) -> None:
        return None

    def moment(self, position: _Pair, zone: str) -> datetime | None:
        return self.first.moment(position[0], zone)


DATES, INTEGERS = Days(), Integers()
_KINDS: dict[str, PositionKind] = {
    kind.name: kind
    for kind in (Times("timestamp", zoned=False), Times("timestamp with time zone", zoned=True), DATES, INTEGERS)
}
KINDS = tuple(_KINDS)
"""The types of columns whose values are positions."""


def kind_of(name: str) -> PositionKind:
    """A kind by its name."""
    first, comma, second = name.partition(", ")
    return Pairs(_KINDS[first], _KINDS[second]) if comma else _KINDS[first]


def as_text(position: Position | None) -> str:
    """A position for messages: no zone (zoned ones are UTC), no seconds where they are zero."""
    if position is None:
        return "nothing"
    if isinstance(position, _Pair):
        return ", ".join(map(as_text, position))
    if isinstance(position, datetime):
        plain = position.replace(tzinfo=None)
        if plain.microsecond:
            return f"{plain:%Y-%m-%d %H:%M:%S.%f}".rstrip("0")
        return f"{plain:%Y-%m-%d %H:%M:%S}" if plain.second else f"{plain:%Y-%m-%d %H:%M}"
    return str(position)
