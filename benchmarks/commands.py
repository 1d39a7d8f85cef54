"""Commands, the start of their process included: a load of many tables, and commands that find nothing new."""

from __future__ import annotations

import shutil
import subprocess
import sys
import time
from datetime import timedelta
from pathlib import Path

import duckdb
import pyarrow as pa
import pyarrow.csv

import history
import several
from places import BUILD, HAND, NOW, surroundings
from small import NOON, RUNS

TABLES = 200


def write_tables(folder: Path, nth: int) -> None:
    """A file of ten rows for each of the tables."""
    for number in range(TABLES):
        rows = history.batch(100, 10, seed=number) if nth else history.changes(pa.array(range(10)).to_numpy(), NOON)
        later = [moment + timedelta(days=30 * nth) for moment in rows["changed_at"].to_pylist()]
        rows = rows.set_column(1, "changed_at", pa.array(later, pa.timestamp("us")))
        pyarrow.csv.write_csv(rows, folder / "inbox" / f"t{number}_{nth}.csv")


def make_project(folder: Path) -> None:
    (folder / "inbox").mkdir(parents=True)
    types = (
        'buoy_no = "integer", changed_at = "timestamp", depth_m = "double", mass_kg = "integer", inspected_on = "date"'
    )
    tables = [
        f'[table.t{number}]\nnatural_key = ["buoy_no"]\norder_by = ["changed_at"]\nother_columns = "type_2"\n'
        f'types = {{ {types} }}\n[table.t{number}.feed.registry]\nkind = "upserts"\nfiles = "inbox/t{number}_*.csv"\n'
        for number in range(TABLES)
    ]
    (folder / "brenvik.toml").write_text('name = "many"\nstore = "duckdb:many.duckdb"\n\n' + "\n".join(tables))
    write_tables(folder, 0)
    command("load", folder, NOW)
    write_tables(folder, 1)
    with duckdb.connect(str(folder / "many.duckdb")) as connection:
        connection.execute(RUNS)
        for number in range(TABLES):
            connection.execute(
                f"CREATE TABLE raw_t{number} AS SELECT 1::BIGINT AS run, buoy_no, changed_at, {several.COLUMNS} "
                f"FROM brenvik.change_log_t{number}"
            )


def command(words: str, folder: Path, how: str) -> float:
    """Seconds of a command of Brenvik, from the start of its process to its end."""
    begin = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-m", "brenvik.cli.main", *words.split()],
        cwd=folder,
        env=surroundings(how),
        capture_output=True,
    )
    seconds = time.perf_counter() - begin
    if done.returncode not in (0, 4):
        raise SystemExit(done.stderr.decode())
    return seconds


def of_imports(code: str) -> float:
    begin = time.perf_counter()
    subprocess.run([sys.executable, "-c", code], check=True)
    return time.perf_counter() - begin


def started(words: str, how: str) -> float:
    if how == HAND:
        return of_imports("import duckdb")
    return command(words, BUILD / "project", how)


def many_tables(how: str) -> float:
    folder = BUILD / "many_copy"
    if how != HAND:
        return command("load", folder, how)
    begin = time.perf_counter()
    subprocess.run([sys.executable, str(Path(several.__file__).with_name("many_by_hand.py")), str(folder)], check=True)
    return time.perf_counter() - begin


def bring_many() -> None:
    if not (BUILD / "many").exists():
        make_project(BUILD / "many")
    shutil.rmtree(BUILD / "many_copy", ignore_errors=True)
    shutil.copytree(BUILD / "many", BUILD / "many_copy")


def bring_demo() -> None:
    """The demo's project, of which all files were loaded; without the table that is read from a database each time."""
    if (BUILD / "project").exists():
        return
    subprocess.run(
        [sys.executable, "-m", "brenvik.cli.main", "demo", str(BUILD / "project")], check=True, capture_output=True
    )
    file = BUILD / "project" / "brenvik.toml"
    text = file.read_text(encoding="utf-8")
    file.write_text(text[: text.index("[connections]")] + text[text.index("[table.keeper]") :], encoding="utf-8")
