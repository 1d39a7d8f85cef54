"""A table that Brenvik forgot is adopted as it is, and goes on as if it never had been forgotten."""

from __future__ import annotations

from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from oracle import Oracle
from scenes import UNKEPT, Batch, Scene, cases
from stores import everything, forget_ledger, fresh
from tables import comparable, stored

from brenvik.merge.sql import quote, relation
from scripts import execute

ADOPTED = [scene for scene in UNKEPT if scene.own["valid_from"] and scene.own["valid_to"] and scene.own["is_deleted"]]
KEYS = ("surrogate_key", "valid_from")


@given(cases(ADOPTED, faults=False, absent=False, second=False, most=2), st.booleans(), st.booleans())
def test_an_adopted_table_is_untouched_and_goes_on(
    case: tuple[Scene, list[Batch]], kept: bool, is_narrow: bool
) -> None:
    """Where its columns are ``narrow``, a number that they cannot hold refuses its row."""
    scene, made = case
    if kept:
        scene = with_kept_changes(scene)
    d = scene.declared
    rows = in_order([row for batch in made for row in batch.rows], (*d.order, *filter(None, [d.effective])))
    half = later_than(rows, len(rows) // 2, d)
    narrow = narrowed(scene) if is_narrow and half else ()
    for row in rows[:half]:
        row |= {name: 1 for name in narrow if not fits(row[name])}
    oracle = Oracle(d)
    with fresh(scene) as store:
        for part in (rows[:half], rows[half:]):
            if part:
                done = scene.load(store, Batch(part, made[0].columns))
                good = [row for row in part if deletes(row) or all(fits(row[name]) for name in narrow)]
                oracle.load(good)
                told = done.decisions().to_pylist()
                refused = [row["decision"] == "rejected" or row["reason"].startswith("same as an open") for row in told]
                assert sum(refused) == len(part) - len(good)
            if part is not rows[half:] and half:
                before = everything(scene, store)
                forget_ledger(store)
                for name in narrow:
                    column, table = quote(name), relation(scene.rules.stored_as)
                    execute(store, f"ALTER TABLE {table} ALTER COLUMN {column} SET DATA TYPE SMALLINT")
                feed = dict(scene.types)
                done = store.adopt(scene.rules, feed)
                assert [done.counts[n] for n in ("rows_added", "rows_updated", "rows_removed")] == [0, 0, 0]
                assert everything(scene, store) == before
                if kept:
                    again = store.rebuild(scene.rules)
                    assert [again.counts[n] for n in ("rows_added", "rows_updated", "rows_removed")] == [0, 0, 0]
        if rows:
            assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())


def narrowed(scene: Scene) -> tuple[str, ...]:
    """Columns of whole numbers of fewer bits than ours, in stores whose columns have such."""
    if scene.store not in ("duckdb", "postgres"):
        return ()
    return tuple(name for name in scene.declared.values if dict(scene.types)[name] == "integer")


def deletes(row: dict[str, Any]) -> bool:
    """Whether a row is a delete, whose values have no effect."""
    return row.get("op") == "D"


def fits(number: int | None) -> bool:
    return number is None or abs(number) < 2**15


def with_kept_changes(scene: Scene) -> Scene:
    from dataclasses import replace

    return replace(scene, rules=replace(scene.rules, change_log=True))


def in_order(rows: list[dict[str, Any]], times: tuple[str, ...]) -> list[dict[str, Any]]:
    return sorted(rows, key=lambda row: tuple(row[name] for name in times))


def later_than(rows: list[dict[str, Any]], half: int, d: Any) -> int:
    """The first place from ``half`` on at which all that follows is later than all before, in order and effective time."""
    for place in range(half, len(rows)):
        before, after = rows[:place], rows[place:]
        high = max((tuple(r[n] for n in d.order) for r in before), default=None)
        since = max((r[str(d.effective)] for r in before), default=None)
        if high is None or all(tuple(r[n] for n in d.order) > high and r[str(d.effective)] > since for r in after):
            return place
    return len(rows)
