"""brenvik revert."""

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
    Wait,
    app,
    opened,
    read,
)


@app.command()
def revert(
    runs: Annotated[list[int], typer.Argument(help="The runs to revert.", metavar="RUN")],
    reason: Reason = None,
    undo: Annotated[bool, typer.Option("--undo", help="Restore reverted runs.")] = False,
    preview: Preview = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Revert runs, even if later ones followed: the table becomes what it would be without them.

    Watermarks and loaded files stay as they are; load --again RUN loads what a run loaded again.
    """
    from brenvik.cli.render.recomputed import show_recomputed
    from brenvik.errors import DeclarationError

    declared = read(project, env)
    with opened(declared, read_only=preview, wait_s=wait) as store:
        rows = {number: store.ledger.run(number) for number in runs}
        if unknown := [str(number) for number, row in rows.items() if row is None]:
            raise DeclarationError(f"There is no run {', '.join(unknown)}: brenvik runs")
        if not (reason or undo or preview):
            raise DeclarationError(
                "Give a reason for those who come after you: --reason TEXT. To look first: --preview"
            )
        tables = {row["table_name"] for row in rows.values() if row}
        if len(tables) > 1:
            raise DeclarationError(
                f"These runs belong to several tables ({', '.join(sorted(tables))}); revert them table by table."
            )
        rules = declared.table(tables.pop()).rules
        outcome = store.revert(rules, *runs, reason=reason, undo=undo, preview=preview, wait_s=wait)
        if readers := declared.tables_that_read(rules.table, store):
            outcome.notes.append(f"What {', '.join(readers)} loaded from {rules.table} stays.")
    show_recomputed(declared, rules, outcome, json=json)
