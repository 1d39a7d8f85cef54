"""Which path each change takes, and the decisions on the current path."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from brenvik.merge import classify, current_path, extract_diff, pending_deletes
from brenvik.merge.plan.steps import SOME_INACTIVE, Classified, Resolved, Row, Step, Validated, When, learned
from brenvik.merge.schema import TableSchema


def set_aside(schema: TableSchema) -> tuple[Step[Classified], ...]:
    """Moves the deletes that have no effect by themselves into ``inactive_deletes``."""
    if schema.inactive_deletes is None:
        return ()
    into, out = pending_deletes.set_deletes_aside(schema)

    def some(facts: Classified, count: int) -> Classified:
        return replace(facts, inactive=count, highest=None)  # that was with them

    return (
        Step("classify", "deletes that have no effect by themselves", into, "make", some),
        Step("classify", "they are removed from the changes", out, "change"),
    )


def find_replay_keys(schema: TableSchema) -> tuple[Step[Classified], ...]:
    """Makes ``replay_keys``."""
    return (
        Step(
            "classify",
            "the keys to replay: those with several changes, or with late ones",
            lambda f: classify.find_replay_keys(schema, some_late=f.late > 0),
            learn=learned(replay_keys=int),
        ),
    )


def current_paths(schema: TableSchema, *, first: bool = False, chosen: bool = False) -> tuple[Step[Resolved], ...]:
    """Makes ``current_path``: keys with exactly one change, newer than all before. ``chosen``: ``replay_keys`` was given."""
    full: When[Resolved] = When("when a current version is not sufficient", lambda f: current_path.FULL in f.current)
    send, drop = current_path.send_to_replay(schema)
    steps: list[Step[Resolved]] = [
        Step(
            "current path", "", does="prune", index=("changes", "replay_keys"),
            prune_to=("replay_keys", True) if chosen else ("changes", False),
        ),
        Step("current path", "", does="prune", prune_to=("inactive_deletes", True), when=SOME_INACTIVE),
        Step(
            "current path",
            "one newer change of a key: joined with its current version",
            lambda f: current_path.decide(
                schema,
                some_replayed=f.some_replayed,
                explains=bool(f.explains),
                matched=extract_diff.matched_versions(schema) if _meets(schema, f) else None,
            ),
            index=("current_path",),
        ),
    ]  # fmt: skip
    if not first and schema.type_1 and schema.keeps_lifetimes:
        text = current_path.find_returning_keys(schema)
        steps.append(
            Step("current path", "keys that return: their closed versions are overwritten too", text, "change")
        )
    return (
        *steps,
        Step("current path", "how many changes have which decision", current_path.summary(), "ask", _summary),
        Step(
            "current path",
            "keys whose current version is not sufficient are replayed",
            send,
            "change",
            _also_replayed,
            full,
        ),
        Step("current path", "and leave the current path", drop, "change", when=full),
    )


def _meets(schema: TableSchema, facts: Validated) -> bool:
    """Whether the current versions that the changes of an extract meet are at hand."""
    return bool(facts.sizes) and schema.meets_current_only and not facts.duplicated


def _summary(facts: Resolved, rows: Sequence[Row]) -> Resolved:
    return replace(facts, current={row["brenvik_decision"]: row for row in rows})


def _also_replayed(facts: Resolved, _: int) -> Resolved:
    return replace(facts, some_replayed=True)
