"""Windows of watermarks: what is new in a source, from what was loaded, what is there, and the clock.

A watermark is the position up to which a feed has loaded, such as the highest value of one column; a load takes the window
(low, high]. The high end is the newest position no later than the source's clock less ``lag`` (where a clock says nothing: no
higher than the newest less ``lag``). It is fixed before anything is read. Rows dated in the future of the clock are skipped,
and never advance the watermark. ``overlap`` starts reading below low, for rows that were committed late; changes read again are
duplicates.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from datetime import timedelta

from brenvik.model.positions import Position, PositionKind, Span, as_text

_UNITS = {"second": 1, "minute": 60, "hour": 3600, "day": 86400, "week": 7 * 86400}
_SPAN = re.compile(r"(\d+)\s*(?:(second|minute|hour|day|week)s?|([smhdw]))")


@dataclass(frozen=True)
class Window:
    """What a load takes: (low, high]. Reading starts above ``reads_from``. None means unbounded.

    An empty window does not advance the watermark; its overlap is read all the same, for rows that were committed late.
    """

    kind: PositionKind
    low: Position | None
    high: Position | None
    reads_from: Position | None
    advances: bool = True
    """Whether the feed's watermark becomes ``high`` with the commit."""
    more: bool = False
    """Whether there is more to load above ``high``."""

    @property
    def is_empty(self) -> bool:
        return self.high is None or (self.low is not None and self.high <= self.low)

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


def parse_period(text: object) -> timedelta:
    """A duration, or one as people write it. Raises ValueError that says what was expected."""
    try:
        span = text if isinstance(text, timedelta) else parse_span(text) if isinstance(text, str) else None
    except (ValueError, OverflowError):
        span = None
    if not isinstance(span, timedelta) or span < timedelta(0):
        raise ValueError(f"expected a period, as in '7 days', got {text!r}")
    return span


def next_window(
    kind: PositionKind,
    *,
    low: Position | None,
    high: Position | None,
    overlap: Span | None = None,
    start_at: Position | None = None,
) -> Window:
    """The window above ``low`` (or from ``start_at``, inclusive) up to ``high``, the newest value to be loaded.

    It never goes back: where ``high`` is below ``low``, the window is empty.
    """
    if low is None and start_at is not None:
        low = kind.before(start_at)  # the window is open at its low end, start_at belongs to it
        return Window(kind, low, high if high is not None and high > low else low, low)
    if low is None:
        return Window(kind, None, high, None)
    if high is None or high < low:
        high = low
    return Window(kind, low, high, kind.back(low, overlap))


def cut(window: Window, high: Position) -> Window:
    """The first part of a window, up to ``high`` if that is lower."""
    if window.high is None or high >= window.high:
        return window
    return replace(window, high=high, more=True)
