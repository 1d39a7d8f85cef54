"""The versions of replayed keys, the difference to the rows that exist, and all decisions counted."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from brenvik.merge import accounting, classify, current_path, diff, pending_deletes, replay, ties, writes
from brenvik.merge.plan.steps import REPLAYED, SOME_INACTIVE, Classified, Row, RowChanges, Step, When, learned
from brenvik.merge.replay import Chosen
from brenvik.merge.schema import TableSchema
from brenvik.model.decisions import DECISIONS


def replay_keys(
    schema: TableSchema, *, first: bool = False, chosen: Chosen = "", stored: bool = True
) -> tuple[Step[Any], ...]:
    """Makes ``target_versions`` of the keys in ``replay_keys``, and the decisions on their changes; also ``stored_versions``
    where the rows of the table are needed."""
    steps: list[Step[Any]] = []
    if stored:
        text = diff.find_stored_versions(schema)
        steps += [
            Step(
                "replay",
                "the rows that the table has of these keys",
                makes="stored_of_replay",
                stored=("replay_keys", True),
                when=REPLAYED,
            ),
            Step(
                "replay",
                "the versions that the table has of these keys",
                text,
                "stored_versions",
                when=REPLAYED,
                index=True,
                compares=("replay_keys",),
            ),
        ]

    def late(facts: Classified) -> bool:  # past changes are decided again among all others
        return chosen == "again" or facts.late > 0

    if schema.order and chosen != "keys":
        steps.append(
            Step(
                "replay", "changes that are already in the log",
                lambda f: classify.find_duplicates(schema, logged=late(f) and not first),
                "duplicates", when=REPLAYED, index=True, compares=("changes", "replay_keys"),
            )
        )  # fmt: skip
    return (
        *steps,
        Step(
            "replay",
            "the changes of each key in order: the state after each, and the decision",
            lambda f: replay.decide(schema, first=first, chosen=chosen, late=late(f)),
            "decided",
            when=REPLAYED,
            index=True,
            compares=("changes", "replay_keys"),
        ),
        Step(
            "replay",
            "the versions that replayed keys should have",
            replay.find_target_versions(schema),
            "target_versions",
            when=REPLAYED,
            index=True,
        ),
    )


def changes_of_rows(
    schema: TableSchema, *, chosen: bool = False, first: bool = False, check_log: bool
) -> tuple[Step[RowChanges], ...]:
    """Makes ``actions``, and what else changes rows of the table."""
    checked: accounting.Checked = "log" if chosen else "decided"
    duplicates = bool(schema.order) and not chosen
    late = classify.is_late(schema, "c")
    return (
        *(() if chosen else _changes_of_current_path(schema)),
        Step(
            "diff",
            "what becomes of which row: by key and start, the rest in order",
            diff.find_actions(
                schema, check_log=checked if check_log and schema.change_log and not first else None, several=chosen
            ),
            "actions",
            when=REPLAYED,
            index=True,
        ),
        Step(
            "diff",
            "how many rows change, and how many changes have which decision",
            lambda f: diff.summarize(
                schema,
                decides=not chosen,
                duplicates=duplicates,
                late=late if f.late and duplicates else "",
                tied=ties.count_ties(schema, logged=bool(schema.change_log)) if f.late and duplicates else "",
            ),
            learn=learned(actions=lambda rows: rows[0]),
            when=REPLAYED,
        ),
    )


def _changes_of_current_path(schema: TableSchema) -> tuple[Step[RowChanges], ...]:
    steps: list[Step[RowChanges]] = []
    if schema.deletes == "remove":
        some: When[RowChanges] = When("when a key is deleted", lambda f: f.n("deleted") > 0)
        text = writes.find_removed_rows(schema)
        steps.append(
            Step("diff", "rows that the current path deletes", text, "removed_rows", learned(removed_rows=int), some)
        )
    if schema.type_1 and schema.has_versions:
        overwrites: When[RowChanges] = When("when type 1 values change", lambda f: f.sets_type_1 > 0)
        text = current_path.find_closed_versions(schema)
        closed = learned(closed_versions=int)
        steps.append(Step("diff", "closed versions to overwrite", text, "closed_versions", closed, overwrites))
    return tuple(steps)


def find_contradictions(schema: TableSchema, *, is_extract: bool) -> tuple[Step[RowChanges], ...]:
    """Counts the keys whose changes tie, where any can; of late changes it is known already."""
    if not (schema.order or is_extract):
        return ()
    some: When[RowChanges] = When(
        "when a change is superseded, and none is late",
        lambda f: f.some_replayed and f.not_last > 0 and "tied" not in f.actions,
    )
    return (
        Step(
            "diff",
            "how many keys have changes that contradict each other",
            ties.count_ties(schema, logged=False),
            learn=lambda facts, rows: replace(facts, actions={**facts.actions, **rows[0]}),
            when=some,
        ),
    )


def decide_deletes(schema: TableSchema, *, again: bool = False) -> tuple[Step[RowChanges], ...]:
    """Decides the deletes that have no effect by themselves; ``again``: those of past runs."""
    if not schema.inactive_deletes:
        return ()
    stored: Step[RowChanges] = Step(
        "decide",
        "the rows that the table has of their keys",
        makes="stored_of_deletes",
        stored=("inactive_deletes", True),
        when=SOME_INACTIVE,
    )
    late = classify.is_late(schema, "c")
    return (
        *(() if again else (stored,)),
        Step(
            "decide",
            "these deletes, now that it is known which keys are current",
            lambda f: pending_deletes.decide(
                schema, some_replayed=f.some_replayed, some_pending=f.some_pending, again=again
            ),
            "decided_deletes",
            when=SOME_INACTIVE,
        ),
        Step(
            "decide",
            "how many have which decision",
            lambda f: pending_deletes.summarize(schema, late=late if f.late else ""),
            learn=learned(decided_deletes=tuple),
            when=SOME_INACTIVE,
        ),
    )


def counts_of(schema: TableSchema, facts: RowChanges) -> dict[str, int]:
    """How many changes have which decision, and how many rows the table gains and loses."""
    counts = dict.fromkeys(("read", "derived", *DECISIONS), 0)
    counts |= {"read": facts.read, "derived": facts.derived, "rejected": facts.rejected, "duplicate": facts.repeated}
    counts |= {"unchanged": facts.equal, "ignored": facts.erased}
    for name in facts.current:
        if name != current_path.FULL:
            counts[name] += facts.n(name)
    for row in facts.decided_deletes:
        counts[row["brenvik_decision"]] += row["n"]
    if facts.some_replayed and not facts.chosen_keys:
        decided = {name: facts.action(name) for name in diff.DECIDED}
        for name, count in decided.items():
            counts[name] += count
        counts["duplicate"] += facts.action("duplicates")
        counts["superseded"] += facts.not_last
    counts["rows_before"] = facts.row_count
    counts["rows_added"] = facts.rows_added
    counts["rows_removed"] = facts.removed_rows + facts.action("delete")
    counts["rows_updated"] = (
        facts.n(*closing(schema))
        + facts.overwritten_rows
        + facts.action("close")
        + facts.action("update")
        + facts.marked
    )
    counts["rows_after"] = facts.row_count + counts["rows_added"] - counts["rows_removed"]
    return counts


def closing(schema: TableSchema) -> tuple[str, ...]:
    """The decisions on the current path that close a version."""
    return ("versioned", "deleted") if schema.deletes == "close" else ("versioned",)


def logged_changes(facts: RowChanges) -> int:
    """How many changes are appended to the change log, those of inactive deletes not among them."""
    return facts.changes - facts.action("duplicates")


def updated_columns(schema: TableSchema, actions: Row) -> tuple[str, ...]:
    """The columns that updates of replayed keys set, as working relations call them."""
    flags = diff.flagged_columns(schema)
    if not flags:
        return (diff.FROM, diff.TO, diff.ENDED, *schema.stored_values)
    return tuple(name for name, flag in flags.items() if actions.get(flag, 1))
