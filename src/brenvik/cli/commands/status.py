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
from brenvik.cli.exits import DONE, REFUSED, TEMPORARY


@app.command()
def status(
    tables: Tables = None,
    group: Group = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show how each table is: its last good run, how far it is behind, and what someone should look at.

    Ends with 4 when any table needs attention: it is overdue (expected_every), runs failed or were refused since its last good
    one, rejects or deletes wait, a protected value was tampered with, or files will never be taken. Ends with 5 when a source
    cannot be reached.
    """
    from brenvik.cli.render.status import show_status
    from brenvik.project.status import status_of

    with reading(project, env, wait) as (declared, store):
        found = status_of(declared, store, declared.chosen(tables, group=group))
    attention, down = any(each.needs_attention for each in found), any(each.errors for each in found)
    code = REFUSED if attention else TEMPORARY if down else DONE
    show_status(declared, found, code, json=json)
    raise typer.Exit(code)
