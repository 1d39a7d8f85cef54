"""All invariants along the way of one table: loads in order and late, replays, interrupted loads, reverts and their undoing,
pending deletes approved and discarded, extracts, rebuilds, in any sequence. After every step the table must be the oracle's.

Beside the invariants' own tests, which try each alone and harder.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from oracle import Oracle, plain
from scenes import EXTRACTED, EXTRACTED_HELD, HELD, SCENES, TABLE, Batch, Scene, batches, keys_of, pool, some
from stores import everything, fresh
from tables import comparable, stored
from test_invariants import check_time_line, shown_row

import brenvik
from brenvik.model.decisions import DECISIONS
from counts import share

SHARE = share(5)
"""Five kinds of sequences have a fifth of all examples each."""
ROWS = ("rows_added", "rows_updated", "rows_removed")


class Way:
    """One table on its way, beside its oracle."""

    def __init__(self, scene: Scene, store: brenvik.Store, oracle: Oracle, data: st.DataObject) -> None:
        self.scene, self.store, self.oracle, self.data = scene, store, oracle, data
        self.runs: dict[int, int] = {}
        """The run of each batch, numbered as the oracle numbers them."""
        self.batches: dict[int, Batch] = {}
        self.out: set[int] = oracle.out

    def stepped(self, do: Callable[[bool], brenvik.Outcome]) -> tuple[brenvik.Outcome, brenvik.Outcome]:
        """One step, previewed first: preview and outcome agree (invariant 8), a preview writes nothing, the rows that change are
        those that are told (invariant 1), and the table is a time line (invariant 4)."""
        scene, store = self.scene, self.store
        own = scene.own
        as_is = everything(scene, store)
        before = {row[own["surrogate_key"]]: row for row in stored(scene, store)}
        seen = do(True)
        assert everything(scene, store) == as_is
        done = do(False)
        assert seen.counts == done.counts
        after = {row[own["surrogate_key"]]: row for row in stored(scene, store)}
        touched = [k for k in before.keys() & after.keys() if shown_row(before[k]) != shown_row(after[k])]
        changed = (len(after.keys() - before.keys()), len(touched), len(before.keys() - after.keys()))
        assert tuple(done.counts[name] for name in ROWS) == changed
        assert done.counts["rows_after"] == len(after)
        assert all(after[k][own["last_run"]] == done.run for k in touched)
        check_time_line(scene, list(after.values()))
        return seen, done

    def is_the_oracles(self, *, forms: bool = True) -> None:
        rows = comparable(self.scene, stored(self.scene, self.store), forms=forms)
        assert rows == comparable(self.scene, self.oracle.rows(), forms=forms)

    def load(self, batch: Batch) -> None:
        seen, done = self.stepped(lambda preview: self.scene.load(self.store, batch, preview=preview))
        at = self.store.ledger.runs(last=1)["started_at"][0].as_py()
        expected = Counter(self.oracle.load(batch.rows, at))
        assert {name: done.counts[name] for name in DECISIONS if done.counts[name]} == dict(expected)
        assert done.counts["read"] == len(batch.rows)
        told = done.decisions().drop_columns(["effective"])  # where it is the time of the load, a preview has another
        assert str(told.to_pylist()) == str(seen.decisions().drop_columns(["effective"]).to_pylist())
        assert Counter(told["decision"].to_pylist()) == expected
        self.runs[self.oracle.batch], self.batches[self.oracle.batch] = int(done.run or 0), batch
        if self.scene.declared.effective is None:
            self.batches.pop(self.oracle.batch)  # taken again, it would hold from another time

    def take_again(self) -> None:
        """Invariant 2, for a batch that counts."""
        there = [number for number in self.batches if number not in self.out and self.scene.declared.order]
        if not there:
            return
        batch = self.batches[self.data.draw(st.sampled_from(there))]
        before = everything(self.scene, self.store)
        done = self.scene.load(self.store, batch)
        assert done.counts["duplicate"] == done.counts["read"] == len(batch.rows)
        assert everything(self.scene, self.store) == before
        self.oracle.load(batch.rows)

    def break_off(self, batch: Batch) -> None:
        """Invariant 5: a load whose source goes dead leaves nothing but its failed run."""
        before, state = everything(self.scene, self.store), self._state()
        frame = self.scene.frame(batch.rows, batch.columns)

        def breaks_off() -> Iterator[pa.RecordBatch]:
            yield from frame.slice(0, self.data.draw(st.integers(0, 3))).to_batches()
            raise OSError("the line went dead")

        reader = pa.RecordBatchReader.from_batches(frame.schema, breaks_off())
        operation = "op" if self.scene.kind == "changes" else None
        with pytest.raises(brenvik.BrenvikError):
            self.store.load(self.scene.rules, reader, kind=self.scene.kind, operation=operation)  # type: ignore[arg-type]
        assert everything(self.scene, self.store) == before
        assert self._state() == state
        assert self.store.ledger.runs(last=1)["state"].to_pylist() == ["failed"]

    def _state(self) -> Any:
        return self.store.ledger.state(self.scene.rules.table) if self.runs else None

    def revert(self) -> None:
        """Invariant 7, of one run or several; what is out already is put back."""
        if not self.runs:
            return
        first = self.data.draw(st.sampled_from(sorted(self.runs)))
        undo = first in self.out
        alike = [number for number in self.runs if (number in self.out) == undo]
        chosen = {first} | self.data.draw(st.sets(st.sampled_from(alike), max_size=1))
        runs = [self.runs[number] for number in sorted(chosen)]
        self.stepped(lambda preview: self.store.revert(self.scene.rules, *runs, undo=undo, preview=preview))
        self.out ^= chosen

    def rebuild(self) -> None:
        """Worked out again from all kept changes, the table is what it was."""
        if self.runs:
            before = everything(self.scene, self.store)
            done = self.store.rebuild(self.scene.rules)
            assert [done.counts[name] for name in ROWS] == [0, 0, 0]
            assert everything(self.scene, self.store) == before

    def compact(self) -> None:
        """Put in order, a table of files holds the same; once in order, it stays as it is."""
        before = everything(self.scene, self.store)
        self.store.compact(self.scene.rules, keep=timedelta(0))
        assert everything(self.scene, self.store) == before
        for again in self.store.compact(self.scene.rules, keep=timedelta(0)):
            assert (again.files[0], again.deleted) == (again.files[1], (0, 0))

    def decide_holds(self) -> None:
        waiting = self.oracle.waiting()
        if not self.runs:
            return
        assert sorted(self.store.pending_deletes(self.scene.rules)["brenvik_delete_no"].to_pylist()) == sorted(waiting)
        if not waiting:
            return
        number, drop = self.data.draw(st.sampled_from(sorted(waiting))), self.data.draw(st.booleans())
        decide = self.store.discard_deletes if drop else self.store.approve_deletes
        self.stepped(lambda preview: decide(self.scene.rules, number, preview=preview))
        if drop:
            del self.oracle.held[number]
        else:
            self.oracle.release(number)

    def another_order(self) -> None:
        """Invariant 3: the changes that count, in another order and another division, make the same table. Those that tie keep
        theirs, as the later of them counts. What only said again what a reverted run had said went with it."""
        d = self.scene.declared
        counting = [(row, b.columns) for number, b in self.batches.items() if number not in self.out for row in b.rows]
        counting = [(row, columns) for row, columns in counting if self.oracle.counts(row)]
        order = self.data.draw(st.permutations(range(len(counting))))
        places: dict[Any, list[int]] = {}
        for index in order:
            row, _ = counting[index]
            names = (*d.keys, *d.order, *filter(None, [d.effective]))
            places.setdefault(tuple(plain(row[name]) for name in names), []).append(index)
        turns = {place: iter(sorted(indexes)) for place, indexes in places.items()}
        whose = {index: place for place, indexes in places.items() for index in indexes}
        mixed = [counting[next(turns[whose[index]])] for index in order]
        parts: list[Batch] = []
        for row, columns in mixed:
            if not parts or parts[-1].columns != columns:
                parts.append(Batch([], columns))
            parts[-1].rows.append(row)
        other = replace(self.scene, rules=replace(self.scene.rules, table=f"other {TABLE}"))
        for part in parts:
            other.load(self.store, part)
        expected = comparable(self.scene, stored(self.scene, self.store))
        assert comparable(other, stored(other, self.store)) == expected


def walk(scene: Scene, data: st.DataObject, *, holds: bool = False) -> None:
    made = data.draw(batches(scene, most=3))
    with fresh(scene) as store:
        way = Way(scene, store, Oracle(scene.declared, holds=holds), data)
        others = [way.take_again, way.revert, way.revert, way.rebuild]
        others += [way.decide_holds] if holds else []
        others += [way.compact] * 2 if scene.store == "lakehouse" else []
        for batch in made:
            if data.draw(st.integers(0, 5)) == 0:
                way.break_off(batch)
            way.load(batch)
            way.is_the_oracles()
            for do in data.draw(st.lists(st.sampled_from(others), max_size=2)):
                do()
                way.is_the_oracles()
        if scene.declared.order and not holds and data.draw(st.booleans()):
            way.another_order()


EVEN, ODD = SCENES[::2], SCENES[1::2]


@settings(max_examples=SHARE)
@given(some(EVEN), st.data())
def test_changes_and_upserts(scene: Scene, data: st.DataObject) -> None:
    walk(scene, data)


@settings(max_examples=SHARE)
@given(some(ODD), st.data())
def test_changes_and_upserts_of_other_shapes(scene: Scene, data: st.DataObject) -> None:
    walk(scene, data)


@settings(max_examples=SHARE)
@given(some(HELD), st.data())
def test_deletes_that_wait(scene: Scene, data: st.DataObject) -> None:
    walk(scene, data, holds=True)


Extract = tuple[datetime, list[dict[str, Any]], tuple[str, ...], str | None]


@st.composite
def an_extract(draw: st.DrawFn, scene: Scene, after: datetime) -> Extract:
    """A few rows of few keys, a day later or at the same time; now and then only of a part of the table, in which a key is or is
    not for good: a delete that an extract of a part told stays, even if what had brought the row into the part is reverted."""
    types, d = dict(scene.types), scene.declared
    domains = {name: st.sampled_from([None, *pool(scene, name)[:2]]) for name in d.values}
    key = st.fixed_dictionaries({name: st.sampled_from(keys_of(scene, name)) for name in d.keys})
    row = st.builds(lambda k, rest: k | rest, key, st.fixed_dictionaries(domains))
    once = (lambda r: repr([r[name] for name in d.keys])) if draw(st.integers(0, 3)) else None
    rows = draw(st.lists(row, max_size=5, unique_by=once))
    gone = draw(st.sets(st.sampled_from(d.values), max_size=1)) if draw(st.integers(0, 4)) == 0 else set()
    part = next((name for name in d.values if name not in d.type_0), None)
    columns = tuple(name for name in (*d.keys, *d.values) if name not in gone or name == part)
    rows = [{name: each[name] for name in columns} for each in rows]
    for each in rows if part else ():
        inside = d.with_key(each)[d.keys[0]] == d.with_key({**each, d.keys[0]: keys_of(scene, d.keys[0])[0]})[d.keys[0]]
        each[part] = pool(scene, part)[0] if inside else None
    short = [name for name in columns if types[name] == "text(4)" and name in d.values and name != part]
    if rows and short and draw(st.integers(0, 2)) == 0:
        draw(st.sampled_from(rows))[short[0]] = "too long"  # refused, though its key can be read
    scope = part if draw(st.integers(0, 2)) == 0 else None
    if scope:
        rows = [each for each in rows if each[scope] is not None]
    return after + timedelta(days=draw(st.sampled_from([1, 1, 1, 0]))), rows, columns, scope


@settings(max_examples=SHARE)
@given(some(EXTRACTED), st.data())
def test_extracts(scene: Scene, data: st.DataObject) -> None:
    walk_extracts(scene, data)


@settings(max_examples=SHARE)
@given(some(EXTRACTED_HELD), st.data())
def test_extracts_whose_deletes_wait(scene: Scene, data: st.DataObject) -> None:
    walk_extracts(scene, data, holds=True)


Released = tuple[int, tuple[Any, ...]]
"""The extract that told of a delete, and its key."""


def walk_extracts(scene: Scene, data: st.DataObject, *, holds: bool = False) -> None:
    """Without an extract, all that came after it says the same; but in which form it said so, where differences are ignored, is
    not known of rows that were equal."""
    taken: dict[int, Extract] = {}
    decided: list[tuple[int, Released, bool]] = []
    """What a person decided of pending deletes: after how many extracts, which, and whether it was dropped."""
    at = datetime(2024, 5, 13, 1, 30)

    def as_if_never(out: set[int]) -> Oracle:
        made = Oracle(scene.declared, holds=holds)
        for number in range(len(taken) + 1):
            if number and number not in out:
                when, rows, _, scope = taken[number]
                made.batch = number - 1
                made.extract(rows, when, scope)
            for after, (of, key), drop in decided:
                if after == number and of not in out:
                    made.decide(of, key, drop=drop, at=taken[of][0])
        return made

    def decide(way: Way) -> None:
        """Releases or drops a held delete."""
        waiting = way.store.pending_deletes(scene.rules).to_pylist()
        if not waiting:
            return
        chosen, drop = data.draw(st.sampled_from(waiting)), data.draw(st.booleans())
        number = chosen["brenvik_delete_no"]
        decide = way.store.discard_deletes if drop else way.store.approve_deletes
        way.stepped(lambda preview: decide(scene.rules, number, preview=preview))
        of = next(number for number, run in way.runs.items() if run == chosen["brenvik_run"])
        decided.append((len(taken), (of, tuple(chosen[name] for name in scene.declared.keys)), drop))

    with fresh(scene) as store:
        way = Way(scene, store, Oracle(scene.declared, holds=holds), data)
        reverted = False
        for number in range(1, data.draw(st.integers(1, 4)) + 1):
            extract = at, rows, columns, scope = data.draw(an_extract(scene, at))

            def take(preview: bool) -> brenvik.Outcome:
                do = store.preview if preview else store.load
                how = {} if preview else {"allow_deletes": 10**6}
                within = None if scope is None else f'"{scope.replace(chr(34), chr(34) * 2)}" IS NOT NULL'  # noqa: B023
                frame = scene.frame(rows, columns)  # noqa: B023
                return do(scene.rules, frame, kind="full_extract", at=at, extract_scope=within, **how)  # type: ignore[arg-type]  # noqa: B023

            way.oracle = as_if_never(way.out)
            expected = Counter(way.oracle.extract(rows, at, scope))
            _, done = way.stepped(take)
            way.runs[number], taken[number] = int(done.run or 0), extract
            counts = Counter({name: done.counts[name] for name in DECISIONS})
            for each in (counts, expected):  # rejects of a reverted extract stay open
                each["rejected"] += each.pop("duplicate", 0)
            if not (holds and reverted):  # what a reverted extract held, the next one holds anew
                assert +counts == +expected
                assert done.counts["read"] + done.counts["derived"] == expected.total()
            way.is_the_oracles(forms=not reverted)
            others = ["revert", "revert", "rebuild", *(["decide"] * 2 if holds else [])]
            others += ["compact"] * 2 if scene.store == "lakehouse" else []
            for do in data.draw(st.lists(st.sampled_from(others), max_size=2)):
                reverted |= do == "revert"
                decide(way) if do == "decide" else getattr(way, do)()
                way.oracle = as_if_never(way.out)
                way.is_the_oracles(forms=not reverted)
