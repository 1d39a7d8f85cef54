"""``many_by_hand.py FOLDER``: what a person's own script does for many tables, in one process and a transaction per table."""

from __future__ import annotations

import sys
from datetime import datetime
from pathlib import Path

import duckdb

from by_hand import ATTRIBUTES

COLUMNS = ", ".join(ATTRIBUTES)
STAGED = ", ".join(f"s.{name}" for name in ATTRIBUTES)
DIFFERS = " OR ".join(f"s.{name} IS DISTINCT FROM t.{name}" for name in ATTRIBUTES)
TYPES = (
    "{'buoy_no': 'BIGINT', 'changed_at': 'TIMESTAMP', 'depth_m': 'DOUBLE', 'mass_kg': 'BIGINT', 'inspected_on': 'DATE', "
    + ", ".join(f"'{name}': 'VARCHAR'" for name in ATTRIBUTES[:5])
    + "}"
)


def load(connection: duckdb.DuckDBPyConnection, table: str, file: Path, run: int) -> None:
    stamp = datetime(2024, 5, 20)

    def do(text: str, **values: object) -> None:
        connection.execute(text, values or None).fetchall()

    connection.begin()
    do(f"CREATE TEMP TABLE staged AS SELECT buoy_no, changed_at, {COLUMNS} FROM read_csv('{file}', types = {TYPES})")
    do(f"""
        CREATE TEMP TABLE differing AS SELECT s.buoy_no, s.changed_at, {STAGED}, t.rowid AS stored
        FROM staged s LEFT JOIN {table} t ON t.buoy_no = s.buoy_no AND t.valid_to IS NULL
        WHERE t.buoy_no IS NULL OR {DIFFERS}""")
    do(
        f"UPDATE {table} SET valid_to = d.changed_at, is_current = FALSE, last_run = $run, last_loaded_at = $stamp "
        f"FROM differing d WHERE {table}.rowid = d.stored",
        run=run, stamp=stamp,
    )  # fmt: skip
    do(
        f"INSERT INTO {table} ({table}_key, buoy_no, {COLUMNS}, valid_from, valid_to, is_current, is_deleted, first_run, "
        f"last_run, first_loaded_at, last_loaded_at) SELECT (SELECT max({table}_key) FROM {table}) + row_number() OVER (), "
        f"buoy_no, {COLUMNS}, changed_at, NULL, TRUE, FALSE, $run, $run, $stamp, $stamp FROM differing",
        run=run, stamp=stamp,
    )  # fmt: skip
    do(f"INSERT INTO raw_{table} SELECT $run, buoy_no, changed_at, {COLUMNS} FROM staged", run=run)
    do("INSERT INTO load_run VALUES ($run, $stamp, $stamp, 10, 10)", run=run, stamp=stamp)
    connection.commit()
    do("DROP TABLE staged; DROP TABLE differing")


if __name__ == "__main__":
    folder = Path(sys.argv[1])
    with duckdb.connect(str(folder / "many.duckdb")) as opened:
        for number, path in enumerate(sorted((folder / "inbox").glob("*_1.csv"))):
            load(opened, path.name.partition("_")[0], path, number)
