"""What several properties do with a table."""

from __future__ import annotations

from collections.abc import Callable

from hypothesis import strategies as st
from oracle import Oracle
from scenes import Batch, Scene
from stores import everything, fresh

import brenvik


def through_every_run(
    scene: Scene,
    made: list[Batch],
    data: st.DataObject,
    check: Callable[[Scene, brenvik.Store, Oracle], None],
) -> None:
    """Loads batches, rebuilds the table, which changes nothing, and reverts a run; checks the table after each."""
    oracle = Oracle(scene.declared)
    with fresh(scene) as store:
        for batch in made:
            oracle.load(batch.rows)
            scene.load(store, batch)
            check(scene, store, oracle)
        was = everything(scene, store)
        store.rebuild(scene.rules)
        assert everything(scene, store) == was
        out = data.draw(st.integers(1, len(made)))
        store.revert(scene.rules, out)
        check(scene, store, oracle.without({out}))
