"""The examples of the operator's page run as they stand there."""

from __future__ import annotations

import os
import re
import subprocess
from pathlib import Path

import pytest
from cli import BRENVIK

from brenvik.demo import scenario

PAGE = Path(__file__).parents[2] / "docs" / "operating.md"


@pytest.fixture
def coast(tmp_path: Path) -> Path:
    (tmp_path / "inbox").mkdir()
    (tmp_path / "brenvik.toml").write_text(scenario.PROJECT)
    scenario.write_day("buoy_01.csv", tmp_path / "inbox")
    return tmp_path


def run(name: str, folder: Path) -> tuple[int, str]:
    found = re.search(rf"<!-- {name}: .*? -->\n```sh\n(.*?)```", PAGE.read_text(), re.DOTALL)
    assert found
    environment = {**os.environ, "PATH": f"{BRENVIK.parent}{os.pathsep}{os.environ['PATH']}"}
    done = subprocess.run(["sh", "-c", found[1]], cwd=folder, env=environment, capture_output=True, text=True)
    assert "Traceback" not in done.stderr
    return done.returncode, done.stdout


def test_the_script_of_a_schedule_tells_what_a_person_must_do(coast: Path) -> None:
    assert run("script", coast)[0] == 0
    assert run("script", coast) == (0, "")  # nothing new
    scenario.write_day("buoy_02.csv", coast / "inbox")
    code, said = run("script", coast)
    assert (code, said.splitlines()[-1]) == (3, "rows were rejected: brenvik rejects")
    (coast / "brenvik.toml").write_text("nonsense")
    assert run("script", coast)[0] == 2


def test_the_alert_names_the_tables_that_need_attention(coast: Path) -> None:
    run("script", coast)
    assert run("alert", coast) == (0, "")
    scenario.write_day("buoy_02.csv", coast / "inbox")
    run("script", coast)
    assert run("alert", coast) == (0, "buoy 3 open rejects\n")
