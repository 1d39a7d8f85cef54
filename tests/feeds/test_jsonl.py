"""JSON Lines: values arrive as they are written, absent is not null, change records are taken apart."""

from __future__ import annotations

import gzip
import json
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from cli import brenvik as call
from hypothesis import given
from hypothesis import strategies as st

import brenvik
from brenvik.errors import FeedError, ProjectError
from brenvik.feeds.files import FileSource
from brenvik.feeds.formats import batch_of
from brenvik.feeds.reading import ReadOptions, Record
from brenvik.ledger.records import LoadedFile
from brenvik.project.file import read_project
from sources import load_from

RULES = brenvik.TableRules(
    "buoy", natural_key="code", order_by="at", types={"at": "integer", "depth": "decimal(30,20)"}, max_rejects=None
)


@pytest.fixture
def store() -> Any:
    with brenvik.open_store("duckdb::memory:") as opened:
        yield opened


def take(store: brenvik.Store, folder: Path, reading: ReadOptions | None = None, **how: Any) -> brenvik.Outcome:
    source = FileSource("*.jsonl*", folder=folder, name="files", kind="upserts", reading=reading or ReadOptions())
    return load_from(store, RULES, source, **how)


def write(path: Path, *records: Any) -> None:
    path.write_text("".join(f"{r if isinstance(r, str) else json.dumps(r)}\n" for r in records), encoding="utf-8")


def arrived(path: Path, record: Record | None = None) -> list[dict[str, Any]]:
    """The rows of a file as they go into a load, with their lines."""
    batch = batch_of([path], [LoadedFile(path.name, 0, "", number=0)], ReadOptions(record=record or Record()))
    rows = batch.rows().read_all().to_pylist()
    return sorted(rows, key=lambda row: int(row["brenvik_sequence_no"]))


def test_members_are_columns_absent_is_not_null_and_nested_values_stay_json(
    store: brenvik.Store, tmp_path: Path
) -> None:
    write(
        tmp_path / "a.jsonl",
        {"code": "A", "at": 1, "light": "Q", "depth": 4.5, "tags": ["x", 1.5]},
        '{"at": 2, "code": "A", "depth": 12.34000000000000000001}',
        "",
        {"code": "A", "at": 3, "light": None},
    )
    outcome = take(store, tmp_path)
    rows = store.read(RULES).to_pylist()
    assert [(row["light"], row["depth"], row["tags"]) for row in rows] == [
        ("Q", Decimal("4.5"), '["x",1.5]'),
        ("Q", Decimal("12.34000000000000000001"), '["x",1.5]'),
        (None, Decimal("12.34000000000000000001"), '["x",1.5]'),
    ]
    assert outcome.counts["read"] == 3
    assert outcome.decisions()["line"].to_pylist() == [1, 2, 4]
    assert not any("has no" in note for note in outcome.notes)


def test_lines_that_are_no_records_are_refused_whole(store: brenvik.Store, tmp_path: Path) -> None:
    bad = [
        '{"code": "B", "at": 1',
        "[1]",
        '"x"',
        '{"code": "B", "code": "C", "at": 1}',
        "a\x01b",
        '{"code": "B", "at": "x"}',
        '{"code": "B", "": "", "at": 1}',
        '{"code": "B", "AT": 2, "at": 1}',
    ]
    write(tmp_path / "a.jsonl", {"code": "A", "at": 1}, *bad, {"code": "D", "at": 1})
    outcome = take(store, tmp_path)
    told = {row["line"]: (row["reason"], row["content"]) for row in store.ledger.rejects().to_pylist()}
    assert told == {
        2: ("is not a JSON object", bad[0]),
        3: ("is not a JSON object", bad[1]),
        4: ("is not a JSON object", bad[2]),
        5: ("names a column twice: code", bad[3]),
        6: ("is not JSON", bad[4]),
        7: ("at: 'x' is not a valid integer", bad[5]),
        8: ("has a member with an empty name", bad[6]),
        9: ("names a column twice: AT", bad[7]),
    }
    assert (outcome.counts["read"], outcome.counts["inserted"], outcome.counts["rejected"]) == (10, 2, 8)
    assert outcome.decisions()["line"].to_pylist() == list(range(1, 11))


