"""brenvik rejects."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from brenvik.cli.app import (
    HERE,
    All,
    Environment,
    Json,
    Preview,
    ProjectFile,
    Reason,
    TableName,
    Wait,
    opened,
    read,
    reading,
    rejects_app,
    wrong,
)
from brenvik.cli.exits import gravest


@rejects_app.command("list")
def rejects(
    table: Annotated[str | None, typer.Argument(help="Only rejects of this table.", metavar="[TABLE]")] = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """List the rows that were refused and are open, each with its reason and its whole content."""
    from brenvik.cli.render.rejects import show_rejects

    with reading(project, env, wait) as (declared, store):
        name = declared.table(table).rules.table if table else None
        rows = store.ledger.rejects(name).to_pylist() if store.ledger.exists() else []
    show_rejects(declared, rows, json=json)


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
    from brenvik.cli.render.rejects import show_export
    from brenvik.project.rejects import export_rejects

    with reading(project, env, wait) as (declared, store):
        count = export_rejects(store.ledger, declared.table(table).rules.table, file)
    show_export(declared, table, file, count, json=json)


@rejects_app.command()
def retake(
    table: TableName,
    file: Annotated[
        Path | None, typer.Argument(help="An exported file with mended rows; else all open rejects.", metavar="[FILE]")
    ] = None,
    preview: Preview = False,
    accept_rejects: Annotated[
        bool, typer.Option("--accept-rejects", help="End with 0 when rows were rejected again or held.")
    ] = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Take rejects again: as they are, after the rules were mended, or as they stand in a file. Ends as load does."""
    from brenvik.cli.render.load import show_loads
    from brenvik.cli.render.preview import show_previews
    from brenvik.project.rejects import retake as take_again

    declared = read(project, env)
    with opened(declared, read_only=preview, wait_s=wait) as store:
        outcomes = take_again(declared, store, table, file, preview=preview, wait_s=wait)
        code = gravest(outcomes, accept_rejects=accept_rejects or preview)
        if preview:
            show_previews(
                declared, outcomes, everything=True, json=json, do_it=f"rejects retake {table} {file or ''}".rstrip()
            )
        else:
            show_loads(declared, outcomes, code, json=json)
    raise typer.Exit(code)


@rejects_app.command("drop")
def drop_rejects(
    table: TableName,
    numbers: Annotated[
        list[int] | None, typer.Argument(help="Their numbers: brenvik rejects", metavar="[NUMBER]...")
    ] = None,
    everything: All = False,
    reason: Reason = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Put rejects away for good: they are open no more, and their rows stay in the ledger; entered as a run."""
    from brenvik.cli.render.rejects import show_drop
    from brenvik.project.rejects import drop_rejects as put_away

    if bool(numbers) == everything:
        raise wrong("Say which: their numbers (brenvik rejects), or --all.")
    declared = read(project, env)
    with opened(declared, read_only=False, wait_s=wait) as store:
        outcome = put_away(store.ledger, declared.table(table).rules, numbers or None, reason=reason, wait_s=wait)
    show_drop(declared, outcome, json=json)
