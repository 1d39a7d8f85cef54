"""What a person declares about a table."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import KW_ONLY
from datetime import date, datetime, timedelta
from typing import TYPE_CHECKING, Any, Literal

from pydantic import ConfigDict, Field, ValidationError, field_validator, model_validator
from pydantic.dataclasses import dataclass

from brenvik.errors import RulesError
from brenvik.model.rule_errors import (
    checked_date,
    checked_period,
    faults_of,
    faults_of_effective_time,
    faults_of_expressions,
    faults_of_ignored,
    faults_of_limits,
    faults_of_log,
    faults_of_marks,
    faults_of_renamed,
    faults_of_zone,
    faults_without_key,
    table_in,
)
from brenvik.model.text_forms import Difference, KeyForm
from brenvik.model.types import CAN_ORDER, ColumnType, parse_type
from brenvik.model.watermarks import parse_period

Role = Literal["type_0", "type_1", "type_2"]
"""The types of slowly changing dimensions."""
_COMPARED: tuple[Role, ...] = ("type_0", "type_1", "type_2")
LISTS = (*_COMPARED, "type_3", "not_compared")
"""The rules that list columns which the table has beside its key."""
TimePrecision = Literal["second", "minute", "hour", "day", "week", "month"]
Type0Changes = Literal["protect", "refuse", "first_arrived"]
StampEvent = Literal["added", "overwritten", "closed", "deleted", "missing"]
SurrogateKeyKind = Literal["counter", "hash", "uuid", "identity"]
Kind = Literal["changes", "upserts", "full_extract", "append"]

RESERVED_PREFIX = "brenvik_"
SYSTEM_COLUMNS = (
    "surrogate_key", "durable_key", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run",
    "first_loaded_at", "last_loaded_at",
)  # fmt: skip

OF_APPENDED_ROWS = ("surrogate_key", "first_run", "first_loaded_at")
"""The system columns of a table without a natural key."""

# A change of these rules needs the table recomputed.
NEED_REBUILD = (
    "table_name",
    "natural_key",
    "natural_key_form",
    "order_by",
    "effective_at",
    "time_precision",
    "deletes",
    "change_log",
    "open_end",
    "surrogate_key",
    "system_columns",
)


@dataclass(frozen=True, config=ConfigDict(extra="forbid", hide_input_in_errors=True))
class TableRules:
    """The rules of one table, validated and immutable. Types 0 to 2 are those of slowly changing dimensions (SCD).

    table
        The name of the table, here and in the ledger.
    table_name
        Its name in the store, if different: ``mart.buoy`` is the table buoy in the schema mart.
    natural_key
        The columns that identify a row in the source. Never null, never floating point. A table without them is one that rows
        are only appended to (``kind = "append"``), with no history and no change log.
    natural_key_form
        The form that texts of the natural key are brought to before anything else, so that two spellings are one key: ``"upper"``
        or ``"lower"`` case, single ``"blanks"`` and none at the ends, ``"unicode"`` for composed characters.
    order_by
        The columns that tell which of two changes of a key is the later, the most significant first: timestamps, dates,
        integers or decimals, never null. Without them changes apply in order of arrival.
    effective_at
        The column with the time from which a change is valid; by default the first of ``order_by``, otherwise the time of the
        load. A timestamp, a date or an integer.
    time_precision
        ``"second"``, ``"minute"``, ``"hour"``, ``"day"``, ``"week"`` (from Monday) or ``"month"``: effective times are truncated
        to it, those with a zone in ``time_zone``. Dates can be truncated to weeks or months.
    ties
        What counts where changes have the same key, effective time and order but differ otherwise: ``"latest_arrival"``, the one
        that arrived last; or ``"reject"`` rejects all of them, and those that tie with a change that was loaded before. Without
        order columns changes never tie, but rows of a full extract with the same key do.
    exact_duplicates
        In a table without a natural key, rows that equal another one in all columns: ``"keep"``, or ``"drop"`` all but the first.
    type_0, type_1, type_2
        Columns that keep their first known value; that are overwritten on all versions of the key; that open a new version.
    type_0_changes
        What a change of a type 0 column means that has another value: with ``"protect"`` the first value in the history of the
        key stays, so that a late change can replace it; with ``"first_arrived"`` the first one that was loaded, so that the order
        of arrival matters. ``"refuse"`` is like ``"protect"``, and blocks the load until such changes are approved.
    type_3
        Columns that are overwritten on all versions of the key, each with the name of a further column that keeps the previous
        value: the last one of the present lifetime that differs.
    other_columns
        The type of the columns that no list names. Order columns and the effective column are in the table only if one of the
        lists names them.
    not_compared
        Columns that are stored but not compared, such as the time at which a row was read: a change that differs only in them
        is unchanged. A version has the values of the change that opened it; without type 2 columns, a row has those of the
        change that overwrote it last.
    ignored_differences
        Differences that make no change, by column: of texts ``"case"``, ``"blanks"`` (at the ends, and how many in a row) and
        ``"unicode"`` (composed or decomposed characters); of decimals and doubles ``{"round": n}``, those that vanish when
        both are rounded to n digits. The value that came first stays until a different one comes.
    exclude
        Columns of the feed that the table does not have. They may still order changes.
    derive
        Columns that are computed from others of the same row, by name: SQL expressions as in conditions, computed from values of
        the types that the columns have in the table. A row that lacks one of these columns lacks the derived one.
    new_columns
        What a column of the feed means that neither the table nor its rules have: ``"add"`` adds it to the table, ``"ignore"``
        leaves it out, ``"refuse"`` fails the load.
    missing_columns
        What a column of the table means that the feed lacks: ``"keep"`` keeps its values, ``"refuse"`` fails the load.
    renamed
        New names of columns, by their former names. The next load or rebuild renames them in the table and its change log; feeds
        may still use the former names. All other rules use the new ones.
    deletes
        ``"close"`` ends the current version, ``"remove"`` removes all rows of the key; ``"review"`` leaves deletes pending
        until they are approved, ``"ignore"`` ignores them. The last two need the change log.
    change_log
        Whether every accepted change is logged. Without the log late changes are spliced into the stored versions as well as
        possible, and the table may depend on the order of arrival. A period, as in ``"400 days"``: older changes become base
        states, and late changes and reverts reach back that far; for dates and timestamps as effective time.
    max_rejects
        How many rows of a load may be rejected before it fails: a whole number, or a share between 0 and 1. None: any number.
    reject_if
        Conditions by name: SQL expressions over the columns of a row; a row is rejected where one is true.
    delete_if
        A condition for deletes: a row for which it is true deletes its key.
    max_deletes, max_changes
        How many keys a load may delete, and how many changes may overwrite or open versions: a whole number, or a share of the
        current keys between 0 and 1, rounded up. A load beyond that is blocked until it is approved. None: any number.
    types
        Types of columns whose source has none (CSV), or whose type is to differ from the source's. The next load or rebuild
        converts an existing column to a wider type.
    surrogate_key
        The values of the column surrogate_key: ``"counter"``, numbers as rows are added; ``"hash"``, an MD5 sum of the natural
        key and, in tables with type 2 columns, ``valid_from``, the same in every store and after every rebuild; ``"uuid"``,
        UUIDs; both are texts. ``"identity"``, numbers that the store gives, also to rows that other programs insert; not in a
        lakehouse.
    system_columns
        Other names for the system columns, or False to omit one:
        surrogate_key, valid_from, valid_to, is_current, is_deleted, first_run, last_run, first_loaded_at, last_loaded_at. A table
        has a durable_key, one for all versions of a natural key, only where this names the column: an MD5 sum of the natural key,
        as text.
    stamps
        Further columns of the table that are written with what happens to a row: by column, an expression for ``added`` (the row
        is new in the table), ``overwritten`` (in place), ``closed`` (its version ends) and ``deleted`` (it ends by a delete; if
        absent, ``closed`` counts), over ``run``, ``feed`` and ``loaded_at`` and constants. The value for the end of a version is
        null again when the version is open again. Where deletes are ignored, ``missing`` marks rows that a full extract lacks,
        until they are back.
    open_end
        The value of ``valid_to`` in a current version: null, or a far-future value of the effective column's type. A row with an
        effective time that is not before it is rejected.
    time_zone
        The zone of timestamps that come without one for a column that needs one, and of ``time_precision``.
    write_mode
        How a lakehouse table is changed: ``"merge_on_read"`` records which rows are deleted, which is cheap to write and costs
        readers a little until ``compact``; ``"copy_on_write"`` rewrites the files without them. Readers see the same rows. Other
        stores ignore it.

    Raises RulesError that reports all errors at once.
    """

    table: str = Field(min_length=1)
    _: KW_ONLY
    natural_key: tuple[str, ...] = ()
    natural_key_form: tuple[KeyForm, ...] = ()
    order_by: tuple[str, ...] = ()
    effective_at: str | None = None
    time_precision: TimePrecision | None = None
    ties: Literal["latest_arrival", "reject"] = "latest_arrival"
    exact_duplicates: Literal["keep", "drop"] = "keep"
    type_0: tuple[str, ...] = ()
    type_1: tuple[str, ...] = ()
    type_2: tuple[str, ...] = ()
    type_0_changes: Type0Changes = "protect"
    type_3: Mapping[str, str] = Field(default_factory=dict)
    other_columns: Role = "type_2"
    not_compared: tuple[str, ...] = ()
    ignored_differences: Mapping[str, tuple[Difference, ...] | Mapping[Literal["round"], int]] = Field(
        default_factory=dict
    )
    exclude: tuple[str, ...] = ()
    derive: Mapping[str, str] = Field(default_factory=dict)
    new_columns: Literal["add", "ignore", "refuse"] = "add"
    missing_columns: Literal["keep", "refuse"] = "keep"
    renamed: Mapping[str, str] = Field(default_factory=dict)
    deletes: Literal["close", "remove", "review", "ignore"] = "close"
    change_log: bool | str = True
    max_rejects: int | float | None = None
    reject_if: Mapping[str, str] = Field(default_factory=dict)
    delete_if: str | None = None
    max_deletes: int | float | None = 0.2
    max_changes: int | float | None = None
    types: Mapping[str, str] = Field(default_factory=dict)
    surrogate_key: SurrogateKeyKind = "counter"
    system_columns: Mapping[str, str | Literal[False]] = Field(default_factory=dict)
    stamps: Mapping[str, Mapping[StampEvent, str]] = Field(default_factory=dict)
    open_end: datetime | date | int | None = None
    time_zone: str = "UTC"
    table_name: str | None = Field(default=None, min_length=1)
    write_mode: Literal["merge_on_read", "copy_on_write"] = "merge_on_read"

    if TYPE_CHECKING:  # a single name stands for a tuple of one

        def __init__(
            self,
            table: str,
            *,
            natural_key: str | Iterable[str] = (),
            natural_key_form: KeyForm | Iterable[KeyForm] = (),
            order_by: str | Iterable[str] = (),
            effective_at: str | None = None,
            time_precision: TimePrecision | None = None,
            ties: Literal["latest_arrival", "reject"] = "latest_arrival",
            exact_duplicates: Literal["keep", "drop"] = "keep",
            type_0: str | Iterable[str] = (),
            type_1: str | Iterable[str] = (),
            type_2: str | Iterable[str] = (),
            type_0_changes: Type0Changes = "protect",
            type_3: Mapping[str, str] = {},
            other_columns: Role = "type_2",
            not_compared: str | Iterable[str] = (),
            ignored_differences: Mapping[str, str | Iterable[str] | Mapping[str, int]] = {},
            exclude: str | Iterable[str] = (),
            derive: Mapping[str, str] = {},
            new_columns: Literal["add", "ignore", "refuse"] = "add",
            missing_columns: Literal["keep", "refuse"] = "keep",
            renamed: Mapping[str, str] = {},
            deletes: Literal["close", "remove", "review", "ignore"] = "close",
            change_log: bool | str = True,
            max_rejects: int | float | None = None,
            reject_if: Mapping[str, str] = {},
            delete_if: str | None = None,
            max_deletes: int | float | None = 0.2,
            max_changes: int | float | None = None,
            types: Mapping[str, str] = {},
            surrogate_key: SurrogateKeyKind = "counter",
            system_columns: Mapping[str, str | Literal[False]] = {},
            stamps: Mapping[str, Mapping[StampEvent, str]] = {},
            open_end: datetime | date | int | None = None,
            time_zone: str = "UTC",
            table_name: str | None = None,
            write_mode: Literal["merge_on_read", "copy_on_write"] = "merge_on_read",
        ) -> None: ...

    @field_validator(
        "natural_key", "natural_key_form", "order_by", *_COMPARED, "not_compared", "exclude", mode="before"
    )
    @classmethod
    def _one_or_many(cls, value: object) -> object:
        return (value,) if isinstance(value, str) else value

    @field_validator("ignored_differences", mode="before")
    @classmethod
    def _one_or_many_of_each(cls, value: object) -> object:
        if not isinstance(value, Mapping):
            return value
        return {name: (each,) if isinstance(each, str) else each for name, each in value.items()}

    @field_validator("max_rejects", "max_deletes", "max_changes", mode="before")
    @classmethod
    def _number(cls, value: object) -> object:
        if value is not None and (isinstance(value, bool) or not isinstance(value, (int, float))):
            raise ValueError(f"expected a whole number, 0 or more, or a share between 0.0 and 1.0, got {value!r}")
        return value

    @field_validator("change_log", mode="before")
    @classmethod
    def _whether_or_how_long(cls, value: object) -> object:
        return checked_period(value)

    @field_validator("open_end", mode="before")
    @classmethod
    def _as_written(cls, value: object) -> object:
        return checked_date(value)

    @model_validator(mode="wrap")
    @classmethod
    def _report_all_faults(cls, data: Any, handler: Any) -> Any:
        try:
            rules = handler(data)
        except ValidationError as error:
            known = [name for name in TableRules.__dataclass_fields__ if name not in {"table", "_"}]
            raise RulesError(f"The rules of table {table_in(data)} have errors:", faults_of(error, known)) from None
        faults = list(rules._faults())
        if faults:
            raise RulesError(f"The rules of table {rules.table!r} have errors:", faults)
        return rules

    @property
    def effective_column(self) -> str | None:
        """The column with the time from which a change is valid; None means the time of the load."""
        return self.effective_at or (self.order_by[0] if self.order_by else None)

    @property
    def appends(self) -> bool:
        """Whether rows are only appended to the table: it has no natural key."""
        return not self.natural_key

    @property
    def is_logged(self) -> bool:
        """Whether the table has a change log."""
        return bool(self.change_log) and not self.appends

    @property
    def log_period(self) -> timedelta | None:
        """How long changes stay in the log as they came; None: for good."""
        return parse_period(self.change_log) if isinstance(self.change_log, str) and self.is_logged else None

    @property
    def stored_as(self) -> str:
        """The name of the table in the store."""
        return self.table_name or self.table

    def declared_type(self, column: str) -> ColumnType | None:
        return parse_type(self.types[column]) if column in self.types else None

    def role_of(self, column: str) -> Role | Literal["type_3", "not_compared", "appended"] | None:
        """The type of a feed's column in the table; None when the table does not have it, and for key columns."""
        if self.appends:
            return None if column in self.exclude else "appended"
        if column in self.type_3:
            return "type_3"
        if column in self.not_compared:
            return "not_compared"
        for role in _COMPARED:
            if column in getattr(self, role):
                return role
        tells_when = (*self.natural_key, *self.order_by, self.effective_column)
        if column in self.exclude or column in tells_when:
            return None
        return self.other_columns

    def system_column_name(self, column: str) -> str | None:
        """The name of a system column in this table; None when it is omitted."""
        omitted = column not in OF_APPENDED_ROWS if self.appends else column == "durable_key"
        default: str | Literal[False] = not omitted and column
        if column == "surrogate_key":
            default = f"{self.table.rpartition('.')[2]}_key"
        return self.system_columns.get(column, default) or None

    def _faults(self) -> Iterator[str]:
        yield from self._faults_of_lists()
        yield from self._faults_of_types()
        yield from self._faults_of_system_columns()
        yield from self._faults_of_expressions()
        yield from faults_of_zone(self.time_zone)
        limits = ("max_rejects", "max_deletes", "max_changes")
        yield from faults_of_limits({name: getattr(self, name) for name in limits})

    def _faults_of_lists(self) -> Iterator[str]:
        if self.appends:
            known = self.__dataclass_fields__.items()
            declared = [name for name, its in known if getattr(self, name) not in (its.default, (), {}, None)]
            yield from faults_without_key(declared, self.surrogate_key, self.stamps)
        elif self.exact_duplicates != "keep":
            yield "exact_duplicates: is for tables without a natural key; changes that occur twice count once"
        if {"lower", "upper"} <= {*self.natural_key_form}:
            yield "natural_key_form: names lower and upper; expected one of them"
        for where in ("natural_key", "order_by", *LISTS, "exclude"):
            for column, times in Counter([*getattr(self, where)]).items():
                if times > 1:
                    yield f"{where}: names {column!r} {times} times"
        one_place = ("natural_key", *LISTS, "exclude")
        for column in dict.fromkeys(c for where in one_place for c in getattr(self, where)):
            places = [where for where in one_place if column in getattr(self, where)]
            if len(places) > 1:
                yield f"{column}: is in {' and '.join(places)}; expected only one of them"
        yield from faults_of_ignored(self.ignored_differences, (*self.natural_key, *self.not_compared, *self.exclude))
        for column, previous in self.type_3.items():
            if not previous or previous in self._named_columns():
                yield f"type_3.{column}: expected the name of a further column, got {previous!r}"
        for column in self.natural_key:
            if column in self.order_by:
                yield f"{column}: is in natural_key and order_by; a key column cannot order the changes of its own key"
            if column == self.effective_at:
                yield f"{column}: is in natural_key and effective_at; a key column cannot be the effective time"
        former = dict.fromkeys((*self._named_columns(), *filter(None, [self.effective_at])))
        yield from faults_of_renamed(self.renamed, former)
        for column in self._named_columns():
            if column.lower().startswith(RESERVED_PREFIX):
                yield f"{column}: names that begin with {RESERVED_PREFIX!r} are reserved"

    def _faults_of_types(self) -> Iterator[str]:
        parsed: dict[str, ColumnType] = {}
        for column, declared in self.types.items():
            try:
                parsed[column] = parse_type(declared)
            except ValueError as error:
                yield f"types: {column}: {error}"
        for column in self.natural_key:
            if column in parsed and parsed[column].kind == "double":
                yield f"{column}: natural key column of type double; floating-point numbers cannot identify a row"
        for column in self.order_by:
            if column in parsed and parsed[column].kind not in CAN_ORDER:
                yield f"{column}: order_by column is {parsed[column]}; it must be a timestamp, date, integer or decimal"
        if effective := parsed.get(self.effective_column or ""):
            has_period = self.log_period is not None
            yield from faults_of_effective_time(
                str(self.effective_column), effective, self.time_precision, self.open_end, has_period=has_period
            )

    def _ignored(self) -> dict[str, tuple[str | int, ...]]:
        """The ignored differences of each column: words in a fixed order, or ``round`` and the digits."""
        return {
            name: ("round", each["round"]) if isinstance(each, Mapping) else tuple(sorted({*each}))
            for name, each in self.ignored_differences.items()
        }

    def _conditions(self) -> dict[str, str]:
        """The conditions of the rules, by the place of their declaration."""
        conditions = {f"reject_if.{name}": text for name, text in self.reject_if.items()}
        return conditions | ({"delete_if": self.delete_if} if self.delete_if else {})

    def _columns_of_expressions(self) -> list[str]:
        """The columns that conditions and derived columns are about."""
        expressions = [*self._conditions().values(), *self.derive.values()]
        if expressions:
            from brenvik.model.conditions import columns_of

        return [name for text in expressions for name in columns_of(text)]

    def _faults_of_expressions(self) -> Iterator[str]:
        elsewhere = {*self.natural_key, *self.order_by, *filter(None, [self.effective_at]), *self.exclude}
        yield from faults_of_expressions(self._conditions(), self.derive, self.stamps, elsewhere)
        yield from faults_of_marks(self.stamps, self.deletes)

    def _faults_of_system_columns(self) -> Iterator[str]:
        for column in self.system_columns:
            if column not in SYSTEM_COLUMNS:
                yield f"system_columns: {column!r} is not a system column; valid names are {', '.join(SYSTEM_COLUMNS)}"
            elif self.appends and self.system_columns[column] and column not in OF_APPENDED_ROWS:
                yield f"system_columns: {column} needs a natural key; rows that are only appended never change"
        names = {column: self.system_column_name(column) for column in SYSTEM_COLUMNS}
        has_versions = not self.appends and (bool(self.type_2) or self.other_columns == "type_2")
        for column in ("valid_from", "valid_to"):
            if names[column] is None and has_versions:
                yield f"system_columns: {column} cannot be left out of a table with type 2 columns"
        by_arrival = self.type_0_changes == "first_arrived" and bool(self.type_0 or self.other_columns == "type_0")
        yield from faults_of_log(self.change_log, self.deletes, by_arrival=by_arrival)
        marks_deleted = names["valid_to"] or names["is_deleted"]
        if self.deletes != "remove" and not (marks_deleted or self.appends):
            yield f"system_columns: deletes = {self.deletes!r} needs valid_to or is_deleted to mark deleted rows"
        taken = Counter(name.casefold() for name in (*names.values(), *self._table_columns()) if name)
        for name, times in taken.items():
            if times > 1:
                yield f"system_columns: {name!r} would be the name of {times} columns; rename one of the system columns"

    def _named_columns(self) -> Iterator[str]:
        lists = (self.natural_key, self.order_by, self.listed_columns, self.exclude, self.derive, self.types)
        yield from dict.fromkeys(column for columns in lists for column in columns)

    @property
    def listed_columns(self) -> tuple[str, ...]:
        """The columns of the table that a list names, beside its key."""
        return (*self.type_0, *self.type_1, *self.type_2, *self.type_3, *self.not_compared)

    def _table_columns(self) -> tuple[str, ...]:
        return (*dict.fromkeys((*self.natural_key, *self.listed_columns)), *self.type_3.values(), *self.stamps)

    def _for_ledger(self) -> dict[str, Any]:
        """The rules as values that JSON supports."""
        return {name: _plain(getattr(self, name)) for name in self.__dataclass_fields__} | {
            "natural_key_form": sorted({*self.natural_key_form}),
            "ignored_differences": {name: list(each) for name, each in self._ignored().items()},
            "table_name": self.stored_as,
            "change_log": bool(self.change_log),
            **({"log_period": self.change_log} if isinstance(self.change_log, str) else {}),
        }


def _plain(value: Any) -> Any:
    if isinstance(value, tuple):
        return list(value)
    if isinstance(value, Mapping):
        return {name: _plain(each) for name, each in value.items()}
    return str(value) if isinstance(value, date) else value
