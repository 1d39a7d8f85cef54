"""brenvik status."""

from __future__ import annotations

import typer

from brenvik.cli.app import (
    HERE,
    Environment,
    Group,
    Json,
    ProjectFile,
    Tables,
    Wait,
    app,
    reading,
)
from brenvik.cli.exits import BLOCKED, DONE, TEMPORARY


@app.command()
def status(
    tables: Tables = None,
    group: Group = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show the state of each table: its last successful run, how far it is behind, and what needs attention.

    Exit code 4: a table needs attention, because it is overdue (expected_every), runs failed or were blocked since its last
    successful one, rejects are open, deletes are pending, a protected value changed in the source, or files will never be
    loaded. Exit code 5: a source cannot be reached.
    """
    from brenvik.cli.render.status import show_status
    from brenvik.project.status import status_of

    with reading(project, env, wait) as (declared, store):
        found = status_of(declared, store, declared.chosen(tables, group=group))
    attention, down = any(each.needs_attention for each in found), any(each.errors for each in found)
    code = BLOCKED if attention else TEMPORARY if down else DONE
    show_status(declared, found, code, json=json)
    raise typer.Exit(code)
