"""Invariant 6: the same feed gives the same table, the same counts and the same decisions in every store."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from scenes import DRAWN, SCENES, TABLE, Scene, batches, has_long_key
from stores import fresh
from tables import shown, stored

import brenvik
from counts import STORES


def said(scene: Scene, store: brenvik.Store) -> list[dict[str, str]]:
    """All that a table holds but when rows were loaded."""
    stamps = [scene.rules.system_column_name(name) for name in ("first_loaded_at", "last_loaded_at")]
    return [{name: shown(v) for name, v in row.items() if name not in stamps} for row in stored(scene, store)]


def told(outcome: brenvik.Outcome, *, with_times: bool) -> list[str]:
    """Decisions as they are told; SQLite keeps no sign of zero, which is equal all the same."""
    rows = outcome.decisions().to_pylist()
    shown = (str({**row, "effective": row["effective"] if with_times else None}) for row in rows)
    return [re.sub(r"-0\.0(?!\d)", "0.0", each) for each in shown]


@given(st.sampled_from(SCENES), st.sampled_from(DRAWN), st.data())
def test_invariant_6_same_everywhere(scene: Scene, drawn: str, data: st.DataObject) -> None:
    """Loads, a replay and a revert, step by step."""
    has_decimal_order = any(dict(scene.types)[name].startswith("decimal") for name in scene.declared.order)
    kinds = [kind for kind in STORES if kind in {*DRAWN} - {"lakehouse"} | {drawn}]
    kinds = [kind for kind in kinds if kind != "sqlite" or not has_decimal_order]
    kinds = [kind for kind in kinds if kind != "postgres" or not has_long_key(scene)]
    made = data.draw(batches(replace(scene, store="sqlite")))  # values that every store can hold
    out = data.draw(st.integers(1, len(made)))
    with_times = scene.declared.effective is not None
    if scene.rules.time_precision and not with_times:  # else what is one moment in one store may be two in the next
        scene = replace(scene, rules=replace(scene.rules, time_precision="day"))
    found: dict[str, list[Any]] = {}
    for kind in kinds:
        here = replace(scene, store=kind)
        steps = found[kind] = []
        with fresh(here) as store:
            for batch in [*made, *made[:1]]:
                outcome = here.load(store, batch)
                steps += [outcome.counts, told(outcome, with_times=with_times), _without_keys(here, said(here, store))]
            steps.append(store.revert(here.rules, out).counts)
            steps.append(_without_keys(here, said(here, store)))
            assert TABLE in store.ledger.status()
    first, *others = found.values()
    for other in others:
        assert other == first


def _without_keys(scene: Scene, rows: list[dict[str, str]]) -> list[str]:
    """The rows without surrogate keys: which of two new rows comes first is the store's own affair; and times of loads."""
    hidden = [scene.rules.system_column_name("surrogate_key")]
    if scene.declared.effective is None:
        hidden += [scene.rules.system_column_name(name) for name in ("valid_from", "valid_to")]
    return sorted(str({name: value for name, value in row.items() if name not in hidden}) for row in rows)
