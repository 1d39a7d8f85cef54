"""Law 5 against SIGKILL: whenever a load dies, the store is as before or as after, and the next load completes it."""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import time
from collections import Counter
from pathlib import Path

import pyarrow as pa
import pytest
from cli import BRENVIK

import brenvik
from brenvik.demo import scenario

KILLS = int(os.environ.get("KILLS") or (100 if os.environ.get("CI") else 25))
ROWS = 20_000


@pytest.fixture(scope="module")
def waiting(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A project with its first file loaded and its second, full of late changes and deletes, waiting."""
    folder = tmp_path_factory.mktemp("coast")
    (folder / "inbox").mkdir()
    (folder / "brenvik.toml").write_text(scenario.PROJECT.replace("*.csv", "*.parquet"))
    _, second = scenario.write_at_scale(folder / "inbox", ROWS)
    second.rename(folder / "later")
    assert load(folder).state == "done"
    (folder / "later").rename(second)
    return folder


def load(folder: Path) -> brenvik.Outcome:
    (outcome,) = brenvik.read_project(folder / "brenvik.toml").load()
    return outcome


def found(folder: Path) -> tuple[pa.Table, list[str], int]:
    """The table without runs, stamps and surrogate keys; the states of the runs; how many files were taken."""
    project = brenvik.read_project(folder / "brenvik.toml")
    rules = project.table("buoy").rules
    with project.open() as store:
        table = store.read(rules)
        own = [name for name in table.column_names if name.endswith(("_run", "_loaded_at", "_key"))]
        states = store.ledger.runs()["state"].to_pylist()
        return table.drop_columns(own), states, len(store.ledger.taken_files("buoy", "registry"))


def test_a_killed_load_leaves_before_or_after_and_the_next_completes_it(waiting: Path, tmp_path: Path) -> None:
    before, _, _ = found(waiting)
    whole = tmp_path / "whole"
    shutil.copytree(waiting, whole)
    subprocess.run([BRENVIK, "preview"], cwd=whole, check=True, capture_output=True)  # warms the disk's cache
    begin = time.monotonic()
    subprocess.run([BRENVIK, "load", "--accept-rejects"], cwd=whole, check=True, capture_output=True)
    duration = time.monotonic() - begin
    after, _, _ = found(whole)
    assert not before.equals(after)

    dice = random.Random(KILLS)
    seen: Counter[str] = Counter()
    for number in range(KILLS):
        folder = tmp_path / f"kill {number}"
        shutil.copytree(waiting, folder)
        with subprocess.Popen(
            [BRENVIK, "load"], cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        ) as loading:
            time.sleep(dice.uniform(0.2, 1.0) * duration)
            loading.send_signal(signal.SIGKILL)
        table, states, taken = found(folder)
        if states[0] == "done" and len(states) == 2:
            assert table.equals(after)
            assert taken == 2
            seen["after the commit"] += 1
            duration *= 0.96  # machines are not equally fast all the time: aim at the run itself
        else:
            assert table.equals(before)
            assert taken == 1
            assert states in (["done"], ["running", "done"])
            during = states[0] == "running"
            seen["during the run" if during else "before the run"] += 1
            duration *= 1.0 if during else 1.04
        completed = load(folder)
        table, now, taken = found(folder)
        assert table.equals(after)
        assert taken == 2
        assert now == {1: ["done", "done"], 2: ["done", "lost", "done"]}[1 + (states[0] == "running")]
        assert completed.state == ("nothing new" if states == ["done", "done"] else "done")
        shutil.rmtree(folder)
    print(f"\n{KILLS} kills: " + ", ".join(f"{count} {when}" for when, count in seen.items()))
    assert seen["during the run"] > KILLS // 10
