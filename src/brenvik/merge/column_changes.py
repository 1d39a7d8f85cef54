"""What new rules change about existing columns: their names and their types. For new columns see ``plan.preparing``."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass

from brenvik.merge import sql
from brenvik.merge.schema import COLUMN_SET, EFFECTIVE_AT, TableSchema
from brenvik.merge.table_changes import ChangeTypes, DropColumns, RenameColumns, SetColumns, TableChange
from brenvik.merge.type_changes import converted, in_the_way
from brenvik.model.types import ColumnType

Retyped = tuple[ColumnType, ColumnType]
"""The type of a column before and after."""


@dataclass(frozen=True)
class ColumnChanges:
    """How existing columns change.

    ``renamed`` are pairs of a former and a new name; so are ``merged``, where the table has both columns: each with the numbers
    of the column sets that have the former one. ``column_sets`` maps the numbers of column sets that are then equal to others.
    ``types`` are by new name; ``effective`` is the type of effective times.
    """

    renamed: tuple[tuple[str, str], ...] = ()
    merged: tuple[tuple[str, str, tuple[int, ...]], ...] = ()
    column_sets: tuple[tuple[int, int], ...] = ()
    types: tuple[tuple[str, Retyped], ...] = ()
    effective: Retyped | None = None

    def __bool__(self) -> bool:
        return bool(self.renamed or self.merged or self.types)

    @property
    def names(self) -> dict[str, str]:
        """The new names by the former ones."""
        return dict(self.renamed) | {old: new for old, new, _ in self.merged}

    @property
    def sentences(self) -> list[str]:
        """What changes, a sentence for each column."""
        names = [f"Column {old} is renamed to {new}." for old, new in self.renamed]
        names += [f"Column {old} is merged into {new}." for old, new, _ in self.merged]
        return names + [f"Column {name} is changed from {of} to {to}." for name, (of, to) in self.types]


NO_CHANGES = ColumnChanges()


def _relations(schema: TableSchema, *, only_log: bool) -> Iterator[tuple[str, bool, set[str]]]:
    """The table and its change log: name, whether it is the log, and its columns."""
    if not only_log:
        yield schema.table, False, {column.name for column in schema.columns if column.role != "when"}
    if schema.change_log:
        yield schema.change_log, True, {column.name for column in schema.columns}


def count_in_the_way(
    schema: TableSchema, changes: ColumnChanges, *, only_log: bool = False
) -> Iterator[tuple[str, str]]:
    """For the table and its change log, before anything changes: the relation, and a query for how many of its values their
    column could not hold any more, in one row by the name of the column; nothing where it can hold all of them."""
    former = {new: old for old, new in changes.renamed}
    for relation, is_log, _ in _relations(schema, only_log=only_log):
        tests = {
            name: in_the_way(f"t.{sql.quote(former.get(name, name))}", of, to, schema.store)
            for name, (of, to) in _retyped(schema, changes, of_log=is_log).items()
        }
        counts = [f"{sql.count_if(test)} AS {sql.quote(name)}" for name, test in tests.items() if test]
        if counts:
            yield relation, f"SELECT {', '.join(counts)} FROM {sql.relation(relation)} t"


def table_changes(
    schema: TableSchema, changes: ColumnChanges, *, narrow: Collection[tuple[str, str]], only_log: bool = False
) -> Iterator[tuple[str, TableChange]]:
    """The changes of the table and its change log, each with its purpose, in order. ``narrow`` are relations and columns whose
    type in the store is too narrow though it has the same name here."""
    for relation, is_log, names in _relations(schema, only_log=only_log):
        renamed = tuple((old, new) for old, new in changes.renamed if new in names)
        if renamed:
            yield f"new names: {', '.join(new for _, new in renamed)}", RenameColumns(relation, renamed)
        if merged := [(old, new, numbers) for old, new, numbers in changes.merged if new in names]:
            if is_log:
                given = tuple((new, _one_of(sql.quote(old), sql.quote(new), numbers)) for old, new, numbers in merged)
                yield "columns are merged", SetColumns(relation, (*given, *_column_set(changes)))
            yield "merged columns are dropped", DropColumns(relation, tuple(old for old, _, _ in merged))
        retyped = tuple(
            (name, to.sql, converted(sql.quote(name), of, to, schema.store))
            for name, (of, to) in _retyped(schema, changes, of_log=is_log).items()
            if of.sql != to.sql or (relation, name) in narrow
        )
        if retyped:
            yield f"other types: {', '.join(name for name, _, _ in retyped)}", ChangeTypes(relation, retyped)


def _retyped(schema: TableSchema, changes: ColumnChanges, *, of_log: bool) -> dict[str, Retyped]:
    """The columns of the table or its change log that get another type: those of rows, of times, and in the table of previous
    values."""
    there = {column.name for column in schema.columns if of_log or column.role != "when"}
    types = {name: kinds for name, kinds in changes.types if name in there}
    if changes.effective:
        times = [EFFECTIVE_AT] if of_log else map(schema.system_column, ("valid_from", "valid_to"))
        types |= {name: changes.effective for name in times if name}
    return types | {name: types[of] for of, name in schema.previous if of in types and not of_log}


def _one_of(old: str, new: str, numbers: Collection[int]) -> str:
    """The value of two columns that become one."""
    return f"CASE WHEN {COLUMN_SET} IN ({', '.join(map(str, numbers))}) THEN {old} ELSE {new} END" if numbers else new


def _column_set(changes: ColumnChanges) -> Iterator[tuple[str, str]]:
    if changes.column_sets:
        cases = " ".join(f"WHEN {number} THEN {same}" for number, same in changes.column_sets)
        yield COLUMN_SET, f"CASE {COLUMN_SET} {cases} ELSE {COLUMN_SET} END"


def stood_in(schema: TableSchema, changes: ColumnChanges, *, of_log: bool) -> dict[str, str]:
    """What stands for columns of the table or its change log, as expressions over a row ``t`` of it as it is."""
    found = {new: f"t.{sql.quote(old)}" for old, new in changes.renamed}
    for old, new, numbers in changes.merged if of_log else ():
        found[new] = _one_of(f"t.{sql.quote(old)}", f"t.{sql.quote(new)}", numbers)
    found |= dict(_column_set(changes)) if of_log else {}
    for name, (of, to) in _retyped(schema, changes, of_log=of_log).items():
        found[name] = converted(found.get(name, f"t.{sql.quote(name)}"), of, to, schema.store)
    return found
