"""What a load, a status, the list of runs and the revert of an early run cost once a ledger holds many runs, as ratios to
what they cost with few.

    python benchmarks/many_runs.py [RUNS] [STORE ...]
"""

from __future__ import annotations

import statistics
import sys
import time
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory

import pyarrow as pa

import brenvik

FEW, TIMES = 30, 10  # even: the last revert is put back
RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at")


def batch(number: int) -> pa.Table:
    """Ten rows of keys that no other batch has."""
    return pa.table(
        {
            "code": [f"NB-{number}-{place}" for place in range(10)],
            "at": [number] * 10,
            "light": [f"Fl({number})"] * 10,
        }
    )


def median(do: Callable[[int], object]) -> float:
    spent = []
    for number in range(TIMES):
        began = time.perf_counter()
        do(number)
        spent.append(time.perf_counter() - began)
    return statistics.median(spent)


def costs(store: brenvik.Store, runs: int) -> dict[str, float]:
    """The seconds that each takes with so many runs."""
    return {
        "load": median(lambda number: store.load(RULES, batch(runs + number), kind="upserts")),
        "status": median(lambda _: (store.ledger.status(), store.ledger.progress())),
        "runs": median(lambda _: store.ledger.runs(last=20)),
        "revert": median(lambda number: store.revert(RULES, 3, undo=number % 2 == 1)),
    }


def main(most: int, kinds: list[str]) -> None:
    for kind in kinds:
        with TemporaryDirectory() as folder, brenvik.open_store(f"{kind}:{Path(folder) / f'coast.{kind}'}") as store:
            found = {}
            done = 0
            for runs in (FEW, most):
                for number in range(done, runs):
                    store.load(RULES, batch(number), kind="upserts", explain=False)
                found[runs] = costs(store, 10 * most + runs)
                done = runs
            few, many = found[FEW], found[most]
            told = ", ".join(
                f"{name} {1000 * few[name]:.0f} → {1000 * seconds:.0f} ms ({seconds / few[name]:.2f})"
                for name, seconds in many.items()
            )
            print(f"{kind}: {FEW} → {most} runs: {told}", flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 3000, sys.argv[2:] or ["duckdb", "sqlite", "lakehouse"])
