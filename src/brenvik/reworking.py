"""Runs that bring nothing new: they work keys of a table out again from the changes kept before, and write what differs.

    rebuild     all keys
    withdraw    the keys that some runs brought changes of, as if these runs had never been
    put back    the same, as if they had not been withdrawn

And questions about the past, which write nothing: the table as it was known after a run, what a run decided, the
story of a key.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from brenvik.core import again, arrivals, holds, sql
from brenvik.core.blueprint import draw
from brenvik.errors import DeclarationError, RulesChanged
from brenvik.holding import decide_aside, find_held, set_aside
from brenvik.ledger import Ledger, Run, TableState, now
from brenvik.ledger_tables import LOADS, held_deletes, held_in_extract, kept_table, numbered_holds, released_deletes
from brenvik.outcome import Outcome, Telling
from brenvik.preparing import LATER_THAN_ALL, UnderWay, changed_rules, check_rules, leave_out, next_work
from brenvik.rules import TableRules
from brenvik.working import draw_versions, foresee, highest_kept, set_highs, work_out, write_table

if TYPE_CHECKING:
    import pyarrow as pa

CAN_REBUILD = ("order_by", "deletes", "role")
"""What of changed rules a rebuild can follow; a change of the rest needs a table of another name."""


def rebuild(ledger: Ledger, rules: TableRules, *, preview: bool = False, wait_s: float = 30.0) -> Outcome:
    """Works the whole table out again from its kept changes, under the rules as they are now.

    Rows that come out the same are not touched, and surrogate keys stay. Raises RulesChanged for rules that it cannot
    follow, DeclarationError for a table that keeps no changes.
    """

    def prepare(it: UnderWay, run: Run) -> None:
        _fit_columns(it)
        leave_out(it, ledger.withdrawn(rules.table))
        it.do(again.choose(it.blueprint))

    return _run(ledger, rules, "rebuild", "rebuilt", prepare, preview=preview, wait_s=wait_s, changed=True)


def withdraw(
    ledger: Ledger,
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
        it.do(again.choose(it.blueprint, where=again.of_runs(targets)))

    outcome = _run(
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


def decide_holds(
    ledger: Ledger,
    rules: TableRules,
    numbers: Iterable[int] | None = None,
    *,
    drop: bool = False,
    reason: str | None = None,
    preview: bool = False,
    wait_s: float = 30.0,
) -> Outcome:
    """Releases held deletes (all, or by their numbers): each then holds from when the source said it; or drops them.

    Raises DeclarationError for numbers that are not held.
    """
    chosen = sorted(waiting_deletes(ledger, rules)["brenvik_hold"].to_pylist() if numbers is None else set(numbers))

    def check() -> None:
        there = waiting_deletes(ledger, rules)["brenvik_hold"].to_pylist()
        if unknown := [str(number) for number in chosen if number not in there] or ([] if chosen else ["any"]):
            raise DeclarationError(f"Table {rules.table!r} does not hold {', '.join(unknown)}: brenvik held")

    def prepare(it: UnderWay, run: Run) -> None:
        counting = released_deletes(also=() if drop else chosen)
        leave_out(it, ledger.withdrawn(rules.table), released=counting)
        it.do(again.choose(it.blueprint, where="1 = 0" if drop else holds.is_one_of(numbered_holds(chosen))))
        if not it.preview:
            ledger.decide_holds(run, chosen, "dropped" if drop else "released")

    what = "1 held delete" if len(chosen) == 1 else f"{len(chosen):,} held deletes"
    return _run(
        ledger,
        rules,
        "drop" if drop else "release",
        f"{what} {'dropped' if drop else 'released'}",
        prepare,
        check=check,
        reason=reason,
        preview=preview,
        wait_s=wait_s,
    )


def waiting_deletes(ledger: Ledger, rules: TableRules) -> pa.Table:
    """The deletes that wait for a person: ``brenvik_hold`` (number), ``brenvik_feed``, ``brenvik_run``,
    ``brenvik_since``, ``brenvik_effective``, then key and values of the row as it is now."""
    it = _begin(ledger, rules, values={})
    return it.ask(holds.listed(it.blueprint, held_deletes()))


def _make_explicit(ledger: Ledger, it: UnderWay, targets: Sequence[int], *, before: set[int], after: set[int]) -> bool:
    """An extract says all there is, but only what differed is kept of it. Before an extract is taken back or put back, what the
    next ones (of the same feed, up to the first that counts) said of the same keys is made explicit, so that it holds on.

    Adds it to ``explicit`` and to the kept changes; returns whether there is any.
    """
    following: dict[int, list[int]] = {}
    extracts = ledger.extracts(it.rules.table)
    for target in targets:
        feed = extracts[target].feed if target in extracts else None
        for run, each in extracts.items():
            if run > target and each.feed == feed:
                following.setdefault(run, []).append(target)
                if run not in before | after:
                    break
    if not following:
        return False
    it.do(again.explicit_table(it.blueprint))
    whole = tuple(sorted((*it.blueprint.keys, *it.blueprint.values)))
    shapes = dict(it.blueprint.shapes)
    shape = next((number for number, names in shapes.items() if names == whole), None)
    if shape is None:
        shape = max(shapes) + 1
        if not it.preview:
            ledger.add_shapes(it.rules.table, {shape: whole})
        it.blueprint = it.blueprint.with_shapes({**shapes, shape: whole})
    plain = it.blueprint
    for extract, whose in following.items():
        it.values |= {"to_run": extract, "extract_at": extracts[extract].time}
        highest = it.row(again.highest_explicit(plain))["n"]
        it.values["explicit_from"] = highest or arrivals.numbered(0, arrivals.EXPLICIT)
        later = {run for run in ledger.runs_of(it.rules.table) if run > extract}
        leave_out(it, (before - {extract}) | later)
        if not it.blueprint.some_left_out:
            it.do(again.LEFT_OUT)
            it.do(again.count_others(plain))
        it.do(again.screen_again(plain))
        it.do(again.choose(plain, where=f"{again.of_runs(tuple(whose))} AND {again.said_nothing_in(plain)}"))
        draw_versions(it, first=False)
        it.do(again.make_explicit(plain, shape=shape, held=held_in_extract()))
        for statement in again.start_again(plain):
            it.do(statement)
        it.blueprint = plain
    if not it.preview:
        it.keeps_explicit = True
    return True


def _check_targets(ledger: Ledger, rules: TableRules, targets: Sequence[int], *, put_back: bool) -> None:
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


def _notes_on_folded(ledger: Ledger, rules: TableRules, targets: Sequence[int]) -> list[str]:
    notes = []
    for run, count in ledger.folded(rules.table, targets).items():
        changes = "1 of its changes" if count == 1 else f"{count:,} of its changes"
        notes.append(
            f"{changes} came again in run {run} and had been folded there as duplicates; they are gone too. "
            f"Take them again: brenvik load --again {run}"
        )
    return notes


def known(
    ledger: Ledger,
    rules: TableRules,
    *,
    known_at: int | None = None,
    without: Iterable[int] = (),
    key: Mapping[str, Any] | None = None,
    moment: str | None = None,
) -> pa.Table:
    """The table as it was known after the run ``known_at``, or as it would be without some runs; from the kept changes.

    ``key`` (values of the parameters ``key_0``, …) narrows it to one key, ``moment`` to the rows that held then. The rows have
    neither surrogate keys nor stamps, which belong to the table as it is.
    """
    it = _begin(ledger, rules, values={**(key or {}), "known_at": known_at})
    with it.engine.transaction():
        out = {*ledger.withdrawn(rules.table, known_at=known_at), *without}
        if known_at is not None:
            out |= {run for run in ledger.runs_of(rules.table) if run > known_at}
        leave_out(it, out, released=released_deletes(known=known_at is not None))
        it.do(again.screen_again(it.blueprint))
        it.do(again.choose(it.blueprint, where=again.of_key(it.blueprint) if key else ""))
        draw_versions(it, first=False)
        where = again.at_moment(it.blueprint.effective_type) if moment is not None else ""
        found = it.ask(again.as_rows(it.blueprint, where), moment=moment)
    it.engine.on_discard(it.work)()
    return found


def decided_by(ledger: Ledger, rules: TableRules, run: int, *, key: Mapping[str, Any] | None = None) -> pa.Table:
    """What a past run decided on the changes it kept, worked out again: see ``Outcome.decisions`` for the columns."""
    it = _begin(ledger, rules, values={**(key or {}), "run": run, "known_at": run - 1})
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
    it = _begin(ledger, rules, values=dict(key))
    runs = it.ask(again.runs_of_key(it.blueprint)).column(0).to_pylist()
    withdrawn = ledger.withdrawn(rules.table)
    found = []
    for run in runs:
        about = ledger.run(run) or {}
        for row in decided_by(ledger, rules, run, key=key).to_pylist():
            extra = {"run": run, "arrived_at": about.get("started_at"), "withdrawn_by": withdrawn.get(run)}
            found.append({**extra, **row})
    return found


def _begin(
    ledger: Ledger, rules: TableRules, *, values: Mapping[str, Any], changed: bool = False, preview: bool = True
) -> UnderWay:
    """A table brought together with what is known of it. Raises DeclarationError when it keeps no changes."""
    state = ledger.state(rules.table) if ledger.exists() else None
    if state is None:
        raise DeclarationError(f"Table {rules.table!r} was never loaded; there is nothing to work out again.")
    if changed:
        _check_rebuild(rules, state)
    else:
        check_rules(rules, state)
    if not rules.keep_changes:
        raise DeclarationError(
            f"Table {rules.table!r} keeps no changes (keep_changes = false), so nothing can be worked out again from them."
        )
    it = UnderWay(
        ledger.engine, rules, values={"table_name": rules.table, **values}, work=next_work(), preview=preview, told=True
    )
    it.blueprint = draw(
        rules,
        {column.name: column.type for column in state.columns},
        known=state.columns,
        locator=ledger.engine.locator,
        kept=kept_table(rules.table),
        source=f"table {rules.table!r}",
    ).with_shapes(ledger.shapes(rules.table))
    set_highs(it, state)
    it.values = {"run": LATER_THAN_ALL, "high_effective": None, **it.values}
    it.state = state
    return it


def _run(
    ledger: Ledger,
    rules: TableRules,
    kind: str,
    source: str,
    prepare: Callable[[UnderWay, Run], None],
    *,
    check: Callable[[], None] = lambda: None,
    reason: str | None = None,
    preview: bool,
    wait_s: float,
    changed: bool = False,
) -> Outcome:
    """One run that works keys out again: ``prepare`` says which (``busy``) and what counts.

    ``check`` raises when it cannot be; it is asked while the table is held, before the run is entered.
    """
    if preview:
        check()
        return _work(ledger, rules, Run(0, rules.table, "", kind, source, now()), prepare, changed=changed)
    if not ledger.exists():
        raise DeclarationError(f"Table {rules.table!r} was never loaded; there is nothing to work out again.")
    with ledger.engine.hold(rules.table, wait_s=wait_s):
        check()
        run, _ = ledger.start_run(rules, feed="", kind=kind, source=source, reason=reason)
        try:
            return _work(ledger, rules, run, prepare, changed=changed)
        except BaseException as error:
            ledger.enter_failure(run, error)
            raise


def _work(
    ledger: Ledger, rules: TableRules, run: Run, prepare: Callable[[UnderWay, Run], None], *, changed: bool
) -> Outcome:
    values = {"run": run.number or LATER_THAN_ALL, "loaded_at": run.started_at}
    it = _begin(ledger, rules, values=values, changed=changed, preview=run.number == 0)
    with it.engine.transaction():
        prepare(it, run)
        it.do(again.screen_again(it.blueprint))
        it.told = False
        some_busy = work_out(it, first=False, chosen=True)
        foresee(it, some_busy=some_busy)
        touched = it.ask(again.touched_keys(it.blueprint)) if some_busy else None
        if not it.preview:
            write_table(it, some_busy=some_busy)
            if it.keeps_explicit:
                it.do(again.keep_explicit(it.blueprint))
            high_order, high_effective = highest_kept(it)
            ledger.set_state(
                it.blueprint,
                rules,
                high_order=high_order,
                high_effective=high_effective,
                last_key=it.values["last_key"] + it.counts["rows_added"],
                first_run=None,
            )
            ledger.end_run(run, "done", it.counts)
    it.engine.on_discard(it.work)()
    return Outcome(
        table=rules.table,
        feed="",
        run=run.number or None,
        state="preview" if it.preview else "done",
        source=run.source,
        started_at=run.started_at,
        duration_s=(now() - run.started_at).total_seconds(),
        counts=it.counts,
        touched=touched,
    )


def _check_rebuild(rules: TableRules, state: TableState) -> None:
    beyond = [told for what, told in changed_rules(rules, state) if what not in CAN_REBUILD]
    if beyond:
        raise RulesChanged(
            f"Table {rules.table!r} cannot be worked out again under rules that differ so much:\n  "
            + "\n  ".join(beyond)
            + "\nNothing was written. Load into a table of another name."
        )


def _fit_columns(it: UnderWay) -> None:
    """Gives the table the columns that its rules name now, and takes away those that they leave out."""
    before = {column.name for column in it.state.columns if column.role != "when"}
    today = {column.name: column for column in it.blueprint.columns if column.role != "when"}
    missing = [
        name
        for name in it.blueprint.order
        if it.row(f"SELECT count(*) - count({sql.quote(name)}) AS n FROM {sql.relation(str(it.blueprint.kept))}")["n"]
    ]
    if missing:
        raise RulesChanged(
            f"Table {it.rules.table!r} cannot be ordered by {', '.join(missing)}: changes were kept without a value of it."
        )
    if it.preview and (before != set(today)):
        raise DeclarationError(
            "The rules give the table other columns, which a preview cannot show. Rebuild it, or see what changes: brenvik check"
        )
    for name in today.keys() - before:
        it.do(f"ALTER TABLE {sql.relation(it.blueprint.table)} ADD COLUMN {sql.quote(name)} {today[name].type.sql}")
    for name in before - today.keys():
        it.do(f"ALTER TABLE {sql.relation(it.blueprint.table)} DROP COLUMN {sql.quote(name)}")
