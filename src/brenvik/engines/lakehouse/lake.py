"""The tables of a lakehouse as far as their metadata go: columns, files, snapshots, commits."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field

from pyiceberg import types as ice
from pyiceberg.catalog import Catalog
from pyiceberg.exceptions import CommitFailedException, NoSuchTableError, TableAlreadyExistsError
from pyiceberg.manifest import (
    DataFile,
    DataFileContent,
    FileFormat,
    ManifestEntry,
    ManifestFile,
)
from pyiceberg.schema import Schema
from pyiceberg.table import Table
from pyiceberg.table.metadata import TableMetadata
from pyiceberg.table.snapshots import (
    Snapshot,
    ancestors_of,
)
from pyiceberg.table.update import (
    AddSchemaUpdate,
    AddSnapshotUpdate,
    AssertCurrentSchemaId,
    AssertRefSnapshotId,
    RemoveSnapshotsUpdate,
    SetCurrentSchemaUpdate,
    SetPropertiesUpdate,
    SetSnapshotRefUpdate,
    TableUpdate,
)
from sqlalchemy.exc import IntegrityError

from brenvik.engines.lakehouse.catalogs import Home
from brenvik.engines.lakehouse.snapshots import Change, write_snapshot
from brenvik.errors import BrenvikError, Conflict, StoreError

MAIN = "main"
"""The namespace of tables that are named without one."""
OURS = "brenvik."
"""What the properties begin with that a snapshot of ours carries."""
SORTED_BY, SPLIT_BY = "brenvik.in-order-of", "brenvik.apart"
"""Properties of a table: how its rows are ordered and split."""
_PROPERTIES = {
    "format-version": "2",
    "write.metadata.previous-versions-max": "20",
    "write.metadata.delete-after-commit.enabled": "true",
}

_TYPES: dict[str, ice.IcebergType] = {
    "VARCHAR": ice.StringType(), "BIGINT": ice.LongType(), "INTEGER": ice.IntegerType(), "DOUBLE": ice.DoubleType(),
    "FLOAT": ice.FloatType(), "BOOLEAN": ice.BooleanType(), "DATE": ice.DateType(), "TIME": ice.TimeType(),
    "TIMESTAMP": ice.TimestampType(), "TIMESTAMP WITH TIME ZONE": ice.TimestamptzType(), "BLOB": ice.BinaryType(),
}  # fmt: skip
_NAMES = {str(kind): name for name, kind in _TYPES.items()}
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
    """The columns by which the rows of a file are ordered."""
    split_by: str | None = None
    """A boolean column: its true and its false rows are in different files."""
    files: list[DataFile] = field(default_factory=list)
    """Those of rows; a file's number is its position here."""
    deletes: list[DataFile] = field(default_factory=list)
    """Those of deleted positions."""
    properties: Mapping[str, str] = field(default_factory=dict)
    """Our properties of its newest snapshot."""

    @property
    def paths(self) -> list[str]:
        """The paths of its data files, for DuckDB."""
        return [local(file.file_path) for file in self.files]


