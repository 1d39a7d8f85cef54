"""Two processes load the same table, or different ones, at the same time; one is killed at a random moment. Whatever it left
undone is done by whoever comes next, and the tables are those of one process after the other."""

from __future__ import annotations

import random
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import loader
import pytest

import brenvik
from counts import KILLS, SEED, STORES, tried
from servers import fresh_database

TIMES = max(1, KILLS // 24 // len(STORES))


def start(address: str, seed: int, tables: str, order: int) -> subprocess.Popen[str]:
    words = [sys.executable, loader.__file__, address, str(seed), tables, str(order)]
    return subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def rows(store: brenvik.Store, table: str) -> list[dict[str, Any]]:
    names = ("code", "since", "name", "light", "valid_from", "valid_to", "is_current", "is_deleted")
    return [{name: row[name] for name in names} for row in store.read(loader.rules(table)).to_pylist()]


def check(address: str, seed: int, tables: list[str]) -> None:
    """Loads everything again, one batch after the other, and looks at what there is."""
    with brenvik.open_store("duckdb::memory:") as expected, brenvik.open_store(address, wait_s=60.0) as store:
        for table in tables:
            for number in range(loader.BATCHES):
                made = loader.batch(table, number, seed)
                expected.load(loader.rules(table), made, kind="changes", operation="op")
                store.load(loader.rules(table), made, kind="changes", operation="op")
            assert rows(store, table) == rows(expected, table)
            whole = store.ledger.runs(table).to_pylist()
            assert {run["state"] for run in whole} <= {"done", "crashed", "failed"}
            assert sum(run["state"] == "crashed" for run in whole) <= 1
        numbers = store.ledger.runs()["run"].to_pylist()
        assert len(numbers) == len(set(numbers))


@contextmanager
def fresh(store: str, folder: Path) -> Iterator[str]:
    """The address of an empty store."""
    if store == "postgres":
        with fresh_database() as url:
            yield url
    else:
        yield f"{store}:{folder / 'coast'}"


@pytest.mark.parametrize("store", STORES)
@pytest.mark.parametrize("tables", [("buoy", "buoy"), ("buoy", "keeper")], ids=["one table", "two tables"])
def test_two_processes_of_which_one_is_killed_leave_what_one_after_the_other_would(
    store: str, tables: tuple[str, str], tmp_path: Path
) -> None:
    for number in range(TIMES):
        chance = random.Random(f"{SEED} {store} {tables} {number}")
        seed, folder = chance.randrange(10**6), tmp_path / str(number)
        folder.mkdir()
        with fresh(store, folder) as address:
            both = [start(address, seed, table, chance.randrange(10**6)) for table in tables]
            for process in both:
                assert process.stdout
                assert process.stdout.readline() == "ready\n"
            time.sleep(chance.uniform(0.0, 1.2))
            both[chance.randrange(2)].kill()
            for process in both:
                _, told = process.communicate(timeout=300)
                assert process.returncode in (0, -9), told
            check(address, seed, list(dict.fromkeys(tables)))
        tried(store)