def test_packed_empty_and_windows_files(store: brenvik.Store, tmp_path: Path) -> None:
    with gzip.open(tmp_path / "a.jsonl.gz", "wb") as file:
        file.write('\ufeff{"code": "é", "at": 1}\r\n{"code": "B", "at": 1}'.encode())
    (tmp_path / "b.jsonl").write_bytes(b"")
    outcome = take(store, tmp_path)
    assert [row["code"] for row in store.read(RULES).to_pylist()] == ["B", "é"]
    assert (outcome.counts["read"], outcome.counts["inserted"]) == (2, 2)
    assert len(store.ledger.loaded_files("buoy", "files")) == 2
    (tmp_path / "c.jsonl").write_text("\n\n")
    expecting = ReadOptions(record=Record(expected=("code", "at")))
    assert take(store, tmp_path, expecting).counts["read"] == 0
    assert take(store, tmp_path, expecting).state == "nothing new"


def test_a_file_cut_short_or_of_another_encoding_is_told(store: brenvik.Store, tmp_path: Path) -> None:
    path = tmp_path / "a.jsonl.gz"
    path.write_bytes(gzip.compress(b'{"code": "A", "at": 1}\n' * 1000)[:-20])
    with pytest.raises(FeedError, match=r"a.jsonl.gz cannot be read"):
        take(store, tmp_path)
    path.unlink()
    (tmp_path / "b.jsonl").write_bytes('{"code": "é", "at": 1}\n'.encode("latin-1"))
    with pytest.raises(FeedError, match="Expected one JSON object per line in UTF-8"):
        take(store, tmp_path)
    assert store.ledger.runs()["state"].to_pylist() == ["failed", "failed"]


numbers = st.one_of(
    st.integers().map(str),
    st.decimals(allow_nan=False, allow_infinity=False).map(lambda d: f"{d:f}"),
    st.floats(allow_nan=False, allow_infinity=False).map(repr),
    st.from_regex(r"-?(0|[1-9][0-9]{0,20})(\.[0-9]{1,22})?([eE][+-]?[0-9]{1,3})?", fullmatch=True),
)
texts = st.text(st.characters(codec="utf-8", exclude_characters="\x00"), max_size=12) | st.sampled_from(
    ['"', "\\", '\\"1.50', "1.50", ": 1.50,", "{", "[1.50]", '{"a": 1.50}', " 2.0 ", "-0", "1e5", "\u2028", "\x01"]
)
names = st.sampled_from(["code", "a/b", "a~b", 'q"', "", "it's", "~1", "日", " x", "$.a"])


@given(st.lists(st.dictionaries(names, st.one_of(numbers.map(lambda n: ("number", n)), texts, st.none()), min_size=1)))
def test_values_arrive_as_they_are_written(tmp_path_factory: Any, records: list[dict[str, Any]]) -> None:
    path = tmp_path_factory.mktemp("json") / "a.jsonl"

    def member(name: str, value: Any) -> str:
        written = value[1] if isinstance(value, tuple) else json.dumps(value, ensure_ascii=len(name) % 2 == 0)
        return f"{json.dumps(name)}:{written}"

    kept = [{name: value for name, value in record.items() if name} for record in records]
    write(path, *("{" + ", ".join(member(n, v) for n, v in record.items()) + "}" for record in kept))
    if not any(kept):
        return
    found = arrived(path)
    columns = {name for record in kept for name in record}
    assert len(found) == len(kept)
    for record, row in zip(kept, found, strict=True):
        said = {name: value[1] if isinstance(value, tuple) else value for name, value in record.items()}
        assert {name: row[name] for name in columns} == {name: said.get(name) for name in columns}
    sets = batch_of([path], [LoadedFile("a", 0, "", number=0)]).column_sets
    assert {frozenset(columns) for columns in sets.values()} == {frozenset(record) for record in kept}


NESTED = Record(
    new_row="/state/now",
    old_row="/state/was",
    columns=(("what", "/what"), ("at", "/at/no")),
    keys=("code", "part"),
    operations=brenvik.Operations("what", insert=("new",), update=("set",), delete=("gone",)),
)


