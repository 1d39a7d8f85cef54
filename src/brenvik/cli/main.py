"""The command line: all commands in the order of the help, and what becomes of an error."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Annotated

import typer

from brenvik.cli.call import HERE, ProjectFile, app, held_app, rejects_app, watermarks_app
from brenvik.cli.characters import visible
from brenvik.cli.exits import code_of


@app.callback(invoke_without_command=True)
def _root(
    context: typer.Context, version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False
) -> None:
    if version:
        from brenvik import __version__

        typer.echo(f"brenvik {__version__}")
        raise typer.Exit


@app.command()
def new(
    file: Annotated[Path, typer.Argument(help="A file of the feed (CSV, JSON Lines or Parquet).", metavar="FILE")],
    table: Annotated[str | None, typer.Option("--table", help="The table's name; else taken from the file's.")] = None,
    project: ProjectFile = HERE,
    show_only: Annotated[bool, typer.Option("--print", help="Print the declaration, write nothing.")] = False,
) -> None:
    """Look at a file and write the declaration of a table that fits it, with comments on what was found."""
    from brenvik.cli import show
    from brenvik.proposing import propose

    proposal = propose(file, table=table, project=project)
    if not show_only:
        proposal.write()
    show.proposal(proposal, written=not show_only)


@app.command()
def demo(
    folder: Annotated[
        Path, typer.Argument(help="Where to put it; an empty or missing folder.", metavar="[FOLDER]")
    ] = Path("brenvik-demo"),
    rows: Annotated[int | None, typer.Option("--rows", help="Run at scale, with this many changes.", min=1000)] = None,
    store: Annotated[
        str | None,
        typer.Option(
            "--store",
            help="Where its tables live, as in sqlite:coast.db or lakehouse:coast; else a DuckDB file.",
            metavar="ADDRESS",
        ),
    ] = None,
) -> None:
    """Four days of the buoys of Halvorsund, step by step; with --rows at the scale of a warehouse."""
    from brenvik.demo import tour

    tour.run(folder, store=store) if rows is None else tour.run_at_scale(folder, rows, store=store)


# The commands of these files come after ``new``, in the order of the help.
from brenvik.cli import loading, looking, changing  # noqa: E402, F401, I001

app.add_typer(watermarks_app, name="watermarks")
app.add_typer(rejects_app, name="rejects")
app.add_typer(held_app, name="held")


def _with_project_last(words: list[str]) -> list[str]:
    """The words of a call; what of them says which project, and stands before the command, comes last."""
    moved: list[str] = []
    while words and words[0].partition("=")[0] in ("--project", "--env"):
        size = 1 if "=" in words[0] else 2
        moved, words = [*moved, *words[:size]], words[size:]
    return [*words, *moved]


def main() -> None:
    """Runs a command; our own errors become a message and an exit code, a bug keeps its traceback."""
    sys.exit(_run())  # when the error is gone: what it holds on to would be told as leaked by the engine


def _run() -> int:
    from brenvik.errors import BrenvikError

    words = _with_project_last(sys.argv[1:])
    try:
        app(words, prog_name="brenvik")
    except BrenvikError as error:
        if "--json" in words:
            print(json.dumps({"exit": code_of(error), "error": str(error)}, ensure_ascii=False))
        print(f"brenvik: {visible(str(error))}", file=sys.stderr)
        for note in getattr(error, "__notes__", ()):
            print(f"  {visible(note)}", file=sys.stderr)
        return code_of(error)
    return 0


if __name__ == "__main__":
    main()
