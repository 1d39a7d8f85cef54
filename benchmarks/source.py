"""``make bench``: a first load of 5,000,000 rows of a database in pieces, then one of 1,000 new rows.

``source.py once FOLDER`` takes what is new and prints seconds and memory; without words, the whole comparison.
"""

from __future__ import annotations

import json
import shutil
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

ROWS, NEW = 5_000_000, 1_000
PROJECT = """
store = "duckdb:coast.duckdb"
memory_limit = "350 MB"
[connections]
registry = "sqlite:///registry.db"
[table.visit]
natural_key = ["visit_no"]
order_by = ["modified_at"]
other_columns = "type_1"
[table.visit.feed.service]
kind = "upserts"
connection = "registry"
source_table = "service_visit"
watermark = "modified_at"
window = 250000
"""
_MAKE = """
INSERT INTO service_visit
WITH RECURSIVE n(i) AS (SELECT {start} UNION ALL SELECT i + 1 FROM n WHERE i + 1 < {end})
SELECT i, 'NB-' || (i % 9000), date('2020-01-01', '+' || (i % 1500) || ' days'), 'work ' || (i % 700), (i % 80) / 4.0,
  'keeper ' || (i % 300), i % 7, strftime('%Y-%m-%d %H:%M:%f', 1600000000 + i * 0.5, 'unixepoch')
FROM n"""


def put(folder: Path, start: int, end: int) -> None:
    with closing(sqlite3.connect(folder / "registry.db")) as registry, registry:
        registry.execute(
            "CREATE TABLE IF NOT EXISTS service_visit (visit_no INTEGER PRIMARY KEY, buoy_code TEXT, visited_on DATE, "
            "work TEXT, hours DOUBLE, keeper TEXT, grade INTEGER, modified_at TIMESTAMP)"
        )
        registry.execute("CREATE INDEX IF NOT EXISTS by_time ON service_visit (modified_at)")
        registry.execute(_MAKE.format(start=start, end=end))


def memory_mib(name: str) -> float:
    lines = Path("/proc/self/status").read_text().splitlines()
    return int(next(line.split()[1] for line in lines if line.startswith(name))) / 1024


def once(folder: Path) -> None:
    import brenvik

    project = brenvik.read_project(folder / "brenvik.toml")
    with project.open() as store:
        store.ledger.exists()
        idle = memory_mib("VmRSS")
        begin = time.perf_counter()
        outcomes = project.load(store=store)
        seconds = time.perf_counter() - begin
    read = sum(outcome.require_clean().counts["read"] for outcome in outcomes)
    above = memory_mib("VmHWM") - idle
    print(json.dumps({"read": read, "runs": len(outcomes), "seconds": seconds, "above_idle_mib": above}))


def measure(folder: Path) -> list[dict[str, float]]:
    """The first load, then three of 1,000 new rows each."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    (folder / "brenvik.toml").write_text(PROJECT)
    put(folder, 0, ROWS)
    found = []
    for turn in range(4):
        done = subprocess.run(
            [sys.executable, __file__, "once", str(folder)], check=True, capture_output=True, text=True
        )
        found.append(json.loads(done.stdout))
        expected = NEW if turn else ROWS
        if found[-1]["read"] != expected:
            raise SystemExit(f"expected {expected} rows to be read, got {found[-1]}")
        put(folder, ROWS + turn * NEW, ROWS + (turn + 1) * NEW)
    shutil.rmtree(folder)
    return found


if __name__ == "__main__":
    if sys.argv[1:2] == ["once"]:
        once(Path(sys.argv[2]))
    else:
        for each in measure(Path(__file__).parents[1] / "build" / "bench" / "source"):
            print(each)
