"""The commands that look at what is there; they need the right to read only."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from brenvik.cli.call import (
    HERE,
    Environment,
    FeedName,
    Group,
    Json,
    Known,
    ProjectFile,
    TableName,
    Tables,
    Wait,
    Without,
    app,
    held_app,
    key_of,
    reading,
    rejects_app,
    watermarks_app,
    wrong,
)
from brenvik.cli.exits import DONE, FAILED, REFUSED, TEMPORARY, WRONG_CALL


@app.command()
def check(
    tables: Tables = None,
    rights: Annotated[
        bool, typer.Option("--rights", help="Only whether the store lets this user load, and what must be granted.")
    ] = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Check the project, its feeds and its tables against each other, and say what each column is.

    A table that the store had before is held against its rules: what must be put right before it can be adopted. Ends with 2
    when a table cannot be loaded as declared, with 4 when it can, but something needs a look first.
    """
    from brenvik.checking import check_rights, check_table
    from brenvik.cli import show

    with reading(project, env, wait) as (declared, store):
        if rights:
            missing = check_rights(declared, store, tables)
            show.rights(declared, store.address, missing, json=json)
            raise typer.Exit(WRONG_CALL if missing else DONE)
        findings = [check_table(declared, name, store) for name in tables or declared.tables]
    show.check(declared, findings, json=json)
    if any(finding.faults for finding in findings):
        raise typer.Exit(WRONG_CALL)
    raise typer.Exit(REFUSED if any(finding.attention for finding in findings) else DONE)


