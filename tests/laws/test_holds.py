"""Deletes that wait for a person: held, released, dropped, and what the laws say of them."""

from __future__ import annotations

from collections import Counter

from hypothesis import given, settings
from hypothesis import strategies as st
from oracle import Oracle
from scenes import HELD, Batch, Scene, cases
from tables import check_decided_again, comparable, decided, stored

from brenvik.ledger_tables import DECISIONS
from counts import share
from stores import everything, fresh


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
            assert sorted(store.held(rules)["brenvik_hold"].to_pylist()) == sorted(oracle.held)
            before = everything(scene, store)
            again = scene.load(store, batch)
            assert again.counts["duplicate"] == again.counts["read"] == len(batch.rows)
            assert everything(scene, store) == before
            while oracle.held and data.draw(st.booleans()):
                number = data.draw(st.sampled_from(sorted(oracle.held)))
                drop = data.draw(st.booleans())
                seen = store.release(rules, number, drop=drop, preview=True)
                done = store.release(rules, number, drop=drop)
                assert seen.counts == done.counts
                if drop:
                    del oracle.held[number]
                else:
                    oracle.release(number)
                assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())
        check_decided_again(scene, store, runs)
        rebuilt = store.rebuild(rules)
        assert [rebuilt.counts[name] for name in ("rows_added", "rows_updated", "rows_removed")] == [0, 0, 0]
