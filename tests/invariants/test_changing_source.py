"""A source that changes while loads run and crash: in the end the table holds what the source holds."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from contextlib import suppress
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from hypothesis import given, settings
from hypothesis import strategies as st
from registries import Registry, load
from scenes import DRAWN
from stores import fresh_store

import brenvik
from brenvik.feeds.protocol import LoadRequest
from brenvik.runs.guards import Allowed
from counts import share

OVERLAP, LAG = timedelta(minutes=10), timedelta(minutes=2)
COLUMNS = {"visit_no": sa.Integer, "work": sa.Text, "modified_at": sa.DateTime, "cancelled": sa.Integer}
CODES = brenvik.Operations("cancelled", insert=(), update=("0",), delete=("1",))


class Crash(BaseException):
    """Stands for the end of the process: nobody catches it."""


class Breaking:
    """A connection that breaks off before or after its nth call."""

    def __init__(self, connection: Any, calls: int, *, after: bool) -> None:
        self._connection, self._left, self._after = connection, calls, after

    def _call(self, do: Callable[..., Any], *words: Any, **options: Any) -> Any:
        self._left -= 1
        if self._left == 0 and not self._after:
            raise Crash
        answer = do(*words, **options)
        if self._left == 0:
            raise Crash
        return answer

    def __getattr__(self, name: str) -> Any:
        found = getattr(self._connection, name)
        if name in {"execute", "sql", "begin", "commit"}:
            return lambda *words, **options: self._call(found, *words, **options)
        return found


numbers, delays = st.integers(1, 5), st.sampled_from([0, 0, 5, 9])
writes = st.tuples(st.sampled_from(["write", "write", "write", "cancel"]), numbers, st.sampled_from("ab"), delays)
waits = st.sampled_from([3, 3, 1, 0, 15])
load_steps = st.tuples(st.just("load"), waits, st.just(""), st.just(0))
loads = st.one_of(
    load_steps,
    load_steps,
    load_steps,
    st.tuples(st.just("crash"), waits, st.sampled_from(["before", "after"]), st.integers(1, 60)),
)
rounds = st.lists(st.tuples(st.lists(writes, min_size=1, max_size=3), loads), min_size=3, max_size=7)


class World:
    """The source, its clock, what a reader should end with, and the table."""

    def __init__(
        self, folder: Path, store: brenvik.Store, *, versions: bool, piece: int | None = None, **rules: Any
    ) -> None:
        self.registry = Registry(f"sqlite:///{folder / 'registry.db'}", COLUMNS)
        self.rows: dict[int, tuple[str, datetime, int]] = {}
        self.rules = brenvik.TableRules(
            "visit",
            natural_key="visit_no",
            order_by="modified_at",
            other_columns="type_2" if versions else "type_1",
            max_deletes=None,
            **rules,
        )
        self.corrections = 0
        self.piece = piece
        self.store = store

    def write(self, number: int, work: str, delay: int, *, cancelled: int) -> None:
        """One row as it is from now on; it was changed ``delay`` minutes ago and is seen only now."""
        moment = (self.registry.now - timedelta(minutes=delay)).replace(tzinfo=None)
        if number in self.rows and moment <= self.rows[number][1]:
            return  # no source changes a row before its last change
        self.rows[number] = (work or self.rows.get(number, ("a",))[0], moment, cancelled)
        with self.registry.engine.begin() as connection:
            connection.execute(self.registry.table.delete().where(self.registry.table.c.visit_no == number))
        self.registry.put((number, *self.rows[number]))

    def load(self) -> None:
        source = self.registry.source(kind="changes", overlap=OVERLAP, lag=LAG, window=self.piece)
        while load(self.store, source, self.rules, operations=CODES).window.more:  # type: ignore[union-attr]
            pass

    def vanish(self, number: int) -> None:
        """A row is gone, and no watermark shows it."""
        self.rows.pop(number, None)
        self.registry.do(f"DELETE FROM service_visit WHERE visit_no = {number}")

    def correct(self, number: int) -> None:
        """A row has another value, and the time of its last change is as before."""
        if number in self.rows:
            self.corrections += 1
            self.rows[number] = (f"corrected {self.corrections}", *self.rows[number][1:])
            self.registry.do(f"UPDATE service_visit SET work = '{self.rows[number][0]}' WHERE visit_no = {number}")

    def read(self, *, full: bool) -> brenvik.Outcome:
        """A load of the rows as upserts."""
        source = self.registry.source(overlap=OVERLAP, lag=LAG, window=self.piece)
        request = LoadRequest(full=True) if full else None
        return load(self.store, source, self.rules, request=request, allowed=Allowed(deletes=9))

    def crash(self, calls: int, *, after: bool) -> None:
        engine: Any = getattr(self.store.engine, "duck", self.store.engine)
        whole = engine._connection
        engine._connection = Breaking(whole, calls, after=after)
        try:
            with suppress(
                Crash, Exception
            ):  # a dead process handles nothing, so what the handling runs into is nothing
                self.load()
        finally:
            engine._connection = whole
            with suppress(Exception):
                whole.rollback()
            self.store.ledger._exists = False


@given(rounds, st.booleans(), st.sampled_from([None, 1, 2]), st.sampled_from(DRAWN))
def test_in_the_end_the_table_holds_what_the_source_holds(
    drawn: list[tuple[list[tuple[str, int, str, int]], tuple[str, int, str, int]]],
    versions: bool,
    piece: int | None,
    kind: str,
) -> None:
    with tempfile.TemporaryDirectory() as folder, fresh_store(kind) as store:
        world = World(Path(folder), store, versions=versions, piece=piece)
        for what, number, word, other in (step for written, loaded in drawn for step in (*written, loaded)):
            if what in {"write", "cancel"}:
                world.write(number, word, other, cancelled=int(what == "cancel"))
                continue
            world.registry.now += timedelta(minutes=number)
            if what == "load":
                world.load()
            else:
                world.crash(other, after=word == "after")
        world.registry.now += LAG + timedelta(minutes=1)
        world.load()
        rows = world.store.read(world.rules).to_pylist()
        living = {row["visit_no"]: (row["work"], row["is_current"]) for row in rows if row["valid_to"] is None}
        assert living == {number: (work, True) for number, (work, _, gone) in world.rows.items() if not gone}
        last = max((moment for _, moment, _ in world.rows.values()), default=None)
        watermark = world.store.ledger.watermark("visit", "service")
        assert (watermark.mark if watermark else None) == last
        before = world.store.read(world.rules)
        world.load()
        assert world.store.read(world.rules).equals(before)
        states = set(world.store.ledger.runs()["state"].to_pylist())
        assert states <= {"done", "crashed", "failed"}


steps = st.one_of(
    st.tuples(st.sampled_from(["write", "write", "vanish", "correct"]), numbers, st.sampled_from("ab"), delays),
    st.tuples(st.sampled_from(["load", "full"]), waits, st.just(""), st.just(0)),
)


@settings(max_examples=share(4))
@given(
    st.lists(steps, min_size=3, max_size=12),
    st.booleans(),
    st.sampled_from(["close", "remove"]),
    st.sampled_from(DRAWN),
)
def test_a_source_that_is_read_in_full_hides_nothing(
    drawn: list[tuple[str, int, str, int]], versions: bool, deletes: str, kind: str
) -> None:
    """Rows that vanished and rows that changed without a later time are found, whatever was loaded before."""
    with tempfile.TemporaryDirectory() as folder, fresh_store(kind) as store:
        world = World(Path(folder), store, versions=versions, deletes=deletes)
        for what, number, word, delay in drawn:
            if what == "write":
                world.write(number, word, delay, cancelled=0)
            elif what == "vanish":
                world.vanish(number)
            elif what == "correct":
                world.correct(number)
            else:
                world.registry.now += timedelta(minutes=number)
                world.read(full=what == "full")
        world.registry.now += timedelta(minutes=1)
        outcome = world.read(full=True)
        rows = store.read(world.rules).to_pylist()
        living = {row["visit_no"]: row["work"] for row in rows if row["valid_to"] is None}
        assert living == {number: work for number, (work, _, _) in world.rows.items()}
        assert outcome.counts["read"] == len(world.rows)
        again = world.read(full=True)
        assert again.counts["duplicate"] == again.counts["read"]
        assert store.read(world.rules).to_pylist() == rows
        assert store.rebuild(world.rules).counts["rows_updated"] == 0
