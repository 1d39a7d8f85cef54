"""The statements of a load, printed from its plan for people who want to read before they trust."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from brenvik.engines.ledger_entries import entry_statement
from brenvik.engines.row_changes import row_statement, table_statements
from brenvik.errors import DeclarationError
from brenvik.feeds.columns import as_declared
from brenvik.ledger.records import NewRowsFrom
from brenvik.merge import sql
from brenvik.merge.column_changes import NO_CHANGES
from brenvik.merge.plan.kinds import load_plan
from brenvik.merge.plan.steps import Applied, Stage, Step
from brenvik.model.feeds import FeedRules
from brenvik.project.project import Project, ProjectTable
from brenvik.runs.prepare import preparation, schema_for
from brenvik.runs.schema_changes import follow
from brenvik.runs.staging import ledger_sql, rows_of

if TYPE_CHECKING:
    from brenvik.engines.protocol import Engine
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
        return list(_written(store.engine, *_steps(store, found, chosen, batch), language, is_own=not dialect))
    finally:
        batch.close()


def _steps(store: Store, table: ProjectTable, feed: FeedRules, batch: Batch) -> tuple[str, tuple[Step[Any], ...]]:
    """The name of the table, quoted, and the steps of a load."""
    rules = table.rules
    memory = store.ledger.read_memory(rules.table)
    state, changes = follow(rules, memory.state) if memory.state else (None, NO_CHANGES)
    batch = as_declared(batch, feed.columns, rules, feed.operations, state, feed=feed.name)
    schema = schema_for(store.engine, rules, batch, state, feed.operations)
    plan = load_plan(
        schema,
        rows_of(
            schema,
            batch,
            feed.operations,
            feed.extract_scope,
            some_erased=memory.erased > 0,
            trimmed=store.ledger.trimmed(rules.table) is not None,
        ),
        ledger_sql(schema, batch, has_ledger=True),
        excluded=tuple(memory.reverted),
        first=memory.is_first,
    )
    return sql.relation(schema.table), (*preparation(store.engine, schema, state, changes), *plan.steps())


def _known(dialect: str) -> str:
    from sqlglot.dialects.dialect import Dialects

    names = sorted(each.value for each in Dialects if each.value)
    if dialect not in names:
        raise DeclarationError(f"{dialect!r} is not a supported dialect; supported are {', '.join(names)}")
    return dialect


def _written(
    engine: Engine, table: str, steps: Sequence[Step[Any]], language: str, *, is_own: bool
) -> Iterator[Statement]:
    """What the steps run. A relation that is another one under a name of its own appears under that."""
    facts = Applied.every_case()
    others: dict[str, str] = {}
    for step in steps:
        if (other := table if step.stored else _other(step, facts)) and not any(
            step.makes == each.makes for each in steps if each.text
        ):
            others[sql.work(step.makes)] = _resolved(other, others)
        for text in _texts(step, facts):
            text = _resolved(text.strip(), others)
            if step.staging:
                text = sql.translate(text, "duckdb", flavour="duckdb", pretty=True)
            else:
                text = engine.statement(text, pretty=True) if is_own else sql.translate(text, language, pretty=True)
            in_process = bool(step.staging) and language != "duckdb"
            yield Statement(step.stage, step.purpose, step.when.text if step.when else "", text, in_process)


def _other(step: Step[Any], facts: Applied) -> str:
    """The relation that the step only gives a name; '' for other steps."""
    if not step.runs(facts):
        return ""
    return step.original(facts) if step.same_as else ""


def _resolved(text: str, others: Mapping[str, str]) -> str:
    for name, other in others.items():
        text = text.replace(name, other)
    return text


def _texts(step: Step[Any], facts: Applied) -> list[str]:
    """The statements of a step in the core's dialect (of a staging, in DuckDB's)."""
    if step.staging:
        return [step.staging.statement]
    if step.alter:
        return table_statements(step.alter)
    if step.change:
        return [row_statement(step.change(facts))]
    text = step.query(facts).strip()
    if step.record:
        return [entry_statement(NewRowsFrom(step.record, text))[0]]
    if text and step.makes:
        return [f"CREATE TEMP {'VIEW' if step.view else 'TABLE'} {sql.work(step.makes)} AS {text}"]
    return [text] if text else []
