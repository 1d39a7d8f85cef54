"""Which path each change takes, and the decisions on the current path."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from brenvik.merge import classify, current_path, extract_diff, sql
from brenvik.merge.plan.steps import Classified, Resolved, Row, Step, Validated, When, learned
from brenvik.merge.schema import TableSchema

_LATE_OR_SEVERAL: When[Any] = When(
    "when a key has several changes, or late ones",
    lambda f: f.changes > 0 and (f.late > 0 or f.changes > f.changed_keys),
)


def _meets(schema: TableSchema, facts: Validated) -> bool:
    """Whether the current versions that the changes meet are at hand: an extract was compared with them."""
    return bool(facts.sizes) and schema.meets_current_only and not facts.duplicated


def find_late_or_several(schema: TableSchema, *, first: bool) -> tuple[Step[Classified], ...]:
    """Makes ``stored``, the rows of the keys that change, ``met``, those that the changes meet, and ``late_or_several``, the
    keys that take the replay path."""
    others = (schema.type_1 and schema.has_versions) or schema.deletes == "remove" or schema.store.updates_rows_read
    return (
        Step(
            "classify",
            "the rows that the table has of these keys",
            makes="stored",
            stored=("changes", False),
            when=When("when there are changes", lambda f: f.changes > 0 and (others or not _meets(schema, f))),
        ),
        Step(
            "classify",
            "those that the changes meet",
            makes="met",
            same_as=lambda f: extract_diff.matched_versions(schema) if _meets(schema, f) else sql.work("stored"),
            when=When("when there are changes", lambda f: f.changes > 0),
        ),
        Step(
            "classify",
            "the keys with several changes, or with late ones",
            lambda f: classify.find_late_or_several(
                schema, some_late=f.late > 0, first=first, matched=_meets(schema, f)
            ),
            "late_or_several",
            when=_LATE_OR_SEVERAL,
            index=True,
            compares=("changes",),
        ),
        Step(
            "classify",
            "how many they are, and how many changes they have",
            classify.count_late_or_several(),
            learn=learned(
                replay_keys=lambda rows: int(rows[0]["replay_keys"]), replayed=lambda rows: int(rows[0]["replayed"])
            ),
            when=_LATE_OR_SEVERAL,
        ),
    )


def current_paths(schema: TableSchema, *, first: bool) -> tuple[Step[Resolved], ...]:
    """Makes ``current_path``: keys with exactly one change, newer than all before."""
    some: When[Resolved] = When("when a key has one newer change", lambda f: f.some_current)
    steps: list[Step[Resolved]] = [
        Step(
            "current path",
            "one newer change of a key: joined with its current version",
            lambda f: current_path.decide(
                schema,
                some_late_or_several=f.replay_keys > 0,
                explains=bool(f.explains),
                matched=_meets(schema, f),
            ),
            "current_path",
            when=some,
            index=True,
            compares=("changes",),
        ),
        Step(
            "current path", "how many changes have which decision", current_path.summarize(schema),
            learn=_sum_up(schema), when=some,
        ),
    ]  # fmt: skip
    if not first and schema.type_1 and schema.keeps_lifetimes:
        returns: When[Resolved] = When("when a key is new, or returns", lambda f: f.n("inserted") > 0)
        text = current_path.find_returning_changes(schema)
        purpose = "keys that return: their closed versions are overwritten too"
        steps.append(
            Step(
                "current path",
                purpose,
                text,
                "returning_changes",
                learned(returning=int),
                returns,
                compares=("changes",),
            )
        )
    return (*steps, *_all_replay_keys(schema))


def _all_replay_keys(schema: TableSchema) -> tuple[Step[Resolved], ...]:
    """Makes ``replay_keys``: those that are known, and those that the current path cannot decide."""
    only_known: When[Resolved] = When("else", lambda f: f.some_replayed and not f.also_replayed)
    return (
        Step(
            "current path",
            "all keys to replay: also those whose current version is not sufficient",
            lambda f: classify.find_replay_keys(
                schema,
                some_late_or_several=f.replay_keys > 0,
                some_full=f.some_full,
                some_returning=f.returning > 0,
            ),
            "replay_keys",
            when=When("when a current version is not sufficient", lambda f: f.also_replayed),
            index=True,
        ),
        Step(
            "current path",
            "the keys to replay are known",
            makes="replay_keys",
            same_as=sql.work("late_or_several"),
            when=only_known,
        ),
    )


def _sum_up(schema: TableSchema) -> Any:
    def learn(facts: Resolved, rows: Sequence[Row]) -> Resolved:
        overwritten = None
        if not schema.store.whole_rows:
            columns = {name: current_path.differs_column(schema, name) for name in schema.type_1}
            overwritten = tuple(name for name, flag in columns.items() if any(row[flag] for row in rows))
        current = {current_path.decision_of(row["brenvik_decision_no"]): row for row in rows}
        return replace(facts, current=current, overwritten=overwritten)

    return learn
