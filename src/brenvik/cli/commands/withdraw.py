"""brenvik withdraw."""

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
def withdraw(
    runs: Annotated[list[int], typer.Argument(help="The runs to take back.", metavar="RUN...")],
    reason: Reason = None,
    put_back: Annotated[bool, typer.Option("--put-back", help="Put withdrawn runs back instead.")] = False,
    preview: Preview = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Take runs back, also when later ones came since: the table becomes what it would be without them.

    Watermarks and taken files stay: load --again RUN takes what a run took anew.
    """
    from brenvik.cli.render.recomputed import show_recomputed
    from brenvik.errors import DeclarationError

    declared = read(project, env)
    with opened(declared, read_only=preview, wait_s=wait) as store:
        rows = {number: store.ledger.run(number) for number in runs}
        if unknown := [str(number) for number, row in rows.items() if row is None]:
            raise DeclarationError(f"There is no run {', '.join(unknown)}: brenvik runs")
        if not (reason or put_back or preview):
            raise DeclarationError("Say why, for those who come after you: --reason TEXT. To look first: --preview")
        tables = {row["table_name"] for row in rows.values() if row}
        if len(tables) > 1:
            raise DeclarationError(
                f"These runs are of several tables ({', '.join(sorted(tables))}); withdraw them apart."
            )
        rules = declared.table(tables.pop()).rules
        outcome = store.withdraw(rules, *runs, reason=reason, put_back=put_back, preview=preview, wait_s=wait)
    show_recomputed(declared, rules, outcome, json=json)