class Lake:
    """The tables of a catalog."""

    def __init__(self, home: Home) -> None:
        self.home = home
        self._entries: dict[str, list[ManifestEntry]] = {}
        self._manifests: dict[str, list[ManifestFile]] = {}
        self._loaded: dict[tuple[str, str], Table] = {}

    @property
    def catalog(self) -> Catalog:
        return self.home.catalog

    def locations(self) -> dict[tuple[str, str], str]:
        """The locations of the newest metadata of each table."""
        return self.home.locations()

    def load(self, identifier: tuple[str, str]) -> Table:
        """A table as it is now; read only where it is another than last time."""
        location = self.locations().get(identifier)
        found = self._loaded.get(identifier)
        if location is None or found is None or found.metadata_location != location:
            with whole(identifier):
                found = self.catalog.load_table(identifier)
            self._loaded[identifier] = found
        return found

    def at(self, table: Table, snapshot: Snapshot | None) -> LakeTable:
        """A table at a snapshot. Raises StoreError when it is not written in a way that is understood here."""
        metadata = table.metadata
        schema = table.schema()
        if snapshot and snapshot.snapshot_id != metadata.current_snapshot_id and snapshot.schema_id is not None:
            schema = table.schemas()[snapshot.schema_id]
        with whole(table.name()):
            manifests = self.manifests(table, snapshot) if snapshot else []
            existing = [entry.data_file for manifest in manifests for entry in self.entries(table, manifest)]
        specs = {metadata.default_spec_id, *(file.spec_id for file in existing)}
        partitioned = not all(table.specs()[number].is_unpartitioned() for number in specs)
        if metadata.format_version != 2 or partitioned:
            raise StoreError(
                f"{'.'.join(table.name())} is a table of version {metadata.format_version} of the format"
                f"{', partitioned' if partitioned else ''}; only those of version 2 without partitions are understood so far. "
                "Load into a table of another name."
            )
        files: list[DataFile] = []
        deletes: list[DataFile] = []
        for file in existing:
            if file.file_format != FileFormat.PARQUET or file.content == DataFileContent.EQUALITY_DELETES:
                raise StoreError(
                    f"{'.'.join(table.name())} contains {file.file_path}, which is not a Parquet file of rows or positions; "
                    "have the engine that wrote it rewrite the table's files."
                )
            (files if file.content == DataFileContent.DATA else deletes).append(file)
        for each in schema.fields:
            if not isinstance(each.field_type, ice.DecimalType) and str(each.field_type) not in _NAMES:
                raise StoreError(
                    f"{'.'.join(table.name())} has the column {each.name} of type {each.field_type}, which is not supported; "
                    "load into a table with another name."
                )
        space, name = table.name()
        return LakeTable(
            (space, name),
            tuple(LakeColumn(each.name, _kind(each), each.required, each.field_id) for each in schema.fields),
            table,
            snapshot,
            tuple(json.loads(metadata.properties.get(SORTED_BY, "[]"))),
            metadata.properties.get(SPLIT_BY) or None,
            files,
            deletes,
            properties_of(metadata),
        )

    def commit(self, state: LakeTable, change: Change, *, instead: bool = False) -> LakeTable:
        """Commits a change to a table as one snapshot, on top of the snapshot of ``state``; makes the table where it is new.

        ``instead``: of all files there are. Raises Conflict when another process committed first.
        """
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
        snapshot = self._write(state.table, schema, None if instead else state.snapshot, change)
        ours = {name: value for name, value in change.properties.items() if metadata.properties.get(name) != value}
        if (in_order := json.dumps(state.sorted_by)) != metadata.properties.get(SORTED_BY, "[]"):
            ours[SORTED_BY] = in_order
        updates += [*_current(snapshot), *([SetPropertiesUpdate(updates=ours)] if ours else [])]
        return self._commit(state, updates, snapshot)

    def _write(self, table: Table, schema: Schema, base: Snapshot | None, change: Change) -> Snapshot:
        manifests = self.manifests(table, base) if base else []
        return write_snapshot(table, schema, base, manifests, change, lambda each: self.entries(table, each))

    def drop(self, identifier: tuple[str, str]) -> None:
        self.catalog.drop_table(identifier)

    def _make(self, state: LakeTable, change: Change) -> LakeTable:
        space, _ = state.identifier
        with suppress(IntegrityError):  # someone else makes it at the same time
            self.catalog.create_namespace_if_not_exists(space)
        made = self.catalog.create_table_transaction(
            state.identifier,
            Schema(*_fields(state.columns, None)),
            location=self.home.location(state.identifier),
            properties={
                **_PROPERTIES,
                SORTED_BY: json.dumps(state.sorted_by),
                **({SPLIT_BY: state.split_by} if state.split_by else {}),
                **change.properties,
            },
        )
        table = made._table
        snapshot = self._write(table, table.schema(), None, change)
        made._apply(tuple(_current(snapshot)), ())
        try:
            made.commit_transaction()
        except TableAlreadyExistsError as error:
            raise Conflict(f"{'.'.join(state.identifier)}: created by another process in the meantime") from error
        self.home.changed()
        table = self.load(state.identifier)
        return self.at(table, table.metadata.snapshot_by_id(snapshot.snapshot_id))

    def manifests(self, table: Table, snapshot: Snapshot) -> list[ManifestFile]:
        """The manifests of a snapshot; they never change, and are read once."""
        if snapshot.manifest_list not in self._manifests:
            self._manifests[snapshot.manifest_list] = snapshot.manifests(table.io)
        return self._manifests[snapshot.manifest_list]

    def entries(self, table: Table, manifest: ManifestFile) -> list[ManifestEntry]:
        """The entries of a manifest for existing files."""
        if manifest.manifest_path not in self._entries:
            self._entries[manifest.manifest_path] = manifest.fetch_manifest_entry(table.io)
        return self._entries[manifest.manifest_path]

    def drop_snapshots(self, state: LakeTable, numbers: Sequence[int]) -> LakeTable:
        """Removes some snapshots of a table. Raises Conflict when another process committed first."""
        assert state.table
        return self._commit(state, (RemoveSnapshotsUpdate(snapshot_ids=[*numbers]),), state.snapshot)

    def _commit(self, state: LakeTable, updates: Sequence[TableUpdate], snapshot: Snapshot | None) -> LakeTable:
        """Commits updates of a table; its state is then ``snapshot``."""
        assert state.table
        metadata = state.table.metadata
        unchanged = (
            AssertRefSnapshotId(ref="main", snapshot_id=metadata.current_snapshot_id),
            AssertCurrentSchemaId(current_schema_id=metadata.current_schema_id),
        )
        try:
            done = self.catalog.commit_table(state.table, unchanged, tuple(updates))
        except CommitFailedException as error:
            raise Conflict(f"{'.'.join(state.identifier)}: conflicts with another transaction: {error}") from error
        table = Table(state.table.name(), done.metadata, done.metadata_location, state.table.io, self.catalog)
        self._loaded[state.identifier] = table
        self.home.changed()
        return self.at(table, table.metadata.snapshot_by_id(snapshot.snapshot_id) if snapshot else None)


