"""Runs that a conflicting transaction has undone are retried, a few times."""

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
    """The result of ``do``, retried up to ``TIMES`` times after a deadlock or conflict, each time after a short wait.

    Each attempt records a run of its own, so that the ledger shows what happened.
    """
    for number in range(1, TIMES):
        try:
            return do()
        except Conflict as error:
            wait_s = 0.1 * 2**number * random.uniform(0.5, 1.0)
            _log.warning("%s Trying again in %.1f s (%d of %d)", error, wait_s, number + 1, TIMES)
            time.sleep(wait_s)
    return do()
