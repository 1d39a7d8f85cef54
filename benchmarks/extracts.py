"""``make bench``: an extract of 1,000,000 rows of which 1,000 differ, compared with the best comparison in SQL by hand, and with
one that also records its run; and the revert of a run of 10,000 changes of 1,000,000 keys, compared with its load.

``extracts.py hand|recording|extract|revert FILE`` runs one of them in a process of its own and prints seconds; without
arguments it runs all.
"""

from __future__ import annotations

import json
import shutil
import statistics
import subprocess
import sys
import time
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path

import duckdb
import numpy as np
import pyarrow as pa

import brenvik
import history
from by_hand import ATTRIBUTES

ROWS, DIFFERING, CHANGES = 1_000_000, 1_000, 10_000
TODAY, NEXT_DAY = history.EPOCH, history.EPOCH + timedelta(days=1)
EXTRACTED = brenvik.TableRules("buoy", natural_key="buoy_no", type_2=ATTRIBUTES)
CHANGED = brenvik.TableRules("buoy", natural_key="buoy_no", order_by="changed_at", type_2=ATTRIBUTES)


def rows(*, differing: bool) -> pa.Table:
    """All buoys; with ``differing`` every thousandth has another light."""
    numbers = np.arange(ROWS)
    salt = np.where((numbers % (ROWS // DIFFERING) == 0) & differing, 500, 0)
    return history.changes(numbers, TODAY, salt=salt).drop_columns(["changed_at"])


def by_hand(path: Path, *, recording: bool = False) -> float:
    """One comparison finds what differs, is new or absent; without duplicates, invalid rows, limits, ledger or change log.

    Testing plain equality first takes 15 ms less than IS DISTINCT FROM alone. ``recording`` does the least that is needed to
    revert a run, to block one, or to find a crashed one: the run is recorded before it starts, the highest values are looked
    up, the differences are counted, and they are logged with their old values in the transaction that records the run. It
    still does not look for invalid or duplicated rows, and does not check what was written."""
    frame = rows(differing=True)
    names = ", ".join(("buoy_no", *ATTRIBUTES))
    equal = " AND ".join(f"x.{name} = t.{name}" for name in ATTRIBUTES)
    differs = " OR ".join(f"x.{name} IS DISTINCT FROM t.{name}" for name in ATTRIBUTES)
    before = "".join(f", t.{name} AS old_{name}" for name in ATTRIBUTES) if recording else ""
    at = {"at": NEXT_DAY}
    with duckdb.connect(path) as connection:

        def do(text: str, values: dict[str, datetime] | None = None) -> None:
            connection.execute(text, values).fetchall()

        do("SET TimeZone = 'UTC'")
        do("SET preserve_insertion_order = false")
        begin = time.perf_counter()
        connection.register("frame", frame)
        if recording:
            do(
                "INSERT INTO brenvik.runs (run, table_name, feed, kind, state, source, started_at) "
                "SELECT max(run) + 1, 'buoy', 'frame', 'full_extract', 'running', 'frame', $at FROM brenvik.runs",
                at,
            )
        connection.begin()
        if recording:
            do("SELECT high_effective, last_key, current_keys FROM brenvik.tables WHERE table_name = 'buoy'")
        do(f"""
            CREATE TEMP TABLE differing AS
            SELECT x.*, t.stored{before} FROM frame x
            FULL JOIN (SELECT rowid AS stored, {names} FROM buoy WHERE valid_to IS NULL) t ON t.buoy_no = x.buoy_no
            WHERE CASE WHEN {equal} THEN FALSE ELSE x.buoy_no IS NULL OR t.buoy_no IS NULL OR {differs} END""")
        if recording:
            do("SELECT count(*), count(stored), count(buoy_no) FROM differing")
        do(
            "UPDATE buoy SET valid_to = $at, is_current = FALSE, last_run = 2, last_loaded_at = $at "
            "FROM differing d WHERE buoy.rowid = d.stored",
            at,
        )
        do(
            f"INSERT INTO buoy SELECT (SELECT max(buoy_key) FROM buoy) + row_number() OVER (), {names}, $at, NULL, TRUE, "
            "FALSE, 2, 2, $at, $at FROM differing WHERE buoy_no IS NOT NULL",
            at,
        )
        if recording:
            do(
                f"INSERT INTO brenvik.change_log_buoy (brenvik_run, brenvik_sequence_no, brenvik_column_set, brenvik_delete, "
                f"brenvik_effective_at, {names}) SELECT 2, row_number() OVER (), 1, 0, $at, {names} FROM differing "
                "WHERE buoy_no IS NOT NULL",
                at,
            )
            do(
                "UPDATE brenvik.tables SET high_effective = CAST($at AS TEXT), last_key = last_key + 1000, "
                "row_count = row_count + 1000 WHERE table_name = 'buoy'",
                at,
            )
            do(
                "UPDATE brenvik.runs SET state = 'done', ended_at = $at, read = 1000000, versioned = 1000 WHERE run = 2",
                at,
            )
        connection.commit()
        return time.perf_counter() - begin


def extract(path: Path) -> float:
    frame = rows(differing=True)
    with brenvik.open_store(f"duckdb:{path}") as store:
        begin = time.perf_counter()
        outcome = store.load(EXTRACTED, frame, kind="full_extract", at=NEXT_DAY)
        seconds = time.perf_counter() - begin
        logged = store.engine.ask('SELECT count(*) AS n FROM "brenvik"."change_log_buoy" WHERE brenvik_run = 2')["n"]
    if (outcome.counts["versioned"], logged[0].as_py()) != (DIFFERING, DIFFERING):
        raise SystemExit(f"expected {DIFFERING} logged changes, got {logged} of {outcome.counts}")
    return seconds


def revert(path: Path) -> tuple[float, float]:
    """Seconds of a load, and of its revert."""
    numbers = np.arange(0, ROWS, ROWS // CHANGES)
    frame = history.changes(numbers, NEXT_DAY, salt=500)
    with brenvik.open_store(f"duckdb:{path}") as store:
        begin = time.perf_counter()
        loaded = store.load(CHANGED, frame, kind="upserts")
        between = time.perf_counter()
        done = store.revert(CHANGED, int(loaded.run or 0))
        end = time.perf_counter()
    if done.counts["rows_removed"] != CHANGES:
        raise SystemExit(f"expected {CHANGES} rows to be removed, got {done.counts}")
    return between - begin, end - between


def measure(folder: Path, times: int) -> dict[str, list[float]]:
    """Medians of seconds: by hand, the same recording what it did, and the extract, in turns; the load and its revert. The
    first of each is not counted."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    with brenvik.open_store(f"duckdb:{folder / 'extract.duckdb'}") as store:
        store.load(EXTRACTED, rows(differing=False), kind="full_extract", at=TODAY)
    with brenvik.open_store(f"duckdb:{folder / 'changes.duckdb'}") as store:
        store.load(CHANGED, history.changes(np.arange(ROWS), TODAY), kind="upserts")
    found: dict[str, list[list[float]]] = {"hand": [], "recording": [], "full_extract": [], "revert": []}
    for turn in range(times + 1):
        for how, results in found.items():
            copy = folder / "copy.duckdb"
            shutil.copyfile(folder / ("changes.duckdb" if how == "revert" else "extract.duckdb"), copy)
            done = subprocess.run(
                [sys.executable, __file__, how, str(copy)], check=True, capture_output=True, text=True
            )
            if turn:
                results.append(json.loads(done.stdout))
    shutil.rmtree(folder)
    return {how: [statistics.median(column) for column in zip(*results, strict=True)] for how, results in found.items()}


if __name__ == "__main__":
    if sys.argv[1:]:
        did, at = sys.argv[1], Path(sys.argv[2])
        ways = {"hand": by_hand, "recording": partial(by_hand, recording=True), "full_extract": extract}
        print(json.dumps(list(revert(at)) if did == "revert" else [ways[did](at)]))
    else:
        print(measure(Path(__file__).parents[1] / "build" / "bench" / "extracts", times=5))
