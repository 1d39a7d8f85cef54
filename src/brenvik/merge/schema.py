"""A table's rules brought together with the columns its feed really has: all that the SQL of a load depends on."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from brenvik.merge import sql
from brenvik.model.rules import Role
from brenvik.model.types import INTEGER, TIMESTAMP, ColumnType

# The columns of a change beside those of its feed.
ARRIVAL, SHAPE, DELETE, EFFECTIVE, RUN = (
    "brenvik_arrival",  # where the row stood, see ``arrivals``
    "brenvik_shape",  # which columns the row carried
    "brenvik_delete",  # 0 or 1
    "brenvik_effective",
    "brenvik_run",
)
AS_OF = "brenvik_as_of"
"""A column before the natural key, where runs of the past are decided again; see ``replay``."""


@dataclass(frozen=True)
class Traits:
    """What of a store its SQL depends on beside the language."""

    locator: str
    """The pseudo column by which a row is found again within one transaction."""
    moves: bool = False
    """Whether a row that is updated has another locator afterwards."""
    whole_rows: bool = False
    """Whether an update writes all of a row anyway, however few columns it sets."""
    streams: bool = False
    """Whether a stream of rows can be read while a question works on it."""
    seeks: bool = False
    """Whether the rows of a key are found through an index: then changes in the order of their keys cost less."""
    json_object: str = "json_object"
    """The function that makes a JSON object of names and values."""
    own_names: frozenset[str] = frozenset()
    """What no column can be called, beside the locator."""
    longest_name: int | None = None
    """How many bytes of a name count, where that is limited."""
    home: str = "main"
    """The schema of tables that are named without one; '' where there are no schemas."""
    cased: bool = False
    """Whether tables whose names differ in case only are different ones."""
    lacks: frozenset[str] = frozenset()
    """What it cannot hold or do: ``NUL`` (in texts), ``NaN``, ``comparing`` (decimals and times, beyond their being equal, with
    what a person writes)."""
    longest_key: int | None = None
    """How many bytes the texts of a natural key may have together, where that is limited."""
    beyond: str = ""
    """A regular expression for one character that its texts cannot hold; '' where they hold all of them."""


@dataclass(frozen=True)
class StoredColumn:
    """A column of a table as the store has it.

    ``type`` is None where no type of ours fits what the store calls ``said``. ``needed``: a row must bring a value, as null is
    refused and there is no default. ``filled``: the store gives the value itself (``default``, ``identity``, or ``generated``
    from other columns).
    """

    name: str
    type: ColumnType | None
    said: str
    needed: bool = False
    filled: Literal["", "default", "identity", "generated"] = ""


@dataclass(frozen=True)
class Column:
    """A column of the feed that the table or its kept changes hold."""

    name: str
    type: ColumnType
    role: Role | Literal["key", "when"]


@dataclass(frozen=True)
class Blueprint:
    """Everything about a table that its SQL depends on. Hashable: the SQL of a table is made once."""

    table: str
    kept: str | None
    columns: tuple[Column, ...]
    order: tuple[str, ...]
    effective: str | None
    effective_type: ColumnType
    grain: str | None
    deletes: Literal["close", "remove"]
    housekeeping: tuple[tuple[str, str | None], ...]
    has_open_end: bool
    store: Traits
    holds: Literal["hold", "ignore"] | None = None
    """What becomes of deletes that do not count by themselves; released ones close."""
    time_zone: str = "UTC"
    reject_if: tuple[tuple[str, str], ...] = ()
    delete_if: str | None = None
    beside: tuple[tuple[str, ColumnType], ...] = ()
    """Columns of the feed that only conditions look at."""
    shapes: tuple[tuple[int, tuple[str, ...]], ...] = field(default=())
    numbered_by_store: bool = False
    """Whether the store gives surrogate keys itself, in a table that it had before."""
    some_left_out: bool = False
    """Whether some kept changes do not count; those that do are in the working relation ``counting``."""

    @property
    def untyped(self) -> bool:
        """Whether the store keeps decimals and times as text, and lets any value stand in any column."""
        return "comparing" in self.store.lacks

    @property
    def locator(self) -> str:
        return self.store.locator

    def names(self, *roles: str) -> tuple[str, ...]:
        return tuple(column.name for column in self.columns if column.role in roles)

    @property
    def keys(self) -> tuple[str, ...]:
        return self.names("key")

    @property
    def values(self) -> tuple[str, ...]:
        """The columns of the table that are neither key nor housekeeping."""
        return self.names("type_0", "type_1", "type_2")

    @property
    def carried(self) -> tuple[str, ...]:
        """All columns of a change: keys, values, and what only tells when."""
        return tuple(column.name for column in self.columns)

    @property
    def type_0(self) -> tuple[str, ...]:
        return self.names("type_0")

    @property
    def type_1(self) -> tuple[str, ...]:
        return self.names("type_1")

    @property
    def type_2(self) -> tuple[str, ...]:
        return self.names("type_2")

    @property
    def counting(self) -> str:
        """The kept changes that count, as a relation."""
        return sql.work("counting") if self.some_left_out else sql.relation(str(self.kept))

    @property
    def has_versions(self) -> bool:
        """Whether a key can have several rows."""
        return bool(self.type_2)

    @property
    def keeps_lives(self) -> bool:
        """Whether rows of earlier lives stay in the table."""
        return bool(self.type_2) and self.deletes == "close"

    @property
    def meets_living(self) -> bool:
        """Whether a change only ever meets the living version of its key: not where a deleted row waits to be reopened."""
        return bool(self.type_2) or self.deletes == "remove"

    def shapes_of(self, rows: Iterable[Iterable[str]]) -> list[int]:
        """The numbers of the shapes of rows that carry these columns, each once."""
        numbers = {carried: shape for shape, carried in self.shapes}
        return list(dict.fromkeys(numbers[tuple(sorted({*names} & {*self.carried}))] for names in rows))

    def key_text(self, alias: str) -> str:
        """The whole key of a row as one text, for the ledger; of several columns each with its length before it, so that no two
        keys have the same text."""
        texts = [f"CAST({alias}.{sql.quote(name)} AS TEXT)" for name in self.keys]
        if len(texts) == 1:
            return texts[0]
        return " || ".join(f"CAST(length({text}) AS TEXT) || ':' || {text}" for text in texts)

    def own(self, column: str) -> str | None:
        """The name of a housekeeping column; None when it is left out."""
        return dict(self.housekeeping)[column]

    def type_of(self, name: str) -> ColumnType:
        return next(column.type for column in self.columns if column.name == name)

    def absent_in(self, name: str) -> tuple[int, ...]:
        """The shapes that do not carry a column."""
        return tuple(shape for shape, carried in self.shapes if name not in carried)

    def is_open(self, alias: str) -> str:
        """Whether a stored row is the living version of its key."""
        if valid_to := self.own("valid_to"):
            until = f"{alias}.{sql.quote(valid_to)}"
            return f"{until} = {self.open_end}" if self.has_open_end else f"{until} IS NULL"
        if is_deleted := self.own("is_deleted"):
            return f"{alias}.{sql.quote(is_deleted)} = FALSE"
        return "1 = 1"

    @property
    def open_end(self) -> str:
        return f"CAST(:open_end AS {self.effective_type.sql})" if self.has_open_end else "NULL"

    def table_columns(self) -> list[tuple[str, str, bool]]:
        """Name, SQL type and whether nulls are refused, of every column of the table, in order."""
        own = dict(self.housekeeping)
        when = self.effective_type.sql
        first = [(own["surrogate_key"], "BIGINT", True)]
        given = [
            (column.name, column.type.sql, column.role == "key") for column in self.columns if column.role != "when"
        ]
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

    def kept_columns(self) -> list[tuple[str, str, bool]]:
        """The same for the table of kept changes."""
        keys_and_order = {*self.keys, *self.order}
        return [
            (RUN, "BIGINT", True),
            (ARRIVAL, "BIGINT", True),
            (SHAPE, "INTEGER", True),
            (DELETE, "INTEGER", True),
            (EFFECTIVE, self.effective_type.sql, True),
            *((column.name, column.type.sql, column.name in keys_and_order) for column in self.columns),
        ]

    def with_shapes(self, shapes: Mapping[int, Iterable[str]]) -> Blueprint:
        return replace(self, shapes=tuple((number, tuple(carried)) for number, carried in sorted(shapes.items())))

    @property
    def answers(self) -> dict[str, ColumnType]:
        """The types of columns of working tables and of the table, by their names; for stores that do not know them."""
        found = types_of(self.columns, self.effective_type, self.housekeeping)
        found |= {f"brenvik_was_{index}": self.type_of(name) for index, name in enumerate(self.values)}
        found |= {f"brenvik_stays_{index}": INTEGER for index in range(len(self.values))}
        found |= dict.fromkeys((ARRIVAL, SHAPE, DELETE, "brenvik_again"), INTEGER)
        return found | {EFFECTIVE: self.effective_type, "brenvik_from": self.effective_type}

    def as_plain(self) -> dict[str, Any]:
        """What the ledger remembers of the columns."""
        return {
            "columns": [[column.name, str(column.type), column.role] for column in self.columns],
            "effective_type": str(self.effective_type),
            "numbered_by_store": self.numbered_by_store,
        }


def types_of(
    columns: Iterable[Column], effective: ColumnType, housekeeping: Iterable[tuple[str, str | None]]
) -> dict[str, ColumnType]:
    """The types of a table's columns by their names, its housekeeping columns included."""
    logical = ColumnType("boolean")
    own = {
        "surrogate_key": INTEGER, "valid_from": effective, "valid_to": effective, "is_current": logical,
        "is_deleted": logical, "first_run": INTEGER, "last_run": INTEGER, "first_loaded_at": TIMESTAMP,
        "last_loaded_at": TIMESTAMP,
    }  # fmt: skip
    found = {column.name: column.type for column in columns}
    return found | {name: own[column] for column, name in housekeeping if name}
