"""Runs taken back, and put back: the keys that they brought changes of, worked out as if they had never been."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import Extract, Run
from brenvik.ledger.schema import LOADS, held_in_extract, refused_in_extract
from brenvik.merge import change_log, sequence
from brenvik.merge.schema import Blueprint
from brenvik.model.rules import TableRules
from brenvik.outcome import Outcome
from brenvik.runs.pipeline import draw_versions
from brenvik.runs.prepare import UnderWay, leave_out, whole_shape
from brenvik.runs.recompute import work_again


def withdraw(
    ledger: Ledger[Engine],
    rules: TableRules,
    runs: Iterable[int],
    *,
    reason: str | None = None,
    put_back: bool = False,
    preview: bool = False,
    wait_s: float = 30.0,
) -> Outcome:
    """Takes runs back, or puts withdrawn ones back: the table becomes what it would be without (or with) them.

    Later runs stay. Watermarks and taken files stay too. Raises DeclarationError for runs that brought nothing to this
    table, and for those that are withdrawn already (or are not).
    """
    targets = tuple(sorted(set(runs)))
    named = ", ".join(str(run) for run in targets)

    def prepare(it: UnderWay, run: Run) -> None:
        before = set(ledger.withdrawn(rules.table))
        after = before - set(targets) if put_back else before | set(targets)
        some_explicit = _make_explicit(ledger, it, targets, before=before, after=after)
        if not it.preview:
            if put_back:
                ledger.put_back(run, targets)
            else:
                ledger.withdraw(run, targets, reason)
        leave_out(it, after, some_explicit=some_explicit)
        it.do(change_log.choose(it.blueprint, where=change_log.of_runs(targets)))

    outcome = work_again(
        ledger,
        rules,
        "put back" if put_back else "withdrawal",
        f"put back run {named}" if put_back else f"withdrew run {named}",
        prepare,
        check=lambda: _check_targets(ledger, rules, targets, put_back=put_back),
        reason=reason,
        preview=preview,
        wait_s=wait_s,
    )
    outcome.notes += [] if put_back else _notes_on_folded(ledger, rules, targets)
    return outcome


def _check_targets(ledger: Ledger[Engine], rules: TableRules, targets: Sequence[int], *, put_back: bool) -> None:
    withdrawn = ledger.withdrawn(rules.table)
    faults = [] if targets else ["name at least one run: brenvik runs"]
    for target in targets:
        row = ledger.run(target)
        if row is None:
            faults.append(f"there is no run {target}: brenvik runs")
        elif row["table_name"] != rules.table:
            faults.append(f"run {target} was of table {row['table_name']}")
        elif row["kind"] not in LOADS or row["state"] != "done":
            faults.append(f"run {target} brought no changes ({row['kind']}, {row['state']})")
        elif put_back and target not in withdrawn:
            faults.append(f"run {target} is not withdrawn")
        elif not put_back and target in withdrawn:
            faults.append(f"run {target} is withdrawn already, by run {withdrawn[target]}")
    if faults:
        what = "put back" if put_back else "withdrawn"
        raise DeclarationError(f"Nothing of table {rules.table!r} was {what}:", faults)


def _make_explicit(
    ledger: Ledger[Engine], it: UnderWay, targets: Sequence[int], *, before: set[int], after: set[int]
) -> bool:
    """An extract says all there is, but only what differed is kept of it. Before an extract is taken back or put back, what the
    next ones of the same feed said of the same keys is made explicit, so that it holds on: up to the first that counts and that
    left none of these keys open, as a refused row or a delete that waits does.

    Adds it to ``explicit`` and to the kept changes; returns whether there is any.
    """
    extracts, refused = ledger.extracts(it.rules.table), refused_in_extract()
    carried = {target: extracts[target] for target in targets if target in extracts}
    shape, runs = None, []
    for run, extract in extracts.items():
        whose = [target for target, its in carried.items() if target < run and its.feed == extract.feed]
        if not whose:
            continue
        if shape is None:
            it.do(change_log.explicit_table(it.blueprint))
            shape, runs = whole_shape(ledger, it), ledger.runs_of(it.rules.table)
        later = {each for each in runs if each > run}
        it.values |= {"to_run": run, "extract_at": extract.time}
        _say(it, extract, whose, shape, without=(before - {run}) | later, missing_without=after | {run} | later)
        if run not in before | after and not it.row(change_log.count_open(it.blueprint, tuple(whose), refused))["n"]:
            for target in whose:
                if extract.scope in {None, carried[target].scope}:
                    del carried[target]
    if shape is None:
        return False
    it.keeps_explicit = not it.preview
    return True


def _say(
    it: UnderWay, extract: Extract, whose: Sequence[int], shape: int, *, without: set[int], missing_without: set[int]
) -> None:
    """Makes explicit what one extract said of the keys that the runs ``whose`` brought changes of."""
    plain, scope, refused = it.blueprint, extract.scope, refused_in_extract()
    shape = extract.shape or shape
    it.values["explicit_from"] = it.row(change_log.highest_explicit(plain))["n"] or sequence.numbered(
        0, sequence.EXPLICIT
    )
    _draw_untold(it, plain, without, whose)
    for living in (True, False):
        if living or plain.holds or not scope:
            said = change_log.make_explicit(
                plain, shape=shape, living=living, scope=scope, held=held_in_extract(), refused=refused
            )
            it.values["explicit_from"] += 2 * it.do(said)
    _start_again(it, plain)
    if scope and not plain.holds:  # of what it did not hold, it says only that what is alive within its part is gone
        _draw_untold(it, plain, missing_without, whose, some_explicit=True)
        it.do(change_log.make_missing_explicit(plain, shape=shape, scope=scope, refused=refused))
        _start_again(it, plain)


def _draw_untold(
    it: UnderWay, plain: Blueprint, left_out: set[int], whose: Sequence[int], *, some_explicit: bool = False
) -> None:
    """Works out the keys that the runs ``whose`` brought changes of and the extract ``to_run`` none, without some runs."""
    leave_out(it, left_out, some_explicit=some_explicit)
    if not it.blueprint.some_left_out:
        it.do(change_log.LEFT_OUT)
        it.do(change_log.count_others(plain))
    it.do(change_log.nothing_new(plain))
    it.do(change_log.choose(plain, where=f"{change_log.of_runs(tuple(whose))} AND {change_log.said_nothing_in(plain)}"))
    draw_versions(it, chosen=True)


def _start_again(it: UnderWay, plain: Blueprint) -> None:
    for statement in change_log.start_again(plain):
        it.do(statement)
    it.blueprint = plain


def _notes_on_folded(ledger: Ledger[Engine], rules: TableRules, targets: Sequence[int]) -> list[str]:
    notes = []
    for run, count in ledger.folded(rules.table, targets).items():
        changes = "1 of its changes" if count == 1 else f"{count:,} of its changes"
        notes.append(
            f"{changes} came again in run {run} and had been folded there as duplicates; they are gone too. "
            f"Take them again: brenvik load --again {run}"
        )
    return notes
