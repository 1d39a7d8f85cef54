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
from brenvik.runs.pending_deletes import decide_inactive_deletes, set_deletes_aside
from brenvik.runs.pipeline import replay_keys
from brenvik.runs.prepare import UnderWay, exclude
from brenvik.runs.recompute import begin, check_kept

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
    it = begin(ledger, rules, values={**(key or {}), "known_at": known_at})
    _check_runs(ledger, rules, known_at, without)
    tests = [change_log.of_key(it.schema, "d")] if key else []
    tests += [change_log.at_moment(it.schema.effective_type)] if moment is not None else []
    was = _as_it_was(ledger, it.schema, rules, known_at) if known_at is not None and not without else None
    if not was:
        check_kept(rules)
    with it.engine.transaction():
        if was:
            it.do(diff.as_it_was(it.schema, was))
        else:
            out = {*ledger.reverted(rules.table, known_at=known_at), *without}
            if known_at is not None:
                out |= {run for run in ledger.runs_of(rules.table) if run > known_at}
            exclude(it, out, approved=approved_deletes(known=known_at is not None))
            it.do(change_log.no_changes(it.schema))
            it.do(change_log.select_keys(it.schema, where=change_log.of_key(it.schema) if key else ""))
            replay_keys(it, chosen=True)
        found = it.ask_values(change_log.as_rows(it.schema, *tests), moment=moment)
    it.engine.on_discard(it.work)()
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


def _as_it_was(ledger: Ledger[Engine], schema: TableSchema, rules: TableRules, known_at: int) -> str | None:
    """A relation with the rows of the table after a run, where the store still has them, with the present columns."""
    done = [row["run"] for row in ledger.runs(rules.table).to_pylist() if row["state"] == "done"]
    last = max((run for run in done if run <= known_at), default=None)
    needed = (name for name, _, _ in schema.table_columns())
    return ledger.engine.at_run(rules.stored_as, last, needed) if last is not None else None


def decided_by(ledger: Ledger[Engine], rules: TableRules, run: int) -> pa.Table:
    """What a past run decided on the changes it logged, recomputed; see ``Outcome.decisions`` for the columns."""
    it = begin(ledger, rules, values={})
    check_kept(rules)
    return _replay(ledger, it, {run: 0}).drop_columns("run")


def changes_of_key(ledger: Ledger[Engine], rules: TableRules, key: Mapping[str, Any]) -> list[dict[str, Any]]:
    """All changes ever logged of a key in the order of arrival, each with its run, the decision and its effect.

    The entries are those of ``decided_by`` with ``run``, ``arrived_at`` (the start of the run, UTC; None where the ledger has
    lost the run) and ``reverted_by`` (None while it is active).
    """
    it = begin(ledger, rules, values=key)
    check_kept(rules)
    reverted = ledger.reverted(rules.table)
    found = []
    for runs in _passes(it.rows(past_runs.runs_of_key(it.schema))):
        arrived = ledger.starts_of(rules.table, runs)
        for row in _replay(ledger, begin(ledger, rules, values=key), runs, of_key=True).to_pylist():
            run = row.pop("run")
            about = {"run": run, "arrived_at": arrived.get(run), "reverted_by": reverted.get(run)}
            found.append(about | row)
    return found


AT_ONCE = 200_000
"""How many changes are replayed at once."""


def _passes(runs: Iterable[Mapping[str, Any]]) -> Iterator[dict[int, int]]:
    """The runs of a key, in groups of limited size; each run with the number of its first file."""
    some: dict[int, int] = {}
    before = held = files = 0
    for row in runs:
        before += row["n"]
        if some and held + before > AT_ONCE:
            yield some
            some, held, files = {}, 0, 0
        some[row["run"]] = files
        held += before
        files += row["file"] + 1
    if some:
        yield some


def _replay(ledger: Ledger[Engine], it: UnderWay, runs: Mapping[int, int], *, of_key: bool = False) -> pa.Table:
    """What runs decided (for a key, see ``change_log.of_key``), in one pass; each run with the number of its first file."""
    plain = it.schema
    with it.engine.transaction():
        it.do(past_runs.RUNS)
        given = list(runs.items())
        for start in range(0, len(given), change_log.AT_ONCE):
            part = given[start : start + change_log.AT_ONCE]
            values = {f"run_{n}": run for n, (run, _) in enumerate(part)}
            it.do(
                past_runs.enter_runs(len(part)),
                **values,
                **{f"first_file_{n}": file for n, (_, file) in enumerate(part)},
            )
        it.do(past_runs.changes_of_runs(plain, where=change_log.of_key(plain) if of_key else ""))
        it.do(past_runs.select_keys(plain))
        it.do(past_runs.find_log_by_run(plain, reverted=ever_reverted(), pending=ever_pending()))
        it.schema = past_runs.by_run(plain)
        it.index("changes", "replay_keys", "log_by_run")
        if it.schema.inactive_deletes:
            it.do(past_runs.active_changes(it.schema))
            it.do(past_runs.find_pending(it.schema))
            it.some_pending = it.schema.inactive_deletes == "review"
        set_deletes_aside(it)
        replay_keys(it, chosen=True)
        decide_inactive_deletes(it, some_replayed=True, all_replayed=True)
    files = tuple((runs[run] + number, file) for run, number, file in ledger.files_of(it.rules.table, runs))
    return DecisionLog(
        it.engine,
        it.work,
        it.schema,
        some_current=False,
        some_replayed=True,
        some_rejected=False,
        some_inactive_deletes=it.some_inactive_deletes,
        files=files,
    ).decisions()
