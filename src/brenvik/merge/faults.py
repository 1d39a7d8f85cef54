"""Why a row of a feed can be refused: a test for each reason, and the sentence that tells it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache

from brenvik.merge import casts, conditions, sql
from brenvik.merge.schema import Blueprint, Column, Traits
from brenvik.model.conditions import columns_of
from brenvik.model.feeds import Operations
from brenvik.model.types import ColumnType


@dataclass(frozen=True)
class Fault:
    """Why a row can be rejected: the columns at fault, the test that finds it, and the sentence that tells it.

    ``says`` is an expression that gives the sentence. Of the columns, ``carried`` are those that the feed has.
    """

    column: str
    test: str
    says: str
    carried: tuple[str, ...] | None = None

    @property
    def value(self) -> str:
        """An expression that gives what stands in the columns, as text."""
        texts = [f"CAST({sql.quote(name)} AS VARCHAR)" for name in self.carried or (self.column,)]
        if self.carried == ():
            return "NULL"
        return texts[0] if len(texts) == 1 else joined(", ", texts)


def joined(separator: str, texts: Iterable[str]) -> str:
    """The texts that are not null, one behind the other."""
    parts = (f"COALESCE('{separator}' || {text}, '')" for text in texts)
    return f"substr({' || '.join(parts)}, {len(separator) + 1})"


@lru_cache(maxsize=256)
def faults(
    blueprint: Blueprint,
    feed: tuple[tuple[str, ColumnType], ...],
    operations: Operations | None,
    *,
    is_extract: bool = False,
    scope: str | None = None,
    inside: bool = False,
) -> tuple[Fault, ...]:
    """Every reason for which a row of this feed can be rejected, in the order in which they are told.

    ``inside`` asks for tests in the core's flavour, of rows that stand in the store with the types of the table."""
    types = dict(feed)
    found: list[Fault] = []
    living = ""
    is_delete = deletes(blueprint, types, operations, inside=inside)
    if is_delete != "0":
        living = f"{is_delete} = 0 AND "
    if operations:
        found.append(_unknown_code(operations))
    tells_when = blueprint.effective if not is_extract else None
    for name in dict.fromkeys((*blueprint.keys, *blueprint.order, *filter(None, [tells_when]))):
        says = sql.literal(f"{name} is empty")
        found.append(Fault(name, f"{sql.quote(name)} IS NULL", says))
    for column in blueprint.columns:
        if column.name not in types:
            continue
        guard = living if column.name in blueprint.values else ""
        if not inside:
            found += _lacks(blueprint, column, types[column.name], guard)
        found += _no_value(blueprint, column, types[column.name], guard, inside=inside)
    found += _too_long(blueprint, types, inside=inside)
    named = list(blueprint.reject_if)
    if scope:  # what an extract says of others could not be told apart from what it does not say
        named.append((f"lies outside of extract_scope: {scope}", f"({scope}) IS NOT TRUE"))
    for name, text in named:
        test = condition(blueprint, types, text, inside=inside)
        looks_at = columns_of(text)
        carried = tuple(column for column in looks_at if column in types)
        found.append(Fault(", ".join(looks_at), f"{living}({test})", sql.literal(name), carried))
    return tuple(found)


def _unknown_code(operations: Operations) -> Fault:
    """The fault of a row whose code says neither insert, update nor delete."""
    code = f"lower(trim(CAST({sql.quote(operations.column)} AS VARCHAR)))"
    codes = ", ".join(sql.literal(each) for each in (*operations.keeping, *operations.deleting))
    known = ", ".join((*operations.insert, *operations.update, *operations.delete))
    test = f"{code} IS NULL OR {code} NOT IN ({codes})"
    return Fault(operations.column, test, sentence(operations.column, f"is no operation; known are {known}"))


def _no_value(blueprint: Blueprint, column: Column, of: ColumnType, guard: str, *, inside: bool) -> Iterator[Fault]:
    """The fault of what is no value of the column's type, if any can be."""
    if inside:
        value, test = sql.quote(column.name), _test_inside(blueprint, column, of)
    else:
        value, test = casts.cast_of(column.name, of, column.type, blueprint.time_zone)
    if not test:
        return
    if column.type.length is not None:
        length = f"CAST(length(CAST({sql.quote(column.name)} AS VARCHAR)) AS VARCHAR)"
        says = f"{sql.literal(f'{column.name} has ')} || {length} || ' characters, {column.type.length} fit'"
    else:
        says = sentence(column.name, f"is no {column.type}")
    if column.type.is_temporal and not (inside and blueprint.untyped):
        far = sentence(column.name, "lies outside of the years 1 to 9999")
        skipped = "" if inside else casts.skipped_in(column.name, of, column.type, blueprint.time_zone)
        if skipped:
            never = sentence(column.name, f"was skipped in {blueprint.time_zone}, where the clock was put forward")
            says = f"CASE WHEN {skipped} THEN {never} ELSE {says} END"
        says = f"CASE WHEN isfinite({value}) AND NOT {casts.within(value, column.type)} THEN {far} ELSE {says} END"
    yield Fault(column.name, f"{guard}({test})", says)


