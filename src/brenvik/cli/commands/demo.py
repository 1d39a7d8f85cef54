"""brenvik demo."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from brenvik.cli.app import app


@app.command()
def demo(
    folder: Annotated[
        Path,
        typer.Argument(help="Where to create it: an empty folder, or one that does not exist.", metavar="FOLDER"),
    ] = Path("brenvik-demo"),
    rows: Annotated[
        int | None, typer.Option("--rows", help="Run at scale with this many changes.", metavar="N", min=1000)
    ] = None,
    store: Annotated[
        str | None,
        typer.Option(
            "--store",
            help="Where its tables live, as in sqlite:coast.db or lakehouse:coast; by default a DuckDB file.",
            metavar="ADDRESS",
        ),
    ] = None,
) -> None:
    """Four days with the buoys of Halvorsund, step by step; with --rows, at the scale of a warehouse."""
    from brenvik.demo import tour

    tour.run(folder, store=store) if rows is None else tour.run_at_scale(folder, rows, store=store)
