"""What each stage makes of what it gets, and the statements by which it does: see README.md."""

from __future__ import annotations

import itertools
import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest
from recording import CASES, OTHER_STORES, cases, difference, record
from stores import fresh_store

import brenvik
from brenvik.engines.duckdb.engine import DuckDBEngine
from counts import STORES
from servers import fresh_database


def check(written: dict[str, str]) -> None:
    """Compares texts with the files of these names; or writes them, when it is asked to."""
    if os.environ.get("RECORD"):
        for name, text in written.items():
            (CASES / name).write_text(text, encoding="utf-8")
        pytest.skip("written down, not compared")
    for name, text in written.items():
        assert text == (CASES / name).read_text(encoding="utf-8")


@contextmanager
def empty_store(kind: str) -> Iterator[brenvik.Store]:
    """A store that no other test has to do with."""
    if kind == "postgres":
        with fresh_database() as url, brenvik.open_store(url) as store:
            yield store
    else:
        with fresh_store(kind) as store:
            yield store


@pytest.mark.parametrize("name", cases())
def test_each_stage_makes_the_rows_that_are_written_down(name: str) -> None:
    with fresh_store("duckdb") as store:
        made = record(name, store)
    check({f"{name}.rows.txt": made.rows, f"{name}.sql": made.sql})


@pytest.mark.parametrize("kind", [kind for kind in OTHER_STORES if kind in STORES])
@pytest.mark.parametrize("name", cases())
def test_another_store_runs_the_statements_that_are_written_down(name: str, kind: str) -> None:
    with empty_store(kind) as store:
        made = record(name, store)
    ours = (CASES / f"{name}.sql").read_text(encoding="utf-8")
    check({f"{name}.{kind}.diff": difference(ours, made.sql)})


@pytest.mark.skipif("sqlite" not in STORES, reason="this store is left out")
def test_sqlite_gets_the_statements_in_its_own_language() -> None:
    """The other stores read them as they are."""
    statements = (CASES / "history.sql").read_text(encoding="utf-8").partition("-- Run 4")[0].strip().split("\n\n")
    with fresh_store("sqlite") as store:
        translated = [
            store.engine.statement(each.strip().removesuffix(";"), pretty=True)
            for each in statements
            if not (each.startswith("--") or "AS -- in DuckDB" in each)
        ]
    check({"history.sqlite.sql": ";\n\n".join(translated) + ";\n"})


CHANGES = re.compile(r'\s*(INSERT INTO|UPDATE|DELETE FROM|TRUNCATE|ALTER TABLE|MERGE INTO)\s+"brenvik_w', re.IGNORECASE)


@pytest.mark.parametrize("name", cases())
def test_no_relation_changes_after_it_was_made(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """In DuckDB, to which no rows are brought by INSERT, no statement changes a working relation, and none is made twice."""
    ran: list[str] = []
    execute = DuckDBEngine.execute

    def watched(self: Any, statement: str, values: Any = None) -> int:
        ran.extend(statement.split(";"))
        return execute(self, statement, values)

    prefixes = (f"brenvik_w{number}_" for number in itertools.count(1))  # else a run takes that of an earlier one
    monkeypatch.setattr(DuckDBEngine, "reserve", lambda self: next(prefixes))
    monkeypatch.setattr(DuckDBEngine, "execute", watched)
    with fresh_store("duckdb") as store:
        record(name, store)
    made = [found[1] for text in ran if (found := re.match(r'\s*CREATE TEMP (?:TABLE|VIEW) ("brenvik_w\w+")', text))]
    assert len(made) > 5
    assert len(made) == len(set(made))
    assert not [text for text in ran if CHANGES.match(text)]
