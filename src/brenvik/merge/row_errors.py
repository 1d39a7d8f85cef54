"""Why a row can be rejected: for each reason the test and the message."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache

from brenvik.merge import casts, conditions, sql
from brenvik.merge.capabilities import Capabilities
from brenvik.merge.schema import Column, TableSchema
from brenvik.model.conditions import columns_of
from brenvik.model.feeds import Operations
from brenvik.model.types import ColumnType
from brenvik.model.value_formats import FormattedText

IS_DELETE = "brenvik_is_delete"
"""The column with the delete flag of a row, where some rows may be deletes."""


@dataclass(frozen=True)
class RowError:
    """A reason to reject a row: the column, the test that detects it, and an expression for the message.

    ``present`` are those of the columns that the feed has; None means ``column`` alone.
    """

    column: str
    test: str
    says: str
    present: tuple[str, ...] | None = None

    @property
    def value(self) -> str:
        """An expression for the value of the columns, as text."""
        texts = [f"CAST({sql.quote(name)} AS VARCHAR)" for name in self.present or (self.column,)]
        if self.present == ():
            return "NULL"
        return texts[0] if len(texts) == 1 else joined(", ", texts)


def joined(separator: str, texts: Iterable[str]) -> str:
    """The texts that are not null, joined."""
    parts = (f"COALESCE('{separator}' || {text}, '')" for text in texts)
    return f"substr({' || '.join(parts)}, {len(separator) + 1})"


@lru_cache(maxsize=256)
def row_errors(
    schema: TableSchema,
    feed: tuple[tuple[str, ColumnType], ...],
    operations: Operations | None,
    *,
    is_extract: bool = False,
    scope: str | None = None,
    in_store: bool = False,
) -> tuple[RowError, ...]:
    """Every reason for which a row of this feed can be rejected, in the order in which they are reported.

    ``in_store`` asks for tests in the core's dialect, for rows that are in the store with the types of the table.
    """
    types = dict(feed)
    found: list[RowError] = []
    not_deleted = f"{IS_DELETE} = 0 AND " if some_deletes(schema, operations) else ""
    if operations:
        found.append(_unknown_code(operations))
    tells_when = schema.effective if not is_extract else None
    found += not_before_open_end(schema, tells_when, types, in_store=in_store)
    for name in dict.fromkeys((*schema.keys, *schema.order, *filter(None, [tells_when]))):
        value = casts.value_of(name, types[name], schema.type_of(name)) if name in types else sql.quote(name)
        found.append(RowError(name, f"{value} IS NULL", sql.literal(f"{name} is empty")))
    for column in schema.columns:
        if column.name not in types:
            continue
        guard = not_deleted if column.name in schema.values else ""
        if not in_store:
            found += _lacks(schema, column, types[column.name], guard)
        found += _no_value(schema, column, types[column.name], guard, in_store=in_store)
    found += _too_long(schema, types, in_store=in_store)
    named = list(schema.reject_if)
    if scope:  # an extract says nothing of other rows
        named.append((f"is outside extract_scope: {scope}", f"({scope}) IS NOT TRUE"))
    for name, text in named:
        test = condition(schema, types, text, in_store=in_store)
        looks_at = columns_of(text)
        present = tuple(column for column in looks_at if column in types)
        found.append(RowError(", ".join(looks_at), f"{not_deleted}({test})", sql.literal(name), present))
    return tuple(found)


def _unknown_code(operations: Operations) -> RowError:
    """A code that is neither insert, update nor delete."""
    code = f"lower(trim(CAST({sql.quote(operations.column)} AS VARCHAR)))"
    codes = ", ".join(sql.literal(each) for each in (*operations.keeping, *operations.deleting))
    known = ", ".join((*operations.insert, *operations.update, *operations.delete))
    test = f"{code} IS NULL OR {code} NOT IN ({codes})"
    says = sentence_or_nothing(operations.column, f"is not a valid operation; valid codes are {known}")
    return RowError(operations.column, test, says)


def not_before_open_end(
    schema: TableSchema, name: str | None, types: Mapping[str, ColumnType], *, in_store: bool
) -> Iterator[RowError]:
    """A time at which no version can begin, in the column with the times of rows or of their extract, if there is one."""
    if name not in types or name is None or not schema.has_open_end:
        return
    kind = schema.effective_type
    value = sql.quote(name) if in_store else casts.cast_of(name, types[name], kind)[0]
    end = f"CAST({':' if in_store else '$'}open_end AS {kind.sql})"
    yield RowError(name, f"{value} >= {end}", sentence(name, "is not before open_end"))


def _no_value(schema: TableSchema, column: Column, of: ColumnType, guard: str, *, in_store: bool) -> Iterator[RowError]:
    """A value that is not valid for the column's type; nothing where every value is."""
    if in_store:
        value, test = sql.quote(column.name), _test_inside(schema, column, of)
    else:
        value, test = casts.cast_of(column.name, of, column.type)
    if not test:
        return
    if column.type.length is not None:
        length = f"CAST(length(CAST({casts.value_of(column.name, of, column.type)} AS VARCHAR)) AS VARCHAR)"
        says = f"{sql.literal(f'{column.name} has ')} || {length} || ' characters; the limit is {column.type.length}'"
    else:
        expected = of.example(column.type) if isinstance(of, FormattedText) else ""
        says = sentence(column.name, f"is not a valid {column.type}{expected and f'; expected {expected}'}")
    if column.type.is_temporal and not (in_store and schema.untyped):
        far = sentence(column.name, "is outside the years 1 to 9999")
        skipped = "" if in_store else casts.skipped_in(column.name, of, column.type, schema.time_zone)
        if skipped:
            never = sentence(column.name, f"does not exist in {schema.time_zone}, because clocks were put forward")
            says = f"CASE WHEN {skipped} THEN {never} ELSE {says} END"
        says = f"CASE WHEN isfinite({value}) AND NOT {casts.within(value, column.type)} THEN {far} ELSE {says} END"
    yield RowError(column.name, f"{guard}({test})", says)


