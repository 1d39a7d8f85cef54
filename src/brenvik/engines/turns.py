"""Threads that share a store."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

from brenvik.errors import Busy


class Turn:
    """Threads that share a store take turns: what one does is done before the next begins."""

    def __init__(self) -> None:
        self._lock = threading.RLock()
        self._holder = ""

    @contextmanager
    def taken(self, address: str, wait_s: float | None = None) -> Iterator[None]:
        """Raises Busy when another thread has its turn for longer than ``wait_s`` seconds; None waits as long as it takes."""
        if not self._lock.acquire(timeout=-1 if wait_s is None else min(wait_s, threading.TIMEOUT_MAX)):
            holder = f"thread {self._holder!r} of this process"
            raise Busy(
                f"{address} is in use by {holder}; waited {wait_s:g} s. Try again when it is done, or open the store a second "
                "time.",
                holder=holder,
            )
        self._holder = threading.current_thread().name
        try:
            yield
        finally:
            self._lock.release()
