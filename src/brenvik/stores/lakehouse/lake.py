"""The catalog of a lakehouse folder, and its tables as far as their metadata go: columns, files, snapshots, commits."""

from __future__ import annotations

import hashlib
import os
import re
import uuid
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
from pyiceberg import types as ice
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.exceptions import CommitFailedException, TableAlreadyExistsError
from pyiceberg.io.pyarrow import (
    compute_statistics_plan,
    data_file_statistics_from_parquet_metadata,
    parquet_path_to_id_mapping,
    schema_to_pyarrow,
)
from pyiceberg.manifest import (
    DataFile,
    DataFileContent,
    FileFormat,
    ManifestContent,
    ManifestEntry,
    ManifestEntryStatus,
    ManifestFile,
    ManifestWriterV2,
    write_manifest_list,
)
from pyiceberg.schema import Schema
from pyiceberg.table import Table
from pyiceberg.table.metadata import TableMetadata
from pyiceberg.table.snapshots import (
    Operation,
    Snapshot,
    SnapshotSummaryCollector,
    Summary,
    ancestors_of,
    update_snapshot_summaries,
)
from pyiceberg.table.update import (
    AddSchemaUpdate,
    AddSnapshotUpdate,
    AssertCurrentSchemaId,
    AssertRefSnapshotId,
    SetCurrentSchemaUpdate,
    SetPropertiesUpdate,
    SetSnapshotRefUpdate,
    TableUpdate,
)
from pyiceberg.typedef import Record
from sqlalchemy import URL
from sqlalchemy.exc import IntegrityError

from brenvik.errors import Overtaken, StoreError

MAIN = "main"
"""The namespace of tables that are named without one."""
SAID = "brenvik."
"""What the properties begin with that a snapshot of ours carries."""
SORTED_BY = "brenvik.sorted-by"
_CATALOG = "brenvik"
_PROPERTIES = {
    "format-version": "2",
    "write.metadata.previous-versions-max": "20",
    "write.metadata.delete-after-commit.enabled": "true",
}
_NO_COMPRESSION: Any = "null"

_TYPES: dict[str, ice.IcebergType] = {
    "VARCHAR": ice.StringType(), "BIGINT": ice.LongType(), "INTEGER": ice.IntegerType(), "DOUBLE": ice.DoubleType(),
    "FLOAT": ice.FloatType(), "BOOLEAN": ice.BooleanType(), "DATE": ice.DateType(), "TIME": ice.TimeType(),
    "TIMESTAMP": ice.TimestampType(), "TIMESTAMP WITH TIME ZONE": ice.TimestamptzType(), "BLOB": ice.BinaryType(),
}  # fmt: skip
_SAID = {str(kind): said for said, kind in _TYPES.items()}
_DECIMAL = re.compile(r"DECIMAL\((\d+), ?(\d+)\)")


@dataclass(frozen=True)
class LakeColumn:
    """A column of a table; ``kind`` is what DuckDB calls its type, ``field`` its id in the format, None before the first
    commit."""

    name: str
    kind: str
    needed: bool
    field: int | None = None


@dataclass
class LakeTable:
    """A table at one of its snapshots; or one that a transaction under way is making."""

    identifier: tuple[str, str]
    columns: tuple[LakeColumn, ...]
    table: Table | None = None
    snapshot: Snapshot | None = None
    sorted_by: tuple[str, ...] = ()
    files: list[str] = field(default_factory=list)
    """The paths of its data files; a file's number is its place here."""
    deletes: list[str] = field(default_factory=list)
    """The paths of its files of deleted positions."""
    said: Mapping[str, str] = field(default_factory=dict)
    """What the newest snapshot of ours says."""


@dataclass(frozen=True)
class Change:
    """What one commit does to a table."""

    added: pa.Table | None = None
    gone: Sequence[tuple[str, pa.Array]] = ()
    """Deleted positions by file."""
    said: Mapping[str, str] = field(default_factory=dict)
    files: Sequence[str] = ()
    """Files that were written before and become the table's."""


