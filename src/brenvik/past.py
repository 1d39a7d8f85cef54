"""Questions about the past, worked out from the kept changes; nothing is written: the table as it was known after a run, what
a run decided, the story of a key.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any

from brenvik.core import again, diff
from brenvik.core.blueprint import Blueprint
from brenvik.errors import DeclarationError
from brenvik.holding import decide_aside, find_held, set_aside
from brenvik.ledger import Ledger
from brenvik.ledger_tables import released_deletes
from brenvik.outcome import Telling
from brenvik.preparing import leave_out
from brenvik.reworking import begin, check_kept
from brenvik.rules import TableRules
from brenvik.working import draw_versions, work_out

if TYPE_CHECKING:
    import pyarrow as pa


def known(
    ledger: Ledger,
    rules: TableRules,
    *,
    known_at: int | None = None,
    without: Iterable[int] = (),
    key: Mapping[str, Any] | None = None,
    moment: str | None = None,
) -> pa.Table:
    """The table as it was known after the run ``known_at``, or as it would be without some runs: as the store still has it, or
    worked out from the kept changes. Raises DeclarationError when there are none of either, for runs that are none, and for
    runs of other tables to be without; 0 stands for the time before the first run.

    ``key`` (values of the parameters ``key_0``, …) narrows it to one key, ``moment`` to the rows that held then. The rows have
    neither surrogate keys nor stamps, which belong to the table as it is.
    """
    without = tuple(without)
    it = begin(ledger, rules, values={**(key or {}), "known_at": known_at})
    _check_runs(ledger, rules, known_at, without)
    tests = [again.of_key(it.blueprint, "d")] if key else []
    tests += [again.at_moment(it.blueprint.effective_type)] if moment is not None else []
    was = _as_it_was(ledger, it.blueprint, rules, known_at) if known_at is not None and not without else None
    if not was:
        check_kept(rules)
    with it.engine.transaction():
        if was:
            it.do(diff.as_it_was(it.blueprint, was))
        else:
            out = {*ledger.withdrawn(rules.table, known_at=known_at), *without}
            if known_at is not None:
                out |= {run for run in ledger.runs_of(rules.table) if run > known_at}
            leave_out(it, out, released=released_deletes(known=known_at is not None))
            it.do(again.screen_again(it.blueprint))
            it.do(again.choose(it.blueprint, where=again.of_key(it.blueprint) if key else ""))
            draw_versions(it, chosen=True)
        found = it.ask_values(again.as_rows(it.blueprint, *tests), moment=moment)
    it.engine.on_discard(it.work)()
    return found


def _check_runs(ledger: Ledger, rules: TableRules, known_at: int | None, without: Iterable[int]) -> None:
    of_table = {run: (ledger.run(run) or {}).get("table_name") for run in without}
    unknown = [run for run, table in of_table.items() if table is None]
    unknown += [known_at] if known_at and ledger.run(known_at) is None else []
    faults = [f"there is no run {run}: brenvik runs" for run in unknown]
    faults += [f"run {run} was of table {table}" for run, table in of_table.items() if table not in (None, rules.table)]
    if faults:
        raise DeclarationError(f"The past of table {rules.table!r} was not worked out:", faults)


def _as_it_was(ledger: Ledger, blueprint: Blueprint, rules: TableRules, known_at: int) -> str | None:
    """A relation that has the rows of the table after a run, where the store still has them, in the columns of today."""
    done = [row["run"] for row in ledger.runs(rules.table).to_pylist() if row["state"] == "done"]
    last = max((run for run in done if run <= known_at), default=None)
    needed = (name for name, _, _ in blueprint.table_columns())
    return ledger.engine.at_run(rules.stored_as, last, needed) if last is not None else None


def decided_by(ledger: Ledger, rules: TableRules, run: int, *, key: Mapping[str, Any] | None = None) -> pa.Table:
    """What a past run decided on the changes it kept, worked out again: see ``Outcome.decisions`` for the columns."""
    it = begin(ledger, rules, values={**(key or {}), "run": run, "known_at": run - 1})
    it.unaccounted = True  # which is for runs to say, not for questions
    check_kept(rules)
    with it.engine.transaction():
        later = {number for number in ledger.runs_of(rules.table) if number >= run}
        leave_out(it, later | set(ledger.withdrawn(rules.table, known_at=run)), released=released_deletes(known=True))
        find_held(it, before_run=True)
        narrow = f" AND {again.of_key(it.blueprint)}" if key else ""
        it.do(again.screen_again(it.blueprint, where=again.OF_RUN + narrow))
        it.do(again.choose(it.blueprint, where=again.OF_RUN + narrow))
        set_aside(it)
        some_busy = work_out(it, first=False, chosen=True)
        decide_aside(it, some_busy=some_busy)
    files = tuple(enumerate(ledger.files_of(run), 1))
    told = Telling(
        it.engine, it.work, it.blueprint, some_busy, some_rejected=False, some_aside=it.some_aside, files=files
    )
    return told.decisions()


def story(ledger: Ledger, rules: TableRules, key: Mapping[str, Any]) -> list[dict[str, Any]]:
    """Every change ever kept of a key in the order of arrival, each with its run, what was decided and what it did.

    The entries are those of ``decided_by`` with ``run``, ``arrived_at`` (the start of the run, UTC) and ``withdrawn_by`` (None
    while it counts).
    """
    it = begin(ledger, rules, values=dict(key))
    check_kept(rules)
    runs = it.ask(again.runs_of_key(it.blueprint)).column(0).to_pylist()
    withdrawn = ledger.withdrawn(rules.table)
    found = []
    for run in runs:
        about = ledger.run(run) or {}
        for row in decided_by(ledger, rules, run, key=key).to_pylist():
            extra = {"run": run, "arrived_at": about.get("started_at"), "withdrawn_by": withdrawn.get(run)}
            found.append({**extra, **row})
    return found
