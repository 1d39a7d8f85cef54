"""Runs reverted, and restored: the keys they changed, recomputed as if the runs had never been."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import Extract, Run
from brenvik.ledger.schema import LOADS, pending_in_extract, rejected_in_extract
from brenvik.merge import change_log, sequence
from brenvik.merge.schema import TableSchema
from brenvik.model.rules import TableRules
from brenvik.outcome import Outcome
from brenvik.runs.pipeline import replay_keys
from brenvik.runs.prepare import UnderWay, exclude, whole_column_set
from brenvik.runs.recompute import recompute


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

    def prepare(it: UnderWay, run: Run) -> None:
        before = set(ledger.reverted(rules.table))
        after = before - set(targets) if undo else before | set(targets)
        some_explicit = _make_explicit(ledger, it, targets, before=before, after=after)
        if not it.preview:
            if undo:
                ledger.undo_revert(run, targets)
            else:
                ledger.revert(run, targets, reason)
        exclude(it, after, some_explicit=some_explicit)
        it.do(change_log.select_keys(it.schema, where=change_log.of_runs(targets)))

    outcome = recompute(
        ledger,
        rules,
        "undo revert" if undo else "revert",
        f"restored run {named}" if undo else f"reverted run {named}",
        prepare,
        check=lambda: _check_targets(ledger, rules, targets, undo=undo),
        reason=reason,
        preview=preview,
        wait_s=wait_s,
    )
    outcome.notes += [] if undo else _notes_on_duplicates(ledger, rules, targets)
    return outcome


def _check_targets(ledger: Ledger[Engine], rules: TableRules, targets: Sequence[int], *, undo: bool) -> None:
    reverted = ledger.reverted(rules.table)
    faults = [] if targets else ["expected at least one run: brenvik runs"]
    for target in targets:
        row = ledger.run(target)
        if row is None:
            faults.append(f"there is no run {target}: brenvik runs")
        elif row["table_name"] != rules.table:
            faults.append(f"run {target} belongs to table {row['table_name']}")
        elif row["kind"] not in LOADS or row["state"] != "done":
            faults.append(f"run {target} brought no changes ({row['kind']}, {row['state']})")
        elif undo and target not in reverted:
            faults.append(f"run {target} is not reverted")
        elif not undo and target in reverted:
            faults.append(f"run {target} was already reverted by run {reverted[target]}")
    if faults:
        what = "restored" if undo else "reverted"
        raise DeclarationError(f"Table {rules.table!r}: nothing was {what}:", faults)


def _make_explicit(
    ledger: Ledger[Engine], it: UnderWay, targets: Sequence[int], *, before: set[int], after: set[int]
) -> bool:
    """An extract contains everything, but only what differed is logged. Before an extract is reverted or restored, what the
    next extracts of the same feed said of the same keys is made explicit, so that it remains true: up to the first active one
    that left none of these keys open, by a rejected row or a pending delete.

    Adds it to ``explicit`` and to the change log; returns whether there is any.
    """
    extracts, rejected = ledger.extracts(it.rules.table), rejected_in_extract()
    carried = {target: extracts[target] for target in targets if target in extracts}
    column_set, runs = None, []
    for run, extract in extracts.items():
        whose = [target for target, its in carried.items() if target < run and its.feed == extract.feed]
        if not whose:
            continue
        if column_set is None:
            it.do(change_log.explicit_table(it.schema))
            column_set, runs = whole_column_set(ledger, it), ledger.runs_of(it.rules.table)
        later = {each for each in runs if each > run}
        it.values |= {"to_run": run, "extract_at": extract.time}
        _say(it, extract, whose, column_set, without=(before - {run}) | later, missing_without=after | {run} | later)
        if run not in before | after and not it.row(change_log.count_unsettled(it.schema, tuple(whose), rejected))["n"]:
            for target in whose:
                if extract.scope in {None, carried[target].scope}:
                    del carried[target]
    if column_set is None:
        return False
    it.keeps_explicit = not it.preview
    return True


def _say(
    it: UnderWay,
    extract: Extract,
    whose: Sequence[int],
    column_set: int,
    *,
    without: set[int],
    missing_without: set[int],
) -> None:
    """Makes explicit what one extract said of the keys that the runs ``whose`` changed."""
    plain, scope, rejected = it.schema, extract.scope, rejected_in_extract()
    column_set = extract.column_set or column_set
    it.values["explicit_from"] = it.row(change_log.highest_explicit(plain))["n"] or sequence.sequence_no(
        0, sequence.EXPLICIT
    )
    _draw_untold(it, plain, without, whose)
    for some_current in (True, False):
        if some_current or plain.inactive_deletes or not scope:
            said = change_log.make_explicit(
                plain,
                column_set=column_set,
                some_current=some_current,
                scope=scope,
                pending=pending_in_extract(),
                rejected=rejected,
            )
            it.values["explicit_from"] += 2 * it.do(said)
    _start_again(it, plain)
    if scope and not plain.inactive_deletes:  # what it lacks is deleted only within its scope
        _draw_untold(it, plain, missing_without, whose, some_explicit=True)
        it.do(change_log.make_absence_explicit(plain, column_set=column_set, scope=scope, rejected=rejected))
        _start_again(it, plain)


def _draw_untold(
    it: UnderWay, plain: TableSchema, left_out: set[int], whose: Sequence[int], *, some_explicit: bool = False
) -> None:
    """Replays the keys that the runs ``whose`` changed and the extract ``to_run`` did not, without some runs."""
    exclude(it, left_out, some_explicit=some_explicit)
    if not it.schema.some_excluded:
        it.do(change_log.EXCLUDED_RUNS)
        it.do(change_log.active_changes(plain))
    it.do(change_log.no_changes(plain))
    it.do(
        change_log.select_keys(
            plain, where=f"{change_log.of_runs(tuple(whose))} AND {change_log.not_mentioned_in(plain)}"
        )
    )
    replay_keys(it, chosen=True)


def _start_again(it: UnderWay, plain: TableSchema) -> None:
    for statement in change_log.drop_replay(plain):
        it.do(statement)
    it.schema = plain


def _notes_on_duplicates(ledger: Ledger[Engine], rules: TableRules, targets: Sequence[int]) -> list[str]:
    notes = []
    for run, count in ledger.deduplicated(rules.table, targets).items():
        changes = "1 of its changes" if count == 1 else f"{count:,} of its changes"
        notes.append(
            f"{changes} also came in run {run}, where they were dropped as duplicates; they are reverted too. "
            f"To load them again: brenvik load --again {run}"
        )
    return notes
