"""Columns of a feed as the table knows them: how values are written, renamed and matched columns, constants, and origins."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, datetime, timedelta, timezone
from decimal import Decimal
from pathlib import Path
from typing import Any

import pandas as pd
import pyarrow as pa
import pytest
from cli import brenvik as call
from registries import Registry

import brenvik
from brenvik import DatabaseFeed, FeedColumns, FileFeed, Origin, ValueFormats
from brenvik.errors import DeclarationError, FeedError
from brenvik.model.decisions import DECISIONS
from scripts import execute

BERTHS = brenvik.TableRules(
    "berth",
    natural_key="berth_no",
    type_1="name",
    types={
        "berth_no": "integer", "length_m": "decimal(9,1)", "opened_on": "date", "in_use": "boolean", "seen_at": "timestamp",
    },
)  # fmt: skip
OFFICE = ValueFormats(
    date_format="%d/%m/%Y",
    timestamp_format="%d.%m.%Y %H:%M",
    decimal_mark=",",
    thousands_mark=".",
    null_words=["NULL", "n/a"],
    true_words=["J", "ja"],
    false_words=["N", "nein"],
    trim=True,
)
NAMES = {"Berth No": "berth_no", "Length (m)": "length_m", "Opened": "opened_on", "In use": "in_use", "Seen": "seen_at"}
OSLO_NOON = datetime(2024, 5, 13, 12, tzinfo=timezone(timedelta(hours=2)))
HEADER = "Berth No; Name ;Length (m);Opened;In use;Seen"


def feed(folder: Path, *lines: str, name: str = "berths_north.csv", header: str = HEADER, **columns: Any) -> FileFeed:
    """A feed of one file, written as an office exports it: a byte order mark, semicolons, and line ends of its own."""
    (folder / name).write_bytes(b"\xef\xbb\xbf" + "\r\n".join([header, *lines, ""]).encode())
    columns = {"rename": NAMES, "values": OFFICE, **columns}
    return FileFeed(
        "office", "upserts", None, str(folder / "*.csv"), csv={"delimiter": ";"}, columns=FeedColumns(**columns)
    )


def rows(store: brenvik.Store, rules: brenvik.TableRules = BERTHS) -> list[dict[str, Any]]:
    own = {
        "berth_key",
        "valid_from",
        "valid_to",
        "is_current",
        "is_deleted",
        "first_run",
        "last_run",
        "first_loaded_at",
    }
    return [
        {n: v for n, v in row.items() if n not in {*own, "last_loaded_at"}} for row in store.read(rules).to_pylist()
    ]


def reasons(store: brenvik.Store) -> list[str]:
    return [row["reason"] for row in store.rejects().to_pylist()]


def test_an_office_file_becomes_a_right_table_in_every_store(anywhere: brenvik.Store, tmp_path: Path) -> None:
    made = feed(
        tmp_path,
        '1;" Øst ";1.043,5;31/12/2024;J;01.02.2024 17:30',
        "2;NULL;12;1/2/1999;nein;n/a",
        '3;"";-0,5;"NULL";JA;',
        "4;   ;999.999,9;29/02/2024; n ;31.12.1999 0:05",
    )
    outcome = anywhere.load(BERTHS, made)
    assert (outcome.counts["inserted"], outcome.counts["rejected"]) == (4, 0)
    assert outcome.notes == ["Matched regardless of case: Name as name."]
    assert rows(anywhere) == [
        {
            "berth_no": 1, "name": "Øst", "length_m": Decimal("1043.5"), "opened_on": date(2024, 12, 31), "in_use": True,
            "seen_at": datetime(2024, 2, 1, 17, 30),
        },
        {
            "berth_no": 2, "name": None, "length_m": Decimal("12.0"), "opened_on": date(1999, 2, 1), "in_use": False,
            "seen_at": None,
        },
        {
            "berth_no": 3, "name": "", "length_m": Decimal("-0.5"), "opened_on": None, "in_use": True, "seen_at": None,
        },
        {
            "berth_no": 4, "name": None, "length_m": Decimal("999999.9"), "opened_on": date(2024, 2, 29), "in_use": False,
            "seen_at": datetime(1999, 12, 31, 0, 5),
        },
    ]  # fmt: skip


def test_what_is_not_in_the_form_is_rejected_with_the_form(anywhere: brenvik.Store, tmp_path: Path) -> None:
    anywhere.load(
        BERTHS,
        feed(
            tmp_path,
            "1;A;4.38,1;2024-12-31;yes;01.02.2024",
            "NULL;B;1,234.5;31/02/2024;;01.02.2024 25:00",
            "2;C;1;31/12/24;J;",
        ),
    )
    assert reasons(anywhere) == [
        "length_m: '4.38,1' is not a valid decimal(9,1); expected a number as in 1.234,5; "
        "opened_on: '2024-12-31' is not a valid date; expected %d/%m/%Y, as in 31/12/2024; "
        "in_use: 'yes' is not a valid boolean; expected J, ja for true, N, nein for false; "
        "seen_at: '01.02.2024' is not a valid timestamp; expected %d.%m.%Y %H:%M, as in 31.12.2024 17:30",
        "berth_no is empty; length_m: '1,234.5' is not a valid decimal(9,1); expected a number as in 1.234,5; "
        "opened_on: '31/02/2024' is not a valid date; expected %d/%m/%Y, as in 31/12/2024; "
        "seen_at: '01.02.2024 25:00' is not a valid timestamp; expected %d.%m.%Y %H:%M, as in 31.12.2024 17:30",
        "opened_on: '31/12/24' is not a valid date; expected %d/%m/%Y, as in 31/12/2024",
    ]
    content = anywhere.rejects().to_pylist()[1]["content"]
    assert '"length_m":"1,234.5"' in content.replace(" :", ":").replace(": ", ":")  # as it came


def test_a_reject_is_retried_in_the_form_of_its_feed(tmp_path: Path) -> None:
    made = feed(tmp_path, "1;A;1,5;31-12-2024;J;", add={"source": Origin("file"), "line_no": Origin("line")})
    wider = ValueFormats(date_format=["%d/%m/%Y", "%d-%m-%Y"], decimal_mark=",", true_words="J", false_words="N")
    with brenvik.open_store("duckdb::memory:") as store:
        assert store.load(BERTHS, made).counts["rejected"] == 1
        columns = FeedColumns(NAMES, made.columns.add, wider)
        outcome = store.retry_rejects(BERTHS, kind="upserts", feed="office", columns=columns)
        assert outcome.counts["inserted"] == 1
        (row,) = rows(store)
        assert (row["opened_on"], row["length_m"], row["line_no"]) == (date(2024, 12, 31), Decimal("1.5"), 2)
        assert row["source"].endswith("berths_north.csv")


@pytest.mark.parametrize(
    ("form", "said", "meant"),
    [
        ("%a, %d %b %Y %H:%M:%S %z", "Tue, 31 Dec 2024 23:30:00 -0200", datetime(2025, 1, 1, 1, 30)),
        ("%a, %d %b %Y %H:%M:%S %z", "Mon, 31 Dec 2024 23:30:00 -0200", None),  # a Tuesday
        ("%Y-%jT%H%M%z", "2023-365T2359Z", datetime(2023, 12, 31, 23, 59)),
        ("%Y-%jT%H%M%z", "2023-366T2359Z", None),
        ("%Y%m%d", "20240203", datetime(2024, 2, 3)),
        ("%Y%m%d", "2024023", None),
        ("%d.%m.%y %I:%M %p", "3.2.68 12:05 am", datetime(2068, 2, 3, 0, 5)),
        ("%d.%m.%y %I:%M %p", "3.2.69 12:05 PM", datetime(1969, 2, 3, 12, 5)),
    ],
)
def test_forms_of_timestamps(form: str, said: str, meant: datetime | None) -> None:
    rules = brenvik.TableRules("seen", natural_key="no", types={"at": "timestamp"})
    with brenvik.open_store("duckdb::memory:") as store:
        columns = FeedColumns(values=ValueFormats(timestamp_format=form))
        store.load(rules, pd.DataFrame({"no": [1], "at": [said]}), kind="upserts", columns=columns)
        assert [row["at"] for row in store.read(rules).to_pylist()] == ([] if meant is None else [meant])


def test_a_column_may_be_written_in_another_way_than_the_others() -> None:
    rules = brenvik.TableRules("fee", natural_key="no", types={"due": "date", "paid": "date", "fee": "decimal(9,2)"})
    values = ValueFormats(
        date_format="%d/%m/%Y",
        decimal_mark=",",
        columns={"paid": {"date_format": "%m/%d/%Y"}, "fee": {"decimal_mark": "."}},
    )
    frame = pa.table({"no": [1], "due": ["03/02/2024"], "paid": ["03/02/2024"], "fee": ["1.50"]})
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(rules, frame, kind="upserts", columns=FeedColumns(values=values))
        (row,) = store.read(rules).to_pylist()
    assert (row["due"], row["paid"], row["fee"]) == (date(2024, 2, 3), date(2024, 3, 2), Decimal("1.50"))


def test_conditions_and_order_are_read_in_the_form_too(store: brenvik.Store) -> None:
    rules = brenvik.TableRules(
        "fee",
        natural_key="no",
        order_by="at",
        types={"at": "timestamp", "sum": "decimal(9,2)"},
        reject_if={"a credit": "sum < 0"},
        type_1="sum",
    )
    values = ValueFormats(timestamp_format="%d.%m.%Y %H:%M", decimal_mark=",", null_words="-")
    ats = ["02.01.2024 9:00", "01.12.2024 9:00", "1.1.2024 0:00", "-"]
    frame = pa.table({"no": [1, 1, 2, 3], "at": ats, "sum": ["1,5", "2,5", "-1,5", "1"]})
    store.load(rules, frame, kind="upserts", columns=FeedColumns(values=values))
    assert [(row["no"], row["sum"]) for row in store.read(rules).to_pylist()] == [(1, Decimal("2.50"))]
    assert reasons(store) == ["a credit", "at is empty"]


def test_the_time_of_an_extract_is_read_in_the_form_too(store: brenvik.Store, tmp_path: Path) -> None:
    (tmp_path / "fees.csv").write_text("no,As At\n1,13.05.2024\n2,13.05.2024\n")
    columns = FeedColumns({"As At": "as_at"}, values=ValueFormats(timestamp_format="%d.%m.%Y"))
    made = FileFeed(
        "fees", "full_extract", None, str(tmp_path / "*.csv"), extract_time={"column": "as_at"}, columns=columns
    )
    rules = brenvik.TableRules("fee", natural_key="no", exclude="as_at")
    assert store.load(rules, made).counts["inserted"] == 2
    assert {row["valid_from"] for row in store.read(rules).to_pylist()} == {datetime(2024, 5, 13)}


def test_two_systems_share_a_table_through_a_constant(anywhere: brenvik.Store, tmp_path: Path) -> None:
    rules = brenvik.TableRules("berth", natural_key=("system", "berth_no"), types={"berth_no": "integer"})
    for system, name in (("north", "Øst"), ("south", "Vest")):
        folder = tmp_path / system
        folder.mkdir()
        made = feed(folder, f"1;{name}", header="Berth No;Name", add={"system": system}, values=None)
        assert anywhere.load(rules, made).counts["inserted"] == 1
    assert [(row["system"], row["berth_no"], row["Name"]) for row in rows(anywhere, rules)] == [
        ("north", 1, "Øst"),
        ("south", 1, "Vest"),
    ]


def test_a_row_knows_where_it_comes_from(tmp_path: Path) -> None:
    rules = brenvik.TableRules("berth", natural_key="No", order_by="month", type_1="month", types={"month": "integer"})
    add = {
        "month": Origin(file_name=r"berths_(\d+)\.csv"), "source": Origin("file"), "line_no": Origin("line"),
        "feed": Origin("feed"), "size": 1.5, "checked": False, "since": date(2024, 5, 13), "at": OSLO_NOON,
    }  # fmt: skip
    (tmp_path / "berths_202405.csv").write_text("No,Name\n2,B\n")
    (tmp_path / "berths_202406.csv").write_text('No,Name\n1,"A\nB"\n2,C\n')
    made = FileFeed("office", "upserts", None, str(tmp_path / "*.csv"), columns=FeedColumns(add=add))
    with brenvik.open_store("duckdb::memory:") as store:
        assert store.load(rules, made).counts["read"] == 3
        found = {row["No"]: row for row in rows(store, rules)}
    told = [(row["month"], row["line_no"], row["feed"], Path(row["source"]).name) for row in found.values()]
    assert told == [(202406, 2, "office", "berths_202406.csv"), (202406, 4, "office", "berths_202406.csv")]
    assert {(row["size"], row["checked"], row["since"]) for row in found.values()} == {(1.5, False, date(2024, 5, 13))}
    assert {row["at"] for row in found.values()} == {OSLO_NOON}
    (tmp_path / "berths_july.csv").write_text("No,Name\n3,D\n")
    with brenvik.open_store("duckdb::memory:") as store, pytest.raises(FeedError, match="has nothing in its name"):
        store.load(rules, made)


def test_names_differ_in_case_and_blanks_from_file_to_file(tmp_path: Path) -> None:
    (tmp_path / "1.csv").write_text("code,Light,Status\nA,Fl,ok\n")
    (tmp_path / "2.csv").write_text(' CODE ,light,"status "\nB,Q,off\n')
    rules = brenvik.TableRules("buoy", natural_key="code", type_1="light")
    made = FileFeed("files", "upserts", None, str(tmp_path / "*.csv"))
    with brenvik.open_store("duckdb::memory:") as store:
        first = FileFeed("files", "upserts", None, str(tmp_path / "1.csv"))
        assert store.load(rules, first).notes == ["Matched regardless of case: Light as light."]
        outcome = store.load(rules, made)
        assert outcome.notes[0] == "Matched regardless of case: CODE as code, status as Status."
        found = [(row["code"], row["light"], row["Status"]) for row in rows(store, rules)]
        assert found == [("A", "Fl", "ok"), ("B", "Q", "off")]


def test_two_columns_for_one_are_an_error(store: brenvik.Store) -> None:
    rules = brenvik.TableRules("buoy", natural_key="code")
    frame = pa.table({"code": ["A"], "Light": ["Fl"], "light_character": ["Q"]})
    columns = FeedColumns(rename={"light_character": "light"})
    with pytest.raises(
        FeedError, match="several columns for one of the table:\n  'Light' would be Light\n  'light_character'"
    ):
        store.load(rules, frame, kind="upserts", columns=columns)
    with pytest.raises(FeedError, match="already has a column Code, which is declared under add"):
        store.load(rules, frame, kind="upserts", columns=FeedColumns(add={"Code": 1}))
    assert [run["state"] for run in store.runs().to_pylist()] == ["failed", "failed"]


def test_json_records_keep_their_own_names(tmp_path: Path) -> None:
    lines = [
        '{"was": null, "now": {"No": "7", "Name": "Øst"}, "what": "I", "at": "1"}',
        '{"was": {"No": "7", "Name": "Øst"}, "now": {"No": "8", "Name": "Øst"}, "what": "U", "at": "2"}',
    ]
    (tmp_path / "berths.jsonl").write_text("\n".join(lines) + "\n")
    rules = brenvik.TableRules("berth", natural_key="berth_no", order_by="at", types={"at": "integer"})
    made = FileFeed(
        "log", "changes", brenvik.Operations("op"), str(tmp_path / "*.jsonl"),
        record={"new_row": "/now", "old_row": "/was", "columns": (("what", "/what"), ("at", "/at"))},
        columns=FeedColumns({"No": "berth_no", "what": "op"}, {"system": "north"}),
    )  # fmt: skip
    with brenvik.open_store("duckdb::memory:") as store:
        outcome = store.load(rules, made)
        assert (outcome.counts["read"], outcome.counts["derived"]) == (2, 1)
        found = [
            (row["berth_no"], row["Name"], row["system"], row["is_current"]) for row in store.read(rules).to_pylist()
        ]
        assert found == [("7", "Øst", "north", False), ("8", "Øst", "north", True)]


def test_a_retried_record_keeps_its_origin(tmp_path: Path) -> None:
    """Its original line does not have it."""
    (tmp_path / "berths_05.jsonl").write_text('{"No": "1"}\n{"No": "x"}\n')
    add = {"month": Origin(file_name=r"berths_(\d+)"), "line_no": Origin("line")}
    columns = FeedColumns({"No": "berth_no"}, add)
    rules = brenvik.TableRules("berth", natural_key="berth_no", types={"berth_no": "integer"})
    made = FileFeed("log", "upserts", None, str(tmp_path / "*.jsonl"), columns=columns)
    with brenvik.open_store("duckdb::memory:") as store:
        assert store.load(rules, made).counts["rejected"] == 1
        fixed = {1: {"No": "2"}}
        store.retry_rejects(rules, kind="upserts", feed="log", columns=columns, fixed=fixed)
        assert [(row["berth_no"], row["month"], row["line_no"]) for row in rows(store, rules)] == [
            (1, "05", 1),
            (2, "05", 2),
        ]


def test_databases_rename_add_and_read_texts(registry: Registry, store: brenvik.Store) -> None:
    registry.put((1, "NB-101", "1.043,5", datetime(2024, 5, 13)))
    rules = brenvik.TableRules("visit", natural_key=("system", "no"), order_by="at", types={"hours": "decimal(9,1)"})
    columns = FeedColumns(
        {"visit_no": "no", "modified_at": "at", "work": "hours"},
        {"system": "north"},
        ValueFormats(decimal_mark=",", thousands_mark="."),
    )
    made = DatabaseFeed(
        "registry", "upserts", None, registry.connection.url, "modified_at", "service_visit", columns=columns
    )
    assert store.load(rules, made).counts["inserted"] == 1
    (row,) = store.read(rules).to_pylist()
    assert (row["system"], row["no"], row["hours"], row["valid_from"]) == (
        "north",
        1,
        Decimal("1043.5"),
        datetime(2024, 5, 13),
    )


def test_tables_of_the_store_rename_and_add(anywhere: brenvik.Store) -> None:
    execute(anywhere, "CREATE TABLE staging (no BIGINT, done_at TIMESTAMP, keeper VARCHAR(20))")
    execute(anywhere, "INSERT INTO staging VALUES (1, '2024-05-13 08:00:00', 'Nord')")
    rules = brenvik.TableRules("visit", natural_key=("system", "visit_no"), order_by="at")
    columns = FeedColumns({"no": "visit_no", "done_at": "at"}, {"system": "o'x", "feed": Origin("feed"), "rank": 3})
    made = DatabaseFeed("s", "upserts", None, None, "done_at", "staging", columns=columns)
    assert anywhere.load(rules, made).counts["inserted"] == 1
    (row,) = anywhere.read(rules).to_pylist()
    assert [row[name] for name in ("system", "visit_no", "keeper", "feed", "rank")] == ["o'x", 1, "Nord", "s", 3]
    assert anywhere.load(rules, made).counts["read"] == 0


@pytest.mark.parametrize(
    ("given", "fault"),
    [
        ({"date_format": "%d/%m"}, "date_format: '%d/%m' lacks year, month or day; expected a format as in '%d/%m/%Y'"),
        ({"date_format": "%d/%m/%Q"}, "date_format: '%d/%m/%Q' has %Q; valid codes are"),
        ({"date_format": "%d/%m/%Y %H"}, "date_format: '%d/%m/%Y %H' has more than a date"),
        ({"date_format": "%d/%m/%Y/%d"}, "date_format: '%d/%m/%Y/%d' has %d twice"),
        ({"time_format": "%M"}, "time_format: '%M' lacks the hour; expected a format as in '%H:%M'"),
        ({"timestamp_format": "%d/%m/%Y %I:%M"}, "needs both %I and %p, or %H"),
        ({"decimal_mark": ";"}, "decimal_mark: expected '.' or ',', got ';'"),
        ({"thousands_mark": "."}, "thousands_mark: must differ from decimal_mark, which is '.'"),
        ({"true_words": ["J"]}, "true_words and false_words: expected both or none"),
        ({"true_words": "x", "false_words": " X"}, "true_words and false_words: x would mean both"),
        ({"columns": {"due": {"decimal_mark": "x"}}}, "columns.due.decimal_mark: expected '.' or ',', got 'x'"),
        ({"columns": {"due": {"mark": "x"}}}, "columns.due: mark is not a valid key; valid keys are"),
    ],
)
def test_forms_are_checked(given: dict[str, Any], fault: str) -> None:
    with pytest.raises(DeclarationError) as found:
        ValueFormats(**given)
    assert fault in str(found.value)
    assert len(found.value.faults) == 1


PROJECT = """
name = "Harbour"
store = "duckdb:harbour.duckdb"

