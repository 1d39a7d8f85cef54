"""Invariant 7, and what else is worked out of the kept changes: rebuilt tables, the past, what a run decided."""

from __future__ import annotations

from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from oracle import Oracle
from scenes import ORDERED, Batch, Scene, cases
from stores import fresh
from tables import check_decided_again, comparable, decided, stored


def past(scene: Scene, table: Any) -> list[tuple[str, ...]]:
    return comparable(scene, table.to_pylist())


@given(cases(ORDERED, most=3), st.data())
def test_invariant_7_withdraw(case: tuple[Scene, list[Batch]], data: st.DataObject) -> None:
    """A table without a run is the table of the same batches without it; put back, it is as it was. What each run decided by
    what was known to it can be told all the while."""
    scene, made = case
    out: set[int] = set()
    with fresh(scene) as store:
        before, runs = [], {}
        for batch in made:
            outcome = scene.load(store, batch)
            runs[outcome.run] = decided(outcome)
            before.append(comparable(scene, stored(scene, store)))
        # What came again later was deduplicated: it goes with the run that brought it first.
        oracle = Oracle(scene.declared)
        for number, batch in enumerate(made, 1):
            oracle.batch = number - 1
            oracle.load(batch.rows)
        for _ in range(data.draw(st.integers(1, 3))):
            run = data.draw(st.integers(1, len(made)))
            undo = run in out
            seen = store.revert(scene.rules, run, undo=undo, preview=True)
            done = store.revert(scene.rules, run, undo=undo, reason="tried")
            assert seen.counts == done.counts
            out ^= {run}
            remaining = oracle.without(out)
            expected = comparable(scene, remaining.rows())
            assert comparable(scene, stored(scene, store)) == expected
            assert past(scene, store.read(scene.rules, without=out)) == expected
            rebuilt = store.rebuild(scene.rules)
            assert [rebuilt.counts[n] for n in ("rows_added", "rows_updated", "rows_removed")] == [0, 0, 0]
            assert past(scene, store.read(scene.rules, known_at=len(made))) == before[-1]
        again = made[data.draw(st.integers(0, len(made) - 1))]
        outcome = scene.load(store, again)
        runs[outcome.run] = decided(outcome)
        remaining.load(again.rows)
        assert comparable(scene, stored(scene, store)) == comparable(scene, remaining.rows())
        for number in range(1, len(made) + 1):
            assert past(scene, store.read(scene.rules, known_at=number)) == before[number - 1]
        check_decided_again(scene, store, runs)
