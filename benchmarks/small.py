"""Small loads, one after the other in a process that is warm: median seconds of one."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from datetime import datetime, timedelta

import duckdb
import psycopg
import pyarrow as pa

import brenvik
import by_hand
import by_hand_postgres
import history
import servers
from places import COPY, HAND, server

ROWS, LOADS, WARM = 10_000, 25, 5
RUNS = "CREATE TABLE load_run (run BIGINT, started_at TIMESTAMP, ended_at TIMESTAMP, read BIGINT, changed BIGINT)"
NOON = datetime(2024, 5, 20, 12)


def batches(size: int) -> list[pa.Table]:
    """Batches of which each is newer than the one before."""
    made = []
    for number in range(WARM + LOADS):
        batch = history.batch(ROWS, size, seed=number)
        later = [moment + timedelta(days=number) for moment in batch["changed_at"].to_pylist()]
        made.append(batch.set_column(1, "changed_at", pa.array(later, pa.timestamp("us"))))
    return made


def timed(load: Callable[[int, pa.Table], object], size: int) -> float:
    """The median seconds of a load, after some that are not counted."""
    spent = []
    for number, batch in enumerate(batches(size)):
        begin = time.perf_counter()
        load(number, batch)
        spent.append(time.perf_counter() - begin)
    return statistics.median(spent[WARM:])


def in_brenvik(address: str, size: int) -> float:
    rules = history.rules(keep=True)
    with brenvik.open_store(address) as store:
        return timed(lambda _, batch: store.load(rules, batch, kind="upserts"), size)


def in_duckdb(size: int, how: str) -> float:
    if how != HAND:
        return in_brenvik(f"duckdb:{COPY}", size)
    with duckdb.connect(str(COPY)) as connection:
        connection.execute(RUNS)

        def load(number: int, batch: pa.Table) -> None:
            by_hand.load(connection, batch, keep=True, run=number)
            connection.execute("DROP TABLE staged; DROP TABLE differing").fetchall()
            record = [number, NOON, NOON, size, size]
            connection.execute("INSERT INTO load_run VALUES (?, ?, ?, ?, ?)", record).fetchall()

        return timed(load, size)


def in_postgres(size: int, how: str) -> float:
    place = servers.database(server(), "copy")
    if how != HAND:
        return in_brenvik(place, size)
    with psycopg.connect(place, autocommit=True) as connection:
        connection.execute(RUNS.encode())

        def load(number: int, batch: pa.Table) -> None:
            by_hand_postgres.load(connection, batch, "update and insert", keep=True)
            connection.execute("INSERT INTO load_run VALUES (%s, %s, %s, %s, %s)", [number, NOON, NOON, size, size])

        return timed(load, size)