[table.berth]
natural_key = ["system", "berth_no"]
types = {{ berth_no = "integer", opened_on = "date" }}

[table.berth.feed.office]
kind = "upserts"
files = "in/*.csv"
{}
"""


@pytest.mark.parametrize(
    ("made", "fault"),
    [
        (lambda: Origin("folder"), "expected 'file', 'line' or 'feed', got 'folder'"),
        (lambda: Origin(file_name="x"), "expected a regular expression with one group, got 'x'"),
        (lambda: FeedColumns({"a": "c", "b": "c"}), "rename: several columns would be named c"),
        (lambda: FeedColumns({"a": ""}, {"b": None}), "add.b: expected a string, a number"),  # type: ignore[dict-item]
    ],
)
def test_columns_are_checked(made: Any, fault: str) -> None:
    with pytest.raises(DeclarationError) as found:
        made()
    assert fault in str(found.value)


def test_a_project_declares_it_all(tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "berths_05.csv").write_text("Berth No,opened_on\n1,31/12/2024\n")
    declared = [
        'rename = { "Berth No" = "berth_no" }',
        'add = { system = "north", month = { file_name = "berths_(.*)[.]csv" }, line = { from = "line" } }',
        'values = { date_format = "%d/%m/%Y", columns = { berth_no = { trim = true } } }',
    ]
    (tmp_path / "brenvik.toml").write_text(PROJECT.format("\n".join(declared)))
    checked = call("check", "--json", cwd=tmp_path)
    assert checked.code == 0
    assert [column["column"] for column in checked.json["tables"][0]["columns"]] == [
        "system", "berth_no", "opened_on", "month", "line",
    ]  # fmt: skip
    assert "try_strptime" in call("sql", "berth", cwd=tmp_path).out.lower()
    assert call("load", "--json", cwd=tmp_path).json["outcomes"][0]["counts"]["inserted"] == 1
    with brenvik.open_store(f"duckdb:{tmp_path / 'harbour.duckdb'}") as store:
        (row,) = store.engine.rows("SELECT * FROM berth")
        assert (row["system"], row["berth_no"], row["opened_on"], row["month"], row["line"]) == (
            "north",
            1,
            date(2024, 12, 31),
            "05",
            2,
        )


def test_errors_in_a_project_are_told_together(tmp_path: Path) -> None:
    declared = [
        'rename = { a = "c", b = "c" }',
        'add = { a = [1], b = { from = "x" }, c = { file_name = "(" }, d = { form = "file" } }',
        'values = { date_format = "%d", mark = 1, columns = { due = { trim = 2 } } }',
    ]
    (tmp_path / "brenvik.toml").write_text(PROJECT.format("\n".join(declared)))
    found = call("check", cwd=tmp_path).err
    for fault in (
        "rename: several columns would be named c",
        "add.a: expected a constant, { from = \"file\" } or { file_name = 'buoy_(\\d+)\\.csv' }, got [1]",
        "add.b.from: expected 'file', 'line' or 'feed', got 'x'",
        "add.c.file_name: expected a regular expression with one group, got '('",
        "add.d.form: is not a valid key; valid keys are from, file_name",
        "values.mark: is not a valid key",
        "values.date_format: '%d' lacks year, month or day",
        "values.columns.due.trim: expected true or false, got 2",
    ):
        assert f"table.berth.feed.office.{fault}" in found


def test_a_column_is_one_however_the_files_of_a_first_load_write_it(tmp_path: Path) -> None:
    (tmp_path / "1.csv").write_text("code,light\nA,Fl\n")
    (tmp_path / "2.csv").write_text("CODE,Light\nB,Q\n")
    rules = brenvik.TableRules("buoy", natural_key="code")
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(rules, FileFeed("files", "upserts", None, str(tmp_path / "*.csv")))
        assert [(row["code"], row["light"]) for row in rows(store, rules)] == [("A", "Fl"), ("B", "Q")]


def evolving(**rules: Any) -> brenvik.TableRules:
    return brenvik.TableRules("buoy", natural_key="code", other_columns="type_1", **rules)


def test_a_new_column_is_told_and_recorded(anywhere: brenvik.Store) -> None:
    anywhere.load(evolving(), pa.table({"code": ["A"]}), kind="upserts")
    wider = pa.table({"code": ["B"], "height": [3]})
    told = ["New column height (integer) is added as type 1."]
    assert anywhere.preview(evolving(), wider, kind="upserts").notes == told
    assert anywhere.load(evolving(), wider, kind="upserts").notes == told
    assert [run["message"] for run in anywhere.runs().to_pylist()] == [*told, None]
    assert [row["height"] for row in rows(anywhere, evolving())] == [None, 3]
    assert anywhere.load(evolving(), pa.table({"code": ["A"], "height": [4]}), kind="upserts").notes == []


def test_a_new_column_is_left_out_or_refused(anywhere: brenvik.Store) -> None:
    anywhere.load(evolving(), pa.table({"code": ["A"], "op": ["I"]}), kind="changes", operation="op")
    wider = pa.table({"code": ["B", "A"], "op": ["I", "U"], "height": [3, 4]})
    ignoring = evolving(new_columns="ignore")
    outcome = anywhere.load(ignoring, wider, kind="changes", operation="op")
    assert outcome.notes == ['New column height is left out (new_columns = "ignore").']
    assert (outcome.counts["inserted"], outcome.counts["unchanged"]) == (1, 1)
    assert [(row["code"], "height" in row) for row in rows(anywhere, ignoring)] == [("A", False), ("B", False)]
    with pytest.raises(FeedError, match="has new columns: height"):
        anywhere.load(evolving(new_columns="refuse"), wider, kind="changes", operation="op")
    named = evolving(new_columns="refuse", type_1="height")
    assert anywhere.load(named, wider, kind="changes", operation="op").counts["overwritten"] == 2
    assert [run["state"] for run in anywhere.runs().to_pylist()] == ["done", "failed", "done", "done"]


def test_rows_that_lack_a_column_are_refused(anywhere: brenvik.Store) -> None:
    strict = evolving(missing_columns="refuse", order_by="no")
    anywhere.load(strict, pa.table({"code": ["A"], "no": [1], "height": [3]}), kind="upserts")
    with pytest.raises(FeedError, match="and nothing was loaded:\n  the pyarrow Table has no column height"):
        anywhere.load(strict, pa.table({"code": ["A"], "no": [2]}), kind="upserts")
    columns = FeedColumns(add={"height": 4})
    assert (
        anywhere.load(strict, pa.table({"code": ["A"], "no": [2]}), kind="upserts", columns=columns).counts[
            "overwritten"
        ]
        == 1
    )


def test_check_tells_what_a_load_would_refuse(tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "1.csv").write_text("berth_no,opened_on,system\n1,2024-12-31,a\n")
    (tmp_path / "brenvik.toml").write_text(PROJECT.format("").replace("types =", 'new_columns = "refuse"\ntypes ='))
    assert call("load", cwd=tmp_path).code == 0
    (tmp_path / "in" / "2.csv").write_text("berth_no,opened_on,system,height\n1,2024-12-31,a,2\n")
    assert "feed office: 2.csv has new columns: height; a load would refuse them" in call("check", cwd=tmp_path).out
    assert call("load", cwd=tmp_path).code == 1


def test_extracts_are_read_in_the_form_too(anywhere: brenvik.Store, tmp_path: Path) -> None:
    """The second one is compared with the table while it is read."""
    first = feed(tmp_path, "1;A;1.043,5;31/12/2024;J;", "2;B;NULL;1/2/1999;N;", "3;C;1;;;")
    extract = replace(first, kind="full_extract")
    assert anywhere.load(BERTHS, extract, at="2024-05-13").counts["inserted"] == 3
    feed(tmp_path, "1; A ;1043,50;31/12/2024;ja;", "2;B;7,5;01/02/1999;N;", "4;D;x;;;", name="berths_west.csv")
    outcome = anywhere.load(BERTHS, extract, at="2024-05-14")
    counts = {name: count for name, count in outcome.counts.items() if count and name in DECISIONS}
    assert counts == {"unchanged": 1, "versioned": 1, "deleted": 1, "rejected": 1}
    current = [(row["berth_no"], row["length_m"]) for row in anywhere.read(BERTHS).to_pylist() if row["is_current"]]
    assert current == [(1, Decimal("1043.5")), (2, Decimal("7.5"))]
