"""Which window of a source a feed takes next, whatever the source is read with: see ``model.watermarks`` for what a window is."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Protocol
from zoneinfo import ZoneInfo

from brenvik.errors import DeclarationError, FeedError
from brenvik.feeds.protocol import Memory, Waiting, Wanted, notes_beside
from brenvik.model import watermarks
from brenvik.model.watermarks import Mark, Span, Window, parse_mark, told


class Marked(Protocol):
    """What can be asked of a source that has a watermark column. Bounds above are exclusive, those up to inclusive; None is
    without a bound."""

    @property
    def name(self) -> str:
        """What to call it in messages."""
        ...

    @property
    def kind(self) -> str:
        """Of which kind its marks are, of ``watermarks.KINDS``."""
        ...

    def clock(self) -> datetime:
        """What the source's clock says, in UTC and with a zone."""
        ...

    def newest(self, *, above: Mark | None = None, up_to: Mark | None = None) -> Mark | None: ...

    def count_skipped(self, clock: Mark | None) -> tuple[int, int]:
        """How many rows lie above the clock (0 without one), and how many have no mark."""
        ...

    def count_in(self, window: Window) -> int:
        """How many rows lie in a window."""
        ...

    def oldest_in(self, window: Window) -> Mark | None: ...

    def nth_in(self, window: Window, nth: int) -> Mark | None:
        """The mark of the nth row of a window in the order of marks; None when it has fewer."""
        ...


@dataclass(frozen=True)
class ByWatermark:
    """How one feed is read by its watermark column.

    ``piece`` cuts what there is: a number of rows (those of one mark stay together), or a distance. Times without a zone are
    read in ``zone``.
    """

    feed: str
    column: str
    overlap: Span | None
    lag: Span | None
    start_at: str | None
    piece: Span | None
    zone: str

    def check(self, kind: str) -> None:
        """Raises DeclarationError when what the feed says does not fit the kind of its watermark."""
        for name, span in (("overlap", self.overlap), ("lag", self.lag)):
            if not watermarks.span_fits(span, kind):
                expected = {"integer": "a number", "date": "whole days"}.get(kind, 'a time as in "2 minutes"')
                raise DeclarationError(
                    f"Feed {self.feed!r}: {name} does not fit the watermark, which is {kind}; say {expected}."
                )

    def mark(self, text: str | None, kind: str, place: str) -> Mark | None:
        """A mark as people write it in some place. Raises DeclarationError when it is none."""
        if text is None:
            return None
        try:
            return parse_mark(text, kind, zone=self.zone)
        except ValueError as error:
            raise DeclarationError(f"Feed {self.feed!r}: {place}: {error}") from None

    def look(self, source: Marked, memory: Memory, wanted: Wanted | None) -> tuple[Window, dict[str, int], list[str]]:
        """The window there is, whole; what was counted beside it; and what a person should know."""
        kind, known = source.kind, memory.watermark()
        if known and known.kind != kind:
            raise FeedError(
                f"{source.name}: the watermark {self.column!r} is {kind} now and was {known.kind} until run {known.run}. "
                "Load it as a feed of another name, which begins at the beginning."
            )
        low, until, overlap = known.mark if known else None, None, self.overlap
        if wanted:
            if wanted.files or wanted.pattern:
                raise DeclarationError(f"Feed {self.feed!r} reads a table and has no files; ask for a window of it.")
            low, until, overlap = self.mark(wanted.after, kind, "--from"), self.mark(wanted.until, kind, "--to"), None
            if low is not None and until is not None and until <= low:  # type: ignore[operator]
                raise DeclarationError(
                    f"Feed {self.feed!r}: nothing lies above {told(low)} and up to {told(until)}; expected --from before --to."
                )
        clock = watermarks.clock_as(kind, source.clock(), self.zone)
        limit = clock if clock is not None else source.newest()
        if limit is not None:
            limit = watermarks.back(limit, self.lag)
            limit = limit if until is None else min(limit, until)
        newest = source.newest(above=low, up_to=limit)
        start_at = self.mark(self.start_at, kind, "start_at")
        window = watermarks.next_window(kind, low=low, high=newest, overlap=overlap, start_at=start_at)
        moves = not wanted or (wanted.everything and (not known or window.high > known.mark))  # type: ignore[operator]
        window = Window(window.kind, window.low, window.high, window.reads_from, moves=moves and not window.is_empty)
        future, unmarked = source.count_skipped(clock)
        seen = {"future_rows": future, "without_watermark": unmarked}
        notes = list(notes_beside(seen, clock, watermark=self.column, name=source.name))
        if window.is_empty and low is not None and not wanted:
            notes += self._on_nothing(source, low, clock)
        return window, seen, notes

    def _on_nothing(self, source: Marked, low: Mark, clock: Mark | None) -> list[str]:
        """Why there is nothing new, where that is odd."""
        if clock is not None and clock < low:  # type: ignore[operator]
            return [
                f"The source's clock says {told(clock)}, which is before the watermark {told(low)}: nothing is taken until it "
                "has passed that. If the clock is right, set the watermark back."
            ]
        highest = source.newest()
        if highest is None or highest < low:  # type: ignore[operator]
            return [
                f"The newest {self.column} of {source.name} is {told(highest)}, below the watermark {told(low)}. "
                "If the source was put back to an earlier state, set the watermark back: brenvik watermarks set"
            ]
        return []

    def cut(self, source: Marked, window: Window) -> Window:
        """The first piece of a window, where the feed cuts them."""
        if self.piece is None or window.is_empty:
            return window
        if isinstance(self.piece, int):
            high = source.nth_in(window, self.piece)
        else:
            oldest = source.oldest_in(window)
            high = watermarks.forth(oldest, self.piece) if oldest is not None else None
        return window if high is None else watermarks.cut(window, high)

    def waiting(self, source: Marked, window: Window, seen: dict[str, int], notes: list[str]) -> Waiting:
        """What waits in a window."""
        if window.is_empty:
            return Waiting(0, "rows", None, window, seen, tuple(notes))
        since = _instant(source.oldest_in(window), self.zone)
        return Waiting(source.count_in(window), "rows", since, window, seen, tuple(notes))


def _instant(mark: Mark | None, zone: str) -> datetime | None:
    """When a mark was, in UTC and without a zone; integers do not say."""
    if mark is None or isinstance(mark, int):
        return None
    moment = mark if isinstance(mark, datetime) else datetime(mark.year, mark.month, mark.day)
    zoned = moment if moment.tzinfo else moment.replace(tzinfo=ZoneInfo(zone))
    return zoned.astimezone(UTC).replace(tzinfo=None)
