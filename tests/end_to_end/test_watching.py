"""What a person on call, a scheduler and a monitor see: status, repeated loads, log records."""

from __future__ import annotations

import json
import signal
import subprocess
import time
from pathlib import Path
from typing import Any

import duckdb
import pytest
from cli import BRENVIK
from cli import brenvik as call

from brenvik.demo import scenario


@pytest.fixture
def coast(tmp_path: Path) -> Path:
    (tmp_path / "inbox").mkdir()
    declare(tmp_path)
    scenario.write_day("buoy_01.csv", tmp_path / "inbox")
    scenario.write_visits(1, tmp_path)
    return tmp_path


def declare(folder: Path, **more: str) -> None:
    text = scenario.PROJECT + scenario.VISITS
    for table, line in more.items():
        text = text.replace(f"[table.{table}]\n", f"[table.{table}]\n{line}\n")
    (folder / "brenvik.toml").write_text(text)


def status(folder: Path) -> tuple[int, dict[str, Any]]:
    said = call("status", "--json", cwd=folder)
    return said.code, {each["table"]: each for each in said.json["tables"]}


def test_status_says_how_each_table_is(coast: Path) -> None:
    code, found = status(coast)
    assert (code, found["buoy"]["last_run"], found["buoy"]["waiting"]) == (0, None, {"files": 1})
    call("load", cwd=coast)
    scenario.write_visits(2, coast)
    scenario.write_day("buoy_02.csv", coast / "inbox")
    call("load", "buoy", cwd=coast)
    code, found = status(coast)
    buoy, visit = found["buoy"], found["visit"]
    assert (code, buoy["last_run"], buoy["open_rejects"], buoy["protected"], buoy["is_ok"]) == (4, 3, 3, 1, False)
    assert (visit["last_run"], visit["waiting"], visit["is_ok"]) == (2, {"rows": 3}, True)
    assert visit["behind_s"] > 0
    said = call("status", cwd=coast)
    assert "1 OK, 1 needs attention    see: brenvik rejects    exit 4" in said.out


def test_an_overdue_table_ends_with_4(coast: Path) -> None:
    declare(coast, visit='expected_every = "1s"', buoy='expected_every = "26 hours"')
    assert status(coast)[0] == 4
    call("load", cwd=coast)
    time.sleep(1.1)
    code, found = status(coast)
    assert (code, found["visit"]["overdue"], found["buoy"]["overdue"]) == (4, True, False)
    said = call("status", cwd=coast)
    assert "visit  overdue: a successful run is expected every" in said.out


def test_failures_since_the_last_good_run_are_counted_and_attention_comes_before_a_source_that_is_down(
    coast: Path,
) -> None:
    call("load", cwd=coast)
    (coast / "registry.db").rename(coast / "away.db")
    for _ in range(2):
        assert call("load", cwd=coast).code == 5
    code, found = status(coast)
    assert (code, found["visit"]["since"], found["visit"]["last_run"]) == (
        4,
        {"failed": 2, "blocked": 0, "crashed": 0},
        2,
    )
    assert "the file does not exist" in found["visit"]["errors"][0]
    (coast / "away.db").rename(coast / "registry.db")
    call("load", cwd=coast)
    assert status(coast)[1]["visit"]["since"]["failed"] == 0


def test_the_views_of_the_ledger_are_there_for_monitors(coast: Path) -> None:
    call("load", cwd=coast)
    with duckdb.connect(str(coast / "coast.duckdb"), read_only=True) as scratch:
        feeds = scratch.sql(
            "SELECT table_name, feed, loaded_up_to, run FROM brenvik.feed_progress ORDER BY 1"
        ).fetchall()
        tables = scratch.sql(
            "SELECT table_name, last_done_run, failed_since FROM brenvik.table_status ORDER BY 1"
        ).fetchall()
    assert feeds == [("buoy", "registry", "inbox/buoy_01.csv", 1), ("visit", "service", "2024-05-13 21:17:00", 2)]
    assert tables == [("buoy", 1, 0), ("visit", 2, 0)]


def test_loads_repeat_until_a_signal_and_back_off_while_a_source_is_down(coast: Path) -> None:
    (coast / "registry.db").rename(coast / "away.db")
    with subprocess.Popen(
        [BRENVIK, "load", "--every", "1s", "--json"],
        cwd=coast,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    ) as process:
        assert process.stdout is not None
        rounds = [json.loads(process.stdout.readline()) for _ in range(2)]
        assert [o["state"] for o in rounds[0]["outcomes"]] == ["done", "failed"]
        assert [each["every_s"] for each in rounds] == [2, 4]
        (coast / "away.db").rename(coast / "registry.db")
        healed = json.loads(process.stdout.readline())
        assert [o["state"] for o in healed["outcomes"]] == ["nothing new", "done"]
        assert healed["every_s"] == 1
        process.send_signal(signal.SIGTERM)
        rest = [json.loads(line) for line in process.stdout.read().splitlines()]
        assert process.wait(30) == 0
    assert all(o["state"] in {"done", "nothing new"} for each in rest for o in each["outcomes"])
    runs = call("runs", "--json", cwd=coast).json["runs"]
    assert {run["state"] for run in runs} == {"done", "failed"}


@pytest.mark.parametrize(
    "words", [["--every", "often"], ["--every", "5"], ["--every", "0s"], ["--every", "1s", "--from-start"]]
)
def test_a_repetition_that_cannot_be_is_told(coast: Path, words: list[str]) -> None:
    said = call("load", *words, cwd=coast)
    assert (said.code, "--every" in said.err) == (2, True)


def test_log_records_carry_run_table_and_feed(coast: Path) -> None:
    said = call("load", "--log", "json", "--label", "night-17", cwd=coast)
    records = [json.loads(line) for line in said.err.splitlines()]
    assert [(r["run"], r["table"], r["feed"], r["level"], r["message"].split(":")[0]) for r in records] == [
        (1, "buoy", "registry", "info", "started"),
        (1, "buoy", "registry", "info", "done"),
        (2, "visit", "service", "info", "started"),
        (2, "visit", "service", "info", "done"),
    ]
    assert records[1]["counts"]["inserted"] == 12
    assert {run["label"] for run in call("runs", "--json", cwd=coast).json["runs"]} == {"night-17"}
    (coast / "registry.db").unlink()
    text = call("load", "visit", "--log", "text", cwd=coast).err
    assert "error run=3 table=visit feed=service  failed: sqlite:///" in text
    assert "\x1b" not in text
