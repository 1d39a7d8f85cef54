"""Deletes that await approval: set aside by a load, later approved or discarded."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import Run
from brenvik.ledger.schema import approved_deletes, currently_pending, numbered_deletes
from brenvik.merge import change_log, pending_deletes
from brenvik.model.rules import TableRules
from brenvik.outcome import Outcome
from brenvik.runs.context import RunContext
from brenvik.runs.recompute import Prepared, begin, check_log, recompute

if TYPE_CHECKING:
    import pyarrow as pa


def list_pending_deletes(ledger: Ledger[Engine], rules: TableRules) -> pa.Table:
    """The pending deletes: ``brenvik_delete_no`` (number), ``brenvik_feed``, ``brenvik_run``,
    ``brenvik_pending_since``, ``brenvik_effective_at``, then key and values of the current row."""
    context = begin(ledger, rules)
    check_log(rules)
    return context.workspace.ask(pending_deletes.listed(context.schema, currently_pending()), context.schema)


def decide_deletes(
    ledger: Ledger[Engine],
    rules: TableRules,
    numbers: Iterable[int] | None = None,
    *,
    discard: bool = False,
    reason: str | None = None,
    preview: bool = False,
    wait_s: float = 30.0,
) -> Outcome:
    """Approves pending deletes (all, or by number), each at the effective time that the source gave; or discards them.

    Raises DeclarationError for numbers that are not pending.
    """
    chosen = sorted(
        list_pending_deletes(ledger, rules)["brenvik_delete_no"].to_pylist() if numbers is None else set(numbers)
    )

    def check() -> None:
        there = list_pending_deletes(ledger, rules)["brenvik_delete_no"].to_pylist()
        if unknown := [str(number) for number in chosen if number not in there] or ([] if chosen else ["any"]):
            raise DeclarationError(f"Table {rules.table!r} has no pending delete {', '.join(unknown)}: brenvik deletes")

    def prepare(context: RunContext) -> Prepared:
        approved = approved_deletes(also=() if discard else chosen)
        context.exclude(context.memory.reverted, approved=approved)
        keys = 0
        if not discard:
            which = pending_deletes.is_one_of(numbered_deletes(chosen))
            keys = context.workspace.make("replay_keys", change_log.select_keys(context.schema, where=which))
        if isinstance(context.run, Run):
            ledger.decide_pending_deletes(context.run, chosen, "discarded" if discard else "approved")
        return Prepared(context, keys)

    what = "1 pending delete" if len(chosen) == 1 else f"{len(chosen):,} pending deletes"
    return recompute(
        ledger,
        rules,
        "discard" if discard else "approve",
        f"{what} {'discarded' if discard else 'approved'}",
        prepare,
        check=check,
        reason=reason,
        preview=preview,
        wait_s=wait_s,
    )
