"""Windows of watermarks: what is new in a source, from what was loaded, what is there, and the clock.

A watermark is the highest value of one column that a feed has loaded; a load takes the window (low, high]. The high end is
the newest value no later than the source's clock less ``lag`` (for integers: no higher than the newest less ``lag``). It is
fixed before anything is read. Rows dated in the future of the clock are skipped, and never advance the watermark.
``overlap`` starts reading below low, for rows that were committed late; changes read again are duplicates.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

WatermarkValue = datetime | date | int
"""A value of a watermark column. Zoned timestamps are in UTC."""
Span = timedelta | int
"""A distance between two watermark values: a duration, or for integers a number."""

KINDS = ("timestamp", "timestamp with time zone", "date", "integer")

_UNITS = {"second": 1, "minute": 60, "hour": 3600, "day": 86400, "week": 7 * 86400}
_SPAN = re.compile(r"(\d+)\s*(?:(second|minute|hour|day|week)s?|([smhdw]))")


@dataclass(frozen=True)
class Window:
    """What a load takes: (low, high]. Reading starts above ``reads_from``. None means unbounded.

    An empty window does not advance the watermark; its overlap is read all the same, for rows that were committed late.
    """

    kind: str
    low: WatermarkValue | None
    high: WatermarkValue | None
    reads_from: WatermarkValue | None
    advances: bool = True
    """Whether the feed's watermark becomes ``high`` with the commit."""
    more: bool = False
    """Whether there is more to load above ``high``."""

    @property
    def is_empty(self) -> bool:
        return self.high is None or (self.low is not None and self.high <= self.low)  # type: ignore[operator]

    def as_plain(self) -> dict[str, str | bool | None]:
        """The window as values that JSON supports."""
        values = {"low": self.low, "high": self.high, "reads_from": self.reads_from}
        return {name: None if mark is None else str(mark) for name, mark in values.items()} | {
            "advances": self.advances
        }

    def __str__(self) -> str:
        start = f"({as_text(self.low)}" if self.low is not None else "(the beginning"
        window = f"nothing above {as_text(self.low)}" if self.is_empty else f"{start}, {as_text(self.high)}]"
        if self.low is None or self.reads_from == self.low:
            return window
        return f"{window}, overlapping from {as_text(self.reads_from)}"


def parse_span(text: str | int) -> Span:
    """A duration as people write it: ``6 hours``, ``2 minutes``, ``90s``, ``1 day``; for integers a number.

    Raises ValueError that says what was expected.
    """
    if isinstance(text, int) and not isinstance(text, bool) and text >= 0:
        return text
    found = _SPAN.fullmatch(text.strip()) if isinstance(text, str) else None
    if not found:
        raise ValueError(f'expected a time as in "6 hours" or "2 minutes", or for integers a number, got {text!r}')
    unit = found[2] or next(name for name in _UNITS if name[0] == found[3])
    return timedelta(seconds=int(found[1]) * _UNITS[unit])


def span_fits(span: Span | None, kind: str) -> bool:
    """Whether a distance can be subtracted from values of a kind; dates need whole days."""
    if span is None or span == 0:
        return True
    if isinstance(span, int):
        return kind == "integer"
    return kind != "integer" and (kind != "date" or span % timedelta(days=1) == timedelta(0))


def back(mark: WatermarkValue, span: Span | None) -> WatermarkValue:
    """A value less a distance; at most the earliest possible value."""
    return _moved(mark, span, -1)


def forth(mark: WatermarkValue, span: Span | None) -> WatermarkValue:
    return _moved(mark, span, 1)


def _moved(mark: WatermarkValue, span: Span | None, sign: int) -> WatermarkValue:
    if not span:
        return mark
    try:
        return mark + sign * span  # type: ignore[operator]
    except OverflowError:
        if isinstance(mark, datetime):
            return (datetime.max if sign > 0 else datetime.min).replace(tzinfo=mark.tzinfo)
        return date.max if sign > 0 else date.min


def clock_as(kind: str, clock: datetime, zone: str) -> WatermarkValue | None:
    """An instant (UTC) as a value of a kind; None for integers. Times without a zone are in ``zone``."""
    if kind == "integer":
        return None
    if kind == "timestamp with time zone":
        return clock
    local = clock.astimezone(ZoneInfo(zone)).replace(tzinfo=None)
    return local.date() if kind == "date" else local


def next_window(
    kind: str,
    *,
    low: WatermarkValue | None,
    high: WatermarkValue | None,
    overlap: Span | None = None,
    start_at: WatermarkValue | None = None,
) -> Window:
    """The window above ``low`` (or from ``start_at``, inclusive) up to ``high``, the newest value to be loaded.

    It never goes back: where ``high`` is below ``low``, the window is empty.
    """
    if low is None and start_at is not None:
        low = back(start_at, _STEPS[kind])  # the window is open at its low end, start_at belongs to it
        return Window(kind, low, high if high is not None and high > low else low, low)  # type: ignore[operator]
    if low is None:
        return Window(kind, None, high, None)
    if high is None or high < low:  # type: ignore[operator]
        high = low
    return Window(kind, low, high, back(low, overlap))


def cut(window: Window, high: WatermarkValue) -> Window:
    """The first part of a window, up to ``high`` if that is lower."""
    if window.high is None or high >= window.high:  # type: ignore[operator]
        return window
    return replace(window, high=high, more=True)


_STEPS: dict[str, Span] = {
    "timestamp": timedelta(microseconds=1),
    "timestamp with time zone": timedelta(microseconds=1),
    "date": timedelta(days=1),
    "integer": 1,
}


def parse_value(text: Any, kind: str, *, zone: str = "UTC") -> WatermarkValue:
    """A watermark value as text, from people or the ledger. Raises ValueError that says what was expected."""
    try:
        if kind == "integer":
            return int(str(text))
        if kind == "date":
            found = datetime.fromisoformat(str(text))
            if (found.hour, found.minute, found.second, found.microsecond) != (0, 0, 0, 0):
                raise ValueError
            return found.date()
        moment = datetime.fromisoformat(str(text))
    except ValueError:
        raise ValueError(f"expected {_EXPECTED[kind]}, got {text!r}") from None
    if kind == "timestamp with time zone":
        return (moment if moment.tzinfo else moment.replace(tzinfo=ZoneInfo(zone))).astimezone(UTC)
    if moment.tzinfo:
        moment = moment.astimezone(ZoneInfo(zone)).replace(tzinfo=None)
    return moment


_EXPECTED = {
    "timestamp": "a time as in 2024-05-14 22:41",
    "timestamp with time zone": "a time as in 2024-05-14 22:41 or 2024-05-14T22:41+02:00",
    "date": "a day as in 2024-05-14",
    "integer": "a whole number",
}


def as_text(mark: WatermarkValue | None) -> str:
    """A value for messages: no zone (zoned ones are UTC), no seconds where they are zero."""
    if mark is None:
        return "nothing"
    if isinstance(mark, datetime):
        plain = mark.replace(tzinfo=None)
        if plain.microsecond:
            return f"{plain:%Y-%m-%d %H:%M:%S.%f}".rstrip("0")
        return f"{plain:%Y-%m-%d %H:%M:%S}" if plain.second else f"{plain:%Y-%m-%d %H:%M}"
    return str(mark)
