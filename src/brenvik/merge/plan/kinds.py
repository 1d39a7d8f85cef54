"""The plans of the kinds of run: the stages in their order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from brenvik.merge import change_log, past_runs
from brenvik.merge.plan.comparing import compare
from brenvik.merge.plan.deciding import current_paths, find_replay_keys, set_aside
from brenvik.merge.plan.inputs import LedgerSql, Rows
from brenvik.merge.plan.replaying import changes_of_rows, decide, inactive, replay_keys
from brenvik.merge.plan.staging import exclude, find_pending, stage
from brenvik.merge.plan.steps import Applied, Classified, Resolved, RowChanges, Step, Validated, count_of, learned
from brenvik.merge.plan.writing import log, log_explicit, write
from brenvik.merge.schema import TableSchema


def load_plan(
    schema: TableSchema, rows: Rows, ledger: LedgerSql, *, excluded: Sequence[int] = (), first: bool = False
) -> LoadPlan:
    """The plan of a load; ``excluded`` are reverted runs."""
    active = exclude(schema, excluded, ledger.approved) if ledger.has_ledger else ()
    if active:
        schema = replace(schema, some_excluded=True)
    return LoadPlan(
        schema,
        begin=(*active, *(find_pending(schema, ledger) if ledger.has_ledger else ())),
        validate=compare(schema, rows, ledger, first=first)
        if rows.is_extract
        else stage(schema, rows, ledger, first=first),
        classify=set_aside(schema) + find_replay_keys(schema),
        resolve=current_paths(schema, first=first),
        diff=(
            *replay_keys(schema, first=first),
            *changes_of_rows(schema, check_log=not first),
            *decide(schema),
        ),
        apply=write(schema) + log(schema, rows, ledger, first=first),
    )


@dataclass(frozen=True)
class LoadPlan:
    """The steps of a run in order, by the value that each stage returns."""

    schema: TableSchema
    begin: tuple[Step[Validated], ...]
    validate: tuple[Step[Validated], ...]
    classify: tuple[Step[Classified], ...]
    resolve: tuple[Step[Resolved], ...]
    diff: tuple[Step[RowChanges], ...]
    apply: tuple[Step[Applied], ...]

    def steps(self) -> tuple[Step[Any], ...]:
        """All of them."""
        return (*self.begin, *self.validate, *self.classify, *self.resolve, *self.diff, *self.apply)


def recompute_plan(schema: TableSchema, *, explicit: bool = False, check_log: bool = True) -> LoadPlan:
    """The plan of a run without new changes: the keys in ``replay_keys`` are recomputed from the change log, and the differences
    are written. ``explicit``: changes of the relation of that name are logged as well."""
    return LoadPlan(
        schema,
        begin=(),
        validate=(Step("classify", "there are no new changes", change_log.no_changes(schema)),),
        classify=(
            Step(
                "classify",
                "how many keys there are",
                count_of("replay_keys"),
                "ask",
                learned(replay_keys=lambda r: r[0]["n"]),
            ),
        ),
        resolve=current_paths(schema, chosen=True),
        diff=(*replay_keys(schema, chosen=True), *changes_of_rows(schema, chosen=True, check_log=check_log)),
        apply=write(schema) + (log_explicit(schema) if explicit else ()),
    )


def again(schema: TableSchema) -> LoadPlan:
    """The plan that decides the changes of past runs again, for the schema ``past_runs.by_run``."""
    active: tuple[Step[Classified], ...] = (
        Step("exclude", "", does="prune", index=("changes", "replay_keys", "log_by_run")),
    )
    if schema.inactive_deletes:
        active += (
            Step("exclude", "changes that were active", past_runs.active_changes(schema)),
            Step("exclude", "keys whose deletes were pending", past_runs.find_pending(schema)),
        )
    decisions = inactive(schema, all_replayed=True) if schema.inactive_deletes else ()
    return LoadPlan(
        schema,
        begin=(),
        validate=(),
        classify=(*active, *set_aside(schema)),
        resolve=(),
        diff=(*replay_keys(schema, chosen=True), *decisions),
        apply=(),
    )
