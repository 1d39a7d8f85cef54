"""A DuckDB in memory beside the store, for rows in transit and small results."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from functools import cache, lru_cache
from itertools import chain
from typing import TYPE_CHECKING, Any

import duckdb

from brenvik.errors import StoreError
from brenvik.merge import sql
from brenvik.merge.validate import STREAM, Staging

if TYPE_CHECKING:
    import pyarrow as pa

_SETTINGS = ("TimeZone = 'UTC'", "GLOBAL python_enable_replacements = false")
_CHUNK = 122_880  # rows that are put in order together
_KEPT = 256  # statements, the oldest of which goes when another comes
_FEW = 10_000  # rows that are kept rather than streamed, which plans a query twice

_PARAMETER = re.compile(r""""(?:[^"]|"")*"|'(?:[^']|'')*'|\$([a-z_][a-z_0-9]*)""")  # not inside quotes


_parsed: dict[str, duckdb.Statement] = {}


@cache
def _shared() -> duckdb.DuckDBPyConnection:
    """One per process: opening one takes thirty times as long as a cursor."""
    return duckdb.connect(":memory:")


@contextmanager
def scratch() -> Iterator[duckdb.DuckDBPyConnection]:
    """A connection of its own, with temporary tables of its own, in UTC."""
    with _shared().cursor() as connection:
        for setting in _SETTINGS:
            connection.execute(f"SET {setting}").fetchall()
        yield connection


def parsed(statement: str, by: duckdb.DuckDBPyConnection) -> duckdb.Statement:
    """A statement parsed once, by any connection: to parse a long one takes as long as to run it for a few rows."""
    known = _parsed.get(statement)
    if known is None:
        found = by.extract_statements(statement)
        if len(found) != 1:
            raise duckdb.ParserException(f"expected one statement, got {len(found)}")
        known = _parsed[statement] = found[0]
        if len(_parsed) > _KEPT:
            _parsed.pop(next(iter(_parsed)), None)
    return known


@lru_cache(maxsize=4096)
def _parameters(statement: str) -> frozenset[str]:
    return frozenset(filter(None, _PARAMETER.findall(statement)))


def used(statement: str, values: Mapping[str, Any] | None) -> dict[str, Any]:
    """The values that a statement uses; DuckDB refuses any others."""
    return {name: value for name, value in (values or {}).items() if name in _parameters(statement)}


def _peeked(rows: pa.RecordBatchReader) -> tuple[pa.RecordBatchReader, bool]:
    """The same rows, and whether they are few."""
    import pyarrow as pa

    seen, count = [], 0
    for batch in rows:
        seen.append(batch)
        count += batch.num_rows
        if count > _FEW:
            return pa.RecordBatchReader.from_batches(rows.schema, chain(seen, rows)), False
    return pa.RecordBatchReader.from_batches(rows.schema, seen), True


def in_transit(
    rows: pa.RecordBatchReader, staging: Staging, shown: str, values: Mapping[str, Any], *, address: str
) -> Iterator[pa.RecordBatch]:
    """What is ``shown`` of rows in transit to a working relation, while they are read: in chunks, each in the requested order.

    Raises StoreError in the name of the store at ``address`` when the stream or the query fails.
    """
    import pyarrow as pa

    with scratch() as beside:
        try:
            rows, few = _peeked(rows)
            beside.register(STREAM, rows)
            given = used(staging.question, values)
            if few:
                kept = sql.quote("brenvik_in_transit")
                beside.execute(parsed(f"CREATE TEMP TABLE {kept} AS {staging.question}", beside), given).fetchall()
                answer = beside.sql(parsed(f"SELECT {shown} FROM {kept} q", beside))
            else:
                answer = beside.sql(parsed(f"SELECT {shown} FROM ({staging.question}) q", beside), params=given or None)
            order = [(name, "ascending") for name in staging.order]
            for chunk in answer.to_arrow_reader(_CHUNK):
                yield chunk.sort_by(order) if order else chunk
        except (duckdb.Error, pa.ArrowException, OSError) as error:  # the last two by way of the reader
            first = str(error).partition("\n")[0]
            raise StoreError(f"{address}: the rows could not be read: {first}") from error
        finally:
            beside.unregister(STREAM)
