"""brenvik history and brenvik as-of."""

from __future__ import annotations

from typing import Annotated

import typer

from brenvik.cli.app import (
    HERE,
    Environment,
    Json,
    KeyValues,
    Known,
    ProjectFile,
    TableName,
    Wait,
    Without,
    app,
    key_of,
    reading,
    wrong,
)
from brenvik.cli.exits import DONE, FAILED


@app.command()
def history(
    table: TableName,
    key: KeyValues,
    changes: Annotated[
        bool, typer.Option("--changes", help="Every change in the log, in order of arrival, and its effect.")
    ] = False,
    known_at: Known = None,
    without: Without = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show all versions of a key on a time line, and what changed between them."""
    from brenvik.cli.render.history import in_words, show_change_log, show_history

    if changes and (known_at is not None or without):
        raise wrong("--changes lists everything that ever arrived; it cannot be combined with --known-at or --without")
    with reading(project, env, wait) as (declared, store):
        rules = declared.table(table).rules
        wanted = key_of(rules.natural_key, key)
        if changes:
            logged = store.change_log(rules, wanted)
            trimmed = store.ledger.trimmed(rules.table)
            to_run = trimmed.run if trimmed else None
            show_change_log(declared, rules, wanted, logged, trimmed_to_run=to_run, json=json)
            raise typer.Exit(DONE if logged else FAILED)
        rows = store.history(rules, wanted, known_at=known_at, without=without or ()).to_pylist()
    past = in_words(known_at, without)
    show_history(declared, rules, wanted, rows, past=past, json=json)
    raise typer.Exit(DONE if rows else FAILED)


@app.command("as-of")
def as_of(
    table: TableName,
    when: Annotated[str, typer.Argument(help="A time, a day (its first moment) or a number.", metavar="WHEN")],
    limit: Annotated[int, typer.Option("--limit", help="How many rows to show.", metavar="N", min=1)] = 40,
    known_at: Known = None,
    without: Without = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show the rows that were valid at a given time."""
    from brenvik.cli.render.as_of import show_as_of
    from brenvik.cli.render.history import in_words
    from brenvik.errors import StoreError

    with reading(project, env, wait) as (declared, store):
        rules = declared.table(table).rules
        if not (store.ledger.exists() and store.ledger.state(rules.table)):
            raise StoreError(f"Table {table!r} has not been loaded yet: brenvik load {table}")
        rows = store.as_of(rules, when, known_at=known_at, without=without or ())
    past = in_words(known_at, without)
    show_as_of(declared, rules, when, rows, past=past, limit=limit, json=json)
