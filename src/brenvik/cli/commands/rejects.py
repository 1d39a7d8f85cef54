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
from brenvik.cli.exits import most_severe


@rejects_app.command("list")
def rejects(
    table: Annotated[str | None, typer.Argument(help="Only the rejects of this table.", metavar="TABLE")] = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """List the open rejects, each with its reason and the whole row."""
    from brenvik.cli.render.rejects import show_rejects

    with reading(project, env, wait) as (declared, store):
        name = declared.table(table).rules.table if table else None
        rows = store.ledger.rejects(name).to_pylist() if store.ledger.exists() else []
    show_rejects(declared, rows, json=json)


@rejects_app.command()
def export(
    table: TableName,
    file: Annotated[Path, typer.Argument(help="A new JSON Lines file.", metavar="FILE")],
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Export the open rejects of a table to a file where the rows can be fixed: one line each, with its reason and row."""
    from brenvik.cli.render.rejects import show_export
    from brenvik.project.rejects import export_rejects

    with reading(project, env, wait) as (declared, store):
        count = export_rejects(store.ledger, declared.table(table).rules.table, file)
    show_export(declared, table, file, count, json=json)


@rejects_app.command()
def retry(
    table: TableName,
    file: Annotated[
        Path | None,
        typer.Argument(help="An exported file with fixed rows; by default all open rejects.", metavar="FILE"),
    ] = None,
    preview: Preview = False,
    accept_rejects: Annotated[
        bool,
        typer.Option("--accept-rejects", help="Exit with 0 even if rows were rejected again or deletes are pending."),
    ] = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Retry rejects: as they are, after the rules were fixed, or with the rows of a file. Exit codes as for load."""
    from brenvik.cli.render.load import show_loads
    from brenvik.cli.render.preview import show_previews
    from brenvik.project.rejects import retry as retry_rejects

    declared = read(project, env)
    with opened(declared, read_only=preview, wait_s=wait) as store:
        outcomes = retry_rejects(declared, store, table, file, preview=preview, wait_s=wait)
        code = most_severe(outcomes, accept_rejects=accept_rejects or preview)
        if preview:
            show_previews(
                declared, outcomes, everything=True, json=json, do_it=f"rejects retry {table} {file or ''}".rstrip()
            )
        else:
            show_loads(declared, outcomes, code, json=json)
    raise typer.Exit(code)


@rejects_app.command("discard")
def discard_rejects(
    table: TableName,
    numbers: Annotated[
        list[int] | None, typer.Argument(help="Their numbers, as listed by: brenvik rejects", metavar="NUMBER")
    ] = None,
    everything: All = False,
    reason: Reason = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Discard rejects for good: they are closed, and their rows stay in the ledger. Recorded as a run."""
    from brenvik.cli.render.rejects import show_discarded
    from brenvik.runs.rejects import discard_rejects as discard_them

    if bool(numbers) == everything:
        raise wrong("Name the rejects by number (see brenvik rejects), or use --all.")
    declared = read(project, env)
    with opened(declared, read_only=False, wait_s=wait) as store:
        outcome = discard_them(store.ledger, declared.table(table).rules, numbers or None, reason=reason, wait_s=wait)
    show_discarded(declared, outcome, json=json)
