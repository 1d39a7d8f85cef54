"""The Arrow types in which the rows of feeds travel."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

import pyarrow as pa

from brenvik.errors import FeedError
from brenvik.model.types import ColumnType, type_of_arrow

_ARROW = {
    "text": pa.string(),
    "integer": pa.int64(),
    "double": pa.float64(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "time": pa.time64("us"),
    "timestamp": pa.timestamp("us"),
    "timestamp with time zone": pa.timestamp("us", tz="UTC"),
    "binary": pa.binary(),
}


def arrow_type(kind: ColumnType) -> pa.DataType:
    """The one Arrow type in which values of a type travel."""
    return pa.decimal128(kind.precision, kind.scale) if kind.kind == "decimal" else _ARROW[kind.kind]


def types_of(schema: pa.Schema, source: str) -> dict[str, ColumnType]:
    """The columns of an Arrow schema. Raises FeedError for names that clash and types that no table can hold."""
    clashing = [name for name, times in Counter(n.casefold() for n in schema.names).items() if times > 1]
    if clashing:
        raise FeedError(
            f"{source} has several columns named {', '.join(clashing)} (case is ignored); rename them in the source."
        )
    if "" in schema.names:
        raise FeedError(
            f"{source} has a column without a name, column number {schema.names.index('') + 1}; name it in the source."
        )
    types = {column.name: type_of_arrow(column.type) for column in schema}
    impossible = [f"{column.name} ({column.type})" for column in schema if types[column.name] is None]
    if impossible:
        raise FeedError(
            f"{source} has columns of unsupported types: {', '.join(impossible)}; "
            "convert them to text or remove them before loading."
        )
    return {name: kind for name, kind in types.items() if kind is not None}


def travelling(chunk: pa.RecordBatch, columns: Mapping[str, ColumnType], source: str) -> pa.RecordBatch:
    """The same rows in the Arrow types in which values travel; nanoseconds are cut to microseconds."""
    arrays, names = [], []
    for name, array in zip(chunk.schema.names, chunk.columns, strict=True):
        wanted = arrow_type(columns[name])
        if array.type != wanted:
            if pa.types.is_dictionary(array.type):
                array = array.dictionary_decode()
            cuts = pa.types.is_timestamp(array.type) and array.type.unit == "ns"
            cuts = (
                cuts or (pa.types.is_time64(array.type) and array.type.unit == "ns") or pa.types.is_date64(array.type)
            )
            try:
                array = array.cast(wanted, safe=not cuts)
            except pa.ArrowInvalid as error:
                raise FeedError(f"{source}: column {name} cannot be read as {columns[name]}: {error}") from error
        arrays.append(array)
        names.append(name)
    return pa.RecordBatch.from_arrays(arrays, names=names)
