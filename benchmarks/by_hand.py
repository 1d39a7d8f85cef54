"""The best SQL by hand that we could write for the same job: what a load is measured against.

It does not guarantee what a load does: it believes that a key comes once in a batch and never late, that a batch comes
once, that there are no deletes, no nulls in keys, no values of the wrong type; it notices no other loader, keeps no
ledger, checks no sums, and nobody can ask it afterwards what it did. It uses DuckDB's row numbers to find rows again,
writes only the columns that change, and stages the frame once: other ways to write it were slower.
"""

from __future__ import annotations

from datetime import datetime

import duckdb
import pyarrow as pa

ATTRIBUTES = ("name", "light", "colour", "status", "region", "depth_m", "mass_kg", "inspected_on")


def load(connection: duckdb.DuckDBPyConnection, changes: pa.Table, *, keep: bool, run: int = 99) -> None:
    """Applies upserts to the history table ``buoy``; with ``keep`` the raw changes are appended to ``buoy_raw`` too."""
    columns = ", ".join(ATTRIBUTES)
    staged = ", ".join(f"s.{name}" for name in ATTRIBUTES)
    differs = " OR ".join(f"s.{name} IS DISTINCT FROM t.{name}" for name in ATTRIBUTES)
    stamp = datetime(2024, 5, 20)
    connection.execute("SET TimeZone = 'UTC'").fetchall()
    connection.execute("SET preserve_insertion_order = false").fetchall()
    connection.register("frame", changes)
    connection.begin()
    connection.execute(f"CREATE TEMP TABLE staged AS SELECT buoy_no, changed_at, {columns} FROM frame").fetchall()
    connection.execute(f"""
        CREATE TEMP TABLE differing AS
        SELECT s.buoy_no, s.changed_at, {staged}, t.rowid AS stored
        FROM staged s LEFT JOIN buoy t ON t.buoy_no = s.buoy_no AND t.valid_to IS NULL
        WHERE t.buoy_no IS NULL OR {differs}""").fetchall()
    connection.execute(
        """
        UPDATE buoy SET valid_to = d.changed_at, is_current = FALSE, last_run = $run,
          last_loaded_at = $stamp
        FROM differing d WHERE buoy.rowid = d.stored""",
        {"run": run, "stamp": stamp},
    ).fetchall()
    connection.execute(
        f"""
        INSERT INTO buoy (buoy_key, buoy_no, {columns}, valid_from, valid_to, is_current, is_deleted, first_run,
          last_run, first_loaded_at, last_loaded_at)
        SELECT (SELECT max(buoy_key) FROM buoy) + row_number() OVER (), buoy_no, {columns}, changed_at, NULL, TRUE,
          FALSE, $run, $run, $stamp, $stamp
        FROM differing""",
        {"run": run, "stamp": stamp},
    ).fetchall()
    if keep:
        connection.execute(
            f"""
            INSERT INTO buoy_raw (run, buoy_no, changed_at, {columns})
            SELECT $run, buoy_no, changed_at, {columns} FROM staged""",
            {"run": run},
        ).fetchall()
    connection.commit()
