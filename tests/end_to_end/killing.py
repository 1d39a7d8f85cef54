"""Runs commands in processes that can be killed at a chosen statement.

As a script it runs them in forks (see ``forking``), and also tells what they do, statement by statement.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from forking import serve, tell


def _tell_each_statement() -> None:
    """Has every kind of store tell each statement before it runs, by what it is for."""
    from brenvik.engines.duckdb.engine import DuckDBEngine
    from brenvik.engines.lakehouse import compaction, files, snapshots
    from brenvik.engines.lakehouse.lake import Lake
    from brenvik.engines.postgres.engine import PostgresEngine
    from brenvik.engines.sqlite.engine import SQLiteEngine

    for engine in (DuckDBEngine, PostgresEngine, SQLiteEngine):
        _have_told(engine)
    for module, name, what in (
        (files, "write_rows", "writing files"),
        (files, "write_positions", "writing files"),
        (snapshots, "write_manifest_list", "writing files"),
        (Lake, "_commit", "committing"),
        (Lake, "_make", "committing"),
        (Lake, "drop_snapshots", "committing"),
        (compaction, "sweep", "taking files away"),
    ):
        _have_step_told(module, name, what)
    snapshots.write_rows, snapshots.write_positions = files.write_rows, files.write_positions


def _have_step_told(where: Any, name: str, what: str) -> None:
    """Has a lakehouse tell when it writes files and their metadata, when it commits a table, and what it does afterwards."""
    step = getattr(where, name)

    def told(*words: Any, **more: Any) -> Any:
        of_ledger = what == "committing" and words[1].identifier[1] == "ledger"
        tell("statement", "writing" if of_ledger else what)
        return step(*words, **more)

    setattr(where, name, told)


def _have_told(engine: Any) -> None:
    name = "execute" if engine.__name__ == "DuckDBEngine" else "_execute"
    run, stage, transaction = getattr(engine, name), engine.stage, engine.transaction

    def told_run(self: Any, statement: str, values: Any = None) -> Any:
        work = '"brenvik_w' in statement.partition(" AS ")[0]
        tell("statement", "working out" if work else "committing" if statement == "COMMIT" else "writing")
        return run(self, statement, values)

    def told_stage(self: Any, *words: Any, **more: Any) -> None:
        tell("statement", "staging")
        stage(self, *words, **more)

    @contextmanager
    def told_transaction(self: Any, of: Any = None) -> Iterator[None]:
        with transaction(self, of):
            yield
            tell("statement", "finishing" if self.address.startswith("lakehouse:") else "committing")

    setattr(engine, name, told_run)
    engine.stage = told_stage
    if engine.__name__ == "DuckDBEngine":  # the others say COMMIT
        engine.transaction = told_transaction


def _call(call: dict[str, Any]) -> int:
    from brenvik.cli.main import main

    os.chdir(call["folder"])
    sys.argv = ["brenvik", *call["words"]]
    sys.stdout = sys.stderr = os.fdopen(os.open(os.devnull, os.O_WRONLY), "w")
    _tell_each_statement()
    try:
        main()
    except SystemExit as error:
        return int(error.code or 0)
    return 0


def _kill(child: int) -> None:
    with suppress(ProcessLookupError):  # it came to its end by itself, and is done
        os.kill(child, signal.SIGKILL)


class Caller:
    """The other end: calls a command, and kills it or lets it run."""

    def __init__(self) -> None:
        self._process = subprocess.Popen(
            [sys.executable, __file__], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )

    def call(
        self,
        *words: str,
        cwd: Path,
        kill_at: int | None = None,
        after_s: float = 0.0,
        kill: Callable[[int], None] = _kill,
    ) -> tuple[int, list[str]]:
        """Runs a command; kills it (or whatever ``kill`` does) ``after_s`` seconds into its statement number ``kill_at``, from 0.

        Returns its exit code (-9 when it was killed) and what its statements were for.
        """
        assert self._process.stdin
        assert self._process.stdout
        self._process.stdin.write(json.dumps({"words": words, "folder": str(cwd)}) + "\n")
        self._process.stdin.flush()
        told: list[str] = []
        child = 0
        for line in self._process.stdout:
            what, _, rest = line.strip().partition(" ")
            if what == "began":
                child = int(rest)
            elif what == "statement":
                told.append(rest)
                if len(told) - 1 == kill_at:
                    time.sleep(after_s)
                    kill(child)
            elif what == "ended":
                return int(rest), told
        raise AssertionError("the process that runs the commands has died")

    def close(self) -> None:
        with self._process:  # closes its pipes and waits for its end
            self._process.kill()


if __name__ == "__main__":
    serve(_call)
