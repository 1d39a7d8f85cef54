"""What becomes of a type 0 value that changes in the source."""

from __future__ import annotations

from dataclasses import replace

import pyarrow as pa
import pytest

import brenvik
from brenvik.errors import LimitExceeded, RulesChanged

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at", type_0="since", types={"at": "integer"})
FIRST = pa.table({"code": ["A"], "at": [3], "since": ["2019"], "light": ["Fl"]})
LATE = pa.table({"code": ["A", "A"], "at": [1, 2], "since": ["2009", "2011"], "light": ["Fl", "Fl"]})


def since(store: brenvik.Store, rules: brenvik.TableRules) -> set[str]:
    return set(store.read(rules)["since"].to_pylist())


def test_a_late_change_replaces_the_value_and_says_so(anywhere: brenvik.Store) -> None:
    anywhere.load(RULES, FIRST, kind="upserts")
    told = anywhere.load(RULES, LATE, kind="upserts").decisions().to_pylist()
    assert [row["reason"] for row in told] == [
        "since 2019 → 2009; light nothing → Fl",
        "since stays 2009; the source has 2011",
    ]
    assert since(anywhere, RULES) == {"2009"}


def test_what_arrived_first_stays_and_both_values_are_shown(anywhere: brenvik.Store) -> None:
    rules = replace(RULES, type_0_changes="first_arrived")
    anywhere.load(rules, FIRST, kind="upserts")
    told = anywhere.load(rules, LATE, kind="upserts").decisions().to_pylist()
    assert [row["decision"] for row in told] == ["versioned", "protected"]
    assert told[1]["reason"] == "since stays 2019; the source has 2011"
    assert told[0]["reason"] == "since stays 2019; the source has 2009; light nothing → Fl"
    assert told[1]["changes"] == [{"column": "since", "before": "2019", "after": "2011"}]
    assert since(anywhere, rules) == {"2019"}
    newer = pa.table({"code": ["A"], "at": [9], "since": ["2024"], "light": ["Q"]})
    assert anywhere.load(rules, newer, kind="upserts").decisions()["reason"].to_pylist() == [
        "since stays 2019; the source has 2024; light Fl → Q"
    ]
    assert anywhere.rebuild(rules).counts["rows_updated"] == 0
    with pytest.raises(RulesChanged, match="type_0_changes: was 'first_arrived', is 'protect'"):
        anywhere.load(RULES, newer, kind="upserts")
    anywhere.rebuild(RULES)
    assert since(anywhere, RULES) == {"2009"}
    anywhere.revert(RULES, 2)
    assert since(anywhere, RULES) == {"2019"}


def test_refused_changes_block_the_load_until_they_are_allowed(anywhere: brenvik.Store) -> None:
    rules = replace(RULES, type_0_changes="refuse")
    anywhere.load(RULES, FIRST, kind="upserts")
    rows = pa.table(
        {
            "code": ["A", "B", "B", "C"],
            "at": [4, 4, 5, 4],
            "since": ["2020", "2021", "2022", None],
            "light": ["Q", "Fl", "Fl", "Fl"],
        }
    )
    seen = anywhere.preview(rules, rows, kind="upserts")
    assert seen.decisions()["reason"].to_pylist()[0] == "since stays 2019; the source has 2020; light Fl → Q"
    with pytest.raises(LimitExceeded, match=r"(?s)2 changes have other values of type 0 columns.*--allow-type-0 2"):
        anywhere.load(rules, rows, kind="upserts")
    with pytest.raises(LimitExceeded):
        anywhere.load(rules, rows, kind="upserts", allow_type_0=1)
    done = anywhere.load(rules, rows, kind="upserts", allow_type_0=2)
    assert (done.counts["versioned"], done.counts["inserted"], done.counts["protected"]) == (1, 2, 1)
    known = pa.table(
        {"code": ["C"], "at": [6], "since": ["2024"], "light": ["Fl"]}
    )  # the first known value is no change
    assert anywhere.load(rules, known, kind="upserts").counts["overwritten"] == 1
