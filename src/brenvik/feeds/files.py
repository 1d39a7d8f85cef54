"""Files named by a glob, each taken once, in the order of their names."""

from __future__ import annotations

import glob
import hashlib
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from brenvik.errors import DeclarationError, FeedError
from brenvik.feeds import csv
from brenvik.feeds.base import Batch, BrokenLine, Memory, Waiting, Wanted, travelling, types_of
from brenvik.feeds.frames import ROWS_PER_PIECE
from brenvik.ledger import TakenFile
from brenvik.types import TEXT, ColumnType

FORMATS = (".csv", ".parquet")


class FileSource:
    """The files below ``folder`` that match ``pattern``.

    A file is known by its name relative to ``folder``; when it was taken and has changed since, it is not taken
    again, and a note says so.
    """

    def __init__(self, pattern: str, *, folder: Path, name: str, kind: str) -> None:
        self.name = name
        self.kind = kind
        self._pattern = pattern
        self._folder = folder

    def open(self, memory: Memory, wanted: Wanted | None = None) -> Batch:
        if wanted:
            return self._again(wanted)
        before = memory.taken_files()
        new: list[TakenFile] = []
        notes: list[str] = []
        for path in self.matching():
            size = path.stat().st_size
            known = before.get(self.name_of(path))
            digest = _digest(path)
            if known is None:
                new.append(TakenFile(self.name_of(path), size, digest, number=len(new) + 1))
            elif (known.size, known.digest) != (size, digest):
                notes.append(
                    f"{known.file} was taken by run {known.run} and has changed since; it is not taken again. "
                    f"Take its new content: --again {known.file}"
                )
        if not new:
            return Batch("", {}, {}, iter(()), notes=notes)
        batch = batch_of([self._folder / file.file for file in new], new)
        batch.notes += notes
        return batch

    def _again(self, wanted: Wanted) -> Batch:
        """Files by name, or all that match, whether taken or not."""
        if wanted.after is not None or wanted.until is not None:
            raise DeclarationError(f"Feed {self.name!r} reads files and has no windows; ask for files by their names.")
        paths = self.matching() if wanted.everything else [self._folder / name for name in wanted.files]
        if missing := [self.name_of(path) for path in paths if not path.is_file()]:
            raise DeclarationError(f"Feed {self.name!r}: there is no file {', '.join(missing)} in {self._folder}.")
        files = [
            TakenFile(self.name_of(path), path.stat().st_size, _digest(path), number=number)
            for number, path in enumerate(paths, 1)
        ]
        return batch_of(paths, files) if files else Batch("", {}, {}, iter(()))

    def waiting(self, memory: Memory) -> Waiting:
        taken = memory.taken_files()
        paths = [path for path in self.matching() if self.name_of(path) not in taken]
        since = min((path.stat().st_mtime for path in paths), default=None)
        return Waiting(
            len(paths), "files", None if since is None else datetime.fromtimestamp(since, UTC).replace(tzinfo=None)
        )

    def columns(self) -> dict[str, dict[str, ColumnType]]:
        paths = self.matching()
        if not paths:
            raise FeedError(f"no file matches {self._pattern!r} in {self._folder}")
        return {path.name: columns_of(path) for path in paths}

    def matching(self) -> list[Path]:
        """The files that the pattern names, whether taken or not, in the order of their names."""
        found = glob.glob(self._pattern, root_dir=self._folder, recursive=True)  # noqa: PTH207  # absolute ones too
        return [self._folder / name for name in sorted(found) if (self._folder / name).is_file()]

    def name_of(self, path: Path) -> str:
        """The name under which a file is taken."""
        return path.relative_to(self._folder).as_posix()


def batch_of(paths: Sequence[Path], files: Sequence[TakenFile]) -> Batch:
    """The rows of some files as one batch. Columns whose types differ between files travel as text."""
    by_file = {file.number: columns_of(path) for path, file in zip(paths, files, strict=True)}
    columns: dict[str, ColumnType] = {}
    for found in by_file.values():
        for name, kind in found.items():
            columns[name] = kind if columns.get(name, kind) == kind else TEXT
    broken: list[BrokenLine] = []

    def pieces() -> Iterator[tuple[int, pa.RecordBatch, pa.Array]]:
        for path, file in zip(paths, files, strict=True):
            here = {name: columns[name] for name in by_file[file.number]}
            for piece, lines in _read(path, file.number, here, broken):
                yield file.number, piece, lines

    return Batch(
        source=files[0].file if len(files) == 1 else f"{files[0].file} … {files[-1].file} ({len(files)} files)",
        columns=columns,
        carried={number: tuple(found) for number, found in by_file.items()},
        pieces=pieces(),
        files=tuple(files),
        broken=broken,
    )


def columns_of(path: Path) -> dict[str, ColumnType]:
    """The columns of a file: those of CSV are text. Raises FeedError when it cannot be read."""
    if path.suffix.lower() == ".parquet":
        try:
            return types_of(pq.read_schema(path), path.name)
        except (pa.ArrowInvalid, OSError) as error:
            raise FeedError(f"{path.name} is no Parquet file that can be read: {error}") from error
    if path.suffix.lower() == ".csv":
        return csv.columns_of(path)
    raise FeedError(f"{path.name}: known are files that end in {' or '.join(FORMATS)}; mend the pattern under files.")


def _read(
    path: Path, number: int, columns: Mapping[str, ColumnType], broken: list[BrokenLine]
) -> Iterator[tuple[pa.RecordBatch, pa.Array]]:
    if path.suffix.lower() == ".csv":
        yield from csv.read(path, number, tuple(columns), broken)
        return
    line = 1
    try:
        for piece in pq.ParquetFile(path).iter_batches(batch_size=ROWS_PER_PIECE):
            yield travelling(piece, columns, path.name), pa.array(np.arange(line, line + len(piece)))
            line += len(piece)
    except (pa.ArrowInvalid, OSError) as error:
        raise FeedError(f"{path.name} breaks off at row {line}: {error}. Nothing of it was taken.") from error


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
