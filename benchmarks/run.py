"""``make bench``: loads beside the best SQL by hand, the same changes into copies of the same history, in turns.

Every load runs in a process of its own on a fresh copy of the database; the table below has medians. Writes
docs/benchmarks/README.md. The history (10,000,000 rows) is made by Brenvik and kept in build/bench.
"""

from __future__ import annotations

import argparse
import json
import shutil
import statistics
import subprocess
import sys
from pathlib import Path
from typing import Any

import duckdb
import pyarrow

import brenvik
import extracts
import history
import source

ROOT = Path(__file__).parents[1]
BUILD = ROOT / "build" / "bench"
CASES = (  # changes, kept, at most as many times the SQL by hand
    (1_000_000, False, 1.1),
    (1_000_000, True, 1.3),
    (10_000, False, 1.5),
    (10_000, True, 1.5),
)


def once(how: str, base: Path, rows: int, size: int, keep: bool) -> dict[str, Any]:
    path = BUILD / "copy.duckdb"
    shutil.copyfile(base, path)
    command = [sys.executable, str(Path(__file__).with_name("once.py")), how, str(path), str(rows), str(size)]
    done = subprocess.run([*command, "keep" if keep else "drop"], check=True, capture_output=True, text=True)
    return dict(json.loads(done.stdout))


def measure(base: Path, rows: int, size: int, keep: bool, times: int) -> dict[str, dict[str, float]]:
    """Medians of seconds and peak memory, the two ways taking turns after one uncounted round."""
    found: dict[str, list[dict[str, Any]]] = {"hand": [], "brenvik": []}
    for turn in range(times + 1):
        for how, results in found.items():
            result = once(how, base, rows, size, keep)
            if turn:
                results.append(result)
    sizes = {result["counts"]["rows_after"] for results in found.values() for result in results}
    if len(sizes) != 1:
        raise SystemExit(f"the two ways end with different numbers of rows: {sizes}")
    return {
        how: {name: statistics.median(result[name] for result in results) for name in ("seconds", "peak_mib")}
        for how, results in found.items()
    }


def main() -> None:
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("--rows", type=int, default=10_000_000)
    words.add_argument("--times", type=int, default=5)
    said = words.parse_args()
    BUILD.mkdir(parents=True, exist_ok=True)
    lines = []
    for size, keep, limit in CASES:
        base = BUILD / f"{said.rows}_{'keep' if keep else 'drop'}.duckdb"
        if not base.exists():
            print(f"making a history of {said.rows:,} rows", flush=True)
            history.make(base, rows=said.rows, keep=keep)
        if size > said.rows // 5:
            continue
        medians = measure(base, said.rows, size, keep, said.times)
        hand, ours = medians["hand"], medians["brenvik"]
        ratio = ours["seconds"] / hand["seconds"]
        line = (
            f"| {size:,} | {'yes' if keep else 'no'} | {hand['seconds']:.2f} s | {ours['seconds']:.2f} s | "
            f"**{ratio:.2f}** | {limit} | {hand['peak_mib']:,.0f} MiB | {ours['peak_mib']:,.0f} MiB |"
        )
        print(line, flush=True)
        lines.append(line)
    (BUILD / "copy.duckdb").unlink(missing_ok=True)
    write(lines, said.rows, said.times)


def write(lines: list[str], rows: int, times: int) -> None:
    first, *rest = source.measure(BUILD / "source")
    small = statistics.median(each["seconds"] for each in rest)
    peak = max(each["above_idle_mib"] for each in rest)
    seen = extracts.measure(BUILD / "extracts", times)
    (hand,), (recording,), (extract,), (load, taken_back) = (
        seen[how] for how in ("hand", "recording", "full_extract", "revert")
    )
    text = f"""# Benchmarks

Changes into a DuckDB history of {rows:,} rows with 8 attributes: a fifth new keys, two fifths unchanged, two fifths
changed; in order, each key once; in memory as an Arrow table, the database in a file. Medians of {times} after one
uncounted round, the two in turns, each load in a process of its own on a fresh copy. Time is from the table in
memory to the end of the commit; for Brenvik it includes making the SQL. Compare ratios: the seconds are those of this machine.

It is compared with the SQL in `benchmarks/by_hand.py`, which says what it does not guarantee; there DuckDB chooses its number
of threads. Brenvik sets `external_threads = 0`, without which a commit sometimes leaves a core idle; with the same setting
the SQL by hand took 3 % less (medians of 7: the first ratio was 1.12 to 1.14, the others 1.08 to 1.17). With a change log,
the SQL by hand also appends the raw changes to a table.

| changes | change log | by hand | Brenvik | ratio | goal | peak by hand | peak Brenvik |
|---:|:--|---:|---:|---:|---:|---:|---:|
{chr(10).join(lines)}

From a database (`benchmarks/source.py`): SQLite with {source.ROWS:,} rows of 8 columns and an index on the watermark,
loaded for the first time in windows of 250,000 rows with `memory_limit = "350 MB"`, then three times {source.NEW:,} new
rows (median). Memory is the peak above the process with its store open.

| rows | seconds | share of the first | peak above idle |
|---:|---:|---:|---:|
| {first["read"]:,} | {first["seconds"]:.1f} s | 1 | {first["above_idle_mib"]:,.0f} MiB |
| {source.NEW:,} | {small:.2f} s | 1/{first["seconds"] / small:.0f} (goal 1/50) | {peak:,.0f} MiB |

Full extracts and reverts (`benchmarks/extracts.py`): an extract of {extracts.ROWS:,} rows of which
{extracts.DIFFERING:,} differ, against as many current keys. It is compared with the best comparison in SQL that we could
write, and with one that also records its run before it starts, logs the {extracts.DIFFERING:,} changes and records both
with the data: the least that is needed to block a run, find a crashed one, or revert one. Brenvik also looks for invalid
rows and duplicated keys, limits deletes, and checks what was written. A run of {extracts.CHANGES:,} changes of
{extracts.ROWS:,} keys, and its revert. Medians of {times}, each in a process of its own.

| | compared with | seconds | ratio | goal |
|:--|---:|---:|---:|---:|
| extract | the comparison by hand {hand:.2f} s | {extract:.2f} s | **{extract / hand:.2f}** | 1.1 |
| | the same, logged and recorded {recording:.2f} s | | **{extract / recording:.2f}** | |
| revert | its load {load:.2f} s | {taken_back:.2f} s | **{taken_back / load:.2f}** | 2 |

{history.machine()} ·
Brenvik {brenvik.__version__} · DuckDB {duckdb.__version__} · pyarrow {pyarrow.__version__}
"""
    folder = ROOT / "docs" / "benchmarks"
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "README.md").write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