class Lake:
    """The tables of a folder. Its catalog is the SQLite file ``catalog.db`` in there, made by the first commit."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder.absolute()
        if odd := {*str(self.folder)} & {*"?#%*[{"}:
            raise StoreError(
                f"lakehouse:{folder}: a folder whose name holds {' '.join(sorted(odd))} cannot be told in a catalog; "
                "choose one of another name."
            )
        self._entries: dict[str, list[ManifestEntry]] = {}

    @property
    def is_there(self) -> bool:
        return (self.folder / "catalog.db").exists()

    @cached_property
    def catalog(self) -> SqlCatalog:
        if not self.is_there:
            self.folder.mkdir(parents=True, exist_ok=True)
            made = self.folder / f"catalog-{uuid.uuid4()}.db"
            self._open(made).engine.dispose()
            with suppress(FileExistsError):  # somebody else was quicker
                os.link(made, self.folder / "catalog.db")
            made.unlink()
        return self._open(self.folder / "catalog.db")

    def _open(self, file: Path) -> SqlCatalog:
        address = URL.create("sqlite", database=str(file), query={"timeout": "60"}).render_as_string()
        return SqlCatalog(_CATALOG, uri=address, warehouse=str(self.folder))

    def close(self) -> None:
        if "catalog" in self.__dict__:
            self.catalog.engine.dispose()

    def places(self) -> dict[tuple[str, str], str]:
        """Where the newest metadata of each table stand."""
        if not self.is_there:
            return {}
        with self.catalog.engine.connect() as connection:
            found = connection.exec_driver_sql(
                "SELECT table_namespace, table_name, metadata_location FROM iceberg_tables WHERE catalog_name = ?",
                (_CATALOG,),
            )
            return {(space, name): place for space, name, place in found}

    def load(self, identifier: tuple[str, str]) -> Table:
        return self.catalog.load_table(identifier)

    def at(self, table: Table, snapshot: Snapshot | None) -> LakeTable:
        """A table at a snapshot. Raises StoreError when it is not written in a way that is understood here."""
        metadata = table.metadata
        schema = table.schema()
        if snapshot and snapshot.snapshot_id != metadata.current_snapshot_id and snapshot.schema_id is not None:
            schema = table.schemas()[snapshot.schema_id]
        alive = [entry.data_file for entry in self._entries_of(table, snapshot)]
        specs = {metadata.default_spec_id, *(file.spec_id for file in alive)}
        partitioned = not all(table.specs()[number].is_unpartitioned() for number in specs)
        if metadata.format_version != 2 or partitioned:
            raise StoreError(
                f"{'.'.join(table.name())} is a table of version {metadata.format_version} of the format"
                f"{', partitioned' if partitioned else ''}; only those of version 2 without partitions are understood so far. "
                "Load into a table of another name."
            )
        files: list[str] = []
        deletes: list[str] = []
        for file in alive:
            if file.file_format != FileFormat.PARQUET or file.content == DataFileContent.EQUALITY_DELETES:
                raise StoreError(
                    f"{'.'.join(table.name())} holds {file.file_path}, which is no Parquet file of rows or positions; "
                    "have the engine that wrote it rewrite the table's files."
                )
            (files if file.content == DataFileContent.DATA else deletes).append(local(file.file_path))
        for each in schema.fields:
            if not isinstance(each.field_type, ice.DecimalType) and str(each.field_type) not in _SAID:
                raise StoreError(
                    f"{'.'.join(table.name())} has the column {each.name} of type {each.field_type}, which no column here "
                    "can hold; load into a table of another name."
                )
        space, name = table.name()
        return LakeTable(
            (space, name),
            tuple(LakeColumn(each.name, _kind(each), each.required, each.field_id) for each in schema.fields),
            table,
            snapshot,
            tuple(filter(None, metadata.properties.get(SORTED_BY, "").split("\n"))),
            files,
            deletes,
            said_of(metadata),
        )

    def commit(self, state: LakeTable, change: Change, *, instead: bool = False) -> LakeTable:
        """Commits a change to a table as one snapshot, on top of the snapshot of ``state``; makes the table where it is new.

        ``instead``: of all files there are. Raises Overtaken when somebody else was quicker.
        """
        try:
            if state.table is None:
                return self._make(state, change)
            metadata = state.table.metadata
            updates: list[TableUpdate] = []
            schema = state.table.schema()
            fields = _fields(state.columns, metadata)
            if fields != schema.fields:
                kept = {each.field_id for each in fields} & {*schema.identifier_field_ids}
                number = max(each.schema_id for each in metadata.schemas) + 1
                schema = Schema(*fields, schema_id=number, identifier_field_ids=[*kept])
                updates += [AddSchemaUpdate(schema_=schema), SetCurrentSchemaUpdate(schema_id=-1)]
            snapshot, more = self._snapshot(state.table, metadata, schema, None if instead else state.snapshot, change)
            ours = {name: value for name, value in change.said.items() if metadata.properties.get(name) != value}
            updates += [*more, *([SetPropertiesUpdate(updates=ours)] if ours else [])]
            self.catalog.commit_table(
                state.table,
                (
                    AssertRefSnapshotId(ref="main", snapshot_id=metadata.current_snapshot_id),
                    AssertCurrentSchemaId(current_schema_id=metadata.current_schema_id),
                ),
                tuple(updates),
            )
        except CommitFailedException as error:
            raise Overtaken(f"{'.'.join(state.identifier)}: somebody else's work came between: {error}") from error
        table = self.load(state.identifier)
        return self.at(table, table.metadata.snapshot_by_id(snapshot.snapshot_id))

    def drop(self, identifier: tuple[str, str]) -> None:
        self.catalog.drop_table(identifier)

    def write(self, table: Table, schema: Schema, rows: pa.Table) -> DataFile:
        """Writes rows as a file of a table."""
        path = f"{table.location()}/data/{uuid.uuid4()}.parquet"
        shape = schema_to_pyarrow(schema)
        rows = rows.select(shape.names).cast(shape)
        with table.io.new_output(path).create() as out, pq.ParquetWriter(out, shape, compression="zstd") as writer:
            writer.write_table(rows)
        return _described(table, schema, path)

    def _make(self, state: LakeTable, change: Change) -> LakeTable:
        space, name = state.identifier
        with suppress(IntegrityError):  # somebody else makes it at the same time
            self.catalog.create_namespace_if_not_exists(space)
        made = self.catalog.create_table_transaction(
            state.identifier,
            Schema(*_fields(state.columns, None)),
            location=f"{self.folder}/{_slug(space)}/{_slug(name)}",
            properties={**_PROPERTIES, SORTED_BY: "\n".join(state.sorted_by), **change.said},
        )
        metadata = made.table_metadata
        snapshot, updates = self._snapshot(made._table, metadata, metadata.schema(), None, change)
        made._apply(tuple(updates), ())
        try:
            made.commit_transaction()
        except TableAlreadyExistsError as error:
            raise Overtaken(f"{space}.{name}: somebody else made it in the meantime") from error
        table = self.load(state.identifier)
        return self.at(table, table.metadata.snapshot_by_id(snapshot.snapshot_id))

    def _snapshot(
        self,
        table: Table,
        metadata: TableMetadata,
        schema: Schema,
        base: Snapshot | None,
        change: Change,
    ) -> tuple[Snapshot, list[TableUpdate]]:
        """Writes the files of a change, and those that tell of them and of what stays of the snapshot ``base``."""
        added = [_described(table, schema, path) for path in change.files]
        if change.added is not None and change.added.num_rows:
            added.append(self.write(table, schema, change.added))
        gone = [_write_positions(table, change.gone)] if change.gone else []
        number, name = metadata.new_snapshot_id(), uuid.uuid4()
        manifests: list[ManifestFile] = []
        collected = SnapshotSummaryCollector()
        for nth, (writer_of, files) in enumerate(((ManifestWriterV2, added), (_PositionManifestWriter, gone))):
            if not files:
                continue
            output = table.io.new_output(f"{table.location()}/metadata/{name}-m{nth}.avro")
            with writer_of(metadata.spec(), schema, output, number, _NO_COMPRESSION) as writer:
                for file in files:
                    collected.add_file(file, schema, metadata.spec())
                    writer.add(
                        ManifestEntry.from_args(
                            status=ManifestEntryStatus.ADDED, snapshot_id=number, sequence_number=None, data_file=file
                        )
                    )
            manifests.append(writer.to_manifest_file())
        if base:
            manifests += base.manifests(table.io)
        parent = metadata.current_snapshot()
        place = f"{table.location()}/metadata/snap-{number}-{name}.avro"
        sequence = metadata.next_sequence_number()
        with write_manifest_list(
            format_version=2,
            output_file=table.io.new_output(place),
            snapshot_id=number,
            parent_snapshot_id=parent.snapshot_id if parent else None,
            sequence_number=sequence,
            avro_compression=_NO_COMPRESSION,
        ) as lister:
            lister.add_manifests(manifests)
        operation = Operation.APPEND if base == parent and not gone else Operation.OVERWRITE
        snapshot = Snapshot(
            snapshot_id=number,
            parent_snapshot_id=parent.snapshot_id if parent else None,
            manifest_list=place,
            sequence_number=sequence,
            summary=update_snapshot_summaries(
                Summary(operation, **collected.build(), **change.said),
                base.summary.additional_properties if base and base.summary else None,
            ),
            schema_id=schema.schema_id,
        )
        return snapshot, [
            AddSnapshotUpdate(snapshot=snapshot),
            SetSnapshotRefUpdate(
                ref_name="main",
                type="branch",
                snapshot_id=number,
                max_ref_age_ms=None,
                max_snapshot_age_ms=None,
                min_snapshots_to_keep=None,
            ),
        ]

    def _entries_of(self, table: Table, snapshot: Snapshot | None) -> Iterable[ManifestEntry]:
        """What is alive in a snapshot. Manifests never change: each is read once."""
        for manifest in snapshot.manifests(table.io) if snapshot else ():
            if manifest.manifest_path not in self._entries:
                self._entries[manifest.manifest_path] = manifest.fetch_manifest_entry(table.io)
            yield from self._entries[manifest.manifest_path]


class _PositionManifestWriter(ManifestWriterV2):
    """A manifest of files of deleted positions, of which pyiceberg writes none."""

    def content(self) -> ManifestContent:
        return ManifestContent.DELETES

    @property
    def _meta(self) -> dict[str, str]:
        return {**super()._meta, "content": "deletes"}


_POSITIONS = pa.schema(
    [
        pa.field("file_path", pa.string(), nullable=False, metadata={"PARQUET:field_id": "2147483546"}),
        pa.field("pos", pa.int64(), nullable=False, metadata={"PARQUET:field_id": "2147483545"}),
    ]
)
"""The columns, and their ids, that the format gives to files of deleted positions."""


def _write_positions(table: Table, gone: Iterable[tuple[str, pa.Array]]) -> DataFile:
    path, count = f"{table.location()}/data/{uuid.uuid4()}-gone.parquet", 0
    with table.io.new_output(path).create() as out, pq.ParquetWriter(out, _POSITIONS, compression="zstd") as writer:
        for file, positions in sorted(gone, key=lambda each: each[0]):
            count += len(positions)
            writer.write_table(pa.table([pa.repeat(file, len(positions)), positions], schema=_POSITIONS))
    return _file(table, DataFileContent.POSITION_DELETES, path, record_count=count)


def _described(table: Table, schema: Schema, path: str) -> DataFile:
    """What the metadata tell of a Parquet file, out of its footer."""
    written = table.io.new_input(path)
    with written.open() as stream:
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


def local(path: str) -> str:
    """A file's path as DuckDB takes it."""
    return path.removeprefix("file://")


