"""What loads cost in an earlier state of Brenvik, in this one, and by hand; written to docs/benchmarks/states.md.

    states.py --before CHECKOUT [--times N] [CASE ...]

Every measurement is a process of its own on a fresh copy; the ways of a case take turns, and the table has medians. By hand
is SQL that also appends the changes to a log and, in small loads, records the run.
"""

from __future__ import annotations

import argparse
import json
import os
import statistics
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa

import brenvik
import commands
import history
import large
import servers
import small
import warehouse
from places import BEFORE, BUILD, HAND, NOW, ROOT, surroundings


@dataclass(frozen=True)
class Case:
    """``once`` is called with a way in a process of its own, ``bring`` before each in the process that compares."""

    title: str
    goal: str
    once: Callable[[str], float]
    bring: Callable[[], None] = lambda: None
    ways: tuple[str, ...] = (HAND, BEFORE, NOW)
    least: int = 0
    """How often it is measured at the least."""


def in_postgres(title: str, goal: str, *, type_1: bool = False, keep: bool = False, late: float = 0.0) -> Case:
    case = warehouse.Case(type_1, keep, large.PG_ROWS, large.PG_SIZE, late)
    return Case(title, goal, partial(large.in_postgres, case), partial(large.bring_database, case))


def thousand(rows: int, late: bool) -> Case:
    title = f"1,000 {'late ' if late else ''}changes into {rows:,} rows, DuckDB"
    return Case(title, "–", partial(large.thousand, rows, late), partial(large.bring_history, rows, True))


def in_lake(rows: int, size: int) -> Case:
    title = f"lakehouse: {size:,} changes into {rows:,} rows"
    return Case(title, "as before", partial(large.in_lake, rows, size), partial(large.bring_lake, rows), WITHOUT_HAND)


def started(words: str, title: str) -> Case:
    return Case(
        f"{title}, beside `import duckdb`", "+0.25 s", partial(commands.started, words), commands.bring_demo, least=9
    )


