"""The versions of replayed keys, the difference to the rows that exist, and all decisions counted."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from brenvik.merge import accounting, classify, current_path, diff, pending_deletes, replay, sql
from brenvik.merge.plan.steps import REPLAYED, SOME_INACTIVE, RowChanges, Step, When, learned
from brenvik.merge.schema import TableSchema
from brenvik.model.decisions import DECISIONS


def replay_keys(schema: TableSchema, *, first: bool = False, chosen: bool = False) -> tuple[Step[Any], ...]:
    """Makes ``target_versions`` of the keys in ``replay_keys``, and the decisions on their changes."""
    steps: list[Step[Any]] = []
    if not chosen:
        steps.append(Step("replay", "", does="prune", prune_to=("replay_keys", True), when=REPLAYED))
    text = classify.find_duplicates(schema, first=first)
    steps.append(Step("replay", "changes that are already in the log", text, when=REPLAYED, index=("duplicates",)))
    if not (first or chosen):
        text = classify.widen_to_full_replay(schema)
        steps.append(Step("replay", "keys that need all of their changes replayed", text, "change", when=REPLAYED))
    return (
        *steps,
        Step(
            "replay",
            "the changes of each key in order: the state after each, and the decision",
            replay.decide(schema, first=first, all_full=chosen),
            when=REPLAYED,
            index=("decided",),
        ),
        Step(
            "replay",
            "the versions that replayed keys should have",
            replay.find_target_versions(schema),
            when=REPLAYED,
            index=("target_versions",),
        ),
    )


_PURPOSES = {
    "to_close": "rows of replayed keys that end, or end at another time",
    "to_update": "rows of replayed keys with other values",
    "to_insert": "new versions of replayed keys",
    "to_delete": "rows of replayed keys to delete",
}


def changes_of_rows(schema: TableSchema, *, chosen: bool = False, check_log: bool) -> tuple[Step[RowChanges], ...]:
    """Makes ``to_close``, ``to_update``, ``to_insert`` and ``to_delete``."""
    return (
        *_changes_of_current_path(schema),
        Step(
            "diff",
            "the versions that replayed keys have",
            diff.find_stored_versions(schema),
            when=REPLAYED,
            index=("stored_versions",),
        ),
        *(_check_log(schema, chosen=chosen) if check_log and schema.change_log else ()),
        Step(
            "diff",
            "which version becomes which: by key and start, the rest in order",
            diff.match_versions(schema, several=chosen),
            when=REPLAYED,
            index=("matches",),
        ),
        *(
            Step(
                "diff",
                _PURPOSES[relation],
                text,
                "make" if text.strip().startswith("CREATE") else "change",
                _adding(relation),
                REPLAYED,
            )
            for relation, text in diff.replay_actions(schema)
        ),
        Step(
            "diff",
            "how many keys are current before and after",
            diff.count_current(schema),
            "ask",
            learned(keys_of_replay=lambda rows: rows[0]),
            REPLAYED,
        ),
        *(_overwritten(schema) if schema.type_1 and schema.has_versions else ()),
    )


def _changes_of_current_path(schema: TableSchema) -> tuple[Step[RowChanges], ...]:
    ending = ("versioned", "deleted") if schema.deletes == "close" else ("versioned",)

    def closing(facts: RowChanges, _: int) -> RowChanges:
        return replace(facts, to_close=facts.n(*ending))

    closed: Step[RowChanges] = Step(
        "diff",
        "rows that the current path closes",
        lambda f: diff.close_on_current_path(schema, some_replayed=f.some_replayed),
        learn=closing,
    )
    if schema.deletes == "close":
        return (closed,)
    text = diff.delete_on_current_path(schema)
    return closed, Step("diff", "rows that the current path deletes", text, learn=learned(to_delete=int))


def _check_log(schema: TableSchema, *, chosen: bool) -> tuple[Step[RowChanges], ...]:
    text = accounting.count_in_replay(schema) if chosen else accounting.count_in_load(schema)
    unlogged = learned(unlogged=lambda rows: rows[0])
    purpose = "keys with rows that have no change in the log: a run that meets one stops"
    return (Step("diff", purpose, text, "ask", unlogged, REPLAYED),)


def _overwritten(schema: TableSchema) -> tuple[Step[RowChanges], ...]:
    some: When[RowChanges] = When("when type 1 values change", lambda f: f.sets_type_1 > 0)
    text = current_path.find_closed_versions(schema)
    return (Step("diff", "closed versions to overwrite", text, learn=learned(closed_to_overwrite=int), when=some),)


def _adding(relation: str) -> Any:
    def learn(facts: RowChanges, count: int) -> RowChanges:
        return replace(facts, **{relation: getattr(facts, relation) + count})

    return learn


def inactive(schema: TableSchema, *, all_replayed: bool = False) -> tuple[Step[RowChanges], ...]:
    """Decides the deletes that have no effect by themselves. ``all_replayed``: ``target_versions`` has all rows of every key."""
    if not schema.inactive_deletes:
        return ()
    return (
        Step(
            "decide",
            "the deletes without effect, now that it is known which keys are current",
            lambda f: pending_deletes.decide(
                schema, some_replayed=f.some_replayed, some_pending=f.some_pending, all_replayed=all_replayed
            ),
            "change",
            when=SOME_INACTIVE,
        ),
        Step(
            "decide",
            "how many have which decision",
            pending_deletes.summary(),
            "ask",
            learned(inactive_decisions=tuple),
            SOME_INACTIVE,
        ),
    )


def decide(schema: TableSchema) -> tuple[Step[RowChanges], ...]:
    """Decides inactive deletes, and counts all decisions."""
    late: When[RowChanges] = When(
        "when changes are late, and some are duplicates", lambda f: f.late > 0 and _some_duplicates(f)
    )
    sizes = ("changes", "current_path", "duplicates")
    counts = ", ".join(f"(SELECT count(*) FROM {sql.work(name)}) AS {sql.quote(name)}" for name in sizes)
    some = REPLAYED
    return (
        *inactive(schema),
        Step(
            "decide",
            "how many replayed changes have which decision",
            replay.summary(),
            "ask",
            learned(replayed=tuple),
            some,
        ),
        Step(
            "decide",
            "which replayed changes are duplicates or superseded",
            f"SELECT {counts}",
            "ask",
            learned(sizes_of_paths=lambda rows: rows[0]),
            some,
        ),
        Step(
            "decide",
            "late changes that are duplicates",
            lambda f: classify.count_late_duplicates(
                schema, some_replayed=f.some_replayed, some_inactive_deletes=f.inactive > 0
            ),
            "ask",
            learned(late_duplicates=lambda rows: rows[0]["n"]),
            late,
        ),
    )


def _some_duplicates(facts: RowChanges) -> bool:
    inactive = any(row["brenvik_decision"] == "duplicate" for row in facts.inactive_decisions)
    return inactive or facts.sizes_of_paths.get("duplicates", 0) > 0


def counts_of(facts: RowChanges) -> dict[str, int]:
    """How many changes have which decision, and how many rows the table gains and loses."""
    counts = dict.fromkeys(("read", "derived", *DECISIONS), 0)
    counts |= {"read": facts.read, "derived": facts.derived, "rejected": facts.rejected, "duplicate": facts.repeated}
    counts["unchanged"] = facts.equal
    decided = [
        {"brenvik_decision": name, "n": row["n"]} for name, row in facts.current.items() if name != current_path.FULL
    ]
    for row in (*facts.inactive_decisions, *decided, *facts.replayed):
        counts[row["brenvik_decision"]] += row["n"]
    if facts.some_replayed and facts.sizes_of_paths:
        sizes = facts.sizes_of_paths
        counts["duplicate"] += sizes["duplicates"]
        decided_here = sum(row["n"] for row in facts.replayed)
        counts["superseded"] += sizes["changes"] - sizes["current_path"] - sizes["duplicates"] - decided_here
    counts["rows_before"] = facts.row_count
    counts["rows_added"] = facts.rows_added
    counts["rows_removed"] = facts.to_delete
    counts["rows_updated"] = facts.rows_updated
    counts["rows_after"] = facts.row_count + facts.rows_added - facts.to_delete
    return counts


def logged_changes(facts: RowChanges) -> int:
    """How many changes are appended to the change log, those of inactive deletes not among them."""
    if not facts.some_replayed:
        return sum(row["n"] for row in facts.current.values())
    return int(facts.sizes_of_paths["changes"] - facts.sizes_of_paths["duplicates"])
