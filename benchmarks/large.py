"""Large loads, each one into a fresh copy of its tables: seconds from the table in memory to the end of the commit."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable
from functools import partial

import duckdb
import psycopg
import pyarrow as pa

import brenvik
import by_hand
import extracts
import history
import servers
import several
import warehouse
from places import BUILD, COPY, HAND, server

ROWS, LAKE = 10_000_000, BUILD / "lake"
PG_ROWS, PG_SIZE = 2_000_000, 200_000


def bring_history(rows: int, keep: bool) -> None:
    base = BUILD / f"{rows}_{'keep' if keep else 'drop'}.duckdb"
    if not base.exists():
        history.make(base, rows=rows, keep=keep)
    shutil.copyfile(base, COPY)


def load_once(changes: pa.Table, how: str, *, keep: bool, hand: Callable[..., None]) -> float:
    """Seconds of one load into the copy, from the table in memory to the end of the commit."""
    if how == HAND:
        with duckdb.connect(str(COPY)) as connection:
            begin = time.perf_counter()
            hand(connection, changes)
            return time.perf_counter() - begin
    with brenvik.open_store(f"duckdb:{COPY}") as store:
        begin = time.perf_counter()
        store.load(history.rules(keep=keep), changes, kind="upserts")
        return time.perf_counter() - begin


def in_duckdb(size: int, keep: bool, how: str) -> float:
    return load_once(history.batch(ROWS, size), how, keep=keep, hand=partial(by_hand.load, keep=keep))


def with_several(how: str) -> float:
    return load_once(several.batch(ROWS, 1_000_000), how, keep=True, hand=several.load)


def thousand(rows: int, late: bool, how: str) -> float:
    changes = history.batch(rows, 1_000)
    if late:
        return load_once(history.with_late(changes, 1.0), how, keep=True, hand=several.load)
    return load_once(changes, how, keep=True, hand=partial(by_hand.load, keep=True))


def bring_database(case: warehouse.Case) -> None:
    warehouse.make(server(), case)
    servers.copy(server(), "copy", case.base)


def in_postgres(case: warehouse.Case, how: str) -> float:
    place = servers.database(server(), "copy")
    if how != HAND:
        return warehouse.load(place, case, case.batch())[0]
    return warehouse.load_by_hand(place, case, case.batch(), case.rivals[0])[0]


def several_in_postgres(how: str) -> float:
    place = servers.database(server(), "copy")
    changes = several.batch(PG_ROWS, PG_SIZE)
    if how == HAND:
        with psycopg.connect(place) as connection:
            begin = time.perf_counter()
            several.load_postgres(connection, changes)
            connection.commit()
            return time.perf_counter() - begin
    with brenvik.open_store(place) as store:
        begin = time.perf_counter()
        store.load(history.rules(keep=True), changes, kind="upserts")
        return time.perf_counter() - begin


def bring_extract() -> None:
    base = BUILD / "extract.duckdb"
    if not base.exists():
        with brenvik.open_store(f"duckdb:{base}") as store:
            store.load(extracts.EXTRACTED, extracts.rows(differing=False), kind="full_extract", at=extracts.TODAY)
    shutil.copyfile(base, COPY)


def extract(how: str) -> float:
    return extracts.by_hand(COPY, recording=True) if how == HAND else extracts.extract(COPY)


def bring_lake(rows: int) -> None:
    history.bring_lake(BUILD / f"lake_{rows}", LAKE, rows=rows)


def in_lake(rows: int, size: int, how: str) -> float:
    changes = history.batch(rows, size)
    with brenvik.open_store(f"lakehouse:{LAKE}") as store:
        begin = time.perf_counter()
        store.load(history.rules(keep=True), changes, kind="upserts")
        return time.perf_counter() - begin
