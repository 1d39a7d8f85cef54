"""An erased key leaves a table as if it had never been in any batch, and stays away."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st
from scenes import ORDERED, Batch, Scene, cases
from stores import fresh
from tables import comparable, stored

from counts import share


@settings(max_examples=share(6))
@given(cases(ORDERED, faults=False), st.data())
def test_the_table_is_as_if_the_key_had_never_been(case: tuple[Scene, list[Batch]], data: st.DataObject) -> None:
    drawn, made = case
    scene = replace(
        drawn, rules=replace(drawn.rules, natural_key_form=()), declared=replace(drawn.declared, key_form=())
    )
    with fresh(scene) as store:
        for batch in made:
            scene.load(store, batch)
        rows = stored(scene, store)
        if not rows:
            return
        gone = {name: value for name, value in data.draw(st.sampled_from(rows)).items() if name in scene.declared.keys}
        others = [row for row in rows if not gone.items() <= row.items()]
        outcome = store.erase(scene.rules, gone, reason="asked for it")
        assert outcome.counts["rows_removed"] == len(rows) - len(others)
        assert comparable(scene, stored(scene, store)) == comparable(scene, others)
        store.rebuild(scene.rules)
        assert comparable(scene, stored(scene, store)) == comparable(scene, others)
        for batch in made:
            scene.load(store, batch)
        assert comparable(scene, stored(scene, store)) == comparable(scene, others)
