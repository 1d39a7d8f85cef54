"""The README's session and program, and the examples, do what they say."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
import tomllib
from pathlib import Path
from typing import Any

import pytest
import typer
from cli import BRENVIK

from brenvik import read_project
from brenvik.cli.main import app
from brenvik.demo import scenario

ROOT = Path(__file__).parents[2]
README = (ROOT / "README.md").read_text(encoding="utf-8")


def block(mark: str) -> str:
    found = re.search(rf"<!-- {mark}:.*?-->\n```\w*\n(.*?)```", README, re.DOTALL)
    assert found, mark
    return found[1]


def pattern(lines: list[str]) -> str:
    """A regular expression in which a line … is any lines, and seconds for any seconds."""
    parts = [r"(?:.*\n)*?" if line == "…" else re.escape(line) + r"\n" for line in lines]
    return "".join(parts) + (r"(?:.*\n)*" if len(lines) <= 1 or lines[1] == "…" else "")


def follow(session: str, folder: Path) -> int:
    """Runs the commands of a session and compares what they print; returns how many there are."""
    path = os.pathsep.join([str(BRENVIK.parent), os.environ["PATH"]])
    steps = re.split(r"^\$ ", session, flags=re.MULTILINE)[1:]
    for step in steps:
        command, *expected = step.splitlines()
        done = subprocess.run(
            command,
            shell=True,
            cwd=folder,
            env={**os.environ, "PATH": path, "COLUMNS": "140"},
            capture_output=True,
            text=True,
            encoding="utf-8",
            check=False,
        )
        assert re.fullmatch(pattern(expected), done.stdout), f"$ {command}\n{done.stdout}\n{done.stderr}"
    return len(steps)


def test_the_session_says_what_the_readme_shows(tmp_path: Path) -> None:
    folder = tmp_path / "coast"
    (folder / "inbox").mkdir(parents=True)
    scenario.write_day("buoy_01.csv", folder / "inbox")
    scenario.write_day("buoy_02.csv", tmp_path)
    assert follow(block("session"), folder) == 7


@pytest.mark.parametrize(
    ("page", "commands"),
    [
        ("tutorial", 12),
        ("how-to/python", 2),
        ("how-to/notebooks", 1),
        ("how-to/late-data", 7),
        ("how-to/values-and-names", 2),
        ("how-to/changing-columns", 4),
        ("how-to/column-types", 4),
        ("how-to/landing-tables", 4),
        ("how-to/change-log", 6),
    ],
)
def test_a_page_of_the_documentation_says_what_happens(page: str, commands: int, tmp_path: Path) -> None:
    """Its files are written and its commands run, from top to bottom."""
    text = (ROOT / "docs" / f"{page}.md").read_text(encoding="utf-8")
    done = 0
    for file, session, content in re.findall(
        r"```(?:\{code-block\} \w+\n:caption: (\S+)\n\n|(console)\n)(.*?)```", text, re.DOTALL
    ):
        if session:
            done += follow(content, tmp_path)
        else:
            (tmp_path / file).parent.mkdir(exist_ok=True)
            (tmp_path / file).write_text(content, encoding="utf-8")
    assert done == commands


def test_the_library_in_six_lines(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-c", block("library")], cwd=tmp_path, capture_output=True, text=True, check=True
    )
    assert done.stdout == "1 1\n"
    assert (tmp_path / "coast.duckdb").exists()


def test_the_example(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, ROOT / "examples" / "buoys.py"], cwd=tmp_path, capture_output=True, text=True, check=True
    )
    assert "2 read = 1 versioned + 1 overwritten" in done.stdout
    assert done.stdout.endswith("NB-101 Fl G 3s 1 3\nNB-101 Fl G 5s 3 None\n")


def test_the_example_of_a_landing_table(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, ROOT / "examples" / "landing.py"], cwd=tmp_path, capture_output=True, text=True, check=True
    )
    assert "3 read = 1 inserted + 1 duplicate + 1 rejected" in done.stdout
    assert "NB-101 12.60 V from 2024-05-01 06:00:00 to 2024-05-01 12:00:00\nNB-101 12.40 V from" in done.stdout


def test_the_example_of_a_limited_log(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, ROOT / "examples" / "lamp_log.py"], cwd=tmp_path, capture_output=True, text=True, check=True
    )
    assert "729 changes of 1 key into 18 base states.\n17 versions before, 17 after\n" in done.stdout
    assert done.stdout.endswith("not after 2026-04-29, up to which the changes of its key are trimmed\n")


def test_the_example_of_a_messy_source(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, ROOT / "examples" / "messy_source.py"],
        cwd=tmp_path,
        capture_output=True,
        encoding="utf-8",
        env={**os.environ, "PYTHONUTF8": "1"},
        check=True,
    )
    assert "4 read = 1 overwritten + 1 unchanged + 2 rejected" in done.stdout
    assert "1 change has other values of type 0 columns" in done.stdout
    assert "NB-101 Kvitsund (Fl G 3s) 12.40 on station → adrift 2019-04-02 run 3\nNB-106" in done.stdout
    assert done.stdout.endswith("contradicts another row with the same buoy_code and entry_no\n" * 2)


@pytest.mark.parametrize("link", sorted(set(re.findall(r"\]\(([^)#]+)\)", README))))
def test_every_link_of_the_readme_leads_somewhere(link: str) -> None:
    assert (ROOT / link).exists()


def test_the_project_file_of_the_docs_is_one(tmp_path: Path) -> None:
    text = (ROOT / "docs" / "project-file.md").read_text(encoding="utf-8")
    whole, inside, several, records = re.findall(r"```toml\n(.*?)```", text, re.DOTALL)
    (tmp_path / "brenvik.toml").write_text(whole, encoding="utf-8")
    project = read_project(tmp_path / "brenvik.toml")
    assert project.table("buoy").rules.time_precision == "minute"
    assert project.feed("visit")[1].reads == "service_visit by modified_at"
    (tmp_path / "brenvik.toml").write_text(whole + inside, encoding="utf-8")
    assert read_project(tmp_path / "brenvik.toml").feed("sounding")[1].connection is None  # type: ignore[union-attr]
    nested = re.sub(r"operation = .*\n", records.replace("\\", r"\\"), whole)
    (tmp_path / "brenvik.toml").write_text(nested, encoding="utf-8")
    assert read_project(tmp_path / "brenvik.toml").feed("buoy")[1].record["old_row"] == "/was"  # type: ignore[union-attr]
    (tmp_path / "brenvik.toml").write_text(several, encoding="utf-8")
    tested = read_project(tmp_path / "brenvik.toml", environment="test")
    assert tested.store.endswith("test.duckdb")
    assert tested.table("contract").groups == ("nightly",)


PAGES = [*(ROOT / "docs").rglob("*.md")]


def commands() -> list[str]:
    """The commands of the documentation that no test runs, without comments."""
    blocks = [block for page in PAGES for block in re.findall(r"```sh\n(.*?)```", page.read_text("utf-8"), re.DOTALL)]
    lines = [line for block in blocks for line in block.splitlines() if re.match(r"(\w+=\w+ )?brenvik ", line)]
    return sorted({re.split(r"\s+#|\s\|", line.partition("brenvik ")[2])[0] for line in lines})


@pytest.mark.parametrize("command", commands())
def test_a_command_of_the_documentation_is_one(command: str) -> None:
    """It has these options and arguments; it is not run."""
    group: Any = typer.main.get_command(app)
    words = shlex.split(command)
    context = group.make_context("brenvik", words)
    while words and hasattr(group, "commands"):
        name, group, words = group.resolve_command(context, words)
        context = group.make_context(name, words, parent=context)


SNIPPETS = [
    pytest.param(block, id=f"{page.stem} {number}")
    for page in PAGES
    if page.parent.name == "how-to"
    for number, block in enumerate(re.findall(r"```toml\n(.*?)```", page.read_text("utf-8"), re.DOTALL), 1)
]


@pytest.mark.parametrize("snippet", SNIPPETS)
def test_a_declaration_of_the_documentation_is_one(
    snippet: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Completed by what every project needs."""
    for name in ("WAREHOUSE_PASSWORD", "REGISTRY_PASSWORD"):
        monkeypatch.setenv(name, "secret")
    given = tomllib.loads(snippet)
    tables = given.get("table", {"buoy": {}})
    parts = ['store = "duckdb:coast.duckdb"'] if "store" not in given else []
    keyless = "defaults" in given or 'kind = "append"' in snippet
    parts += [snippet] + ([] if keyless else ['[defaults]\nnatural_key = "code"'])
    parts += [
        f'[table.{name}.feed.files]\nkind = "upserts"\nfiles = "*.csv"' for name in tables if "feed" not in tables[name]
    ]
    if "connection =" in snippet and "connections" not in given:
        parts.append('[connections]\nregistry = "sqlite:///registry.db"')
    (tmp_path / "tables").mkdir()
    (tmp_path / "tables" / "more.toml").touch()
    (tmp_path / "brenvik.toml").write_text("\n".join(parts), encoding="utf-8")
    assert [*tables] == [*read_project(tmp_path / "brenvik.toml").tables]
