"""Before a load can validate its rows: rules resolved against feed and table, and the table there with all its columns."""

from __future__ import annotations

import itertools
import json
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

from brenvik.errors import DeclarationError, FeedError, ForeignTable, RulesChanged
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import TableState
from brenvik.ledger.schema import approved_deletes, change_log_table
from brenvik.merge import change_log, pending_deletes, sql
from brenvik.merge.conditions import check
from brenvik.merge.prune import near
from brenvik.merge.resolve import resolve
from brenvik.merge.schema import TableSchema
from brenvik.model.conditions import columns_of
from brenvik.model.feeds import Operations
from brenvik.model.rules import NEED_REBUILD, TableRules

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.engines.protocol import Engine
    from brenvik.feeds.protocol import Batch


_works = itertools.count(1)
LATER_THAN_ALL = 2**62
"""The run number in a preview: higher than any other."""


@dataclass
class UnderWay:
    """A run in progress: what its steps hand to each other."""

    engine: Engine
    rules: TableRules
    values: dict[str, Any]
    work: str
    preview: bool
    schema: TableSchema = None  # type: ignore[assignment]  # resolved once the feed's columns are known
    counts: dict[str, int] = field(default_factory=dict)
    plain: dict[str, dict[str, int]] = field(default_factory=dict)
    expected_counts: dict[str, int] = field(default_factory=dict)
    some_rejected: bool = False
    told: bool = True
    late: int = 0
    high_values: dict[str, Any] | None = None  # of the changes, where they are known already
    row_count: int = 0  # of the table before the run
    current_keys: int = 0  # keys of the table before the run
    current_in_scope: int | None = None  # of these, where an extract is of a part of the table
    current_change: int = 0
    ended_keys: int = 0  # keys that are current and will not be
    keeps_explicit: bool = False
    unaccounted: bool = False  # rows of the table that no kept change accounts for were seen to already
    scope: str | None = None  # of an extract: the part of the table in which what it does not hold is gone
    met: str | None = None  # of an extract: the current versions that its changes meet, where they are at hand
    some_pending: bool = False
    some_inactive_deletes: bool = False
    state: TableState = None  # type: ignore[assignment]  # of a table that is worked out again

    def do(self, text: str, **values: Any) -> int:
        return self.engine.run(text, self.values | values, work=self.work)

    def index(self, *relations: str) -> None:
        """Indexes working relations by key and number, for stores that need it."""
        for relation in relations:
            self.engine.index_work(relation, self.schema.keys, work=self.work)

    def current_rows(self, of: str, *, all_versions: bool) -> None:
        """From here on only rows with the keys of a working relation are read or changed."""
        self.engine.current_rows(near(self.schema, of, all_versions=all_versions), self.values, work=self.work)

    def ask(self, text: str, **values: Any) -> pa.Table:
        return self.engine.ask(text, self.values | values, work=self.work)

    def ask_values(self, text: str, **values: Any) -> pa.Table:
        """The same for a result that has columns of the table under their names."""
        return self.engine.ask(text, self.values | values, work=self.work, types=self.schema.answers)

    def rows(self, text: str) -> list[dict[str, Any]]:
        return self.engine.rows(text, self.values, work=self.work)

    def row(self, text: str) -> dict[str, Any]:
        (found,) = self.rows(text)
        return found

    def sizes(self, *names: str) -> dict[str, int]:
        """How many rows some working relations have."""
        return self.row(f"SELECT {', '.join(f'(SELECT count(*) FROM {sql.work(n)}) AS {sql.quote(n)}' for n in names)}")


def next_work() -> str:
    """A prefix for the working relations of one run or query."""
    return f"brenvik_w{next(_works)}_"


def exclude(
    it: UnderWay,
    runs: Iterable[int],
    *,
    some_explicit: bool = False,
    approved: str | None = None,
) -> None:
    """From here on the changes of these runs are not active. Explicit ones are; of deletes that await approval, those of the
    relation ``approved`` (see ``ledger.schema.approved_deletes``)."""
    left_out = sorted(runs)
    if not (left_out or some_explicit or it.schema.inactive_deletes) or not it.schema.change_log:
        return
    if it.schema.inactive_deletes:
        it.do(pending_deletes.find_approved(approved or approved_deletes()))
    it.do(change_log.EXCLUDED_RUNS)
    for start in range(0, len(left_out), change_log.AT_ONCE):
        part = left_out[start : start + change_log.AT_ONCE]
        it.do(change_log.exclude_runs(len(part)), **{f"left_out_{n}": run for n, run in enumerate(part)})
    it.schema = replace(it.schema, some_excluded=True)
    it.do(change_log.active_changes(it.schema, some_explicit=some_explicit))


