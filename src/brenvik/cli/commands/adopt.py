"""brenvik adopt."""

from __future__ import annotations

from typing import Annotated

import typer

from brenvik.cli.app import (
    HERE,
    Environment,
    Json,
    Preview,
    ProjectFile,
    Reason,
    TableName,
    Wait,
    app,
    opened,
    read,
)


@app.command()
def adopt(
    table: TableName,
    allow_changes: Annotated[
        int, typer.Option("--allow-changes", help="Allow this many rows to change.", min=0, metavar="N")
    ] = 0,
    reason: Reason = None,
    preview: Preview = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Take over an existing table: its versions are logged as changes of this run, and its surrogate keys are kept."""
    from brenvik.cli.render.recomputed import show_recomputed
    from brenvik.project.check import carried_by
    from brenvik.project.status import begin_watermarks
    from brenvik.runs.adopt import adopt as take_over

    declared = read(project, env)
    found = declared.table(table)
    with opened(declared, read_only=False, wait_s=wait) as store:
        outcome = take_over(
            store.ledger,
            found.rules,
            carried_by(declared, found, store),
            allow_changes=allow_changes,
            reason=reason,
            preview=preview,
            wait_s=wait,
        )
        outcome.notes += [] if preview else begin_watermarks(declared, store, found, wait_s=wait)
    show_recomputed(declared, found.rules, outcome, json=json)
