"""Small loads in a warm process, beside the same by hand and beside an earlier state of Brenvik.

    small.py [--before CHECKOUT] [--times N]

Each way loads batch after batch into a copy of the same small history, in a process of its own; the ways take turns, and the
table has medians of one load. By hand means SQL that also appends the changes to a log and records the run.
"""

from __future__ import annotations

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa

import brenvik
import by_hand
import history

ROWS, LOADS, WARM = 10_000, 25, 5
SIZES = (10, 1_000)
RUNS = "CREATE TABLE load_run (run BIGINT, started_at TIMESTAMP, ended_at TIMESTAMP, read BIGINT, changed BIGINT)"


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


def once(how: str, path: Path, size: int) -> float:
    history.make(path, rows=ROWS, keep=True)
    if how == "hand":
        connection = duckdb.connect(str(path))
        connection.execute(RUNS)

        def by_sql(number: int, batch: pa.Table) -> None:
            by_hand.load(connection, batch, keep=True, run=number)
            connection.execute("DROP TABLE staged; DROP TABLE differing").fetchall()
            connection.execute(
                "INSERT INTO load_run VALUES (?, ?, ?, ?, ?)",
                [number, datetime(2024, 5, 20), datetime(2024, 5, 20), size, size],
            ).fetchall()

        return timed(by_sql, size)
    with brenvik.open_store(f"duckdb:{path}") as store:
        rules = history.rules(keep=True)
        return timed(lambda number, batch: store.load(rules, batch, kind="upserts"), size)


def run(how: str, size: int, *, source: Path | None = None) -> float:
    """One way in a process of its own, with the library of another checkout where one is named."""
    environment: dict[str, Any] = dict(os.environ)
    if source:
        environment["PYTHONPATH"] = str(source / "src")
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, __file__, "--once", how, str(Path(folder) / "coast.duckdb"), str(size)]
        done = subprocess.run(command, check=True, capture_output=True, text=True, env=environment)
    return float(json.loads(done.stdout))


def main() -> None:
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("--before", type=Path, help="a checkout of an earlier state")
    words.add_argument("--times", type=int, default=3)
    words.add_argument("--once", nargs=3, metavar=("WAY", "FILE", "SIZE"), help=argparse.SUPPRESS)
    said = words.parse_args()
    if said.once:
        how, path, size = said.once
        print(json.dumps(once(how, Path(path), int(size))))
        return
    print("| rows | by hand | before | now | before / hand | now / hand |")
    print("|---:|---:|---:|---:|---:|---:|")
    for size in SIZES:
        found: dict[str, list[float]] = {"hand": [], "before": [], "now": []}
        for _ in range(said.times):
            found["hand"].append(run("hand", size))
            found["now"].append(run("now", size))
            if said.before:
                found["before"].append(run("now", size, source=said.before))
        hand, before, now = (statistics.median(found[name] or [float("nan")]) for name in ("hand", "before", "now"))
        shown = " | ".join(f"{1000 * seconds:.1f} ms" for seconds in (hand, before, now))
        print(f"| {size:,} | {shown} | {before / hand:.2f} | **{now / hand:.2f}** |", flush=True)


if __name__ == "__main__":
    main()