def whole_column_set(ledger: Ledger[Engine], it: UnderWay) -> int:
    """The number of the column set with all columns of the table; it is added where it is new."""
    whole = tuple(sorted((*it.schema.keys, *it.schema.values)))
    column_sets = dict(it.schema.column_sets)
    column_set = next((number for number, names in column_sets.items() if names == whole), None)
    if column_set is None:
        column_set = max(column_sets) + 1
        if not it.preview:
            ledger.add_column_sets(it.rules.table, {column_set: whole})
        it.schema = it.schema.with_column_sets({**column_sets, column_set: whole})
    return column_set


_ROLES = {
    "key": "natural key", "type_0": "type 0", "type_1": "type 1", "type_2": "type 2", "when": "not in the table",
}  # fmt: skip
CAN_REBUILD = ("natural_key", "order_by", "effective_at", "deletes", "role")
"""The changed rules that a rebuild can follow; any other change needs a table of another name."""


def changed_rules(rules: TableRules, state: TableState) -> list[tuple[str, str]]:
    """How the rules differ from those the table was made with, as far as its rows depend on it: the rule, and a sentence."""
    then, today = state.rules, json.loads(json.dumps(rules._for_ledger(), default=str))
    changed = [
        (name, f"{name}: was {then.get(name)!r}, is {today[name]!r}")
        for name in NEED_REBUILD
        if then.get(name) != today[name]
    ]
    for column in state.columns:
        role = "key" if column.name in rules.natural_key else rules.role_of(column.name) or "when"
        if role != column.role:
            changed.append(("role", f"{column.name}: was {_ROLES[column.role]}, is {_ROLES[role]}"))
        declared = rules.declared_type(column.name)
        if declared is not None and declared not in (column.type, column.type.wide):
            changed.append(("types", f"{column.name}: was {column.type}, is {declared}"))
    return changed


def check_rules(rules: TableRules, state: TableState | None) -> None:
    """Raises RulesChanged when the table was made with rules that a load can no longer follow."""
    changed = changed_rules(rules, state) if state else []
    if changed:
        told = "\n  ".join(sentence for _, sentence in changed)
        can = rules.change_log and all(what in CAN_REBUILD for what, _ in changed)
        rebuild = f", recompute the table (brenvik rebuild {rules.table})" if can else ""
        raise RulesChanged(
            f"Table {rules.table!r} was made with other rules:\n  {told}\n"
            f"Nothing was written. Restore the rules{rebuild}, or load into a table with another name."
        )


def prepare(
    it: UnderWay,
    ledger: Ledger[Engine],
    batch: Batch,
    state: TableState | None,
    operations: Operations | None,
) -> TableSchema:
    """Resolves the rules against feed and table, and makes the table or adds columns as needed."""
    engine, rules = it.engine, it.rules
    if operations and operations.column not in batch.columns:
        raise FeedError(
            f"{batch.source} has no column {operations.column!r}, which is declared as the operation; "
            f"it has {', '.join(batch.columns)}."
        )
    _check_files(rules, batch, operations)
    columns = {name: kind for name, kind in batch.types.items() if not operations or name != operations.column}
    schema = resolve(
        rules,
        columns,
        known=state.columns if state else (),
        numbered_by_store=state.numbered_by_store if state else False,
        store=engine.capabilities,
        change_log=change_log_table(rules.table),
        source=batch.source,
    )
    if state is None:
        _check_foreign(ledger, rules)
        check_kept_apart(engine, rules)
    known = {column.name for column in state.columns} if state else set()
    new = [column.name for column in schema.columns if column.name not in known]
    if it.preview and new:
        schema = _stand_in(it, schema, exists=state is not None)
    elif state is None:
        make_table(it, schema)
        if schema.change_log:
            create(it, schema.change_log, schema.log_columns())
            engine.index(schema.change_log, schema.keys)
    elif new:
        for column in schema.columns:
            if column.name in new:
                for relation in filter(None, (schema.table if column.role != "when" else None, schema.change_log)):
                    it.do(f"ALTER TABLE {sql.relation(relation)} ADD COLUMN {sql.quote(column.name)} {column.type.sql}")
    return _with_new_column_sets(it, ledger, batch, state, schema)


def _check_foreign(ledger: Ledger[Engine], rules: TableRules) -> None:
    """Raises ForeignTable when the store has another table where a new one would be."""
    engine = ledger.engine
    if not engine.has_table(rules.stored_as):
        return

    if owner := ledger.owner_of(rules.stored_as):
        raise ForeignTable(
            f"{rules.stored_as!r} in {engine.address} is the table of {owner!r}. Nothing was written; choose another "
            f"table_name for {rules.table!r}."
        )
    raise ForeignTable(
        f"{engine.address} has a table {rules.stored_as!r} that is not in the ledger. Nothing was written. To take it over: "
        f"brenvik check {rules.table}, then brenvik adopt {rules.table}; or choose another table_name."
    )


