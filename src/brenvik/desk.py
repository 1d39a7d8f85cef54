"""A DuckDB in memory beside the store: where what only passes by is taken apart or put into shape."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from functools import cache, lru_cache
from typing import Any

import duckdb

_PARAMETER = re.compile(r""""(?:[^"]|"")*"|'(?:[^']|'')*'|\$([a-z_][a-z_0-9]*)""")  # not inside quotes


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


@lru_cache(maxsize=4096)
def _parameters(statement: str) -> frozenset[str]:
    return frozenset(filter(None, _PARAMETER.findall(statement)))


def used(statement: str, values: Mapping[str, Any] | None) -> dict[str, Any]:
    """The values that a statement names; DuckDB refuses others."""
    return {name: value for name, value in (values or {}).items() if name in _parameters(statement)}
