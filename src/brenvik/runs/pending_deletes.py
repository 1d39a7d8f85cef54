"""Deletes that await approval: set aside by a load, later approved or discarded."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import Run
from brenvik.ledger.schema import approved_deletes, currently_pending, numbered_deletes, record_pending
from brenvik.merge import change_log, pending_deletes
from brenvik.model.rules import TableRules
from brenvik.outcome import Outcome
from brenvik.runs.prepare import UnderWay, exclude
from brenvik.runs.recompute import begin, check_kept, recompute

if TYPE_CHECKING:
    import pyarrow as pa


def find_pending(it: UnderWay) -> None:
    """Makes ``pending_keys`` where deletes await approval and some do."""
    if it.schema.inactive_deletes != "review":
        return
    it.do(pending_deletes.find_pending(it.schema, currently_pending()))
    it.some_pending = it.sizes("pending_keys")["pending_keys"] > 0


def set_deletes_aside(it: UnderWay) -> None:
    """Moves the deletes out of ``changes`` where they have no effect by themselves."""
    if it.schema.inactive_deletes is None:
        return
    for statement in pending_deletes.set_deletes_aside(it.schema):
        it.do(statement)
    it.some_inactive_deletes = it.sizes("inactive_deletes")["inactive_deletes"] > 0
    it.high_values = None  # without those


def decide_inactive_deletes(it: UnderWay, *, some_replayed: bool, all_replayed: bool = False) -> None:
    """Decides the inactive deletes, now that it is known which keys are current."""
    if not it.some_inactive_deletes:
        return
    it.do(
        pending_deletes.decide(
            it.schema, some_replayed=some_replayed, some_pending=it.some_pending, all_replayed=all_replayed
        )
    )
    for row in it.rows(pending_deletes.summary()):
        it.counts[row["brenvik_decision"]] = it.counts.get(row["brenvik_decision"], 0) + row["n"]


def log_inactive_deletes(it: UnderWay, ledger: Ledger[Engine], *, is_extract: bool) -> None:
    """Logs the inactive deletes and records the pending ones."""
    it.do(pending_deletes.log_deletes(it.schema))
    if it.counts["pending"]:
        it.do(record_pending(), last_delete_no=ledger.last_delete_no(it.rules.table), from_extract=int(is_extract))


def list_pending_deletes(ledger: Ledger[Engine], rules: TableRules) -> pa.Table:
    """The pending deletes: ``brenvik_delete_no`` (number), ``brenvik_feed``, ``brenvik_run``,
    ``brenvik_pending_since``, ``brenvik_effective_at``, then key and values of the current row."""
    it = begin(ledger, rules, values={})
    check_kept(rules)
    return it.ask_values(pending_deletes.listed(it.schema, currently_pending()))


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

    def prepare(it: UnderWay, run: Run) -> None:
        counting = approved_deletes(also=() if discard else chosen)
        exclude(it, ledger.reverted(rules.table), approved=counting)
        it.do(
            change_log.select_keys(
                it.schema, where="1 = 0" if discard else pending_deletes.is_one_of(numbered_deletes(chosen))
            )
        )
        if not it.preview:
            ledger.decide_pending_deletes(run, chosen, "discarded" if discard else "approved")

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
