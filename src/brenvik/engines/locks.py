"""What stores share: locks of tables within this process, names of queries, permissions of a file."""

from __future__ import annotations

import hashlib
import os
import sqlite3
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from brenvik.errors import Busy, StoreError

QUERY = "brenvik_query_"
_freed = threading.Condition()
_holders: dict[tuple[str, str], str] = {}


@contextmanager
def held(store: str, table: str, *, address: str, wait_s: float) -> Iterator[None]:
    """Locks a table of the store that ``store`` identifies; after ``wait_s`` seconds raises Busy with the holder of the lock."""
    place = (store, table.casefold())
    deadline = time.monotonic() + wait_s
    with _freed:
        while (holder := _holders.get(place)) is not None:
            left = deadline - time.monotonic()
            if left <= 0 or not _freed.wait(left):
                raise busy(table, address, holder, wait_s)
        _holders[place] = f"thread {threading.current_thread().name!r} of this process"
    try:
        yield
    finally:
        with _freed:
            del _holders[place]
            _freed.notify_all()


@contextmanager
def locked_in_file(lock: Path, table: str, *, address: str, wait_s: float) -> Iterator[None]:
    """The same among processes, by a file that is made for it; it ends with its holder."""
    deadline = time.monotonic() + wait_s
    try:
        connection = sqlite3.connect(lock, isolation_level=None, timeout=0.0, check_same_thread=False)
    except sqlite3.OperationalError as error:
        raise StoreError(f"{address}: the lock file {lock} cannot be used: {error}") from error
    try:
        while True:
            try:
                connection.execute("BEGIN EXCLUSIVE")
                break
            except sqlite3.OperationalError as error:
                if error.sqlite_errorcode & 0xFF not in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
                    raise StoreError(f"{address}: the lock file {lock} cannot be used: {error}") from error
                if time.monotonic() >= deadline:
                    raise busy(table, address, "another process or connection", wait_s) from None
                time.sleep(0.05)
        yield
    finally:
        connection.close()


def busy(table: str, address: str, holder: str, wait_s: float) -> Busy:
    return Busy(
        f"Table {table!r} in {address} is being loaded by {holder}; waited {wait_s:g} s. "
        "Try again when that load has ended.",
        holder=holder,
    )


def missing_rights_of_file(path: Path | None) -> list[str]:
    """What keeps this process from writing a store in a file, and a log beside it; nothing for one in memory."""
    if path is None:
        return []
    missing = [] if os.access(path.parent, os.W_OK) else [f"the folder {path.parent} must let this user write"]
    if path.exists() and not os.access(path, os.R_OK | os.W_OK):
        missing.append(f"the file {path} must let this user read and write")
    return missing


def name_of_query(query: str) -> str:
    """A name for a query, the same each time."""
    return QUERY + hashlib.blake2b(query.encode(), digest_size=8).hexdigest()
