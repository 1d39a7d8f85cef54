"""Loads again and again until someone says stop."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import timedelta

from brenvik.errors import BrenvikError
from brenvik.outcome import Outcome

LONGEST_S = 900.0
"""A source that is down is asked at least this often, in seconds (or as often as was asked for, if that is less)."""


@dataclass(frozen=True)
class Round:
    """One load of a series: its outcomes, or the error that kept it from beginning.

    The next begins ``every_s`` seconds after this one did, which is in ``next_s`` seconds.
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

    While something temporary stands in the way (a source is down, a table is busy), the wait doubles from round to round,
    up to 15 minutes. A load that runs when ``stop`` is set goes to its end.
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
