"""What somebody else took away in the store: tables and columns that the ledger knows of and that are not there."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from brenvik.errors import StoreError
from brenvik.ledger_entries import TableState
from brenvik.ledger_tables import kept_table
from brenvik.rules import HOUSEKEEPING, TableRules
from brenvik.stores.base import Engine


def missing(engine: Engine, rules: TableRules, state: TableState) -> list[str]:
    """What of a table that was loaded before is gone, each a sentence with the next step; nothing where all is there."""
    return [*_of_table(engine, rules, state), *(_of_log(engine, rules, state) if rules.keep_changes else ())]


def absent_columns(engine: Engine, rules: TableRules, state: TableState) -> list[str]:
    """The columns of values that a table had after its last run and does not have."""
    there = {column.name for column in engine.columns_of(rules.stored_as)}
    return [column.name for column in state.columns if column.role != "when" and column.name not in there]


def _of_table(engine: Engine, rules: TableRules, state: TableState) -> Iterator[str]:
    name = rules.stored_as
    again = f"Make it again from its kept changes (brenvik rebuild {rules.table})" if rules.keep_changes else ""
    if not engine.has_table(name):
        yield (
            f"Table {name} is not in {engine.address} any more, though Brenvik loaded it; somebody dropped or renamed it. "
            f"{again or 'Put it back from a backup'}, or give the table of the rules another name."
        )
        return
    gone = absent_columns(engine, rules, state)
    if gone:
        yield (
            f"Table {name} has no {', '.join(gone)} any more; somebody dropped or renamed columns. "
            f"{again or 'Put the columns back'}, or give them the names they had."
        )
    there = {column.name for column in engine.columns_of(name)}
    own = [own for own in map(rules.housekeeping_name, HOUSEKEEPING) if own and own not in there]
    if own:
        yield (
            f"Table {name} has no {', '.join(own)} any more, which Brenvik keeps; somebody dropped or renamed them. "
            "Give them the names they had, or put the table back from a backup."
        )


def _of_log(engine: Engine, rules: TableRules, state: TableState) -> Iterator[str]:
    name = kept_table(rules.table)
    there = {column.name for column in engine.columns_of(name)}
    gone = [column.name for column in state.columns if column.name not in there]
    if not there:
        yield f"{name}, in which the changes of table {rules.table} are kept, is gone. Put it back from a backup."
    elif gone:
        yield f"{name} has no {', '.join(gone)} any more; somebody dropped or renamed them. Put it back from a backup."


@contextmanager
def told_if_missing(engine: Engine, rules: TableRules, state: TableState | None) -> Iterator[None]:
    """Where the store refuses what is done within, and something of the table is gone, the StoreError says that instead."""
    try:
        yield
    except StoreError as error:
        if state is None or type(error) is not StoreError:
            raise
        if found := missing(engine, rules, state):  # which may itself say what is the matter with the table
            raise StoreError("\n".join([*found, "Nothing was written."])) from error
        raise
