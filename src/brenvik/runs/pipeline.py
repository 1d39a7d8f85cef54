"""The stages of a run, each from the value of the stage before to its own: a wrong order is a type error.

A load goes through all of them. Runs that recompute keys from the change log begin with ``replay_keys`` and without changes.
What a stage does, statement by statement, is in ``merge.plan``.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from brenvik.engines.protocol import Engine
from brenvik.errors import ChangesMissing, InvariantBroken
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.memory import LoadMemory
from brenvik.ledger.records import TableState
from brenvik.merge import classify, past_runs
from brenvik.merge.plan.kinds import LoadPlan, again
from brenvik.merge.plan.replaying import counts_of, replay_keys
from brenvik.merge.plan.steps import Applied, Begun, Classified, Resolved, RowChanges, Validated
from brenvik.model.decisions import DECISIONS
from brenvik.model.rules import TableRules
from brenvik.runs.context import OTHER_WRITERS, RunContext


def begin(memory: LoadMemory, *, explains: bool | None) -> Begun:
    """What is known before the first stage."""
    state = memory.state
    rows, keys = (state.row_count, state.current_keys) if state else (0, 0)
    return Begun(memory.is_first, explains, rows, keys)


def table_params(rules: TableRules, state: TableState | None) -> dict[str, Any]:
    """The parameters that depend on the table: its open end, the last surrogate key, and the two highest values ever loaded."""
    params: dict[str, Any] = {
        "table_name": rules.table,
        "open_end": str(rules.open_end) if rules.open_end is not None else None,
        "last_key": state.last_key if state else 0,
        "high_effective": state.high_effective if state else None,
    }
    high_order = (state.high_order or ()) if state and state.high_effective is not None else ()
    return params | {f"high_order_{index}": value for index, value in enumerate(high_order)}


def validate(context: RunContext, plan: LoadPlan, begun: Begun) -> Validated:
    """Rows become changes and rejects."""
    facts = replace(Validated.after(begun), extract_at=context.workspace.params.get("extract_at"))
    return context.carry_out((*plan.begin, *plan.validate), facts)


def classify_changes(context: RunContext, plan: LoadPlan, validated: Validated) -> Classified:
    """Changes take one of two paths."""
    return context.carry_out(plan.classify, Classified.after(validated))


def resolve_current(context: RunContext, plan: LoadPlan, classified: Classified) -> Resolved:
    """The current path is decided."""
    return context.carry_out(plan.resolve, Resolved.after(classified))


def find_row_changes(context: RunContext, plan: LoadPlan, resolved: Resolved) -> RowChanges:
    """All other keys are replayed, and all decisions are known. Raises ChangesMissing for rows without a change in the log, and
    InvariantBroken when the decisions do not add up to the rows read and the changes derived."""
    facts = context.carry_out(plan.diff, RowChanges.after(resolved))
    check_logged(context, {"n": facts.action("unlogged"), "key": facts.actions.get("unlogged_key")})
    counts = counts_of(context.schema, facts)
    decided = sum(counts[decision] for decision in DECISIONS)
    if decided != counts["read"] + counts["derived"] or min(counts.values()) < 0:
        raise InvariantBroken(
            f"{counts['read']} rows were read and {counts['derived']} changes derived, but {decided} were decided ({counts}). "
            f"Nothing was written. {OTHER_WRITERS.format(table=context.rules.table)}"
        )
    return replace(facts, counts=counts)


def replay(context: RunContext) -> None:
    """Makes ``target_versions`` of the keys in ``replay_keys``, recomputed from the change log."""
    context.carry_out(replay_keys(context.schema, chosen="keys", stored=False), Resolved(chosen_keys=1))


def decide_again(context: RunContext) -> RowChanges:
    """Decides the changes of past runs again, for the schema ``past_runs.by_run``; see there."""
    schema = context.schema
    steps = again(schema)
    some_inactive = 0
    if schema.inactive_deletes:
        some_inactive = context.workspace.row(past_runs.count_deletes())["n"]
    facts = Validated(some_pending=schema.inactive_deletes == "review", inactive=some_inactive)
    context.carry_out((*steps.begin, *steps.validate), facts)
    return context.carry_out(steps.diff, replace(RowChanges.after(facts), chosen_keys=1))


def apply(context: RunContext, plan: LoadPlan, changes: RowChanges) -> Applied:
    """Writes the row changes and the change log. Raises InvariantBroken when the store changed another number of rows."""
    return context.carry_out(plan.apply, Applied.after(changes))


def rows_without_changes(found: Mapping[str, Any]) -> str:
    """What ``merge.accounting`` found, in words."""
    if found["n"] == 1:
        return f"Rows of 1 key ({found['key']}) have no change in the log"
    return f"Rows of {found['n']:,} keys (the first {found['key']}) have no change in the log"


def check_logged(context: RunContext, found: Mapping[str, Any]) -> None:
    """Raises ChangesMissing when rows of the table have no change in the log."""
    if not found["n"]:
        return
    name = context.rules.table
    raise ChangesMissing(
        f"{name}: nothing written\n"
        f"{rows_without_changes(found)}: {context.schema.change_log} is missing entries, or something other than Brenvik wrote "
        "to the table. Recomputing from this log would lose that history.\n"
        "Restore the log from a backup, or decide:\n"
        f"the table is right  brenvik rebuild {name} --unlogged keep\n"
        f"the log is right    brenvik rebuild {name} --unlogged remove\n"
        "in Python           rebuild(…, unlogged='keep') or 'remove'"
    )


HighValues = tuple[tuple[str, ...] | None, str | None]
"""The highest order, column by column, and the highest effective time, as text."""


def high_values(context: RunContext, applied: Applied) -> HighValues:
    """Those of the changes of a run; None where there are none."""
    found = applied.highest
    order = tuple(found.get(name) for name in classify.highest_order(context.schema))
    return (order if order and order[0] is not None else None), found.get(classify.HIGHEST)  # type: ignore[return-value]


def record_state(
    ledger: Ledger[Engine], context: RunContext, applied: Applied, highest: HighValues, *, first_run: int | None = None
) -> None:
    """Records the state of the table after the run."""
    counts = applied.counts
    ledger.set_state(
        context.schema,
        context.rules,
        high_order=highest[0],
        high_effective=highest[1],
        last_key=context.workspace.params["last_key"] + counts["rows_added"],
        row_count=counts["rows_after"],
        current_keys=applied.current_keys + applied.current_change,
        first_run=first_run,
    )
