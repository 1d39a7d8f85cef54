"""Runs commands in forks of a process that has imported what they need: else most of the time of a test goes to imports.

The process reads a call per line from its input, as JSON, and tells ``began`` with the number of the process that carries it out,
and ``ended`` with its exit code. The two have nothing else in common: no store was opened, and no thread was started. What is
read from the environment when it is imported (pyiceberg's configuration) is what it was when the process began.
"""

from __future__ import annotations

import atexit
import importlib
import io
import json
import os
import pkgutil
import sys
import traceback
from collections.abc import Callable
from typing import Any


def tell(*words: object) -> None:
    os.write(1, (" ".join(map(str, words)) + "\n").encode())


def serve(carry_out: Callable[[dict[str, Any]], int]) -> None:
    """Carries out the calls, each in a process of its own, until there are no more."""
    import brenvik

    for module in pkgutil.walk_packages(brenvik.__path__, "brenvik."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    for name in ("pandas", "pyarrow.parquet", "sqlalchemy.dialects.sqlite", "rich.table", "concurrent.futures"):
        importlib.import_module(name)
    for line in sys.stdin:
        child = os.fork()
        if child == 0:
            os._exit(carry_out(json.loads(line)))
        tell("began", child)
        _, status = os.waitpid(child, 0)
        tell("ended", os.waitstatus_to_exitcode(status))


def run(call: dict[str, Any]) -> int:
    """Runs a command as the installed program would; what it prints goes to two files."""
    os.chdir(call["folder"])
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
    serve(run)
