"""brenvik rebuild."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Literal

import typer

from brenvik.cli.app import (
    HERE,
    Environment,
    Json,
    Preview,
    ProjectFile,
    TableName,
    Wait,
    app,
    opened,
    read,
)


class Unlogged(StrEnum):
    keep = "keep"
    remove = "remove"


@app.command()
def rebuild(
    table: TableName,
    preview: Preview = False,
    drop_columns: Annotated[
        bool, typer.Option("--drop-columns", help="Drop columns that the rules now exclude.")
    ] = False,
    unlogged: Annotated[
        Unlogged | None,
        typer.Option("--unlogged", help="What to do with rows that have no change in the log.", show_default=False),
    ] = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Recompute a table from its change log under the current rules; only rows that differ are written."""
    from brenvik.cli.render.recomputed import show_recomputed

    declared = read(project, env)
    rules = declared.table(table).rules
    with opened(declared, read_only=preview, wait_s=wait) as store:
        chosen: Literal["keep", "remove"] | None = unlogged.value if unlogged else None
        outcome = store.rebuild(rules, preview=preview, drop_columns=drop_columns, unlogged=chosen, wait_s=wait)
    show_recomputed(declared, rules, outcome, json=json)
