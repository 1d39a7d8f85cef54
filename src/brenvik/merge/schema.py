"""The schema of a table: its rules combined with the columns its feed really has. The SQL of a run depends on nothing else."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Literal

from brenvik.merge import row_ids, sql
from brenvik.merge.capabilities import DUCKDB, Capabilities
from brenvik.merge.forms import Ignored, form
from brenvik.merge.stamps import Stamp
from brenvik.merge.surrogate_keys import Counter, GivenByStore, Hash, SurrogateKey, Uuid
from brenvik.model.rules import Role, SurrogateKeyKind, Type0Changes
from brenvik.model.types import INTEGER, TEXT, TIMESTAMP, ColumnType

# The columns of a change besides those of its feed.
SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, RUN = (
    "brenvik_sequence_no",  # the position of the row, see ``sequence``
    "brenvik_column_set",  # which columns the row has
    "brenvik_delete",  # 0 or 1
    "brenvik_effective_at",
    "brenvik_run",
)
BASE = 0
"""The column set of base states: changes of a trimmed log, which have all columns; see ``trim``."""
REPLAYED_RUN = "brenvik_replayed_run"
"""A column before the natural key, used when past runs are decided again; see ``past_runs``."""


@dataclass(frozen=True)
class StoredColumn:
    """A column of a table as the store describes it.

    ``type`` is None where none of our types matches the store's ``type_name``. ``needed``: the column is not nullable and has no
    default, so a row must bring a value. ``filled``: the store supplies the value itself (``default``, ``identity``, or
    ``generated`` from other columns).
    """

    name: str
    type: ColumnType | None
    type_name: str
    needed: bool = False
    filled: Literal["", "default", "identity", "generated"] = ""


@dataclass(frozen=True)
class Column:
    """A column of the feed that the table or its change log holds."""

    name: str
    type: ColumnType
    role: Role | Literal["type_3", "not_compared", "appended", "key", "when"]


@dataclass(frozen=True)
class TableSchema:
    """Everything about a table that its SQL depends on. It is hashable, so that each statement is built once."""

    table: str
    change_log: str | None
    columns: tuple[Column, ...]
    order: tuple[str, ...]
    effective: str | None
    effective_type: ColumnType
    time_precision: str | None
    deletes: Literal["close", "remove"]
    system_columns: tuple[tuple[str, str | None], ...]
    has_open_end: bool
    store: Capabilities
    inactive_deletes: Literal["review", "ignore"] | None = None
    """What happens to deletes that have no effect by themselves; an approved one closes."""
    time_zone: str = "UTC"
    reject_if: tuple[tuple[str, str], ...] = ()
    delete_if: str | None = None
    derive: tuple[tuple[str, str], ...] = ()
    """Columns that are computed from others of a row, each with its expression."""
    beside: tuple[tuple[str, ColumnType], ...] = ()
    """Columns of the feed that only conditions and derived columns use."""
    column_sets: tuple[tuple[int, tuple[str, ...]], ...] = field(default=())
    numbered_by_store: bool = False
    """Whether the store assigns the surrogate keys itself, as an adopted table may."""
    surrogate_key: SurrogateKeyKind = "counter"
    previous: tuple[tuple[str, str], ...] = ()
    """The columns of type 3, each with the column that keeps its previous value."""
    key_form: tuple[str, ...] = ()
    ignored: tuple[tuple[str, Ignored], ...] = ()
    """Columns of which some differences are ignored."""
    stamps: tuple[Stamp, ...] = ()
    rejects_ties: bool = False
    drops_duplicates: bool = False
    type_0_changes: Type0Changes = "protect"

    @property
    def appends(self) -> bool:
        """Whether rows are only appended to the table: it has no natural key."""
        return not self.keys

    @property
    def marks(self) -> tuple[Stamp, ...]:
        """The stamps of rows that an extract lacks."""
        return tuple(stamp for stamp in self.stamps if stamp.on("missing"))

    @property
    def stamps_ends(self) -> bool:
        """Whether the end of a version is stamped."""
        return any(stamp.marks_ends for stamp in self.stamps)

    @property
    def counts_type_0_changes(self) -> bool:
        """Whether a run must know how many of its changes have other values of type 0 columns."""
        return self.type_0_changes == "refuse" and bool(self.type_0)

    def differs(self, name: str, left: str, right: str, *, in_store: bool = True) -> str:
        """A test: whether two values of a column differ in what is compared. Outside of the store it is DuckDB that asks."""
        of_left, of_right = (self.compared(name, value, in_store=in_store) for value in (left, right))
        differ = f"{of_left} IS DISTINCT FROM {of_right}"
        if of_left == left:
            return differ
        return f"CASE WHEN {left} IS NOT DISTINCT FROM {right} THEN FALSE ELSE {differ} END"  # most values are the same

    def compared(self, name: str, value: str, *, in_store: bool = True) -> str:
        """What of a value of a column is compared."""
        ignored = dict(self.ignored).get(name)
        return value if ignored is None else self._in_form(name, value, ignored, in_store=in_store)

    def in_key_form(self, name: str, value: str, *, in_store: bool = True) -> str:
        """The value of a key column in the form of keys. Outside of the store it is DuckDB that makes it."""
        if name not in self.formed_keys:
            return value
        return self._in_form(name, value, self.key_form, in_store=in_store)

    @cached_property
    def formed_keys(self) -> tuple[str, ...]:
        """The key columns whose values are brought into one form."""
        return tuple(name for name in self.keys if self.key_form and self.type_of(name).kind == "text")

    def _in_form(self, name: str, value: str, ignored: Ignored, *, in_store: bool) -> str:
        store, untyped = (self.store, self.untyped) if in_store else (DUCKDB, False)
        return form(value, self.type_of(name), ignored, store, untyped=untyped)

    @property
    def untyped(self) -> bool:
        """Whether the store has decimals and times as text, and any value in any column."""
        return "comparing" in self.store.lacks

    @cached_property
    def row_id(self) -> tuple[str, ...]:
        """The columns of the table that identify a row within one transaction."""
        start = self.system_column("valid_from") if self.has_versions else None
        return self.store.row_id.columns(self.keys, start, self.system_column("surrogate_key"))

    @cached_property
    def row_ids(self) -> tuple[tuple[str, str], ...]:
        """The same, each with its name in working relations."""
        return tuple(zip(self.row_id, row_ids.names(self), strict=True))

    @cached_property
    def surrogate_keys(self) -> SurrogateKey:
        match self.surrogate_key:
            case "hash":
                return self._hash(self.effective_type if self.has_versions else None)
            case "uuid":
                return Uuid()
        return GivenByStore() if self.numbered_by_store else Counter()

    def _hash(self, starts: ColumnType | None) -> Hash:
        return Hash(tuple((name, self.type_of(name)) for name in self.keys), starts, self.store)

    @cached_property
    def durable_keys(self) -> Hash:
        """Where the keys come from that all versions of a natural key share."""
        return self._hash(None)

    @cached_property
    def followed_keys(self) -> tuple[tuple[str, Hash], ...]:
        """The columns with keys that follow from the other columns of a row."""
        of_rows = self.surrogate_keys if isinstance(self.surrogate_keys, Hash) else None
        keys = ((self.system_column("surrogate_key"), of_rows), (self.system_column("durable_key"), self.durable_keys))
        return tuple((column, key) for column, key in keys if column and key)

    def names(self, *roles: str) -> tuple[str, ...]:
        return tuple(column.name for column in self.columns if column.role in roles)

    @cached_property
    def keys(self) -> tuple[str, ...]:
        return self.names("key")

    @cached_property
    def values(self) -> tuple[str, ...]:
        """The columns of the table that are neither key nor system columns."""
        return self.names("type_0", "type_1", "type_2", "type_3", "not_compared", "appended")

    @cached_property
    def stored_values(self) -> tuple[str, ...]:
        """The same, and the columns that keep previous values, which no change has."""
        return (*self.values, *(name for _, name in self.previous))

    @cached_property
    def change_columns(self) -> tuple[str, ...]:
        """All columns of a change: keys, values, and those that only order it or date it."""
        return tuple(column.name for column in self.columns)

    @cached_property
    def type_0(self) -> tuple[str, ...]:
        return self.names("type_0")

    @cached_property
    def type_1(self) -> tuple[str, ...]:
        """The columns that are overwritten: those of type 1, and those of type 3."""
        return self.names("type_1", "type_3")

    @cached_property
    def type_2(self) -> tuple[str, ...]:
        return self.names("type_2")

    @cached_property
    def not_compared(self) -> tuple[str, ...]:
        return self.names("not_compared")

    @property
    def has_versions(self) -> bool:
        """Whether a key can have several rows."""
        return bool(self.type_2)

    @property
    def keeps_lifetimes(self) -> bool:
        """Whether rows of earlier lifetimes stay in the table."""
        return bool(self.type_2) and self.deletes == "close"

    @property
    def meets_current_only(self) -> bool:
        """Whether a change only ever meets the current version of its key, as no deleted row can be reopened."""
        return bool(self.type_2) or self.deletes == "remove"

    def column_sets_of(self, rows: Iterable[Iterable[str]]) -> list[int]:
        """The numbers of the column sets with these columns, each once."""
        numbers = {present: column_set for column_set, present in self.column_sets}
        return list(dict.fromkeys(numbers[tuple(sorted({*names} & {*self.change_columns}))] for names in rows))

    def key_text(self, alias: str) -> str:
        """The whole key of a row as one text, for the ledger. Each part of a composite key is preceded by its length, so that no
        two keys have the same text."""
        texts = [self.key_part_text(alias, name) for name in self.keys]
        if len(texts) == 1:
            return texts[0]
        return " || ".join(f"CAST(length({text}) AS TEXT) || ':' || {text}" for text in texts)

    def key_part_text(self, alias: str, name: str) -> str:
        """A column of the key as text; bytes in hexadecimal digits."""
        value = f"{alias}.{sql.quote(name)}"
        return self.store.hex.format(value) if self.type_of(name).kind == "binary" else f"CAST({value} AS TEXT)"

    def system_column(self, column: str) -> str | None:
        """The name of a system column; None when the table does without it."""
        return dict(self.system_columns)[column]

    def type_of(self, name: str) -> ColumnType:
        of = {previous: column for column, previous in self.previous}.get(name, name)
        return next(column.type for column in self.columns if column.name == of)

    def absent_in(self, name: str) -> tuple[int, ...]:
        """The numbers of the column sets that lack a column."""
        return tuple(column_set for column_set, present in self.column_sets if name not in present)

    def is_current(self, alias: str) -> str:
        """A test: whether a stored row is the current version of its key."""
        if valid_to := self.system_column("valid_to"):
            until = f"{alias}.{sql.quote(valid_to)}"
            return f"{until} = {self.open_end}" if self.has_open_end else f"{until} IS NULL"
        if is_deleted := self.system_column("is_deleted"):
            return f"{alias}.{sql.quote(is_deleted)} = FALSE"
        return "1 = 1"

    def truncated(self, value: str, *, in_store: bool = True) -> str:
        """An effective time, truncated to the precision of the rules: one with a zone in their time zone."""
        if self.time_precision is None:
            return value
        unit = sql.literal(self.time_precision)
        if self.effective_type.kind != "timestamp with time zone" or self.time_zone.upper() == "UTC":
            return f"CAST(date_trunc({unit}, {value}) AS {self.effective_type.sql})"
        zone = sql.literal(self.time_zone)
        if in_store and self.untyped:
            return f"brenvik_trunc_in({unit}, {value}, {zone})"
        local = f"timezone({zone}, {value})"
        begin = f"CAST(date_trunc({unit}, {local}) AS TIMESTAMP)"
        if self.time_precision in ("second", "minute", "hour"):  # an hour that clocks repeat begins twice
            return f"({value} - ({local} - {begin}))"
        return f"timezone({zone}, {begin})"

    @property
    def open_end(self) -> str:
        return f"CAST(:open_end AS {self.effective_type.sql})" if self.has_open_end else "NULL"

    def table_columns(self) -> list[tuple[str, str, bool]]:
        """Name, SQL type and NOT NULL of every column of the table, in order."""
        own = dict(self.system_columns)
        when = self.effective_type.sql
        first = [(own["surrogate_key"], self.surrogate_keys.type.sql, True), (own["durable_key"], TEXT.sql, True)]
        given = [
            (column.name, column.type.sql, column.role == "key") for column in self.columns if column.role != "when"
        ]
        given += [(name, self.type_of(name).sql, False) for _, name in self.previous]
        given += [(stamp.name, stamp.type.sql, False) for stamp in self.stamps]
        last = [
            (own["valid_from"], when, True),
            (own["valid_to"], when, self.has_open_end),
            (own["is_current"], "BOOLEAN", True),
            (own["is_deleted"], "BOOLEAN", True),
            (own["first_run"], "BIGINT", True),
            (own["last_run"], "BIGINT", True),
            (own["first_loaded_at"], "TIMESTAMP", True),
            (own["last_loaded_at"], "TIMESTAMP", True),
        ]
        return [(name, kind, needed) for name, kind, needed in first + given + last if name]

    def log_columns(self) -> list[tuple[str, str, bool]]:
        """The same for the change log."""
        keys_and_order = {*self.keys, *self.order}
        return [
            (RUN, "BIGINT", True),
            (SEQUENCE_NO, "BIGINT", True),
            (COLUMN_SET, "INTEGER", True),
            (DELETE, "INTEGER", True),
            (EFFECTIVE_AT, self.effective_type.sql, True),
            *((column.name, column.type.sql, column.name in keys_and_order) for column in self.columns),
        ]

    def with_column_sets(self, column_sets: Mapping[int, Iterable[str]]) -> TableSchema:
        return replace(
            self, column_sets=tuple((number, tuple(present)) for number, present in sorted(column_sets.items()))
        )

    @property
    def answers(self) -> dict[str, ColumnType]:
        """The types of the columns of working relations and of the table, by name; for stores that do not know them."""
        found = types_of(
            self.columns, self.effective_type, self.system_columns, self.surrogate_keys.type, self.previous
        )
        found |= {f"brenvik_before_{index}": self.type_of(name) for index, name in enumerate(self.stored_values)}
        found |= {f"brenvik_stays_{index}": INTEGER for index in range(len(self.values))}
        found |= dict.fromkeys((SEQUENCE_NO, COLUMN_SET, DELETE, "brenvik_is_duplicate"), INTEGER)
        times = {EFFECTIVE_AT: self.effective_type, "brenvik_from": self.effective_type}
        return found | times | {"brenvik_pending_since": TIMESTAMP}

    def as_plain(self) -> dict[str, Any]:
        """What the ledger remembers of the columns."""
        return {
            "columns": [[column.name, str(column.type), column.role] for column in self.columns],
            "effective_type": str(self.effective_type),
            "numbered_by_store": self.numbered_by_store,
        }


def types_of(
    columns: Iterable[Column],
    effective: ColumnType,
    system_columns: Iterable[tuple[str, str | None]],
    surrogate_key: ColumnType,
    previous: Iterable[tuple[str, str]],
) -> dict[str, ColumnType]:
    """The types of all columns of a table by name, its system columns included."""
    logical = ColumnType("boolean")
    own = {
        "surrogate_key": surrogate_key, "durable_key": TEXT, "valid_from": effective, "valid_to": effective,
        "is_current": logical, "is_deleted": logical, "first_run": INTEGER, "last_run": INTEGER, "first_loaded_at": TIMESTAMP,
        "last_loaded_at": TIMESTAMP,
    }  # fmt: skip
    found = {column.name: column.type for column in columns}
    found |= {name: found[column] for column, name in previous if column in found}
    return found | {name: own[column] for column, name in system_columns if name}
