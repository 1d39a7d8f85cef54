"""CSV as people send it: line numbers, quotes, blanks, broken lines, and text that stays text."""

from __future__ import annotations

import gzip
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import brenvik
from brenvik.errors import FeedError
from brenvik.feeds import csv
from brenvik.feeds.files import FileSource
from brenvik.feeds.protocol import BrokenLine
from sources import load_from

LONG = "x" * 40


def write(folder: Path, text: str | bytes, name: str = "buoy.csv") -> Path:
    path = folder / name
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    return path


def read(path: Path, dialect: csv.Dialect = csv.RFC_4180) -> tuple[list[tuple[int, dict[str, Any]]], list[BrokenLine]]:
    broken: list[BrokenLine] = []
    rows = []
    for piece in csv.read(path, 0, 0, tuple(csv.columns_of(path, dialect)), broken, dialect):
        rows += list(
            zip((number // 2 for number in piece.sequence_numbers.to_pylist()), piece.rows.to_pylist(), strict=True)
        )
    return rows, broken


def load(path: Path, **declared: Any) -> tuple[brenvik.Outcome, list[dict[str, Any]], list[dict[str, Any]]]:
    rules = brenvik.TableRules("buoy", natural_key="code", **declared)
    with brenvik.open_store("duckdb::memory:") as store:
        outcome = load_from(store, rules, FileSource("*.csv", folder=path.parent, name="files", kind="upserts"))
        return outcome, store.read(rules).to_pylist(), store.ledger.rejects().to_pylist()


def test_a_row_has_the_number_of_its_first_line(tmp_path: Path) -> None:
    path = write(tmp_path, 'code,note\nA,"two\nlines"\n\nB,one\nC\nD,x,y\nE,"a\n\nb"\nF,last')
    rows, broken = read(path)
    assert [(line, row["code"]) for line, row in rows] == [(2, "A"), (5, "B"), (8, "E"), (11, "F")]
    assert [(line.line, line.text) for line in broken] == [(6, "C"), (7, "D,x,y")]
    assert broken[0].reason == "has 1 field, the header has 2"


@given(
    st.lists(
        st.one_of(
            st.tuples(st.just("good"), st.text(alphabet='ab\n,"', max_size=4)),
            st.tuples(st.sampled_from(["few", "many", "blank"]), st.just("")),
        ),
        max_size=12,
    )
)
def test_lines_are_counted_as_an_editor_counts_them(tmp_path_factory: pytest.TempPathFactory, made: Any) -> None:
    text, line, good, bad = "code,note\n", 2, [], []
    for index, (kind, note) in enumerate(made):
        quoted = '"' + note.replace('"', '""') + '"'
        row = {"good": f"K{index},{quoted}", "few": f"K{index}", "many": f"K{index},b,c", "blank": ""}[kind]
        if kind == "good":
            good.append((line, f"K{index}", note))
        elif kind != "blank":
            bad.append(line)
        text += row + "\n"
        line += row.count("\n") + 1
    rows, broken = read(write(tmp_path_factory.mktemp("csv"), text))
    assert [(number, row["code"], row["note"]) for number, row in rows] == good
    assert [line.line for line in broken] == bad


def test_text_stays_text(tmp_path: Path) -> None:
    odd = ["NA", "NULL", "nan", "007", "450.0", "true", "OFF", " x ", "\u00a0", "1e5", "2024-05-13"]
    path = write(tmp_path, "code,note\n" + "".join(f"K{i:02d},{value}\n" for i, value in enumerate(odd)))
    _, rows, _ = load(path)
    assert [row["note"] for row in rows] == odd


def test_an_empty_field_is_null_and_a_quoted_one_is_not(tmp_path: Path) -> None:
    _, rows, _ = load(write(tmp_path, 'code,note\nA,\nB,""\n'))
    assert [row["note"] for row in rows] == [None, ""]


def test_broken_lines_are_rejects_with_their_text(tmp_path: Path) -> None:
    outcome, rows, rejects = load(write(tmp_path, "code,note\nA,x\nB\nC,x,y\nD,x\n"))
    assert (outcome.counts["read"], outcome.counts["rejected"], len(rows)) == (4, 2, 2)
    assert [(row["line"], row["content"], row["reason"]) for row in rejects] == [
        (3, "B", "has 1 field, the header has 2"),
        (4, "C,x,y", "has 3 fields, the header has 2"),
    ]


@pytest.mark.parametrize("value", ['"5" pipe"', '"x"y', '"p" ', '""x'])
def test_text_behind_a_closing_quote_makes_its_line_a_reject(tmp_path: Path, value: str) -> None:
    outcome, rows, rejects = load(write(tmp_path, f'code,note\nA,1\nB,{value}\nC,5" pipe\n'))
    assert [(row["code"], row["note"]) for row in rows] == [("A", "1"), ("C", '5" pipe')]
    assert [(row["line"], row["content"]) for row in rejects] == [(3, f"B,{value}")]
    assert "after the closing quote of a field; a quote inside a quoted field must be doubled" in rejects[0]["reason"]
    assert outcome.counts["read"] == 3


@pytest.mark.parametrize(
    ("declared", "good", "bad"),
    [
        ("integer", ["0", "-7", "+7", " 12 ", "12.0", str(2**63 - 1)], ["12.5", "1_000", "0x10", "1e3", str(2**63)]),
        ("decimal(5,2)", ["1", "1.2", "999.99", "-.5", "1.2300"], ["1.239", "1000", "1e1", "NaN", "1,5"]),
        ("double", ["1", "1e3", "nan", "-inf", ".5"], ["1_0", "1,5", "x"]),
        ("double", ["1e308", "0e-999", "-0", "Infinity", "1e-320"], ["1e400", "1.7976931348623159e308", "-1e999", "1e-400"]),
        ("boolean", ["true", "False", "t", "0", "yes"], ["2", "maybe"]),
        ("date", ["2024-05-13", "2024-05-13 00:00"], ["2024-02-30", "2024-05-13 08:00", "infinity", "13.5.2024"]),
        ("date", ["2024-05-13T00:00:00Z"], ["2024-05-13 00:00 PM", "2024-05-13T00:00:00+02:00"]),
        ("timestamp", ["2024-05-13 08:00", "2024-05-13T08:00:00.5Z"], ["2024-05-14 25:61", "infinity", "noon"]),
        ("date", ["2024-5-1", "0024-03-01", "2024/05/01"], ["24-03-01", "01-03-24", "epoch", "12024-01-01", "2024-05-13 x"]),
        ("date", ["9999-12-31"], ["02024-03-01", "00001-01-01"]),
        ("timestamp", ["2024-05-13 08:00+14", "2024-05-13 08:00-12:45"], ["24-03-01 08:00", "01-03-24", "epoch", "now"]),
        ("timestamp", ["9999-12-31 08:00", "2024-05-13T08:00:00.99999999UTC"], ["02024-03-01 08:00", "02024-03-01"]),
        ("timestamp", ["2024-05-13 08:00+05:30:15"], ["2024-05-13 08:00+25", "2024-05-13 08:00+14:60", "2024-05-13 (BC)"]),
        ("timestamp", ["2024-03-31 03:30 Europe/Oslo"], ["2024-03-31 02:30 Europe/Oslo", "2024-05-13 08:00 Mars/Base"]),
        ("timestamp", ["2024-05-13 8:00 +0200"], ["2024-05-13 8:00 PM", "2024-05-13 08:00 x", "2024-05-13 08:00:00,5"]),
        ("time", ["08:00:00", "8:00", "23:59:59.999999"], ["25:61", "x", "24:00", "08:00 PM", "8:00:00 PM"]),
        ("time", ["00:00"], ["08:00:00+02", "08:00:00Z", "08:00:00,5", "08:00:00.5x", "2024-05-13 08:00"]),
        ("text(3)", ["abc", "日本語"], ["abcd"]),
    ],
)  # fmt: skip
def test_a_value_passes_only_if_nothing_of_it_is_lost(
    tmp_path: Path, declared: str, good: list[str], bad: list[str]
) -> None:
    lines = "".join(f'K{index:02d},"{value}"\n' for index, value in enumerate([*good, *bad]))
    _, rows, rejects = load(write(tmp_path, "code,note\n" + lines), types={"note": declared})
    assert [row["code"] for row in rows] == [f"K{index:02d}" for index in range(len(good))]
    assert [row["value"] for row in rejects] == bad
    assert all(row["note"] is not None for row in rows)
    assert all(row["column_name"] == "note" for row in rejects)


def test_times_meet_zones(tmp_path: Path) -> None:
    path = write(
        tmp_path, "code,at\nA,2024-07-01 12:00\nB,2024-07-01T12:00:00Z\nC,2024-07-01 12:00:00+05:30\nD,2024-01-01\n"
    )
    _, rows, _ = load(path, types={"at": "timestamp with time zone"}, time_zone="Europe/Oslo")
    assert [f"{row['at']:%m-%d %H:%M}" for row in rows] == ["07-01 10:00", "07-01 12:00", "07-01 06:30", "12-31 23:00"]


def test_a_time_that_the_clock_skipped_is_a_reject(tmp_path: Path) -> None:
    lines = "A,2024-03-31 01:59:59\nB,2024-03-31 02:30\nC,2024-03-31 03:00\nD,2024-10-27 02:30\nE,2024-03-31 02:30Z\n"
    path = write(tmp_path, f"code,at\n{lines}")
    _, rows, rejects = load(path, types={"at": "timestamp with time zone"}, time_zone="Europe/Oslo")
    assert [row["code"] for row in rows] == ["A", "C", "D", "E"]
    told = "at: '2024-03-31 02:30' does not exist in Europe/Oslo, because clocks were put forward"
    assert [row["reason"] for row in rejects] == [told]


def test_a_zone_told_where_none_is_kept_counts(tmp_path: Path) -> None:
    lines = (
        "A,2024-07-01 12:00\nB,2024-07-01T12:00:00Z\nC,2024-07-01 12:00:00+05:30\nD,2024-07-01 12:00 -0300\n"
        "E,2024-07-01 12:00 Europe/Oslo\nF,2024-07-01 12:00:00.000001 Etc/GMT+2\n"
    )
    _, rows, _ = load(write(tmp_path, f"code,at\n{lines}"), types={"at": "timestamp"})
    told = ["12:00", "12:00", "06:30", "15:00", "10:00", "14:00"]
    assert [f"{row['at']:%H:%M}" for row in rows] == told


def test_all_faults_of_a_row_are_told_together(tmp_path: Path) -> None:
    path = write(tmp_path, f"code,n,t\n{LONG},x,y\n")
    _, _, rejects = load(path, types={"code": "text(8)", "n": "integer", "t": "date"})
    assert (
        rejects[0]["reason"]
        == "code has 40 characters; the limit is 8; n: 'x' is not a valid integer; t: 'y' is not a valid date"
    )


@pytest.mark.parametrize(
    ("content", "told"),
    [
        (b"", "Empty CSV file"),
        (b"code,code\nA,B\n", "several columns named code"),
        (b"code,Code\nA,B\n", "several columns named code"),
        (b"code,note\nA,\xff\n", "is not utf-8 text: line 2"),
        (b'code,note\nA,"x\nB,y\n', 'a " is opened in line 2 and never closed'),
        (b'code,note\nA,x\nB,"tru', 'a " is opened in line 3 and never closed'),
        (b'code,note\nA,"x\nB,"y"\n', "opened in line 2 and not closed there; in line 3 the field has a quote"),
        (b'code,note\nA,"x\nB,y\nC,"z"\n', "opened in line 2 and not closed there; in line 4"),
        (b'code,"no"te\nA,x\n', "the header has 't' after the closing quote of a field"),
        ("code,note\nA,x\n".encode("utf-16"), 'is UTF-16, not utf-8; .* encoding = "utf-16"'),
        ("code,note\nA,x\n".encode("utf-16-le"), "the header has NUL characters"),
        (b"\x89PNG\r\n\x1a\n\x00\x00\xff\xfe", "b.csv"),
        (b"kode,note\nA,x\n", "b.csv has no column code"),
    ],
)
def test_a_file_that_cannot_be_read_is_told_and_nothing_is_taken(tmp_path: Path, content: bytes, told: str) -> None:
    rules = brenvik.TableRules("buoy", natural_key="code")
    write(tmp_path, "code,note\nZ,z\n", "a.csv")
    write(tmp_path, content, "b.csv")
    with brenvik.open_store("duckdb::memory:") as store:
        with pytest.raises(FeedError, match=told):
            load_from(store, rules, FileSource("*.csv", folder=tmp_path, name="files", kind="upserts"))
        assert store.read(rules).num_rows == 0
        assert store.ledger.loaded_files("buoy", "files") == {}


def test_a_header_alone_is_a_run_without_rows(tmp_path: Path) -> None:
    outcome, rows, _ = load(write(tmp_path, b"\xef\xbb\xbfcode,note\r\n"))
    assert (outcome.state, outcome.counts["read"], rows) == ("done", 0, [])


SEMICOLONS = csv.Dialect(delimiter=";", quote="'", encoding="latin-1", columns=("code", "note"), null=("", "NULL"))


def read_as(path: Path, dialect: csv.Dialect) -> tuple[list[tuple[int, Any, Any]], list[tuple[int, str]]]:
    rows, broken = read(path, dialect)
    return [(line, row["code"], row["note"]) for line, row in rows], [(line.line, line.text) for line in broken]


def test_a_dialect_says_how_a_file_differs(tmp_path: Path) -> None:
    text = "A;Grasøy\nB;'one;\ntwo'\nC\nD;NULL\nE;'NULL'\nF;'it''s'\n"
    rows, broken = read_as(write(tmp_path, text.encode("latin-1"), "buoy.txt"), SEMICOLONS)
    assert rows == [(1, "A", "Grasøy"), (2, "B", "one;\ntwo"), (5, "D", None), (6, "E", "NULL"), (7, "F", "it's")]
    assert broken == [(4, "C")]


def test_packed_files_are_read_like_others(tmp_path: Path) -> None:
    text = b'code,note\nA,x\nB,"two\nlines"\nC,"last\none"\n'
    plain = read_as(write(tmp_path, text), csv.RFC_4180)
    assert read_as(write(tmp_path, gzip.compress(text), "buoy.csv.gz"), csv.RFC_4180) == plain
    open_quote = gzip.compress(text + b'D,"never closed\n')
    with pytest.raises(FeedError, match="is opened in line 7 and never closed"):
        read_as(write(tmp_path, open_quote, "buoy.csv.gz"), csv.RFC_4180)


@pytest.mark.parametrize("keep", [0.3, 0.9])
def test_a_packed_file_cut_short_is_told_and_nothing_is_taken(tmp_path: Path, keep: float) -> None:
    rows = "".join(f"NB-{n},{n * 2654435761 % 2**32:x}\n" for n in range(200_000))
    packed = gzip.compress(f"code,note\n{rows}".encode())
    path = write(tmp_path, packed[: int(len(packed) * keep)], "buoy.csv.gz")
    rules = brenvik.TableRules("buoy", natural_key="code")
    with brenvik.open_store("duckdb::memory:") as store:
        source = FileSource("*.gz", folder=tmp_path, name="files", kind="upserts")
        with pytest.raises(FeedError, match=r"buoy.csv.gz cannot be read"):
            load_from(store, rules, source)
        assert store.read(rules).num_rows == 0
        path.write_bytes(packed)
        assert load_from(store, rules, source).counts["inserted"] == 200_000


def test_text_of_another_encoding_is_told(tmp_path: Path) -> None:
    path = write(tmp_path, "code,note\nA,Grasøy\n".encode("latin-1"))
    with pytest.raises(FeedError, match=r"is not utf-8 text: line 2 .* csv = { encoding = "):
        read_as(path, csv.RFC_4180)
    assert read_as(path, csv.Dialect(encoding="latin-1"))[0] == [(2, "A", "Grasøy")]
