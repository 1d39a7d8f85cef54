"""Calls of the library that do not fit are told in a sentence, and threads that share a store take turns."""

from __future__ import annotations

import inspect
import itertools
import threading
from collections.abc import Callable
from contextlib import suppress
from datetime import timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import brenvik
from brenvik.errors import BrenvikError, Busy, DeclarationError

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at")
FRAME = pa.table({"code": ["NB-1"], "at": [1], "light": ["Q"]})
WRONG: tuple[Any, ...] = (
    None, "x", "", b"x", 5, -1, 1.5, float("nan"), True, [], ["x"], {}, {"x": 1}, (), object(), timedelta(1),
)  # fmt: skip
CALLS: dict[str, dict[str, Any]] = {
    "load": {"rules": RULES, "rows": FRAME, "kind": "upserts"},
    "preview": {"rules": RULES, "rows": FRAME, "kind": "upserts"},
    "revert": {"rules": RULES},
    "pending_deletes": {"rules": RULES},
    "approve_deletes": {"rules": RULES, "every": True},
    "discard_deletes": {"rules": RULES, "every": True},
    "rebuild": {"rules": RULES},
    "adopt": {"rules": RULES},
    "decisions": {"rules": RULES, "run": 1},
    "change_log": {"rules": RULES, "key": "NB-1"},
    "read": {"rules": RULES},
    "history": {"rules": RULES, "key": "NB-1"},
    "as_of": {"rules": RULES, "when": 1},
    "compact": {},
}  # fmt: skip


@pytest.mark.parametrize("method", CALLS)
def test_no_value_of_a_wrong_kind_ends_in_anything_but_a_sentence(method: str) -> None:
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(RULES, FRAME, kind="upserts")
        ask: Callable[..., Any] = getattr(store, method)
        names = [name for name in inspect.signature(ask).parameters if name not in ("runs", "numbers")]
        tried = 0
        for name, value in itertools.product(names, WRONG):
            words = [value] if method == "compact" and name == "rules" else []
            given = {**CALLS[method], **({} if words else {name: value})}
            try:
                ask(*words, **given)
            except BrenvikError as error:
                tried += 1
                assert "object has no attribute" not in str(error)
        for value in WRONG if method in ("revert", "approve_deletes", "discard_deletes") else ():
            with pytest.raises(BrenvikError):
                ask(RULES, value)
        assert tried or method in ("pending_deletes",)
        assert store.read(RULES)["light"].to_pylist() == ["Q"]


def test_the_name_of_a_table_is_not_taken_for_its_rules() -> None:
    with (
        brenvik.open_store("duckdb::memory:") as store,
        pytest.raises(DeclarationError, match="rules: expected the TableRules of a table, got 'buoy'"),
    ):
        store.history("buoy", "1")  # type: ignore[arg-type]


@pytest.mark.parametrize("value", WRONG)
def test_no_wrong_value_opens_a_store_or_reads_a_project(value: Any) -> None:
    for name in ("address", "wait_s", "memory_limit", "read_only"):
        if name == "address" and isinstance(value, str) and value:
            continue
        with suppress(BrenvikError):
            brenvik.open_store(**{"address": "duckdb::memory:", name: value}).close()
    with pytest.raises(BrenvikError):
        brenvik.read_project(value if value is not None else 0)


@pytest.mark.parametrize("name", list(inspect.signature(brenvik.TableRules).parameters))
@pytest.mark.parametrize("value", WRONG)
def test_no_wrong_value_in_rules_ends_in_a_traceback(name: str, value: Any) -> None:
    with suppress(BrenvikError), brenvik.open_store("duckdb::memory:") as store:
        store.load(brenvik.TableRules(**{"table": "buoy", "natural_key": "code", name: value}), FRAME, kind="upserts")


def test_threads_that_share_a_store_take_turns(anywhere: brenvik.Store) -> None:
    errors: list[BaseException] = []
    tables = [brenvik.TableRules(f"buoy_{number % 2}", natural_key="code", order_by="at") for number in range(4)]

    def work(number: int) -> None:
        try:
            for at in range(5):
                row = {"code": [f"NB-{number}"], "at": [at], "light": [str(at)]}
                done = anywhere.load(tables[number], pa.table(row), kind="upserts")
                assert done.decisions().num_rows == 1
                anywhere.history(tables[number], f"NB-{number}")
                anywhere.read(tables[number])
        except BaseException as error:
            errors.append(error)

    threads = [threading.Thread(target=work, args=(number,)) for number in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(timeout=300)
    assert not errors
    assert not any(thread.is_alive() for thread in threads)
    for number in range(4):
        assert anywhere.history(tables[number], f"NB-{number}")["light"].to_pylist() == [str(at) for at in range(5)]
    runs = anywhere.ledger.runs()
    assert sorted(runs["run"].to_pylist()) == list(range(1, 21))
    assert set(runs["state"].to_pylist()) == {"done"}


def test_a_thread_that_waits_too_long_for_its_turn_says_who_has_it() -> None:
    with brenvik.open_store("duckdb::memory:") as store:
        inside, done = threading.Event(), threading.Event()

        def lock() -> None:
            with store.engine.turn.taken(store.address):
                inside.set()
                done.wait(60)

        holder = threading.Thread(target=lock, name="the other")
        holder.start()
        inside.wait(60)
        with pytest.raises(Busy, match=r"in use by thread 'the other' of this process; waited 0\.1 s"):
            store.load(RULES, FRAME, kind="upserts", wait_s=0.1)
        done.set()
        holder.join(60)
        assert store.load(RULES, FRAME, kind="upserts").counts["inserted"] == 1


def test_a_project_file_is_asked_for_as_a_path(tmp_path: Path) -> None:
    with pytest.raises(BrenvikError, match="is a folder"):
        brenvik.read_project(tmp_path)
