"""brenvik check."""

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
    reading,
)
from brenvik.cli.exits import BLOCKED, DONE, WRONG_CALL


@app.command()
def check(
    tables: Tables = None,
    rights: Annotated[
        bool, typer.Option("--rights", help="Check only the user's rights in the store, and list what must be granted.")
    ] = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Check the project, its feeds and its tables against each other, and list what each column is.

    For an existing table that is not in the ledger, list what must be fixed before it can be adopted. Exit code 2: a table
    cannot be loaded as declared; 4: it can, but something needs attention first.
    """
    from brenvik.cli.render.check import show_findings, show_rights
    from brenvik.project.check import check_rights, check_table

    with reading(project, env, wait) as (declared, store):
        if rights:
            missing = check_rights(declared, store, tables)
            show_rights(declared, store.address, missing, json=json)
            raise typer.Exit(WRONG_CALL if missing else DONE)
        findings = [check_table(declared, name, store) for name in tables or declared.tables]
    show_findings(declared, findings, json=json)
    if any(finding.faults for finding in findings):
        raise typer.Exit(WRONG_CALL)
    raise typer.Exit(BLOCKED if any(finding.attention for finding in findings) else DONE)
