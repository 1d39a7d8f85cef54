"""The statements of a load in the order in which it runs them, for people who want to read before they trust."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from brenvik.core import diff, plain, screen, sort, sql, versions
from brenvik.core.blueprint import EFFECTIVE, Blueprint, draw
from brenvik.core.screen import Operations
from brenvik.errors import DeclarationError
from brenvik.ledger_tables import enter_rejects, kept_table, known_rejects
from brenvik.project import Project
from brenvik.store import Store

TRIED = ("duckdb", "postgres", "sqlite")
"""The languages in which statements were ever run."""


@dataclass(frozen=True)
class Statement:
    """One statement: the stage of the load that runs it, what it is for, and its text in the store's language.

    ``beside`` says that it runs in the DuckDB of the process and not in the store.
    """

    stage: str
    note: str
    text: str
    beside: bool = False


def statements_of(
    project: Project, table: str, store: Store, *, feed: str | None = None, dialect: str | None = None
) -> list[Statement]:
    """The statements of a load of a table from a feed (its only one where none is named), as that load runs them when it meets
    every case: new and known keys, late changes, deletes, faulty rows.

    ``dialect`` asks for another language than the store's. Raises DeclarationError for one that is unknown, and whatever a look
    at the feed raises.
    """
    language = _known(dialect) if dialect else store.engine.dialect
    found, chosen = project.feed(table, feed)
    columns = next(iter(project.source(found, chosen, store).columns().values()), None)
    state = store.ledger.state(table) if store.ledger.exists() else None
    if columns is None:
        raise DeclarationError(f"Feed {chosen.name} has nothing to look at: {chosen.reads!r} finds no file.")
    operations = chosen.operations
    types = {name: kind for name, kind in columns.items() if not operations or name != operations.column}
    blueprint = draw(
        found.rules,
        types,
        known=state.columns if state else (),
        store=store.engine.traits,
        kept=kept_table(found.rules.table),
        source=chosen.reads,
    )
    carried = tuple(sorted({*types} & {*blueprint.carried}))
    blueprint = blueprint.with_shapes({1: carried})
    return [
        Statement(
            stage,
            note,
            store.engine.statement(text, pretty=True) if not (dialect or beside) else _written(text, language, beside),
            beside and language != "duckdb",
        )
        for stage, note, text, beside in _of_load(blueprint, columns, operations)
    ]


def _known(dialect: str) -> str:
    from sqlglot.dialects.dialect import Dialects

    names = sorted(each.value for each in Dialects if each.value)
    if dialect not in names:
        raise DeclarationError(
            f"{dialect!r} is no language that statements can be written in; known are {', '.join(names)}"
        )
    return dialect


def _written(text: str, language: str, beside: bool) -> str:
    if beside:
        return sql.translate(text, "duckdb", flavour="duckdb", pretty=True)
    return sql.translate(text, language, pretty=True)


def _of_load(
    blueprint: Blueprint, columns: Mapping[str, object], operations: Operations | None
) -> Iterator[tuple[str, str, str, bool]]:
    """Stage, note, text in its flavour, and whether it runs in DuckDB's."""

    def here(stage: str, note: str, text: str) -> tuple[str, str, str, bool]:
        return stage, note, text.strip(), False

    staging = screen.screen(blueprint, tuple(columns.items()), operations, ((0, 1),))
    order = "; in the order of keys, piece by piece" if staging.order else ""
    yield (
        "screen",
        f"every row of the feed, cast to the types of the table; what is wrong with it, if anything{order}",
        f"CREATE TEMP TABLE {sql.work('screened')} AS {staging.question}",
        True,
    )
    take, leave = screen.take_out_rejected(derives=False)
    yield here("screen", "rows with a fault", take)
    yield here("screen", "and the others without them", leave)
    yield here("screen", "a row that equals an open reject is refused as a duplicate", known_rejects(has_ledger=True))

    yield here(
        "sort",
        "how many changes are late, as they are not above all that was ever taken",
        sort.sums(blueprint, first=False, derives=False),
    )
    yield here(
        "sort",
        "busy: keys with several changes, or late ones; all others have one change, newer than all before",
        sort.mark_busy(blueprint, some_late=True),
    )

    yield here(
        "plain",
        "one newer change a key: a join with its living version",
        plain.decide(blueprint, some_busy=True, told=False),
    )
    if blueprint.type_1 and blueprint.keeps_lives:
        yield here("plain", "keys that return: their closed versions follow in type 1", plain.returning_keys(blueprint))
    yield here("plain", "how many changes are what", plain.summary())
    send, drop = plain.send_on(blueprint)
    yield here("plain", "what the living version alone does not tell is sent through the windows", send)
    yield here("plain", "and taken off here", drop)
    closes, removes = diff.plain_effects(blueprint, some_busy=True)
    yield here("plain", "rows that end", closes)
    yield here("plain", "rows to take away", str(removes))
    if blueprint.type_1 and blueprint.has_versions:
        yield here("plain", "closed versions that follow in type 1", plain.spread(blueprint))

    yield here("versions", "changes that are there already", sort.find_duplicates(blueprint, first=False))
    yield here("versions", "busy keys that need all of their changes", sort.widen_busy(blueprint))
    yield here(
        "versions",
        "the changes of a busy key in order: which count, the state after each, its decision",
        versions.judge(blueprint, first=False),
    )
    yield here("versions", "the rows that the busy keys should have", versions.draw_up(blueprint))

    yield here("diff", "the rows that they have", diff.find_stored(blueprint))
    yield here("diff", "which becomes which: by key and start, what is left in order", diff.pair(blueprint))
    for relation, text in diff.busy_effects(blueprint):
        yield here("diff", _EFFECTS[relation], text)

    yield here("write", "versions end before others begin", diff.write_closes(blueprint, deletes=True))
    if blueprint.type_1:
        if blueprint.store.moves:
            yield here("write", "where rows that were ended are now", plain.find_again(blueprint))
        yield here(
            "write",
            "type 1 is overwritten",
            diff.write_type_1(blueprint, blueprint.type_1, spreads=blueprint.has_versions),
        )
    yield here(
        "write", "rows of busy keys with new content", diff.write_sets(blueprint, (EFFECTIVE, *blueprint.values))
    )
    yield here("write", "rows that go", diff.write_removes(blueprint))
    yield here("write", "new rows", diff.write_adds(blueprint, plain=True, busy=True))

    if blueprint.kept:
        yield here("keep", "every accepted change is kept", sort.keep(blueprint, some_duplicates=True))
    yield here("keep", "refused rows are kept with their reasons", enter_rejects(((1, "a file"),)))
    yield here(
        "keep",
        "the highest order and time ever taken; they go into the ledger with the run, its watermark and its files",
        sort.highest(blueprint, first=False),
    )


_EFFECTS = {
    "closes": "rows that only end, or end at another time",
    "sets": "rows whose content changes",
    "adds": "rows that are new",
    "removes": "rows that are too many",
}
