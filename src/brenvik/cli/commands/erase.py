"""brenvik erase."""

from __future__ import annotations

import sys
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
    key_of,
    opened,
    read,
)
from brenvik.cli.exits import BLOCKED


@app.command()
def erase(
    table: TableName,
    key: Annotated[
        list[str], typer.Argument(help="The key; if it has several columns, COLUMN=VALUE for each.", metavar="KEY")
    ],
    reason: Reason = None,
    preview: Preview = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask for confirmation.")] = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Erase a key for good: its rows, changes and rejects, and what files of the store have left of them. Asks for confirmation.

    Its rows are ignored from then on, also when they are loaded again; revert allows them.
    """
    from brenvik.cli.render.erase import show_erased
    from brenvik.errors import DeclarationError

    declared = read(project, env)
    with opened(declared, read_only=preview, wait_s=wait) as store:
        rules = declared.table(table).rules
        if not (reason or preview):
            raise DeclarationError(
                "Give a reason for those who come after you: --reason TEXT. To look first: --preview"
            )
        wanted = key_of(rules.natural_key, key) if rules.natural_key else key[0]
        if not (preview or yes):
            if not sys.stdin.isatty():
                raise DeclarationError("There is no terminal to ask for confirmation; use --yes to erase without it.")
            show_erased(declared, rules, store.erase(rules, wanted, preview=True), json=False)
            if not typer.confirm("  Erase it?", default=False):
                raise typer.Exit(BLOCKED)
        outcome = store.erase(rules, wanted, reason=reason, preview=preview, wait_s=wait)
    show_erased(declared, rules, outcome, json=json)
