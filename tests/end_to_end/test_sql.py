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
from brenvik.project.statements import statements_of


@pytest.fixture
def coast(address: str, tmp_path: Path) -> Path:
    (tmp_path / "inbox").mkdir()
    (tmp_path / "brenvik.toml").write_text(in_store(scenario.PROJECT, address))
    scenario.write_day("buoy_01.csv", tmp_path / "inbox")
    return tmp_path


def plain(statement: str) -> str:
    """A statement without what differs from load to load: names of working tables, blanks, brackets for readers."""
    return re.sub(r"[\s()]+", "", re.sub(r'"brenvik_w(ork|\d+)_', '"brenvik_work_', statement))


def ran_and_printed(
    coast: Path, monkeypatch: pytest.MonkeyPatch, table: str, days: dict[str, str | None]
) -> tuple[list[str], set[str]]:
    """What loads of more files ran over working tables, but for staging; and what was printed before the last."""
    project = brenvik.read_project(coast / "brenvik.toml")
    with project.open() as store:
        project.load(table, store=store)
        ran: list[str] = []
        printed: set[str] = set()
        engine: Any = store.engine
        run, stage = engine.run, engine.stage

        def told_run(text: str, *words: Any, **more: Any) -> int:
            ran.append(engine.statement(text))
            return int(run(text, *words, **more))

        monkeypatch.setattr(engine, "run", told_run)
        for day, content in days.items():
            if content is None:
                scenario.write_day(day, coast / "inbox")
            else:
                (coast / "inbox" / day).write_text(content)
            printed = {plain(each.text) for each in statements_of(project, table, store)}
            project.load(table, store=store)
        monkeypatch.undo()
        assert (run, stage) == (engine.run, engine.stage)
    work = [plain(each) for each in ran if "brenvik_work_" in each]
    staged = re.compile(r'CREATETEMP(ORARY)?TABLE"brenvik_work_(changes|extract_rows)""')
    return [each for each in work if not staged.match(each)], printed


def test_every_statement_of_a_load_that_works_out_or_writes_rows_is_printed(
    coast: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The second and third day hold every case: late changes, several of a key, deletes, faulty rows."""
    work, printed = ran_and_printed(coast, monkeypatch, "buoy", {"buoy_02.csv": None, "buoy_03.csv": None})
    others = [each for each in work if each not in printed]
    assert len(work) > 30
    assert len(others) < len(work) / 5, "a load runs what is not printed"
    heads = {each[:40] for each in printed}
    assert [each for each in others if each[:40] not in heads] == []  # narrower forms of what is printed


@pytest.mark.parametrize("deletes", ["close", "review", "ignore"])
def test_every_statement_of_an_extract_is_printed(coast: Path, monkeypatch: pytest.MonkeyPatch, deletes: str) -> None:
    """Rows that are new, equal, changed, absent, faulty, and one that stands twice."""
    with (coast / "brenvik.toml").open("a") as declared:
        declared.write(
            f'[table.firm]\nnatural_key = ["no"]\nmax_deletes = 5\ntypes = {{ no = "integer" }}\ndeletes = "{deletes}"\n'
            '[table.firm.feed.nightly]\nkind = "full_extract"\nfiles = "inbox/firm_*.csv"\n'
            "extract_time = { file_name = 'firm_(.*)\\.csv' }\n"
        )
    (coast / "inbox" / "firm_2024-05-13.csv").write_text("no,name\n1,Bøye\n2,Fyr\n3,Lanterne\n4,Havn\n")
    days: dict[str, str | None] = {
        "firm_2024-05-14.csv": "no,name\n1,Bøye\n2,Fyr & Co\n2,Fyr\nx,Kai\n",
        "firm_2024-05-15.csv": "no,name\n1,Bøye\n3,Lanterne\n5,Molo\n",
    }
    work, printed = ran_and_printed(coast, monkeypatch, "firm", days)
    again = 'DROPTABLE"brenvik_work_extract_diff"'  # of an extract whose rows were compared as they came
    none_replayed = (
        'CREATETEMPORARYVIEW"brenvik_work_to_close"'  # printed as the table that it is where some keys are replayed
    )
    heads = {each[:40] for each in printed}
    assert len(work) > 30
    assert sum(each in printed for each in work) > len(work) / 2
    assert [each for each in work if each[:40] not in heads and not each.startswith((again, none_replayed))] == []
    stages = re.findall(r"\n\n\n-- ([a-z ]+): ", call("sql", "firm", cwd=coast).out)
    first = ["validate", "compare"] if deletes == "close" else ["deletes", "validate", "compare"]
    assert stages == [*first, "classify", "current path", "replay", "diff", "write", "log"]


def test_it_can_be_read_from_top_to_bottom(coast: Path) -> None:
    out = call("sql", "buoy", cwd=coast).out
    stages = re.findall(r"^-- (validate|classify|current path|replay|diff|write|log): ", out, re.MULTILINE)
    assert stages == ["validate", "classify", "current path", "replay", "diff", "write", "log"]
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
