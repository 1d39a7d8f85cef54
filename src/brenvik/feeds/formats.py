"""The columns of files, and their rows as one batch; the module of a format is imported when a file of it is found."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import Any

from brenvik.errors import DeclarationError, FeedError, UnreadableFile
from brenvik.feeds.protocol import Batch, BrokenLine, Chunk
from brenvik.feeds.reading import PLAIN, Format, ReadOptions
from brenvik.ledger.records import LoadedFile
from brenvik.model.types import TEXT, ColumnType


@dataclass(frozen=True)
class _Found:
    """The columns of a file, and the column sets of its rows (by the members of the rows, for JSON); a JSON file without any
    record has no column set, and the columns that are expected."""

    columns: Mapping[str, ColumnType]
    column_sets: Mapping[tuple[str, ...], tuple[str, ...]]


@contextmanager
def naming(file: str) -> Iterator[None]:
    """Raises what cannot be read as UnreadableFile with the name of the file."""
    try:
        yield
    except FeedError as error:
        raise UnreadableFile(str(error), file=file) from error


def module_of(form: Format) -> Any:
    """The module that reads a format. Raises DeclarationError where a package for it is missing."""
    try:
        return import_module(f"brenvik.feeds.{form}")
    except ModuleNotFoundError as error:
        if error.name != "openpyxl":
            raise
        raise DeclarationError("Excel files need the package openpyxl: pip install 'brenvik[excel]'") from None


def _look(path: Path, reading: ReadOptions) -> _Found:
    form = reading.format_of(path)
    module = module_of(form)
    if form == "jsonl":
        found = module.column_sets_in(path, reading.record)
        names = dict.fromkeys(name for names in found.values() for name in names)
        return _Found(dict.fromkeys(names or reading.record.expected, TEXT), found)
    how = _options(form, reading)
    columns = module.columns_of(path, *([] if how is None else [how]))
    return _Found(columns, {tuple(columns): tuple(columns)})


def _options(form: Format, reading: ReadOptions) -> Any:
    """What the module of a format must know besides the file."""
    return {"csv": reading.csv, "excel": reading.sheet, "fixed_width": reading.layout}.get(form)


def columns_of(path: Path, reading: ReadOptions = PLAIN) -> dict[str, ColumnType]:
    """The columns of a file; those of other formats than Parquet are text. Raises FeedError when it cannot be read."""
    return dict(_look(path, reading).columns)


def batch_of(paths: Sequence[Path], files: Sequence[LoadedFile], reading: ReadOptions = PLAIN) -> Batch:
    """The rows of some files as one batch. Columns whose types differ between files travel as text."""
    found = []
    for path, file in zip(paths, files, strict=True):
        with naming(file.file):
            found.append(_look(path, reading))
    columns: dict[str, ColumnType] = {}
    numbers: dict[tuple[str, ...], int] = {}
    for each in found:
        for name, kind in each.columns.items():
            columns[name] = kind if columns.get(name, kind) == kind else TEXT
        for names in each.column_sets.values() or [tuple(each.columns)]:
            numbers.setdefault(names, len(numbers))
    broken: list[BrokenLine] = []
    some_json = any(reading.format_of(path) == "jsonl" for path in paths)

    def chunks() -> Iterator[Chunk]:
        broken.clear()
        for path, file, its in zip(paths, files, found, strict=True):
            by_members = {members: numbers[names] for members, names in its.column_sets.items()}
            form = reading.format_of(path)
            with naming(file.file):
                yield from _rows(form, path, file, its, by_members)

    def _rows(
        form: Format, path: Path, file: LoadedFile, its: _Found, by_members: Mapping[tuple[str, ...], int]
    ) -> Iterator[Chunk]:
        module = module_of(form)
        if form == "jsonl":
            yield from module.read(path, file.number, by_members, tuple(its.columns), broken, reading.record)
            return
        (number,) = by_members.values()
        if form == "parquet":
            yield from module.read(path, file.number, number, {name: columns[name] for name in its.columns})
        else:
            yield from module.read(path, file.number, number, tuple(its.columns), broken, _options(form, reading))

    return Batch(
        source=files[0].file if len(files) == 1 else f"{files[0].file} … {files[-1].file} ({len(files)} files)",
        columns=columns,
        parts={file.file: tuple(its.columns) for file, its in zip(files, found, strict=True) if its.column_sets},
        column_sets={number: names for names, number in numbers.items()},
        chunks=chunks,
        files=tuple(files),
        broken=broken,
        keeps_raw=some_json,
        can_derive=some_json and reading.record.can_derive,
        key_places=reading.record.key_places if some_json else (),
        can_reread=True,
    )
