"""The ledger of an older schema version in a lakehouse, brought to this one.

First, table by table, the change log is renamed, and a snapshot of the table names it. Last comes the ledger's log: one
snapshot has all entries in their new form, and the log's new columns. Until that is committed the ledger counts as the older
one, and the upgrade can be carried out again: what was done is skipped.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from typing import TYPE_CHECKING

from brenvik import __version__
from brenvik.engines.lakehouse import entries
from brenvik.engines.lakehouse.lake import Lake, LakeTable
from brenvik.engines.lakehouse.snapshots import Change
from brenvik.ledger.schema import KEYS, SCHEMA, SCHEMA_VERSION, TABLES
from brenvik.ledger.versions import Upgrade, rules_after, value_of
from brenvik.merge import sql

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.engines.duckdb.engine import DuckDBEngine


def rename_log(lake: Lake, old: str, new: str, columns: Mapping[str, str]) -> None:
    """Renames a change log and columns of it."""
    before, after = ((SCHEMA, name.rpartition(".")[2]) for name in (old, new))
    if before in lake.locations():
        lake.catalog.rename_table(before, after)
        lake.home.changed()
    if after not in lake.locations():
        return
    table = lake.load(after)
    there = {field.name for field in table.schema().fields}.intersection(columns)
    if there:
        with table.update_schema() as schema:
            for column in sorted(there):
                schema.rename_column(column, columns[column])
        lake.home.changed()


def name_log(lake: Lake, state: LakeTable, old: str, new: str, named: str) -> None:
    """Has the table that names the change log ``old``, in the property ``named`` of its snapshot, name it ``new``."""
    log, _, snapshot = state.properties.get(named, "").rpartition(" ")
    if f"{SCHEMA}.{log}" == old:
        properties = {**state.properties, named: f"{new.rpartition('.')[2]} {snapshot}"}
        lake.commit(state, Change(properties=properties, same_rows=True))


def entries_of(duck: DuckDBEngine, entered: str, upgrade: Upgrade, at: datetime) -> pa.Table:
    """The entries of an older ledger's log (the relation ``entered``) in the form of this version: of those with the same
    key the last."""
    kinds = {name: kind for columns in TABLES.values() for name, kind in columns.items()}
    parts = []
    for name, origin in upgrade.tables.items():
        columns = ", ".join(
            f"{value_of(origin, column) if column in TABLES[name] else f'CAST(NULL AS {kind})'} AS {sql.quote(column)}"
            for column, kind in kinds.items()
        )
        keys = ", ".join(value_of(origin, key) for key in KEYS[name])
        parts.append(
            f"SELECT '{name}' AS entry_of, o.seq, {columns} FROM {entered} o WHERE o.entry_of = '{origin.table}' "
            f"QUALIFY row_number() OVER ({f'PARTITION BY {keys} ' if keys else ''}ORDER BY o.seq DESC) = 1"
        )
    duck.execute(f"CREATE OR REPLACE TEMP TABLE upgraded AS {' UNION ALL '.join(parts)}")
    for row in duck.rows("SELECT DISTINCT rules FROM upgraded WHERE rules IS NOT NULL"):
        values = {"before": row["rules"], "after": rules_after(upgrade, row["rules"])}
        duck.execute("UPDATE upgraded SET rules = $after WHERE rules = $before", values)
    duck.execute(
        "UPDATE upgraded SET schema_version = $version, written_by = $by, written_at = $at WHERE entry_of = 'schema_version'",
        {"version": SCHEMA_VERSION, "by": __version__, "at": at},
    )
    answer = duck.ask("SELECT * FROM upgraded")
    duck.execute("DROP TABLE upgraded")
    return answer


def write_log(lake: Lake, state: LakeTable, upgraded: pa.Table, properties: Mapping[str, str]) -> None:
    """Commits the entries in their new form in place of all there are."""
    fields = {column.name: column.field for column in state.columns}
    columns = tuple(replace(column, field=fields.get(column.name)) for column in entries.columns())
    rows = upgraded.select([column.name for column in columns]).to_reader()
    lake.commit(replace(state, columns=columns), Change([rows], properties=properties), instead=True)