def _with_new_column_sets(
    it: UnderWay, ledger: Ledger[Engine], batch: Batch, state: TableState | None, schema: TableSchema
) -> TableSchema:
    """The schema including the column sets of a batch; new ones are recorded in the ledger."""
    column_sets = state.column_sets if state else {}
    carried = {
        file: tuple(sorted(set(names) & set(schema.change_columns))) for file, names in batch.column_sets.items()
    }
    added: dict[int, tuple[str, ...]] = {}
    for names in dict.fromkeys(carried.values()):
        if names not in column_sets.values():
            added[max((*column_sets, *added), default=0) + 1] = names
    if not it.preview:
        ledger.add_column_sets(it.rules.table, added)
    return schema.with_column_sets({**column_sets, **added})


def make_table(it: UnderWay, schema: TableSchema) -> None:
    """Makes the table itself, empty."""
    create(it, schema.table, schema.table_columns())
    start = schema.system_column("valid_from")
    it.engine.index(schema.table, [*schema.keys, *([start] if start else [])], apart=schema.system_column("is_current"))


def check_kept_apart(engine: Engine, rules: TableRules) -> None:
    """Raises ForeignTable when the change log of a new table exists already: that of a table with a similar name."""
    kept = change_log_table(rules.table)
    if rules.change_log and engine.has_table(kept):
        raise ForeignTable(
            f"The change log of table {rules.table!r} would be {kept}, which already exists in {engine.address}. Nothing was "
            "written; choose another name for the table."
        )


def check_scope(schema: TableSchema, scope: str | None, feed: Iterable[str]) -> None:
    """Raises FeedError when the scope of an extract is not a condition over columns that the table and the rows have."""
    if scope is None:
        return
    there = [name for name in (*schema.keys, *schema.values) if name not in schema.type_0 and name in feed]
    try:
        unknown = [name for name in columns_of(scope) if name not in there]
    except ValueError as error:
        raise DeclarationError(f"extract_scope: {error}") from None
    if unknown:
        raise FeedError(
            f"extract_scope names {', '.join(unknown)}; it may only name columns that both the extract and table "
            f"{schema.table!r} have, and that are not type 0: {', '.join(there)}."
        )
    try:
        check(scope, {column.name: column.type for column in schema.columns})
    except ValueError as error:
        raise FeedError(f"extract_scope: {error}") from None


def _check_files(rules: TableRules, batch: Batch, operations: Operations | None) -> None:
    """Raises FeedError when one of several files lacks a column that every change needs."""
    needed = [*rules.natural_key, *rules.order_by, *filter(None, [rules.effective_column])]
    needed += [operations.column] if operations else []
    faults = [
        f"{part} has no column {name}; it has {', '.join(columns)}"
        for part, columns in batch.parts.items()
        for name in dict.fromkeys(needed)
        if name in batch.columns and name not in columns
    ]
    if faults:
        raise FeedError("\n  ".join([f"Not all files match the rules of table {rules.table!r}:", *faults]))


def create(it: UnderWay, relation: str, columns: list[tuple[str, str, bool]], *, temporary: bool = False) -> None:
    """Makes a table from columns: name, type, and NOT NULL."""
    given = ", ".join(f"{sql.quote(name)} {kind}{' NOT NULL' if needed else ''}" for name, kind, needed in columns)
    it.do(f"CREATE {'TEMP ' if temporary else ''}TABLE {sql.relation(relation)} ({given})")


def _stand_in(it: UnderWay, schema: TableSchema, *, exists: bool) -> TableSchema:
    """A preview alters nothing: where the table is missing or lacks a column, a working relation stands in for it."""
    seen = replace(schema, table=f"{sql.WORK}table", change_log=f"{sql.WORK}kept" if schema.change_log else None)
    pairs = [(schema.table, seen.table, schema.table_columns())]
    if schema.change_log and seen.change_log:
        pairs.append((schema.change_log, seen.change_log, schema.log_columns()))
    seen = replace(seen, store=replace(seen.store, row_id="brenvik_row"))
    if not exists:
        for _, stand_in, columns in pairs:
            create(it, stand_in, [("brenvik_row", "BIGINT", False), *columns], temporary=True)
        return seen
    for relation, stand_in, columns in pairs:
        there = set(it.ask(f"SELECT * FROM {sql.relation(relation)} WHERE 1 = 0").column_names)
        shown = [
            sql.quote(name) if name in there else f"CAST(NULL AS {kind}) AS {sql.quote(name)}"
            for name, kind, _ in columns
        ]
        it.do(
            f"CREATE TEMP VIEW {sql.relation(stand_in)} AS SELECT {sql.quote(it.engine.capabilities.row_id)} AS brenvik_row, "
            f"{', '.join(shown)} FROM {sql.relation(relation)}"
        )
    return seen