def _too_long(schema: TableSchema, types: Mapping[str, ColumnType], *, in_store: bool) -> list[RowError]:
    """A key longer than this store can index."""
    most = schema.store.longest_key
    names = [name for name in schema.keys if schema.type_of(name).kind in ("text", "binary")]
    if most is None or not names:
        return []
    values = (casts.value_of(name, types[name], schema.type_of(name)) for name in names)
    texts = (value if in_store else f"CAST({value} AS VARCHAR)" for value in values)
    size = " + ".join(f"{'octet_length' if in_store else 'strlen'}({text})" for text in texts)
    rest = sql.literal(f" bytes long; keys in this store can have at most {most:,}")
    says = f"{sql.literal('the key (' + ', '.join(names) + ') is ')} || CAST({size} AS VARCHAR) || {rest}"
    return [RowError(", ".join(names), f"{size} > {most}", says, tuple(names))]


def _lacks(schema: TableSchema, column: Column, of: ColumnType, guard: str) -> list[RowError]:
    """Values of the column's type that this store cannot hold."""
    value = casts.cast_of(column.name, of, column.type)[0]
    tests = {
        "NUL": (column.type.kind == "text", f"contains({value}, chr(0))", "has the character NUL"),
        "NaN": (column.type.kind == "double", f"isnan({value})", "is NaN"),
    }
    beyond = schema.store.beyond
    if beyond and column.type.kind == "text":
        first = f"{sql.literal(f'{column.name} has the character ')} || {_escaped(first_beyond(value, beyond), beyond)}"
        says = f"{first} || {sql.literal(', which this store does not support')}"
        found = [RowError(column.name, f"{guard}({first_beyond(value, beyond)} <> '')", says)]
    else:
        found = []
    return found + [
        RowError(
            column.name, f"{guard}({test})", sql.literal(f"{column.name} {says}, which this store does not support")
        )
        for lack, (fits, test, says) in tests.items()
        if fits and lack in schema.store.lacks
    ]


def first_beyond(value: str, beyond: str) -> str:
    """The first character of a text that a store cannot hold; '' where it can hold all of them."""
    return f"regexp_extract({value}, {sql.literal(beyond)})"


