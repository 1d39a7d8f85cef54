"""brenvik runs."""

from __future__ import annotations

from typing import Annotated

import typer

from brenvik.cli.app import (
    HERE,
    Environment,
    Json,
    ProjectFile,
    Wait,
    app,
    reading,
    wrong,
)


@app.command()
def runs(
    what: Annotated[
        str | None, typer.Argument(help="Only the runs of this table; or one run by number.", metavar="TABLE|RUN")
    ] = None,
    last: Annotated[int, typer.Option("--last", help="How many runs to list, newest first.", metavar="N", min=1)] = 20,
    rows: Annotated[bool, typer.Option("--rows", help="For one run: its decisions, row by row.")] = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """List the runs: what was read, what was done, how each ended; or show the decisions of one run, row by row."""
    from brenvik.cli.render.runs import files_of, show_run, show_runs

    one = int(what) if what and what.isdigit() else None
    if rows and one is None:
        raise wrong("--rows needs the number of a run: brenvik runs RUN --rows")
    with reading(project, env, wait) as (declared, store):
        if one is not None:
            run = store.ledger.run(one)
            if run is None:
                raise wrong(f"There is no run {one}: brenvik runs")
            decided = store.decisions(declared.table(run["table_name"]).rules, one).to_pylist() if rows else None
            its = declared.tables.get(run["table_name"])  # None for a table that is declared no more
            wrote = store.engine.written(its.rules.stored_as).get(one) if its else None
            taken_back_by = store.ledger.reverted(run["table_name"]).get(one)
            taken_back = store.ledger.run(taken_back_by) if taken_back_by is not None else None
            trimmed = store.ledger.trimmed(run["table_name"])
            is_trimmed = trimmed is not None and one <= trimmed.run
            show_run(declared, run | files_of(wrote), decided, reverted=taken_back, trimmed=is_trimmed, json=json)
            return
        name = declared.table(what).rules.table if what else None
        found = store.ledger.runs(name, last=last).to_pylist() if store.ledger.exists() else []
        reverted = {run: by for table in declared.tables for run, by in store.ledger.reverted(table).items()}
        names = {row["table_name"] for row in found} & {*declared.tables}
        by_table = {table: store.engine.written(declared.table(table).rules.stored_as) for table in names}
        found = [row | files_of(by_table.get(row["table_name"], {}).get(row["run"])) for row in found]
    show_runs(declared, found, reverted, json=json)