WITHOUT_HAND = (BEFORE, NOW)
ROWS = large.ROWS
SMALL = partial(large.bring_history, small.ROWS, True)
SMALL_PG = partial(large.bring_database, warehouse.Case(False, True, small.ROWS, 1_000))
SEVERAL_PG = partial(large.bring_database, warehouse.Case(False, True, large.PG_ROWS, large.PG_SIZE))
CASES: dict[str, Case] = {
    "small-10": Case(f"10 rows into {small.ROWS:,}, warm, DuckDB", "1.6", partial(small.in_duckdb, 10), SMALL, least=5),
    "small-1000": Case("1,000 rows, the same", "1.4", partial(small.in_duckdb, 1_000), SMALL, least=5),
    "small-10-postgres": Case("10 rows, the same, PostgreSQL", "1.5", partial(small.in_postgres, 10), SMALL_PG, least=5),
    "small-1000-postgres": Case("1,000 rows, the same", "1.3", partial(small.in_postgres, 1_000), SMALL_PG, least=5),
    "tables": Case(
        f"`load` of {commands.TABLES} tables of 10 rows, start included", "2.0", commands.many_tables, commands.bring_many
    ),
    "start-load": started("load", "`brenvik load`, nothing new"),
    "start-status": started("status", "`brenvik status`"),
    "start-history": started("history buoy NB-104", "`brenvik history`"),
    "large-plain": Case(
        f"1,000,000 changes into {ROWS:,} rows, DuckDB, no log", "1.0",
        partial(large.in_duckdb, 1_000_000, False), partial(large.bring_history, ROWS, False),
    ),
    "large-log": Case(
        "the same, with a log", "0.95", partial(large.in_duckdb, 1_000_000, True), partial(large.bring_history, ROWS, True)
    ),
    "postgres-type-2": in_postgres("PostgreSQL, 200,000 into 2,000,000: type 2, no log", "0.75"),
    "postgres-type-1": in_postgres("the same, type 1", "0.9", type_1=True),
    "postgres-log": in_postgres("the same, type 2, with a log", "0.9", keep=True),
    "postgres-late": in_postgres("the same, 5 % late", "1.0", keep=True, late=0.05),
    "several": Case(
        f"3 changes a key, 5 % late, 1,000,000 into {ROWS:,}, DuckDB", "1.2",
        large.with_several, partial(large.bring_history, ROWS, True),
    ),
    "several-postgres": Case(
        "3 changes a key, 5 % late, 200,000 into 2,000,000, PostgreSQL", "1.2", large.several_in_postgres, SEVERAL_PG
    ),
    "extract": Case(
        "full extract of 1,000,000 rows, 1,000 differ", "1.1", large.extract, large.bring_extract, least=5
    ),
    **{f"thousand-{'late-' if late else ''}{rows}": thousand(rows, late) for late in (False, True) for rows in (100_000, ROWS)},
    "lake-100000": in_lake(ROWS, 100_000),
    "lake-1000": in_lake(ROWS, 1_000),
    "lake-1000-small": in_lake(ROWS // 10, 1_000),
}  # fmt: skip


def once(name: str, how: str) -> float:
    CASES[name].bring()
    if name.startswith(("start", "tables")):
        return CASES[name].once(how)
    done = subprocess.run(
        [sys.executable, __file__, "--once", name, how],
        check=True,
        capture_output=True,
        text=True,
        env=surroundings(how),
    )
    return float(json.loads(done.stdout))


def measure(name: str, times: int) -> dict[str, float]:
    """The median seconds of each way, after a round that is not counted."""
    case = CASES[name]
    found: dict[str, list[float]] = {how: [] for how in case.ways}
    for turn in range(max(times, case.least) + 1):
        for how, spent in found.items():
            seconds = once(name, how)
            spent += [seconds] if turn else []
    return {how: statistics.median(spent) for how, spent in found.items()}


def row(name: str, found: dict[str, float]) -> str:
    case, shown = CASES[name], {how: f"{seconds:.3f} s" for how, seconds in found.items()}
    if name.startswith("start"):
        ratios = [f"+{found[how] - found[HAND]:.2f} s" for how in (BEFORE, NOW)]
    elif HAND in found:
        ratios = [f"{found[how] / found[HAND]:.2f}" for how in (BEFORE, NOW)]
    else:
        ratios = ["–", f"{found[NOW] / found[BEFORE]:.2f} of before"]
    times = " | ".join(shown.get(how, "–") for how in (HAND, BEFORE, NOW))
    return f"| {case.title} | {times} | {ratios[0]} | **{ratios[1]}** | {case.goal} |"


@contextmanager
def server() -> Iterator[None]:
    with servers.server(BUILD / "postgres", huge_pages=servers.has_huge_pages()) as url:
        os.environ["BENCH_SERVER"] = url
        yield


def main() -> None:
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("cases", nargs="*", metavar="CASE", help=f"some of {', '.join(CASES)}; by default all")
    words.add_argument("--before", type=Path, help="a checkout of an earlier state")
    words.add_argument("--times", type=int, default=3)
    words.add_argument("--once", nargs=2, metavar=("CASE", "WAY"), help=argparse.SUPPRESS)
    said = words.parse_args()
    if said.once:
        name, how = said.once
        print(json.dumps(CASES[name].once(how)))
        return
    if not said.before:
        words.error("expected --before CHECKOUT")
    os.environ["BENCH_BEFORE"] = str(said.before.resolve())
    BUILD.mkdir(parents=True, exist_ok=True)
    names = said.cases or list(CASES)
    results = BUILD / "results.json"
    found: dict[str, Any] = json.loads(results.read_text()) if results.exists() else {}
    with ExitStack() as stack:
        if any("postgres" in name for name in names):
            stack.enter_context(server())
        for name in names:
            found[name] = measure(name, said.times)
            results.write_text(json.dumps(found))
            print(row(name, found[name]), flush=True)
    if set(found) == set(CASES):
        write({name: found[name] for name in CASES})


def write(found: dict[str, dict[str, float]]) -> None:
    lines = "\n".join(row(name, seconds) for name, seconds in found.items())
    growth = [
        f"{found[f'thousand-{late}{ROWS}'][how] / found[f'thousand-{late}100000'][how]:.1f}"
        for late in ("", "late-")
        for how in (NOW, HAND)
    ]
    lake = found["lake-1000"][NOW] / found["lake-1000-small"][NOW]
    (ROOT / "docs" / "benchmarks" / "states.md").write_text(
        f"""# Before, now and by hand

What loads cost before the change that made row changes values (commit ea89eba), now, and by hand: each in a process of its own
on a fresh copy, the three of a case in turns, medians. Compare ratios; the seconds are those of this machine, which was slower at
times. Small loads are medians of {small.LOADS} one after the other in a process that is warm. By hand is the best SQL that
we could write; it also appends the changes to a log and records the run (`benchmarks/states.py`, `by_hand.py`, `several.py`).

| | by hand | before | now | before / hand | now / hand | goal |
|:--|---:|---:|---:|---:|---:|---:|
{lines}

1,000 changes into 10,000,000 rows take {growth[0]} times as long as into 100,000 (goal 4), by hand {growth[1]} times; 1,000 late
ones {growth[2]} times (goal 4), by hand {growth[3]} times. In a lakehouse a load into ten times as many rows takes {lake:.2f}
times as long.

{history.machine()} ·
Brenvik {brenvik.__version__} · DuckDB {duckdb.__version__} · pyarrow {pa.__version__}
""",
        encoding="utf-8",
    )


if __name__ == "__main__":
    main()
