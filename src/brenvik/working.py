"""The middle of every run that works on a table: from changes that were screened to rows that are written.

A load comes here with new changes; a rebuild, a withdrawal or a question about the past with keys (``busy``) that shall be
worked out again from the changes kept before.
"""

from __future__ import annotations

from brenvik.core import again, diff, plain, sort, sql, versions
from brenvik.errors import BrokenLaw
from brenvik.ledger import TableState
from brenvik.ledger_tables import DECISIONS
from brenvik.preparing import UnderWay


def set_highs(it: UnderWay, state: TableState | None) -> None:
    """The two highest values ever taken, and where surrogate keys go on, as parameters of the statements."""
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
    blueprint = it.blueprint
    if not chosen:
        it.do(sort.mark_busy(blueprint, some_late=it.late > 0))
    some_busy = it.sizes("busy")["busy"] > 0
    it.do(plain.decide(blueprint, some_busy=some_busy, told=it.told))
    if not first and blueprint.type_1 and blueprint.keeps_lives:
        it.do(plain.returning_keys(blueprint))
    it.plain = {row["brenvik_decision"]: row for row in it.ask(plain.summary()).to_pylist()}
    if it.plain.pop(plain.FULL, None):
        for statement in plain.send_on(blueprint):
            it.do(statement)
        some_busy = True
    for statement in diff.plain_effects(blueprint, some_busy=some_busy):
        it.do(statement)
    if not some_busy:
        return False
    draw_versions(it, first=first)
    it.do(diff.find_stored(blueprint))
    it.do(diff.pair(blueprint))
    for statement in diff.busy_effects(blueprint):
        it.do(statement)
    return True


def draw_versions(it: UnderWay, *, first: bool) -> None:
    """Works out which versions the busy keys should have, and what became of each of their new changes."""
    it.do(sort.find_duplicates(it.blueprint, first=first))
    if not first:
        it.do(sort.widen_busy(it.blueprint))
    it.do(versions.judge(it.blueprint, first=first))
    it.do(versions.draw_up(it.blueprint))


def count_decisions(it: UnderWay, *, some_busy: bool) -> dict[str, int]:
    """Counts the decisions; raises BrokenLaw when they do not add up to the rows read and the changes derived."""
    counts = dict.fromkeys(("read", "derived", *DECISIONS), 0) | it.counts
    for decision, row in it.plain.items():
        counts[decision] += row["n"]
    if some_busy:
        judged = it.ask(versions.summary()).to_pylist()
        sizes = it.sizes("screened", "plain", "duplicates")
        for row in judged:
            counts[row["brenvik_decision"]] += row["n"]
        counts["duplicate"] += sizes["duplicates"]
        passed = sizes["screened"] - sizes["plain"] - sizes["duplicates"] - sum(row["n"] for row in judged)
        counts["superseded"] += passed
        it.asked_for["kept"] = sizes["screened"] - sizes["duplicates"]
    else:
        it.asked_for["kept"] = sum(row["n"] for row in it.plain.values())
    told = sum(counts[decision] for decision in DECISIONS)
    if told != counts["read"] + counts["derived"] or min(counts.values()) < 0:
        raise BrokenLaw(
            f"{counts['read']} rows were read, {counts['derived']} changes derived, and {told} decided ({counts}). "
            "Nothing was written; please report this."
        )
    it.counts = counts
    return counts


def foresee(it: UnderWay, *, some_busy: bool) -> None:
    """Notes what the diff asks for: how many rows each statement must touch."""
    asked = it.asked_for
    asked["plain_adds"] = sum(it.plain[name]["n"] for name in ("inserted", "versioned") if name in it.plain)
    asked["type_1"] = sum(row["sets"] for row in it.plain.values())
    also_closed = it.plain["versioned"]["sets"] if "versioned" in it.plain else 0
    asked |= {"spread": 0, "sets": 0, "adds": 0}
    if asked["type_1"] and it.blueprint.has_versions:
        it.do(plain.spread(it.blueprint))
        asked |= it.sizes("spread")
    asked |= it.sizes("closes", "removes", *(("sets", "adds") if some_busy else ()))
    before = it.row(f"SELECT count(*) AS n FROM {sql.relation(it.blueprint.table)}")["n"]
    it.counts["rows_before"] = before
    it.counts["rows_added"] = asked["plain_adds"] + asked["adds"]
    it.counts["rows_removed"] = asked["removes"]
    it.counts["rows_updated"] = asked["closes"] + asked["type_1"] - also_closed + asked["spread"] + asked["sets"]
    it.counts["rows_after"] = before + it.counts["rows_added"] - it.counts["rows_removed"]


def write_table(it: UnderWay, *, some_busy: bool) -> None:
    """Writes the diff to the table; closes before it opens. Raises BrokenLaw when the store touched other rows than asked."""
    blueprint, asked = it.blueprint, it.asked_for
    if asked["closes"]:
        deletes = some_busy or "deleted" in it.plain
        exactly(it, "ended", asked["closes"], it.do(diff.write_closes(blueprint, deletes=deletes)))
    if asked["type_1"]:
        names = tuple(name for name, any_ in it.ask(plain.touched_type_1(blueprint)).to_pylist()[0].items() if any_)
        wrote = it.do(diff.write_type_1(blueprint, names, spreads=asked["spread"] > 0))
        exactly(it, "overwritten", asked["type_1"] + asked["spread"], wrote)
    if asked["sets"]:
        names = tuple(name for name, any_ in it.ask(diff.touched(blueprint)).to_pylist()[0].items() if any_)
        exactly(it, "given new content", asked["sets"], it.do(diff.write_sets(blueprint, names)))
    if asked["removes"]:
        exactly(it, "removed", asked["removes"], it.do(diff.write_removes(blueprint)))
    if added := it.counts["rows_added"]:
        text = diff.write_adds(blueprint, plain=asked["plain_adds"] > 0, busy=asked["adds"] > 0)
        exactly(it, "added", added, it.do(text))
    after = it.row(f"SELECT count(*) AS n FROM {sql.relation(blueprint.table)}")["n"]
    exactly(it, "in the table afterwards", it.counts["rows_after"], after)


def exactly(it: UnderWay, what: str, asked: int, did: int) -> None:
    if asked != did:
        raise BrokenLaw(
            f"The load of {it.rules.table!r} asked for {asked} rows to be {what}, the store says {did}. "
            "It was undone; if nobody else writes to this table, please report this."
        )


def new_highs(it: UnderWay, state: TableState | None, *, first: bool) -> tuple[tuple[str, ...] | None, str | None]:
    order, effective = sort.highest(it.blueprint, first=first)
    high_order = state.high_order if state else None
    if order and (rows := it.ask(order).to_pylist()):
        high_order = tuple(rows[0][name] for name in it.blueprint.order)
    high_effective = it.ask(effective).column(0)[0].as_py()
    return high_order, high_effective or (state.high_effective if state else None)


def highest_kept(it: UnderWay) -> tuple[tuple[str, ...] | None, str | None]:
    """The highest order and effective time of all kept changes that count."""
    order, effective = again.highest(it.blueprint)
    rows = it.ask(order).to_pylist() if order else []
    high_order = tuple(rows[0][name] for name in it.blueprint.order) if rows else None
    return high_order, it.ask(effective).column(0)[0].as_py()