def said_of(metadata: TableMetadata) -> dict[str, str]:
    """What the newest snapshot of ours says, of those that led to the current one; should it be gone, what it left in the
    table's properties."""
    current = metadata.current_snapshot()
    for snapshot in ancestors_of(current, metadata) if current else ():
        found = snapshot.summary.additional_properties if snapshot.summary else {}
        if said := {name: value for name, value in found.items() if name.startswith(SAID)}:
            return said
    return {name: value for name, value in metadata.properties.items() if name.startswith(SAID)}


def named(metadata: TableMetadata, number: int) -> Snapshot | None:
    """The snapshot of this number with what others made of it since, without changing what it says; None when it is gone."""
    current = metadata.current_snapshot()
    for snapshot in ancestors_of(current, metadata) if current else ():
        if snapshot.snapshot_id == number:
            return current
        if snapshot.summary and any(name.startswith(SAID) for name in snapshot.summary.additional_properties):
            break
    return metadata.snapshot_by_id(number)


def _fields(columns: Iterable[LakeColumn], metadata: TableMetadata | None) -> tuple[ice.NestedField, ...]:
    """Columns as the format has them: those of a table as they are there, and new ones."""
    there = {field.field_id: field for schema in metadata.schemas for field in schema.fields} if metadata else {}
    there |= {field.field_id: field for field in metadata.schema().fields} if metadata else {}
    last = metadata.last_column_id if metadata else 0
    fields = []
    for column in columns:
        if column.field in there:
            field = there[column.field]
            fields.append(
                field if field.required == column.needed else field.model_copy(update={"required": column.needed})
            )
        else:
            last += 1
            fields.append(ice.NestedField(last, column.name, _type_for(column.kind), required=column.needed))
    return tuple(fields)


def kind_of(said: str) -> str:
    """The name that a type has here, of one that a statement says."""
    if said.startswith(("TEXT", "VARCHAR")):
        return "VARCHAR"
    return {"TIMESTAMPTZ": "TIMESTAMP WITH TIME ZONE", "INT": "INTEGER"}.get(said, said)


def _type_for(kind: str) -> ice.IcebergType:
    if sized := _DECIMAL.fullmatch(kind):
        return ice.DecimalType(int(sized[1]), int(sized[2]))
    return _TYPES[kind]


def _kind(column: ice.NestedField) -> str:
    kind = column.field_type
    if isinstance(kind, ice.DecimalType):
        return f"DECIMAL({kind.precision}, {kind.scale})"
    return _SAID[str(kind)]


def _slug(name: str) -> str:
    """A name as a part of a path."""
    plain = re.sub(r"\W", "_", name, flags=re.ASCII)
    return plain if plain == name else f"{plain}_{hashlib.blake2b(name.encode(), digest_size=4).hexdigest()}"
