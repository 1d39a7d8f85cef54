"""The middle of every run that changes a table: from validated changes to rows that are written.

A load comes here with new changes; a rebuild or revert, or a question about the past, with keys (``replay_keys``) to be
recomputed from the change log.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from brenvik.engines.protocol import Engine
from brenvik.errors import ChangesMissing, InvariantBroken
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import TableState
from brenvik.ledger.schema import DECISIONS
from brenvik.merge import accounting, change_log, classify, current_path, diff, replay
from brenvik.runs.prepare import UnderWay

OTHER_WRITERS = (
    "If something other than Brenvik writes to this table, brenvik check {table} shows what is wrong with its rows and brenvik "
    "rebuild {table} repairs them. If nothing does, please report this."
)


def set_high_values(it: UnderWay, state: TableState | None) -> None:
    """Sets the parameters for the two highest values ever loaded and the last surrogate key, and the size of the table."""
    it.row_count, it.current_keys = (state.row_count, state.current_keys) if state else (0, 0)
    it.values["open_end"] = str(it.rules.open_end) if it.rules.open_end is not None else None
    it.values["last_key"] = state.last_key if state else 0
    if state is None or state.high_effective is None:
        return
    it.values["high_effective"] = state.high_effective
    for index, value in enumerate(state.high_order or ()):
        it.values[f"high_order_{index}"] = value


def decide_changes(it: UnderWay, *, first: bool, chosen: bool = False) -> bool:
    """Decides all changes and finds the row changes; returns whether any key was replayed.

    ``chosen`` means that ``replay_keys`` exists already.
    """
    schema, expected = it.schema, it.expected_counts
    busy = (
        it.sizes("replay_keys")["replay_keys"]
        if chosen
        else it.do(classify.find_replay_keys(schema, some_late=it.late > 0))
    )
    some_replayed = busy > 0
    it.index("changes", "replay_keys")
    it.current_rows("replay_keys" if chosen else "changes", all_versions=chosen)
    if it.some_inactive_deletes:
        it.current_rows("inactive_deletes", all_versions=True)
    it.do(current_path.decide(schema, some_replayed=some_replayed, told=it.told, met=it.met))
    it.index("current_path")
    if not first and schema.type_1 and schema.keeps_lifetimes:
        it.do(current_path.find_returning_keys(schema))
    it.plain = {row["brenvik_decision"]: row for row in it.rows(current_path.summary())}
    if it.plain.pop(current_path.FULL, None):
        for statement in current_path.send_to_replay(schema):
            it.do(statement)
        some_replayed = True
    closes, removes = diff.current_path_actions(schema, some_replayed=some_replayed)
    it.do(closes)
    ending = ("versioned", "deleted") if schema.deletes == "close" else ("versioned",)
    expected |= {
        "to_close": _plain(it, *ending),
        "to_delete": it.do(removes) if removes else 0,
        "to_update": 0,
        "to_insert": 0,
    }
    it.current_change = _plain(it, "inserted") - _plain(it, "deleted")
    it.ended_keys = _plain(it, "deleted")
    if not some_replayed:
        return False
    if not chosen:
        it.current_rows("replay_keys", all_versions=True)
    replay_keys(it, first=first, chosen=chosen)
    it.do(diff.find_stored_versions(schema))
    it.index("stored_versions")
    if schema.change_log and not (first or it.unaccounted):
        check_accounted(it, accounting.count_in_replay(schema) if chosen else accounting.count_in_load(schema))
    it.do(diff.match_versions(schema, several=chosen))
    it.index("matches")
    for relation, statement in diff.replay_actions(schema):
        expected[relation] += it.do(statement)
    alive = it.row(diff.count_current(schema))
    it.current_change += alive["after"] - alive["before"]
    it.ended_keys += alive["ends"]
    return True


def rows_without_changes(found: Mapping[str, Any]) -> str:
    """What ``merge.accounting`` found, in words."""
    if found["n"] == 1:
        return f"Rows of 1 key ({found['key']}) have no change in the log"
    return f"Rows of {found['n']:,} keys (the first {found['key']}) have no change in the log"


def check_accounted(it: UnderWay, question: str) -> None:
    """Raises ChangesMissing when the change log does not account for rows of the table."""
    found = it.row(question)
    if not found["n"]:
        return
    name = it.rules.table
    raise ChangesMissing(
        f"{name}: nothing written\n"
        f"{rows_without_changes(found)}: {it.schema.change_log} is missing entries, or something other than Brenvik wrote to the "
        "table. Recomputing from this log would lose that history.\n"
        "Restore the log from a backup, or decide:\n"
        f"the table is right  brenvik rebuild {name} --unlogged keep\n"
        f"the log is right    brenvik rebuild {name} --unlogged remove\n"
        "in Python           rebuild(…, unlogged='keep') or 'remove'"
    )


def _plain(it: UnderWay, *decisions: str) -> int:
    """How many changes on the current path have one of these decisions."""
    return sum(it.plain[name]["n"] for name in decisions if name in it.plain)


def replay_keys(it: UnderWay, *, first: bool = False, chosen: bool = False) -> None:
    """Finds the target versions of the replayed keys and decides their new changes.

    Keys that were ``chosen`` have a full replay anyway.
    """
    it.do(classify.find_duplicates(it.schema, first=first))
    it.index("duplicates")
    if not (first or chosen):
        it.do(classify.widen_to_full_replay(it.schema))
    it.do(replay.decide(it.schema, first=first, all_full=chosen))
    it.index("decided")
    it.do(replay.find_target_versions(it.schema))
    it.index("target_versions")


def count_decisions(it: UnderWay, *, some_replayed: bool) -> dict[str, int]:
    """Counts the decisions; raises InvariantBroken when they do not add up to the rows read and the changes derived."""
    counts = dict.fromkeys(("read", "derived", *DECISIONS), 0) | it.counts
    for decision, row in it.plain.items():
        counts[decision] += row["n"]
    if some_replayed:
        judged = it.rows(replay.summary())
        sizes = it.sizes("changes", "current_path", "duplicates")
        for each in judged:
            counts[each["brenvik_decision"]] += each["n"]
        counts["duplicate"] += sizes["duplicates"]
        passed = sizes["changes"] - sizes["current_path"] - sizes["duplicates"] - sum(each["n"] for each in judged)
        counts["superseded"] += passed
        it.expected_counts["logged"] = sizes["changes"] - sizes["duplicates"]
    else:
        it.expected_counts["logged"] = sum(row["n"] for row in it.plain.values())
    told = sum(counts[decision] for decision in DECISIONS)
    if told != counts["read"] + counts["derived"] or min(counts.values()) < 0:
        raise InvariantBroken(
            f"{counts['read']} rows were read and {counts['derived']} changes derived, but {told} were decided ({counts}). "
            f"Nothing was written. {OTHER_WRITERS.format(table=it.rules.table)}"
        )
    it.counts = counts
    return counts


def expect_row_counts(it: UnderWay, *, some_replayed: bool) -> None:
    """Notes how many rows each statement must change."""
    expected, counts = it.expected_counts, it.counts
    expected["plain_adds"] = _plain(it, "inserted", "versioned")
    expected["type_1"] = sum(row["sets"] for row in it.plain.values())
    expected["also_closed"] = also_closed = it.plain["versioned"]["sets"] if "versioned" in it.plain else 0
    expected["spread"] = (
        it.do(current_path.find_closed_versions(it.schema)) if expected["type_1"] and it.schema.has_versions else 0
    )
    counts["rows_before"] = it.row_count
    counts["rows_added"] = expected["plain_adds"] + expected["to_insert"]
    counts["rows_removed"] = expected["to_delete"]
    counts["rows_updated"] = (
        expected["to_close"] + expected["type_1"] - also_closed + expected["spread"] + expected["to_update"]
    )
    counts["rows_after"] = it.row_count + counts["rows_added"] - counts["rows_removed"]


def write_table(it: UnderWay, *, some_replayed: bool) -> None:
    """Applies the row changes to the table; closes versions before it inserts new ones. Raises InvariantBroken when the store
    changed another number of rows than expected."""
    schema, expected = it.schema, it.expected_counts
    if expected["to_close"]:
        deletes = some_replayed or "deleted" in it.plain
        check_count(it, "closed", expected["to_close"], it.do(diff.close_rows(schema, deletes=deletes)))
    if expected["also_closed"] and schema.store.moves:
        it.do(current_path.refresh_row_ids(schema))
    if expected["type_1"]:
        names = schema.type_1
        if not schema.store.whole_rows:
            names = tuple(name for name, any_ in it.row(current_path.touched_type_1(schema)).items() if any_)
        wrote = it.do(diff.overwrite_type_1(schema, names, spreads=expected["spread"] > 0))
        check_count(it, "overwritten", expected["type_1"] + expected["spread"], wrote)
    if expected["to_update"]:
        names = tuple(name for name, any_ in it.row(diff.changed_columns(schema)).items() if any_)
        check_count(it, "updated", expected["to_update"], it.do(diff.update_rows(schema, names)))
    if expected["to_delete"]:
        check_count(it, "removed", expected["to_delete"], it.do(diff.delete_rows(schema)))
    if added := it.counts["rows_added"]:
        text = diff.insert_rows(schema, current=expected["plain_adds"] > 0, replayed=expected["to_insert"] > 0)
        check_count(it, "added", added, it.do(text))


def check_count(it: UnderWay, what: str, asked: int, did: int) -> None:
    if asked != did:
        raise InvariantBroken(
            f"The load of {it.rules.table!r} expected {asked} rows to be {what}, but the store reports {did}. "
            f"Everything was rolled back. {OTHER_WRITERS.format(table=it.rules.table)}"
        )


HighValues = tuple[tuple[str, ...] | None, str | None]
"""The highest order, column by column, and the highest effective time, as text."""


def enter_state(ledger: Ledger[Engine], it: UnderWay, high_values: HighValues, *, first_run: int | None = None) -> None:
    """Records the state of the table after the run."""
    high_order, high_effective = high_values
    ledger.set_state(
        it.schema,
        it.rules,
        high_order=high_order,
        high_effective=high_effective,
        last_key=it.values["last_key"] + it.counts["rows_added"],
        row_count=it.counts["rows_after"],
        current_keys=it.current_keys + it.current_change,
        first_run=first_run,
    )


def new_high_values(it: UnderWay, state: TableState | None, *, first: bool) -> HighValues:
    order, effective = _high_values(it, it.high_values or it.row(classify.highest(it.schema, first=first)))
    if state is None:
        return order, effective
    return order or state.high_order, effective or state.high_effective


def highest_in_log(it: UnderWay) -> HighValues:
    """The highest order and effective time of all active changes in the log."""
    return _high_values(it, it.row(change_log.highest_in_log(it.schema)))


def _high_values(it: UnderWay, found: Mapping[str, Any]) -> HighValues:
    order = tuple(found[name] for name in it.schema.order)
    return order if order and order[0] is not None else None, found[classify.HIGHEST]