def _escaped(text: str, beyond: str) -> str:
    """A text with the characters that a store cannot hold in JSON's escaped form."""
    high, low = "55296 + ((unicode(c) - 65536) >> 10)", "56320 + ((unicode(c) - 65536) & 1023)"
    pair = f"printf('\\u%04x\\u%04x', {high}, {low})"
    held = f"NOT regexp_matches(c, {sql.literal(beyond)})"
    one = f"CASE WHEN {held} THEN c WHEN unicode(c) < 65536 THEN printf('\\u%04x', unicode(c)) ELSE {pair} END"
    return f"array_to_string(list_transform(string_split({text}, ''), lambda c: {one}), '')"


def storable(store: Capabilities, text: str) -> str:
    """The text of a reject in characters that the store can hold."""
    if not store.beyond:
        return text
    return f"CASE WHEN regexp_matches({text}, {sql.literal(store.beyond)}) THEN {_escaped(text, store.beyond)} ELSE {text} END"


def _test_inside(schema: TableSchema, column: Column, of: ColumnType) -> str:
    """A test for values that do not fit although they are in the store with the column's type."""
    value = sql.quote(column.name)
    if column.type.length is not None and column.type.length != of.length:
        return f"length({value}) > {column.type.length}"
    if schema.untyped and column.type.kind != "text":
        return f"brenvik_odd({value}, '{column.type.sql}') = 1"
    return casts.beyond(value, column.type)


def condition(schema: TableSchema, types: Mapping[str, ColumnType], text: str, *, in_store: bool) -> str:
    """A condition over the typed values of a row; a column that the feed lacks is null."""
    values, wanted = _typed_values(schema, types, text, in_store=in_store)
    return conditions.with_values(text, values, wanted, untyped=in_store and schema.untyped)


def derived_columns(
    schema: TableSchema, types: Mapping[str, ColumnType], *, in_store: bool
) -> dict[str, tuple[str, ColumnType]]:
    """The derived columns of a feed with these columns: their values, as expressions over typed values of a row, and types."""
    found = {}
    for name, text in schema.derive:
        if all(each in types for each in columns_of(text)):
            values, wanted = _typed_values(schema, types, text, in_store=in_store)
            untyped = in_store and schema.untyped
            found[name] = conditions.value(text, values, wanted, untyped=untyped, exact=not in_store)
    return found


def _typed_values(
    schema: TableSchema, types: Mapping[str, ColumnType], text: str, *, in_store: bool
) -> tuple[dict[str, str], dict[str, ColumnType]]:
    """The values of the columns that an expression names, and the types of all columns of a row."""
    wanted = {column.name: column.type for column in schema.columns} | dict(schema.beside)
    values = {}
    for name in columns_of(text):
        if name not in types:
            values[name] = f"CAST(NULL AS {wanted[name].sql if in_store else casts.duck(wanted[name])})"
        elif in_store:
            values[name] = sql.quote(name)
        else:
            values[name] = f"({casts.cast_of(name, types[name], wanted[name])[0]})"
    return values, wanted


def sentence(column: str, rest: str) -> str:
    """An expression for a message on a value, which is not null."""
    return f"""{sql.literal(f"{column}: '")} || CAST({sql.quote(column)} AS VARCHAR) || {sql.literal(f"' {rest}")}"""


def sentence_or_nothing(column: str, rest: str) -> str:
    """An expression for a message on a value that may be null."""
    return f"COALESCE({sentence(column, rest)}, {sql.literal(f'{column}: nothing {rest}')})"


def some_deletes(schema: TableSchema, operations: Operations | None) -> bool:
    """Whether a row may be a delete."""
    return bool(operations or schema.delete_if)


def deletes(
    schema: TableSchema, types: Mapping[str, ColumnType], operations: Operations | None, *, in_store: bool = False
) -> str:
    """Whether a row is a delete, as 0 or 1; only where ``some_deletes``."""
    tests = []
    if operations:
        tests.append(_says_delete(operations))
    if schema.delete_if:
        tests.append(condition(schema, types, schema.delete_if, in_store=in_store))
    return sql.flag(sql.any_of(f"({test})" for test in tests))


def _says_delete(operations: Operations) -> str:
    codes = ", ".join(sql.literal(code) for code in operations.deleting)
    return f"lower(trim(CAST({sql.quote(operations.column)} AS VARCHAR))) IN ({codes})"
