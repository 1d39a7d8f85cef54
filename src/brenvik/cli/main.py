"""The command line: all commands in the order of the help, and what becomes of an error."""

from __future__ import annotations

import json
import sys
from typing import Annotated

import typer

from brenvik.cli.app import app, deletes_app, rejects_app, watermarks_app
from brenvik.cli.exits import code_of
from brenvik.cli.render.characters import visible


@app.callback(invoke_without_command=True)
def _root(
    context: typer.Context, version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False
) -> None:
    if version:
        from brenvik import __version__

        typer.echo(f"brenvik {__version__}")
        raise typer.Exit


# The modules of the commands, in the order of the help.
from brenvik.cli.commands import (  # noqa: E402, F401, I001
    new, demo, load, check, status, runs, sql, history, revert, rebuild, erase, trim, compact, relocate, upgrade, adopt,
    watermarks, rejects, deletes,
)  # fmt: skip

app.add_typer(watermarks_app, name="watermarks")
app.add_typer(rejects_app, name="rejects")
app.add_typer(deletes_app, name="deletes")


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
