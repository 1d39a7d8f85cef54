"""Deletes that wait for a person: set aside by a load, later released or dropped."""

from __future__ import annotations

from brenvik.core import holds
from brenvik.ledger import Ledger
from brenvik.ledger_tables import enter_held, held_deletes
from brenvik.preparing import UnderWay


def find_held(it: UnderWay, *, before_run: bool = False) -> None:
    """Makes ``held_keys`` where the rules hold deletes and some are held (or were, before the run that is told)."""
    if it.blueprint.holds != "hold":
        return
    it.do(holds.find_held(it.blueprint, held_deletes(before_run=before_run)))
    it.some_held = it.sizes("held_keys")["held_keys"] > 0


def set_aside(it: UnderWay) -> None:
    """Takes the deletes out of ``screened`` where they do not count by themselves."""
    if it.blueprint.holds is None:
        return
    for statement in holds.set_aside(it.blueprint):
        it.do(statement)
    it.some_aside = it.sizes("aside")["aside"] > 0


def decide_aside(it: UnderWay, *, some_busy: bool) -> None:
    """Decides what was set aside, now that it is known which keys are alive."""
    if not it.some_aside:
        return
    it.do(holds.decide(it.blueprint, some_busy=some_busy, some_held=it.some_held))
    for row in it.ask(holds.summary()).to_pylist():
        it.counts[row["brenvik_decision"]] = it.counts.get(row["brenvik_decision"], 0) + row["n"]


def keep_aside(it: UnderWay, ledger: Ledger, *, is_extract: bool) -> None:
    """Keeps what was set aside, and enters the deletes that are held from now on."""
    it.do(holds.keep(it.blueprint))
    if it.counts["held"]:
        it.do(enter_held(), last_hold=ledger.last_hold(it.rules.table), from_extract=int(is_extract))
