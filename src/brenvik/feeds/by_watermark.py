"""Which window of a source a feed loads next, however the source is read; for windows see ``model.watermarks``."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

from brenvik.errors import DeclarationError, FeedError
from brenvik.feeds.protocol import LoadRequest, Memory, Waiting, notes_beside
from brenvik.model.positions import DATES, INTEGERS, Position, PositionKind, Span, as_text
from brenvik.model.watermarks import Window, cut, next_window


class WatermarkColumn(Protocol):
    """Queries on a source that has a watermark column. ``above`` is exclusive, ``up_to`` inclusive; None means unbounded."""

    @property
    def name(self) -> str:
        """The name of the source in messages."""
        ...

    @property
    def kind(self) -> PositionKind:
        """The kind of its positions."""
        ...

    def clock(self) -> datetime:
        """The time of the source's clock, zoned, in UTC."""
        ...

    def newest(self, *, above: Position | None = None, up_to: Position | None = None) -> Position | None: ...

    def count_skipped(self, clock: Position | None) -> tuple[int, int]:
        """How many rows lie in the future of the clock (0 without one), and how many have no watermark value."""
        ...

    def count_in(self, window: Window) -> int:
        """How many rows lie in a window."""
        ...

    def oldest_in(self, window: Window) -> Position | None: ...

    def nth_in(self, window: Window, nth: int) -> Position | None:
        """The watermark value of the nth row of a window in ascending order; None when it has fewer rows."""
        ...


@dataclass(frozen=True)
class ByWatermark:
    """How a feed is read by its watermark column.

    ``chunk`` splits what there is: a number of rows (those with the same value stay together), or a distance. Times without a
    zone are in ``zone``.
    """

    feed: str
    column: str
    overlap: Span | None
    lag: Span | None
    start_at: str | None
    chunk: Span | None
    zone: str

    def check(self, kind: PositionKind) -> None:
        """Raises DeclarationError when the declaration does not fit the kind of the watermark."""
        for name, span in (("overlap", self.overlap), ("lag", self.lag)):
            if span and not kind.fits(span):
                expected = {INTEGERS: "a number", DATES: "whole days"}.get(kind, 'a time as in "2 minutes"')
                raise DeclarationError(
                    f"Feed {self.feed!r}: {name} does not fit the watermark, which is {kind.name}; expected {expected}."
                )

    def mark(self, text: str | None, kind: PositionKind, place: str) -> Position | None:
        """A position given as text in ``place``. Raises DeclarationError when it is not valid."""
        if text is None:
            return None
        try:
            return kind.parse(text, zone=self.zone)
        except ValueError as error:
            raise DeclarationError(f"Feed {self.feed!r}: {place}: {error}") from None

    def look(
        self, source: WatermarkColumn, memory: Memory, request: LoadRequest | None
    ) -> tuple[Window, dict[str, int], list[str]]:
        """The whole window there is; the counts of rows that are not read, none if the source is read in full; and notes."""
        kind, known = source.kind, memory.watermark()
        if known and known.kind != kind:
            raise FeedError(
                f"{source.name}: the watermark {self.column!r} is now {kind.name} and was {known.kind.name} until "
                f"run {known.run}. Load it under another feed name, which starts from the beginning."
            )
        low, until, overlap = known.mark if known else None, None, self.overlap
        if request:
            if request.files or request.pattern:
                raise DeclarationError(f"Feed {self.feed!r} reads a table and has no files; ask for a window instead.")
            low, until, overlap = self.mark(request.after, kind, "--from"), self.mark(request.until, kind, "--to"), None
            if low is not None and until is not None and until <= low:
                raise DeclarationError(
                    f"Feed {self.feed!r}: --from must be below --to, got {as_text(low)} and {as_text(until)}."
                )
        clock = kind.at(source.clock(), self.zone)
        limit = clock if clock is not None else source.newest()
        if limit is not None:
            limit = kind.back(limit, self.lag)
            limit = limit if until is None else min(limit, until)
        newest = source.newest(above=low, up_to=limit)
        start_at = self.mark(self.start_at, kind, "start_at")
        window = next_window(kind, low=low, high=newest, overlap=overlap, start_at=start_at)
        full = request is not None and request.full
        all_of_it = full or (request is not None and request.everything)
        newer = window.high is not None and (not known or window.high > known.mark)
        advances = not request or (all_of_it and newer)
        window = Window(
            window.kind, window.low, window.high, window.reads_from, advances=advances and not window.is_empty
        )
        future, unmarked = (0, 0) if full else source.count_skipped(clock)
        seen = {"future_rows": future, "without_watermark": unmarked}
        notes = list(notes_beside(seen, clock, watermark=self.column, name=source.name))
        if window.is_empty and low is not None and not request:
            notes += self._on_nothing(source, low, clock)
        return window, seen, notes

    def _on_nothing(self, source: WatermarkColumn, low: Position, clock: Position | None) -> list[str]:
        """Notes for when there is nothing new although there should be."""
        if clock is not None and clock < low:
            return [
                f"The source's clock is at {as_text(clock)}, before the watermark {as_text(low)}: nothing will be loaded "
                "until it has passed it. If the clock is right, move the watermark back: brenvik watermarks set"
            ]
        highest = source.newest()
        if highest is None or highest < low:
            return [
                f"The newest {self.column} of {source.name} is {as_text(highest)}, below the watermark {as_text(low)}. "
                "If the source was restored to an earlier state, move the watermark back: brenvik watermarks set"
            ]
        return []

    def cut(self, source: WatermarkColumn, window: Window, request: LoadRequest | None) -> Window:
        """The first part of a window, where the feed splits them."""
        if self.chunk is None or window.is_empty or (request and request.full):
            return window
        if isinstance(self.chunk, int):
            high = source.nth_in(window, self.chunk)
        else:
            oldest = source.oldest_in(window)
            high = window.kind.forth(oldest, self.chunk) if oldest is not None else None
        return window if high is None else cut(window, high)

    def waiting(self, source: WatermarkColumn, window: Window, seen: dict[str, int], notes: list[str]) -> Waiting:
        """What is waiting in a window."""
        if window.is_empty:
            return Waiting(0, "rows", None, window, seen, tuple(notes))
        oldest = source.oldest_in(window)
        since = window.kind.moment(oldest, self.zone) if oldest is not None else None
        return Waiting(source.count_in(window), "rows", since, window, seen, tuple(notes))
