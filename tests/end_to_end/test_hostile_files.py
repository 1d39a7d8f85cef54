"""Hostile names, headers and contents through ``brenvik new``, and values of every wrong kind in ``brenvik.toml``."""

from __future__ import annotations

import copy
import json
import random
import tomllib
from collections.abc import Iterator
from datetime import date, datetime
from pathlib import Path
from typing import Any

import pytest
from cli import brenvik as call

import brenvik
from brenvik.errors import BrenvikError
from brenvik.project.check import check_table
from brenvik.project.propose import propose

CHANCE = random.Random(7)
ROWS = b"code,at\nNB-1,1\n"
NAMES = (
    "we ird [x]*?.csv", "it's.csv", "new\nline.csv", "$HOME.csv", "-dash.csv", "...csv", "ünïcødé.csv", f"{'x' * 200}.csv",
    "a\x1b[31m.csv", '"quoted".csv', "#.csv", "1.csv", "select.csv", "name.csv", "csv.csv", "CON.csv", "\u202ecsv.csv",
)  # fmt: skip
HEADERS = (
    b"code,at\n", b'"co\x1b[31mde",at\n', b'"co""de","a\nt"\n', b'"a]b[","c=d"\n', "a\u202eb,c\n".encode(),
    b"select,from\n", b"line,reason\n", b"file,row\n", b"'; drop table x --,at\n", b"{},[]\n", b'"""",","\n',
    b"true,false\n", b"1,2\n", b"a.b,a/b\n", b"~0,~1\n", b"%s,:name\n", b"$1,?\n", b"\\,\\n\n", "\u00e9,e\u0301\n".encode(),
    b"op,code\n",
)  # fmt: skip
NO_TABLES = {
    "noise.csv": CHANCE.randbytes(3000),
    "program.csv": b"\x7fELF" + CHANCE.randbytes(500),
    "paper.csv": b"%PDF-1.4\n" + CHANCE.randbytes(2000),
    "noise.jsonl": CHANCE.randbytes(3000),
    "noise.parquet": CHANCE.randbytes(3000),
    "empty.csv": b"",
    "empty.jsonl": b"",
    "empty.parquet": b"",
    "header.csv": b"code,at\n",
    "list.jsonl": b"[1,2]\n",
    "nothing.jsonl": b"{}\n",
    "blank.csv": b"\n\n",
    "unnamed.csv": b",b\n1,2\n",
    "twice.csv": b"a,a\n1,2\n",
    "ours.csv": b"brenvik_run,code\n1,A\n",
}


def tried(folder: Path, name: str, content: bytes) -> None:
    """Declares a table for a file and loads it; whatever is refused is refused with a sentence."""
    (folder / name).write_bytes(content)
    proposal = propose(folder / name, table=None, project=folder / "brenvik.toml")
    proposal.write()
    project = brenvik.read_project(folder / "brenvik.toml")
    with project.open() as store:
        (table,) = project.tables
        assert not check_table(project, table, store).faults
        (done,) = project.load(store=store)
        assert done.error is None
        assert store.read(project.tables[table].rules).num_rows == 1


@pytest.mark.parametrize("name", NAMES)
def test_a_file_may_be_called_as_it_likes(tmp_path: Path, name: str) -> None:
    tried(tmp_path, name, ROWS)


@pytest.mark.parametrize("header", HEADERS)
def test_columns_of_a_file_may_be_called_as_they_like(tmp_path: Path, header: bytes) -> None:
    tried(tmp_path, "feed.csv", header + b"7,8\n")


@pytest.mark.parametrize(
    ("header", "why"), [(b"rowid,at\n", "rowid is the store"), (b"at,valid_from\n", "valid_from is also the name")]
)
def test_a_name_that_a_column_cannot_have_is_told(tmp_path: Path, header: bytes, why: str) -> None:
    with pytest.raises((BrenvikError, AssertionError), match=why):
        tried(tmp_path, "feed.csv", header + b"7,8\n")


