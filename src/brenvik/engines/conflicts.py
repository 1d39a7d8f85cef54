"""Runs that someone else's work in the store has undone are tried again, a few times."""

from __future__ import annotations

import logging
import random
import time
from collections.abc import Callable
from typing import TypeVar

from brenvik.errors import Conflict

TIMES = 4
_T = TypeVar("_T")
_log = logging.getLogger("brenvik")


def retry_on_conflict(do: Callable[[], _T]) -> _T:
    """What ``do`` gives, tried up to ``TIMES`` times while a deadlock or a conflict undoes it, after a short wait each time.

    Each try enters a run of its own, so that the ledger tells what happened.
    """
    for number in range(1, TIMES):
        try:
            return do()
        except Conflict as error:
            wait_s = 0.1 * 2**number * random.uniform(0.5, 1.0)
            _log.warning("%s Trying again in %.1f s (%d of %d)", error, wait_s, number + 1, TIMES)
            time.sleep(wait_s)
    return do()
