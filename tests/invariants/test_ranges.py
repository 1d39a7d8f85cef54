"""What a load works out for some keys depends on nothing but these keys: their changes, their rows in the table and in the log.
So keys can be split into ranges, each worked out by itself; and rows are found again by whatever identifies them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from typing import Any
from zlib import crc32

import pyarrow as pa
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from oracle import Oracle
from scenes import SCENES, Batch, Scene, cases, has_long_key
from stores import fresh
from tables import comparable, shown, stored
from test_invariants import loaded_at

import brenvik
from brenvik.engines.duckdb.engine import DuckDBEngine
from brenvik.engines.lakehouse.engine import LakehouseEngine
from brenvik.engines.lakehouse.stored import POSITION
from brenvik.engines.lakehouse.tables import FileTables, plain
from brenvik.engines.workspace import Workspace
from brenvik.ledger.schema import SCHEMA, TABLES
from brenvik.merge import classify, sql
from brenvik.merge.plan.kinds import LoadPlan
from brenvik.merge.plan.steps import Applied, RowChanges, Validated
from brenvik.merge.row_changes import DeleteRows, InsertRows, RowChange
from brenvik.merge.row_ids import KeyAndStart, PseudoColumn, RowId, SurrogateKeyColumn
from brenvik.merge.schema import TableSchema
from brenvik.model.decisions import DECISIONS
from brenvik.runs import pipeline
from brenvik.runs.context import RunContext
from counts import share

SUMS = ("read", "derived", *DECISIONS, "rows_added", "rows_updated", "rows_removed")


@contextmanager
def found_by(store: brenvik.Store, row_id: RowId) -> Iterator[None]:
    """Rows of the store are found again by something else than its own pseudo column."""
    engine: Any = store.engine
    before, engine.capabilities = engine.capabilities, replace(engine.capabilities, row_id=row_id)
    try:
        yield
    finally:
        engine.capabilities = before


def is_identified(scene: Scene) -> bool:
    """Whether each row of the table is identified by its columns."""
    own = scene.own
    return bool(own["surrogate_key"] or own["valid_from"])


@given(cases(), st.sampled_from([SurrogateKeyColumn(), KeyAndStart()]))
def test_rows_are_found_again_by_whatever_identifies_them(case: tuple[Scene, list[Batch]], row_id: RowId) -> None:
    scene, made = case
    assume(scene.store != "lakehouse" and is_identified(scene))
    oracle = Oracle(scene.declared)
    with fresh(scene) as store, found_by(store, row_id):
        for batch in made:
            expected = Counter(scene.load(store, batch).decisions()["decision"].to_pylist())
            assert expected == Counter(oracle.load(batch.rows, loaded_at(store)))
        assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())


class Seen:
    """What a load had before it classified its changes, and what it then did to the table and its change log."""

    def __init__(self) -> None:
        self.context: RunContext
        self.plan: LoadPlan
        self.validated: Validated
        self.changes: pa.Table
        self.tables: dict[str, pa.Table] = {}
        self.files: dict[str, Any] = {}
        self.done: Counter[str] = Counter()

    def classify(self, context: RunContext, plan: LoadPlan, validated: Validated) -> Any:
        self.context, self.plan, self.validated = context, plan, validated
        self.changes = context.workspace.ask(f"SELECT * FROM {sql.work('changes')}")
        engine = context.workspace.engine
        names = [context.schema.table, *filter(None, [context.schema.change_log])]
        names += [f"{SCHEMA}.{name}" for name in TABLES]
        self.tables = {name: engine.ask(f"SELECT * FROM {sql.relation(name)}") for name in names}
        if isinstance(engine, LakehouseEngine):  # which may look again after its commit
            self.files = dict(engine._tables)
        return CLASSIFY(context, plan, validated)

    def apply(self, context: RunContext, plan: LoadPlan, changes: RowChanges) -> Any:
        self.done = row_changes(context, plan, changes)
        return APPLY(context, plan, changes)


CLASSIFY, APPLY = pipeline.classify_changes, pipeline.apply


def row_changes(context: RunContext, plan: LoadPlan, changes: RowChanges) -> Counter[str]:
    """The row changes of a run, row by row. The numbers of new rows are given by the whole, in blocks, and left out."""
    facts = Applied.after(changes)
    found: Counter[str] = Counter()
    for step in plan.apply:
        if step.change and step.runs(facts):
            change = step.change(facts)
            rows = context.workspace.ask(question(change, context.schema)).to_pylist()
            found.update(f"{change.what} {[shown(value) for value in row.values()]}" for row in rows)
    return found


def question(change: RowChange, schema: TableSchema) -> str:
    """A query for the rows that a change is about as they will be; which columns an update sets may depend on other rows."""
    if isinstance(change, InsertRows):
        number = schema.system_column("surrogate_key")
        return f"SELECT {columns(v for name, v in change.columns if name != number)} FROM {change.source} s"
    if isinstance(change, DeleteRows):
        return f"SELECT {columns(f's.{name}' for _, name in change.row_ids)} FROM {change.source} s"
    new = dict(change.columns)
    values = (new.get(name, f"t.{sql.quote(name)}") for name, _, _ in schema.table_columns())
    found = " AND ".join(f"t.{sql.quote(column)} = s.{name}" for column, name in change.row_ids)
    return f"SELECT {columns(values)} FROM {change.source} s JOIN {sql.relation(change.table)} t ON {found}"


def columns(values: Iterable[str]) -> str:
    return ", ".join(f"{value} AS c{number}" for number, value in enumerate(values))


def worked_out(seen: Seen, number: int, ranges: int) -> tuple[Counter[str], dict[str, int]]:
    """The row changes of one range of keys, worked out in a store that has nothing else; and its sums."""
    whole, keys = seen.context, seen.context.schema.keys

    def of_range(rows: pa.Table) -> pa.Table:
        chosen = [
            crc32(str([shown(row[key]) for key in keys]).encode()) % ranges == number
            for row in rows.select(keys).to_pylist()
        ]
        return rows.filter(pa.array(chosen, pa.bool_()))

    engine, duck = slice_of(seen, of_range)
    context = replace(whole, workspace=Workspace(engine, whole.workspace.params, engine.reserve()))
    copy(duck, f"CREATE TEMP TABLE {sql.quote(context.workspace.prefix + 'changes')}", of_range(seen.changes))
    context.carry_out(seen.plan.begin, Validated())
    first = seen.validated.first
    (sums,) = context.workspace.rows(classify.summarize(context.schema, first=first, derives=False, of="changes"))
    facts = replace(
        seen.validated, read=sums["changes"], rejected=0, repeated=0, invalid=0, broken=0, derived=0,
        **{name: int(sums[name]) for name in ("changes", "late", "changed_keys")},
    )  # fmt: skip
    classified = CLASSIFY(context, seen.plan, facts)
    changes = pipeline.find_row_changes(context, seen.plan, pipeline.resolve_current(context, seen.plan, classified))
    done = row_changes(context, seen.plan, changes)
    duck.close()
    return done, {name: changes.counts[name] for name in SUMS} | {"current": changes.current_change}


def slice_of(seen: Seen, of_range: Callable[[pa.Table], pa.Table]) -> tuple[Any, DuckDBEngine]:
    """A store with the rows of a range, the ledger, and nothing else; and the DuckDB in it. Tables of files are given as they
    are: only the rows of the keys are read."""
    whole: Any = seen.context.workspace.engine
    names = set(seen.tables)
    if isinstance(whole, LakehouseEngine):
        engine: Any = FileTables("a slice")
        duck: DuckDBEngine = engine.duck
        duck.make_schema(SCHEMA)
        for name in names & {seen.context.schema.table, seen.context.schema.change_log}:
            engine.give(seen.files[plain(name)])
            names.remove(name)
    else:
        engine = duck = DuckDBEngine(":memory:")
        engine.capabilities = whole.capabilities
        duck.make_schema(SCHEMA)
    for name in names:
        is_ledger = name.removeprefix(f"{SCHEMA}.") in TABLES
        rows = seen.tables[name] if is_ledger else of_range(seen.tables[name])
        copy(duck, f"CREATE TABLE {sql.relation(name)}", rows)
    return engine, duck


def copy(engine: DuckDBEngine, into: str, rows: pa.Table) -> None:
    connection: Any = engine._connection
    connection.register("rows_of_range", rows)
    connection.execute(f"{into} AS SELECT * FROM rows_of_range").fetchall()
    connection.unregister("rows_of_range")


@settings(max_examples=share(8))
@given(cases([scene for scene in SCENES if not has_long_key(scene)]), st.integers(2, 4))
def test_ranges_of_keys_come_to_what_the_whole_comes_to(case: tuple[Scene, list[Batch]], ranges: int) -> None:
    scene, made = case
    scene = scene if scene.store == "lakehouse" else replace(scene, store="duckdb")
    assume(is_identified(scene) and scene.rules.deletes in ("close", "remove"))
    row_id: Any = PseudoColumn(POSITION) if scene.store == "lakehouse" else SurrogateKeyColumn()
    with fresh(scene) as store, found_by(store, row_id), pytest.MonkeyPatch.context() as patched:
        for batch in made:
            seen = Seen()
            patched.setattr(pipeline, "classify_changes", seen.classify)
            patched.setattr(pipeline, "apply", seen.apply)
            outcome = scene.load(store, batch)
            parts = [worked_out(seen, number, ranges) for number in range(ranges)]
            assert sum((done for done, _ in parts), Counter()) == seen.done
            repeated = seen.validated.repeated
            expected = {name: outcome.counts[name] for name in SUMS}
            expected["read"] -= expected["rejected"] + repeated
            expected["duplicate"] -= repeated
            expected["rejected"] = 0
            assert {name: sum(sums[name] for _, sums in parts) for name in SUMS} == expected
