"""``brenvik sql`` prints what a load runs."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest
from cli import brenvik as call

import brenvik
from brenvik.demo import scenario
from brenvik.demo.tour import in_store
from brenvik.statements import statements_of


@pytest.fixture
def coast(address: str, tmp_path: Path) -> Path:
    (tmp_path / "inbox").mkdir()
    (tmp_path / "brenvik.toml").write_text(in_store(scenario.PROJECT, address))
    scenario.write_day("buoy_01.csv", tmp_path / "inbox")
    return tmp_path


def plain(statement: str) -> str:
    """A statement without what differs from load to load: names of working tables, blanks, brackets for readers."""
    return re.sub(r"[\s()]+", "", re.sub(r'"brenvik_w(ork|\d+)_', '"brenvik_work_', statement))


def test_every_statement_of_a_load_that_works_out_or_writes_rows_is_printed(
    coast: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The second and third day hold every case: late changes, several of a key, deletes, faulty rows."""
    project = brenvik.read_project(coast / "brenvik.toml")
    with project.open() as store:
        project.load(store=store)
        ran: list[str] = []
        engine: Any = store.engine
        run, stage = engine.run, engine.stage

        def told_run(text: str, *words: Any, **more: Any) -> int:
            ran.append(engine.statement(text))
            return int(run(text, *words, **more))

        monkeypatch.setattr(engine, "run", told_run)
        for day in ("buoy_02.csv", "buoy_03.csv"):
            scenario.write_day(day, coast / "inbox")
            printed = {plain(each.text) for each in statements_of(project, "buoy", store)}
            project.load(store=store)
        monkeypatch.undo()
        assert (run, stage) == (engine.run, engine.stage)
    work = [plain(each) for each in ran if "brenvik_work_" in each and '_screened" ("' not in each]  # made by staging
    others = [each for each in work if each not in printed]
    assert len(work) > 30
    assert len(others) < len(work) / 5, "a load runs what is not printed"
    heads = {each[:40] for each in printed}
    assert [each for each in others if each[:40] not in heads] == []  # narrower forms of what is printed


def test_it_can_be_read_from_top_to_bottom(coast: Path) -> None:
    out = call("sql", "buoy", cwd=coast).out
    stages = re.findall(r"^-- (screen|sort|plain|versions|diff|write|keep): ", out, re.MULTILINE)
    assert stages == ["screen", "sort", "plain", "versions", "diff", "write", "keep"]
    assert out.startswith("-- coast · a load of buoy")
    assert "NEVER RUN" not in out
    beside = sum(out.count(f"\n-- {said}") for said in ("Values", "The tables are views", "(in the DuckDB"))
    assert out.count(";\n") == out.count("\n-- ") - len(stages) - beside


def test_languages_that_were_never_run_say_so_and_unknown_ones_are_refused(coast: Path) -> None:
    foreign = call("sql", "buoy", "--dialect", "mysql", "--json", cwd=coast).json
    assert (foreign["language"], foreign["tried"]) == ("mysql", False)
    assert "`buoy_code`" in foreign["statements"][-1]["text"] + foreign["statements"][5]["text"]
    assert "NEVER RUN" in call("sql", "buoy", "--dialect", "mysql", cwd=coast).out
    unknown = call("sql", "buoy", "--dialect", "latin", cwd=coast)
    assert (unknown.code, "known are" in unknown.err) == (2, True)
