"""What a person does the morning after: look at the past, take a run back, release a delete, work a table out again."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from cli import brenvik as call

import brenvik
from brenvik.demo import scenario
from brenvik.errors import RulesChanged
from prepared import copied


def two_days(folder: Path) -> None:
    """Two days of buoys, and two extracts of keepers of which the second lacks one."""
    (folder / "inbox").mkdir()
    (folder / "brenvik.toml").write_text(scenario.PROJECT + scenario.KEEPERS)
    for name in ("buoy_01.csv", "buoy_02.csv"):
        scenario.write_day(name, folder / "inbox")
        scenario.write_keepers(int(name[6:7]), folder / "inbox")
        assert call("load", cwd=folder).code in {0, 3}


@pytest.fixture
def coast(tmp_path: Path) -> Path:
    """A project of two days."""
    return copied(two_days, tmp_path)


def rows(folder: Path) -> list[dict[str, Any]]:
    project = brenvik.read_project(folder / "brenvik.toml")
    rules = project.table("buoy").rules
    with project.open(read_only=True) as store:
        found = store.read(rules).to_pylist()
    return [{name: row[name] for name in ("buoy_code", "light", "status", "valid_from", "valid_to")} for row in found]


def test_a_run_is_looked_at_withdrawn_and_put_back(coast: Path) -> None:
    before = rows(coast)
    assert call("revert", "3", cwd=coast).code == 2
    seen = call("revert", "3", "--preview", cwd=coast)
    assert "reverted run 3 · nothing is written" in seen.out
    assert rows(coast) == before
    done = call("revert", "3", "--reason", "wrong day", "--json", cwd=coast).json
    assert (done["outcome"]["run"], done["outcome"]["counts"]["rows_removed"]) == (5, 6)
    assert {"buoy_code": "NB-113", "brenvik_added": 0, "brenvik_changed": 0, "brenvik_removed": 1} in done[
        "changed_keys"
    ]
    assert all(row["valid_to"] is None for row in rows(coast))
    told = {
        run["run"]: (run["state"], run["reverted_by"], run["reason"])
        for run in call("runs", "--json", cwd=coast).json["runs"]
    }
    assert told[3] == ("done", 5, None)
    assert told[5] == ("done", None, "wrong day")
    assert "reverted" in call("runs", cwd=coast).out
    again = call("revert", "3", "--reason", "once more", cwd=coast)
    assert (again.code, "run 3 was already reverted by run 5" in again.err) == (2, True)
    assert call("revert", "3", "--undo", cwd=coast).code == 0
    assert rows(coast) == before
    assert "run 3 is not reverted" in call("revert", "3", "--undo", cwd=coast).err


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("revert", "99", "--reason", "x"), "run 99"),
        (("revert", "1", "2", "--reason", "x"), "These runs belong to several tables (buoy, keeper)"),
        (("runs", "99"), "run 99"),
        (("runs", "buoy", "--rows"), "--rows needs the number of a run"),
        (("deletes", "approve", "keeper"), "Name the deletes by number"),
        (("deletes", "approve", "keeper", "7"), "has no pending delete 7"),
        (("deletes", "approve", "buoy", "1"), "has no pending delete 1"),
        (("rejects", "export", "keeper", "new.jsonl"), "Table 'keeper' has no open rejects; nothing was written"),
        (("as-of", "buoy", "2024-05-14", "--known-at", "99"), "there is no run 99: brenvik runs"),
        (("history", "buoy", "NB-102", "--without", "2"), "run 2 belongs to table keeper"),
        (
            ("history", "buoy", "NB-102", "--changes", "--without", "1"),
            "cannot be combined with --known-at or --without",
        ),
    ],
)
def test_what_cannot_be_done_is_told(coast: Path, words: tuple[str, ...], told: str) -> None:
    said = call(*words, cwd=coast)
    assert (said.code, told in said.err) == (2, True), said.err


def test_a_run_is_told_whole(coast: Path) -> None:
    told = call("runs", "3", cwd=coast).out
    for line in (
        "coast · buoy · run 3 · done",
        "  from       inbox/buoy_02.csv",
        "  14 read = 1 inserted + 5 versioned + 1 overwritten + 1 protected + 2 unchanged + 1 duplicate + 3 rejected",
        "  12 rows + 6 added − 0 removed = 18, 4 changed",
        "  to revert it    brenvik revert 3 --preview",
    ):
        assert f"{line}\n" in told
    extract = call("runs", "2", cwd=coast).out
    assert "  feed       nightly, full_extract\n" in extract
    assert "  as of      2024-05-13\n" in extract
    call("revert", "3", "--reason", "all wrong", cwd=coast)
    told = call("runs", "3", cwd=coast).out
    assert "coast · buoy · run 3 · reverted\n" in told
    assert "  reverted   by run 5: all wrong\n" in told
    assert "  to restore it   brenvik revert 3 --undo --preview\n" in told
    assert call("runs", "3", "--json", cwd=coast).json["run"]["reverted_by"] == 5
    there = scenario.PROJECT.replace("[table.buoy", "[table.others")
    (coast / "other.toml").write_text(there)
    assert call("runs", "3", "--project", "other.toml", cwd=coast).code == 0  # of a table that is declared no more


def test_the_past_can_be_looked_at(coast: Path) -> None:
    then = call("history", "buoy", "NB-102", "--known-at", "1", "--json", cwd=coast).json["versions"]
    assert [row["status"] for row in then] == ["on station"]
    without = call("history", "buoy", "NB-102", "--without", "3", cwd=coast).out
    assert "coast · buoy NB-102 · without run 3 · 1 version" in without
    as_of = call("as-of", "buoy", "2024-05-14 20:00", "--known-at", "1", cwd=coast).out
    assert "as known after run 1 · 12 rows" in as_of
    assert "13 rows" in call("as-of", "buoy", "2024-05-14 20:00", cwd=coast).out


def test_what_a_run_decided_and_the_story_of_a_key(coast: Path) -> None:
    told = call("runs", "3", "--rows", cwd=coast).out
    assert "NB-106  overwritten  name             Skarholm Nort → Skarholm North" in told
    assert "1 duplicate, 3 rejected, not in the change log and not shown here" in told
    assert "buoy_02.csv" in call("runs", "3", cwd=coast).out
    call("revert", "3", "--reason", "wrong", cwd=coast)
    story = call("history", "buoy", "NB-104", "--changes", "--json", cwd=coast).json["changes"]
    assert [(row["run"], row["line"], row["decision"], row["reverted_by"]) for row in story] == [
        (1, 5, "inserted", None),
        (3, 6, "versioned", 5),
    ]
    assert "colour red → green  (reverted by run 5)" in call("history", "buoy", "NB-104", "--changes", cwd=coast).out
    assert call("history", "buoy", "NB-999", "--changes", cwd=coast).code == 1


def test_a_half_empty_extract_is_refused_and_a_held_delete_released(coast: Path) -> None:
    scenario.write_keepers(3, coast / "inbox", broken_off=True)
    refused = call("load", "keeper", cwd=coast)
    assert (refused.code, "--allow-deletes 5" in refused.out) == (4, True)
    seen = call("preview", "keeper", cwd=coast)
    assert (seen.code, "A load would be blocked" in seen.out) == (4, True)
    assert call("load", "--allow-deletes", "5", cwd=coast).code == 2
    scenario.write_keepers(3, coast / "inbox")
    assert call("load", "keeper", cwd=coast).code == 3
    (waiting,) = call("deletes", "--json", cwd=coast).json["pending_deletes"]["keeper"]
    assert (waiting["brenvik_delete_no"], waiting["firm"]) == (1, "Vesle Lamps")
    assert call("status", "--json", cwd=coast).json["tables"][1]["pending_deletes"] == 1
    assert call("deletes", "approve", "keeper", "1", "--preview", cwd=coast).code == 0
    assert call("deletes", "approve", "keeper", "--all", "--reason", "closed", cwd=coast).code == 0
    assert "No deletes are pending." in call("deletes", cwd=coast).out
    assert "deleted 2024-05-15" in call("history", "keeper", "8", cwd=coast).out


def test_a_table_is_rebuilt_under_other_rules(coast: Path) -> None:
    text = (coast / "brenvik.toml").read_text()
    (coast / "brenvik.toml").write_text(text.replace('type_1 = ["name"] ', 'type_1 = ["name", "status"] '))
    scenario.write_day("buoy_03.csv", coast / "inbox")
    refused = call("load", "buoy", cwd=coast)
    assert (refused.code, "brenvik rebuild buoy" in refused.out) == (4, True)
    done = call("rebuild", "buoy", cwd=coast)
    assert "18 rows + 0 added − 3 removed = 15" in done.out
    assert {row["status"] for row in rows(coast) if row["buoy_code"] == "NB-102"} == {"on station"}
    assert len([row for row in rows(coast) if row["buoy_code"] == "NB-102"]) == 1
    assert call("load", "buoy", cwd=coast).code == 0
    assert "No rows differ." in call("rebuild", "buoy", cwd=coast).out
    (coast / "brenvik.toml").write_text(text.replace("[table.buoy.types]", '[table.buoy.types]\nname = "date"'))
    assert "cannot be rebuilt under these rules" in call("rebuild", "buoy", cwd=coast).err
    (coast / "brenvik.toml").write_text(text.replace("[table.buoy.types]", '[table.buoy.types]\nname = "text(80)"'))
    assert "Column name is changed from text to text(80)." in call("rebuild", "buoy", "--preview", cwd=coast).out
    assert "Column name is changed from text to text(80)." in call("rebuild", "buoy", cwd=coast).out


def test_a_withdrawn_extract_is_taken_again_by_its_run(coast: Path) -> None:
    assert call("revert", "4", "--reason", "looked wrong", cwd=coast).code == 0
    again = call("load", "--again", "4", "--json", cwd=coast).json["outcomes"][0]
    assert (again["source"], again["counts"]["read"], again["counts"]["overwritten"]) == (
        "inbox/keeper_2024-05-14.csv",
        9,
        1,
    )
    refused = call("load", "--again", "5", cwd=coast)
    assert (refused.code, "Run 5 loaded nothing (revert, done)" in refused.err) == (2, True)


def test_a_rebuild_that_drops_a_column_tells_and_previews_it_and_needs_a_word(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("buoy", natural_key="code", order_by="at", types={"at": "integer"})
    rows = pa.table({"code": ["A", "B", "A"], "at": [1, 1, 2], "light": ["Q", None, "Fl"], "name": ["x", "y", "x"]})
    anywhere.load(rules, rows, kind="upserts")
    less = dataclasses.replace(rules, exclude=("light",))
    said = "The rules exclude light: the column is dropped with 2 values; the change log keeps them."
    seen = anywhere.rebuild(less, preview=True)
    assert (seen.notes, seen.counts["rows_removed"]) == ([said], 1)
    with pytest.raises(
        RulesChanged, match=r"(?s)the column is dropped with 2 values.*brenvik rebuild buoy --drop-columns"
    ):
        anywhere.rebuild(less)
    assert anywhere.read(rules)["light"].to_pylist().count("Fl") == 1
    assert anywhere.ledger.runs(last=1)["state"].to_pylist() == ["blocked"]
    done = anywhere.rebuild(less, drop_columns=True)
    assert done.counts == seen.counts
    assert "light" not in anywhere.read(less).column_names
    anywhere.rebuild(rules)  # the kept changes still have it
    assert sorted(map(str, anywhere.read(rules)["light"].to_pylist())) == ["Fl", "None", "Q"]
