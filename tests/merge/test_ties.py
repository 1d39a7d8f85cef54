"""Changes that contradict each other: what is told of them, and what does not contradict."""

from __future__ import annotations

from dataclasses import replace

import pyarrow as pa
import pytest

import brenvik

RULES = brenvik.TableRules(
    "buoy",
    natural_key="code",
    order_by="at",
    not_compared="read_at",
    ignored_differences={"name": "case"},
    types={"at": "integer"},
)


def frame(*rows: tuple[str, int, str, str]) -> pa.Table:
    columns = map(list, zip(*rows, strict=True))
    return pa.table(dict(zip(("code", "at", "name", "read_at"), columns, strict=True)))


def told(outcome: brenvik.Outcome) -> list[str]:
    return [note for note in outcome.notes if "contradict" in note]


def test_a_load_tells_of_keys_with_contradictory_changes(anywhere: brenvik.Store) -> None:
    rows = frame(("A", 1, "a", "x"), ("A", 1, "b", "x"), ("B", 1, "c", "x"), ("B", 1, "C", "y"), ("C", 1, "d", "x"))
    seen, done = (do(RULES, rows, kind="upserts") for do in (anywhere.preview, anywhere.load))
    one = '1 key (A) has contradictory changes with the same at: the last to arrive counts (ties = "latest_arrival").'
    assert told(seen) == told(done) == [one]
    assert one in anywhere.runs().to_pylist()[0]["message"]
    late = frame(("A", 1, "x", "x"), ("B", 1, "c", "z"), ("C", 1, "e", "x"), ("C", 2, "e", "x"))
    assert told(anywhere.load(RULES, late, kind="upserts")) == [one.replace("1 key (A) has", "2 keys (A, …) have")]
    assert told(anywhere.load(RULES, late, kind="upserts")) == []


@pytest.mark.parametrize("change_log", [True, False])
def test_what_is_not_compared_does_not_contradict(anywhere: brenvik.Store, change_log: bool) -> None:
    """The overlap of a window brings rows again, read at another time."""
    rules = replace(RULES, ties="reject", change_log=change_log)
    anywhere.load(rules, frame(("A", 1, "a", "8:00"), ("B", 1, "b", "8:00")), kind="upserts")
    again = anywhere.load(
        rules, frame(("A", 1, "A", "9:00"), ("B", 1, "x", "9:00"), ("B", 1, "B", "9:00")), kind="upserts"
    )
    assert again.counts["rejected"] == (1 if change_log else 2)
    assert [row["name"] for row in anywhere.read(rules).to_pylist()] == ["a", "b"]


def test_rows_of_an_extract_contradict_where_their_key_is_the_same(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("keeper", natural_key="firm", max_deletes=None)
    rows = pa.table({"firm": ["Tern", "Tern", "Skerry", "Skerry"], "town": ["Sund", "Nes", "Nes", "Nes"]})
    outcome = anywhere.load(rules, rows, kind="full_extract", at="2024-05-13")
    assert told(outcome) == [
        '1 key (Tern) has contradictory changes of one extract: the last to arrive counts (ties = "latest_arrival").'
    ]
    strict = replace(rules, table="strict", ties="reject")
    outcome = anywhere.load(strict, rows, kind="full_extract", at="2024-05-13")
    assert (outcome.counts["rejected"], outcome.counts["inserted"]) == (2, 1)
    assert {row["reason"] for row in anywhere.rejects().to_pylist()} == {"contradicts another row with the same firm"}
