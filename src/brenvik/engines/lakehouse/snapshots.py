"""One change of a table written as a snapshot: the manifests of its files, and the list of all manifests."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import pyarrow as pa
from pyiceberg.manifest import (
    DataFile,
    ManifestContent,
    ManifestEntry,
    ManifestFile,
    ManifestWriterV2,
    write_manifest_list,
)
from pyiceberg.schema import Schema
from pyiceberg.table import Table
from pyiceberg.table.snapshots import Operation, Snapshot, SnapshotSummaryCollector, Summary, update_snapshot_summaries

from brenvik.engines.lakehouse.files import describe, write_positions, write_rows

NO_COMPRESSION: Any = "null"
_MANY_MANIFESTS = 5
"""From this many on they are merged: reading one takes as long as writing a dozen of its entries."""

Entries = Callable[[ManifestFile], list[ManifestEntry]]
"""The entries of a manifest for existing files."""


@dataclass(frozen=True)
class Change:
    """What one commit does to a table."""

    added: Iterable[pa.RecordBatchReader] = ()
    """New rows; those of each reader are written to files of their own."""
    deleted: Sequence[tuple[str, pa.Array]] = ()
    """Numbers of rows that go, by file."""
    properties: Mapping[str, str] = field(default_factory=dict)
    """Our properties of the snapshot, beside the format's own."""
    files: Sequence[str] = ()
    """Files that were written before and become the table's."""
    dropped: frozenset[str] = frozenset()
    """The paths of files, of rows or of positions, that are the table's no more."""
    same_rows: bool = False
    """Whether the table has the same rows as before."""


def _manifests(
    table: Table,
    schema: Schema,
    writer_of: type[ManifestWriterV2],
    files: Sequence[DataFile],
    called: tuple[int, str],
    earlier: Sequence[ManifestFile],
    change: Change,
    entries: Entries,
    collected: SnapshotSummaryCollector,
) -> list[ManifestFile]:
    """The manifests of one kind of file: a new one for ``files`` and for entries of earlier ones that are rewritten; and the
    earlier ones that stay. ``called`` are the number of the snapshot and the name of the new manifest."""
    number, name = called
    output = table.io.new_output(f"{table.location()}/metadata/{name}.avro")
    writer = writer_of(table.metadata.spec(), schema, output, number, NO_COMPRESSION)
    there = [each for each in earlier if each.content == writer.content()]
    many = len(there) >= _MANY_MANIFESTS
    rewritten = [each for each in there if many or (change.dropped and _holds_any(entries(each), change.dropped))]
    stay = [each for each in there if each not in rewritten]
    if not (files or rewritten):
        return stay
    with writer:
        for file in files:
            writer.add(ManifestEntry.from_args(data_file=file))
        for entry in (entry for manifest in rewritten for entry in entries(manifest)):
            if entry.data_file.file_path in change.dropped:
                collected.remove_file(entry.data_file, schema, table.metadata.spec())
                writer.delete(_without_values(entry))
            else:
                writer.existing(entry)
    return [writer.to_manifest_file(), *stay]


def _without_values(entry: ManifestEntry) -> ManifestEntry:
    """The entry of a file that goes, without the lowest and highest values in it."""
    file = entry.data_file
    bare = DataFile.from_args(
        content=file.content,
        file_path=file.file_path,
        file_format=file.file_format,
        partition=file.partition,
        record_count=file.record_count,
        file_size_in_bytes=file.file_size_in_bytes,
        spec_id=file.spec_id,
    )
    return ManifestEntry.from_args(
        status=entry.status,
        snapshot_id=entry.snapshot_id,
        sequence_number=entry.sequence_number,
        file_sequence_number=entry.file_sequence_number,
        data_file=bare,
    )


def write_snapshot(
    table: Table,
    schema: Schema,
    base: Snapshot | None,
    earlier: Sequence[ManifestFile],
    change: Change,
    entries: Entries,
) -> Snapshot:
    """Writes the files of a change, the manifests of them and of what remains of the snapshot ``base``, whose manifests are
    ``earlier``."""
    metadata = table.metadata
    added = [*(describe(table, schema, path) for path in change.files), *write_rows(table, schema, change.added)]
    deleted = [write_positions(table, change.deleted)] if change.deleted else []
    number, name = metadata.new_snapshot_id(), uuid.uuid4()
    collected = SnapshotSummaryCollector()
    for file in (*added, *deleted):
        collected.add_file(file, schema, metadata.spec())
    manifests = [
        *_manifests(
            table, schema, ManifestWriterV2, added, (number, f"{name}-m0"), earlier, change, entries, collected
        ),
        *_manifests(
            table, schema, PositionManifestWriter, deleted, (number, f"{name}-m1"), earlier, change, entries, collected
        ),
    ]
    parent = metadata.current_snapshot()
    place = f"{table.location()}/metadata/snap-{number}-{name}.avro"
    sequence = metadata.next_sequence_number()
    with write_manifest_list(
        format_version=2,
        output_file=table.io.new_output(place),
        snapshot_id=number,
        parent_snapshot_id=parent.snapshot_id if parent else None,
        sequence_number=sequence,
        avro_compression=NO_COMPRESSION,
    ) as lister:
        lister.add_manifests(manifests)
    operation = Operation.APPEND if base == parent and not deleted and not change.dropped else Operation.OVERWRITE
    before = base.summary.additional_properties if base and base.summary else None
    summary = update_snapshot_summaries(Summary(operation, **collected.build(), **change.properties), before)
    if change.same_rows:
        summary = Summary(Operation.REPLACE, **summary.additional_properties)
    return Snapshot(
        snapshot_id=number,
        parent_snapshot_id=parent.snapshot_id if parent else None,
        manifest_list=place,
        sequence_number=sequence,
        summary=summary,
        schema_id=schema.schema_id,
    )


def _holds_any(entries: Iterable[ManifestEntry], paths: frozenset[str]) -> bool:
    return any(entry.data_file.file_path in paths for entry in entries)


class PositionManifestWriter(ManifestWriterV2):
    """A manifest of files of deleted positions, of which pyiceberg writes none."""

    def content(self) -> ManifestContent:
        return ManifestContent.DELETES

    @property
    def _meta(self) -> dict[str, str]:
        return {**super()._meta, "content": "deletes"}
