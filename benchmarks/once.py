"""One load, timed in a process of its own: ``once.py brenvik|hand FILE ROWS SIZE keep|drop`` prints seconds and MiB."""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path

import duckdb

import brenvik
import by_hand
import history


def main() -> None:
    how, path, rows, size, keep = sys.argv[1:]
    changes = history.batch(int(rows), int(size))
    counts: dict[str, int] = {}
    if how == "brenvik":
        with brenvik.open_store(f"duckdb:{path}") as store:
            begin = time.perf_counter()
            outcome = store.load(history.rules(keep=keep == "keep"), changes, kind="upserts")
            seconds = time.perf_counter() - begin
            counts = dict(outcome.counts)
    else:
        connection = duckdb.connect(path)
        begin = time.perf_counter()
        by_hand.load(connection, changes, keep=keep == "keep")
        seconds = time.perf_counter() - begin
        ((counts["rows_after"],),) = connection.execute("SELECT count(*) FROM buoy").fetchall()
    status = Path("/proc/self/status").read_text()  # getrusage would count what the parent process once held
    peak = int(next(line.split()[1] for line in status.splitlines() if line.startswith("VmHWM"))) / 1024
    print(json.dumps({"seconds": seconds, "peak_mib": peak, "counts": counts}))


if __name__ == "__main__":
    main()
