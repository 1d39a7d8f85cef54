"""Rows without a time of their own, loaded with one: as if they had it in a column."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from oracle import Oracle
from scenes import EXTRACTED, Batch, Scene, batches, some
from stores import fresh
from tables import comparable, stored

import brenvik
from brenvik.errors import DeclarationError
from brenvik.model.decisions import DECISIONS
from counts import share

MOMENTS = [datetime(2024, 5, 13) + timedelta(hours=9 * n, seconds=n) for n in range(5)]


@settings(max_examples=share(20))
@given(some(EXTRACTED), st.data())
def test_rows_are_dated_by_the_caller(scene: Scene, data: st.DataObject) -> None:
    """In any order of times, with or without a change log, the oracle's table and decisions come out."""
    made: list[Batch] = data.draw(batches(scene, most=4))
    oracle = Oracle(scene.declared)
    with fresh(scene) as store:
        for batch in made:
            at = data.draw(st.sampled_from(MOMENTS))
            operation = "op" if scene.kind == "changes" and "op" in batch.columns else None
            kind = scene.kind if operation or scene.kind != "changes" else "upserts"
            frame = scene.frame(batch.rows, batch.columns)
            how = {"kind": kind, "operation": operation, "feed": "frame" if operation else "second", "at": at}
            seen = store.preview(scene.rules, frame, **how)  # type: ignore[arg-type]
            outcome = store.load(scene.rules, frame, **how)  # type: ignore[arg-type]
            assert seen.counts == outcome.counts
            assert f"The rows are dated {at}." in outcome.notes
            expected = oracle.load(batch.rows, at)
            counts = {name: outcome.counts[name] for name in DECISIONS if outcome.counts[name]}
            assert counts == {name: expected.count(name) for name in DECISIONS if name in expected}
            assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())


def test_a_time_is_for_rows_without_one(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("buoy", natural_key="code", order_by="no")
    frame = {"code": ["A"], "no": [1]}
    with pytest.raises(
        DeclarationError, match="at is for rows without a time; those of the pyarrow Table have theirs: no"
    ):
        anywhere.load(rules, pa.table(frame), kind="upserts", at="2024-05-13")
    plain = brenvik.TableRules("buoy", natural_key="code")
    with pytest.raises(DeclarationError, match="is in the future; nothing was loaded"):
        anywhere.load(plain, pa.table(frame), kind="upserts", at="2999-05-13")
    with pytest.raises(DeclarationError, match="at: expected a time as in"):
        anywhere.load(plain, pa.table(frame), kind="upserts", at="soon")
    told = anywhere.load(plain, pa.table(frame), kind="upserts", at="2024-05-13")
    assert told.notes == ["The rows are dated 2024-05-13 00:00:00."]
    assert [run["message"] for run in anywhere.runs().to_pylist()][:1] == told.notes
    assert [row["valid_from"] for row in anywhere.read(plain).to_pylist()] == [datetime(2024, 5, 13)]


def test_the_time_of_an_extract_is_an_instant_in_its_zone(tmp_path: Path) -> None:
    """A table whose times are instants: it was made by changes, and its extracts have no time of their own."""
    rules = brenvik.TableRules(
        "buoy",
        natural_key="code",
        effective_at="since",
        types={"since": "timestamp with time zone"},
        time_zone="Europe/Oslo",
    )
    (tmp_path / "1.csv").write_text("code,light,since\nA,Fl,\n")
    feed = brenvik.FileFeed("files", "full_extract", None, str(tmp_path / "*.csv"))
    for number, (at, expected) in enumerate(
        (("2024-05-13T10:00:00+05:00", "2024-05-13 05:00"), ("2024-05-13 10:00", "2024-05-13 08:00"))
    ):
        with brenvik.open_store(f"duckdb:{tmp_path / f'{number}.duckdb'}") as store:
            store.load(rules, feed, at=at)
            (row,) = store.read(rules).to_pylist()
        assert f"{row['valid_from'].astimezone(UTC):%Y-%m-%d %H:%M}" == expected
