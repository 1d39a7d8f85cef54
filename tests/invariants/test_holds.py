"""Deletes that wait for a person: held, released, dropped, and what the invariants say of them."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st
from oracle import Oracle
from scenes import HELD, IGNORED, Batch, Scene, cases
from stores import everything, fresh
from tables import check_decided_again, comparable, decided, stored

from brenvik.model.decisions import DECISIONS
from counts import share


@settings(max_examples=share(20))
@given(cases(HELD, most=3), st.data())
def test_deletes_wait_until_they_are_released(case: tuple[Scene, list[Batch]], data: st.DataObject) -> None:
    scene, made = case
    rules = scene.rules
    oracle = Oracle(scene.declared, holds=True)
    with fresh(scene) as store:
        runs = {}
        for batch in made:
            seen = scene.load(store, batch, preview=True)
            outcome = scene.load(store, batch)
            runs[outcome.run] = decided(outcome)
            expected = oracle.load(batch.rows)
            assert seen.counts == outcome.counts
            counts = {name: outcome.counts[name] for name in DECISIONS if outcome.counts[name]}
            assert counts == Counter(expected) == Counter(outcome.decisions()["decision"].to_pylist())
            assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())
            assert sorted(store.pending_deletes(rules)["brenvik_delete_no"].to_pylist()) == sorted(oracle.held)
            before = everything(scene, store)
            again = scene.load(store, batch)
            assert again.counts["duplicate"] == again.counts["read"] == len(batch.rows)
            assert everything(scene, store) == before
            while oracle.held and data.draw(st.booleans()):
                number = data.draw(st.sampled_from(sorted(oracle.held)))
                discard = data.draw(st.booleans())
                decide = store.discard_deletes if discard else store.approve_deletes
                seen = decide(rules, number, preview=True)
                done = decide(rules, number)
                assert seen.counts == done.counts
                if discard:
                    del oracle.held[number]
                else:
                    oracle.release(number)
                assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())
        check_decided_again(scene, store, runs)
        rebuilt = store.rebuild(rules)
        assert [rebuilt.counts[name] for name in ("rows_added", "rows_updated", "rows_removed")] == [0, 0, 0]


@settings(max_examples=share(20))
@given(cases(IGNORED, most=3))
def test_deletes_that_are_ignored_end_nothing_until_the_rules_say_that_they_do(case: tuple[Scene, list[Batch]]) -> None:
    scene, made = case
    ignoring, closing = Oracle(scene.declared, ignores=True), Oracle(scene.declared)
    with fresh(scene) as store:
        for batch in made:
            outcome = scene.load(store, batch)
            expected = ignoring.load(batch.rows)
            assert Counter(expected) == Counter(outcome.decisions()["decision"].to_pylist())
            assert comparable(scene, stored(scene, store)) == comparable(scene, ignoring.rows())
            closing.load(batch.rows)
        closes = replace(scene, rules=replace(scene.rules, deletes="close"))
        store.rebuild(closes.rules)
        assert comparable(closes, stored(closes, store)) == comparable(closes, closing.rows())
