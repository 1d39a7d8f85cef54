"""brenvik sql."""

from __future__ import annotations

from typing import Annotated

import typer

from brenvik.cli.app import (
    HERE,
    Environment,
    FeedName,
    Json,
    ProjectFile,
    TableName,
    Wait,
    app,
    reading,
)


@app.command()
def sql(
    table: TableName,
    feed: FeedName = None,
    dialect: Annotated[
        str | None, typer.Option("--dialect", help="Another SQL dialect than the store's.", metavar="NAME")
    ] = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Print the SQL statements of a load in order, each with its stage and purpose; nothing is run."""
    from brenvik.cli.render.sql import show_statements
    from brenvik.project.statements import statements_of

    with reading(project, env, wait) as (declared, store):
        found = statements_of(declared, table, store, feed=feed, dialect=dialect)
        show_statements(declared, table, store.engine.dialect, dialect, found, json=json)
