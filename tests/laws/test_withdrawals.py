"""Law 7, and what else is worked out of the kept changes: rebuilt tables, the past, what a run decided."""

from __future__ import annotations

from collections import Counter
from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from oracle import Oracle
from scenes import ORDERED, Batch, Scene, cases
from tables import comparable, stored

from stores import fresh


def past(scene: Scene, table: Any) -> list[tuple[str, ...]]:
    return comparable(scene, table.to_pylist())


def oracle_of(scene: Scene, batches: list[Batch]) -> Oracle:
    oracle = Oracle(scene.declared)
    for batch in batches:
        oracle.load(batch.rows)
    return oracle


@given(cases(ORDERED, most=3), st.data())
def test_law_7_withdraw(case: tuple[Scene, list[Batch]], data: st.DataObject) -> None:
    """A table without a run is the table of the same batches without it; put back, it is as it was."""
    scene, made = case
    out: set[int] = set()
    with fresh(scene) as store:
        before = []
        for batch in made:
            scene.load(store, batch)
            before.append(comparable(scene, stored(scene, store)))
        # What came again later was folded: it goes with the run that brought it first.
        oracle = Oracle(scene.declared)
        for number, batch in enumerate(made, 1):
            oracle.batch = number - 1
            oracle.load(batch.rows)
        for _ in range(data.draw(st.integers(1, 3))):
            run = data.draw(st.integers(1, len(made)))
            put_back = run in out
            seen = store.withdraw(scene.rules, run, put_back=put_back, preview=True)
            done = store.withdraw(scene.rules, run, put_back=put_back, reason="tried")
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
        scene.load(store, again)
        remaining.load(again.rows)
        assert comparable(scene, stored(scene, store)) == comparable(scene, remaining.rows())
        for number in range(1, len(made) + 1):
            assert past(scene, store.read(scene.rules, known_at=number)) == before[number - 1]


@given(cases(ORDERED, most=3))
def test_what_a_run_decided_can_be_worked_out_again(case: tuple[Scene, list[Batch]]) -> None:
    scene, made = case
    with fresh(scene) as store:
        told = []
        for batch in made:
            outcome = scene.load(store, batch)
            rows = outcome.decisions().to_pylist()
            told.append([row for row in rows if row["decision"] not in {"duplicate", "rejected"}])
        for run, expected in enumerate(told, 1):
            assert repr(store.decisions(scene.rules, run).to_pylist()) == repr(expected)
        decisions = Counter(row["decision"] for rows in told for row in rows)
        keys = {repr(row["key"]): row["key"] for rows in told for row in rows}
        storied = Counter(row["decision"] for key in keys.values() for row in store.story(scene.rules, key))
        assert storied == decisions
