"""A change log that is trimmed: when, what it then refuses, and what goes on as before."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any
from unittest.mock import patch

import pyarrow as pa
import pytest

import brenvik
from brenvik.errors import DeclarationError, RulesError, StaleExtract, StoreError

RULES = brenvik.TableRules(
    "lamp",
    natural_key="code",
    order_by="sent_at",
    type_1="volts",
    types={"volts": "integer"},
    max_deletes=None,
    change_log="400 days",
)


@contextmanager
def clock(today: datetime) -> Iterator[None]:
    """Runs start on this day."""
    with patch("brenvik.ledger.runs.now", lambda: today), patch("brenvik.runs.trim.now", lambda: today):
        yield


def sent(*rows: tuple[str, int, int | None, str], **others: list[Any]) -> pa.Table:
    """Messages of lamps: code, day of May 2024, volts, state."""
    columns: dict[str, list[Any]] = {
        "code": [row[0] for row in rows],
        "sent_at": [datetime(2024, 5, row[1]) for row in rows],
        "volts": [row[2] for row in rows],
        "state": [row[3] for row in rows],
    }
    return pa.table(columns | others)


MAY = sent(
    ("A", 1, 10, "lit"), ("A", 2, 11, "lit"), ("A", 3, 12, "dark"), ("A", 4, 13, "dark"), ("A", 5, 14, "dark"),
    ("B", 1, 10, "lit"),
)  # fmt: skip


def in_log(store: brenvik.Store) -> int:
    return int(store.engine.rows('SELECT count(*) AS n FROM "brenvik"."change_log_lamp"')[0]["n"])


def rows(store: brenvik.Store, rules: brenvik.TableRules = RULES) -> list[dict[str, Any]]:
    return store.read(rules).to_pylist()


def filled(store: brenvik.Store, rules: brenvik.TableRules = RULES) -> None:
    """Loaded in 2024, trimmed in 2026."""
    with clock(datetime(2024, 6, 1)):
        assert store.load(rules, MAY, kind="upserts").run == 1
    with clock(datetime(2026, 6, 1)):
        assert store.trim(rules, keep="400 days").run == 2


def test_loads_trim_it_when_a_twentieth_of_the_period_has_passed(anywhere: brenvik.Store) -> None:
    def load(today: datetime, day: int) -> list[str]:
        with clock(today):
            return anywhere.load(RULES, sent(("B", day, day, "lit")), kind="upserts").notes

    with clock(datetime(2024, 6, 1)):
        anywhere.load(RULES, MAY, kind="upserts")
    assert load(datetime(2025, 7, 10), 10) == []  # more than 400 days later, but not yet another 20
    assert in_log(anywhere) == 7
    assert load(datetime(2025, 8, 1), 11) == ["Run 4 trimmed the change log: 4 changes of 1 key into 3 base states."]
    assert in_log(anywhere) == 7
    assert load(datetime(2025, 8, 20), 12) == []
    assert load(datetime(2025, 8, 22), 13) == []
    assert anywhere.runs(last=1)["message"].to_pylist() == ["Trimmed: nothing is old enough."]
    status = anywhere.ledger.all_trimmed()["lamp"]
    assert (status.run, status.before) == (1, "2024-06-27 00:00:00")


def test_a_load_is_done_even_if_its_log_cannot_be_trimmed(anywhere: brenvik.Store) -> None:
    def broken(*_: Any, **__: Any) -> str:
        raise StoreError("the disk is full")

    with clock(datetime(2024, 6, 1)):
        anywhere.load(RULES, MAY, kind="upserts")
    with clock(datetime(2026, 6, 1)), patch("brenvik.merge.trim.find_old", broken):
        outcome = anywhere.load(RULES, sent(("B", 10, 11, "lit")), kind="upserts")
    assert outcome.state == "done"
    assert outcome.notes == ["The change log could not be trimmed: the disk is full"]
    assert anywhere.runs()["state"].to_pylist() == ["failed", "done", "done"]
    assert in_log(anywhere) == 7


def test_a_preview_trims_nothing(anywhere: brenvik.Store) -> None:
    with clock(datetime(2024, 6, 1)):
        anywhere.load(RULES, MAY, kind="upserts")
    with clock(datetime(2026, 6, 1)):
        seen = anywhere.trim(RULES, preview=True)
        assert (seen.run, seen.notes) == (None, ["To trim: 4 changes of 1 key into 3 base states."])
        anywhere.preview(RULES, sent(("B", 10, 11, "lit")), kind="upserts")
    assert (in_log(anywhere), anywhere.runs().num_rows) == (6, 1)


def test_what_lies_behind_it_is_refused(anywhere: brenvik.Store) -> None:
    filled(anywhere)
    late = sent(("A", 2, 1, "late"), ("A", 4, 13, "dark"), ("B", 1, 10, "lit"), ("A", 6, 15, "lit"))
    outcome = anywhere.load(RULES, late, kind="upserts")
    assert [row["decision"] for row in outcome.decisions().to_pylist()] == [
        "rejected",
        "rejected",
        "duplicate",
        "versioned",
    ]
    (first, _) = anywhere.rejects().to_pylist()
    assert first["column_name"] == "sent_at"
    assert str(first["value"]).startswith("2024-05-02")
    assert first["reason"] == "not after 2024-05-04 00:00:00, up to which the changes of its key are trimmed"
    assert '"volts":' in first["content"]
    for call in (
        lambda: anywhere.revert(RULES, 1),
        lambda: anywhere.decisions(RULES, 1),
        lambda: anywhere.read(RULES, without=[1]),
    ):
        with pytest.raises(DeclarationError, match="trimmed up to run 1"):
            call()
    assert [row["run"] for row in anywhere.change_log(RULES, "A")] == [3]
    assert len(rows(anywhere)) == 4
    assert anywhere.revert(RULES, 3).counts["rows_removed"] == 1


def test_an_extract_from_before_is_blocked(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("lamp", natural_key="code", type_1="volts", change_log="400 days")

    def extract(volts: str) -> pa.Table:
        return pa.table({"code": ["A", "B"], "volts": [volts, "11"]})

    with clock(datetime(2024, 6, 1)):
        for day, volts in enumerate(("10", "11", "12", "13"), 1):
            anywhere.load(rules, extract(volts), kind="full_extract", at=f"2024-05-0{day}", allow_changes=9)
    with clock(datetime(2026, 6, 1)):
        assert anywhere.trim(rules).counts["changes_trimmed"] == 3
        for at in ("2025-01-01", "2025-04-26"):
            with pytest.raises(StaleExtract, match=r"trimmed up to 2025-04-27(?s:.*)not known any more"):
                anywhere.load(rules, extract("13"), kind="full_extract", at=at)
        outcome = anywhere.load(rules, extract("13"), kind="full_extract", at="2025-04-27")
    assert outcome.counts["unchanged"] == 2


def test_rows_dated_by_the_caller_are_refused_by_their_keys(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("lamp", natural_key="code", change_log="400 days")

    def load(at: str, state: str) -> brenvik.Outcome:
        return anywhere.load(rules, pa.table({"code": ["A"], "state": [state]}), kind="upserts", at=at)

    with clock(datetime(2024, 6, 1)):
        for day, state in enumerate(("lit", "lit", "lit", "dark"), 1):
            load(f"2024-05-0{day}", state)
    with clock(datetime(2026, 6, 1)):
        assert anywhere.trim(rules).notes == ["Trimmed: 3 changes of 1 key into 2 base states."]
        assert load("2024-05-02", "dark").counts["rejected"] == 1
        assert load("2024-05-03 12:00", "dark").counts["versioned"] == 1
    (reject,) = anywhere.rejects().to_pylist()
    assert (reject["column_name"], reject["value"]) == ("code", "A")


def test_columns_change_after_it_as_before(anywhere: brenvik.Store) -> None:
    filled(anywhere)
    wider = replace(RULES, renamed={"state": "light"}, types={"volts": "decimal(9,2)"})
    more = sent(("A", 6, 15, "dark"), place=["on deck"])
    outcome = anywhere.load(wider, more, kind="upserts")
    assert outcome.counts["versioned"] == 1
    before = rows(anywhere, wider)
    assert [(str(row["volts"]), row["light"], row["place"]) for row in before if row["code"] == "A"] == [
        ("15.00", "lit", None), ("15.00", "dark", None), ("15.00", "dark", "on deck"),
    ]  # fmt: skip
    assert anywhere.rebuild(wider).counts["rows_updated"] == 0
    assert rows(anywhere, wider) == before
    late = sent(("A", 5, 14, "dark"), ("B", 2, 20, "lit")).rename_columns(["code", "sent_at", "volts", "light"])
    counts = anywhere.load(wider, late, kind="upserts").counts
    assert (counts["duplicate"], counts["overwritten"]) == (1, 1)
    anywhere.erase(wider, "A", reason="asked for it")
    assert {row["code"] for row in rows(anywhere, wider)} == {"B"}


def test_the_period_can_come_and_go_without_a_rebuild(anywhere: brenvik.Store) -> None:
    for_good = replace(RULES, change_log=True)
    anywhere.load(for_good, MAY, kind="upserts")
    anywhere.load(RULES, sent(("A", 6, 15, "lit")), kind="upserts")
    anywhere.load(for_good, sent(("A", 7, 15, "lit")), kind="upserts")
    with pytest.raises(DeclarationError, match=r"keeps all changes.*400 days"):
        anywhere.trim(for_good)
    assert anywhere.trim(for_good, keep=timedelta(0)).notes == ["Trimmed: 6 changes of 1 key into 3 base states."]


def test_other_tables_are_not_trimmed() -> None:
    store = brenvik.open_store("duckdb::memory:")
    for rules, frame, why in (
        (replace(RULES, change_log=False), MAY, "no change log"),
        (
            brenvik.TableRules("by number", natural_key="code", order_by="no", max_deletes=None),
            pa.table({"code": ["A"], "no": [1], "state": ["lit"]}),
            "is an integer",
        ),
        (replace(RULES, change_log=True, type_0="state", type_0_changes="first_arrived"), MAY, "arrived first"),
    ):
        named = replace(rules, table=f"{rules.table} {why}")
        store.load(named, frame, kind="upserts")
        with pytest.raises(DeclarationError, match=why):
            store.trim(named, keep="1 day")
    with pytest.raises(DeclarationError, match="never been loaded"):
        store.trim(replace(RULES, table="none"))
    for keep in ("soon", timedelta(-1), "9" * 20 + " days"):
        with pytest.raises(DeclarationError, match="expected a period, as in '7 days', got"):
            store.trim(RULES, keep=keep)


def test_a_period_longer_than_time_keeps_all() -> None:
    store = brenvik.open_store("duckdb::memory:")
    rules = replace(RULES, change_log="1000000 days")
    store.load(rules, MAY, kind="upserts")
    assert store.trim(rules).notes == ["Trimmed: nothing is old enough."]


@pytest.mark.parametrize(
    ("given", "why"),
    [
        (
            {"change_log": "some days"},
            "change_log: expected true, false, or a period as in \"400 days\", got 'some days'",
        ),
        ({"change_log": 3}, "expected true, false, or a period"),
        ({"type_0": ["state"], "type_0_changes": "first_arrived"}, "it would be unknown what arrived first"),
        ({"types": {"sent_at": "integer"}}, "sent_at is integer; a period needs a date or timestamp"),
    ],
)
def test_rules_that_do_not_go_with_a_period(given: dict[str, Any], why: str) -> None:
    with pytest.raises(RulesError) as raised:
        brenvik.TableRules(
            **{"table": "lamp", "natural_key": "code", "order_by": "sent_at", "change_log": "9 days"} | given
        )
    assert why in str(raised.value)
