"""CSV files as nobody should write them: the rows of a strict reader, a reject or a refusal; never a silent difference."""

from __future__ import annotations

import random
from pathlib import Path

import pytest
from strict_csv import NoEnd, Record, records

from brenvik.errors import FeedError
from brenvik.feeds import csv, csv_records
from brenvik.feeds.protocol import BrokenLine
from counts import FUZZED, SEED, tried

ROWS = 40
Found = tuple[list[tuple[int, tuple[str | None, ...]]], list[tuple[int, str]]]


def one_file(dice: random.Random, dialect: csv.Dialect) -> tuple[str, int]:
    """A file with a header of some columns; wild from none of its rows to most."""
    width = dice.choice([1, 2, 2, 3])
    wild = dice.choice([0.0, 0.0, 0.05, 0.3, 0.9])
    special = [
        dialect.delimiter,
        dialect.quote,
        dialect.quote,
        "\n",
        "\r\n",
        *([dialect.escape] if dialect.escape else []),
    ]
    end = dice.choice(["\n", "\n", "\r\n", "\r"])

    def written() -> str:
        value = "".join(dice.choice(["a", "b", " ", "é", "日", *special]) for _ in range(dice.choice([0, 1, 2, 5])))
        if dice.random() < wild:
            return dice.choice(
                [value, dialect.quote + value, value + dialect.quote, f"{dialect.quote}{value}{dialect.quote}x"]
            )
        if dialect.escape:
            value = value.replace(dialect.escape, dialect.escape * 2)
        if any(character in value for character in special) or dice.random() < 0.3:
            return dialect.quote + value.replace(dialect.quote, dialect.quote * 2) + dialect.quote
        return value

    lines = [dialect.delimiter.join(f"c{n}" for n in range(width))]
    for _ in range(dice.randint(0, ROWS)):
        fields = width if dice.random() > wild / 3 else dice.randint(1, 4)
        lines.append(dialect.delimiter.join(written() for _ in range(fields)))
    return end.join(lines) + dice.choice(["", end]), width


def ours(path: Path, dialect: csv.Dialect) -> Found | None:
    """What our reader makes of a file; None when it refuses it."""
    broken: list[BrokenLine] = []
    rows = []
    try:
        for piece in csv.read(path, 0, 0, tuple(csv.columns_of(path, dialect)), broken, dialect):
            lines = [number // 2 for number in piece.sequence_numbers.to_pylist()]
            rows += list(zip(lines, (tuple(row.values()) for row in piece.rows.to_pylist()), strict=True))
    except FeedError:
        return None
    return rows, [(each.line, each.text.rstrip("\r\n")) for each in broken]


def strict(text: str, width: int, dialect: csv.Dialect) -> Found | None:
    try:
        _, *found = records(text, dialect.delimiter, dialect.quote, dialect.escape)
    except NoEnd:
        return None
    blank = [[None], [None] * width]
    found = [each for each in found if each.malformed or each.fields not in blank]
    rows = [(each.line, tuple(each.fields)) for each in found if is_row(each, width)]
    return rows, [(each.line, each.text.rstrip("\r\n")) for each in found if not is_row(each, width)]


def is_row(record: Record, width: int) -> bool:
    return not record.malformed and len(record.fields) == width


@pytest.mark.parametrize("block", [1 << 20, 64], ids=["whole", "in small blocks"])
@pytest.mark.parametrize(
    "dialect",
    [csv.RFC_4180, csv.Dialect(delimiter=";", quote="'"), csv.Dialect(escape="\\"), csv.Dialect(encoding="utf-16")],
    ids=["RFC 4180", "other marks", "escapes", "UTF-16"],
)
def test_csv_is_read_as_a_strict_reader_reads_it(
    dialect: csv.Dialect, block: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(csv_records, "READ_AT_ONCE", block)
    dice = random.Random(f"csv {dialect} {block}{SEED}")
    path = tmp_path / "a.csv"
    done = 0
    while done < FUZZED // 8:
        text, width = one_file(dice, dialect)
        path.write_bytes(text.encode(dialect.encoding))
        expected = strict(text, width, dialect)
        assert ours(path, dialect) == expected, f"{text!r}"
        done += max(1, text.count("\n"))
    tried("duckdb", done, what="fuzzed rows of CSV")
