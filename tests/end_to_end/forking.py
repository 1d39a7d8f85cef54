"""A process that has imported what a command needs, and forks one for each call: else most of a test's time is spent on imports.

It reads a call per line from its input, as JSON, and answers with the exit code of the process that ran the command. The
processes have nothing else in common with it: no store was opened, and no thread was started. What depends on the environment
when it is imported (pyiceberg's configuration) is not imported here.
"""

from __future__ import annotations

import atexit
import io
import json
import os
import sys
import traceback
from importlib import import_module
from typing import Any

NEEDED = (
    *("duckdb", "numpy", "psycopg", "pyarrow.compute", "pyarrow.csv", "sqlalchemy", "sqlglot"),
    *("engines.duckdb.engine", "engines.sqlite.engine", "feeds.databases", "feeds.files", "feeds.csv", "project.check"),
    *("project.project", "project.status", "cli.main"),
)


def run(call: dict[str, Any]) -> int:
    """Runs one command in this process, as the installed program would."""
    os.chdir(call["cwd"])
    os.environ.clear()
    os.environ.update(call["environment"])
    for number, path in ((0, os.devnull), (1, call["out"]), (2, call["err"])):
        opened = os.open(path, os.O_RDONLY if number == 0 else os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        os.dup2(opened, number)
        os.close(opened)
    sys.stdin = io.TextIOWrapper(io.BufferedReader(io.FileIO(0, closefd=False)), encoding="utf-8")
    sys.stdout, sys.stderr = (
        io.TextIOWrapper(io.BufferedWriter(io.FileIO(number, "w", closefd=False)), encoding="utf-8", errors=errors)
        for number, errors in ((1, "strict"), (2, "backslashreplace"))
    )
    sys.argv = call["words"]
    code: Any = 0
    try:
        sys.modules["brenvik.cli.main"].main()
    except SystemExit as end:
        code = end.code or 0
    except BaseException:
        traceback.print_exc()
        code = 1
    atexit._run_exitfuncs()
    sys.stdout.flush()
    sys.stderr.flush()
    return int(code)


if __name__ == "__main__":
    for name in NEEDED:
        import_module(name if "." not in name or name.startswith("pyarrow") else f"brenvik.{name}")
    for line in sys.stdin:
        asked = json.loads(line)
        child = os.fork()
        if not child:
            os._exit(run(asked))
        print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), flush=True)