@app.command()
def status(
    tables: Tables = None,
    group: Group = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show how each table is: its last good run, how far it is behind, and what somebody should look at.

    Ends with 4 when any table needs attention: it is overdue (expected_every), runs failed or were refused since its last good
    one, rejects or deletes wait, a protected value was tampered with, or files will never be taken. Ends with 5 when a source
    cannot be reached.
    """
    from brenvik.cli import show_progress
    from brenvik.progress import status_of

    with reading(project, env, wait) as (declared, store):
        found = status_of(declared, store, declared.chosen(tables, group=group))
    attention, down = any(each.needs_attention for each in found), any(each.errors for each in found)
    code = REFUSED if attention else TEMPORARY if down else DONE
    show_progress.status(declared, found, code, json=json)
    raise typer.Exit(code)


@watermarks_app.callback(invoke_without_command=True)
def watermarks(
    context: typer.Context,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show how far each feed is, what waits in it and for how long, and what the next load takes.

    Ends with 5 when a source cannot be reached.
    """
    if context.invoked_subcommand:
        return
    from brenvik.cli import show_progress
    from brenvik.progress import how_far

    with reading(project, env, wait) as (declared, store):
        found = how_far(declared, store, *declared.tables.values())
    show_progress.watermarks(declared, found, json=json)
    raise typer.Exit(TEMPORARY if any(entry.error for entry in found) else DONE)


@app.command()
def runs(
    what: Annotated[
        str | None, typer.Argument(help="Only runs of this table; or one run, by its number.", metavar="[TABLE|RUN]")
    ] = None,
    last: Annotated[int, typer.Option("--last", help="How many, the newest first.", min=1)] = 20,
    rows: Annotated[bool, typer.Option("--rows", help="Of one run: what it decided, row by row.")] = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """List the runs: what was read, what was done, how it ended; or tell what one run decided, row by row."""
    from brenvik.cli import show, show_past
    from brenvik.cli.show import files_of

    one = int(what) if what and what.isdigit() else None
    if rows and one is None:
        raise wrong("--rows needs the number of a run: brenvik runs RUN --rows")
    with reading(project, env, wait) as (declared, store):
        if one is not None:
            run = store.ledger.run(one)
            if run is None:
                raise wrong(f"There is no run {one}: brenvik runs")
            decided = store.decisions(declared.table(run["table_name"]).rules, one).to_pylist() if rows else None
            its = declared.tables.get(run["table_name"])  # None for a table that is declared no more
            wrote = store.engine.written(its.rules.stored_as).get(one) if its else None
            taken_back_by = store.ledger.withdrawn(run["table_name"]).get(one)
            taken_back = store.ledger.run(taken_back_by) if taken_back_by is not None else None
            show_past.run(declared, run | files_of(wrote), decided, withdrawn=taken_back, json=json)
            return
        name = declared.table(what).rules.table if what else None
        found = store.ledger.runs(name, last=last).to_pylist() if store.ledger.exists() else []
        withdrawn = {run: by for table in declared.tables for run, by in store.ledger.withdrawn(table).items()}
        names = {row["table_name"] for row in found} & {*declared.tables}
        by_table = {table: store.engine.written(declared.table(table).rules.stored_as) for table in names}
        found = [row | files_of(by_table.get(row["table_name"], {}).get(row["run"])) for row in found]
    show.runs(declared, found, withdrawn, json=json)


@app.command()
def sql(
    table: TableName,
    feed: FeedName = None,
    dialect: Annotated[
        str | None, typer.Option("--dialect", help="In another language than the store's.", metavar="NAME")
    ] = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Print the statements of a load in their order, with the stage of each and what it is for; nothing is run."""
    from brenvik.cli import show_statements
    from brenvik.statements import statements_of

    with reading(project, env, wait) as (declared, store):
        found = statements_of(declared, table, store, feed=feed, dialect=dialect)
        show_statements.statements(declared, table, store.engine.dialect, dialect, found, json=json)


@rejects_app.command("list")
def rejects(
    table: Annotated[str | None, typer.Argument(help="Only rejects of this table.", metavar="[TABLE]")] = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """List the rows that were refused and are open, each with its reason and its whole content."""
    from brenvik.cli import show

    with reading(project, env, wait) as (declared, store):
        name = declared.table(table).rules.table if table else None
        rows = store.ledger.rejects(name).to_pylist() if store.ledger.exists() else []
    show.rejects(declared, rows, json=json)


@rejects_app.command()
def export(
    table: TableName,
    file: Annotated[Path, typer.Argument(help="A new file, of JSON Lines.", metavar="FILE")],
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Write the open rejects of a table to a file, to mend their rows there: a line each, with its reason and its row."""
    from brenvik.cli import show_past
    from brenvik.mending import export_rejects

    with reading(project, env, wait) as (declared, store):
        count = export_rejects(store.ledger, declared.table(table).rules.table, file)
    show_past.exported(declared, table, file, count, json=json)


@held_app.callback(invoke_without_command=True)
def held(
    context: typer.Context,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """List the deletes that wait for a person, each with the row it would end, who told it, and since when."""
    if context.invoked_subcommand:
        return
    from brenvik.cli import show_past

    with reading(project, env, wait) as (declared, store):
        found = {}
        for name, table in declared.tables.items():
            if table.rules.deletes == "hold" and store.ledger.exists() and store.ledger.state(name):
                found[name] = store.held(table.rules).to_pylist()
        show_past.held(declared, found, json=json)


@app.command()
def history(
    table: TableName,
    key: Annotated[list[str], typer.Argument(help="The key; for several columns COLUMN=VALUE each.", metavar="KEY...")],
    changes: Annotated[
        bool, typer.Option("--changes", help="Every change ever kept of it, in order of arrival, and what it did.")
    ] = False,
    known_at: Known = None,
    without: Without = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show all versions of one key on a time line, and what changed between them."""
    from brenvik.cli import show_history, show_past

    if changes and (known_at is not None or without):
        raise wrong("--changes tells all that ever arrived; --known-at and --without do not go with it")
    with reading(project, env, wait) as (declared, store):
        rules = declared.table(table).rules
        wanted = key_of(rules.natural_key, key)
        if changes:
            told = store.story(rules, wanted)
            show_past.story(declared, rules, wanted, told, json=json)
            raise typer.Exit(DONE if told else FAILED)
        rows = store.history(rules, wanted, known_at=known_at, without=without or ()).to_pylist()
    past = show_past.in_words(known_at, without)
    show_history.history(declared, rules, wanted, rows, past=past, json=json)
    raise typer.Exit(DONE if rows else FAILED)


@app.command("as-of")
def as_of(
    table: TableName,
    when: Annotated[str, typer.Argument(help="A moment, a day (its first moment) or a number.", metavar="WHEN")],
    limit: Annotated[int, typer.Option("--limit", help="How many rows to show.", min=1)] = 40,
    known_at: Known = None,
    without: Without = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show the rows that held at a moment."""
    from brenvik.cli import show_history, show_past
    from brenvik.errors import StoreError

    with reading(project, env, wait) as (declared, store):
        rules = declared.table(table).rules
        if not (store.ledger.exists() and store.ledger.state(rules.table)):
            raise StoreError(
                f"Table {table!r} has not been loaded yet, so no rows hold at any time: brenvik load {table}"
            )
        rows = store.as_of(rules, when, known_at=known_at, without=without or ())
    past = show_past.in_words(known_at, without)
    show_history.as_of(declared, rules, when, rows, past=past, limit=limit, json=json)
