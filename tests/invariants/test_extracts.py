"""Extracts: what their rows say, and what is absent from them, against the oracle."""

from __future__ import annotations

from collections import Counter
from datetime import datetime, timedelta
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from oracle import Oracle
from scenes import EXTRACTED, Scene, keys_of, pool, some
from stores import everything, fresh
from tables import comparable, stored

import brenvik
from brenvik.model.decisions import DECISIONS
from counts import share

Extract = tuple[datetime, list[dict[str, Any]], tuple[str, ...]]
_FIRST = datetime(2024, 5, 13, 1, 30)


@st.composite
def extracts(draw: st.DrawFn) -> tuple[Scene, list[Extract]]:
    """A few extracts of few keys, in the order of their times; now and then two of the same time."""
    scene = draw(some(EXTRACTED))
    d = scene.declared
    domains = {name: st.sampled_from([None, *pool(scene, name)[:2]]) for name in d.values}
    key = st.fixed_dictionaries({name: st.sampled_from(keys_of(scene, name)) for name in d.keys})
    row = st.builds(lambda k, rest: k | rest, key, st.fixed_dictionaries(domains))
    at, made = _FIRST, []
    for _ in range(draw(st.integers(1, 4))):
        at += timedelta(days=draw(st.sampled_from([1, 1, 1, 0])))
        unique = draw(st.integers(0, 3)) > 0
        rows = draw(
            st.lists(row, max_size=5, unique_by=(lambda r: repr([r[name] for name in d.keys])) if unique else None)
        )
        if draw(st.integers(0, 5)) == 0 and rows:
            rows.append({**rows[0], d.keys[0]: None})
        gone = draw(st.sets(st.sampled_from(d.values), max_size=1)) if made and draw(st.integers(0, 4)) == 0 else set()
        columns = tuple(name for name in (*d.keys, *d.values) if name not in gone)
        made.append((at, [{name: each[name] for name in columns} for each in rows], columns))
    return scene, made


def take(scene: Scene, store: brenvik.Store, extract: Extract, *, preview: bool = False) -> brenvik.Outcome:
    at, rows, columns = extract
    if preview:
        return store.preview(scene.rules, scene.frame(rows, columns), kind="full_extract", at=at)
    return store.load(scene.rules, scene.frame(rows, columns), kind="full_extract", at=at, allow_deletes=10**6)


@settings(max_examples=share(20))
@given(extracts())
def test_extracts_are_taken_as_the_oracle_takes_them(case: tuple[Scene, list[Extract]]) -> None:
    scene, made = case
    oracle = Oracle(scene.declared)
    with fresh(scene) as store:
        for at, rows, columns in made:
            seen = take(scene, store, (at, rows, columns), preview=True)
            outcome = take(scene, store, (at, rows, columns))
            expected = oracle.extract(rows, at)
            counts = outcome.counts
            assert seen.counts == counts
            assert counts["read"] == len(rows)
            assert counts["read"] + counts["derived"] == len(expected) == sum(counts[name] for name in DECISIONS)
            assert {name: counts[name] for name in DECISIONS if counts[name]} == dict(Counter(expected))
            assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())
            before = everything(scene, store)
            again = take(scene, store, (at, rows, columns))
            oracle.extract(rows, at)
            keyed = [scene.declared.with_key(row) for row in rows]
            if len({repr([row[name] for name in scene.declared.keys]) for row in keyed}) == len(rows):
                assert again.counts["unchanged"] + again.counts["protected"] + again.counts["duplicate"] == len(rows)
                assert everything(scene, store) == before
        assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())
        rebuilt = store.rebuild(scene.rules)
        assert [rebuilt.counts[name] for name in ("rows_added", "rows_updated", "rows_removed")] == [0, 0, 0]


def as_if(scene: Scene, made: list[Extract], out: set[int]) -> list[tuple[str, ...]]:
    """The table of the same extracts without some (numbered from 1), as if these had never been."""
    oracle = Oracle(scene.declared)
    for number, (at, rows, _) in enumerate(made, 1):
        if number not in out:
            oracle.extract(rows, at)
    return comparable(scene, oracle.rows())


@settings(max_examples=share(20))
@given(extracts(), st.data())
def test_invariant_7_of_extracts(case: tuple[Scene, list[Extract]], data: st.DataObject) -> None:
    """Without an extract, the next one still says all that it said."""
    scene, made = case
    out: set[int] = set()
    runs: list[int] = []
    with fresh(scene) as store:
        for number, extract in enumerate(made, 1):
            done = take(scene, store, extract)
            assert done.run
            runs.append(done.run)
            assert comparable(scene, stored(scene, store)) == as_if(scene, made[:number], out)
            while data.draw(st.booleans()):
                target = data.draw(st.integers(1, number))
                seen = store.revert(scene.rules, runs[target - 1], undo=target in out, preview=True)
                done = store.revert(scene.rules, runs[target - 1], undo=target in out)
                assert seen.counts == done.counts
                out ^= {target}
                assert comparable(scene, stored(scene, store)) == as_if(scene, made[:number], out)


@pytest.mark.parametrize("deletes", ["close", "review"])
def test_what_one_extract_leaves_open_the_next_one_says(anywhere: brenvik.Store, deletes: str) -> None:
    """The second extract has a row that is refused, or a delete that waits: without the first, the third brought the key."""
    keeper = brenvik.TableRules(
        "keeper", natural_key=["firm"], deletes=deletes, types={"firm": "text", "town": "text(8)"}
    )

    def extract(day: int, towns: dict[str, str]) -> int:
        frame = pa.table({"firm": list(towns), "town": list(towns.values())})
        return int(
            anywhere.load(keeper, frame, kind="full_extract", at=datetime(2024, 5, day), allow_deletes=1).run or 0
        )

    first = extract(13, {"Tern & Daughters": "Halvor", "Skerry Works": "Sund"})
    extract(14, {"Tern & Daughters": "Halvor", **({"Skerry Works": "far too long"} if deletes == "close" else {})})
    extract(15, {"Tern & Daughters": "Halvor", "Skerry Works": "Sund"})
    extract(16, {"Tern & Daughters": "Halvor", "Skerry Works": "Sund"})
    anywhere.revert(keeper, first)
    rows = anywhere.read(keeper).select(["firm", "town", "valid_from", "is_current"]).to_pylist()
    assert sorted(tuple(row.values()) for row in rows) == [
        ("Skerry Works", "Sund", datetime(2024, 5, 15), True),
        ("Tern & Daughters", "Halvor", datetime(2024, 5, 14), True),
    ]
