"""What is told of a decision: old values beside new ones, and nothing that the table does not hold."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pyarrow as pa
import pytest

import brenvik
from brenvik.errors import LimitExceeded

RULES = brenvik.TableRules(
    "buoy",
    natural_key="code",
    order_by="at",
    type_0="since",
    other_columns="type_2",
    types={"code": "text(4)"},
    max_deletes=None,
)


def told(store: brenvik.Store, *rows: tuple[Any, ...]) -> list[dict[str, Any]]:
    names = ("op", "code", "at", "since", "light")
    table = pa.table({name: [row[n] for row in rows] for n, name in enumerate(names)})
    return store.load(RULES, table, kind="changes", operation="op").decisions().to_pylist()


def test_a_delete_tells_what_it_ended(anywhere: brenvik.Store) -> None:
    told(anywhere, ("I", "A", 1, "2019", "Q"), ("I", "B", 1, None, "Fl"))
    first, second = told(anywhere, ("D", "A", 2, None, None), ("D", "B", 3, None, None))
    assert [(each["column"], each["before"], each["after"]) for each in first["changes"]] == [
        ("since", "2019", None),
        ("light", "Q", None),
    ]
    assert [each["column"] for each in second["changes"]] == ["light"]


def test_a_new_version_does_not_list_a_value_that_stays(anywhere: brenvik.Store) -> None:
    told(anywhere, ("I", "A", 1, "2019", "Q"))
    (row,) = told(anywhere, ("U", "A", 2, "2009", "Fl"))
    assert row["decision"] == "versioned"
    assert [each["column"] for each in row["changes"]] == ["light"]
    assert row["protected"] == [{"column": "since", "before": "2019", "after": "2009"}]
    assert "since stays 2019; the source has 2009" in row["reason"]
    (row,) = told(anywhere, ("U", "A", 3, "2009", "Fl"))
    assert (row["decision"], [(each["before"], each["after"]) for each in row["changes"]]) == (
        "protected",
        [("2019", "2009")],
    )


def test_a_reject_tells_its_key_where_it_can_be_read(anywhere: brenvik.Store) -> None:
    long, without = told(anywhere, ("I", "ABCDE", 1, None, "Q"), ("I", None, 1, None, "Q"))
    assert (long["decision"], long["key"]) == ("rejected", {"code": "ABCDE"})
    assert (without["decision"], without["key"]) == ("rejected", {"code": None})


def test_a_late_change_that_replaces_a_protected_value_says_so_and_can_be_guarded(anywhere: brenvik.Store) -> None:
    told(anywhere, ("I", "A", 5, "GOOD", "Q"), ("I", "B", 5, None, "Q"), ("U", "B", 7, "GOOD", "Q"))
    guarded = replace(RULES, max_changes=1)
    late = pa.table(
        {"op": ["U", "U"], "code": ["A", "B"], "at": [3, 6], "since": ["EVIL", "EVIL"], "light": ["Q", "Q"]}
    )
    with pytest.raises(LimitExceeded, match="would change 2 of 2"):
        anywhere.load(guarded, late, kind="changes", operation="op")
    done = anywhere.load(RULES, late, kind="changes", operation="op")
    one, two = done.decisions().to_pylist()
    assert (one["decision"], two["decision"]) == ("versioned", "overwritten")
    for row in (one, two):
        assert {"column": "since", "before": "GOOD", "after": "EVIL"} in row["changes"]
        assert "since GOOD → EVIL" in row["reason"]
    assert (done.counts["inserted"], done.counts["versioned"], done.counts["overwritten"]) == (0, 1, 1)
    assert set(anywhere.read(RULES)["since"].to_pylist()) == {"EVIL"}


def test_an_earlier_change_that_says_nothing_of_a_protected_value_replaces_none(anywhere: brenvik.Store) -> None:
    told(anywhere, ("I", "A", 5, "GOOD", "Q"))
    (row,) = told(anywhere, ("U", "A", 3, None, "Fl"))
    assert (row["decision"], [each["column"] for each in row["changes"]]) == ("versioned", ["light"])
    (row,) = told(anywhere, ("D", "A", 4, None, None))
    assert (row["decision"], [(each["column"], each["before"]) for each in row["changes"]]) == (
        "deleted", [("light", "Fl")],
    )  # fmt: skip
