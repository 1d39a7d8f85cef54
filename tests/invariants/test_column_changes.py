"""A table whose columns were renamed and got other types is the table that was always so."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import date, datetime, time
from decimal import Context, Decimal
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from oracle import Oracle
from scenes import ORDERED, Batch, Scene, cases
from stores import everything, fresh
from tables import comparable, stored
from texts import text_of

import brenvik
from brenvik.errors import RulesChanged
from brenvik.model.decisions import DECISIONS
from counts import share

OTHERS: dict[str, list[str]] = {
    "integer": ["decimal(38,0)", "decimal(21,2)", "decimal(3,1)", "double", "text"],
    "decimal(38,0)": ["decimal(38,1)", "double", "text"],
    "decimal(9,2)": ["decimal(38,2)", "decimal(12,4)", "decimal(8,1)", "double", "text", "text(4)"],
    "double": ["text"],
    "text": ["text(20000)", "text(3)"],
    "text(4)": ["text", "text(8)", "text(2)"],
    "text(20000)": ["text", "text(9999)"],
    "boolean": ["text"],
    "date": ["timestamp", "text"],
    "time": ["text"],
    "timestamp": ["text"],
    "timestamp with time zone": ["text", "text(25)"],
}
"""The types that columns of each may get, if their values let them."""


def as_type(value: Any, kind: str) -> Any:
    """A value in another type. Raises ValueError where that cannot hold it."""
    name, _, size = kind.rstrip(")").partition("(")
    if value is None or (name == "timestamp" and isinstance(value, datetime)):
        return value
    match name:
        case "text":
            made: Any = text_of(value)
            fits = not size or len(made) <= int(size)
        case "double":
            digits = -int(Decimal(value).as_tuple().exponent)
            made, fits = float(value), abs(Decimal(value)) * 10**digits <= 2**53
        case "decimal":
            digits, behind = map(int, size.split(","))
            exact = Decimal(value)
            scaled = exact.scaleb(behind, Context(prec=80))
            fits = scaled == scaled.to_integral_value() and abs(scaled) < 10**digits
            made = exact.quantize(Decimal(1).scaleb(-behind), context=Context(prec=80))
        case _:
            made, fits = datetime.combine(value, time()), isinstance(value, date)
    if not fits:
        raise ValueError(f"{value!r} is no {kind}")
    return made


@st.composite
def other_columns(draw: st.DrawFn, scene: Scene, made: list[Batch]) -> tuple[dict[str, str], dict[str, str]]:
    """Former names of some columns, and new types."""
    d = scene.declared
    former = {name: f"former {n}" for n, (name, _) in enumerate(scene.types) if draw(st.integers(0, 2)) == 0}
    types: dict[str, str] = {}
    for name, kind in scene.types:
        some_zero = any(str(row.get(name)) == "-0.0" for batch in made for row in batch.rows)
        possible = [] if some_zero or name in d.keys or name == "is gone?" else OTHERS.get(kind, [])
        if name == d.effective:
            possible = ["timestamp"] if kind == "date" else []
        elif name in d.order:
            possible = [each for each in possible if each.startswith(("timestamp", "decimal"))]
            possible = [] if scene.store == "sqlite" and kind != "date" else possible
        if possible and draw(st.booleans()):
            types[name] = draw(st.sampled_from(possible))
    return former, types


def under(scene: Scene, names: dict[str, str]) -> Scene:
    """The scene with other names of columns."""

    def named(columns: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(names.get(name, name) for name in columns)

    rules = scene.rules
    ruled = ("natural_key", "order_by", "type_0", "type_1", "type_2", "not_compared")
    lists = {rule: named(getattr(rules, rule)) for rule in ruled}
    effective = rules.effective_at and names.get(rules.effective_at, rules.effective_at)
    types = tuple((names.get(name, name), kind) for name, kind in scene.types)
    condition = f'"{names.get("is gone?", "is gone?")}"' if rules.delete_if else None
    type_3 = {names.get(name, name): previous for name, previous in rules.type_3.items()}
    rules = replace(rules, effective_at=effective, types=dict(types), delete_if=condition, type_3=type_3, **lists)  # type: ignore[arg-type]
    return replace(scene, rules=rules, types=types)


def named(batch: Batch, names: dict[str, str]) -> Batch:
    rows = [{names.get(name, name): value for name, value in row.items()} for row in batch.rows]
    return Batch(rows, tuple(names.get(name, name) for name in batch.columns))


def retyped(batch: Batch, types: dict[str, str]) -> Batch:
    """Raises ValueError for a value that its new type cannot hold."""

    def of(name: str, value: Any) -> Any:
        return as_type(value, types[name]) if name in types else value

    return Batch([{name: of(name, value) for name, value in row.items()} for row in batch.rows], batch.columns)


def _changed(scene: Scene, types: dict[str, str], former: dict[str, str]) -> Scene:
    """The scene with new types, which knows the former names."""
    kinds = dict(scene.types) | types
    rules = replace(scene.rules, types=kinds, renamed={old: new for new, old in former.items()})
    return replace(scene, rules=rules, types=tuple(kinds.items()))


CHANGING = [scene for scene in ORDERED if not scene.declared.ignored]
"""What can be ignored depends on the type of a column."""


@settings(max_examples=share(4))
@given(cases(CHANGING, faults=False), st.data())
def test_columns_change_as_if_they_had_always_been_so(case: tuple[Scene, list[Batch]], data: st.DataObject) -> None:
    scene, made = case
    former, types = data.draw(other_columns(scene, made))
    before, after = under(scene, former), _changed(scene, types, former)
    first = data.draw(st.integers(1, len(made)))
    try:
        converted: list[Batch] | None = [retyped(batch, types) for batch in made]
    except ValueError:
        converted = None
    with fresh(scene) as store:
        for batch in made[:first]:
            before.load(store, named(batch, former))
        was = everything(before, store)
        by_load = data.draw(st.booleans())
        if converted is None:
            _check_refused(before, after, made[:first], store, types, was)
            return
        if not by_load:
            seen = store.rebuild(after.rules, preview=True)
            assert everything(before, store) == was
            done = store.rebuild(after.rules)
            assert seen.counts == done.counts
            assert [done.counts[name] for name in ("rows_added", "rows_updated", "rows_removed")] == [0, 0, 0]
        oracle = Oracle(after.declared)
        for batch in converted[:first]:
            oracle.load(batch.rows)
        for batch, new in zip(made[first:], converted[first:], strict=True):
            expected = oracle.load(new.rows)
            as_before = data.draw(st.booleans())
            counts = _load(before if as_before else after, after, named(batch, former) if as_before else new, store)
            assert counts == {name: expected.count(name) for name in DECISIONS if name in expected}
        if by_load and first == len(made):  # nothing was loaded since
            store.rebuild(after.rules)
        assert comparable(after, stored(after, store)) == comparable(after, oracle.rows())
        for batch in made:
            counts = _load(before, after, named(batch, former), store)
            again = (
                {"duplicate", "rejected"} if scene.declared.refuses_ties else {"duplicate"}
            )  # with other names in it
            assert counts.keys() <= again
        store.revert(after.rules, 1)
        assert comparable(after, stored(after, store)) == comparable(after, oracle.without({1}).rows())


def _load(shape: Scene, after: Scene, batch: Batch, store: brenvik.Store) -> dict[str, int]:
    """Loads rows of a shape into the changed table; returns the decisions, which a preview told as well."""
    loaded = replace(shape, rules=after.rules)
    seen = loaded.load(store, batch, preview=True)
    outcome = loaded.load(store, batch)
    assert seen.counts == outcome.counts
    return {name: outcome.counts[name] for name in DECISIONS if outcome.counts[name]}


def _check_refused(
    before: Scene, after: Scene, made: list[Batch], store: brenvik.Store, types: dict[str, str], was: list[str]
) -> None:
    """Where a value that was loaded does not fit, nothing changes."""
    try:
        for batch in made:
            retyped(batch, types)
        return  # only values that come later do not
    except ValueError:
        pass
    attempts: list[Callable[[], Any]] = [
        lambda: store.rebuild(after.rules),
        lambda: store.rebuild(after.rules, preview=True),
        lambda: after.load(store, Batch([], tuple(dict(after.types)))),
    ]
    for attempt in attempts:
        with pytest.raises(RulesChanged, match="cannot change as declared"):
            attempt()
    assert everything(before, store) == was
