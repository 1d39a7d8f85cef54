"""A run at work: its workspace, and the steps of its plan carried out one by one."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, TypeVar

from brenvik.engines.workspace import Workspace
from brenvik.errors import InvariantBroken, StoreError
from brenvik.ledger.memory import LoadMemory
from brenvik.ledger.records import NewRowsFrom, Preview, Run
from brenvik.merge.plan.staging import exclude
from brenvik.merge.plan.steps import Begun, Step
from brenvik.merge.schema import TableSchema
from brenvik.merge.stored_rows import stored_rows
from brenvik.model.rules import TableRules

if TYPE_CHECKING:
    from brenvik.feeds.protocol import Batch, Watch

F = TypeVar("F", bound=Begun)

OTHER_WRITERS = (
    "If something other than Brenvik writes to this table, brenvik check {table} shows what is wrong with its rows and brenvik "
    "rebuild {table} repairs them. If nothing does, please report this."
)


@dataclass(frozen=True)
class RunContext:
    """All that the steps of a run need; ``notes`` are sentences that are recorded with the run."""

    workspace: Workspace
    rules: TableRules
    schema: TableSchema
    memory: LoadMemory
    run: Run | Preview
    batch: Batch | None = None
    watch: Watch | None = None
    notes: tuple[str, ...] = ()

    @property
    def is_preview(self) -> bool:
        return isinstance(self.run, Preview)

    def with_schema(self, schema: TableSchema) -> RunContext:
        return replace(self, schema=schema)

    def with_params(self, **params: Any) -> RunContext:
        return replace(self, workspace=self.workspace.with_params(**params))

    def exclude(self, runs: Iterable[int], *, approved: str, explicit: tuple[str, ...] = ()) -> None:
        """Makes ``active_changes``: without the changes of these runs and without deletes that have no effect by themselves and
        are not in the relation ``approved``, but with those in the relations ``explicit``."""
        self.carry_out(exclude(self.schema, tuple(runs), approved, explicit=explicit), Begun())

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
        work, params = self.workspace, {**facts.params(), **step.params}
        if step.alter:
            return work.engine.change_table(step.alter)
        if step.same_as:
            return work.call(step.makes, step.original(facts))
        if step.stored:
            relation, every = step.stored
            return work.read(stored_rows(self.schema, step.makes, relation, all_versions=every))
        if step.makes:
            return self._make(step, facts, params)
        if not (step.change or step.record):
            return work.rows(step.query(facts), params)
        count = (
            work.apply(step.change(facts)) if step.change else work.record(NewRowsFrom(step.record, step.query(facts)))
        )
        if step.expected:
            what = step.change(facts).what if step.change else step.what
            self.check_count(what, step.expected(facts), count)
        return count

    def _make(self, step: Step[F], facts: F, params: Mapping[str, Any]) -> Any:
        work = self.workspace
        if step.staging:
            result: Any = self._stage(step, params)
        else:
            query = step.query(facts)
            result = work.make(step.makes, query, view=step.view, compares=step.compares, params=params)
        if columns := self.schema.keys if step.index is True else step.index:
            work.index(step.makes, columns)
        return result

    def _stage(self, step: Step[F], params: Mapping[str, Any]) -> tuple[int, int]:
        batch, work = self.batch, self.workspace
        assert batch and step.staging
        if step.broken:
            work.stage(batch.broken_rows(), step.staging, params)
            return len(batch.broken), 0
        try:
            work.stage(batch.rows(self.watch), step.staging, params)
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
