"""Rows that were refused: exported, mended, taken again, dropped."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from cli import brenvik as call

import brenvik
from brenvik.demo import scenario
from prepared import copied


def second_day(folder: Path) -> None:
    """The second day of the buoys, with its three faulty lines (13 to 15) refused, and one line more that is no row."""
    (folder / "inbox").mkdir()
    (folder / "brenvik.toml").write_text(scenario.PROJECT)
    for name in ("buoy_01.csv", "buoy_02.csv"):
        scenario.write_day(name, folder / "inbox")
    with (folder / "inbox" / "buoy_02.csv").open("a") as file:
        file.write("26,I,2024-05-14 16:00,NB-120\n")
    assert call("load", "buoy", cwd=folder).code == 3


@pytest.fixture
def coast(tmp_path: Path) -> Path:
    """A project of the second day."""
    return copied(second_day, tmp_path)


def rejects(folder: Path) -> dict[int, dict[str, Any]]:
    return {row["reject"]: row for row in call("rejects", "--json", cwd=folder).json["rejects"]}


def exported(folder: Path) -> list[dict[str, Any]]:
    assert call("rejects", "export", "buoy", "bad.jsonl", cwd=folder).code == 0
    return [json.loads(line) for line in (folder / "bad.jsonl").read_text().split("\n") if line]


def write(folder: Path, entries: list[dict[str, Any]]) -> None:
    (folder / "bad.jsonl").write_text("".join(json.dumps(entry) + "\n" for entry in entries))


def test_types_that_would_fit_are_listed(tmp_path: Path) -> None:
    (tmp_path / "brenvik.toml").write_text(
        'store = "sqlite:coast.db"\n[table.buoy]\nnatural_key = "code"\norder_by = "at"\n'
        'types = { code = "text(4)", at = "integer", name = "text(3)", mass_t = "decimal(4,2)", crew = "integer", '
        'seen = "date" }\n'
        '[table.buoy.feed.registry]\nkind = "upserts"\nfiles = "*.csv"\n'
    )
    (tmp_path / "a.csv").write_text(
        "code,at,name,mass_t,crew,seen\nA,1,Tarva,1.00,2,2024-05-13\nB,1,Nes,123.456,2,2024-05-13\nC,1,Nes,1,2.5,2024-05-13\n"
        "NB-104,1,Nes,1,1,2024-05-13\nD,1,Nes,heavy,1,2024-05-13\nE,1,Nes,1,1,yesterday\n"
    )
    assert call("load", cwd=tmp_path).code == 3
    found = call("rejects", "--json", cwd=tmp_path).json["wider_types"]
    assert found == {"buoy": {"name": "text(5)", "mass_t": "decimal(6,3)", "crew": "decimal(20,1)"}}


def test_rejects_are_listed_with_their_table_or_without(coast: Path) -> None:
    assert call("rejects", "buoy", "--json", cwd=coast).json == call("rejects", "list", "--json", cwd=coast).json
    told = call("rejects", "buoy", cwd=coast).out
    assert "brenvik rejects export buoy FILE" in told
    assert [row["line"] for row in rejects(coast).values()] == [13, 14, 15, 16]
    assert call("rejects", "keepers", cwd=coast).code == 2


def test_rows_are_mended_in_a_file_and_taken_again(coast: Path) -> None:
    entries = exported(coast)
    assert [set(entry) - {"row", "text"} for entry in entries] == [
        {"reject", "feed", "run", "file", "line", "reason"}
    ] * 4
    assert entries[3]["text"] == "26,I,2024-05-14 16:00,NB-120"
    assert "already exists" in call("rejects", "export", "buoy", "bad.jsonl", cwd=coast).err
    entries[0]["row"]["buoy_code"] = "NB-101"
    entries[1]["row"]["buoy_code"] = "NB-114-W"
    entries[2]["row"]["changed_at"] = "2024-05-14 26:00"  # no better
    entries[3]["row"] = {**entries[1]["row"], "buoy_code": "NB-120", "entry_no": "26"}
    write(coast, entries)
    seen = call("rejects", "retry", "buoy", "bad.jsonl", "--preview", "--json", cwd=coast)
    assert (seen.code, len(rejects(coast))) == (0, 4)
    told = call("rejects", "retry", "buoy", "bad.jsonl", "--preview", cwd=coast).out
    assert "to load   brenvik rejects retry buoy bad.jsonl\n" in told
    done = call("rejects", "retry", "buoy", "bad.jsonl", "--json", cwd=coast)
    assert done.code == 3
    (outcome,) = done.json["outcomes"]
    assert outcome["counts"] == seen.json["outcomes"][0]["counts"]
    assert (outcome["counts"]["read"], outcome["counts"]["inserted"], outcome["counts"]["rejected"]) == (4, 2, 1)
    # What was refused again is a new reject that stands where the line stood at first; the others are open no more.
    (left,) = rejects(coast).values()
    assert (left["reject"], left["file"], left["line"]) == (5, "inbox/buoy_02.csv", 15)
    assert "26:00" in left["reason"]
    with brenvik.read_project(coast / "brenvik.toml").open() as store:
        closed = store.ledger.rejects("buoy", state="retried").to_pylist()
        assert [(row["reject"], row["decided_by"]) for row in closed] == [(1, 2), (2, 2), (3, 2), (4, 2)]
        rules = brenvik.read_project(coast / "brenvik.toml").table("buoy").rules
        assert store.history(rules, "NB-120").num_rows == 1
        assert [entry["run"] for entry in store.change_log(rules, "NB-114-W")] == [2]
    assert "is not open" in call("rejects", "retry", "buoy", "bad.jsonl", cwd=coast).err
    # Withdrawn, they are open again; and are not once the run is put back.
    assert call("revert", "2", "--reason", "wrong code", cwd=coast).code == 0
    assert sorted(rejects(coast)) == [1, 2, 3, 4, 5]
    assert call("revert", "2", "--undo", cwd=coast).code == 0
    assert sorted(rejects(coast)) == [5]


def test_rejects_are_taken_again_once_the_rules_are_mended(tmp_path: Path) -> None:
    (tmp_path / "inbox").mkdir()
    strict = scenario.PROJECT.replace(
        "[table.buoy]\n", """[table.buoy]\nreject_if = { "is adrift" = "status = 'adrift'" }\n"""
    )
    assert strict != scenario.PROJECT
    (tmp_path / "brenvik.toml").write_text(strict)
    for name in ("buoy_01.csv", "buoy_02.csv"):
        scenario.write_day(name, tmp_path / "inbox")
    with (tmp_path / "inbox" / "buoy_02.csv").open("a") as file:
        file.write("26,I,2024-05-14 16:00,NB-120\n")
    assert call("load", "buoy", cwd=tmp_path).code == 3
    adrift = [row for row in rejects(tmp_path).values() if row["reason"] == "is adrift"]
    assert adrift
    others = len(rejects(tmp_path)) - len(adrift)
    (tmp_path / "brenvik.toml").write_text(scenario.PROJECT)
    done = call("rejects", "retry", "buoy", cwd=tmp_path)
    assert (done.code, "1 reject is a line that is not a row; it stays open" in done.out) == (3, True)
    assert len(rejects(tmp_path)) == others
    assert {"is adrift"}.isdisjoint(row["reason"] for row in rejects(tmp_path).values())


def test_unchanged_rows_are_refused_again_and_counted_once(coast: Path) -> None:
    exported(coast)
    done = call("rejects", "retry", "buoy", "bad.jsonl", "--json", "--accept-rejects", cwd=coast)
    assert done.code == 0
    assert done.json["outcomes"][0]["counts"]["rejected"] == 3
    assert {row["line"]: row["reason"] for row in rejects(coast).values() if row["line"] < 16} == {
        13: "buoy_code is empty",
        14: "buoy_code has 13 characters; the limit is 8",
        15: "changed_at: '2024-05-14 25:61' is not a valid timestamp",
    }
    again = call("load", "buoy", "--again", "inbox/buoy_02.csv", "--json", cwd=coast).json["outcomes"][0]
    assert again["counts"]["duplicate"] == again["counts"]["read"]


def test_rejects_are_dropped_by_number_or_all(coast: Path) -> None:
    assert call("rejects", "discard", "buoy", cwd=coast).code == 2
    assert "no open reject 9" in call("rejects", "discard", "buoy", "9", cwd=coast).err
    done = call("rejects", "discard", "buoy", "2", "3", "--reason", "test data", cwd=coast)
    assert (done.code, "2 rejects discarded · run 2" in done.out) == (0, True)
    assert list(rejects(coast)) == [1, 4]
    run = call("runs", "2", "--json", cwd=coast).json["run"]
    assert (run["kind"], run["reason"], run["state"]) == ("discard", "test data", "done")
    assert call("rejects", "discard", "buoy", "--all", cwd=coast).code == 0
    assert "There are no open rejects" in call("rejects", cwd=coast).out
    assert call("status", "--json", cwd=coast).json["tables"][0]["open_rejects"] == 0
    assert "has no rejects to retry" in call("rejects", "retry", "buoy", cwd=coast).err


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("not json", "line 1: is not a JSON object"),
        ('{"row": {}}', "line 1: has no reject number"),
        ('{"reject": 77, "row": {}}', "line 1: reject 77 is not open"),
        ('{"reject": 1, "row": [1]}', "line 1: row is not a JSON object"),
        ('{"reject": 1}\n\n{"reject": 1}', "line 3: reject 1 occurs twice in the file"),
    ],
)
def test_a_file_that_does_not_fit_is_told_and_nothing_is_taken(coast: Path, line: str, said: str) -> None:
    (coast / "bad.jsonl").write_text(line + "\n")
    done = call("rejects", "retry", "buoy", "bad.jsonl", cwd=coast)
    assert (done.code, said in done.err) == (2, True), done.err
    assert len(rejects(coast)) == 4
    assert len(call("runs", "--json", cwd=coast).json["runs"]) == 1


def test_records_keep_their_numbers_as_they_are_written(tmp_path: Path) -> None:
    (tmp_path / "brenvik.toml").write_text(
        """
