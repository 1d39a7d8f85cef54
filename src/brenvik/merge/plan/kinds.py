"""The plans of the kinds of run: the stages in their order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from brenvik.merge import past_runs, sql
from brenvik.merge.plan import appending, marking
from brenvik.merge.plan.comparing import compare
from brenvik.merge.plan.deciding import current_paths, find_late_or_several
from brenvik.merge.plan.inputs import LedgerSql, Rows
from brenvik.merge.plan.replaying import changes_of_rows, decide_deletes, find_contradictions, replay_keys
from brenvik.merge.plan.staging import exclude, find_pending, set_aside, stage
from brenvik.merge.plan.steps import Applied, Classified, Resolved, RowChanges, Step, Validated
from brenvik.merge.plan.writing import highest_in_log, log, log_explicit, write
from brenvik.merge.schema import TableSchema


@dataclass(frozen=True)
class LoadPlan:
    """The steps of a run in order, by the value that each stage returns."""

    begin: tuple[Step[Validated], ...] = ()
    validate: tuple[Step[Validated], ...] = ()
    classify: tuple[Step[Classified], ...] = ()
    resolve: tuple[Step[Resolved], ...] = ()
    diff: tuple[Step[RowChanges], ...] = ()
    apply: tuple[Step[Applied], ...] = ()

    def steps(self) -> tuple[Step[Any], ...]:
        """All of them."""
        return (*self.begin, *self.validate, *self.classify, *self.resolve, *self.diff, *self.apply)


def load_plan(
    schema: TableSchema, rows: Rows, ledger: LedgerSql, *, excluded: Sequence[int] = (), first: bool = False
) -> LoadPlan:
    """The plan of a load; ``excluded`` are reverted runs."""
    if schema.appends:
        return LoadPlan(
            validate=appending.stage(schema, rows, ledger),
            classify=appending.find_duplicates(schema),
            resolve=appending.choose_rows(schema),
            apply=appending.write(schema) + log(schema, rows, ledger),
        )
    active = exclude(schema, excluded, ledger.approved if ledger.has_ledger else None)
    return LoadPlan(
        begin=(*active, *(find_pending(schema, ledger) if ledger.has_ledger else ())),
        validate=(compare if rows.is_extract else stage)(schema, rows, ledger, first=first),
        classify=find_late_or_several(schema, first=first),
        resolve=current_paths(schema, first=first),
        diff=(
            *replay_keys(schema, first=first),
            *changes_of_rows(schema, first=first, check_log=True),
            *find_contradictions(schema, is_extract=rows.is_extract),
            *decide_deletes(schema),
            *marking.find_marks(schema, rows),
        ),
        apply=write(schema) + marking.mark(schema, rows) + log(schema, rows, ledger),
    )


def recompute_plan(schema: TableSchema, *, explicit: tuple[str, ...] = (), check_log: bool = True) -> LoadPlan:
    """The plan of a run without new changes: the keys in ``replay_keys`` are recomputed from the change log, and the differences
    are written. The changes in the relations ``explicit`` are logged as well."""
    logged = log_explicit(schema, explicit) if explicit else ()
    return LoadPlan(
        diff=(
            *replay_keys(schema, chosen="keys"),
            *changes_of_rows(schema, chosen=True, check_log=check_log),
        ),
        apply=(highest_in_log(schema), *write(schema), *logged),
    )


def removal_plan(schema: TableSchema, runs: Sequence[int]) -> LoadPlan:
    """The plan that removes the rows that some runs appended."""
    found, removed = appending.remove(schema, runs)
    return LoadPlan(diff=found, apply=removed)


def again(schema: TableSchema) -> LoadPlan:
    """The plan that decides the changes of past runs again, for the schema ``past_runs.by_run``."""
    active: tuple[Step[Any], ...] = (
        Step("exclude", "what was logged before", makes="unreverted_changes", same_as=sql.work("log_by_run")),
    )
    if schema.inactive_deletes:
        active += (
            Step("exclude", "changes that were active", past_runs.active_changes(schema), "active_changes", view=True),
            Step("exclude", "keys whose deletes were pending", past_runs.find_pending(schema), "pending_keys"),
        )
    else:
        active += (Step("exclude", "all of it", makes="active_changes", same_as=sql.work("log_by_run")),)
    return LoadPlan(
        begin=active,
        validate=set_aside(schema),
        diff=(*replay_keys(schema, chosen="again", stored=False), *decide_deletes(schema, again=True)),
    )
