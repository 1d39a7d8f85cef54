"""The files of a table: rows, and positions of deleted rows, written as Parquet and described for the metadata.

A file holds rows in the order by which they are looked up, so that a load reads only what can hold its keys, and so many that
reading one is quick. Numbers and times that hardly repeat are written as differences to the one before, without further
compression: that is smaller, and read in a third of the time.
"""

from __future__ import annotations

import sys
import uuid
from collections.abc import Iterable, Iterator
from contextlib import ExitStack
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
from pyiceberg.io.pyarrow import (
    compute_statistics_plan,
    data_file_statistics_from_parquet_metadata,
    parquet_path_to_id_mapping,
    schema_to_pyarrow,
)
from pyiceberg.manifest import DataFile, DataFileContent, FileFormat
from pyiceberg.schema import Schema
from pyiceberg.table import Table
from pyiceberg.typedef import Record

from brenvik.errors import StoreError

ROW_GROUP = 122_880
"""Rows that are written, and left out of reading, together; a multiple of what DuckDB works on at a time."""
FILE_BYTES = 2**27
"""How large a file's rows are in memory, about; on disk they are much smaller."""
_SAMPLE = 8_192

_POSITIONS = pa.schema(
    [
        pa.field("file_path", pa.string(), nullable=False, metadata={"PARQUET:field_id": "2147483546"}),
        pa.field("pos", pa.int64(), nullable=False, metadata={"PARQUET:field_id": "2147483545"}),
    ]
)
"""The columns, and their ids, that the format gives to files of deleted positions."""


def write_rows(table: Table, schema: Schema, readers: Iterable[pa.RecordBatchReader]) -> list[DataFile]:
    """Writes rows as files of a table: those of each reader in files of their own, in the order in which they come."""
    written = []
    for reader in readers:
        batches = _batches(schema, reader)
        for first in batches:
            path = _write_file(table, first, batches, FILE_BYTES)
            written.append(describe(table, schema, path))
    return written


def write_whole(table: Table, schema: Schema, rows: pa.Table) -> str:
    """Writes rows as one file, however large, that belongs to no snapshot yet; returns its path."""
    batches = _batches(schema, rows)
    return _write_file(table, next(batches), batches, sys.maxsize)


def _batches(schema: Schema, rows: pa.Table | pa.RecordBatchReader) -> Iterator[pa.RecordBatch]:
    shape = schema_to_pyarrow(schema)
    reader = rows.to_reader() if isinstance(rows, pa.Table) else rows
    return (_in_shape(batch.select(shape.names), shape) for batch in reader if batch.num_rows)


def _in_shape(rows: pa.RecordBatch, shape: pa.Schema) -> pa.RecordBatch:
    """Rows with the types of the table's files. Raises StoreError for nulls where none can be."""
    for field, column in zip(shape, rows.columns, strict=True):
        if not field.nullable and column.null_count:
            raise StoreError(f"{field.name} is NOT NULL, and {column.null_count} rows have no value for it")
    return rows.cast(shape)


def _write_file(table: Table, first: pa.RecordBatch, others: Iterator[pa.RecordBatch], most: int) -> str:
    """Writes one file, until it is large enough or nothing is left; returns its path."""
    path = f"{table.location()}/data/{uuid.uuid4()}.parquet"
    with ExitStack() as stack:
        out = stack.enter_context(table.io.new_output(path).create())
        writer = stack.enter_context(pq.ParquetWriter(out, first.schema, **_ways(first)))
        writer.write_batch(first)
        room = most - first.nbytes
        while room > 0 and (batch := next(others, None)) is not None:
            writer.write_batch(batch)
            room -= batch.nbytes
    return path


def _ways(rows: pa.RecordBatch) -> dict[str, Any]:
    """How each column is written, to decide by some of its rows."""
    some = rows.slice(0, _SAMPLE)
    repeats = {
        name: pc.count_distinct(column).as_py() * 2 <= len(column)
        for name, column in zip(some.schema.names, some.columns, strict=True)
    }
    steps = [field.name for field in some.schema if not repeats[field.name] and _has_steps(field.type)]
    return {
        "use_dictionary": [name for name, often in repeats.items() if often],
        "column_encoding": dict.fromkeys(steps, "DELTA_BINARY_PACKED"),
        "compression": {name: "none" if name in steps else "zstd" for name in repeats},
    }


def _has_steps(kind: pa.DataType) -> bool:
    return bool(pa.types.is_integer(kind) or pa.types.is_temporal(kind))


def write_positions(table: Table, deleted: Iterable[tuple[str, pa.Array]]) -> DataFile:
    """Writes the positions of deleted rows, by file."""
    path, count = f"{table.location()}/data/{uuid.uuid4()}-deletes.parquet", 0
    with (
        table.io.new_output(path).create() as out,
        pq.ParquetWriter(
            out,
            _POSITIONS,
            use_dictionary=["file_path"],
            column_encoding={"pos": "DELTA_BINARY_PACKED"},
            compression="zstd",
        ) as writer,
    ):
        for file, positions in sorted(deleted, key=lambda each: each[0]):
            count += len(positions)
            writer.write_table(pa.table([pa.repeat(file, len(positions)), positions], schema=_POSITIONS))
    return _file(table, DataFileContent.POSITION_DELETES, path, record_count=count)


def describe(table: Table, schema: Schema, path: str) -> DataFile:
    """The description of a Parquet file for the metadata, from its footer."""
    with table.io.new_input(path).open() as stream:
        footer = pq.read_metadata(stream)
    statistics = data_file_statistics_from_parquet_metadata(
        parquet_metadata=footer,
        stats_columns=compute_statistics_plan(schema, table.metadata.properties),
        parquet_column_mapping=parquet_path_to_id_mapping(schema),
    )
    return _file(table, DataFileContent.DATA, path, **statistics.to_serialized_dict())


def _file(table: Table, content: DataFileContent, path: str, **more: Any) -> DataFile:
    file = DataFile.from_args(
        _table_format_version=2,
        content=content,
        file_path=path,
        file_format=FileFormat.PARQUET,
        partition=Record(),
        file_size_in_bytes=len(table.io.new_input(path)),
        **more,
    )
    file.spec_id = table.metadata.default_spec_id
    return file
