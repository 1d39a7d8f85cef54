"""Conditions of a person's own: what is let in, and what they reject or delete."""

from __future__ import annotations

import re
from typing import Any

import pyarrow as pa
import pytest

import brenvik
from brenvik.errors import FeedError, RulesError

ROWS = {
    "code": ["A", "B", "C", "D", "E"],
    "at": [1, 2, 3, 4, 5],
    "lat": ["62.1", "95.0", "north", None, "60"],
    "retired": ["f", "f", "f", "true", None],
}


def load(store: brenvik.Store, **declared: Any) -> tuple[brenvik.TableRules, brenvik.Outcome]:
    rules = brenvik.TableRules(
        "buoy",
        natural_key="code",
        order_by="at",
        types={"lat": "decimal(7,4)", "retired": "boolean"},
        max_deletes=None,
        **declared,
    )
    return rules, store.load(rules, pa.table(ROWS), kind="upserts")


@pytest.fixture
def store() -> Any:
    with brenvik.open_store("duckdb::memory:") as opened:
        yield opened


def test_a_condition_rejects_rows_by_its_name_and_unknown_rejects_none(store: brenvik.Store) -> None:
    rules, outcome = load(store, reject_if={"position outside": "lat > 90 or lat < -90", "E is ours": "code = 'E'"})
    told = [(r["line"], r["column_name"], r["value"], r["reason"]) for r in store.ledger.rejects().to_pylist()]
    assert told == [
        (2, "lat", "95.0", "position outside"),
        (3, "lat", "north", "lat: 'north' is not a valid decimal(7,4)"),
        (5, "code", "E", "E is ours"),
    ]
    assert outcome.counts["inserted"] == 2
    assert [row["code"] for row in store.read(rules).to_pylist()] == ["A", "D"]


def test_a_condition_tells_a_delete_also_over_columns_that_the_table_does_not_have(store: brenvik.Store) -> None:
    load(store, exclude=("retired", "lat"), other_columns="type_1")
    gone = brenvik.TableRules(
        "buoy",
        natural_key="code",
        order_by="at",
        types={"lat": "decimal(7,4)", "retired": "boolean"},
        exclude=("retired", "lat"),
        other_columns="type_1",
        delete_if="retired or (lat is null and code <> 'D')",
        max_deletes=None,
    )
    later = pa.table({**ROWS, "at": [11, 12, 13, 14, 15], "lat": ["1", "2", "3", "4", None]})
    outcome = store.load(gone, later, kind="upserts")
    assert outcome.decisions()["decision"].to_pylist() == ["unchanged", "unchanged", "unchanged", "deleted", "deleted"]
    assert [row["code"] for row in store.read(gone).to_pylist() if row["is_current"]] == ["A", "B", "C"]


def test_a_row_of_an_extract_can_say_that_its_key_is_gone(store: brenvik.Store) -> None:
    rules = brenvik.TableRules(
        "keeper", natural_key="no", exclude="left_on", delete_if="left_on is not null", max_deletes=None
    )

    def taken(*left: str | None, day: int) -> dict[str, int]:
        numbers = pa.array(range(len(left)), pa.int64())
        frame = pa.table(
            {"no": numbers, "left_on": pa.array(left, pa.string()), "firm": [f"{n}" for n in range(len(left))]}
        )
        counts = store.load(rules, frame, kind="full_extract", at=f"2024-05-{day}").counts
        return {
            name: counts[name] for name in ("inserted", "deleted", "unchanged", "derived", "ignored") if counts[name]
        }

    assert taken(None, None, "2020", day=13) == {"inserted": 2, "unchanged": 1}
    assert taken(None, "2024", "2020", day=14) == {"deleted": 1, "unchanged": 2}
    assert taken(None, "2024", "2020", day=15) == {"unchanged": 3}
    assert taken(None, None, day=16) == {"inserted": 1, "unchanged": 1}


