"""What steers a terminal is shown as an escape, in values, names and messages; JSON stays exact, and is JSON."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from cli import brenvik as call

import brenvik

HOSTILE = "\x1b]0;owned\x07\x1b[2J\x9b31m\u202egnp.exe"
PROJECT = """
store = "duckdb:coast.duckdb"
[table.buoy]
natural_key = ["code"]
type_1 = ["name"]
types = { depth = "double" }
[table.buoy.feed.registry]
kind = "upserts"
files = "inbox/*.csv"
"""

KEY = ["buoy", f"A{HOSTILE}"]
COMMANDS = [
    *(["check"], ["preview", "--all"], ["load"], ["load"], ["status"], ["watermarks"]),
    *(["runs"], ["runs", "1"], ["runs", "1", "--rows"], ["rejects"]),
    *(["history", *KEY], ["history", *KEY, "--changes"], ["as-of", "buoy", "2999-01-01"]),
    *(["load", HOSTILE], ["load", "buoy", "--again", HOSTILE], ["new", f"inbox/a{HOSTILE}.csv", "--print"]),
]


@pytest.fixture
def coast(tmp_path: Path) -> Path:
    (tmp_path / "inbox").mkdir()
    (tmp_path / "brenvik.toml").write_text(PROJECT)
    name = f"a{HOSTILE}.csv".replace("/", "")
    (tmp_path / "inbox" / name).write_text(
        f"code,name,depth,no{HOSTILE}te\nA{HOSTILE},{HOSTILE},NaN,x\nB,y,{HOSTILE},x\n"
    )
    return tmp_path


def test_no_control_character_reaches_a_terminal(coast: Path) -> None:
    for words in COMMANDS:
        said = call(*words, cwd=coast)
        assert "Traceback" not in said.err, said.err
        seen = {character for character in said.out + said.err if not character.isprintable()} - {"\n"}
        assert not seen, (words, seen)
    assert "\\x1b]0;owned\\x07\\x1b[2J\\x9b31m\\u202egnp.exe" in call("rejects", cwd=coast).out


def test_json_is_exact_and_has_no_numbers_that_json_does_not_have(coast: Path) -> None:
    assert call("load", "--json", cwd=coast).code == 3
    (row,) = _strict(call("history", "--json", "buoy", f"A{HOSTILE}", cwd=coast).out)["versions"]
    assert (row["name"], row["depth"]) == (HOSTILE, "NaN")
    assert HOSTILE in _strict(call("rejects", "--json", cwd=coast).out)["rejects"][0]["reason"]


def _strict(text: str) -> dict[str, object]:
    def refuse(constant: str) -> None:
        raise AssertionError(f"{constant} is no JSON")

    return json.loads(text, parse_constant=refuse)  # type: ignore[no-any-return]


def test_the_library_keeps_what_it_was_given() -> None:
    with brenvik.open_store("duckdb::memory:") as store:
        rules = brenvik.TableRules("buoy", natural_key="code")
        import pyarrow as pa

        store.load(rules, pa.table({"code": [HOSTILE], "name": [HOSTILE]}), kind="upserts")
        assert store.history(rules, HOSTILE)["name"].to_pylist() == [HOSTILE]
