"""The statements of a load, printed from its plan for people who want to read before they trust."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from brenvik.errors import DeclarationError
from brenvik.ledger.memory import read_memory
from brenvik.merge import sql
from brenvik.merge.plan.kinds import load_plan
from brenvik.merge.plan.steps import Applied, Begun, Stage, Step
from brenvik.model.feeds import FeedRules
from brenvik.project.project import Project, ProjectTable
from brenvik.runs.prepare import preparation, schema_for
from brenvik.runs.staging import ledger_sql, rows_of

if TYPE_CHECKING:
    from brenvik.feeds.protocol import Batch
    from brenvik.store import Store

TRIED = ("duckdb", "postgres", "sqlite")
"""The dialects in which statements have been run."""


@dataclass(frozen=True)
class Statement:
    """One statement: the stage of the load that runs it, its purpose, when it runs ('' for always), and its text in the store's
    dialect. ``in_process``: it runs in the DuckDB of the process, not in the store."""

    stage: Stage
    purpose: str
    when: str
    text: str
    in_process: bool = False


def statements_of(
    project: Project, table: str, store: Store, *, feed: str | None = None, dialect: str | None = None
) -> list[Statement]:
    """The statements of the next load of a table from a feed (its only one where none is named), in the form they have when the
    load meets every case.

    ``dialect`` asks for another dialect than the store's. Raises DeclarationError for an unknown one, and what opening the feed
    raises.
    """
    language = _known(dialect) if dialect else store.engine.dialect
    found, chosen = project.feed(table, feed)
    source, memory = project.source(found, chosen, store), store.ledger.memory(table, feed or chosen.name)
    batch = source.open(memory)
    if not batch.columns:  # nothing new: what there is shows the columns
        batch.close()
        batch = source.sample(memory)
    try:
        if not batch.columns:
            raise DeclarationError(f"Feed {chosen.name} has nothing to read: {chosen.reads!r} matches no file.")
        steps = _steps(store, found, chosen, batch)
        return [
            Statement(
                step.stage,
                step.purpose,
                step.when.text if step.when else "",
                _written(store, step, text, language, is_own=not dialect),
                step.does == "stage" and language != "duckdb",
            )
            for step, text in steps
        ]
    finally:
        batch.close()


def _steps(store: Store, table: ProjectTable, feed: FeedRules, batch: Batch) -> Iterator[tuple[Step[Any], str]]:
    """The steps of a load that have a statement, with its text in the core's dialect (of a staging, DuckDB's)."""
    rules = table.rules
    memory = read_memory(store.ledger, rules.table, feed.name, is_extract=batch.extract is not None)
    schema = schema_for(store.engine, rules, batch, memory.state, feed.operations)
    plan = load_plan(
        schema,
        rows_of(schema, batch, feed.operations, feed.extract_scope),
        ledger_sql(schema, batch, has_ledger=True),
        excluded=tuple(memory.reverted),
        first=memory.is_first,
    )
    facts: Begun = Applied.every_case()
    for step in (*preparation(schema, memory.state), *plan.steps()):
        if step.staging:
            yield step, step.staging.statement
        elif text := step.statement(facts).strip():
            yield step, text


def _known(dialect: str) -> str:
    from sqlglot.dialects.dialect import Dialects

    names = sorted(each.value for each in Dialects if each.value)
    if dialect not in names:
        raise DeclarationError(f"{dialect!r} is not a supported dialect; supported are {', '.join(names)}")
    return dialect


def _written(store: Store, step: Step[Any], text: str, language: str, *, is_own: bool) -> str:
    if step.staging:
        return sql.translate(text, "duckdb", flavour="duckdb", pretty=True)
    return store.engine.statement(text, pretty=True) if is_own else sql.translate(text, language, pretty=True)
