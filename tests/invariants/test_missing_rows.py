"""Rows that a full extract lacks, in tables that ignore deletes."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scenes import DRAWN
from stores import fresh_store

import brenvik
from brenvik.errors import RulesError
from counts import share

RULES = brenvik.TableRules(
    "keeper", natural_key="code", type_1="name", deletes="ignore", types={"boats": "integer"},
    stamps={"note": {"missing": "'not in the register'"}, "by": {"added": "feed"}}, max_deletes=None,
)  # fmt: skip
COLUMNS = ("code", "region", "name", "boats")
ROWS = st.fixed_dictionaries(
    {
        "code": st.sampled_from("ABCDE"),
        "region": st.sampled_from(["north", "south"]),
        "name": st.sampled_from(["x", "y"]),
        "boats": st.sampled_from(["1", "2", "many"]),
    }
)


def frame(rows: list[dict[str, Any]]) -> pa.Table:
    return pa.table({name: pa.array([row[name] for row in rows], pa.string()) for name in COLUMNS})


@settings(max_examples=share(6))
@given(
    st.sampled_from(DRAWN),
    st.lists(
        st.tuples(st.lists(ROWS, min_size=1, max_size=6, unique_by=lambda row: row["code"]), st.booleans()),
        min_size=2, max_size=5,
    ),
)  # fmt: skip
def test_a_row_is_marked_while_the_extracts_lack_it(
    kind: str, extracts: list[tuple[list[dict[str, Any]], bool]]
) -> None:
    """``True`` is an extract of the north only: what it lacks of the south is not missing."""
    regions: dict[str, str] = {}
    marked: set[str] = set()
    with fresh_store(kind) as store:
        for day, (rows, of_north) in enumerate(extracts, 1):
            how: dict[str, Any] = {"kind": "full_extract", "at": f"2024-05-{day:02}", "allow_deletes": 9}
            scope = "region = 'north'" if of_north else None
            ahead = store.preview(RULES, frame(rows), kind="full_extract", at=how["at"], extract_scope=scope)
            outcome = store.load(RULES, frame(rows), extract_scope=scope, **how)
            assert (ahead.counts, ahead.notes) == (outcome.counts, outcome.notes)
            for row in rows:
                if row["boats"] != "many" and not (of_north and row["region"] == "south"):
                    regions[row["code"]] = row["region"]
            lacks = {code for code in regions if code not in {row["code"] for row in rows}}
            there = {row["code"] for row in rows}
            marked = (marked - there) | {code for code in lacks if not of_north or regions[code] == "north"}
            found = store.read(RULES).to_pylist()
            assert {row["code"] for row in found if row["note"] is not None} == marked
            assert all(row["note"] in (None, "not in the register") for row in found)
            assert not [row for row in found if row["note"] and not row["is_current"]]
            assert {row["code"] for row in found if row["is_current"]} == {*regions}
            assert {row["by"] for row in found} <= {"frame"}


def test_marks_are_told_and_counted(anywhere: brenvik.Store) -> None:
    def load(day: int, *codes: str) -> brenvik.Outcome:
        rows = [{"code": code, "region": "north", "name": "x", "boats": "1"} for code in codes]
        return anywhere.load(RULES, frame(rows), kind="full_extract", at=f"2024-05-{day:02}")

    load(1, "A", "B", "C")
    second = load(2, "A")
    assert second.notes == ["2 rows are missing now, and marked."]
    assert (second.counts["rows_updated"], second.counts["ignored"], second.counts["unchanged"]) == (2, 0, 1)
    assert {row["code"]: row["last_run"] for row in anywhere.read(RULES).to_pylist()} == {"A": 1, "B": 2, "C": 2}
    assert load(3, "A").counts["rows_updated"] == 0
    assert load(4, "A", "B").notes == ["1 row is back, and no longer marked."]
    was = anywhere.read(RULES)
    anywhere.rebuild(RULES)
    assert anywhere.read(RULES).equals(was)


def test_what_they_cannot_be_is_told() -> None:
    with pytest.raises(RulesError, match=r'stamps.note.missing: needs deletes = "ignore"'):
        brenvik.TableRules("keeper", natural_key="code", stamps={"note": {"missing": "run"}})
    with pytest.raises(RulesError, match=r"stamps.note: missing is the only event of a stamp"):
        brenvik.TableRules(
            "keeper", natural_key="code", deletes="ignore", stamps={"note": {"missing": "run", "added": "run"}}
        )
