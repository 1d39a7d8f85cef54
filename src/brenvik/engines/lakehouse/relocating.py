"""A folder of tables that was copied or moved: its metadata, which name every file by its absolute path, are rewritten.

Files of rows stay as they are. What names files is written beside what was there: files of deleted positions, manifests, lists of
manifests, and the metadata of each table. The catalog then takes all tables at once, so that a relocation that breaks off has
changed nothing.
"""

from __future__ import annotations

import json
import re
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
from pyiceberg.catalog.sql import IcebergTables
from pyiceberg.io import FileIO
from pyiceberg.io.pyarrow import PyArrowFileIO
from pyiceberg.manifest import (
    DataFile,
    DataFileContent,
    ManifestContent,
    ManifestEntry,
    ManifestEntryStatus,
    ManifestFile,
    ManifestWriterV2,
    read_manifest_list,
    write_manifest_list,
)
from pyiceberg.serializers import FromInputFile, ToOutputFile
from pyiceberg.table.metadata import TableMetadata, TableMetadataUtil
from pyiceberg.typedef import Record
from sqlalchemy import update

from brenvik.engines.lakehouse.catalogs import Folder, Identifier, location_of
from brenvik.engines.lakehouse.snapshots import NO_COMPRESSION, PositionManifestWriter
from brenvik.engines.protocol import Relocated
from brenvik.errors import Conflict, StoreError

_NUMBER = re.compile(r"(\d+)-.*")
_PATH, _LENGTH = 0, 1
"""The fields of a manifest's path and length in a list of manifests."""
_FILE_PATH, _FILE_SIZE, _LOWER, _UPPER = 1, 5, 10, 11
"""Where a manifest has the path, size and bounds of a file."""
_R = TypeVar("_R", bound=Record)
_V = TypeVar("_V")
_A = TypeVar("_A")


@dataclass(frozen=True)
class _Move:
    """From one folder to another."""

    before: str
    after: str

    def path(self, text: str) -> str:
        """Where a file is now; of any text, with every path in it as it is now."""
        return self._paths.sub(lambda found: f"{found[1]}{self.after}/", text)

    def values(self, value: Any) -> Any:
        """The same of every text of a JSON value."""
        if isinstance(value, dict):
            return {name: self.values(each) for name, each in value.items()}
        if isinstance(value, list):
            return [self.values(each) for each in value]
        return self.path(value) if isinstance(value, str) else value

    @property
    def _paths(self) -> re.Pattern[str]:
        return re.compile(rf"(^|[ \n])(?:file://)?{re.escape(self.before)}/")


def relocate(folder: Folder) -> list[Relocated]:
    """Makes the metadata of a folder's tables refer to the files in the folder; does nothing where they do.

    Raises StoreError when files are not there, or when tables lie in several places; Conflict when someone else changed a
    table in the meantime. Nothing is changed then.
    """
    strayed = folder.strayed()
    if not strayed:
        return []
    roots = {_root_of(*table) for table in strayed.items()}
    if len(roots) != 1:
        raise StoreError(
            f"lakehouse:{folder.path}: its tables point to files in several folders ({', '.join(sorted(roots))}), so it "
            "is not a copy of one folder. Nothing was changed."
        )
    move = _Move(roots.pop(), str(folder.path))
    io = PyArrowFileIO()
    done: dict[Identifier, tuple[str, str]] = {}
    relocated = []
    for identifier, place in sorted(strayed.items()):
        written, files = _relocate_table(io, move, place)
        done[identifier] = (place, written)
        relocated.append(Relocated(".".join(identifier), move.before, files))
    _enter(folder, done)
    return relocated


def _root_of(identifier: Identifier, place: str) -> str:
    """The folder of a table by its metadata."""
    return location_of(place).removesuffix(Folder.below(identifier)).removeprefix("file://")


def _enter(folder: Folder, done: dict[Identifier, tuple[str, str]]) -> None:
    """Has the catalog know where the metadata of tables are now."""
    its = IcebergTables
    with folder.catalog.engine.begin() as connection:
        for (space, name), (before, after) in done.items():
            this = (its.catalog_name == folder.catalog.name, its.table_namespace == space, its.table_name == name)
            changed = connection.execute(
                update(its)
                .where(*this, its.metadata_location == before)
                .values(metadata_location=after, previous_metadata_location=None)
            )
            if changed.rowcount != 1:
                raise Conflict(f"{space}.{name}: changed by another process in the meantime")


