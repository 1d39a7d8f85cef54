"""``brenvik sql`` prints what a load runs."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from cli import brenvik as call

import brenvik
from brenvik.demo import scenario
from brenvik.demo.tour import in_store
from brenvik.engines.workspace import Workspace
from brenvik.ledger.schema import SCHEMA, TABLES
from brenvik.merge import sql
from brenvik.merge.plan.steps import Step
from brenvik.project.statements import statements_of
from scripts import execute

FIRMS = """
[table.firm]
natural_key = ["no"]
max_deletes = 5
types = {{ no = "integer" }}
deletes = "{deletes}"
[table.firm.feed.nightly]
kind = "full_extract"
files = "inbox/firm_*.csv"
extract_time = {{ file_name = 'firm_(.*)\\.csv' }}
"""
BOATS = """
[table.boat]
natural_key = "no"
other_columns = "type_1"
types = { no = "integer" }
[table.boat.system_columns]
surrogate_key = false
valid_from = false
valid_to = false
first_run = false
first_loaded_at = false
last_loaded_at = false
[table.boat.feed.files]
kind = "upserts"
files = "inbox/boat_*.csv"
"""
EXTRACTS = {
    "firm_2024-05-13.csv": "no,name\n1,Bøye\n2,Fyr\n3,Lanterne\n4,Havn\n",
    "firm_2024-05-14.csv": "no,name\n1,Bøye\n2,Fyr & Co\n2,Fyr\nx,Kai\n",
    "firm_2024-05-15.csv": "no,name\n1,Bøye\n3,Lanterne\n5,Molo\n",
}
"""Rows that are new, equal, changed, absent, invalid, and one that occurs twice."""


@pytest.fixture
def coast(address: str, tmp_path: Path) -> Path:
    (tmp_path / "inbox").mkdir()
    (tmp_path / "brenvik.toml").write_text(in_store(scenario.PROJECT + scenario.VISITS, address))
    scenario.write_day("buoy_01.csv", tmp_path / "inbox")
    return tmp_path


def text_of(step: Step[Any], facts: Any) -> str:
    """What a step runs, in the core's dialect; '' for one that only gives a relation a name."""
    if step.staging:
        return step.staging.statement
    if step.alter:
        return str(step.alter)
    if step.change:
        return str(step.change(facts))
    return f"{step.makes}{step.record} {step.query(facts)}" if step.query(facts) else ""


class Watched:
    """What a run considers and what it runs: the steps with the facts known then, and the statements in the core's dialect."""

    def __init__(self) -> None:
        self.steps: list[tuple[Step[Any], Any, bool]] = []
        self.statements: list[str] = []

    def of_the_plan(self) -> list[str]:
        """The statements of the steps that run, as the plan has them."""
        return [text for step, facts, runs in self.steps if runs and (text := text_of(step, facts))]


@contextmanager
def watching(store: brenvik.Store, monkeypatch: pytest.MonkeyPatch) -> Iterator[Watched]:
    found = Watched()

    def watched(where: Any, name: str, text: Callable[..., str]) -> None:
        method = getattr(where, name)

        def instead(*words: Any, **named: Any) -> Any:
            found.statements += filter(None, [text(*words, **named)])
            return method(*words, **named)

        monkeypatch.setattr(where, name, instead)

    asked = Step.runs

    def runs(step: Step[Any], facts: Any) -> bool:
        answer = asked(step, facts)
        found.steps.append((step, facts, answer))
        return answer

    watched(Workspace, "make", lambda _, relation, query, **more: f"{relation} {query}")
    watched(Workspace, "stage", lambda _, rows, staging, *words: staging.statement)
    watched(Workspace, "rows", lambda _, text, *words: f" {text}")
    watched(Workspace, "ask", lambda _, text, *words: f" {text}")
    watched(Workspace, "apply", lambda _, change: str(change))
    watched(Workspace, "record", lambda _, entry: f"{entry.table} {entry.query}")
    of_ledger = {f"{SCHEMA}.{name}" for name in TABLES}
    watched(store.engine, "change_table", lambda change: "" if change.table in of_ledger else str(change))
    monkeypatch.setattr(Step, "runs", runs)
    yield found
    monkeypatch.undo()


def names_of(steps: list[Step[Any]], table: str) -> dict[str, str]:
    """What relations that are only given a name are printed as."""
    made = {step.makes for step in steps if step.text or step.staging}
    names: dict[str, str] = {}
    for step in steps:
        if step.stored:
            names[sql.work(step.makes)] = sql.relation(table)
        elif isinstance(step.same_as, str) and step.same_as and step.makes not in made:
            names[sql.work(step.makes)] = names.get(step.same_as, step.same_as)
    return names


def check_load(project: brenvik.Project, table: str, store: brenvik.Store, monkeypatch: pytest.MonkeyPatch) -> set[str]:
    """Loads what is new, and compares it with what is printed before; returns the purposes of the steps that ran."""
    printed = statements_of(project, table, store)
    with watching(store, monkeypatch) as found:
        (outcome, *_) = project.load(table, store=store)
    assert outcome.state == "done", outcome.error
    assert found.statements == found.of_the_plan()
    steps = [(step, ran) for step, facts, ran in found.steps if not (step.same_as or step.stored)]
    assert [(each.stage, each.purpose) for each in printed] == [(step.stage, step.purpose) for step, _ in steps]
    names = names_of([step for step, _, _ in found.steps], project.table(table).rules.stored_as)
    compared = 0
    for statement, (step, ran) in zip(printed, steps, strict=True):
        assert ran or statement.when, f"{step.purpose} did not run, and nothing says when it does"
        if step.staging:
            assert statement.text == sql.translate(step.staging.statement, "duckdb", flavour="duckdb", pretty=True)
        elif isinstance(step.text, str) and step.text and not step.record:
            text = step.text
            if step.makes:
                text = f"CREATE TEMP {'VIEW' if step.view else 'TABLE'} {sql.work(step.makes)} AS {text}"
            for name, other in names.items():
                text = text.replace(name, other)
            if sql.work("met") not in text:  # which is one relation or another
                assert statement.text == store.engine.statement(text, pretty=True)
                compared += 1
    assert compared > 3
    return {step.purpose for step, ran in steps if ran}


