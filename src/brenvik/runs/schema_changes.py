"""The columns of a table as new rules rename and retype them: what is known of it then, what changes, and whether it can."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from brenvik.errors import RulesChanged
from brenvik.ledger.records import TableState
from brenvik.merge import column_changes
from brenvik.merge.column_changes import NO_CHANGES, ColumnChanges, Retyped
from brenvik.merge.plan.steps import Step
from brenvik.merge.schema import TableSchema
from brenvik.merge.type_changes import can_become
from brenvik.model.rules import TableRules

if TYPE_CHECKING:
    from brenvik.engines.protocol import Engine
    from brenvik.engines.workspace import Workspace


def follow(rules: TableRules, state: TableState, *, rebuilds: bool = False) -> tuple[TableState, ColumnChanges]:
    """What is known of a table once its columns have the names and types of the rules, and how they change. What cannot change
    stays as it is. ``rebuilds``: the run compares all rows, so that a column can be merged into the one with its
    new name, and surrogate keys can follow the type of effective times."""
    if not (rules.renamed or rules.types):
        return state, NO_CHANGES
    there = {column.name for column in state.columns}
    renamed = tuple((old, new) for old, new in rules.renamed.items() if old in there and new not in there)
    merged = _merged(rules, state) if rebuilds else ()
    state, column_sets = _renamed(state, dict(renamed), {old: new for old, new, _ in merged})
    types = {column.name: _retyped(rules, state, column.name) for column in state.columns}
    changed = {name: kinds for name, kinds in types.items() if kinds}
    effective = changed.get(effective_then(state) or "")
    if effective and rules.surrogate_key == "hash" and not rebuilds:
        del changed[effective_then(state) or ""]
        effective = None
    changes = ColumnChanges(renamed, merged, column_sets, tuple(changed.items()), effective)
    return _with_types(state, changed, effective), changes


def _merged(rules: TableRules, state: TableState) -> tuple[tuple[str, str, tuple[int, ...]], ...]:
    """Columns that the table has beside those with their new names, as far as no change has both and they are of one type."""
    types, roles = state.types, {column.name: column.role for column in state.columns}
    found = []
    for old, new in rules.renamed.items():
        numbers = tuple(number for number, names in state.column_sets.items() if old in names)
        both = any({old, new} <= {*names} for names in state.column_sets.values())
        values = {roles.get(old), roles.get(new)} <= {"type_0", "type_1", "type_2"}
        if old in types and types.get(new) == types[old] and values and not both:
            found.append((old, new, numbers))
    return tuple(found)


def _renamed(
    state: TableState, renamed: Mapping[str, str], merged: Mapping[str, str]
) -> tuple[TableState, tuple[tuple[int, int], ...]]:
    """What is known of a table under new names, and which of its column sets then equal which others."""
    names = {**renamed, **merged}
    if not names:
        return state, ()
    rules: dict[str, Any] = {
        rule: [names.get(each, each) for each in value] if isinstance(value, list) else value
        for rule, value in state.rules.items()
    }
    rules["effective_at"] = names.get(rules["effective_at"], rules["effective_at"])
    sets = {
        number: tuple(sorted(names.get(name, name) for name in columns))
        for number, columns in state.column_sets.items()
    }
    last = {columns: number for number, columns in sorted(sets.items())}
    columns = tuple(
        replace(each, name=names.get(each.name, each.name)) for each in state.columns if each.name not in merged
    )
    equal = tuple((number, last[columns]) for number, columns in sets.items() if last[columns] != number)
    return replace(state, rules=rules, column_sets=sets, columns=columns), equal


def effective_then(state: TableState) -> str | None:
    """The effective time column under the rules that the table was made with."""
    order = state.rules["order_by"]
    return state.rules["effective_at"] or (order[0] if order else None)


def previous_then(state: TableState) -> Mapping[str, str]:
    """The columns of type 3 under the rules that the table was made with, each with that of its previous value."""
    return dict(state.rules.get("type_3", {}))


def _retyped(rules: TableRules, state: TableState, name: str) -> Retyped | None:
    """The type of a column and the one that it gets; None where it keeps its own."""
    of, to = state.types[name], rules.declared_type(name)
    if to is None or to in (of, of.wide) or not can_become(of, to):
        return None
    if of.sql != to.sql:
        is_order, is_effective = name in state.rules["order_by"], name == effective_then(state)
        if name in state.rules["natural_key"] or (is_effective and to.kind != "timestamp"):
            return None
        if is_order and to.kind not in ("decimal", "timestamp"):
            return None
    return of, to


def _with_types(state: TableState, types: Mapping[str, Retyped], effective: Retyped | None) -> TableState:
    columns = tuple(replace(each, type=types[each.name][1]) if each.name in types else each for each in state.columns)
    return replace(state, columns=columns, effective_type=effective[1] if effective else state.effective_type)


def check_values(work: Workspace, schema: TableSchema, changes: ColumnChanges, *, only_log: bool = False) -> None:
    """Raises RulesChanged when the table or its change log has values that a column could not hold any more."""
    faults = []
    for relation, question in column_changes.count_in_the_way(schema, changes, only_log=only_log):
        counts = work.row(question)
        faults += [
            f"{name}: {counts[name]:,} value{'s' if counts[name] > 1 else ''} in {relation} cannot be {to}; it is {of}"
            for name, (of, to) in changes.types
            if counts.get(name)
        ]
    if faults:
        raise RulesChanged(
            "\n  ".join([f"The columns of table {schema.table!r} cannot change as declared:", *faults])
            + "\nNothing was written. Declare a type that holds these values."
        )


def steps(
    engine: Engine, schema: TableSchema, changes: ColumnChanges, *, only_log: bool = False
) -> Iterator[Step[Any]]:
    """The steps that change the columns of the table and its change log."""
    if changes:
        narrow = _narrow(engine, schema, changes)
        for purpose, change in column_changes.table_changes(schema, changes, narrow=narrow, only_log=only_log):
            yield Step("prepare", purpose, alter=change)


def _narrow(engine: Engine, schema: TableSchema, changes: ColumnChanges) -> set[tuple[str, str]]:
    """Columns of an adopted table that the store limits to less than their new type."""
    texts = {name: to.length for name, (of, to) in changes.types if of.kind == to.kind == "text"}
    stored = engine.columns_of(schema.table) if texts else []
    limits = {column.name: column.type.length for column in stored if column.name in texts and column.type}
    return {
        (schema.table, name)
        for name, limit in limits.items()
        if limit is not None and limit < (texts[name] or limit + 1)
    }
