"""A table that is rebuilt under other rules is the table that these rules would have made."""

from __future__ import annotations

import re
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from oracle import Oracle
from scenes import ORDERED, Batch, Scene, cases
from stores import everything, fresh
from tables import comparable, stored
from test_invariants import check_time_line

import brenvik
from brenvik.errors import BrenvikError, RulesChanged

ROLES = ("type_0", "type_1", "type_2", "not_compared")


@st.composite
def other_rules(draw: st.DrawFn, scene: Scene) -> Scene:
    """The same feed under rules of which some differ: roles, deletes, one key column less, order, effective time."""
    d, rules = scene.declared, scene.rules
    drops_key = (
        len(d.keys) > 1 and not d.key_form and draw(st.integers(0, 3)) == 0
    )  # texts are logged in the key's form
    keys = d.keys[1:] if drops_key else d.keys
    columns = [*d.values, *(name for name in d.keys if name not in keys)]
    possible = draw(
        st.sampled_from([ROLES, ("type_0", "type_1", "type_2"), ("type_1", "type_2"), ("type_2",), ("type_1",)])
    )
    roles: dict[str, tuple[str, ...]] = dict.fromkeys(ROLES, ())
    for name in columns:
        role = draw(st.sampled_from(possible))
        roles[role] = (*roles[role], name)
    kept = [name for name in roles["type_1"] if draw(st.integers(0, 3)) == 0]
    type_3 = {name: f"before {n}" for n, name in enumerate(kept)}
    ruled = {**roles, "type_1": tuple(name for name in roles["type_1"] if name not in kept), "type_3": type_3}
    order = d.order[::-1] if draw(st.booleans()) else d.order
    deletes = draw(st.sampled_from(["close", "remove"]))
    types = dict(scene.types)
    times = [name for name in (*d.order, d.effective) if name and types[name] == types[str(d.effective)]]
    effective = draw(st.sampled_from(times)) if draw(st.integers(0, 3)) == 0 else d.effective
    declared = replace(d, keys=keys, order=order, effective=effective, deletes=deletes, type_3=type_3, **roles)
    try:
        others = replace(rules, natural_key=keys, order_by=order, effective_at=effective, deletes=deletes, **ruled)  # type: ignore[arg-type]
    except (BrenvikError, ValueError):  # versions need columns that this table leaves out
        assume(False)
        raise
    return replace(scene, rules=others, declared=declared)


@given(cases(ORDERED, faults=False), st.data())
def test_a_rebuilt_table_is_what_its_rules_make_of_all_changes(
    case: tuple[Scene, list[Batch]], data: st.DataObject
) -> None:
    scene, made = case
    other = data.draw(other_rules(scene))
    oracle = Oracle(other.declared)
    with fresh(scene) as store:
        for batch in made:
            scene.load(store, batch)
            oracle.load(batch.rows)
        before = everything(scene, store)
        if _needs_rebuild(scene) != _needs_rebuild(other):
            with pytest.raises(RulesChanged):
                other.load(store, made[0])
            assert everything(scene, store) == before
        seen = store.rebuild(other.rules, preview=True)
        assert everything(scene, store) == before
        done = store.rebuild(other.rules, drop_columns=True)
        assert seen.counts == done.counts
        rows = stored(other, store)
        assert comparable(other, rows) == comparable(other, oracle.rows())
        assert done.counts["rows_after"] == len(rows)
        check_time_line(other, rows)
        again = store.rebuild(other.rules)
        assert [again.counts[name] for name in ("rows_added", "rows_updated", "rows_removed")] == [0, 0, 0]
        last = made[data.draw(st.integers(0, len(made) - 1))]
        counts = other.load(store, last).counts
        assert counts["duplicate"] == counts["read"]
        store.rebuild(scene.rules, drop_columns=True)
        assert comparable(scene, stored(scene, store)) == comparable(scene, _made(scene, made))


def _needs_rebuild(scene: Scene) -> Any:
    d = scene.declared
    return (
        d.keys,
        d.order,
        d.effective,
        d.deletes,
        {name: role for role in ROLES for name in getattr(d, role)},
        {*d.type_3},
    )


def _made(scene: Scene, made: list[Batch]) -> list[dict[str, Any]]:
    oracle = Oracle(scene.declared)
    for batch in made:
        oracle.load(batch.rows)
    return oracle.rows()


@pytest.mark.parametrize(
    ("changed", "said"),
    [
        ({"natural_key": "name"}, "name: 1 of 3 changes in the log have no value for it"),
        (
            {"natural_key": ["code", "entry_no"], "order_by": "changed_at", "exclude": []},
            "entry_no: not a column of the table so far",
        ),
        ({"effective_at": "laid_on"}, "laid_on: is date, times were timestamp"),
        ({"effective_at": "seen_at"}, "seen_at: 1 of 3 changes in the log have no value for it"),
        ({"types": {"name": "integer"}}, "name: was text, is integer"),
        ({"types": {"name": "text(5)"}}, "name: 1 value in buoy cannot be text(5); it is text"),
        ({"types": {"code": "text(3)"}}, "code: 3 values in buoy cannot be text(3); it is text"),
    ],
)
def test_rules_that_the_kept_changes_cannot_follow_are_refused(changed: dict[str, Any], said: str) -> None:
    first = {"natural_key": "code", "order_by": ["changed_at", "entry_no"], "exclude": ["entry_no"]}
    day = datetime(2024, 5, 13)
    frame = pa.table(
        {
            "code": ["NB-1", "NB-2", "NB-1"],
            "name": ["Kvitsund", None, "Tarva"],
            "laid_on": [day.date()] * 3,
            "seen_at": [day, day, None],
            "changed_at": [day, day, day + timedelta(days=1)],
            "entry_no": [1, 2, 3],
        }
    )
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(brenvik.TableRules("buoy", **first), frame, kind="upserts")
        rules = brenvik.TableRules("buoy", **first)
        before = store.read(rules)
        with pytest.raises(RulesChanged, match=re.escape(said)):
            store.rebuild(brenvik.TableRules("buoy", **{**first, **changed}))
        assert store.read(rules).equals(before)
        assert store.ledger.runs(last=1)["state"].to_pylist() == ["blocked"]
        timed = brenvik.TableRules(
            "buoy", **{**first, "order_by": ["entry_no", "changed_at"], "effective_at": "changed_at"}
        )
        assert store.rebuild(timed).counts["rows_updated"] == 0
