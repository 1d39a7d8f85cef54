"""The dialect of a CSV file, guessed from its beginning: delimiter and encoding."""

from __future__ import annotations

import codecs
import csv
import gzip
import io
import zlib
from itertools import islice
from pathlib import Path

from brenvik.errors import FeedError
from brenvik.feeds.reading import ENDINGS, PLAIN, RFC_4180, WORKBOOKS, Dialect, ReadOptions

_BEGINNING = 1 << 20
_RECORDS = 200
_DELIMITERS = (",", ";", "\t", "|")


def reading_of(path: Path) -> ReadOptions:
    """How to read a file that has no declaration yet: for CSV, and files that look like it under another name, the
    dialect; for Excel the sheet; otherwise as its name says. Raises FeedError when it cannot be read."""
    name = path.name.lower()
    is_csv = name.endswith((".csv", ".csv.gz"))
    if name.endswith(WORKBOOKS):
        from brenvik.feeds.formats import module_of

        return ReadOptions(sheet=module_of("excel").guessed(path))
    if name.endswith(ENDINGS) and not is_csv:
        return PLAIN
    try:
        with gzip.open(path) if name.endswith(".gz") else path.open("rb") as file:
            begin = file.read(_BEGINNING)
    except (OSError, EOFError, zlib.error) as error:
        raise FeedError(f"{path.name} cannot be read: {error}") from error
    encoding = _encoding(begin)
    text = begin.decode(encoding, errors="ignore")
    delimiter, fields = _delimiter(text)
    if not is_csv and (fields < 2 or "\0" in text or text.lstrip().startswith(("{", "["))):
        return PLAIN
    dialect = Dialect(delimiter=delimiter, encoding=encoding)
    return PLAIN if is_csv and dialect == RFC_4180 else ReadOptions(dialect)


def _encoding(begin: bytes) -> str:
    if begin.startswith((b"\xff\xfe", b"\xfe\xff")):
        return "utf-16"
    for encoding in ("utf-8", "cp1252"):
        try:
            codecs.getincrementaldecoder(encoding)().decode(begin)  # a character may be cut off at the end
        except UnicodeDecodeError:
            continue
        return encoding
    return "latin-1"


def _delimiter(text: str) -> tuple[str, int]:
    """The delimiter that splits the lines most evenly, and into how many fields; a comma where none does."""

    def found(delimiter: str) -> tuple[bool, int]:
        try:
            records = [r for r in islice(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter), _RECORDS) if r]
        except csv.Error:
            return False, 0
        width = len(records[0]) if records else 0
        even = sum(len(record) == width for record in records)
        return width > 1 and even >= 0.9 * len(records), width

    best = max(_DELIMITERS, key=found)
    return best, found(best)[1]
