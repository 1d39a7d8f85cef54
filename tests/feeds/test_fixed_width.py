"""Text without delimiters: each column has its place in the line."""

from __future__ import annotations

import gzip
import tempfile
from pathlib import Path
from typing import Any

import pytest
from cli import brenvik as call
from hypothesis import given, settings
from hypothesis import strategies as st

import brenvik
from brenvik.errors import UnreadableFile
from brenvik.feeds import fixed_width
from brenvik.feeds.protocol import BrokenLine
from brenvik.feeds.reading import Layout
from counts import share

PLACES = (("code", 1, 5), ("light", 6, 9), ("depth", 12, 16))
RULES = brenvik.TableRules("buoy", natural_key="code", types={"depth": "decimal(6,2)"})


def feed(folder: Path, **layout: Any) -> brenvik.FileFeed:
    return brenvik.FileFeed(
        "office", "upserts", None, str(folder / "*.dat*"), fixed_width={"columns": PLACES, **layout}
    )


def test_values_are_where_the_layout_says(anywhere: brenvik.Store, tmp_path: Path) -> None:
    text = "CODE LIGHT\r\nNB-1 Fl Rxx12.50 ignored\r\n\r\nNB-2 Q\r\nNB-3\tFl\r\n  NB4ÆØÅ    7.1\r\nNB-5 F      deep\r\n\x1a"
    (tmp_path / "1.dat").write_bytes(text.encode("latin-1"))
    outcome = anywhere.load(RULES, feed(tmp_path, encoding="latin-1", header_lines=1))
    told = outcome.decisions().to_pylist()
    assert [(row["line"], row["decision"]) for row in told] == [
        (2, "inserted"), (4, "inserted"), (5, "rejected"), (6, "inserted"), (7, "rejected"),
    ]  # fmt: skip
    assert told[2]["reason"] == "contains a tab, so that the places of columns are unclear"
    assert told[4]["reason"] == "depth: 'deep' is not a valid decimal(6,2)"
    rows = [(row["code"], row["light"], str(row["depth"])) for row in anywhere.read(RULES).to_pylist()]
    assert rows == [("NB-1", "Fl R", "12.50"), ("NB-2", "Q", "None"), ("NB4", "ÆØÅ", "7.10")]


def test_what_cannot_be_read_says_why(anywhere: brenvik.Store, tmp_path: Path) -> None:
    (tmp_path / "1.dat").write_bytes("NB-1 Fl\nNB-2 ÆØÅ\n".encode("latin-1"))
    with pytest.raises(UnreadableFile, match=r"1.dat is not utf-8: invalid continuation byte after line"):
        anywhere.load(RULES, feed(tmp_path))


def test_in_a_project(tmp_path: Path) -> None:
    text = (
        'name = "Coast"\nstore = "duckdb:coast.duckdb"\n[table.buoy]\nnatural_key = "code"\n[table.buoy.feed.office]\n'
        'kind = "upserts"\nfiles = "*.dat.gz"\nfixed_width = {{ columns = {{ code = [1, 5], light = {} }} }}\n'
    )
    (tmp_path / "1.dat.gz").write_bytes(gzip.compress("\ufeffNB-1 Fl\nNB-2 Q".encode()))
    (tmp_path / "brenvik.toml").write_text(text.format("[9, 6]"))
    said = call("check", cwd=tmp_path)
    assert said.code == 2
    assert "fixed_width.columns.light: expected the first and the last character, as in [1, 8], got [9, 6]" in said.err
    (tmp_path / "brenvik.toml").write_text(text.format("[6, 9]"))
    assert "light" in call("check", cwd=tmp_path).out
    assert "2 read = 2 inserted" in call("load", cwd=tmp_path).out
    assert "NB-1" in call("history", "buoy", "NB-1", cwd=tmp_path).out


LINES = st.lists(st.text(st.sampled_from("aZ0 \u00a0éΩ日\t\x1a\r"), max_size=18), max_size=12)


@settings(max_examples=share(1))
@given(LINES, st.sampled_from(["\n", "\r\n"]), st.booleans(), st.integers(0, 2), st.integers(1, 9))
def test_as_slices_of_lines(lines: list[str], end: str, ends: bool, header: int, at_once: int) -> None:
    """However little is read at a time: what Python finds at these places."""
    text = end.join(lines) + (end if ends and lines else "")
    expected, broken = [], []
    for number, line in enumerate(text.split("\n"), 1):
        line = line.rstrip("\r")
        if number <= header or (number == len(text.split("\n")) and not line):
            continue
        if "\t" in line:
            broken.append((number, line))
        elif line.strip(" \u00a0\x1a"):
            expected.append((number, *(line[first - 1 : last].strip(" \u00a0") or None for _, first, last in PLACES)))
    whole, fixed_width._READ_AT_ONCE = fixed_width._READ_AT_ONCE, at_once
    try:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "1.dat"
            path.write_bytes(text.encode())
            bad: list[BrokenLine] = []
            found = []
            for chunk in fixed_width.read(
                path, 0, 0, [name for name, _, _ in PLACES], bad, Layout(PLACES, "utf-8", header)
            ):
                lines_of = (chunk.sequence_numbers.to_numpy() // 2).tolist()
                found += [(line, *row.values()) for line, row in zip(lines_of, chunk.rows.to_pylist(), strict=True)]
    finally:
        fixed_width._READ_AT_ONCE = whole
    assert found == expected
    assert [(each.line, each.text) for each in bad] == broken
