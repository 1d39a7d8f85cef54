"""What files hold, and their rows as one batch; a format is imported when a file of it is there."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import Any

from brenvik.feeds.protocol import Batch, BrokenLine, Piece
from brenvik.feeds.reading import PLAIN, Format, Reading
from brenvik.ledger.records import LoadedFile
from brenvik.model.types import TEXT, ColumnType


@dataclass(frozen=True)
class _Found:
    """What a file holds: its columns, and which of them its rows carry (by the members of the rows, for JSON); a JSON file
    without any record nothing, and the columns that are expected of it."""

    columns: Mapping[str, ColumnType]
    carried: Mapping[tuple[str, ...], tuple[str, ...]]


def _module(form: Format) -> Any:
    return import_module(f"brenvik.feeds.{form}")


def _look(path: Path, reading: Reading) -> _Found:
    form = reading.format_of(path)
    module = _module(form)
    if form == "jsonl":
        carried = module.carried_in(path, reading.record)
        names = dict.fromkeys(name for names in carried.values() for name in names)
        return _Found(dict.fromkeys(names or reading.record.expected, TEXT), carried)
    columns = module.columns_of(path, reading.csv) if form == "csv" else module.columns_of(path)
    return _Found(columns, {tuple(columns): tuple(columns)})


def columns_of(path: Path, reading: Reading = PLAIN) -> dict[str, ColumnType]:
    """The columns of a file: those of CSV and JSON are text. Raises FeedError when it cannot be read."""
    return dict(_look(path, reading).columns)


def batch_of(paths: Sequence[Path], files: Sequence[LoadedFile], reading: Reading = PLAIN) -> Batch:
    """The rows of some files as one batch. Columns whose types differ between files travel as text."""
    found = [_look(path, reading) for path in paths]
    columns: dict[str, ColumnType] = {}
    numbers: dict[tuple[str, ...], int] = {}
    for each in found:
        for name, kind in each.columns.items():
            columns[name] = kind if columns.get(name, kind) == kind else TEXT
        for names in each.carried.values() or [tuple(each.columns)]:
            numbers.setdefault(names, len(numbers))
    broken: list[BrokenLine] = []
    some_json = any(reading.format_of(path) == "jsonl" for path in paths)

    def pieces() -> Iterator[Piece]:
        broken.clear()
        for path, file, its in zip(paths, files, found, strict=True):
            carried = {members: numbers[names] for members, names in its.carried.items()}
            form = reading.format_of(path)
            module = _module(form)
            if form == "jsonl":
                yield from module.read(path, file.number, carried, tuple(its.columns), broken, reading.record)
                continue
            (number,) = carried.values()
            if form == "parquet":
                yield from module.read(path, file.number, number, {name: columns[name] for name in its.columns})
            else:
                yield from module.read(path, file.number, number, tuple(its.columns), broken, reading.csv)

    return Batch(
        source=files[0].file if len(files) == 1 else f"{files[0].file} … {files[-1].file} ({len(files)} files)",
        columns=columns,
        parts={file.file: tuple(its.columns) for file, its in zip(files, found, strict=True) if its.carried},
        carried={number: names for names, number in numbers.items()},
        pieces=pieces,
        files=tuple(files),
        broken=broken,
        keeps_raw=some_json,
        derives=some_json and reading.record.derives,
        key_places=reading.record.key_places if some_json else (),
        repeats=True,
    )