@contextmanager
def whole(identifier: Sequence[str]) -> Iterator[None]:
    """Any error while the metadata of a table are read becomes a StoreError: they are damaged or missing."""
    try:
        yield
    except (BrenvikError, NoSuchTableError):
        raise
    except Exception as error:  # each of the formats has faults of its own, and some have none
        first = str(error).partition("\n")[0]
        raise StoreError(
            f"{'.'.join(identifier)}: its files are damaged or missing ({type(error).__name__}: {first}). Nothing was written; "
            "restore the whole folder or bucket from a backup."
        ) from error


def _current(snapshot: Snapshot) -> list[TableUpdate]:
    """What makes a snapshot the current one."""
    return [
        AddSnapshotUpdate(snapshot=snapshot),
        SetSnapshotRefUpdate(
            ref_name="main",
            type="branch",
            snapshot_id=snapshot.snapshot_id,
            max_ref_age_ms=None,
            max_snapshot_age_ms=None,
            min_snapshots_to_keep=None,
        ),
    ]


def local(path: str) -> str:
    """A file's path for DuckDB."""
    return path.removeprefix("file://")


def summary_of(snapshot: Snapshot) -> Mapping[str, str]:
    return snapshot.summary.additional_properties if snapshot.summary else {}


def properties_of(metadata: TableMetadata) -> dict[str, str]:
    """Our properties of the newest snapshot that has any, of those that led to the current one; if it was removed, the copy in
    the properties of the table."""
    current = metadata.current_snapshot()
    for snapshot in ancestors_of(current, metadata) if current else ():
        if found := {name: value for name, value in summary_of(snapshot).items() if name.startswith(OURS)}:
            return found
    return {name: value for name, value in metadata.properties.items() if name.startswith(OURS)}


def named(metadata: TableMetadata, number: int) -> Snapshot | None:
    """The snapshot of this number with later changes by others that have none of our properties; None when it was removed."""
    current = metadata.current_snapshot()
    for snapshot in ancestors_of(current, metadata) if current else ():
        if snapshot.snapshot_id == number:
            return current
        if any(name.startswith(OURS) for name in summary_of(snapshot)):
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
            given = {"name": column.name, "field_type": _type_for(column.kind), "required": column.needed}
            fields.append(there[column.field].model_copy(update=given))
        else:
            last += 1
            fields.append(ice.NestedField(last, column.name, _type_for(column.kind), required=column.needed))
    return tuple(fields)


def kind_of(name: str) -> str:
    """The name of a type in DuckDB, for one in a statement."""
    if name.startswith(("TEXT", "VARCHAR")):
        return "VARCHAR"
    return _SYNONYMS.get(name, name)


_SYNONYMS = {
    "TIMESTAMPTZ": "TIMESTAMP WITH TIME ZONE", "INT": "INTEGER", "DOUBLE PRECISION": "DOUBLE", "BYTEA": "BLOB",
}  # fmt: skip


def promotes(of: str, to: str) -> bool:
    """Whether the format lets a column have another type while its files stay as they are."""
    if (before := _DECIMAL.fullmatch(of)) and (after := _DECIMAL.fullmatch(to)):
        return before[2] == after[2] and int(before[1]) <= int(after[1])
    return of == to or (of, to) in (("INTEGER", "BIGINT"), ("FLOAT", "DOUBLE"))


def _type_for(kind: str) -> ice.IcebergType:
    if sized := _DECIMAL.fullmatch(kind):
        return ice.DecimalType(int(sized[1]), int(sized[2]))
    return _TYPES[kind]


def _kind(column: ice.NestedField) -> str:
    kind = column.field_type
    if isinstance(kind, ice.DecimalType):
        return f"DECIMAL({kind.precision}, {kind.scale})"
    return _NAMES[str(kind)]
