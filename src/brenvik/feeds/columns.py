"""Column mapping: from the columns of a feed to those of the table.

A column keeps its name unless it is renamed. Surrounding blanks are ignored, and so is case if only one column of the table
matches.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from brenvik.errors import FeedError
from brenvik.feeds.protocol import Batch, Chunk
from brenvik.feeds.sparse import with_absent_values
from brenvik.merge import sql
from brenvik.merge.schema import SEQUENCE_NO
from brenvik.merge.sequence import FILE_STEP
from brenvik.model.conditions import columns_of
from brenvik.model.feeds import Added, FeedColumns, Operations, Origin
from brenvik.model.types import INTEGER, TEXT, TIMESTAMP, ColumnType

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.ledger.records import TableState
    from brenvik.model.rules import TableRules

_CONSTANTS: tuple[tuple[type, ColumnType], ...] = (
    (bool, ColumnType("boolean")),
    (int, INTEGER),
    (float, ColumnType("double")),
    (datetime, TIMESTAMP),
    (date, ColumnType("date")),
    (str, TEXT),
)


def known_columns(
    rules: TableRules, operations: Operations | None, state: TableState | None, batch: Batch | None = None
) -> tuple[str, ...]:
    """The columns that the table has, and those that its rules and the feed refer to."""
    named = [column.name for column in state.columns] if state else []
    named += [*rules._named_columns(), *rules._columns_of_expressions()]
    named += [operations.column] if operations else []
    extract_time = batch.extract.column if batch and batch.extract else None
    return tuple(dict.fromkeys((*named, *filter(None, (rules.effective_column, extract_time)))))


def under_new_names(declared: FeedColumns, renamed: Mapping[str, str]) -> FeedColumns:
    """The mapping for a table whose columns are ``renamed``: former names that the feed has or declares become the new ones."""
    if not renamed:
        return declared
    names = {old: renamed.get(new, new) for old, new in declared.rename.items()}
    names |= {old: new for old, new in renamed.items() if old not in names and new not in names.values()}
    added = {renamed.get(name, name): value for name, value in declared.add.items()}
    return replace(declared, rename=names, add=added)


def new_names(
    parts: Iterable[Iterable[str]], declared: FeedColumns, known: Iterable[str], source: str
) -> dict[str, str]:
    """The name of each column in the table; what one part calls Light may be light in the next.

    Raises FeedError if two columns of a part would have the same name.
    """
    exact = {name: name for name in known} | dict(declared.rename)
    folded: dict[str, set[str]] = {}
    for name, new in exact.items():
        folded.setdefault(name.casefold(), set()).add(new)
    found: dict[str, str] = {}
    for part in parts:
        for name in part:
            if name not in found:
                new = found[name] = _new_name(name, exact, folded)
                folded.setdefault(new.casefold(), {new})
        times = Counter(found[name].casefold() for name in part)
        clashing = [f"{name!r} would be {found[name]}" for name in part if times[found[name].casefold()] > 1]
        if clashing:
            twice = "\n  ".join(clashing)
            raise FeedError(
                f"{source} has several columns for one of the table:\n  {twice}\nRename or remove one of them."
            )
    return found


def _new_name(name: str, exact: Mapping[str, str], folded: Mapping[str, set[str]]) -> str:
    """The new name of a column: that of the known column with the same name, otherwise of the only one that differs in case."""
    bare = name.strip()
    if new := exact.get(name) or exact.get(bare):
        return new
    like = folded.get(bare.casefold(), set())
    return next(iter(like)) if len(like) == 1 else bare or name


def mapped_columns(
    columns: Mapping[str, ColumnType], declared: FeedColumns, known: Iterable[str], source: str
) -> dict[str, ColumnType]:
    """The columns of a part of a feed after the mapping. Raises FeedError if two columns would have the same name."""
    names = new_names([columns], declared, known, source)
    found = {names[name]: kind for name, kind in columns.items()}
    return found | {name: _type_of(value) for name, value in _to_add(declared, found, source).items()}


def _to_add(declared: FeedColumns, there: Iterable[str], source: str, *, leave: bool = False) -> dict[str, Added]:
    """The columns to add. Raises FeedError if the feed has one of them; with ``leave`` that one is left alone."""
    folded = {name.casefold() for name in there}
    taken = [name for name in declared.add if name.casefold() in folded]
    if taken and not leave:
        raise FeedError(
            f"{source} already has a column {', '.join(taken)}, which is declared under add; remove it there."
        )
    return {name: value for name, value in declared.add.items() if name not in taken}


def _type_of(value: Added) -> ColumnType:
    if isinstance(value, Origin):
        return INTEGER if value.of == "line" and not value.file_name else TEXT
    if isinstance(value, datetime) and value.tzinfo:
        return ColumnType("timestamp with time zone")
    return next(kind for constant, kind in _CONSTANTS if isinstance(value, constant))


def map_columns(batch: Batch, declared: FeedColumns, known: Sequence[str], *, feed: str) -> Batch:
    """The batch with the columns of the table; the same batch if nothing changes.

    Raises FeedError if two columns would have the same name, and for a file whose name lacks the part that a column is made of.
    """
    names = new_names(batch.column_sets.values(), declared, known, batch.source)
    added = _to_add(declared, names.values(), batch.source, leave=bool(batch.retries))
    formats = {} if declared.values is None else {name: declared.values.of(name) for name in names.values()}
    if all(name == new for name, new in names.items()) and not added:
        return replace(batch, value_formats=formats) if formats else batch
    types: dict[str, ColumnType] = {}
    for name, kind in batch.columns.items():
        new = names.get(name, name)
        types[new] = kind if types.get(new, kind) == kind else TEXT
    types |= {name: _type_of(value) for name, value in added.items()}
    cased = [f"{name.strip()} as {new}" for name, new in names.items() if name.strip() not in (new, *declared.rename)]
    notes = [f"Matched regardless of case: {', '.join(cased)}."] if cased else []

    def named(columns: Iterable[str]) -> tuple[str, ...]:
        return (*(names.get(name, name) for name in columns), *added)

    made = replace(
        batch,
        columns=types,
        parts={part: named(columns) for part, columns in batch.parts.items()},
        column_sets={number: named(columns) for number, columns in batch.column_sets.items()},
        source_types={names.get(name, name): kind for name, kind in batch.source_types.items()},
        key_places=tuple((names.get(name, name), places) for name, places in batch.key_places),
        value_formats=formats,
        notes=[*batch.notes, *notes],
    )
    if batch.store_query:
        made.store_query, constants = _in_store(batch, names, added, feed)
        made.store_query_values = {**batch.store_query_values, **constants}
        return made
    values = _Values(batch, added, feed)
    made.chunks = lambda: (_mapped(chunk, names, types, values) for chunk in batch.chunks())
    return made


def _mapped(chunk: Chunk, names: Mapping[str, str], types: Mapping[str, ColumnType], values: _Values) -> Chunk:
    import pyarrow as pa

    from brenvik.engines.arrow import arrow_type

    columns = {
        names.get(name, name): array for name, array in zip(chunk.rows.schema.names, chunk.rows.columns, strict=True)
    }
    columns |= values.of(chunk)
    kinds = {name: arrow_type(types[name]) for name in columns}
    arrays = [array if array.type == kinds[name] else array.cast(kinds[name]) for name, array in columns.items()]
    return replace(chunk, rows=pa.record_batch(arrays, schema=pa.schema(kinds.items())))


@dataclass(frozen=True)
class _Values:
    """The values of the columns that are added to the rows of a batch."""

    batch: Batch
    added: Mapping[str, Added]
    feed: str

    def of(self, chunk: Chunk) -> dict[str, pa.Array]:
        return {name: self._of_column(name, value, chunk) for name, value in self.added.items()}

    def _of_column(self, name: str, value: Added, chunk: Chunk) -> pa.Array:
        import pyarrow as pa

        from brenvik.engines.arrow import arrow_type

        kind, size = arrow_type(_type_of(value)), len(chunk.rows)
        if not isinstance(value, Origin):
            return pa.repeat(pa.scalar(value, kind), size)
        if value.of == "feed" and not value.file_name:
            return pa.repeat(pa.scalar(self.feed, kind), size)
        numbers = chunk.sequence_numbers.to_numpy()
        lines = numbers % FILE_STEP // 2
        if self.batch.retries:
            rejects = tuple(self.batch.retries.values())
            origins = [rejects[line - 1] for line in lines]
            found: list[Any] = [file if value.of == "file" or value.file_name else line for file, line in origins]
            return pa.array([self._part_of(name, value, each) for each in found], kind)
        if value.of == "line" and not value.file_name:
            return pa.array(lines, kind)
        files = {file.number: file.file for file in self.batch.files}
        file = files[int(numbers[0] // FILE_STEP)] if size else None  # a chunk has the rows of one file
        return pa.repeat(pa.scalar(self._part_of(name, value, file), kind), size)

    def _part_of(self, column: str, value: Origin, file: Any) -> Any:
        if not value.file_name or file is None:
            return file
        found = re.search(value.file_name, Path(file).name)
        if not found:
            raise FeedError(f"{file} has nothing in its name for column {column!r} that matches {value.file_name!r}.")
        return found[1]


def as_declared(
    batch: Batch,
    declared: FeedColumns,
    rules: TableRules,
    operations: Operations | None,
    state: TableState | None,
    *,
    feed: str,
) -> Batch:
    """The batch with the columns that its table knows: mapped as the feed declares, and those that the rules derive.

    Raises FeedError if that is impossible.
    """
    mapping = under_new_names(declared, rules.renamed)
    mapped = map_columns(batch, mapping, known_columns(rules, operations, state, batch), feed=feed)
    always = (
        *rules.natural_key,
        *rules.order_by,
        rules.effective_column or "",
        operations.column if operations else "",
    )
    return with_derived(with_absent_values(mapped, always), rules.derive)


def with_derived(batch: Batch, derive: Mapping[str, str]) -> Batch:
    """The batch with its derived columns: each where all columns are that it is computed from.

    Raises FeedError if the batch has one of them itself.
    """
    if not derive:
        return batch
    if taken := [name for name in derive if name in batch.columns]:
        raise FeedError(
            f"{batch.source} already has a column {', '.join(taken)}, which is declared under derive; remove it there, or rename "
            "it in the feed."
        )
    needed = {name: {*columns_of(text)} for name, text in derive.items()}

    def derived(columns: Iterable[str]) -> tuple[str, ...]:
        there = (*columns,)
        return (*there, *(name for name, of in needed.items() if of <= {*there}))

    return replace(
        batch,
        parts={part: derived(columns) for part, columns in batch.parts.items()},
        column_sets={number: derived(columns) for number, columns in batch.column_sets.items()},
    )


def _in_store(
    batch: Batch, names: Mapping[str, str], added: Mapping[str, Added], feed: str
) -> tuple[str, dict[str, str]]:
    """The query for rows in the store after the mapping, and its parameters: the constants."""
    items = [sql.named(f"q.{sql.quote(name)}", names.get(name, name)) for name in batch.columns]
    constants = {}
    for number, (name, value) in enumerate(added.items()):
        constants[f"added_{number}"] = feed if isinstance(value, Origin) else str(value)
        items.append(sql.named(f"CAST(:added_{number} AS {_type_of(value).sql})", name))
    return f"SELECT q.{SEQUENCE_NO}, {', '.join(items)} FROM ({batch.store_query}) q", constants
