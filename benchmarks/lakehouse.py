"""``make bench``: what loads of a lakehouse cost in seconds and bytes, written to docs/benchmarks/lakehouse.md.

Each load on a fresh copy of its tables, in this process; the first of each is not counted. The files of a table name each
other by whole paths, so all is done in one folder, to which copies of what is kept elsewhere are brought.
"""

from __future__ import annotations

import argparse
import shutil
import statistics
import time
from dataclasses import dataclass, replace
from datetime import timedelta
from pathlib import Path

import duckdb
import matplotlib
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
import pyiceberg
from pyiceberg.catalog.sql import SqlCatalog

import brenvik
import history

ROOT = Path(__file__).resolve().parents[1]
BUILD = ROOT / "build" / "bench" / "lakehouse"
DOCS = ROOT / "docs" / "benchmarks"
LAKE = BUILD / "lake"
STREAK = 20
"""How many loads come before the reading is measured."""


@dataclass(frozen=True)
class Case:
    """A batch of ``size`` changes into a table of ``rows`` rows: scattered keys, or ``neighbours``."""

    rows: int
    size: int
    neighbours: bool = False
    rewritten: bool = False
    goal: str = "–"

    @property
    def rules(self) -> brenvik.TableRules:
        return replace(history.rules(keep=True), write_mode="copy_on_write" if self.rewritten else "merge_on_read")

    def batch(self, day: int = 0) -> pa.Table:
        if not self.neighbours:
            made = history.batch(self.rows, self.size, seed=7 + day)
            later = pc.add(made["changed_at"], pa.scalar(timedelta(days=day)))
            return made.set_column(made.column_names.index("changed_at"), "changed_at", later)
        keys = self.rows * 4 // 5
        numbers = np.arange(keys - self.size * 4 // 5, keys + self.size // 5)
        return history.changes(numbers, history.EPOCH + timedelta(days=9), salt=np.arange(self.size) % 2 * 123)


@dataclass(frozen=True)
class Cost:
    seconds: float
    rows: int
    """Bytes of files of rows and of positions: of the table, its change log and the ledger."""
    metadata: int
    plain: int
    """Bytes of the same changes as one plain Parquet file."""


def bring(rows: int) -> None:
    """A fresh copy of a history of ``rows`` rows, made by Brenvik and put in order; kept from one bench to the next."""
    history.bring_lake(BUILD / f"base_{rows}", LAKE, rows=rows)


def files() -> dict[Path, int]:
    return {path: path.stat().st_size for path in LAKE.rglob("*") if path.is_file() and path.suffix != ".db"}


def load(case: Case, changes: pa.Table) -> tuple[float, int, int]:
    """Seconds, bytes of rows and of metadata of one load."""
    before = files()
    with brenvik.open_store(f"lakehouse:{LAKE}") as store:
        begin = time.perf_counter()
        outcome = store.load(case.rules, changes, kind="upserts")
        seconds = time.perf_counter() - begin
        if not outcome.counts["rows_added"]:
            raise SystemExit(f"{case} changed nothing: {outcome.counts}")
    new = {path: size for path, size in files().items() if path not in before}
    data = sum(size for path, size in new.items() if path.parent.name == "data")
    return seconds, data, sum(new.values()) - data


def measure(case: Case, times: int) -> Cost:
    changes = case.batch()
    plain = BUILD / "plain.parquet"
    pq.write_table(changes, plain)
    found = []
    for turn in range(times + 1):
        bring(case.rows)
        cost = load(case, changes)
        if turn:
            found.append(cost)
    seconds, data, metadata = (statistics.median(each) for each in zip(*found, strict=True))
    return Cost(seconds, int(data), int(metadata), plain.stat().st_size)


def reading(times: int) -> dict[str, float]:
    """Seconds to read the whole table: Brenvik's own view of it, and the scan of someone else."""
    ours, others = [], []
    with brenvik.open_store(f"lakehouse:{LAKE}") as store:
        for _ in range(times + 1):
            begin = time.perf_counter()
            store.engine.ask('SELECT count(*), max("light"), sum("mass_kg") FROM "buoy" WHERE "is_current"')
            ours.append(time.perf_counter() - begin)
    catalog = SqlCatalog("brenvik", uri=f"sqlite:///{LAKE}/catalog.db")
    for _ in range(2):
        begin = time.perf_counter()
        catalog.load_table("main.buoy").scan().to_arrow()
        others.append(time.perf_counter() - begin)
    count = len(list(catalog.load_table("main.buoy").scan().plan_files()))
    return {"ours": statistics.median(ours[1:]), "others": min(others), "files": count}


def streak(case: Case, times: int) -> dict[str, object]:
    """Twenty loads one after the other; what reading costs then, what compaction costs, and what reading costs afterwards."""
    bring(case.rows)
    costs = [load(case, case.batch(number)) for number in range(STREAK)]
    before = reading(times)
    size = sum(files().values())
    with brenvik.open_store(f"lakehouse:{LAKE}") as store:
        begin = time.perf_counter()
        store.compact(case.rules, keep=timedelta(0))
        compacted = time.perf_counter() - begin
    return {
        "first": costs[0][0],
        "last": costs[-1][0],
        "bytes": sum(data for _, data, _ in costs),
        "before": before,
        "compact": compacted,
        "after": reading(times),
        "size": (size, sum(files().values())),
    }


def main() -> None:
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("--rows", type=int, default=10_000_000)
    words.add_argument("--times", type=int, default=5)
    said = words.parse_args()
    BUILD.mkdir(parents=True, exist_ok=True)
    large, small = said.rows, said.rows // 10
    cases = [
        Case(large, 100_000, goal="1.5 s, 3 × the bytes"),
        Case(large, 10_000),
        Case(large, 1_000, goal="0.5 s"),
        Case(small, 1_000),
        Case(large, 1_000, neighbours=True),
        Case(small, 1_000, neighbours=True),
    ]
    found = []
    for case in cases:
        found.append((case, measure(case, said.times)))
        print(*found[-1], flush=True)
    ways = []
    for case in (Case(small, 10_000), Case(small, 10_000, rewritten=True)):
        ways.append((case, streak(case, said.times)))
        print(*ways[-1], flush=True)
    shutil.rmtree(LAKE)
    write(found, ways, said.times)
    draw(found, ways)


def write(found: list[tuple[Case, Cost]], ways: list[tuple[Case, dict[str, object]]], times: int) -> None:
    lines = [
        f"| {case.rows:,} | {case.size:,} | {'neighbouring' if case.neighbours else 'scattered'} | {cost.seconds:.2f} s | "
        f"{cost.rows / 1e6:.2f} MB | {cost.metadata / 1e6:.2f} MB | {cost.plain / 1e6:.2f} MB | "
        f"**{cost.rows / cost.plain:.1f}** | {case.goal} |"
        for case, cost in found
    ]
    seconds = {(case.rows, case.size, case.neighbours): cost.seconds for case, cost in found}
    large, small = max(rows for rows, _, _ in seconds), min(rows for rows, _, _ in seconds)
    grown = ", ".join(
        f"{seconds[large, 1_000, near] / seconds[small, 1_000, near]:.2f} times as long ({keys})"
        for near, keys in ((False, "scattered keys"), (True, "neighbouring keys"))
    )
    way_lines = []
    for case, told in ways:
        before, after, size = told["before"], told["after"], told["size"]
        assert isinstance(before, dict)
        assert isinstance(after, dict)
        assert isinstance(size, tuple)
        way_lines.append(
            f"| {'copy_on_write' if case.rewritten else 'merge_on_read'} | {told['first']:.2f} → {told['last']:.2f} s | "
            f"{int(str(told['bytes'])) / 1e6:.1f} MB | {before['files']:.0f} → {after['files']:.0f} | "
            f"{before['ours']:.3f} → {after['ours']:.3f} s | {before['others']:.2f} → {after['others']:.2f} s | "
            f"{told['compact']:.2f} s | {size[0] / 1e6:.0f} → {size[1] / 1e6:.0f} MB |"
        )
    text = f"""# Benchmarks of a lakehouse

Upserts into a history table of 8 attributes with a change log: a fifth new keys, two fifths unchanged, two fifths changed,
each key once; in memory as an Arrow table. The table is in a local folder and was compacted before. Medians of {times} after one
uncounted load, each on a fresh copy. Time is from the Arrow table to the end of the commit.

*Rows written* counts new data files and position deletes of the table, its change log and the ledger. *Plain Parquet* is the
same changes written once; the ratio compares the two. *Metadata* is the format's own: manifests, manifest lists and the
table's metadata file, which is rewritten by each commit.

| rows of the table | changes | keys | seconds | rows written | metadata | plain Parquet | ratio | goal |
|---:|---:|:--|---:|---:|---:|---:|---:|:--|
{chr(10).join(lines)}

A load of 1,000 changes into a table ten times as large takes {grown}; goal 1.3.
Scattered keys can be in any row group: their column is read as a whole. For neighbouring keys only the files and row groups that
can contain them are read.

{STREAK} loads of 10,000 changes one after the other into {small:,} rows, with rows deleted by position or files rewritten
(`write_mode`); the cost of reading the whole table afterwards, by Brenvik and by pyiceberg's scan, and again
after `brenvik compact`, which here keeps only the current snapshots:

| write mode | first → last load | rows written | files | read by Brenvik | read by pyiceberg | compact | folder |
|:--|---:|---:|---:|---:|---:|---:|---:|
{chr(10).join(way_lines)}

![Seconds and bytes of loads, and seconds of reading before and after compaction](lakehouse.png)

{history.machine()} ·
Brenvik {brenvik.__version__} · DuckDB {duckdb.__version__} · pyiceberg {pyiceberg.__version__} · pyarrow {pa.__version__}
"""
    DOCS.mkdir(parents=True, exist_ok=True)
    (DOCS / "lakehouse.md").write_text(text, encoding="utf-8")


def draw(found: list[tuple[Case, Cost]], ways: list[tuple[Case, dict[str, object]]]) -> None:
    matplotlib.use("Agg")
    from matplotlib import pyplot

    figure, (left, middle, right) = pyplot.subplots(1, 3, figsize=(12.8, 5.2), layout="constrained")
    names = [
        f"{case.size:,}\ninto {case.rows // 1_000_000}M\n{'neighbouring' if case.neighbours else 'scattered'}"
        for case, _ in found
    ]
    bars = left.bar(range(len(found)), [cost.seconds for _, cost in found], color="#4c78a8")
    left.bar_label(bars, fmt="%.2f", fontsize=8)
    left.set_title("Seconds of a load", fontsize=11)
    bars = middle.bar(range(len(found)), [cost.rows / cost.plain for _, cost in found], color="#4c78a8")
    middle.bar_label(bars, fmt="%.1f", fontsize=8)
    middle.axhline(3, color="#888888", linewidth=1, linestyle="--")
    middle.set_title("Bytes of rows written / plain Parquet (goal 3 for 100,000)", fontsize=11)
    for axes in (left, middle):
        axes.set_xticks(range(len(found)), names, fontsize=7)
    for place, (_, told) in enumerate(ways):
        for shift, when, colour in ((-0.2, "before", "#e45756"), (0.2, "after", "#4c78a8")):
            each = told[when]
            assert isinstance(each, dict)
            bars = right.bar(
                place + shift, each["ours"], 0.38, color=colour, label=f"{when} compact" if not place else None
            )
            right.bar_label(bars, fmt="%.3f", fontsize=8)
    right.set_xticks(range(len(ways)), ["copy_on_write" if case.rewritten else "merge_on_read" for case, _ in ways])
    right.set_title(f"Seconds to read all after {STREAK} loads", fontsize=11)
    right.legend(frameon=False)
    for axes in (left, middle, right):
        axes.spines[["top", "right"]].set_visible(False)
        axes.set_ylim(bottom=0)
    figure.savefig(DOCS / "lakehouse.png", dpi=100)


if __name__ == "__main__":
    main()
