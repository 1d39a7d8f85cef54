"""brenvik compact."""

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
def compact(
    tables: Tables = None,
    keep: Annotated[
        str, typer.Option("--keep", help="Keep snapshots younger than this.", metavar="DURATION")
    ] = "7 days",
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Compact the files of a lakehouse: merge small files, apply deletions, expire old snapshots, remove unused files.

    The rows of the tables, the runs and the watermarks stay the same.
    """
    from brenvik.cli.render.files import show_compacted

    declared = read(project, env)
    rules = [declared.table(name).rules for name in tables or declared.tables]
    with opened(declared, read_only=False, wait_s=wait) as store:
        done = store.compact(*rules, keep=keep, wait_s=wait)
        show_compacted(declared, store.engine.address, done, json=json)