@pytest.mark.parametrize(
    "text",
    [
        "lat >",
        "",
        "1; drop table buoy",
        "(select max(lat) from buoy) > 1",
        "exists (select 1)",
        "max(lat) > 1",
        "row_number() over () = 1",
        "random() > 0.5",
        "now() > at",
        "read_text('/etc/passwd') = ''",
        "pg_sleep(10) is null",
        "buoy.lat > 1",
        "current_user = 'me'",
        "lat between symmetric 2 and 1",
        "length(code, 'UTF8') = 1",
        "code like any ('A', 'B')",
        "try_cast(lat as bigint) = 1",
    ],
)
def test_only_what_works_on_one_row_is_let_in(text: str) -> None:
    for declared in ({"reject_if": {"odd": text}}, {"delete_if": text or " "}):
        with pytest.raises(RulesError, match=r"reject_if.odd|delete_if"):
            brenvik.TableRules("buoy", natural_key="code", **declared)


def test_text_in_a_condition_stays_text(store: brenvik.Store) -> None:
    _, outcome = load(store, reject_if={"it's ours": "lower(code) || '''' in ('a''', 'b''') or trim(code) like 'C%'"})
    assert sorted(row["value"] for row in store.ledger.rejects().to_pylist()) == ["A", "B", "north"]
    assert outcome.counts["rejected"] == 3


def test_columns_that_nobody_has_are_told(store: brenvik.Store) -> None:
    with pytest.raises(FeedError, match="a condition names depth, which is not a column of"):
        load(store, reject_if={"too deep": "depth > 100"})


def test_a_condition_looks_at_several_columns_also_at_one_that_a_feed_does_not_carry(store: brenvik.Store) -> None:
    both = {"no light at sea": "light is null and status = 'on station'"}
    rules = brenvik.TableRules(
        "float", natural_key="code", reject_if=both, type_1=("light", "status"), types={"light": "text"}
    )
    lit = pa.table({"code": ["A", "B"], "light": ["Q", None], "status": ["on station", "on station"]})
    assert store.load(rules, lit, kind="upserts").counts["rejected"] == 1
    assert store.load(rules, lit.drop_columns("light"), kind="upserts").counts["rejected"] == 2
    told = [(row["column_name"], row["value"]) for row in store.ledger.rejects().to_pylist()]
    assert told[0] == ("light, status", "on station")
    assert set(told) == {("light, status", "on station")}


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("code = 7", "'code = 7' combines text with a whole number"),
        ("retired = 1", "combines true or false with a whole number"),
        ("retired = 'yes'", "'yes' is not a valid boolean"),
        ("lat > 'north'", "'north' is not a valid number"),
        ("at", "'at' is a whole number"),
        ("lat and retired", "'lat' is a number; expected true or false"),
        ("at + code > 1", "'at + code' calculates with 'code', which is text"),
        ("lat % 2 = 0", "'lat % 2': a remainder is defined for integers only"),
        ("length(at) > 1", "'LENGTH(at)': 'at' is a whole number, not text"),
        ("code like 'A\\_%'", "a pattern must be a string literal without a backslash"),
        ("code like code", "a pattern must be a string literal"),
        ("substring(code from 0) = 'A'", "positions and lengths must be numbers, 1"),
        ("cast(lat as bigint) = 60", "converts a number to a whole number, which differs between stores"),
        ("cast(lat as decimal(3,1)) = 60", "can be cast only to text, varchar, int"),
        ("coalesce(code, at) = 'A'", "combines text with a whole number"),
        ("lat > 123456789012345678901234567890123456789", "has more than 38 digits"),
    ],
)
def test_what_stores_would_read_differently_is_refused(store: brenvik.Store, text: str, said: str) -> None:
    with pytest.raises(FeedError, match=re.escape(said)) as refused:
        load(store, reject_if={"odd": text})
    assert "reject_if.odd: " in str(refused.value)
    assert store.ledger.runs()["state"].to_pylist() == ["failed"]


def test_every_condition_that_does_not_fit_is_told_at_once(store: brenvik.Store) -> None:
    with pytest.raises(FeedError) as refused:
        load(store, reject_if={"one": "code = 1", "other": "at = 'A'"}, delete_if="lat")
    for place in ("reject_if.one: ", "reject_if.other: ", "delete_if: "):
        assert place in str(refused.value)


def test_a_scope_that_brings_texts_and_numbers_together_is_refused(store: brenvik.Store) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no")
    with pytest.raises(FeedError, match="extract_scope: 'firm = 7' combines text with a whole number"):
        store.load(rules, pa.table({"no": [1], "firm": ["a"]}), kind="full_extract", extract_scope="firm = 7")
