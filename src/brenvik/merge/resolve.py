"""Resolves a table's rules against the columns that its feed has and those that the table already has."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Literal

from brenvik.errors import FeedError
from brenvik.merge.capabilities import Capabilities
from brenvik.merge.conditions import check, type_of
from brenvik.merge.forms import Ignored
from brenvik.merge.schema import Column, TableSchema
from brenvik.merge.stamps import faults_of, stamps_of
from brenvik.model.conditions import columns_of
from brenvik.model.rules import SYSTEM_COLUMNS, Role, TableRules
from brenvik.model.types import CAN_BE_EFFECTIVE, CAN_ORDER, TEXT, TIMESTAMP, ColumnType


def resolve(
    rules: TableRules,
    feed: Mapping[str, ColumnType],
    *,
    known: Iterable[Column] = (),
    numbered_by_store: bool = False,
    store: Capabilities,
    change_log: str | None,
    source: str,
    has_feed: bool = True,
) -> TableSchema:
    """The schema of a table whose feed has these columns.

    ``known`` are the columns the table already has: they keep their position and type, new columns of the feed follow. Without a
    feed (``has_feed``) its columns are all there is, and what is declared for rows does not matter.
    Raises FeedError that lists everything missing or of an impossible type.
    """
    have = {column.name: column for column in known}
    derived, faults_of_derived = _derived(rules, feed, have) if has_feed else ({}, [])
    feed = {**feed, **derived}
    required = dict.fromkeys((*rules.natural_key, *rules.order_by, *filter(None, [rules.effective_column])))
    by_name = {column.name: column for column in _columns(rules, feed, have, required)}
    own = tuple((column, rules.system_column_name(column)) for column in SYSTEM_COLUMNS)
    faults = [
        *faults_of_derived,
        *_faults_of_presence(rules, feed, have, required, source),
        *_faults_of_types(rules, by_name, required, store),
        *_faults_of_names(rules, by_name, own, store),
        *_faults_of_values(rules, by_name),
    ]
    beside = _beside(rules, feed, by_name, source, faults) if has_feed else ()
    _refuse(faults, rules, source)
    return TableSchema(
        table=rules.stored_as,
        change_log=change_log if rules.is_logged else None,
        columns=tuple(by_name.values()),
        order=rules.order_by,
        effective=rules.effective_column,
        effective_type=by_name[rules.effective_column].type if rules.effective_column else TIMESTAMP,
        time_precision=rules.time_precision,
        deletes="remove" if rules.deletes == "remove" else "close",
        inactive_deletes=rules.deletes if rules.deletes in ("review", "ignore") else None,
        system_columns=own,
        has_open_end=rules.open_end is not None,
        store=store,
        time_zone=rules.time_zone,
        reject_if=tuple(rules.reject_if.items()) if has_feed else (),
        delete_if=rules.delete_if if has_feed else None,
        derive=tuple(rules.derive.items()) if has_feed else (),
        beside=beside,
        numbered_by_store=numbered_by_store or rules.surrogate_key == "identity",
        surrogate_key=rules.surrogate_key,
        previous=tuple(rules.type_3.items()),
        key_form=rules.natural_key_form,
        ignored=tuple(_ignored(rules, by_name)),
        stamps=tuple(stamps_of(rules)),
        rejects_ties=rules.ties == "reject",
        drops_duplicates=rules.exact_duplicates == "drop",
        type_0_changes=rules.type_0_changes,
    )


def _refuse(faults: Iterable[str], rules: TableRules, source: str) -> None:
    if faults := [*faults]:
        raise FeedError("\n  ".join([f"{source} does not fit the rules of table {rules.table!r}:", *faults]))


def _derived(
    rules: TableRules, feed: Mapping[str, ColumnType], have: Mapping[str, Column]
) -> tuple[dict[str, ColumnType], list[str]]:
    """The derived columns of a feed, as far as it has what they are computed from, each with its type; and what is wrong with
    expressions."""
    found: dict[str, ColumnType] = {}
    faults = []
    for name, text in rules.derive.items():
        needed = columns_of(text)
        if any(each not in feed for each in needed):
            continue
        types = {each: have[each].type if each in have else rules.declared_type(each) or feed[each] for each in needed}
        try:
            found[name] = type_of(text, types)
        except ValueError as error:
            faults.append(f"derive.{name}: {error}")
    return found, faults


def _columns(
    rules: TableRules, feed: Mapping[str, ColumnType], have: Mapping[str, Column], required: Iterable[str]
) -> Iterator[Column]:
    """The columns of the table and its log: the key, existing columns, those of the feed, those the rules name."""
    for name in dict.fromkeys((*rules.natural_key, *have, *feed, *rules.listed_columns, *required)):
        beside: Literal["when"] | None = "when" if name in required or name in have else None
        role: Role | Literal["type_3", "not_compared", "appended", "key", "when"] | None = rules.role_of(name) or beside
        if name in rules.natural_key:
            role = "key"
        if role is not None:
            kind = have[name].type if name in have else rules.declared_type(name) or feed.get(name, TEXT)
            yield Column(name, kind, role)


def _faults_of_presence(
    rules: TableRules,
    feed: Mapping[str, ColumnType],
    have: Mapping[str, Column],
    required: Iterable[str],
    source: str,
) -> Iterator[str]:
    for name in required:
        if name not in feed:
            yield f"{name} is not in {source}, which has {', '.join(feed)}"
    for name in dict.fromkeys(rules.listed_columns):
        if name not in feed and name not in have and name not in rules.types and name not in required:
            yield f"{name} is declared, but neither in {source}, which has {', '.join(feed)}, nor under types"


def _faults_of_types(
    rules: TableRules, columns: Mapping[str, Column], required: Iterable[str], store: Capabilities
) -> Iterator[str]:
    yield from _faults_of_additions(rules, store)
    for name in required:
        if name not in columns:
            continue
        kind = columns[name].type
        hint = f'; declare it: types = {{ {name} = "timestamp" }}' if kind.kind == "text" else ""
        if name in rules.natural_key and kind.kind == "double":
            yield f"{name} natural key column of type double; floating-point numbers cannot identify a row"
        elif name in rules.order_by and kind.kind not in CAN_ORDER:
            yield f"{name} orders, but is {kind}; a timestamp, date, integer or decimal can order{hint}"
        elif name in rules.order_by and kind.kind == "decimal" and "comparing" in store.lacks:
            yield f"{name} orders, but is {kind}, which this store keeps as text and cannot put in order"
        elif name == rules.effective_column and kind.kind not in CAN_BE_EFFECTIVE:
            yield f"{name} effective column is {kind}; it must be a timestamp, date or integer{hint}"


def _faults_of_additions(rules: TableRules, store: Capabilities) -> Iterator[str]:
    """What is wrong with columns that no feed has: the surrogate key and stamps."""
    if rules.surrogate_key == "identity" and "identity" in store.lacks:
        yield 'surrogate_key: is "identity", but this store cannot number rows; expected "counter", "hash" or "uuid"'
    yield from faults_of(rules)


def _faults_of_names(
    rules: TableRules, columns: Mapping[str, Column], own: Iterable[tuple[str, str | None]], store: Capabilities
) -> Iterator[str]:
    taken = {name.casefold(): column for column, name in own if name}
    for column in columns.values():
        folded = column.name.casefold()
        if column.name in rules.stamps and column.role != "when":
            yield f"{column.name} is also the name of a stamp; exclude the feed's column or rename the stamp"
        if folded in taken and column.role != "when":
            yield (
                f"{column.name} is also the name of the system column {taken[folded]}; "
                f"exclude the feed's column or rename the system column under system_columns"
            )
        if folded == store.row_id.name.casefold():
            yield f"{column.name} is the store's own name for row identifiers; rename it in the feed"
        if folded in store.own_names:
            yield f"{column.name} is reserved in this store; rename it in the feed or exclude it"
        if folded.startswith("brenvik_"):
            yield f"{column.name} begins with brenvik_, which is reserved; rename it in the feed"
    for name in (*rules.stored_as.split("."), *columns, *rules.type_3.values(), *(name for _, name in own if name)):
        if store.longest_name and (size := len(name.encode())) > store.longest_name:
            yield f"{name} has {size} bytes; names in this store have at most {store.longest_name}"


def _ignored(rules: TableRules, columns: Mapping[str, Column]) -> Iterator[tuple[str, Ignored]]:
    for name, (first, *rest) in rules._ignored().items():
        if name in columns:
            yield name, int(rest[0]) if first == "round" else tuple(map(str, (first, *rest)))


def _faults_of_values(rules: TableRules, columns: Mapping[str, Column]) -> Iterator[str]:
    for column, name in rules.type_3.items():
        if name in columns:
            yield f"{name} keeps the previous value of {column} (type_3), but the feed has it as well; choose another name"
    for name, ignored in _ignored(rules, columns):
        kind = columns[name].type
        if isinstance(ignored, int) and kind.kind not in ("decimal", "double"):
            yield f"{name} is {kind}; only decimals and doubles can be rounded (ignored_differences)"
        elif not isinstance(ignored, int) and kind.kind != "text":
            yield f"{name} is {kind}; case, blanks and unicode are differences of texts (ignored_differences)"


def _beside(
    rules: TableRules, feed: Mapping[str, ColumnType], resolved: Mapping[str, Column], source: str, faults: list[str]
) -> tuple[tuple[str, ColumnType], ...]:
    """The columns that only conditions and derived columns use. Errors are added to ``faults``."""
    conditions = rules._conditions()
    if not (conditions or rules.derive):
        return ()
    found: dict[str, ColumnType] = {}
    of_conditions = {name for text in conditions.values() for name in columns_of(text)}
    for name in dict.fromkeys(rules._columns_of_expressions()):
        kind = rules.declared_type(name) or feed.get(name)
        if name in resolved:
            continue
        if kind is None and name not in of_conditions:
            continue
        if kind is None:
            faults.append(f"a condition names {name}, which is not a column of {source}; it has {', '.join(feed)}")
        else:
            found[name] = kind
    types = {name: column.type for name, column in resolved.items()} | found
    for place, text in conditions.items():
        if types.keys() >= set(columns_of(text)):
            try:
                check(text, types)
            except ValueError as error:
                faults.append(f"{place}: {error}")
    return tuple(found.items())