@pytest.mark.parametrize("name", NO_TABLES)
def test_no_declaration_is_written_for_what_is_no_table(tmp_path: Path, name: str) -> None:
    (tmp_path / name).write_bytes(NO_TABLES[name])
    with pytest.raises(BrenvikError) as told:
        propose(tmp_path / name, table=None, project=tmp_path / "brenvik.toml")
    assert name in str(told.value)
    assert "codec" not in str(told.value)
    assert not any(ord(each) < 32 and each != "\n" for each in str(told.value))


def test_noise_is_told_without_a_traceback_or_raw_bytes(tmp_path: Path) -> None:
    for name in ("noise.csv", "noise.jsonl"):
        (tmp_path / name).write_bytes(NO_TABLES[name])
        said = call("new", name, cwd=tmp_path)
        assert (said.code, said.out) == (1, "")
        assert said.err.startswith(f"brenvik: {name}")
        assert len(said.err.splitlines()) == 1


DECLARED = tomllib.loads("""
name = "coast"
store = "duckdb:coast.duckdb"
memory_limit = "4 GB"
time_zone = "UTC"
[table.buoy]
table_name = "buoy"
natural_key = ["code"]
order_by = ["at"]
effective_at = "at"
time_precision = "day"
type_0 = ["since"]
type_1 = ["name"]
type_2 = []
other_columns = "type_2"
exclude = ["noted"]
deletes = "close"
change_log = true
max_rejects = 0.1
reject_if = { "too deep" = "depth > 5" }
delete_if = "name = 'gone'"
max_deletes = 0.2
max_changes = 5
open_end = 9999-12-31
write_mode = "merge_on_read"
after = []
groups = ["nightly"]
expected_every = "26 hours"
[table.buoy.types]
at = "timestamp"
[table.buoy.system_columns]
surrogate_key = "buoy_key"
first_run = false
[table.buoy.feed.registry]
kind = "changes"
files = "in/*.csv"
operation = { column = "op", insert = ["I"], update = ["U"], delete = ["D"] }
file_order = '(\\d+)'
min_age = "30 seconds"
after_load = { move_to = "loaded/" }
rewritten_files = "load"
csv = { delimiter = ";", encoding = "latin-1" }
[connections]
registry = "sqlite:///registry.db"
""")
WRONG: tuple[Any, ...] = (
    "", "x", "\x1b[31m", "${NOT_SET}", 5, -1, 1.5, float("nan"), float("inf"), True, [], ["x"], [5], [[]], {}, {"x": 5},
    {"x": {"y": []}}, date(2024, 5, 13), datetime(2024, 5, 13, 8), 10**30,
)  # fmt: skip


def places(value: Any, way: tuple[str, ...] = ()) -> Iterator[tuple[str, ...]]:
    if way:
        yield way
    if isinstance(value, dict):
        for name, inner in value.items():
            yield from places(inner, (*way, name))


def as_toml(value: Any) -> str:
    if isinstance(value, dict):
        return "{" + ", ".join(f"{json.dumps(name)} = {as_toml(each)}" for name, each in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(as_toml, value)) + "]"
    if isinstance(value, (bool, str)):
        return json.dumps(value)
    return value.isoformat() if isinstance(value, date) else str(value)


@pytest.mark.parametrize("way", list(places(DECLARED)), ids=".".join)
def test_no_value_in_a_project_file_ends_in_anything_but_a_sentence(tmp_path: Path, way: tuple[str, ...]) -> None:
    file = tmp_path / "brenvik.toml"
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "buoy_1.csv").write_text("op;code;at;since;name;noted;depth\nI;NB-1;2024-05-13;a;b;c;1\n")
    refused = 0
    for value in WRONG:
        declared = copy.deepcopy(DECLARED)
        inner = declared
        for name in way[:-1]:
            inner = inner[name]
        inner[way[-1]] = value
        file.write_text("\n".join(f"{name} = {as_toml(each)}" for name, each in declared.items()))
        try:
            project = brenvik.read_project(file)
            with brenvik.open_store("duckdb::memory:") as store:
                for table in project.tables:
                    check_table(project, table, store)
                project.load(store=store)
        except BrenvikError as error:
            refused += 1
            assert "<class" not in str(error)
            assert "isoformat" not in str(error)
    assert refused
