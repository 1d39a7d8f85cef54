"""Batches with several changes a key, some of them late; and the SQL by hand that brings a history to the same rows.

The SQL lines up the stored versions of the keys with the changes, drops what equals the version before, and writes what differs
from the stored rows. It knows only the table, not what was ever sent: a change that once opened no version is not considered.
"""

from __future__ import annotations

from datetime import timedelta

import duckdb
import numpy as np
import psycopg
import pyarrow as pa
import pyarrow.compute as pc

import by_hand_postgres
import history
from by_hand import ATTRIBUTES

EACH, LATE = 3, 0.05
COLUMNS = ", ".join(ATTRIBUTES)
_SAME = " AND ".join(f"lag({name}) OVER line IS NOT DISTINCT FROM {name}" for name in ATTRIBUTES)


def batch(rows: int, size: int, *, seed: int = 7) -> pa.Table:
    """Changes of which each key has three, an hour between them, and a twentieth of all are late."""
    first = history.batch(rows, size // EACH, seed=seed)
    made = [first]
    for nth in range(1, EACH):
        light = pc.binary_join_element_wise(first["light"], pa.scalar(str(nth)), "/")
        at = pc.add(first["changed_at"], pa.scalar(timedelta(hours=nth)))
        again = first.set_column(first.column_names.index("changed_at"), "changed_at", at)
        made.append(again.set_column(first.column_names.index("light"), "light", light))
    mixed = np.random.default_rng(seed).permutation(len(first) * EACH)
    return history.with_late(pa.concat_tables(made).take(pa.array(mixed)), LATE)


def _statements(row: str) -> list[tuple[str, bool]]:
    """The statements, each with whether it takes the moment of the load; ``row`` is how the store calls the place of a row."""
    kind = "BIGINT" if row == "rowid" else "TID"
    keys = "SELECT buoy_no FROM staged"
    return [
        (
            f"CREATE TEMP TABLE lined AS SELECT u.*, row_number() OVER line = 1 OR NOT ({_SAME}) AS opens FROM ("
            f"SELECT buoy_no, changed_at AS valid_from, {COLUMNS}, CAST(NULL AS {kind}) AS stored, "
            f"CAST(NULL AS TIMESTAMP) AS ended FROM staged UNION ALL "
            f"SELECT t.buoy_no, t.valid_from, {COLUMNS}, t.{row}, t.valid_to FROM buoy t "
            f"WHERE t.buoy_no IN ({keys})) u WINDOW line AS (PARTITION BY buoy_no ORDER BY valid_from)",
            False,
        ),
        (
            "CREATE TEMP TABLE wanted AS SELECT *, lead(valid_from) OVER (PARTITION BY buoy_no ORDER BY valid_from) AS ends "
            "FROM lined WHERE opens",
            False,
        ),
        (f"DELETE FROM buoy WHERE {row} IN (SELECT stored FROM lined WHERE NOT opens AND stored IS NOT NULL)", False),
        (
            "UPDATE buoy SET valid_to = w.ends, is_current = (w.ends IS NULL), last_run = 99, last_loaded_at = :stamp "
            f"FROM wanted w WHERE buoy.{row} = w.stored AND w.ends IS DISTINCT FROM w.ended",
            True,
        ),
        (
            f"INSERT INTO buoy (buoy_key, buoy_no, {COLUMNS}, valid_from, valid_to, is_current, is_deleted, first_run, last_run, "
            "first_loaded_at, last_loaded_at) SELECT (SELECT max(buoy_key) FROM buoy) + row_number() OVER (), buoy_no, "
            f"{COLUMNS}, valid_from, ends, ends IS NULL, FALSE, 99, 99, :stamp, :stamp FROM wanted WHERE stored IS NULL",
            True,
        ),
        (f"INSERT INTO buoy_raw SELECT 99, buoy_no, changed_at, {COLUMNS} FROM staged", False),
    ]


def load(connection: duckdb.DuckDBPyConnection, changes: pa.Table) -> None:
    """Applies the changes in DuckDB, and appends them to ``buoy_raw``."""
    connection.execute("SET TimeZone = 'UTC'").fetchall()
    connection.execute("SET preserve_insertion_order = false").fetchall()
    connection.register("frame", changes)
    connection.begin()
    connection.execute(f"CREATE TEMP TABLE staged AS SELECT buoy_no, changed_at, {COLUMNS} FROM frame").fetchall()
    for text, stamped in _statements("rowid"):
        stamp = {"stamp": by_hand_postgres.STAMP} if stamped else {}
        connection.execute(text.replace(":stamp", "$stamp"), stamp).fetchall()
    connection.commit()


def load_postgres(connection: psycopg.Connection, changes: pa.Table) -> None:
    """The same in PostgreSQL."""
    with connection.transaction(), connection.cursor() as cursor:
        by_hand_postgres.stage(cursor, changes)
        for text, stamped in _statements("ctid"):
            stamp = {"stamp": by_hand_postgres.STAMP} if stamped else None
            cursor.execute(text.replace(":stamp", "%(stamp)s").encode(), stamp)
            if text.startswith("CREATE"):
                cursor.execute(f"ANALYZE {text.split()[3]}".encode())
