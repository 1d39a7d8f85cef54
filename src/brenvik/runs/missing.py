"""Tables and columns that the ledger knows of and that the store no longer has."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from brenvik.engines.protocol import Engine
from brenvik.errors import StoreError
from brenvik.ledger.records import TableState
from brenvik.ledger.schema import change_log_table
from brenvik.model.rules import SYSTEM_COLUMNS, TableRules


def missing(engine: Engine, rules: TableRules, state: TableState) -> list[str]:
    """What is gone of a table that was loaded before, each a sentence with the next step; nothing where all is there."""
    return [*_of_table(engine, rules, state), *(_of_log(engine, rules, state) if rules.is_logged else ())]


def absent_columns(engine: Engine, rules: TableRules, state: TableState) -> list[str]:
    """The value columns that a table had after its last run and no longer has."""
    return _absent(state, {column.name for column in engine.columns_of(rules.stored_as)})


def _absent(state: TableState, there: set[str]) -> list[str]:
    return [column.name for column in state.columns if column.role != "when" and column.name not in there]


def _of_table(engine: Engine, rules: TableRules, state: TableState) -> Iterator[str]:
    name, there = rules.stored_as, {column.name for column in engine.columns_of(rules.stored_as)}
    from_log = f"from its change log (brenvik rebuild {rules.table})" if rules.is_logged else "from a backup"
    if not there:
        yield (
            f"Table {name} no longer exists in {engine.address}; it was dropped or renamed outside of Brenvik. Recreate it "
            f"{from_log}, or choose another table_name."
        )
        return
    if gone := _absent(state, there):
        yield (
            f"Table {name} no longer has {', '.join(gone)}; columns were dropped or renamed outside of Brenvik. Restore them "
            f"{from_log}, or rename them back."
        )
    if own := [own for own in map(rules.system_column_name, SYSTEM_COLUMNS) if own and own not in there]:
        yield (
            f"Table {name} no longer has {', '.join(own)}, which Brenvik maintains; they were dropped or renamed. Rename them "
            "back, or restore the table from a backup."
        )


def _of_log(engine: Engine, rules: TableRules, state: TableState) -> Iterator[str]:
    name = change_log_table(rules.table)
    there = {column.name for column in engine.columns_of(name)}
    gone = [column.name for column in state.columns if column.name not in there]
    if not there:
        yield f"{name}, the change log of table {rules.table}, no longer exists. Restore it from a backup."
    elif gone:
        yield f"{name} no longer has {', '.join(gone)}; they were dropped or renamed. Restore it from a backup."


@contextmanager
def explain_if_missing(engine: Engine, rules: TableRules, state: TableState | None) -> Iterator[None]:
    """Replaces a StoreError by one that says what is gone of the table, where something is."""
    try:
        yield
    except StoreError as error:
        if state is None or type(error) is not StoreError:
            raise
        if found := missing(engine, rules, state):  # which may itself say what is the matter with the table
            raise StoreError("\n".join([*found, "Nothing was written."])) from error
        raise
