"""Runs reverted, and restored: the keys they changed, recomputed as if the runs had never been."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import Extract, Run
from brenvik.ledger.schema import ERASE, LOADS, approved_deletes, pending_in_extract, rejected_in_extract
from brenvik.merge import change_log, sequence
from brenvik.merge.plan.kinds import LoadPlan, removal_plan
from brenvik.model.rules import TableRules
from brenvik.outcome import Outcome
from brenvik.runs import pipeline
from brenvik.runs.context import RunContext
from brenvik.runs.prepare import whole_column_set
from brenvik.runs.recompute import Prepared, recompute


def revert(
    ledger: Ledger[Engine],
    rules: TableRules,
    runs: Iterable[int],
    *,
    reason: str | None = None,
    undo: bool = False,
    preview: bool = False,
    wait_s: float = 30.0,
) -> Outcome:
    """Reverts runs, or restores reverted ones: the table becomes what it would be without (or with) them.

    Later runs stay. Watermarks and loaded files stay too. Raises DeclarationError for runs that brought no changes to this table,
    and for those that are reverted already (or are not).
    """
    targets = tuple(sorted(set(runs)))
    named = ", ".join(str(run) for run in targets)

    kinds: set[str] = set()

    def prepare(context: RunContext) -> Prepared:
        if kinds == {ERASE}:
            return _decision(ledger, context, targets, reason, undo=undo)
        if rules.appends:
            return _removal(ledger, context, targets, reason)
        before = set(context.memory.reverted)
        after = before - set(targets) if undo else before | set(targets)
        context, explicit = _make_explicit(ledger, context, targets, before=before, after=after)
        if isinstance(context.run, Run):
            if undo:
                ledger.undo_revert(context.run, targets)
            else:
                ledger.revert(context.run, targets, reason)
        context.exclude(after, approved=approved_deletes(), explicit=explicit)
        text = change_log.select_keys(context.schema, where=change_log.of_runs(targets))
        return Prepared(context, context.workspace.make("replay_keys", text), explicit)

    outcome = recompute(
        ledger,
        rules,
        "undo revert" if undo else "revert",
        f"restored run {named}" if undo else f"reverted run {named}",
        prepare,
        check=lambda: kinds.update(_check_targets(ledger, rules, targets, undo=undo)),
        reason=reason,
        preview=preview,
        wait_s=wait_s,
    )
    if kinds == {ERASE}:
        outcome.notes.append(
            "The key is ignored again." if undo else "The key can be loaded again; what was erased stays so."
        )
        return outcome
    outcome.notes += [] if undo else _notes_on_duplicates(ledger, rules, targets)
    outcome.notes += [f"To load its rows again: brenvik load --again {run}" for run in targets if rules.appends]
    return outcome


def _decision(
    ledger: Ledger[Engine], context: RunContext, targets: Sequence[int], reason: str | None, *, undo: bool
) -> Prepared:
    """Reverting runs that erased keys allows the keys again, and changes no row."""
    if isinstance(context.run, Run):
        if undo:
            ledger.undo_revert(context.run, targets)
        else:
            ledger.revert(context.run, targets, reason)
    return Prepared(context, 0, plan=LoadPlan())


def _removal(ledger: Ledger[Engine], context: RunContext, targets: Sequence[int], reason: str | None) -> Prepared:
    """Without a natural key, a run is reverted by removing the rows that it appended."""
    if isinstance(context.run, Run):
        ledger.revert(context.run, targets, reason)
    return Prepared(context, 0, plan=removal_plan(context.schema, targets))


def _faults_of_appended(rules: TableRules, *, undo: bool) -> list[str]:
    """Why no run of a table without a natural key can be reverted or restored."""
    if undo:
        return [
            "without a natural key there is no change log to restore rows from; load them again: brenvik load --again"
        ]
    if rules.system_column_name("first_run") is None:
        return ["the table does not say which run appended a row (first_run is omitted)"]
    return []


def _check_targets(ledger: Ledger[Engine], rules: TableRules, targets: Sequence[int], *, undo: bool) -> set[str]:
    """The kinds of the runs. Raises DeclarationError where they cannot be reverted or restored."""
    reverted, trimmed = ledger.reverted(rules.table), ledger.trimmed(rules.table)
    faults = [] if targets else ["expected at least one run: brenvik runs"]
    faults += _faults_of_appended(rules, undo=undo) if rules.appends else []
    kinds = set()
    for target in targets:
        row = ledger.run(target)
        kinds |= {str(row["kind"])} if row else set()
        if row is None:
            faults.append(f"there is no run {target}: brenvik runs")
        elif row["table_name"] != rules.table:
            faults.append(f"run {target} belongs to table {row['table_name']}")
        elif row["kind"] not in (*LOADS, ERASE) or row["state"] != "done":
            faults.append(f"run {target} brought no changes ({row['kind']}, {row['state']})")
        elif undo and target not in reverted:
            faults.append(f"run {target} is not reverted")
        elif not undo and target in reverted:
            faults.append(f"run {target} was already reverted by run {reverted[target]}")
        elif trimmed and target <= trimmed.run and row["kind"] != ERASE:
            can = "restored" if undo else "reverted"
            faults.append(
                f"run {target}: the change log is trimmed up to run {trimmed.run}; only later runs can be {can}"
            )
    if ERASE in kinds and len(kinds) > 1:
        faults.append("runs that erased keys are reverted by themselves")
    if faults:
        what = "restored" if undo else "reverted"
        raise DeclarationError(f"Table {rules.table!r}: nothing was {what}:", faults)
    return kinds


def _make_explicit(
    ledger: Ledger[Engine], context: RunContext, targets: Sequence[int], *, before: set[int], after: set[int]
) -> tuple[RunContext, tuple[str, ...]]:
    """An extract contains everything, but only what differed is logged. Before an extract is reverted or restored, what the
    next extracts of the same feed said of the same keys is made explicit, so that it remains true: up to the first active one
    that left none of these keys open, by a rejected row or a pending delete.

    Returns the relations with these changes; they are logged in the end.
    """
    table = context.rules.table
    extracts = ledger.extracts(table) if context.memory.extracts or before else {}
    rejected = rejected_in_extract()
    open_extracts = {target: extracts[target] for target in targets if target in extracts}
    column_set, runs, explicit = None, [], _Explicit()
    for run, extract in extracts.items():
        affected = [target for target, its in open_extracts.items() if target < run and its.feed == extract.feed]
        if not affected:
            continue
        if column_set is None:
            context, column_set = whole_column_set(ledger, context)
            runs = ledger.runs_of(table)
        later = {each for each in runs if each > run}
        of_extract = context.with_params(to_run=run, extract_at=extract.time)
        explicit.add_extract(
            of_extract, extract, affected, column_set, (before - {run}) | later, missing_without=after | {run} | later
        )
        unsettled = change_log.count_unsettled(context.schema, tuple(affected), rejected, explicit.relations)
        if run not in before | after and not of_extract.workspace.row(unsettled)["n"]:
            for target in affected:
                if extract.scope in {None, open_extracts[target].scope}:
                    del open_extracts[target]
    return context, explicit.relations


class _Explicit:
    """Relations with explicit changes, more and more of them."""

    def __init__(self) -> None:
        self.relations: tuple[str, ...] = ()

    def add_extract(
        self,
        context: RunContext,
        extract: Extract,
        targets: Sequence[int],
        column_set: int,
        without: set[int],
        *,
        missing_without: set[int],
    ) -> None:
        """Makes explicit what one extract said of the keys that the runs ``targets`` changed."""
        schema, scope, rejected = context.schema, extract.scope, rejected_in_extract()
        column_set = extract.column_set or column_set
        highest = context.workspace.row(change_log.highest_explicit(schema))["n"]
        number = highest or sequence.sequence_no(0, sequence.EXPLICIT)
        absences = schema.inactive_deletes is not None or not scope
        text = change_log.make_explicit(
            schema,
            column_set=column_set,
            absences=absences,
            scope=scope,
            pending=pending_in_extract(),
            rejected=rejected,
        )
        replayed = _replay_unmentioned(context, without, targets)
        number += 2 * self._add(replayed, text, number)
        if scope and not absences:  # what it lacks is deleted only within its scope
            replayed = _replay_unmentioned(context, missing_without, targets, explicit=self.relations)
            text = change_log.make_absence_explicit(
                schema, column_set=column_set, scope=scope, rejected=rejected, present=self.relations[-1]
            )
            self._add(replayed, text, number)

    def _add(self, replayed: RunContext, text: str, number: int) -> int:
        """Makes one more relation from those of a replay; returns how many rows it has."""
        name = f"explicit_{len(self.relations)}"
        count = replayed.workspace.make(name, text, params={"explicit_from": number})
        self.relations = (*self.relations, replayed.workspace.name(name))
        return count


def _replay_unmentioned(
    context: RunContext, excluded: set[int], targets: Sequence[int], *, explicit: tuple[str, ...] = ()
) -> RunContext:
    """Replays the keys that the runs ``targets`` changed and the extract ``to_run`` did not, without some runs, in a workspace
    beside that of the run."""
    beside = replace(context, workspace=context.workspace.beside())
    beside.exclude(excluded, approved=approved_deletes(), explicit=explicit)
    where = f"{change_log.of_runs(tuple(targets))} AND {change_log.not_mentioned_in(context.schema)}"
    beside.workspace.make("replay_keys", change_log.select_keys(context.schema, where=where))
    pipeline.replay(beside)
    return beside


def _notes_on_duplicates(ledger: Ledger[Engine], rules: TableRules, targets: Sequence[int]) -> list[str]:
    notes = []
    for run, count in ledger.deduplicated(rules.table, targets).items():
        changes = "1 of its changes" if count == 1 else f"{count:,} of its changes"
        notes.append(
            f"{changes} also came in run {run}, where they were dropped as duplicates; they are reverted too. "
            f"To load them again: brenvik load --again {run}"
        )
    return notes
