"""Loads repeatedly until stopped."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import timedelta

from brenvik.errors import BrenvikError
from brenvik.outcome import Outcome

LONGEST_S = 900.0
"""The longest wait, in seconds, before a source that is unavailable is tried again (if the interval is not longer)."""


@dataclass(frozen=True)
class Round:
    """One load of a series: its outcomes, or the error that prevented it.

    The next one begins ``every_s`` seconds after this one did, which is in ``next_s`` seconds.
    """

    outcomes: Sequence[Outcome] = field(default=())
    error: BrenvikError | None = None
    every_s: float = 0.0
    next_s: float = 0.0

    @property
    def errors(self) -> list[BrenvikError]:
        return [self.error] if self.error else [outcome.error for outcome in self.outcomes if outcome.error]


def load_every(every: timedelta, load: Callable[[], Sequence[Outcome]], stop: threading.Event) -> Iterator[Round]:
    """Calls ``load`` until ``stop`` is set, each time ``every`` after the last began, never two at once.

    While something temporary prevents loading (a source is unavailable, a table is locked), the wait doubles from round to round,
    up to 15 minutes. A load in progress when ``stop`` is set is completed.
    """
    down = 0
    while not stop.is_set():
        began = time.monotonic()
        outcomes: Sequence[Outcome] = ()
        error: BrenvikError | None = None
        try:
            outcomes = load()
        except BrenvikError as raised:
            error = raised
        found = Round(outcomes, error)
        down = down + 1 if any(each.can_retry for each in found.errors) else 0
        wait_s = every.total_seconds()
        if down:
            wait_s = max(wait_s, min(wait_s * 2**down, LONGEST_S))
        rest_s = max(0.0, wait_s - (time.monotonic() - began))
        yield Round(outcomes, error, wait_s, rest_s)
        stop.wait(rest_s)
