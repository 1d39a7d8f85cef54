"""A table whose change log is trimmed is what it was, and goes on as if all changes were still known."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from typing import Any
from unittest.mock import patch

import pytest
from hypothesis import event, given, settings
from hypothesis import strategies as st
from oracle import Change, Oracle
from scenes import EXTRACTED, HELD, ORDERED, WHEN, Batch, Scene, batches, some
from stores import everything, fresh
from tables import check_decided_again, comparable, decided, stored
from test_sequences import Extract, an_extract

import brenvik
from brenvik.errors import DeclarationError, StaleExtract
from brenvik.model.decisions import DECISIONS
from counts import share

ROWS = ("rows_added", "rows_updated", "rows_removed")
TODAY = datetime(2031, 1, 1)


def _trimmable(scenes: list[Scene]) -> list[Scene]:
    """Those with times, and without values that are kept because they arrived first."""
    times = [scene for scene in scenes if dict(scene.types)[str(scene.declared.effective)] != "integer"]
    return [scene for scene in times if not (scene.declared.first_arrived and scene.declared.type_0)]


@dataclass
class Years:
    """A table over the years: its runs start when the test says, long before it is trimmed."""

    scene: Scene
    store: brenvik.Store
    oracle: Oracle
    data: st.DataObject
    holds: bool = False
    clock: datetime = datetime(2024, 1, 1)
    runs: dict[int, int] = field(default_factory=dict)
    """The run of each batch, as the oracle numbers them."""
    touched: dict[int, int] = field(default_factory=dict)
    """The last run that reverted or restored a batch."""
    decided_by: dict[int, int] = field(default_factory=dict)
    """The run that decided on a delete, by the identity of its change."""
    out: set[int] = field(default_factory=set)
    told: dict[int, list[dict[str, Any]]] = field(default_factory=dict)
    known: dict[int, Any] = field(default_factory=dict)
    """What the table was after each run."""
    settled_run: int = 0

    def __repr__(self) -> str:
        return f"Years(runs={self.runs}, out={self.out}, clock={self.clock}, settled_run={self.settled_run})"

    def now(self) -> datetime:
        return self.clock

    def is_the_oracles(self) -> None:
        self.oracle.out = self.out
        assert comparable(self.scene, stored(self.scene, self.store)) == comparable(self.scene, self.oracle.rows())

    def later(self) -> None:
        self.clock += timedelta(hours=self.data.draw(st.sampled_from([1, 24, 24 * 40])))

    def _done(self, run: int | None) -> int:
        self.known[int(run or 0)] = comparable(self.scene, stored(self.scene, self.store))
        return int(run or 0)

    def load(self, batch: Batch) -> None:
        self.oracle.out = self.out
        done = self.scene.load(self.store, batch)
        expected = Counter(self.oracle.load(batch.rows))
        assert {name: done.counts[name] for name in DECISIONS if done.counts[name]} == dict(expected)
        run = self.runs[self.oracle.batch] = self._done(done.run)
        self.told[run] = decided(done)

    def revert(self) -> None:
        if not self.runs:
            return
        number = self.data.draw(st.sampled_from(sorted(self.runs)))
        run, undo = self.runs[number], number in self.out
        if run <= self.settled_run:
            with pytest.raises(DeclarationError, match="trimmed up to run"):
                self.store.revert(self.scene.rules, run, undo=undo)
            return
        done = self.store.revert(self.scene.rules, run, undo=undo)
        self.out ^= {number}
        self.touched[number] = self._done(done.run)

    def decide(self) -> None:
        self.oracle.out = self.out
        waiting = self.oracle.waiting()
        if not waiting:
            return
        number, drop = self.data.draw(st.sampled_from(sorted(waiting))), self.data.draw(st.booleans())
        decide = self.store.discard_deletes if drop else self.store.approve_deletes
        done = decide(self.scene.rules, number)
        self.decided_by[id(waiting[number])] = self._done(done.run)
        if drop:
            del self.oracle.held[number]
        else:
            self.oracle.release(number)

    def rebuild(self) -> None:
        if self.runs:
            before = everything(self.scene, self.store)
            done = self.store.rebuild(self.scene.rules)
            self._done(done.run)
            assert [done.counts[name] for name in ROWS] == [0, 0, 0]
            assert everything(self.scene, self.store) == before

    def trim(self) -> None:
        """Trims the log up to a time, which is both an effective time and one at which runs started."""
        if not self.runs:
            return
        times = [*WHEN[dict(self.scene.types)[str(self.scene.declared.effective)]], self.clock]
        limit = self.data.draw(st.sampled_from([*map(_moment, times), *[TODAY] * len(times)]))
        before = everything(self.scene, self.store)
        runs = self.store.runs().to_pylist()
        with patch("brenvik.ledger.runs.now", lambda: TODAY):
            seen = self.store.trim(self.scene.rules, keep=TODAY - limit, preview=True)
            done = self.store.trim(self.scene.rules, keep=TODAY - limit)
            again = self.store.trim(self.scene.rules, keep=TODAY - limit)
        assert [note.replace("To trim", "Trimmed") for note in seen.notes] == done.notes
        event(done.notes[0].split(" of ")[0])
        assert again.notes == ["Trimmed: nothing is old enough."]
        assert everything(self.scene, self.store) == before
        for run in (done, again):
            self._done(run.run)
        up_to = max((row["run"] for row in runs if row["started_at"] < limit), default=0)
        if done.counts["changes_trimmed"]:
            self.settled_run = max(up_to, self.settled_run)
        self.oracle.forget(lambda change: self._is_settled(change, up_to, limit))

    def _is_settled(self, change: Change, up_to: int, limit: datetime) -> bool:
        """Whether all that was said of a change, and when it holds, is old enough."""
        if any(change is held for held in self.oracle.held.values()):
            return False
        said = (self.runs[change.batch], self.touched.get(change.batch, 0), self.decided_by.get(id(change), 0))
        cut = limit.replace(microsecond=0)
        own = change.effective
        if not isinstance(own, datetime):
            return max(said) <= up_to and bool(own < cut.date())
        return max(said) <= up_to and bool(_moment(own) < cut)

    def look_back(self) -> None:
        """What the table was after a run, and what a run decided, as far as the log reaches."""
        for run, rows in self.known.items():
            if run >= self.settled_run:
                assert comparable(self.scene, self.store.read(self.scene.rules, known_at=run).to_pylist()) == rows
        check_decided_again(
            self.scene, self.store, {run: rows for run, rows in self.told.items() if run > self.settled_run}
        )


def _moment(value: Any) -> datetime:
    if not isinstance(value, datetime):
        assert isinstance(value, date)
        return datetime(value.year, value.month, value.day)
    return value.astimezone(UTC).replace(tzinfo=None) if value.tzinfo else value


def walk(scene: Scene, data: st.DataObject, *, holds: bool = False) -> None:
    made = data.draw(batches(scene)) + data.draw(batches(scene, faults=False))
    with fresh(scene) as store:
        way = Years(scene, store, Oracle(scene.declared, holds=holds), data, holds)
        with patch("brenvik.ledger.runs.now", way.now):
            for batch in made:
                way.later()
                way.load(batch)
                way.is_the_oracles()
                others = [way.trim] * 4 + [way.revert, way.rebuild, *([way.decide] * 2 if holds else [])]
                for do in data.draw(st.lists(st.sampled_from(others), min_size=1, max_size=2)):
                    way.later()
                    do()
                    way.is_the_oracles()
            way.load(made[data.draw(st.integers(0, len(made) - 1))])
            way.is_the_oracles()
            way.look_back()


@settings(max_examples=share(5))
@given(some(_trimmable(ORDERED)), st.data())
def test_a_trimmed_log_is_as_good_as_all_of_it(scene: Scene, data: st.DataObject) -> None:
    walk(scene, data)


@settings(max_examples=share(10))
@given(some(_trimmable(HELD)), st.data())
def test_a_trimmed_log_with_deletes_that_wait(scene: Scene, data: st.DataObject) -> None:
    walk(scene, data, holds=True)


@settings(max_examples=share(10))
@given(some(EXTRACTED), st.data())
def test_extracts_after_a_trimmed_log(scene: Scene, data: st.DataObject) -> None:
    """Extracts go on, and later ones can be reverted; one from before is refused. In which form equal rows said the same, where
    differences are ignored, is not known when a run is restored."""
    taken: dict[int, Extract] = {}
    runs: dict[int, datetime] = {}
    out: set[int] = set()
    at, clock, settled = datetime(2024, 5, 13, 1, 30), datetime(2024, 5, 13, 2), 0

    forms = True

    def is_the_oracles(store: brenvik.Store) -> None:
        oracle = Oracle(scene.declared)
        for run, (when, rows, _, scope) in taken.items():
            if run not in out:
                oracle.extract(rows, when, scope)
        rows = comparable(scene, stored(scene, store), forms=forms)
        assert rows == comparable(scene, oracle.rows(), forms=forms)

    with fresh(scene) as store, patch("brenvik.ledger.runs.now", lambda: clock):
        limit = datetime(1, 1, 1)
        for _ in range(data.draw(st.integers(2, 6))):
            extract = at, rows, columns, scope = data.draw(an_extract(scene, at))
            clock = max(clock, at + timedelta(hours=1))
            within = None if scope is None else f'"{scope.replace(chr(34), chr(34) * 2)}" IS NOT NULL'
            frame = scene.frame(rows, columns)
            options: dict[str, Any] = {"kind": "full_extract", "extract_scope": within, "allow_deletes": 10**6}
            if at < limit:
                with pytest.raises(StaleExtract, match="trimmed up to"):
                    store.load(scene.rules, frame, at=at, **options)
                continue
            run = int(store.load(scene.rules, frame, at=at, **options).run or 0)
            taken[run], runs[run] = extract, clock
            is_the_oracles(store)
            if data.draw(st.booleans()):
                to = clock + timedelta(hours=data.draw(st.sampled_from([1, -26])))
                with patch("brenvik.ledger.runs.now", lambda: TODAY):
                    outcome = store.trim(scene.rules, keep=TODAY - to)
                if outcome.counts["changes_trimmed"]:
                    limit = max(limit, to)
                    settled = max([settled, *(run for run, started in runs.items() if started < to)])
                is_the_oracles(store)
            late = [run for run in taken if run > settled]
            if late and data.draw(st.booleans()):
                chosen = data.draw(st.sampled_from(late))
                store.revert(scene.rules, chosen, undo=chosen in out)
                out ^= {chosen}
                forms = False
                is_the_oracles(store)
