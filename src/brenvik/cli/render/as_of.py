"""The rows that were valid at a given time."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from brenvik.cli.render import paper

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.model.rules import TableRules
    from brenvik.project.project import Project


def show_as_of(
    project: Project, rules: TableRules, when: str, rows: pa.Table, *, past: str = "", limit: int, json: bool
) -> None:
    if json:
        paper.print_json(project, table=rules.table, as_of=when, rows=rows.to_pylist())
        return
    out = paper.console()
    many = "1 row" if len(rows) == 1 else f"{len(rows):,} rows"
    paper.heading(out, project, f"{rules.table} as of {when}", *filter(None, [past]), many)
    if not len(rows):
        return
    kept = {rules.system_column_name(name) for name in ("valid_from", "valid_to")}
    columns = [name for name in rows.column_names if name not in paper.system_columns(rules) or name in kept]
    numeric = [name for name in columns if str(rows.schema.field(name).type).startswith(("int", "dec", "double"))]
    table = paper.table_of(*columns, right=numeric)
    for row in rows.slice(0, limit).to_pylist():
        table.add_row(*(paper.moment(row[name]) if name in kept else paper.shown(row[name]) for name in columns))
    paper.indented(out, table)
    if len(rows) > limit:
        out.print(Text(f"  {len(rows) - limit:,} more rows: --limit {len(rows)} or --json"))