store = "duckdb:coast.duckdb"
[table.buoy]
natural_key = ["code"]
order_by = ["at"]
types = { code = "text(6)", at = "integer", depth = "text", more = "text" }
[table.buoy.feed.registry]
kind = "upserts"
files = "buoy_*.jsonl"
record = { new_row = "/now" }
"""
    )
    (tmp_path / "buoy_1.jsonl").write_text(
        '{"now": {"code": "too long a code", "at": 1, "depth": 1.50, "more": {"a": 1.0}, "name": "Ytre\u2028Halvor"}}\n'
        '{"then": 2}\n'
    )
    assert call("load", cwd=tmp_path).code == 3
    entries = exported(tmp_path)
    assert set(entries[1]["row"]) == {"then"}  # a JSON object, if not a record of this feed
    text = (tmp_path / "bad.jsonl").read_text()
    assert '"depth": 1.50' in text
    (tmp_path / "bad.jsonl").write_text(text.replace("too long a code", "NB-1"))
    done = call("rejects", "retry", "buoy", "bad.jsonl", "--json", cwd=tmp_path)
    assert done.json["outcomes"][0]["counts"]["inserted"] == 1
    with brenvik.read_project(tmp_path / "brenvik.toml").open() as store:
        (row,) = store.read(brenvik.read_project(tmp_path / "brenvik.toml").table("buoy").rules).to_pylist()
    assert (row["depth"], row["more"], row["name"]) == ("1.50", '{"a":1.0}', "Ytre\u2028Halvor")


def test_rejects_of_extracts_wait_for_the_next_extract(tmp_path: Path) -> None:
    (tmp_path / "brenvik.toml").write_text(
        """
store = "duckdb:coast.duckdb"
[table.keeper]
natural_key = ["code"]
types = { code = "text(4)" }
[table.keeper.feed.nightly]
kind = "full_extract"
files = "keeper_*.csv"
"""
    )
    (tmp_path / "keeper_1.csv").write_text("code,firm\nK1,a\ntoo long,b\n")
    assert call("load", cwd=tmp_path).code == 3
    refused = call("rejects", "retry", "keeper", cwd=tmp_path)
    assert (refused.code, "feed nightly reads extracts" in refused.err) == (2, True)
    assert len(rejects(tmp_path)) == 1