def test_a_load_of_changes_runs_what_is_printed_in_this_order(coast: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The first load; then all traps of the demo: late changes, several of a key, deletes, invalid rows; then a file again."""
    project = brenvik.read_project(coast / "brenvik.toml")
    ran = []
    with project.open() as store:
        for day in ("buoy_01.csv", "buoy_02.csv", "buoy_03.csv"):
            scenario.write_day(day, coast / "inbox")
            ran.append(check_load(project, "buoy", store, monkeypatch))
        scenario.write_day("buoy_02.csv", coast / "inbox").rename(coast / "inbox" / "buoy_99.csv")
        ran.append(check_load(project, "buoy", store, monkeypatch))
    assert ran[0] != ran[1] != ran[2]


def test_a_load_from_a_database_runs_what_is_printed_in_this_order(
    coast: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    project = brenvik.read_project(coast / "brenvik.toml")
    with project.open() as store:
        for day in (1, 2):
            scenario.write_visits(day, coast)
            check_load(project, "visit", store, monkeypatch)


def test_a_load_into_an_adopted_table_runs_what_is_printed_in_this_order(
    coast: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with (coast / "brenvik.toml").open("a") as declared:
        declared.write(BOATS)
    project = brenvik.read_project(coast / "brenvik.toml")
    with project.open() as store:
        execute(store, "CREATE TABLE boat (no BIGINT NOT NULL, name VARCHAR(20), noted VARCHAR(20))")
        execute(store, "INSERT INTO boat (no, name) VALUES (1, 'Alke'), (2, 'Lom')")
        store.table(project.table("boat").rules).adopt({"no": "integer", "name": "text"})
        for day, rows in enumerate(("2,Lomvi\n3,Terne\n", "3,Terna\n"), 1):
            (coast / "inbox" / f"boat_{day}.csv").write_text(f"no,name\n{rows}")
            check_load(project, "boat", store, monkeypatch)
        assert store.read(project.table("boat").rules)["name"].to_pylist() == ["Alke", "Lomvi", "Terna"]


@pytest.mark.parametrize("deletes", ["close", "review", "ignore"])
def test_a_load_of_extracts_runs_what_is_printed_in_this_order(
    coast: Path, monkeypatch: pytest.MonkeyPatch, deletes: str
) -> None:
    with (coast / "brenvik.toml").open("a") as declared:
        declared.write(FIRMS.format(deletes=deletes))
    project = brenvik.read_project(coast / "brenvik.toml")
    with project.open() as store:
        for name, content in EXTRACTS.items():
            (coast / "inbox" / name).write_text(content)
            check_load(project, "firm", store, monkeypatch)
        check_recomputed(store, project.table("firm").rules, monkeypatch)


def check_recomputed(store: brenvik.Store, rules: brenvik.TableRules, monkeypatch: pytest.MonkeyPatch) -> None:
    """Reverting, restoring, approving and rebuilding keep to the order of the plan, too."""
    table = store.table(rules)
    kinds = [lambda: table.revert(2), lambda: table.revert(2, undo=True), table.rebuild]
    if rules.deletes == "review":
        kinds.append(lambda: table.approve_deletes(every=True))
    for recompute in kinds:
        with watching(store, monkeypatch) as found:
            assert recompute().state == "done"
        considered = [(step.stage, step.purpose) for step, _, _ in found.steps]
        (diff,) = [place for place, each in enumerate(considered) if each[0] == "diff"][:1]
        assert [each for each in considered[diff:] if each[0] in ("diff", "write", "log")]
        ran = iter(text for text in found.statements)
        assert all(text in ran for text in found.of_the_plan()), "in another order than in the plan"


def test_it_can_be_read_from_top_to_bottom(coast: Path) -> None:
    out = call("sql", "buoy", cwd=coast).out
    stages = re.findall(r"\n\n\n-- ([a-z ]+): ", out)
    assert stages == ["prepare", "validate", "classify", "current path", "replay", "diff", "write", "log"]
    assert out.startswith("-- coast · a load of buoy")
    assert "NEVER RUN" not in out


def test_languages_that_were_never_run_say_so_and_unknown_ones_are_refused(coast: Path) -> None:
    foreign = call("sql", "buoy", "--dialect", "mysql", "--json", cwd=coast).json
    assert (foreign["language"], foreign["tried"]) == ("mysql", False)
    assert any("`buoy_code`" in statement["text"] for statement in foreign["statements"])
    assert "NEVER RUN" in call("sql", "buoy", "--dialect", "mysql", cwd=coast).out
    unknown = call("sql", "buoy", "--dialect", "latin", cwd=coast)
    assert (unknown.code, "is not a supported dialect" in unknown.err) == (2, True)
