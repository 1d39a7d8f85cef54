"""Frames of every library give the same table."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any

import duckdb
import pandas as pd
import polars as pl
import pyarrow as pa
import pytest

import brenvik
from brenvik.errors import DeclarationError, FeedError

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at")
DATA = {
    "code": ["A", "B", "A"],
    "at": [datetime(2024, 5, 13, 8), datetime(2024, 5, 13, 9), datetime(2024, 5, 14, 8, 0, 0, 5)],
    "light": ["Fl", None, "Q"],
    "depth": [1.5, 2.0, None],
}
ARROW = pa.table(DATA)
FRAMES: dict[str, Callable[[], Any]] = {
    "arrow table": lambda: ARROW,
    "arrow reader": lambda: ARROW.to_reader(),
    "pandas": lambda: pd.DataFrame(DATA, index=[7, 8, 9]),
    "polars": lambda: pl.DataFrame(DATA),
    "duckdb": lambda: duckdb.connect(":memory:").from_arrow(ARROW),
}


def expected() -> list[tuple[Any, ...]]:
    first, second, third = DATA["at"]
    return [("A", "Fl", 1.5, first, third), ("A", "Q", None, third, None), ("B", None, 2.0, second, None)]


@pytest.mark.parametrize("kind", FRAMES)
def test_every_kind_of_frame_gives_the_same_table(kind: str) -> None:
    with brenvik.open_store("duckdb::memory:") as store:
        outcome = store.load(RULES, FRAMES[kind](), kind="upserts")
        rows = store.read(RULES).to_pylist()
    assert outcome.counts["inserted"] == 2
    found = [(r["code"], r["light"], r["depth"], r["valid_from"], r["valid_to"]) for r in rows]
    assert [tuple(None if v != v else v for v in row) for row in found] == expected()


def test_a_frame_is_not_changed() -> None:
    frame = pd.DataFrame(DATA)
    before = frame.copy(deep=True)
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(RULES, frame, kind="upserts")
    pd.testing.assert_frame_equal(frame, before)


def test_nanoseconds_are_cut_and_zones_become_utc() -> None:
    moments = pd.to_datetime(["2024-05-13 08:00:00.123456789+02:00"]).as_unit("ns")
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(RULES, pd.DataFrame({"code": ["A"], "at": moments}), kind="upserts")
        (row,) = store.read(RULES).to_pylist()
    assert row["valid_from"].isoformat() == "2024-05-13T06:00:00.123456+00:00"


@pytest.mark.parametrize(
    ("frame", "call", "error", "told"),
    [
        ([{"code": "A"}], {"kind": "upserts"}, FeedError, "from_pylist"),
        (ARROW, {"kind": "changes"}, DeclarationError, "needs the column"),
        (ARROW, {"kind": "upserts", "operation": "op"}, DeclarationError, "has no operations"),
        (ARROW, {"kind": "merge"}, DeclarationError, "expected 'changes', 'upserts', 'full_extract' or 'append'"),
        (ARROW, {"kind": "changes", "operation": "op"}, FeedError, "has no column 'op'"),
        (ARROW.drop_columns("at"), {"kind": "upserts"}, FeedError, "at is not in"),
        (pa.table({"code": [1.5], "at": [1]}), {"kind": "upserts"}, FeedError, "floating-point"),
        (pa.table({"code": ["A"], "at": ["now"]}), {"kind": "upserts"}, FeedError, 'at = "timestamp"'),
        (pa.table({"code": ["A"], "at": [1], "VALID_TO": [1]}), {"kind": "upserts"}, FeedError, "system column"),
        (pa.table({"code": ["A"], "at": [1], "rowid": [1]}), {"kind": "upserts"}, FeedError, "row identifiers"),
        (
            pa.table({"code": ["A"], "at": [1], "brenvik_x": [1]}),
            {"kind": "upserts"},
            FeedError,
            "begins with brenvik_",
        ),
    ],
)
def test_what_does_not_fit_is_told(frame: Any, call: dict[str, Any], error: type[Exception], told: str) -> None:
    with brenvik.open_store("duckdb::memory:") as store:
        with pytest.raises(error, match=told):
            store.load(RULES, frame, **call)
        assert store.read(RULES).num_rows == 0


def test_an_outcome_shows_and_serialises() -> None:
    with brenvik.open_store("duckdb::memory:") as store:
        outcome = store.load(
            RULES, pa.table({"code": ["A", None], "at": [1, 1], "light": ["<b>", "x"]}), kind="upserts"
        )
        told = outcome.decisions().to_pylist()
        with pytest.raises(brenvik.BrenvikError, match="line 2: code is empty"):
            outcome.require_clean()
    assert outcome.to_dict()["counts"]["inserted"] == 1
    assert "2 read = 1 inserted + 1 rejected" in str(outcome)
    assert "<td>1</td>" in outcome._repr_html_()
    assert told[0]["changes"] == [{"column": "light", "before": None, "after": "<b>"}]


def test_operations_of_ones_own() -> None:
    codes = brenvik.Operations("what", insert=("new",), update=("mod",), delete=("gone",))
    frame = pa.table(
        {"what": ["NEW", " mod ", "gone", "D"], "code": ["A", "A", "A", "A"], "at": [1, 2, 3, 4], "x": list("abcd")}
    )
    with brenvik.open_store("duckdb::memory:") as store:
        counts = store.load(RULES, frame, kind="changes", operation=codes).counts
    assert (counts["inserted"], counts["versioned"], counts["deleted"], counts["rejected"]) == (1, 1, 1, 1)


def test_large_loads_tell_their_decisions_only_when_asked_to_keep_them(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("brenvik.merge.plan.staging.EXPLAINED_UNASKED", 2)
    with brenvik.open_store("duckdb::memory:") as store:
        outcome = store.load(RULES, ARROW, kind="upserts")
        with pytest.raises(DeclarationError, match="explain=True"):
            outcome.decisions()
        later = ARROW.set_column(1, "at", pa.array([datetime(2024, 6, day) for day in (1, 2, 3)]))
        later = later.set_column(2, "light", pa.array(["X", "Y", "Z"]))
        told = store.load(RULES, later, kind="upserts", explain=True).decisions().to_pylist()
        assert told[1]["changes"] == [{"column": "light", "before": None, "after": "Y"}]


def test_decisions_of_earlier_outcomes_can_still_be_told() -> None:
    with brenvik.open_store("duckdb::memory:") as store:
        first = store.load(RULES, ARROW.slice(0, 2), kind="upserts")
        second = store.load(RULES, ARROW.slice(2), kind="upserts")
        assert first.decisions()["decision"].to_pylist() == ["inserted", "inserted"]
        assert second.decisions()["decision"].to_pylist() == ["versioned"]


def test_grain_cuts_effective_times() -> None:
    rules = brenvik.TableRules("buoy", natural_key="code", order_by="at", time_precision="day")
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(rules, ARROW, kind="upserts")
        assert [str(row["valid_from"]) for row in store.history(rules, "A").to_pylist()] == [
            "2024-05-13 00:00:00", "2024-05-14 00:00:00",
        ]  # fmt: skip


@pytest.mark.parametrize("module", ["pandas", "pandas.core.frame"])
def test_an_index_is_no_column(module: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pd.DataFrame, "__module__", module)  # where it says that it comes from depends on its version
    frame = pd.DataFrame(DATA)
    kept = pd.concat([frame[frame["code"] == "B"], frame[frame["code"] == "A"]])
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(RULES, kept, kind="upserts")
        again = store.load(RULES, kept.sort_index(ascending=False), kind="upserts")
        names = store.read(RULES).column_names
    assert again.counts["duplicate"] == again.counts["read"] == 3
    assert not [name for name in names if "index" in name]


@pytest.mark.parametrize("make", [pd.DataFrame, lambda rows, columns: pa.table([["A"], ["B"]], names=columns)])
def test_two_columns_of_one_name_are_refused(make: Callable[..., Any]) -> None:
    frame = make([["A", "B"]], columns=["code", "code"]) if make is pd.DataFrame else make(None, ["code", "code"])
    with brenvik.open_store("duckdb::memory:") as store, pytest.raises(FeedError, match=r"code"):
        store.load(brenvik.TableRules("buoy", natural_key="code"), frame, kind="upserts")
