"""brenvik tidy."""

from __future__ import annotations

from typing import Annotated

import typer

from brenvik.cli.app import (
    HERE,
    Environment,
    Json,
    ProjectFile,
    Tables,
    Wait,
    app,
    opened,
    read,
)


@app.command()
def tidy(
    tables: Tables = None,
    keep: Annotated[str, typer.Option("--keep", help="Snapshots younger than this stay.", metavar="SPAN")] = "7 days",
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Put the files of a lakehouse in order: fewer and larger ones, without rows that are gone; what nobody needs is taken away.

    The rows stay the same for every reader, and so do runs and watermarks.
    """
    from brenvik.cli.render.files import show_tidied

    declared = read(project, env)
    rules = [declared.table(name).rules for name in tables or declared.tables]
    with opened(declared, read_only=False, wait_s=wait) as store:
        done = store.tidy(*rules, keep=keep, wait_s=wait)
        show_tidied(declared, store.engine.address, done, json=json)