def record(what: str, at: int, now: Any, was: Any = None) -> dict[str, Any]:
    return {"what": what, "at": {"no": at}, "state": {"now": now, "was": was}}


def test_change_records_are_taken_apart(tmp_path: Path) -> None:
    a, b = {"code": "A", "part": "1"}, {"code": "B", "part": "1"}
    write(
        tmp_path / "a.jsonl",
        record("new", 1, a | {"light": 1.5}),
        record("set", 2, {"light": "Q"}, a),  # the key only in the old row
        record("set", 3, b | {"light": "Q"}, {"code": "A"}),  # the rest of the old key is as it is
        record("gone", 4, None, b),
        record("gone", 5, b, {}),
        record("set", 6, None, b),
        record("gone", 7, None, None),
        {"what": "new", "at": 8},
    )
    path = tmp_path / "a.jsonl"
    rows = [
        (row["brenvik_sequence_no"] // 2, row["what"], row["code"], row["part"], row["at"], row["light"])
        for row in arrived(path, NESTED)
    ]
    assert rows == [
        (1, "new", "A", "1", "1", "1.5"),
        (2, "set", "A", "1", "2", "Q"),
        (3, "gone", "A", "1", "3", "Q"),
        (3, "set", "B", "1", "3", "Q"),
        (4, "gone", "B", "1", "4", None),
        (5, "gone", "B", "1", "5", None),
    ]
    batch = batch_of([path], [LoadedFile("a", 0, "", number=0)], ReadOptions(record=NESTED))
    batch.rows().read_all()
    assert [(line.line, line.reason) for line in batch.broken] == [
        (6, "is not a delete, but has no row at /state/now"),
        (7, "has no row at /state/now nor /state/was"),
        (8, "has no row at /state/now nor /state/was"),
    ]


PROJECT = """
store = "duckdb:coast.duckdb"
[table.buoy]
natural_key = ["code"]
order_by = ["at"]
types = { at = "integer", code = "text(4)" }
[table.buoy.feed.registry]
kind = "changes"
files = "*.jsonl"
operation = { column = "what", insert = ["new"], update = ["set"], delete = ["gone"] }
record = { new_row = "/now", old_row = "/was", columns = { what = "/what", at = "/at" } }
"""


def test_a_changed_key_is_a_delete_of_the_old_and_an_insert_of_the_new(tmp_path: Path) -> None:
    (tmp_path / "brenvik.toml").write_text(PROJECT)
    rows = [
        {"what": "new", "at": 1, "now": {"code": "A", "light": "Q"}},
        {"what": "set", "at": 2, "was": {"code": "A"}, "now": {"code": "B", "light": "Q"}},
        {"what": "set", "at": 3, "was": {"code": "B"}, "now": {"code": "too long", "light": "Q"}},
        {"what": "set", "at": 4, "was": {"code": "also too long"}, "now": {"code": "C", "light": "Q"}},
    ]
    write(tmp_path / "1.jsonl", *rows)
    (told,) = call("preview", "--json", cwd=tmp_path).json["outcomes"]
    refused = [row["key"]["code"] for row in told["decisions"] if row["decision"] == "rejected"]
    assert refused == ["too long", "C"]
    project = read_project(tmp_path / "brenvik.toml")
    (seen,) = project.load(options=brenvik.LoadOptions(preview=True))
    (outcome,) = project.load()
    assert seen.counts == outcome.counts
    assert outcome.sums()[0] == "4 read + 1 derived = 2 inserted + 1 deleted + 2 rejected"
    rules = project.table("buoy").rules
    with project.open() as store:
        found = [(r["code"], r["valid_from"], r["valid_to"], r["is_deleted"]) for r in store.read(rules).to_pylist()]
        assert found == [("A", 1, 2, True), ("B", 2, None, False)]
        rejects = store.ledger.rejects().to_pylist()
        assert [(r["line"], r["column_name"], json.loads(r["content"])) for r in rejects] == [
            (3, "code", rows[2]),
            (4, "code", rows[3]),
        ]
        run = store.ledger.run(1)
        assert run and (run["read"], run["derived"]) == (4, 1)
    write(tmp_path / "2.jsonl", *rows)
    (again,) = project.load()
    assert again.sums()[0] == "4 read + 1 derived = 5 duplicate"


@pytest.mark.parametrize(
    ("record", "told"),
    [
        ("1", "expected keys as in record"),
        ('{ new = "/now" }', "record.new: is not a valid key; valid keys are new_row, old_row, columns"),
        ('{ new_row = "now" }', "record.new_row: expected a JSON pointer"),
        ('{ columns = { at = "/a~2" } }', "record.columns.at: expected a JSON pointer"),
        ('{ columns = "at" }', "record.columns: expected names and pointers"),
    ],
)
def test_faults_of_a_record_are_told(tmp_path: Path, record: str, told: str) -> None:
    text = PROJECT.partition("record =")[0] + f"record = {record}\n"
    (tmp_path / "brenvik.toml").write_text(text)
    with pytest.raises(ProjectError, match=told):
        read_project(tmp_path / "brenvik.toml")


def test_old_rows_need_a_code_that_says_delete(tmp_path: Path) -> None:
    upserts = PROJECT.replace('"changes"', '"upserts"')
    text = "\n".join(line for line in upserts.splitlines() if not line.startswith("operation"))
    (tmp_path / "brenvik.toml").write_text(text)
    with pytest.raises(ProjectError, match="old_row: is for deletes"):
        read_project(tmp_path / "brenvik.toml")


def test_numbers_inside_objects_arrive_as_they_are_written(tmp_path: Path) -> None:
    nested = '{"a":[12345678901234567890.123,1.10,1e5],"b":{"c":"1.10"}}'
    write(tmp_path / "a.jsonl", f'{{"code": "A", "tags": {nested}, "depth": 1.10}}')
    assert [(row["tags"], row["depth"]) for row in arrived(tmp_path / "a.jsonl")] == [(nested, "1.10")]


@pytest.mark.parametrize("line", ['{"code":"E",}', '{"code":NaN}', '{"code":[1,]}', '{"code":-Infinity}'])
def test_what_only_resembles_json_is_a_reject(store: brenvik.Store, tmp_path: Path, line: str) -> None:
    write(tmp_path / "a.jsonl", '{"code": "A", "at": 1, "light": "NaN,]"}', line)
    outcome = take(store, tmp_path)
    assert (outcome.counts["inserted"], outcome.counts["rejected"]) == (1, 1)
    assert store.ledger.rejects()["content"].to_pylist() == [line]


def test_members_may_be_called_like_anything(store: brenvik.Store, tmp_path: Path) -> None:
    names = ("line", "place", "reason", "carried", "derived", "said", "now", "was", "members", "deletes", "value_0")
    write(tmp_path / "a.jsonl", {"code": "A", "at": 1, **{name: f"its {name}" for name in names}})
    assert take(store, tmp_path).counts["inserted"] == 1
    row = store.read(RULES).to_pylist()[0]
    assert {name: row[name] for name in names} == {name: f"its {name}" for name in names}


@pytest.mark.parametrize("bad", [b'{"code":"\xff"}\n', b'{"code":"\x01\xff\x01"}\n', b'{"code":"NB-2\xc3'])
def test_a_file_that_is_not_utf_8_is_refused_with_the_line(
    store: brenvik.Store, tmp_path: Path, bad: bytes, capfd: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "one.jsonl").write_bytes(b'{"code":"NB-1","at":"1"}\n' + bad)
    with pytest.raises(FeedError, match=r"one\.jsonl: line 2 has bytes that are not UTF-8"):
        take(store, tmp_path)
    assert capfd.readouterr() == ("", "")


def test_new_takes_no_column_of_objects_for_the_key_and_says_how_a_record_is_declared(tmp_path: Path) -> None:
    write(tmp_path / "buoy_1.jsonl", *({"now/then": {"code": f"NB-{at}"}, "at": at, "place": "sea"} for at in (1, 2)))
    said = call("new", "buoy_1.jsonl", cwd=tmp_path)
    assert "JSON objects in now/then; if the row is in there" in said.out
    assert 'record = { new_row = "/now~1then" }' in said.out
    assert 'natural_key = ["now/then"]' not in said.out
