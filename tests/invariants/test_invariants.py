"""The invariants of the design, each tried on feeds drawn at random and held against the oracle."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from oracle import Oracle, cut, plain
from scenes import ORDERED, SCENES, UNKEPT, Batch, Scene, cases
from stores import everything, fresh
from tables import comparable, shown, stored

import brenvik
from brenvik.model.decisions import DECISIONS
from counts import share


def loaded_at(store: brenvik.Store) -> Any:
    return store.ledger.runs(last=1)["started_at"][0].as_py()


@given(cases())
def test_invariants_1_and_4_accounting_and_time_line(case: tuple[Scene, list[Batch]]) -> None:
    """Every row read is decided once, as the oracle decides it; the table changes by exactly the rows asked for, and each
    key's versions make a time line."""
    scene, made = case
    oracle = Oracle(scene.declared)
    key, last_run = scene.own["surrogate_key"], scene.own["last_run"]
    with fresh(scene) as store:
        for batch in made:
            before = {row[key]: row for row in stored(scene, store)}
            outcome = scene.load(store, batch)
            expected = Counter(oracle.load(batch.rows, loaded_at(store)))
            counts = outcome.counts
            assert counts["read"] == len(batch.rows) == sum(counts[name] for name in DECISIONS)
            assert {name: counts[name] for name in DECISIONS if counts[name]} == dict(expected)
            after = {row[key]: row for row in stored(scene, store)}
            check_time_line(scene, list(after.values()))
            assert counts["rows_added"] == len(after.keys() - before.keys())
            assert counts["rows_removed"] == len(before.keys() - after.keys())
            touched = [k for k in before.keys() & after.keys() if shown_row(before[k]) != shown_row(after[k])]
            assert counts["rows_updated"] == len(touched)
            assert all(after[k][last_run] == outcome.run for k in touched)
            assert counts["rows_after"] == len(after)
            told = Counter(outcome.decisions()["decision"].to_pylist())
            assert told == expected
        assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())


def shown_row(row: dict[str, Any]) -> str:
    return str({name: shown(value) for name, value in row.items()})


@given(cases(ORDERED), st.data())
def test_invariant_2_replay(case: tuple[Scene, list[Batch]], data: st.DataObject) -> None:
    """Taking any batches again, whole or in part, touches no row."""
    scene, made = case
    with fresh(scene) as store:
        for batch in made:
            scene.load(store, batch)
        before = everything(scene, store)
        for batch in data.draw(st.lists(st.sampled_from(made), min_size=1, max_size=3)):
            rows = data.draw(st.lists(st.sampled_from(batch.rows))) if batch.rows else []
            outcome = scene.load(store, Batch(rows, batch.columns))
            assert outcome.counts["duplicate"] == outcome.counts["read"] == len(rows)
        assert everything(scene, store) == before


@settings(max_examples=share(4))
@given(cases(ORDERED, faults=False, absent=True), st.data())
def test_invariant_3_order_free(case: tuple[Scene, list[Batch]], data: st.DataObject) -> None:
    """Any split into batches, any order of them, any repetition: the same table."""
    scene, made = case
    d = scene.declared
    changes: dict[Any, tuple[dict[str, Any], tuple[str, ...]]] = {}
    for batch in made:
        for row in batch.rows:
            since = row[d.effective] if d.effective else None
            since = cut(since, d.precision, d.zone) if d.precision and since is not None else since
            keyed = d.with_key(row)
            place = (*(plain(keyed[name]) for name in (*d.keys, *d.order)), plain(since))
            changes.setdefault(place, (row, batch.columns))  # one change a place: no tie contradicts another
    if d.first_arrived:  # what arrives first is another thing in another order
        d = replace(d, type_0=())
    oracle = Oracle(scene.declared)
    oracle.load([row for row, _ in changes.values()])
    mixed = data.draw(st.permutations(list(changes.values())))
    repeated = mixed + (data.draw(st.lists(st.sampled_from(mixed), max_size=4)) if mixed else [])
    with fresh(scene) as store:
        while repeated:
            size = data.draw(st.integers(1, len(repeated)))
            part, repeated = repeated[:size], repeated[size:]
            for columns in dict.fromkeys(names for _, names in part):
                scene.load(store, Batch([row for row, names in part if names == columns], columns))
        shown = replace(scene, declared=d)
        assert comparable(shown, stored(scene, store)) == comparable(shown, oracle.rows())


@settings(max_examples=share(8))
@given(cases([scene for scene in SCENES if scene.declared.type_0 and not scene.declared.first_arrived]))
def test_refused_changes_of_type_0_are_counted(case: tuple[Scene, list[Batch]]) -> None:
    """A load is blocked by as many changes as say something else than what was known, and allowed to take them."""
    scene, made = case
    scene = replace(scene, rules=replace(scene.rules, type_0_changes="refuse"))
    oracle = Oracle(scene.declared)
    with fresh(scene) as store:
        for batch in made:
            seen = scene.load(store, batch, preview=True)
            scene.load(store, batch, allow_type_0=100)
            oracle.load(batch.rows, loaded_at(store))
            said = re.search(r"--allow-type-0 (\d+)", str(seen.blocked_by))
            assert int(said[1] if said else 0) == oracle.altered
        assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())


