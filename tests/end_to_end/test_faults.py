"""What breaks around a load: each ends with a clear message, and the table as it was."""

from __future__ import annotations

import resource
import signal
import subprocess
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from cli import BRENVIK
from cli import brenvik as call

import brenvik

PROJECT = """
store = "duckdb:coast.duckdb"
[table.buoy]
natural_key = "code"
order_by = "at"
[table.buoy.feed.files]
kind = "upserts"
files = "*.parquet"
"""


def write(folder: Path, name: str, start: int, count: int) -> Path:
    numbers = range(start, start + count)
    noise = [f"{n * 2654435761 % 2**32:x} {n * 40503 % 2**16:x}" for n in numbers]
    table = pa.table({"code": [f"NB-{n}" for n in numbers], "at": list(numbers), "light": noise})
    pq.write_table(table, folder / name)
    return folder / name


@pytest.fixture
def coast(tmp_path: Path) -> Path:
    """A table of ten rows, loaded by run 1."""
    (tmp_path / "brenvik.toml").write_text(PROJECT)
    write(tmp_path, "a.parquet", 0, 10)
    assert call("load", cwd=tmp_path).code == 0
    return tmp_path


def rows(folder: Path) -> int:
    project = brenvik.read_project(folder / "brenvik.toml")
    with project.open(read_only=True) as store:
        return store.read(project.table("buoy").rules).num_rows


def test_a_full_disk_fails_the_load_and_harms_nothing(coast: Path) -> None:
    write(coast, "b.parquet", 100, 200_000)
    room = (coast / "coast.duckdb").stat().st_size + 500_000

    def little_room() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (room, room))

    done = subprocess.run(
        [BRENVIK, "load"], cwd=coast, capture_output=True, text=True, preexec_fn=little_room, check=False
    )
    assert done.returncode == 1, done.stdout + done.stderr
    assert "File too large" in done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    assert rows(coast) == 10
    assert call("load", cwd=coast).code == 0
    assert rows(coast) == 200_010
    states = [run["state"] for run in call("runs", "--json", cwd=coast).json["runs"]]
    assert states[0] == "done"
    assert set(states[1:-1]) <= {"failed", "crashed"}


@pytest.mark.parametrize("keep", [0.5, 0.99])
def test_a_parquet_file_cut_short_is_told(coast: Path, keep: float) -> None:
    path = write(coast, "b.parquet", 100, 5000)
    whole = path.read_bytes()
    path.write_bytes(whole[: int(len(whole) * keep)])
    said = call("load", cwd=coast)
    assert (said.code, "b.parquet is not a readable Parquet file" in said.out) == (1, True), said.out
    assert rows(coast) == 10
    path.write_bytes(whole)
    assert call("load", cwd=coast).code == 0


def test_a_parquet_file_with_damaged_pages_is_told(coast: Path) -> None:
    path = write(coast, "b.parquet", 100, 5000)
    whole = path.read_bytes()
    path.write_bytes(whole[:200] + bytes(2000) + whole[2200:])
    said = call("load", cwd=coast)
    assert said.code == 1
    assert "b.parquet cannot be read beyond row 1" in said.out
    assert rows(coast) == 10


@pytest.mark.parametrize(
    ("table", "told"),
    [
        ({"name": ["x"], "at": [1]}, "code is not in b.parquet, which has name, at"),
        ({"code": ["x"], "at": ["noon"]}, "1 rejected"),
        ({"code": [1.5], "at": [1], "light": ["x"]}, "1 inserted"),
        ({"code": ["x"], "at": [1], "light": [["Fl", "G"]]}, "light (list<"),
    ],
)
def test_a_parquet_file_of_another_schema_is_told(coast: Path, table: dict[str, list[object]], told: str) -> None:
    pq.write_table(pa.table(table), coast / "b.parquet")
    said = call("load", cwd=coast)
    assert told in said.out, said.out
    assert "Traceback" not in said.err
    assert rows(coast) == 10 + ("1 inserted" in told)
