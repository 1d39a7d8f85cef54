"""A DuckDB in memory beside the store: where what only passes by is taken apart or put into shape."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache

import duckdb


@cache
def _office() -> duckdb.DuckDBPyConnection:
    """One for the process: to open it takes thirty times as long as to sit down at it."""
    return duckdb.connect(":memory:")


@contextmanager
def desk() -> Iterator[duckdb.DuckDBPyConnection]:
    """A connection of its own, with temporary tables of its own, in UTC."""
    with _office().cursor() as connection:
        connection.execute("SET TimeZone = 'UTC'").fetchall()
        yield connection
