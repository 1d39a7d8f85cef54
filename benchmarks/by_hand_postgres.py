"""The best SQL by hand that we could write for PostgreSQL: what a load there is measured against.

What it does not guarantee is what ``by_hand`` does not. Rows come in through COPY as CSV that pyarrow writes, into a temporary
table that is analysed; only rows that differ are touched; ``work_mem`` is raised. Other ways were slower.
"""

from __future__ import annotations

import io
from datetime import datetime

import psycopg
import pyarrow as pa
import pyarrow.csv

from by_hand import ATTRIBUTES

COLUMNS = ", ".join(ATTRIBUTES)
STAGED = ", ".join(f"s.{name}" for name in ATTRIBUTES)
DIFFERS = " OR ".join(f"s.{name} IS DISTINCT FROM t.{name}" for name in ATTRIBUTES)
STAMP = datetime(2024, 5, 20)
RAW = (
    "CREATE TABLE buoy_raw (run BIGINT, buoy_no BIGINT, changed_at TIMESTAMP, name TEXT, light TEXT, colour TEXT, status TEXT, "
    "region TEXT, depth_m DOUBLE PRECISION, mass_kg BIGINT, inspected_on DATE)"
)


def load(connection: psycopg.Connection, changes: pa.Table, how: str, *, keep: bool) -> int:
    """Applies upserts to ``buoy``: a history (``update and insert``, ``merge and insert``) or a table of one row a key
    (``merge``); with ``keep`` the raw changes are appended to ``buoy_raw`` too. Returns how many rows are new."""
    with connection.transaction(), connection.cursor() as cursor:
        stage(cursor, changes)
        added = {"update and insert": _update_and_insert, "merge and insert": _merge_and_insert, "merge": _merge}[how](
            cursor
        )
        if keep:
            cursor.execute(f"INSERT INTO buoy_raw SELECT 99, buoy_no, changed_at, {COLUMNS} FROM staged".encode())
    return added


def stage(cursor: psycopg.Cursor, changes: pa.Table) -> None:
    """Copies the changes into the temporary table ``staged``."""
    names = ", ".join(changes.column_names)
    cursor.execute("SET LOCAL work_mem = '128MB'")
    cursor.execute(
        "CREATE TEMP TABLE staged (buoy_no BIGINT, changed_at TIMESTAMP, name TEXT, light TEXT, colour TEXT, status TEXT, "
        "region TEXT, depth_m DOUBLE PRECISION, mass_kg BIGINT, inspected_on DATE) ON COMMIT DROP"
    )
    with cursor.copy(f"COPY staged ({names}) FROM STDIN (FORMAT csv)".encode()) as copy:
        for batch in changes.to_batches(max_chunksize=50_000):
            lines = io.BytesIO()
            pa.csv.write_csv(batch, lines, pa.csv.WriteOptions(include_header=False, quoting_style="needed"))
            copy.write(lines.getbuffer())
    cursor.execute("ANALYZE staged")


def _update_and_insert(cursor: psycopg.Cursor) -> int:
    cursor.execute(
        f"UPDATE buoy t SET valid_to = s.changed_at, is_current = FALSE, last_run = 99, last_loaded_at = %(stamp)s "
        f"FROM staged s WHERE t.buoy_no = s.buoy_no AND t.valid_to IS NULL AND ({DIFFERS})".encode(),
        {"stamp": STAMP},
    )
    return _insert_where_none_is_current(cursor)


def _merge_and_insert(cursor: psycopg.Cursor) -> int:
    cursor.execute(
        f"MERGE INTO buoy t USING staged s ON t.buoy_no = s.buoy_no AND t.valid_to IS NULL WHEN MATCHED AND ({DIFFERS}) THEN "
        "UPDATE SET valid_to = s.changed_at, is_current = FALSE, last_run = 99, last_loaded_at = %(stamp)s".encode(),
        {"stamp": STAMP},
    )
    return _insert_where_none_is_current(cursor)


def _insert_where_none_is_current(cursor: psycopg.Cursor) -> int:
    cursor.execute(
        f"INSERT INTO buoy (buoy_key, buoy_no, {COLUMNS}, valid_from, is_current, is_deleted, first_run, last_run, "
        f"first_loaded_at, last_loaded_at) SELECT (SELECT max(buoy_key) FROM buoy) + row_number() OVER (), s.buoy_no, {STAGED}, "
        "s.changed_at, TRUE, FALSE, 99, 99, %(stamp)s, %(stamp)s FROM staged s WHERE NOT EXISTS ("
        "SELECT 1 FROM buoy t WHERE t.buoy_no = s.buoy_no AND t.valid_to IS NULL)".encode(),
        {"stamp": STAMP},
    )
    return cursor.rowcount


def _merge(cursor: psycopg.Cursor) -> int:
    sets = ", ".join(f"{name} = s.{name}" for name in ATTRIBUTES)
    cursor.execute(
        f"MERGE INTO buoy t USING (SELECT s.*, (SELECT max(buoy_key) FROM buoy) + row_number() OVER () AS key FROM staged s) s "
        f"ON t.buoy_no = s.buoy_no WHEN MATCHED AND ({DIFFERS}) THEN "
        f"UPDATE SET {sets}, last_run = 99, last_loaded_at = %(stamp)s "
        f"WHEN NOT MATCHED THEN INSERT (buoy_key, buoy_no, {COLUMNS}, valid_from, is_current, is_deleted, first_run, last_run, "
        f"first_loaded_at, last_loaded_at) VALUES (s.key, s.buoy_no, {STAGED}, s.changed_at, TRUE, FALSE, 99, 99, %(stamp)s, "
        "%(stamp)s)".encode(),
        {"stamp": STAMP},
    )
    cursor.execute("SELECT count(*) FROM buoy WHERE first_run = 99")
    return int(cursor.fetchall()[0][0])
