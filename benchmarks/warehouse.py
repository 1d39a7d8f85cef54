"""``make bench``: loads into PostgreSQL beside the best SQL by hand on the same server, written to docs/benchmarks/postgres.md.

All loads take turns, each on a fresh copy of its database, in this process; the first of each is not counted.
"""

from __future__ import annotations

import argparse
import statistics
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import matplotlib
import psycopg
import pyarrow as pa

import brenvik
import by_hand_postgres
import history
import servers
from by_hand import ATTRIBUTES

ROOT = Path(__file__).resolve().parents[1]
BUILD = ROOT / "build" / "bench"
DOCS = ROOT / "docs" / "benchmarks"
BOTH = ("update and insert", "merge and insert")
BATCH = 10_000


@dataclass(frozen=True)
class Case:
    """A batch of ``size`` changes into a table of ``rows`` rows; ``late`` is the share of changes that come late."""

    type_1: bool
    keep: bool
    rows: int
    size: int
    late: float = 0.0
    goal: str = "–"

    @property
    def base(self) -> str:
        return f"bench_{'type_1' if self.type_1 else 'type_2'}_{'kept' if self.keep else 'plain'}_{self.rows}"

    @property
    def rules(self) -> brenvik.TableRules:
        values: dict[str, Any] = {"type_1": ATTRIBUTES} if self.type_1 else {"type_2": ATTRIBUTES}
        return brenvik.TableRules(
            "buoy",
            natural_key="buoy_no",
            order_by="changed_at",
            change_log=self.keep,
            other_columns="type_1",
            **values,
        )

    def batch(self) -> pa.Table:
        made = history.batch(self.rows * 5 // 4 if self.type_1 else self.rows, self.size)
        return history.with_late(made, self.late) if self.late else made

    @property
    def rivals(self) -> tuple[str, ...]:
        return ("merge",) if self.type_1 else BOTH


def cases(rows: int) -> list[Case]:
    whole = rows // 10
    return [
        *(
            Case(False, False, rows, size, goal="0.95" if size == whole else "–")
            for size in (rows // 1000, rows // 100, whole)
        ),
        *(
            Case(True, False, rows, size, goal="1.0" if size == whole else "–")
            for size in (rows // 1000, rows // 100, whole)
        ),
        *(
            Case(False, True, rows, size, goal="1.1" if size == whole else "–")
            for size in (rows // 1000, rows // 100, whole)
        ),
        Case(False, True, rows, rows // 100, late=0.05),
        Case(False, True, rows, whole, late=0.05),
    ]


def growth() -> list[Case]:
    """The same batch into tables of which it is 10 %, 1 % and 0.1 %."""
    return [Case(False, keep, BATCH * times, BATCH) for keep in (False, True) for times in (10, 100, 1000)]


def make(url: str, case: Case) -> None:
    """A database with a table that Brenvik loaded; kept from one bench to the next."""
    with psycopg.connect(url, autocommit=True) as connection:
        if connection.execute("SELECT 1 FROM pg_database WHERE datname = %s", [case.base]).fetchone():
            return
        print(f"making {case.base}", flush=True)
        connection.execute(b"DROP DATABASE IF EXISTS making WITH (FORCE)")
        connection.execute(b"CREATE DATABASE making")
    place, keys = servers.database(url, "making"), case.rows if case.type_1 else case.rows * 4 // 5
    with brenvik.open_store(place) as store:
        history.fill(store, case.rules, rows=case.rows, keys=keys)
    with psycopg.connect(place, autocommit=True) as connection:
        connection.execute(by_hand_postgres.RAW.encode())
        connection.execute(b"VACUUM ANALYZE")
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(f'ALTER DATABASE making RENAME TO "{case.base}"'.encode())


Found = list[tuple[Case, dict[str, float]]]


def measure(url: str, of: list[Case], times: int) -> Found:
    """Medians of seconds, of Brenvik and its rivals; all cases and ways take turns."""
    batches = {case: case.batch() for case in of}
    found: dict[Case, dict[str, list[float]]] = {case: {how: [] for how in ("brenvik", *case.rivals)} for case in of}
    added: dict[Case, set[int]] = {case: set() for case in of}
    for case in of:
        make(url, case)
    for turn in range(times + 1):
        for case, ways in found.items():
            for how, all_seconds in ways.items():
                place = servers.copy(url, "copy", case.base)
                ours = how == "brenvik"
                seconds, rows = (
                    load(place, case, batches[case]) if ours else load_by_hand(place, case, batches[case], how)
                )
                print(f"{turn}/{times}  {case.base}, {case.size:,} changes, {how}: {seconds:.3f} s", flush=True)
                added[case].add(rows)
                if turn:
                    all_seconds.append(seconds)
    for case, rows_added in added.items():
        if len(rows_added) != 1 and not case.late:  # by hand, late changes are believed to be new
            raise SystemExit(f"the ways add different numbers of rows to {case.base}: {rows_added}")
    return [(case, {how: statistics.median(each) for how, each in ways.items()}) for case, ways in found.items()]


def load(place: str, case: Case, changes: pa.Table) -> tuple[float, int]:
    with brenvik.open_store(place) as store:
        begin = time.perf_counter()
        outcome = store.load(case.rules, changes, kind="upserts")
        return time.perf_counter() - begin, outcome.counts["rows_added"]


def load_by_hand(place: str, case: Case, changes: pa.Table, how: str) -> tuple[float, int]:
    with psycopg.connect(place) as connection:
        begin = time.perf_counter()
        rows = by_hand_postgres.load(connection, changes, how, keep=case.keep)
        connection.commit()
        return time.perf_counter() - begin, rows


def main() -> None:
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("--rows", type=int, default=2_000_000)
    words.add_argument("--times", type=int, default=3)
    words.add_argument("--growth-times", type=int, default=5)
    said = words.parse_args()
    BUILD.mkdir(parents=True, exist_ok=True)
    ways = (True, False) if servers.has_huge_pages() else (False,)
    if len(ways) == 1:
        print(f"No huge pages are set aside; with them: sysctl vm.nr_hugepages={servers.HUGE_PAGES}", flush=True)
    found: Found = []
    grown: dict[bool, Found] = {}
    for huge_pages in ways:
        with servers.server(BUILD / "postgres", huge_pages=huge_pages) as url:
            with psycopg.connect(url) as connection:
                version = connection.execute("SHOW server_version").fetchall()[0][0]
            found = found or measure(url, cases(said.rows), said.times)
            grown[huge_pages] = measure(url, growth(), said.growth_times)
    write(found, grown, (said.times, said.growth_times), version)
    draw(found, grown[ways[0]])


def by_hand(medians: dict[str, float]) -> tuple[str, float]:
    """The best way by hand, and its seconds."""
    return min(((how, s) for how, s in medians.items() if how != "brenvik"), key=lambda each: each[1])


def write(found: Found, grown: dict[bool, Found], times: tuple[int, int], version: str) -> None:
    lines = []
    for case, medians in found:
        ours = medians["brenvik"]
        how, best = by_hand(medians)
        ratio = f"{ours / best:.2f}"
        lines.append(
            f"| {'1' if case.type_1 else '2'} | {'yes' if case.keep else 'no'} | {case.size:,} | {case.late:.0%} | "
            f"{how} {best:.2f} s | {ours:.2f} s | **{ratio}** | {case.goal} |"
        )
    growth_lines = []
    for huge_pages, grew in grown.items():
        for (case, medians), (before, medians_before) in zip(grew, [grew[0], *grew], strict=False):
            seconds, (_, best) = medians["brenvik"], by_hand(medians)
            more = by_hand_more = "–"
            if before.keep == case.keep and before.rows < case.rows:
                more = f"**{seconds / medians_before['brenvik']:.2f}**"
                by_hand_more = f"{best / by_hand(medians_before)[1]:.2f}"
            growth_lines.append(
                f"| {'yes' if huge_pages else 'no'} | {'yes' if case.keep else 'no'} | {case.rows:,} | {best:.3f} s | "
                f"{by_hand_more} | {seconds:.3f} s | {more} |"
            )
    rows = found[0][0].rows
    settings = ", ".join(f"{name} = {value}" for name, value in servers.SETTINGS.items())
    text = f"""# Benchmarks on PostgreSQL

Upserts into a table of {rows:,} rows with 8 attributes: a fifth new keys, two fifths unchanged, two fifths changed, each key
once; in memory as an Arrow table. Type 2 is a history, type 1 one row per key. Medians of {times[0]} after one uncounted round,
all in turns, each on a fresh copy of its database whose tables were read into memory. Time is from the
Arrow table to the end of the commit. Compare ratios: the seconds are those of this machine.

It is compared with the better of two scripts by hand (`benchmarks/by_hand_postgres.py`, which says what they do not
guarantee): an UPDATE and an INSERT, and MERGE. With a change log, the SQL by hand also appends the raw changes to a table.
Late changes corrupt the history of the SQL by hand; its time is given all the same.

| type | change log | changes | late | by hand | Brenvik | ratio | goal |
|:--|:--|---:|---:|---:|---:|---:|---:|
{chr(10).join(lines)}

What {BATCH:,} changes in order cost as a history grows: medians of {times[1]}, right after a checkpoint and on a new
connection. In a larger table the same keys are on more pages of the table and its indexes. The first change to a page
after a checkpoint writes the whole page to the server's write-ahead log; and without huge pages, each page that a new
connection touches is mapped separately. PostgreSQL recommends huge pages for shared memory of this size; the system must
reserve them (`vm.nr_hugepages`). The table above was measured {"with" if True in grown else "without"} them. In
smaller tables the batch is a larger share: from 50,000 to 500,000 rows, measured once with huge pages, the time grew by
1.33, and with a change log by 1.37.

| huge pages | change log | rows of the table | by hand | × the row above | Brenvik | × the row above (goal 1.3) |
|:--|:--|---:|---:|---:|---:|---:|
{chr(10).join(growth_lines)}

![Seconds of Brenvik beside the best SQL by hand, and as the table grows](postgres.png)

{history.machine()} ·
Brenvik {brenvik.__version__} · PostgreSQL {version} ({settings}) ·
psycopg {psycopg.__version__} · pyarrow {pa.__version__}
"""
    DOCS.mkdir(parents=True, exist_ok=True)
    (DOCS / "postgres.md").write_text(text, encoding="utf-8")


def draw(found: Found, grown: Found) -> None:
    matplotlib.use("Agg")
    from matplotlib import pyplot

    figure, (left, right) = pyplot.subplots(1, 2, figsize=(12.8, 5.6), width_ratios=(3, 2), layout="constrained")
    names = [
        "\n".join(
            [
                f"{case.size:,}",
                f"type {1 if case.type_1 else 2}",
                *(["kept"] if case.keep else []),
                *(["5 % late"] if case.late else []),
            ]
        )
        for case, _ in found
    ]
    ratios = [medians["brenvik"] / by_hand(medians)[1] for _, medians in found]
    bars = left.bar(range(len(found)), ratios, color=["#4c78a8" if not case.late else "#9ecae9" for case, _ in found])
    left.bar_label(bars, fmt="%.2f", fontsize=8)
    left.axhline(1, color="#888888", linewidth=1)
    left.set_xticks(range(len(found)), names, fontsize=7)
    left.set_ylabel("time of Brenvik / best SQL by hand")
    left.set_title("Beside SQL by hand, batches of 0.1 %, 1 % and 10 %", fontsize=11)
    for keep, marker, colour in ((False, "o", "#4c78a8"), (True, "s", "#e45756")):
        label = "changes kept" if keep else "changes not kept"
        of = [(case.rows, medians) for case, medians in grown if case.keep == keep]
        sizes = [rows for rows, _ in of]
        right.plot(sizes, [medians["brenvik"] for _, medians in of], marker=marker, color=colour, label=label)
        hand = [by_hand(medians)[1] for _, medians in of]
        right.plot(sizes, hand, ":", marker=marker, color=colour, alpha=0.5, label=f"{label}, by hand")
    right.set_xscale("log")
    right.set_ylim(bottom=0)
    right.set_xlabel("rows of the table")
    right.set_ylabel("seconds")
    right.set_title(f"{BATCH:,} changes as the table grows", fontsize=11)
    right.legend(frameon=False)
    for axes in (left, right):
        axes.spines[["top", "right"]].set_visible(False)
    figure.savefig(DOCS / "postgres.png", dpi=100)


if __name__ == "__main__":
    main()
