"""brenvik new."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from brenvik.cli.app import HERE, ProjectFile, app


@app.command()
def new(
    file: Annotated[
        Path, typer.Argument(help="A file of the feed (CSV, JSON Lines, Parquet or Excel).", metavar="FILE")
    ],
    table: Annotated[
        str | None, typer.Option("--table", help="The name of the table; by default from the file name.")
    ] = None,
    project: ProjectFile = HERE,
    show_only: Annotated[bool, typer.Option("--print", help="Print the declaration without writing it.")] = False,
) -> None:
    """Propose a table for a file: write its declaration, with comments on what was found."""
    from brenvik.cli.render.proposal import show_proposal
    from brenvik.project.propose import propose

    proposal = propose(file, table=table, project=project)
    if not show_only:
        proposal.write()
    show_proposal(proposal, written=not show_only)
