"""A change log with a period, as it is seen from the command line."""

from __future__ import annotations

from pathlib import Path

import pytest
from cli import brenvik as call

PROJECT = """
store = "duckdb:coast.duckdb"

[table.lamp]
natural_key = "buoy_code"
order_by = "sent_at"
type_1 = "volts"
types = { sent_at = "date" }
feed.stations = { kind = "upserts", files = "inbox/lamp_*.csv" }

[table.mast]
natural_key = "mast"
feed.stations = { kind = "upserts", files = "inbox/mast_*.csv" }
"""
PERIOD = 'type_1 = "volts"\nchange_log = "30 days"'


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "inbox").mkdir()
    (tmp_path / "brenvik.toml").write_text(PROJECT, encoding="utf-8")
    send(tmp_path, "lamp_1.csv", *(f"NB-1,2024-05-0{day},{day},lit" for day in range(1, 7)))
    assert call("load", "lamp", cwd=tmp_path).code == 0
    return tmp_path


def send(folder: Path, name: str, *rows: str) -> None:
    (folder / "inbox" / name).write_text("\n".join(["buoy_code,sent_at,volts,state", *rows, ""]), encoding="utf-8")


def declare(folder: Path, old: str, new: str) -> None:
    file = folder / "brenvik.toml"
    text = file.read_text(encoding="utf-8")
    assert old in text
    file.write_text(text.replace(old, new), encoding="utf-8")


def test_check_says_what_a_period_means(folder: Path) -> None:
    declare(folder, 'type_1 = "volts"', PERIOD)
    noted = call("check", "lamp", cwd=folder)
    assert noted.code == 0
    assert "From the next load on, changes older than 30 days become base states in the change log." in noted.out
    send(folder, "lamp_2.csv", "NB-1,2024-05-08,8,lit")
    assert call("load", "lamp", cwd=folder).code == 0
    assert "From the next load on" not in call("check", "lamp", cwd=folder).out
    declare(folder, PERIOD, 'type_1 = "volts"')
    assert "From the next load on, all changes stay in the change log." in call("check", "lamp", cwd=folder).out


def test_without_names_the_tables_with_a_period_are_meant(folder: Path) -> None:
    assert "No table has a period" in call("trim", cwd=folder).out
    declare(folder, 'type_1 = "volts"', PERIOD)
    assert "lamp     2  nothing is old enough" in call("trim", cwd=folder).out
    assert call("trim", "mast", cwd=folder).code == 2


def test_what_was_trimmed_and_how_far_the_log_reaches(folder: Path) -> None:
    words = ("trim", "lamp", "--keep", "0 days")
    seen = call(*words, "--preview", "--json", cwd=folder).json
    assert (seen["outcomes"][0]["counts"]["changes_trimmed"], seen["outcomes"][0]["run"]) == (5, None)
    done = call(*words, "--reason", "the disk is small", cwd=folder)
    assert done.out.endswith("lamp     2  5 changes of 1 key into 2 base states\n")
    status = call("status", "lamp", cwd=folder)
    assert "runs up to 1 can no longer be reverted" in status.out
    (told,) = call("status", "lamp", "--json", cwd=folder).json["tables"]
    assert told["log_trimmed_to_run"] == 1
    assert told["log_trimmed_before"].startswith("20")
    about = call("runs", "2", cwd=folder).out
    assert "trimmed the change log" in about
    assert "the disk is small" in about
    assert "loaded up to run 1" in about
    assert "it cannot be reverted" in call("runs", "1", cwd=folder).out
    assert "change log" in call("runs", cwd=folder).out
    refused = call("revert", "1", "--reason", "no", cwd=folder)
    assert refused.code == 2
    assert "run 1: the change log is trimmed up to run 1; only later runs can be reverted" in refused.err
    assert "no changes in the log since run 1" in call("history", "lamp", "NB-1", "--changes", cwd=folder).out
    send(folder, "lamp_2.csv", "NB-1,2024-05-03,9,dark", "NB-1,2024-05-05,9,dark", "NB-1,2024-05-06,9,dark")
    loaded = call("load", "lamp", cwd=folder)
    assert loaded.code == 3
    assert loaded.out.count("not after 2024-05-05, up to which the changes of its key are trimmed") == 2
    changes = call("history", "lamp", "NB-1", "--changes", cwd=folder).out
    assert "up to run 1 trimmed" in changes
    assert "versioned" in changes
    assert call("history", "lamp", "NB-1", "--known-at", "2", cwd=folder).code == 0
    assert call("history", "lamp", "NB-1", "--known-at", "0", cwd=folder).code == 2
