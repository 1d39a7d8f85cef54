"""brenvik watermarks."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from brenvik.cli.app import (
    HERE,
    Environment,
    FeedName,
    Json,
    ProjectFile,
    Reason,
    TableName,
    Wait,
    Yes,
    opened,
    read,
    reading,
    watermarks_app,
)
from brenvik.cli.exits import BLOCKED, DONE, TEMPORARY


@watermarks_app.callback(invoke_without_command=True)
def watermarks(
    context: typer.Context,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show how far each feed has been loaded, what is waiting in it and for how long, and what the next load will read.

    Exit code 5: a source cannot be reached.
    """
    if context.invoked_subcommand:
        return
    from brenvik.cli.render.watermarks import show_watermarks
    from brenvik.project.status import how_far

    with reading(project, env, wait) as (declared, store):
        found = how_far(declared, store, *declared.tables.values())
    show_watermarks(declared, found, json=json)
    raise typer.Exit(TEMPORARY if any(entry.error for entry in found) else DONE)


@watermarks_app.command("set")
def set_watermark(
    table: TableName,
    feed: FeedName = None,
    to: Annotated[str | None, typer.Option("--to", help="The new watermark.", metavar="VALUE")] = None,
    by: Annotated[
        str | None, typer.Option("--back", help='How far to move it back, as in "2 days".', metavar="DURATION")
    ] = None,
    reason: Reason = None,
    yes: Yes = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Move a watermark forward or back. Asks for confirmation; recorded as a run."""
    from brenvik.cli.render.watermarks import show_move, show_moved
    from brenvik.errors import DeclarationError
    from brenvik.project.status import plan_move
    from brenvik.project.status import set_watermark as carry_out

    declared = read(project, env)
    with opened(declared, read_only=False, wait_s=wait) as store:
        move = plan_move(declared, store, table, feed, to=to, by=by)
        if not yes:
            if not sys.stdin.isatty():
                raise DeclarationError(
                    "There is no terminal to ask for confirmation; use --yes to move the watermark without it."
                )
            show_move(declared, move)
            if not typer.confirm("  Move it?", default=False):
                raise typer.Exit(BLOCKED)
        run = carry_out(store.ledger, move, reason=reason, wait_s=wait)
    show_moved(declared, move, run, json=json)
