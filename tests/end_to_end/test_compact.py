"""The files of a lakehouse, as a person sees them: what each run wrote, and how they are put in order."""

from __future__ import annotations

from pathlib import Path

import pytest
from cli import brenvik as call

from brenvik.demo import scenario
from brenvik.demo.tour import in_store


@pytest.fixture
def coast(tmp_path: Path) -> Path:
    (tmp_path / "inbox").mkdir()
    (tmp_path / "brenvik.toml").write_text(in_store(scenario.PROJECT, "lakehouse:lake"))
    for name in ("buoy_01.csv", "buoy_02.csv"):
        scenario.write_day(name, tmp_path / "inbox")
        assert call("load", cwd=tmp_path).code in {0, 3}
    return tmp_path


def test_each_run_tells_what_it_wrote(coast: Path) -> None:
    shown = call("runs", cwd=coast).out
    assert " wrote\n" in shown
    assert " kB\n" in shown
    second, first = call("runs", "--json", cwd=coast).json["runs"]
    assert (first["files"], first["rows_deleted_in_files"]) == (2, 0)
    assert (second["files"], second["rows_deleted_in_files"]) == (4, second["rows_updated"])
    written = [path for kind in ("main/buoy", "brenvik/change_log_buoy") for path in coast.glob(f"lake/{kind}/data/*")]
    assert first["bytes"] + second["bytes"] == sum(path.stat().st_size for path in written)
    told = call("runs", "2", cwd=coast).out
    written_then = f"{second['bytes'] / 1000:.0f} kB"
    assert second["bytes"] >= 10_000
    assert f"\n  wrote      4 files, {written_then}, {second['rows_updated']} rows deleted by position\n" in told


def test_files_are_put_in_order_and_answers_stay_the_same(coast: Path) -> None:
    questions = (("history", "buoy", "NB-102"), ("as-of", "buoy", "2024-05-14 12:00"), ("rejects",))
    before = [call(*words, "--json", cwd=coast).json for words in questions]
    said = call("compact", "--keep", "0 minutes", cwd=coast)
    assert (said.code, said.err) == (0, "")
    assert "buoy 3 → 2 4 → 0 2 → 1" in " ".join(said.out.split())
    assert "The rows of the tables are unchanged." in said.out
    assert [call(*words, "--json", cwd=coast).json for words in questions] == before
    again = call("compact", "buoy", "--json", cwd=coast).json["compacted"]
    assert [(each["table"], each["files"]) for each in again] == [
        ("buoy", [2, 2]), ("brenvik.change_log_buoy", [1, 1]), ("brenvik.ledger", [1, 1]),
    ]  # fmt: skip


def test_what_cannot_be_put_in_order_is_told(coast: Path) -> None:
    wrong = call("compact", "--keep", "forever", cwd=coast)
    assert (wrong.code, "expected a period" in wrong.err) == (2, True)
    assert call("compact", "lighthouse", cwd=coast).code == 2
    (coast / "brenvik.toml").write_text(scenario.PROJECT)
    said = call("compact", cwd=coast)
    assert (said.code, "manages its own storage" in said.out) == (0, True)
