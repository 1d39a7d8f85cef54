"""What a person is told leads on: no dead ends, no internals, no misleading numbers."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pyarrow as pa
import pytest
from cli import brenvik as call

import brenvik
from brenvik.errors import LimitExceeded, RulesChanged, RulesError
from brenvik.project.status import status_of

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at", other_columns="type_2")


def rows(*each: tuple[str, int, str]) -> pa.Table:
    codes, times, lights = zip(*each, strict=True)
    return pa.table({"code": codes, "at": times, "light": lights})


@pytest.mark.parametrize("condition", ["light = ", "((((", "true or", "not", "light = = 1"])
def test_a_condition_that_breaks_off_is_told_in_words(condition: str) -> None:
    with pytest.raises(RulesError) as told:
        brenvik.TableRules("buoy", natural_key="code", reject_if={"odd": condition})
    assert "it is incomplete or malformed" in str(told.value)
    assert "class" not in str(told.value)


def test_a_rebuild_is_advised_only_where_it_can_follow() -> None:
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(RULES, rows(("NB-1", 1, "Q")), kind="upserts")
        can = replace(RULES, type_1=["light"])
        with pytest.raises(RulesChanged, match="light: was type 2, is type 1") as told:
            store.load(can, rows(("NB-1", 2, "Q")), kind="upserts")
        assert "brenvik rebuild buoy" in str(told.value)
        store.rebuild(can)
        cannot = replace(can, types={"light": "integer"})
        with pytest.raises(RulesChanged, match="light: was text, is integer") as told:
            store.load(cannot, rows(("NB-1", 2, "Q")), kind="upserts")
        assert "rebuild" not in str(told.value)
        with pytest.raises(RulesChanged):
            store.rebuild(cannot)


def test_duplicates_are_not_told_as_late_changes() -> None:
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(RULES, rows(*((f"NB-{n}", 5, "Q") for n in range(50))), kind="upserts")
        again = store.load(RULES, rows(*((f"NB-{n}", 5, "Q") for n in range(50))), kind="upserts")
        assert (again.counts["duplicate"], again.notes) == (50, [])
        some = store.load(RULES, rows(*((f"NB-{n}", 5, "Q") for n in range(50)), ("NB-1", 3, "Fl")), kind="upserts")
        assert [note.partition(";")[0] for note in some.notes] == ["1 change was late"]


def test_a_refusal_tells_how_a_program_lets_it_through() -> None:
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(RULES, rows(("NB-1", 1, "Q"), ("NB-2", 1, "Q")), kind="upserts")
        gone = pa.table({"op": ["D", "D"], "code": ["NB-1", "NB-2"], "at": [2, 2], "light": [None, None]})
        with pytest.raises(LimitExceeded, match=r"in Python   load\(…, allow_deletes=2\)"):
            store.load(RULES, gone, kind="changes", operation="op")
        assert store.load(RULES, gone, kind="changes", operation="op", allow_deletes=2).counts["deleted"] == 2


def test_a_released_delete_counts_as_deleted() -> None:
    rules = replace(RULES, deletes="review")
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(rules, rows(("NB-1", 1, "Q"), ("NB-2", 1, "Q")), kind="upserts")
        gone = pa.table({"op": ["D"], "code": ["NB-1"], "at": [2], "light": pa.array([None], pa.string())})
        store.load(rules, gone, kind="changes", operation="op")
        assert store.approve_deletes(rules, every=True).counts["deleted"] == 1
        assert store.ledger.runs()["deleted"].to_pylist()[0] == 1


@pytest.fixture
def coast(tmp_path: Path) -> Path:
    (tmp_path / "buoy_1.csv").write_text("code,at,light\nNB-1,1,Q\n")
    (tmp_path / "brenvik.toml").write_text(
        'store = "duckdb:coast.duckdb"\n[table.buoy]\nnatural_key = "code"\norder_by = "at"\ntypes = { at = "integer" }\n'
        '[table.buoy.feed.files]\nkind = "upserts"\nfiles = "buoy_*.csv"\n'
    )
    return tmp_path


def test_a_run_that_took_nothing_but_rejects_is_no_good_run(coast: Path) -> None:
    assert call("load", cwd=coast).code == 0
    (coast / "buoy_2.csv").write_text("code,at,light\n" + "NB-1,x,Q\n" * 30)
    assert call("load", cwd=coast).code == 3
    project = brenvik.read_project(coast / "brenvik.toml")
    with project.open() as store:
        (status,) = status_of(project, store, project.chosen())
    assert status.last_run == 1


def test_what_is_wrong_is_told_before_what_is_missing(coast: Path) -> None:
    call("load", cwd=coast)
    assert "run 7" in call("revert", "7", cwd=coast).err
    assert "Give a reason" in call("revert", "1", cwd=coast).err
    said = call("load", "--every", "5", cwd=coast)
    assert (said.code, "integer" in said.err, "expected an interval as in 30s" in said.err) == (2, False, True)
