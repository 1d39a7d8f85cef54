"""The middle of every run that works on a table: from changes that were screened to rows that are written.

A load comes here with new changes; a rebuild, a withdrawal or a question about the past with keys (``busy``) that shall be
worked out again from the changes kept before.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from brenvik.engines.protocol import Engine
from brenvik.errors import BrokenLaw, ChangesMissing
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import TableState
from brenvik.ledger.schema import DECISIONS
from brenvik.merge import accounting, change_log, classify, current_path, diff, replay
from brenvik.runs.prepare import UnderWay

SOMEBODY_ELSE = (
    "If something other than Brenvik writes to this table, brenvik check {table} shows what is wrong with its rows and brenvik "
    "rebuild {table} repairs them. If nothing does, please report this."
)


def set_highs(it: UnderWay, state: TableState | None) -> None:
    """The two highest values ever taken, and where surrogate keys go on, as parameters of the statements; and how large the
    table is."""
    it.row_count, it.living = (state.row_count, state.living) if state else (0, 0)
    it.values["open_end"] = str(it.rules.open_end) if it.rules.open_end is not None else None
    it.values["last_key"] = state.last_key if state else 0
    if state is None or state.high_effective is None:
        return
    it.values["high_effective"] = state.high_effective
    for index, value in enumerate(state.high_order or ()):
        it.values[f"high_order_{index}"] = value


def work_out(it: UnderWay, *, first: bool, chosen: bool = False) -> bool:
    """Works out what has to happen to which row; returns whether any key went through the windows.

    ``chosen`` says that ``busy`` is there already.
    """
    blueprint, asked = it.blueprint, it.asked_for
    busy = it.sizes("busy")["busy"] if chosen else it.do(classify.mark_busy(blueprint, some_late=it.late > 0))
    some_busy = busy > 0
    it.index("screened", "busy")
    it.bring_near("busy" if chosen else "screened", all_versions=chosen)
    if it.some_aside:
        it.bring_near("aside", all_versions=True)
    it.do(current_path.decide(blueprint, some_busy=some_busy, told=it.told, met=it.met))
    it.index("plain")
    if not first and blueprint.type_1 and blueprint.keeps_lives:
        it.do(current_path.returning_keys(blueprint))
    it.plain = {row["brenvik_decision"]: row for row in it.rows(current_path.summary())}
    if it.plain.pop(current_path.FULL, None):
        for statement in current_path.send_on(blueprint):
            it.do(statement)
        some_busy = True
    closes, removes = diff.plain_effects(blueprint, some_busy=some_busy)
    it.do(closes)
    ending = ("versioned", "deleted") if blueprint.deletes == "close" else ("versioned",)
    asked |= {"closes": _plain(it, *ending), "removes": it.do(removes) if removes else 0, "sets": 0, "adds": 0}
    it.living_change = _plain(it, "inserted") - _plain(it, "deleted")
    it.lost = _plain(it, "deleted")
    if not some_busy:
        return False
    if not chosen:
        it.bring_near("busy", all_versions=True)
    draw_versions(it, first=first, chosen=chosen)
    it.do(diff.find_stored(blueprint))
    it.index("stored")
    if blueprint.kept and not (first or it.unaccounted):
        check_accounted(it, accounting.count_of_chosen(blueprint) if chosen else accounting.count_in_load(blueprint))
    it.do(diff.pair(blueprint, several=chosen))
    it.index("pairs")
    for relation, statement in diff.busy_effects(blueprint):
        asked[relation] += it.do(statement)
    alive = it.row(diff.count_alive(blueprint))
    it.living_change += alive["after"] - alive["before"]
    it.lost += alive["lost"]
    return True


def rows_without_changes(found: Mapping[str, Any]) -> str:
    """What ``core.accounted`` found, in words."""
    if found["n"] == 1:
        return f"Rows of 1 key ({found['key']}) have no change in the log"
    return f"Rows of {found['n']:,} keys (the first {found['key']}) have no change in the log"


def check_accounted(it: UnderWay, question: str) -> None:
    """Raises ChangesMissing when rows of the table are there, or end, without a kept change that says so."""
    found = it.row(question)
    if not found["n"]:
        return
    name = it.rules.table
    raise ChangesMissing(
        f"{name}: nothing written\n"
        f"{rows_without_changes(found)}: {it.blueprint.kept} has lost entries, or something other than Brenvik wrote to the "
        "table. Recomputing from this log would lose that history.\n"
        "Restore the log from a backup, or decide:\n"
        f"the table is right  brenvik rebuild {name} --unlogged keep\n"
        f"the log is right    brenvik rebuild {name} --unlogged remove\n"
        "in Python           rebuild(…, unlogged='keep') or 'remove'"
    )


def _plain(it: UnderWay, *decisions: str) -> int:
    """How many plain changes have one of these decisions."""
    return sum(it.plain[name]["n"] for name in decisions if name in it.plain)


def draw_versions(it: UnderWay, *, first: bool = False, chosen: bool = False) -> None:
    """Works out which versions the busy keys should have, and what became of each of their new changes.

    Keys that were ``chosen`` are worked out in full anyway."""
    it.do(classify.find_duplicates(it.blueprint, first=first))
    it.index("duplicates")
    if not (first or chosen):
        it.do(classify.widen_busy(it.blueprint))
    it.do(replay.judge(it.blueprint, first=first, all_full=chosen))
    it.index("judged")
    it.do(replay.draw_up(it.blueprint))
    it.index("desired")


def count_decisions(it: UnderWay, *, some_busy: bool) -> dict[str, int]:
    """Counts the decisions; raises BrokenLaw when they do not add up to the rows read and the changes derived."""
    counts = dict.fromkeys(("read", "derived", *DECISIONS), 0) | it.counts
    for decision, row in it.plain.items():
        counts[decision] += row["n"]
    if some_busy:
        judged = it.rows(replay.summary())
        sizes = it.sizes("screened", "plain", "duplicates")
        for each in judged:
            counts[each["brenvik_decision"]] += each["n"]
        counts["duplicate"] += sizes["duplicates"]
        passed = sizes["screened"] - sizes["plain"] - sizes["duplicates"] - sum(each["n"] for each in judged)
        counts["superseded"] += passed
        it.asked_for["kept"] = sizes["screened"] - sizes["duplicates"]
    else:
        it.asked_for["kept"] = sum(row["n"] for row in it.plain.values())
    told = sum(counts[decision] for decision in DECISIONS)
    if told != counts["read"] + counts["derived"] or min(counts.values()) < 0:
        raise BrokenLaw(
            f"{counts['read']} rows were read, {counts['derived']} changes derived, and {told} decided ({counts}). "
            f"Nothing was written. {SOMEBODY_ELSE.format(table=it.rules.table)}"
        )
    it.counts = counts
    return counts


def foresee(it: UnderWay, *, some_busy: bool) -> None:
    """Notes what the diff asks for: how many rows each statement must touch."""
    asked, counts = it.asked_for, it.counts
    asked["plain_adds"] = _plain(it, "inserted", "versioned")
    asked["type_1"] = sum(row["sets"] for row in it.plain.values())
    asked["also_closed"] = also_closed = it.plain["versioned"]["sets"] if "versioned" in it.plain else 0
    asked["spread"] = it.do(current_path.spread(it.blueprint)) if asked["type_1"] and it.blueprint.has_versions else 0
    counts["rows_before"] = it.row_count
    counts["rows_added"] = asked["plain_adds"] + asked["adds"]
    counts["rows_removed"] = asked["removes"]
    counts["rows_updated"] = asked["closes"] + asked["type_1"] - also_closed + asked["spread"] + asked["sets"]
    counts["rows_after"] = it.row_count + counts["rows_added"] - counts["rows_removed"]


def write_table(it: UnderWay, *, some_busy: bool) -> None:
    """Writes the diff to the table; closes before it opens. Raises BrokenLaw when the store touched other rows than asked."""
    blueprint, asked = it.blueprint, it.asked_for
    if asked["closes"]:
        deletes = some_busy or "deleted" in it.plain
        exactly(it, "ended", asked["closes"], it.do(diff.write_closes(blueprint, deletes=deletes)))
    if asked["also_closed"] and blueprint.store.moves:
        it.do(current_path.find_again(blueprint))
    if asked["type_1"]:
        names = blueprint.type_1
        if not blueprint.store.whole_rows:
            names = tuple(name for name, any_ in it.row(current_path.touched_type_1(blueprint)).items() if any_)
        wrote = it.do(diff.write_type_1(blueprint, names, spreads=asked["spread"] > 0))
        exactly(it, "overwritten", asked["type_1"] + asked["spread"], wrote)
    if asked["sets"]:
        names = tuple(name for name, any_ in it.row(diff.touched(blueprint)).items() if any_)
        exactly(it, "given new content", asked["sets"], it.do(diff.write_sets(blueprint, names)))
    if asked["removes"]:
        exactly(it, "removed", asked["removes"], it.do(diff.write_removes(blueprint)))
    if added := it.counts["rows_added"]:
        text = diff.write_adds(blueprint, plain=asked["plain_adds"] > 0, busy=asked["adds"] > 0)
        exactly(it, "added", added, it.do(text))


def exactly(it: UnderWay, what: str, asked: int, did: int) -> None:
    if asked != did:
        raise BrokenLaw(
            f"The load of {it.rules.table!r} asked for {asked} rows to be {what}, the store says {did}. "
            f"It was undone. {SOMEBODY_ELSE.format(table=it.rules.table)}"
        )


Highs = tuple[tuple[str, ...] | None, str | None]
"""The highest order, column by column, and the highest effective time, as text."""


def enter_state(ledger: Ledger[Engine], it: UnderWay, highs: Highs, *, first_run: int | None = None) -> None:
    """Enters what is known of the table after the run."""
    high_order, high_effective = highs
    ledger.set_state(
        it.blueprint,
        it.rules,
        high_order=high_order,
        high_effective=high_effective,
        last_key=it.values["last_key"] + it.counts["rows_added"],
        row_count=it.counts["rows_after"],
        living=it.living + it.living_change,
        first_run=first_run,
    )


def new_highs(it: UnderWay, state: TableState | None, *, first: bool) -> Highs:
    order, effective = _highs(it, it.highs or it.row(classify.highest(it.blueprint, first=first)))
    if state is None:
        return order, effective
    return order or state.high_order, effective or state.high_effective


def highest_kept(it: UnderWay) -> Highs:
    """The highest order and effective time of all kept changes that count."""
    return _highs(it, it.row(change_log.highest(it.blueprint)))


def _highs(it: UnderWay, found: Mapping[str, Any]) -> Highs:
    order = tuple(found[name] for name in it.blueprint.order)
    return order if order and order[0] is not None else None, found[classify.HIGH]
