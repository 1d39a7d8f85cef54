"""A run at work: the workspace with its relations, and the steps of its plan carried out one by one."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, TypeVar

from brenvik.engines.protocol import Engine
from brenvik.errors import InvariantBroken, StoreError
from brenvik.ledger.memory import LoadMemory
from brenvik.ledger.records import Preview, Run
from brenvik.merge.plan.staging import exclude
from brenvik.merge.plan.steps import Begun, Step
from brenvik.merge.prune import near
from brenvik.merge.schema import TableSchema
from brenvik.model.rules import TableRules

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.feeds.protocol import Batch, Watch

F = TypeVar("F", bound=Begun)

OTHER_WRITERS = (
    "If something other than Brenvik writes to this table, brenvik check {table} shows what is wrong with its rows and brenvik "
    "rebuild {table} repairs them. If nothing does, please report this."
)

_numbers = itertools.count(1)


@dataclass(frozen=True)
class Workspace:
    """The working relations of one run or query, and the parameters of its statements."""

    engine: Engine
    params: Mapping[str, Any] = field(default_factory=dict)
    prefix: str = field(default_factory=lambda: f"brenvik_w{next(_numbers)}_")

    def with_params(self, **params: Any) -> Workspace:
        return replace(self, params={**self.params, **params})

    def do(self, text: str, **params: Any) -> int:
        """Runs a statement; returns how many rows it changed or made."""
        return self.engine.run(text, {**self.params, **params}, work=self.prefix)

    def ask(self, text: str, schema: TableSchema | None = None, **params: Any) -> pa.Table:
        """The result of a query; ``schema`` for one that has columns of the table under their names."""
        given = {**self.params, **params}
        if schema is None:
            return self.engine.ask(text, given, work=self.prefix)
        return self.engine.ask(text, given, work=self.prefix, types=schema.answers)

    def rows(self, text: str, **params: Any) -> list[dict[str, Any]]:
        return self.engine.rows(text, {**self.params, **params}, work=self.prefix)

    def row(self, text: str, **params: Any) -> dict[str, Any]:
        (found,) = self.rows(text, **params)
        return found

    def discard(self) -> None:
        """Drops the working relations."""
        self.engine.on_discard(self.prefix)()


@dataclass(frozen=True)
class RunContext:
    """All that the steps of a run need."""

    workspace: Workspace
    rules: TableRules
    schema: TableSchema
    memory: LoadMemory
    run: Run | Preview
    batch: Batch | None = None
    watch: Watch | None = None

    @property
    def is_preview(self) -> bool:
        return isinstance(self.run, Preview)

    def with_schema(self, schema: TableSchema) -> RunContext:
        return replace(self, schema=schema)

    def with_params(self, **params: Any) -> RunContext:
        return replace(self, workspace=self.workspace.with_params(**params))

    def exclude(self, runs: Iterable[int], *, approved: str, explicit: bool = False) -> RunContext:
        """From here on the changes of these runs are not active, nor are deletes that have no effect by themselves and are not
        in the relation ``approved``; explicit changes are."""
        steps = exclude(self.schema, tuple(runs), approved, explicit=explicit)
        if not steps:
            return self
        self.carry_out(steps, Begun())
        return self.with_schema(replace(self.schema, some_excluded=True))

    def carry_out(self, steps: Sequence[Step[F]], facts: F) -> F:
        """Carries out the steps that run, in order; returns the facts with all that was learned."""
        for step in steps:
            if not step.runs(facts):
                continue
            result = self._result(step, facts)
            if step.learn:
                facts = step.learn(facts, result)
        return facts

    def _result(self, step: Step[F], facts: F) -> Any:
        work, params = self.workspace, {**facts.params(), **step.parameters(facts)}
        if step.does == "prune":
            for relation in step.index:
                self._index(relation)
            if step.prune_to is None:
                return None
            relation, every = step.prune_to
            pruned = near(self.schema, relation, all_versions=every)
            return work.engine.current_rows(pruned, {**work.params, **params}, work=work.prefix)
        if step.does == "stage":
            return self._stage(step, params)
        text = step.statement(facts)
        if step.does == "ask":
            return work.rows(text, **params)
        count = work.do(text, **params)
        for relation in step.index:
            self._index(relation)
        if step.index_table:
            table, columns, split_by = step.index_table
            work.engine.index(table, columns, split_by=split_by)
        if step.expects:
            what, expected = step.expects
            self.check_count(what, expected(facts), count)
        return count

    def _index(self, relation: str) -> None:
        self.workspace.engine.index_work(relation, self.schema.keys, work=self.workspace.prefix)

    def _stage(self, step: Step[F], params: Mapping[str, Any]) -> tuple[int, int]:
        batch, work = self.batch, self.workspace
        assert batch and step.staging
        given = {**work.params, **params}
        if step.broken:
            work.engine.stage(batch.broken_rows(), step.staging, given, work=work.prefix)
            return len(batch.broken), 0
        try:
            work.engine.stage(batch.rows(self.watch), step.staging, given, work=work.prefix)
        except StoreError:
            if batch.failure:  # raised inside the stream, and wrapped by the engine that read it
                raise batch.failure from None
            raise
        return batch.count, len(batch.broken)

    def check_count(self, what: str, expected: int, found: int) -> None:
        """Raises InvariantBroken when the store changed another number of rows than expected."""
        if expected != found:
            raise InvariantBroken(
                f"The load of {self.rules.table!r} expected {expected} rows to be {what}, but the store reports {found}. "
                f"Everything was rolled back. {OTHER_WRITERS.format(table=self.rules.table)}"
            )
