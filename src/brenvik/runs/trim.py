"""A change log trimmed: older changes become base states, by request or after a load when it is due."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from brenvik.engines.protocol import Engine
from brenvik.engines.workspace import Workspace
from brenvik.errors import BrenvikError, DeclarationError, InvariantBroken
from brenvik.ledger.entries import now
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.memory import LoadMemory
from brenvik.ledger.records import Preview, Run
from brenvik.ledger.schema import ROW_COUNTS, TRIM, approved_deletes, ever_pending, ever_reverted
from brenvik.merge import trim as trimming
from brenvik.merge import writes
from brenvik.model.rules import TableRules
from brenvik.outcome import Outcome
from brenvik.runs import pipeline
from brenvik.runs.context import RunContext
from brenvik.runs.recompute import begin, check_log, counts_without_changes, outcome_of, recorded

SLACK = 20
"""A change log is trimmed after a load when a twentieth of its period has passed since the last time."""


@dataclass(frozen=True)
class _Found:
    """What of the log is old: so many changes of so many keys, the base states that take their place, and the changes of runs
    that were reverted long ago."""

    old: int
    keys: int
    base_states: int
    reverted: int

    @property
    def dropped(self) -> int:
        return self.old + self.reverted

    @property
    def in_words(self) -> str:
        parts = []
        if self.old:
            changes = "1 change" if self.old == 1 else f"{self.old:,} changes"
            keys = "1 key" if self.keys == 1 else f"{self.keys:,} keys"
            parts.append(
                f"{changes} of {keys} into {self.base_states:,} base {'state' if self.base_states == 1 else 'states'}"
            )
        if self.reverted:
            changes = "1 change" if self.reverted == 1 else f"{self.reverted:,} changes"
            parts.append(f"{changes} of reverted runs")
        return ", ".join(parts) or "nothing is old enough"


def trim(
    ledger: Ledger[Engine],
    rules: TableRules,
    *,
    keep: timedelta | None,
    reason: str | None,
    preview: bool,
    wait_s: float,
) -> Outcome:
    """Trims the change log of a table: changes that are older than ``keep``, by effective time and by run, become base states.

    The table stays as it is. Raises DeclarationError for a table without a change log or without times, and where neither the
    call nor the rules say how long changes are kept; InvariantBroken if the trimmed log would make another table.
    """
    check_log(rules)
    keep = rules.log_period if keep is None else keep
    if keep is None:
        raise DeclarationError(
            f'Table {rules.table!r} keeps all changes. Declare how long, as in change_log = "400 days", or give it to the call '
            "(keep)."
        )
    if preview:
        planned, memory = ledger.preview(rules.table, kind=TRIM, source="change log to trim")
        return _trim(ledger, rules, keep, planned, memory)

    def once(run: Run, memory: LoadMemory) -> Outcome:
        return _trim(ledger, rules, keep, run, memory)

    return recorded(ledger, rules, TRIM, "trimmed the change log", once, reason=reason, wait_s=wait_s)


def trim_if_due(ledger: Ledger[Engine], rules: TableRules, *, wait_s: float) -> str | None:
    """Trims the change log after a load, when it is time; returns what to tell of it, if anything. The load is done, whatever
    happens."""
    keep = rules.log_period
    if keep is None:
        return None
    limit = _ago(_ago(now(), keep), keep / SLACK)
    if ledger.last_run_before(rules.table, limit) is None:
        return None
    if (ledger.last_trim(rules.table) or "") >= str(limit.replace(microsecond=0)):
        return None
    try:
        outcome = trim(ledger, rules, keep=keep, reason=None, preview=False, wait_s=wait_s)
    except BrenvikError as error:
        return f"The change log could not be trimmed: {error}"
    if not outcome.counts["changes_trimmed"]:
        return None
    return f"Run {outcome.run} trimmed the change log: {outcome.notes[0].partition(': ')[2]}"


def _trim(
    ledger: Ledger[Engine], rules: TableRules, keep: timedelta, run: Run | Preview, memory: LoadMemory
) -> Outcome:
    context = begin(ledger, rules, run=run, memory=memory, params={"loaded_at": run.started_at, "feed": ""})
    if context.schema.type_0 and rules.type_0_changes == "first_arrived":
        raise DeclarationError(
            f"The change log of table {rules.table!r} cannot be trimmed: it says which values of type 0 columns arrived first "
            '(type_0_changes = "first_arrived").'
        )
    limit = _ago(run.started_at, keep)
    settled = ledger.last_run_before(rules.table, limit) or 0
    before = _as_effective_time(context, limit)
    context = context.with_params(settled_run=settled, settled_before=before)
    with ledger.engine.transaction(rules if isinstance(run, Run) else None):
        found = _find(context, settled)
        counts = counts_without_changes(context.memory)
        if isinstance(run, Run):
            _apply(context, found)
            reach = {"label": str(settled if found.dropped else 0), "window_high": before}
            ledger.end_run(run, "done", counts, f"Trimmed: {found.in_words}.", **reach)
    context.workspace.discard()
    counts = {name: counts[name] for name in ROW_COUNTS}
    counts |= {"changes_trimmed": found.dropped, "base_states": found.base_states}
    what = "Trimmed" if isinstance(run, Run) else "To trim"
    return outcome_of(run, counts, notes=[f"{what}: {found.in_words}."])


def _ago(moment: datetime, span: timedelta) -> datetime:
    """A moment before another; the earliest there is for longer spans."""
    return moment - min(span, moment - datetime.min)


def _as_effective_time(context: RunContext, moment: datetime) -> str:
    """A moment (UTC) as a value of the effective column, as text."""
    kind = context.schema.effective_type.kind
    if kind == "integer":
        raise DeclarationError(
            f"The effective time of table {context.rules.table!r} is an integer, so that no change of it has an age."
        )
    moment = moment.replace(microsecond=0)
    return str(moment.date() if kind == "date" else moment)


def _find(context: RunContext, settled: int) -> _Found:
    """Makes ``base_states`` and ``dropped_changes``."""
    schema, work, reverted = context.schema, context.workspace, context.memory.reverted
    context.exclude(reverted, approved=approved_deletes())
    work.make(trimming.OLD, trimming.find_old(schema, reverted=ever_reverted(), pending=ever_pending()))
    work.make("replay_keys", trimming.find_keys(schema))
    for relation in (trimming.OLD, "replay_keys"):
        work.index(relation, schema.keys)
    of_old = _replay(context, trimming.OLD, "replay_keys")
    states = work.make(trimming.BASE_STATES, trimming.find_base_states(schema, of_old.name("decided")))
    keys = work.make(trimming.TRIMMED_KEYS, trimming.find_trimmed_keys(schema))
    for relation in (trimming.BASE_STATES, trimming.TRIMMED_KEYS):
        work.index(relation, schema.keys)
    work.make(trimming.TRIMMED_LOG, trimming.trimmed_log(schema), view=True)
    logs = ("active_changes", trimming.TRIMMED_LOG)
    versions = [_replay(context, log, trimming.TRIMMED_KEYS).name("target_versions") for log in logs]
    differences = work.row(trimming.count_differences(schema, *versions))["n"]
    if differences:
        raise InvariantBroken(
            f"The trimmed change log of table {context.rules.table!r} would make other versions ({differences:,} differ). "
            "Nothing was trimmed; please report this."
        )
    forgotten = tuple(sorted(run for run, by in reverted.items() if run <= settled and by <= settled))
    dropped = work.make(trimming.DROPPED, trimming.find_dropped(schema, forgotten))
    old = work.row(trimming.count_old(schema))["n"]
    return _Found(old, keys, states, dropped - old)


def _replay(context: RunContext, log: str, keys: str) -> Workspace:
    """Replays some keys by the changes of a relation, in a workspace beside that of the run."""
    beside = context.workspace.beside()
    beside.call("active_changes", context.workspace.name(log))
    beside.call("replay_keys", context.workspace.name(keys))
    pipeline.replay(replace(context, workspace=beside))
    return beside


def _apply(context: RunContext, found: _Found) -> None:
    schema, work = context.schema, context.workspace
    if found.dropped:
        context.check_count("trimmed from the change log", found.dropped, work.apply(trimming.drop_changes(schema)))
    if found.base_states:
        logged = work.apply(writes.log_explicit(schema, (work.name(trimming.BASE_STATES),)))
        context.check_count("logged", found.base_states, logged)
