"""Questions about the past, answered from the change log without writing anything: the table as known after a run, what a run
decided, all changes of a key."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, Any

from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.schema import approved_deletes, ever_pending, ever_reverted
from brenvik.merge import change_log, diff, past_runs
from brenvik.merge.schema import TableSchema
from brenvik.model.rules import TableRules
from brenvik.outcome import DecisionLog
from brenvik.runs import pipeline
from brenvik.runs.context import RunContext
from brenvik.runs.recompute import begin, check_log

if TYPE_CHECKING:
    import pyarrow as pa


def known(
    ledger: Ledger[Engine],
    rules: TableRules,
    *,
    known_at: int | None = None,
    without: Iterable[int] = (),
    key: Mapping[str, Any] | None = None,
    moment: str | None = None,
) -> pa.Table:
    """The table as known after the run ``known_at``, or as it would be without some runs: as the store still has it, or
    recomputed from the change log. Raises DeclarationError when neither is possible, for unknown runs, and for runs of other
    tables in ``without``; 0 is the time before the first run.

    ``key`` (values of the parameters ``key_0``, …) restricts it to one key, ``moment`` to rows valid then. The rows have neither
    surrogate keys nor stamps, which belong to the table as it is.
    """
    without = tuple(without)
    context = begin(ledger, rules, params={**(key or {}), "known_at": known_at})
    _check_runs(ledger, rules, known_at, without)
    schema, work = context.schema, context.workspace
    tests = [change_log.of_key(schema, "d")] if key else []
    tests += [change_log.at_moment(schema.effective_type)] if moment is not None else []
    was = _as_it_was(ledger, schema, rules, known_at) if known_at is not None and not without else None
    if not was:
        check_log(rules)
        _check_reach(ledger, rules, known_at, without)
    with ledger.engine.transaction():
        if was:
            work.make("target_versions", diff.as_it_was(schema, was))
        else:
            excluded = {*ledger.reverted(rules.table, known_at=known_at), *without}
            if known_at is not None:
                excluded |= {run for run in ledger.runs_of(rules.table) if run > known_at}
            context.exclude(excluded, approved=approved_deletes(known=known_at is not None))
            work.make("replay_keys", change_log.select_keys(schema, where=change_log.of_key(schema) if key else ""))
            pipeline.replay(context)
        found = work.ask(change_log.as_rows(schema, *tests), schema, moment=moment)
    work.discard()
    return found


def _check_runs(ledger: Ledger[Engine], rules: TableRules, known_at: int | None, without: Iterable[int]) -> None:
    of_table = {run: (ledger.run(run) or {}).get("table_name") for run in without}
    unknown = [run for run, table in of_table.items() if table is None]
    unknown += [known_at] if known_at and ledger.run(known_at) is None else []
    faults = [f"there is no run {run}: brenvik runs" for run in unknown]
    faults += [
        f"run {run} belongs to table {table}" for run, table in of_table.items() if table not in (None, rules.table)
    ]
    if faults:
        raise DeclarationError(f"The history of table {rules.table!r} cannot be shown:", faults)


def _check_reach(ledger: Ledger[Engine], rules: TableRules, known_at: int | None, without: Iterable[int]) -> None:
    """Raises DeclarationError for questions about times before the last settled run of a trimmed log."""
    trimmed = ledger.trimmed(rules.table)
    if trimmed is None:
        return
    beyond = [f"as known after run {known_at}"] if known_at is not None and known_at < trimmed.run else []
    beyond += [f"without run {run}" for run in without if run <= trimmed.run]
    if beyond:
        raise DeclarationError(
            f"The history of table {rules.table!r} cannot be shown {', '.join(beyond)}: its change log is trimmed up to "
            f"run {trimmed.run}."
        )


def _as_it_was(ledger: Ledger[Engine], schema: TableSchema, rules: TableRules, known_at: int) -> str | None:
    """A relation with the rows of the table after a run, where the store still has them, with the present columns."""
    done = [row["run"] for row in ledger.runs(rules.table).to_pylist() if row["state"] == "done"]
    last = max((run for run in done if run <= known_at), default=None)
    needed = (name for name, _, _ in schema.table_columns())
    return ledger.engine.at_run(rules.stored_as, last, needed) if last is not None else None


def decided_by(ledger: Ledger[Engine], rules: TableRules, run: int) -> pa.Table:
    """What a past run decided on the changes it logged, recomputed; see ``Outcome.decisions`` for the columns."""
    context = begin(ledger, rules)
    check_log(rules)
    if (trimmed := ledger.trimmed(rules.table)) and run <= trimmed.run:
        raise DeclarationError(
            f"What run {run} decided is not known any more: the change log of table {rules.table!r} is trimmed up to run "
            f"{trimmed.run}."
        )
    return _replay(ledger, context, {run: 0}).drop_columns("run")


def changes_of_key(ledger: Ledger[Engine], rules: TableRules, key: Mapping[str, Any]) -> list[dict[str, Any]]:
    """All changes logged of a key in the order of arrival, each with its run, the decision and its effect; of a trimmed log only
    those of runs that are not settled.

    The entries are those of ``decided_by`` with ``run``, ``arrived_at`` (the start of the run, UTC; None where the ledger has
    lost the run) and ``reverted_by`` (None while it is active).
    """
    context = begin(ledger, rules, params=key)
    check_log(rules)
    reverted = context.memory.reverted
    found = []
    trimmed = ledger.trimmed(rules.table) if context.memory.trims else None
    after = trimmed.run if trimmed else 0
    for runs in _passes(context.workspace.rows(past_runs.runs_of_key(context.schema), {"after": after})):
        arrived = ledger.starts_of(rules.table, runs)
        for row in _replay(ledger, begin(ledger, rules, params=key), runs, of_key=True).to_pylist():
            run = row.pop("run")
            about = {"run": run, "arrived_at": arrived.get(run), "reverted_by": reverted.get(run)}
            found.append(about | row)
    return found


AT_ONCE = 200_000
"""How many changes are replayed at once."""


def _passes(runs: Iterable[Mapping[str, Any]]) -> Iterator[dict[int, int]]:
    """The runs of a key, in groups of limited size; each run with the number of its first file."""
    some: dict[int, int] = {}
    before = total = files = 0
    for row in runs:
        before += row["n"]
        if some and total + before > AT_ONCE:
            yield some
            some, total, files = {}, 0, 0
        some[row["run"]] = files
        total += before
        files += row["file"] + 1
    if some:
        yield some


def _replay(ledger: Ledger[Engine], context: RunContext, runs: Mapping[int, int], *, of_key: bool = False) -> pa.Table:
    """What runs decided (for a key, see ``change_log.of_key``), in one pass; each run with the number of its first file."""
    plain, work = context.schema, context.workspace
    with ledger.engine.transaction():
        work.make("replayed_runs", past_runs.replayed_runs(tuple(runs.items())))
        work.make("accepted", past_runs.changes_of_runs(plain, where=change_log.of_key(plain) if of_key else ""))
        work.make("replay_keys", past_runs.select_keys(plain))
        work.make("log_by_run", past_runs.find_log_by_run(plain, reverted=ever_reverted(), pending=ever_pending()))
        for relation in ("accepted", "replay_keys", "log_by_run"):
            work.index(relation, past_runs.by_run(plain).keys)
        context = context.with_schema(past_runs.by_run(plain))
        changes = pipeline.decide_again(context)
    in_order = tuple((runs[run] + number, file) for run, number, file in ledger.files_of(context.rules.table, runs))
    return DecisionLog(
        work,
        context.schema,
        some_current=False,
        some_replayed=True,
        some_rejected=False,
        some_decided_deletes=changes.inactive > 0,
        files=in_order,
    ).decisions()
