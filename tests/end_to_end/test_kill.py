"""Invariants 4 and 5 against SIGKILL: whenever a run of any kind dies, the store is as before or as after, and the same call then
completes the work."""

from __future__ import annotations

import hashlib
import json
import random
import shutil
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psycopg
import pytest
from killing import Caller
from pyiceberg.catalog.sql import SqlCatalog

import brenvik
from brenvik.demo import scenario
from brenvik.demo.tour import in_store
from counts import KILLS, SEED, STORES, tried
from servers import kill, of_database, postgres, start, stop

KINDS = (
    "load", "load from a database", "full_extract", "revert", "revert an extract", "undo revert", "approve", "rebuild", "retry",
    "append", "trim",
)  # fmt: skip
EACH = max(2, KILLS // len(KINDS) // len(STORES))
ROWS = 2_000
RULES = scenario.PROJECT.replace("*.csv", "*.parquet") + scenario.VISITS + scenario.KEEPERS


@dataclass(frozen=True)
class Coast:
    """A project in a folder of its own, whose store is a file or a folder there, or a database of a server.

    The files of a lakehouse name each other by whole paths, so one can only be copied if it always stands at the same place:
    the link ``place``, which leads to the one that is worked on."""

    folder: Path
    server: str | None = None
    place: Path | None = None

    @property
    def database(self) -> str:
        return "kill_" + hashlib.sha1(str(self.folder).encode()).hexdigest()[:12]

    def begin(self, store: str) -> None:
        (self.folder / "inbox").mkdir(parents=True)
        address = f"{store}:coast.{store}"
        if self.server:
            self._on_server(f"CREATE DATABASE {self.database}")
            address = of_database(self.server, self.database)
        if self.place:
            address = f"lakehouse:{self.place}"
        (self.folder / "brenvik.toml").write_text(in_store(RULES, address))

    def call(self, caller: Caller, *words: str, **kill: Any) -> tuple[int, list[str]]:
        """See ``Caller.call``."""
        self.enter()
        return caller.call(*words, cwd=self.folder, **kill)

    def enter(self) -> None:
        if self.place:
            self.place.unlink(missing_ok=True)
            (self.folder / "lake").mkdir(exist_ok=True)
            self.place.symlink_to(self.folder / "lake")

    @property
    def address(self) -> str:
        return brenvik.read_project(self.folder / "brenvik.toml").store

    def declare(self, old: str, new: str) -> None:
        file = self.folder / "brenvik.toml"
        file.write_text(file.read_text().replace(old, new))

    def copied(self, folder: Path) -> Coast:
        shutil.copytree(self.folder, folder)
        other = Coast(folder, self.server, self.place)
        if self.server:
            self.wait_until_left()
            self._on_server(f"CREATE DATABASE {other.database} TEMPLATE {self.database} STRATEGY FILE_COPY")
            other.declare(self.database, other.database)
        return other

    def drop(self) -> None:
        shutil.rmtree(self.folder)
        if self.server:
            self._on_server(f"DROP DATABASE {self.database} WITH (FORCE)")

    def wait_until_left(self) -> None:
        """A server goes on with the statement of a client that is dead; what it leaves is seen when it has ended."""
        while self.server and self._on_server(
            f"SELECT count(*) FROM pg_stat_activity WHERE datname = '{self.database}'"
        ) != [(0,)]:
            time.sleep(0.02)

    def _on_server(self, statement: str) -> Any:
        with psycopg.connect(str(self.server), autocommit=True) as connection:
            cursor = connection.execute(statement.encode())
            return cursor.fetchall() if cursor.description else None


@pytest.fixture(scope="module")
def caller() -> Iterator[Caller]:
    made = Caller()
    yield made
    made.close()


def first_day(coast: Coast, store: str, caller: Caller) -> Coast:
    """The first day taken: half of the buoys' changes, the first extract of keepers, the first visits. The second half, full of
    late changes, deletes and invalid rows, lies aside."""
    coast.begin(store)
    _, second = scenario.write_at_scale(coast.folder / "inbox", ROWS)
    second.rename(coast.folder / "later")
    scenario.write_keepers(1, coast.folder / "inbox")
    scenario.write_visits(1, coast.folder)
    assert coast.call(caller, "load")[0] == 0
    return coast


@pytest.fixture(scope="module", params=STORES)
def coast(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory, caller: Caller) -> Coast:
    folder = tmp_path_factory.mktemp("coast")
    server = postgres() if request.param == "postgres" else None
    place = folder / "lake" if request.param == "lakehouse" else None
    return first_day(Coast(folder / "coast", server, place), request.param, caller)


def ready(kind: str, coast: Coast, folder: Path, caller: Caller) -> tuple[Coast, list[str]]:
    """Makes a folder in which the run of a kind is the next to come; and the words that call for it."""
    made = coast.copied(folder)

    def do(*words: str, code: int = 0) -> None:
        assert made.call(caller, *words)[0] == code

    (folder / "later").rename(folder / "inbox" / "buoy_02.parquet")
    scenario.write_keepers(3, folder / "inbox")
    scenario.write_visits(2, folder)
    if kind == "append":
        landed = '[table.landed]\nfeed.registry = { kind = "append", files = "inbox/buoy_0*.parquet" }\n'
        made.declare("[table.buoy]\n", f"{landed}\n[table.buoy]\n")
        return made, ["load", "landed"]
    if kind == "load":
        return made, ["load", "buoy", "--accept-rejects"]
    if kind == "load from a database":
        return made, ["load", "visit"]
    if kind == "full_extract":
        return made, ["load", "keeper", "--accept-rejects"]
    do("load", "buoy", code=3)  # run 4
    do("load", "keeper", code=3)  # run 5
    if kind == "revert":
        return made, ["revert", "4", "--reason", "wrong day"]
    if kind == "revert an extract":  # what the next one said of the same keys is made explicit
        scenario.write_keepers(4, folder / "inbox")
        do("load", "keeper")
        return made, ["revert", "5", "--reason", "wrong day"]
    if kind == "undo revert":
        do("revert", "4", "--reason", "wrong day")
        return made, ["revert", "4", "--undo"]
    if kind == "approve":
        return made, ["deletes", "approve", "keeper", "--all"]
    if kind == "trim":
        return made, ["trim", "buoy", "--keep", "0 days"]
    if kind == "rebuild":
        made.declare('["name"]', '["name", "light"]')
        return made, ["rebuild", "buoy"]
    do("rejects", "export", "buoy", "bad.jsonl")
    entries = [json.loads(line) for line in (folder / "bad.jsonl").read_text().splitlines()]
    for number, entry in enumerate(entries):
        entry["row"]["buoy_code"] = f"NB1{number:05}"
    (folder / "bad.jsonl").write_text("".join(json.dumps(entry) + "\n" for entry in entries))
    return made, ["rejects", "retry", "buoy", "bad.jsonl"]


def everything(coast: Coast) -> dict[str, list[Any]]:
    """The tables without runs, stamps and surrogate keys; and what the ledger says, runs that did nothing apart."""
    coast.wait_until_left()
    coast.enter()
    project = brenvik.read_project(coast.folder / "brenvik.toml")
    found: dict[str, list[Any]] = {}
    with project.open() as store:
        for name, table in project.tables.items():
            rows = store.read(table.rules)
            own = [column for column in rows.column_names if column.endswith(("_run", "_loaded_at", "_key"))]
            found[name] = sorted(map(str, rows.drop_columns(own).to_pylist()))
            if table.rules.natural_key:
                check_time_line(rows.to_pylist(), table.rules.natural_key[0])
        for question in (
            'SELECT count(*), sum(brenvik_sequence_no) FROM "brenvik"."change_log_buoy"',
            'SELECT count(*), sum(brenvik_sequence_no) FROM "brenvik"."change_log_keeper"',
            'SELECT feed, file, digest FROM "brenvik"."loaded_files" ORDER BY file',
            'SELECT feed, watermark FROM "brenvik"."watermarks"',
            'SELECT reject, state, content FROM "brenvik"."rejects" ORDER BY reject',
            'SELECT delete_no, state FROM "brenvik"."pending_deletes" ORDER BY delete_no',
            'SELECT run, undone_by IS NULL FROM "brenvik"."reverted_runs" ORDER BY run',
            'SELECT table_name, columns, rules, high_order, high_effective, last_key FROM "brenvik"."tables" ORDER BY table_name',
        ):
            found[question] = [str(row) for row in store.engine.ask(question).to_pylist()]
        found["runs"] = store.ledger.runs()["state"].to_pylist()
    return found


def check_time_line(rows: list[dict[str, Any]], key: str) -> None:
    """Invariant 4: per key versions in order that neither overlap nor are empty, and at most one that is current."""
    ends: dict[Any, Any] = {}
    for row in sorted(rows, key=lambda row: (row[key], row["valid_from"])):
        assert row["valid_to"] is None or row["valid_to"] > row["valid_from"]
        assert ends.get(row[key], row["valid_from"]) is not None, "a current version is followed by another"
        assert ends.get(row[key], row["valid_from"]) <= row["valid_from"]
        assert row["is_current"] == (row["valid_to"] is None)
        ends[row[key]] = row["valid_to"]


class Trial:
    """One call as it would go undisturbed, and what there is before and after it."""

    def __init__(self, waiting: Coast, words: list[str], folder: Path, caller: Caller) -> None:
        self.words, self._caller = words, caller
        self.before = everything(waiting)
        self._earlier = self.before.pop("runs")
        whole = waiting.copied(folder)
        code, self.statements = whole.call(caller, *words)
        assert code == 0
        self.after = everything(whole)
        assert self.after.pop("runs") == ["done", *self._earlier]
        assert self.before != self.after
        self.commit = max(n for n, what in enumerate(self.statements) if what == "committing")
        whole.drop()

    def check(self, coast: Coast, told: list[str]) -> bool:
        """All is as before or as after; and the same call then completes the work. Returns whether it was done already."""
        now = everything(coast)
        states = now.pop("runs")
        is_done = states == ["done", *self._earlier]
        assert now == (self.after if is_done else self.before), f"killed while {told[-1]}, statement {len(told)}"
        left = [state for state in states[: len(states) - len(self._earlier)] if state != "failed"]
        assert is_done or left in ([], ["running"])
        assert states[len(states) - len(self._earlier) :] == self._earlier
        if not is_done:
            code, _ = coast.call(self._caller, *self.words)
            completed = everything(coast)
            assert code == 0
            assert completed.pop("runs")[0] == "done"
            assert {name: rows for name, rows in completed.items() if "tables" not in name} == {
                name: rows for name, rows in self.after.items() if "tables" not in name
            }
        return is_done


@pytest.mark.parametrize("kind", KINDS)
def test_a_killed_run_leaves_before_or_after_and_the_next_completes_it(
    kind: str, coast: Coast, tmp_path: Path, caller: Caller
) -> None:
    waiting, words = ready(kind, coast, tmp_path / "waiting", caller)
    trial = Trial(waiting, words, tmp_path / "whole", caller)
    where = coast.address.partition(":")[0]
    dice = random.Random(f"{kind} {where}{SEED}")
    seen: Counter[str] = Counter()
    for number in range(EACH):
        killed = waiting.copied(tmp_path / f"kill {number}")
        at = dice.randrange(len(trial.statements)) if number % 4 else trial.commit  # a quarter around the last commit
        at, after_s = (at, dice.uniform(0.0, 0.02)) if number != 1 else (len(trial.statements) // 2, 0.0)
        _, told = killed.call(caller, *words, kill_at=at, after_s=after_s)
        seen[f"{told[-1]}{', all done' if trial.check(killed, told) else ''}"] += 1
        killed.drop()
    waiting.drop()
    total = sum(seen.values())
    tried(where, total, what="kills")
    print(f"\n{kind} ({where}): {total} kills: " + ", ".join(f"{n} {when}" for when, n in sorted(seen.items())))
    assert total == EACH
    assert len(seen) > 1


def files_named(coast: Coast) -> int:
    """How many files of rows the table of buoys is made of, as others see it."""
    coast.enter()
    catalog = SqlCatalog("brenvik", uri=f"sqlite:///{coast.place}/catalog.db")
    return len(list(catalog.load_table("main.buoy").scan().plan_files()))


@pytest.mark.skipif("lakehouse" not in STORES, reason="no files among the stores that are tried")
def test_a_kill_while_files_are_put_in_order_loses_no_row(tmp_path: Path, caller: Caller) -> None:
    start = first_day(Coast(tmp_path / "coast", place=tmp_path / "lake"), "lakehouse", caller)
    waiting, words = ready("load", start, tmp_path / "waiting", caller)
    assert waiting.call(caller, *words)[0] == 0
    compact = ("compact", "--keep", "0 minutes")
    before = everything(waiting)
    whole = waiting.copied(tmp_path / "whole")
    code, statements = whole.call(caller, *compact)
    assert (code, everything(whole)) == (0, before)
    in_order = files_named(whole)
    on_files = [number for number, what in enumerate(statements) if what != "writing"]
    dice = random.Random(f"compact{SEED}")
    seen: Counter[str] = Counter()
    for number in range(4 * EACH + 5):
        killed = waiting.copied(tmp_path / f"kill {number}")
        at = dice.choice(on_files) if number % 4 else dice.randrange(len(statements))
        _, told = killed.call(caller, *compact, kill_at=at, after_s=dice.choice([0.0, dice.uniform(0.0, 0.02)]))
        seen[told[-1]] += 1
        assert everything(killed) == before, f"killed while {told[-1]}, statement {len(told)}"
        assert killed.call(caller, *compact)[0] == 0
        assert everything(killed) == before
        assert files_named(killed) == in_order
        killed.drop()
    total = sum(seen.values())
    tried("lakehouse", total, what="kills")
    print(f"\ntidy (lakehouse): {total} kills: " + ", ".join(f"{n} {when}" for when, n in sorted(seen.items())))
    assert len(seen) > 2


@pytest.mark.skipif("postgres" not in STORES, reason="no server among the stores that are tried")
def test_a_killed_server_leaves_before_or_after_and_the_next_load_completes_it(tmp_path: Path, caller: Caller) -> None:
    server = start()
    coast = first_day(Coast(tmp_path / "coast", server.get_uri()), "postgres", caller)
    dice = random.Random(f"server{SEED}")
    seen: Counter[str] = Counter()
    for kind in ("load", "full_extract", "revert"):
        waiting, words = ready(kind, coast, tmp_path / kind, caller)
        trial = Trial(waiting, words, tmp_path / f"whole {kind}", caller)
        for number in range(max(2, EACH // 2)):
            killed = waiting.copied(tmp_path / f"{kind} {number}")
            at = dice.randrange(len(trial.statements)) if number else trial.commit
            code, told = killed.call(
                caller, *words, kill_at=at, after_s=dice.uniform(0.0, 0.02), kill=lambda _: kill(server)
            )
            server.ensure_postgres_running()
            is_done = trial.check(killed, told)
            assert code == 5 or (code == 0 and is_done)
            seen[f"{told[at]}{', all done' if is_done else ''}"] += 1
            killed.drop()
    stop(server)
    tried("postgres", sum(seen.values()), what="kills of the server")
    print(f"\nthe server: {sum(seen.values())} kills: " + ", ".join(f"{n} {when}" for when, n in sorted(seen.items())))
    assert len(seen) > 1
