"""brenvik erase."""

from __future__ import annotations

import sys

import typer

from brenvik.cli.app import (
    HERE,
    Environment,
    Json,
    KeyValues,
    Preview,
    ProjectFile,
    Reason,
    TableName,
    Wait,
    Yes,
    app,
    key_of,
    opened,
    read,
)
from brenvik.cli.exits import BLOCKED


@app.command()
def erase(
    table: TableName,
    key: KeyValues,
    reason: Reason = None,
    preview: Preview = False,
    yes: Yes = False,
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
        wanted = key_of(rules.natural_key, key)
        if not (preview or yes):
            if not sys.stdin.isatty():
                raise DeclarationError("There is no terminal to ask for confirmation; use --yes to erase without it.")
            show_erased(declared, rules, store.erase(rules, wanted, preview=True), json=False)
            if not typer.confirm("  Erase it?", default=False):
                raise typer.Exit(BLOCKED)
        outcome = store.erase(rules, wanted, reason=reason, preview=preview, wait_s=wait)
    show_erased(declared, rules, outcome, json=json)
