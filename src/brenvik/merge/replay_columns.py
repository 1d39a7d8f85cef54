"""Columns of replayed keys whose values no comparison tells: common table expressions of the query for ``decided``."""

from __future__ import annotations

from brenvik.merge import sql
from brenvik.merge.current_path import before_column, is_present
from brenvik.merge.replay_decisions import BEGINS, starts
from brenvik.merge.schema import DELETE, TableSchema


def kept_columns(schema: TableSchema) -> tuple[tuple[int, str], ...]:
    """The columns that keep a value while others come that do not really differ from it; each with its place."""
    return tuple(
        (index, name)
        for index, name in enumerate(schema.values)
        if name in dict(schema.ignored) and name not in (*schema.type_0, *schema.not_compared)
    )


def first_forms(schema: TableSchema, *, meets_base: bool) -> dict[str, str]:
    """Common table expressions before ``lined``, for columns that keep a value while others come that do not really differ from
    it: the first value (``brenvik_kept_0``, …) since the last real difference."""
    columns = kept_columns(schema)
    if not columns:
        return {}
    within = f"PARTITION BY {sql.columns(schema.keys, 's')}, s.brenvik_lifetime, s.{DELETE}"
    line = "ORDER BY s.brenvik_position"
    before = [f"lag(s.{sql.quote(name)}) OVER ({within} {line}) AS brenvik_former_{n}" for n, name in columns]
    steps = [
        f"sum({sql.flag(schema.differs(name, f's.{sql.quote(name)}', f's.brenvik_former_{n}'))}) "
        f"OVER ({within} {line} ROWS UNBOUNDED PRECEDING) AS brenvik_form_{n}"
        for n, name in columns
    ]
    kept = [
        f"first_value(s.{sql.quote(name)}) OVER ({within}, s.brenvik_form_{n} {line}) AS brenvik_kept_{n}"
        for n, name in columns
    ]
    layers = {"followed": before, "formed": steps, "kept": kept}
    found, last, where = {}, "compared" if meets_base else "states", " WHERE s.brenvik_is_last = 1"
    for name, items in layers.items():
        found[name], last, where = f" SELECT s.*, {', '.join(items)} FROM {last} s{where}", name, ""
    return found


def beside(schema: TableSchema) -> dict[str, str]:
    """Common table expressions after ``lined``, for columns whose values no comparison tells.

    Those that are not compared have the value of the last event of the lifetime that sets and has them; what the event before
    left there comes with it. Previous values are those from before the last event of the lifetime that changed the column.
    """
    columns = {schema.values.index(name): name for name in schema.not_compared}
    previous = {schema.values.index(column): (column, name) for column, name in schema.previous}
    if not (columns or previous):
        return {}
    keys, step = sql.columns(schema.keys, "j"), "brenvik_step_{}".format
    within, line = f"PARTITION BY {keys}, j.brenvik_lifetime, j.{DELETE}", "ORDER BY j.brenvik_position"

    def first(value: str, n: int | None = None) -> str:
        return f"first_value({value}) OVER ({within}{f', j.{step(n)}' if n is not None else ''} {line})"

    sets = {
        n: " AND ".join(filter(None, ["j.brenvik_sets = 1", is_present(schema, "j", name)]))
        for n, name in columns.items()
    }
    sets |= {
        n: f"j.{DELETE} = 0 AND NOT ({BEGINS}) AND j.{sql.quote(column)} IS DISTINCT FROM j.brenvik_prev_{n}"
        for n, (column, _) in previous.items()
    }
    steps = [
        f"sum({sql.flag(test)}) OVER ({within} {line} ROWS UNBOUNDED PRECEDING) AS {step(n)}"
        for n, test in sets.items()
    ]
    values = [f"{first(f'j.brenvik_said_{n}', n)} AS {sql.quote(name)}" for n, name in columns.items()]
    values += [
        f"CASE WHEN j.{step(n)} = 0 THEN {first(f'j.brenvik_earlier_{n}')} ELSE {first(f'j.brenvik_prev_{n}', n)} END "
        f"AS {sql.quote(name)}"
        for n, (_, name) in previous.items()
    ]
    before = [
        f"lag(j.{sql.quote(name)}) OVER (PARTITION BY {keys} {line}) AS {before_column(schema, name)}"
        for name in columns.values()
    ]
    marks = [f"{starts(schema, schema.type_2 or schema.type_1)} AS brenvik_sets"] if columns else []
    layers = {"marked": marks, "stepped": steps, "valued": values, "told": before}
    found, last = {}, "lined"
    for name, items in layers.items():
        if items:
            found[name], last = f" SELECT j.*, {', '.join(items)} FROM {last} j", name
    return found