def _relocate_table(io: FileIO, move: _Move, place: str) -> tuple[str, int]:
    """Rewrites the metadata of one table; returns their location, and the number of files in them."""
    try:
        metadata = FromInputFile.table_metadata(io.new_input(move.path(place)))
        if metadata.format_version != 2:
            raise StoreError(
                f"{place} is of version {metadata.format_version} of the format; only version 2 is understood so far. "
                "Nothing was changed."
            )
        lists, count = _Metadata(io, move, metadata).lists()
    except FileNotFoundError as error:
        raise StoreError(
            f"{move.after} is an incomplete copy of {move.before}: {str(error).partition(chr(10))[0]} "
            "Nothing was changed; copy the folder again while nothing is loaded."
        ) from error
    plain = move.values(json.loads(metadata.model_dump_json()))
    for snapshot in plain["snapshots"]:
        snapshot["manifest-list"] = lists[snapshot["snapshot-id"]]
    number = _NUMBER.fullmatch(Path(place).name)
    written = f"{plain['location']}/metadata/{int(number[1]) + 1 if number else 0:05d}-{uuid.uuid4()}.metadata.json"
    ToOutputFile.table_metadata(TableMetadataUtil.parse_obj(plain), io.new_output(written))
    return written, count


class _Metadata:
    """The manifests of one table, rewritten."""

    def __init__(self, io: FileIO, move: _Move, metadata: TableMetadata) -> None:
        self.io, self.move, self.metadata = io, move, metadata
        self.folder = f"{move.path(metadata.location)}/metadata"
        self._manifests: dict[str, ManifestFile] = {}
        self._files: dict[str, tuple[str, int]] = {}

    def lists(self) -> tuple[dict[int, str], int]:
        """The path of a list of manifests for each snapshot, and the number of files in all of them."""
        written = {}
        for snapshot in self.metadata.snapshots:
            place = f"{self.folder}/snap-{snapshot.snapshot_id}-{uuid.uuid4()}.avro"
            with write_manifest_list(
                format_version=2,
                output_file=self.io.new_output(place),
                snapshot_id=snapshot.snapshot_id,
                parent_snapshot_id=snapshot.parent_snapshot_id,
                sequence_number=snapshot.sequence_number,
                avro_compression=NO_COMPRESSION,
            ) as lister:
                there = read_manifest_list(self.io.new_input(self.move.path(snapshot.manifest_list)))
                lister.add_manifests(
                    [_once(self._manifests, each.manifest_path, self._manifest, each) for each in there]
                )
            written[snapshot.snapshot_id] = place
        return written, len(self._files)

    def _manifest(self, manifest: ManifestFile) -> ManifestFile:
        there = _copy(manifest)
        there[_PATH] = self.move.path(manifest.manifest_path)
        entries = [
            ManifestEntry.from_args(
                status=entry.status,
                snapshot_id=entry.snapshot_id,
                sequence_number=entry.sequence_number,
                file_sequence_number=entry.file_sequence_number,
                data_file=self._file(entry.data_file, deleted=entry.status == ManifestEntryStatus.DELETED),
            )
            for entry in there.fetch_manifest_entry(self.io, discard_deleted=False)
        ]
        spec, schema = self.metadata.specs()[manifest.partition_spec_id], self.metadata.schema()
        output = self.io.new_output(f"{self.folder}/{uuid.uuid4()}-m0.avro")
        writer_of = PositionManifestWriter if manifest.content == ManifestContent.DELETES else ManifestWriterV2
        with writer_of(spec, schema, output, manifest.added_snapshot_id or 0, NO_COMPRESSION) as writer:
            for entry in entries:
                writer.add_entry(entry)
        there[_PATH], there[_LENGTH] = output.location, len(output)
        return there

    def _file(self, file: DataFile, *, deleted: bool) -> DataFile:
        """The new description of a file; a ``deleted`` one may not exist."""
        moved = _copy(file)
        moved[_FILE_PATH] = self.move.path(file.file_path)
        if file.content == DataFileContent.POSITION_DELETES and not deleted:
            moved[_FILE_PATH], moved[_FILE_SIZE] = _once(self._files, file.file_path, self._positions, file)
            moved[_LOWER] = moved[_UPPER] = None  # which may hold paths
        elif not deleted:
            _once(self._files, file.file_path, self._there, moved)
        return moved

    def _there(self, file: DataFile) -> tuple[str, int]:
        return file.file_path, len(self.io.new_input(file.file_path))

    def _positions(self, file: DataFile) -> tuple[str, int]:
        """Rewrites a file of deleted positions; returns its path and size."""
        before = self.move.path(file.file_path)
        after = f"{before.rpartition('/')[0]}/{uuid.uuid4()}-deletes.parquet"
        with self.io.new_input(before).open() as stream:
            there = pq.read_table(stream)
        paths = pc.dictionary_encode(there["file_path"].combine_chunks())
        moved = pa.array(
            [self.move.path(path) for path in paths.dictionary.to_pylist()], there.schema.field("file_path").type
        )
        number = there.schema.get_field_index("file_path")
        there = there.set_column(number, there.schema.field(number), moved.take(paths.indices))
        with self.io.new_output(after).create() as out:
            pq.write_table(there, out, use_dictionary=["file_path"], compression="zstd")
        return after, len(self.io.new_input(after))


def _copy(record: _R) -> _R:
    return type(record)(*(record[place] for place in range(len(record))))


def _once(done: dict[str, _V], key: str, make: Callable[[_A], _V], of: _A) -> _V:
    if key not in done:
        done[key] = make(of)
    return done[key]