def _too_long(blueprint: Blueprint, types: Mapping[str, ColumnType], *, inside: bool) -> list[Fault]:
    """The fault of keys that are longer than this kind of store can find rows by."""
    most = blueprint.store.longest_key
    names = [name for name in blueprint.keys if blueprint.type_of(name).kind in ("text", "binary")]
    if most is None or not names:
        return []
    texts = (sql.quote(name) if inside else f"CAST({sql.quote(name)} AS VARCHAR)" for name in names)
    size = " + ".join(f"{'octet_length' if inside else 'strlen'}({text})" for text in texts)
    rest = sql.literal(f" bytes long; keys in this store can have at most {most:,}")
    says = f"{sql.literal('the key (' + ', '.join(names) + ') is ')} || CAST({size} AS VARCHAR) || {rest}"
    return [Fault(", ".join(names), f"{size} > {most}", says, tuple(names))]


def _lacks(blueprint: Blueprint, column: Column, of: ColumnType, guard: str) -> list[Fault]:
    """The faults of values that this kind of store cannot hold, though they are of the column's type."""
    value = casts.cast_of(column.name, of, column.type, blueprint.time_zone)[0]
    tests = {
        "NUL": (column.type.kind == "text", f"contains({value}, chr(0))", "holds the character NUL"),
        "NaN": (column.type.kind == "double", f"isnan({value})", "is NaN"),
    }
    beyond = blueprint.store.beyond
    if beyond and column.type.kind == "text":
        first = (
            f"{sql.literal(f'{column.name} holds the character ')} || {_escaped(first_beyond(value, beyond), beyond)}"
        )
        says = f"{first} || {sql.literal(', which this store cannot hold')}"
        found = [Fault(column.name, f"{guard}({first_beyond(value, beyond)} <> '')", says)]
    else:
        found = []
    return found + [
        Fault(column.name, f"{guard}({test})", sql.literal(f"{column.name} {says}, which this store cannot hold"))
        for lack, (fits, test, says) in tests.items()
        if fits and lack in blueprint.store.lacks
    ]


def first_beyond(value: str, beyond: str) -> str:
    """The first character of a text that a store cannot hold; '' where it can hold all of them."""
    return f"regexp_extract({value}, {sql.literal(beyond)})"


def _escaped(text: str, beyond: str) -> str:
    """A text with the characters that a store cannot hold as JSON escapes them."""
    high, low = "55296 + ((unicode(c) - 65536) >> 10)", "56320 + ((unicode(c) - 65536) & 1023)"
    pair = f"printf('\\u%04x\\u%04x', {high}, {low})"
    held = f"NOT regexp_matches(c, {sql.literal(beyond)})"
    one = f"CASE WHEN {held} THEN c WHEN unicode(c) < 65536 THEN printf('\\u%04x', unicode(c)) ELSE {pair} END"
    return f"array_to_string(list_transform(string_split({text}, ''), lambda c: {one}), '')"


def as_told(store: Traits, text: str) -> str:
    """A text that is kept with a reject, in characters that the store can hold."""
    if not store.beyond:
        return text
    return f"CASE WHEN regexp_matches({text}, {sql.literal(store.beyond)}) THEN {_escaped(text, store.beyond)} ELSE {text} END"


def _test_inside(blueprint: Blueprint, column: Column, of: ColumnType) -> str:
    """A test for values that do not fit, though they stand in the store with the column's type."""
    value = sql.quote(column.name)
    if column.type.length is not None and column.type.length != of.length:
        return f"length({value}) > {column.type.length}"
    if blueprint.untyped and column.type.kind != "text":
        return f"brenvik_odd({value}, '{column.type.sql}') = 1"
    return casts.beyond(value, column.type)


def condition(blueprint: Blueprint, types: Mapping[str, ColumnType], text: str, *, inside: bool) -> str:
    """A condition over the typed values of a row; what a feed does not carry is null."""
    wanted = {column.name: column.type for column in blueprint.columns} | dict(blueprint.beside)
    values = {}
    for name in columns_of(text):
        if name not in types:
            values[name] = f"CAST(NULL AS {wanted[name].sql if inside else casts.duck(wanted[name])})"
        elif inside:
            values[name] = sql.quote(name)
        else:
            values[name] = f"({casts.cast_of(name, types[name], wanted[name], blueprint.time_zone)[0]})"
    return conditions.with_values(text, values, wanted, untyped=inside and blueprint.untyped)


def sentence(column: str, rest: str) -> str:
    value = f"COALESCE(chr(39) || CAST({sql.quote(column)} AS VARCHAR) || chr(39), 'nothing')"
    return f"{sql.literal(column + ': ')} || {value} || {sql.literal(' ' + rest)}"


def deletes(
    blueprint: Blueprint, types: Mapping[str, ColumnType], operations: Operations | None, *, inside: bool = False
) -> str:
    """Whether a row says that its key is gone, as 0 or 1."""
    tests = []
    if operations:
        tests.append(_says_delete(operations))
    if blueprint.delete_if:
        tests.append(condition(blueprint, types, blueprint.delete_if, inside=inside))
    return sql.flag(sql.any_of(f"({test})" for test in tests)) if tests else "0"


def _says_delete(operations: Operations) -> str:
    codes = ", ".join(sql.literal(code) for code in operations.deleting)
    return f"lower(trim(CAST({sql.quote(operations.column)} AS VARCHAR))) IN ({codes})"