def check_time_line(scene: Scene, rows: list[dict[str, Any]]) -> None:
    """Per key: versions in order, none empty, at most one current; neighbours that touch differ; gaps are deletes."""
    own, d = scene.own, scene.declared
    keys: dict[Any, list[dict[str, Any]]] = {}
    for row in rows:
        keys.setdefault(tuple(shown(row[name]) for name in d.keys), []).append(row)
    if not d.type_2:
        assert all(len(versions) == 1 for versions in keys.values())
        return
    start, end = str(own["valid_from"]), str(own["valid_to"])
    for versions in keys.values():
        versions.sort(key=lambda row: row[start])
        open_ends = [row for row in versions if is_open(scene, row[end])]
        assert len(open_ends) <= 1
        assert all(row is versions[-1] for row in open_ends)
        if own["is_current"]:
            assert [row for row in versions if row[own["is_current"]]] == open_ends
        for row in versions:
            assert is_open(scene, row[end]) or row[start] < row[end]
        for one, next_one in itertools.pairwise(versions):
            assert one[end] <= next_one[start]
            if one[end] == next_one[start]:
                assert any(plain(one[name]) != plain(next_one[name]) for name in d.type_2)
            elif own["is_deleted"]:
                assert one[own["is_deleted"]]


def is_open(scene: Scene, value: Any) -> bool:
    return value is None or (scene.rules.open_end is not None and str(value)[:10] == "9999-12-31")


@given(cases(most=2), st.integers(0, 3))
def test_invariant_5_all_or_nothing(case: tuple[Scene, list[Batch]], good: int) -> None:
    """A load whose source breaks off writes nothing but its failed run; the next one completes the work."""
    scene, made = case
    *earlier, last = made
    with fresh(scene) as store:
        for batch in earlier:
            scene.load(store, batch)
        before = everything(scene, store)
        state = store.ledger.state(scene.rules.table) if earlier else None
        frame = scene.frame(last.rows, last.columns)

        def breaks_off() -> Iterator[pa.RecordBatch]:
            yield from frame.slice(0, good).to_batches()
            raise OSError("the line went dead")

        reader = pa.RecordBatchReader.from_batches(frame.schema, breaks_off())
        operation = "op" if scene.kind == "changes" else None
        with pytest.raises(brenvik.BrenvikError):
            store.load(scene.rules, reader, kind=scene.kind, operation=operation)  # type: ignore[arg-type]
        assert everything(scene, store) == before
        assert store.ledger.runs(last=1)["state"].to_pylist() == ["failed"]
        if earlier:
            assert store.ledger.state(scene.rules.table) == state
        oracle = Oracle(scene.declared)
        scene.load(store, last)
        stamps = [row["started_at"] for row in reversed(store.ledger.runs().to_pylist()) if row["state"] == "done"]
        for batch, at in zip(made, stamps, strict=True):
            oracle.load(batch.rows, at)
        assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())


@given(cases(most=2))
def test_invariant_8_preview_is_the_load(case: tuple[Scene, list[Batch]]) -> None:
    """What a preview says is what the load does, and a preview writes nothing."""
    scene, made = case
    with fresh(scene) as store:
        for batch in made:
            before = everything(scene, store)
            seen = scene.load(store, batch, preview=True)
            assert everything(scene, store) == before
            done = scene.load(store, batch)
            assert seen.counts == done.counts
            told, did = (o.decisions() for o in (seen, done))
            if scene.declared.effective is None:  # the time of the load is another one
                told, did = (t.drop_columns(["effective"]) for t in (told, did))
            assert shown_table(told) == shown_table(did)


def shown_table(table: pa.Table) -> list[str]:
    return [repr(row) for row in table.to_pylist()]


@given(cases(UNKEPT, faults=False, absent=False, second=False))
def test_without_kept_changes_batches_in_order_give_the_same_table(case: tuple[Scene, list[Batch]]) -> None:
    """Without kept changes the oracle's table comes out as long as no change is late."""
    scene, made = case
    d = scene.declared
    rows = [row for batch in made for row in batch.rows]
    times = (*d.order, *filter(None, [d.effective]))
    rows.sort(key=lambda row: tuple(row[name] for name in times))
    oracle = Oracle(d)
    with fresh(scene) as store:
        part: list[dict[str, Any]] = []
        for index, row in enumerate(rows):
            part.append(row)
            rest = rows[index + 1 :]
            high_order = max(tuple(r[n] for n in d.order) for r in part)
            high_effective = max(r[str(d.effective)] for r in part)
            if all(tuple(r[n] for n in d.order) > high_order and r[str(d.effective)] > high_effective for r in rest):
                scene.load(store, Batch(part, made[0].columns))
                oracle.load(part)
                assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())
                part = []
