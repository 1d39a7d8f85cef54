"""Excel workbooks: what is in the cells, where the header is, and what is not a row."""

from __future__ import annotations

import zipfile
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import openpyxl
import pytest
from cli import brenvik as call
from openpyxl.chart import BarChart, Reference

import brenvik
from brenvik.errors import UnreadableFile

RULES = brenvik.TableRules(
    "mooring",
    natural_key="no",
    types={
        "no": "integer", "laid_on": "date", "seen_at": "timestamp", "length": "decimal(9,2)", "in_use": "boolean", "at": "time",
        "ratio": "double",
    },
)  # fmt: skip
HEADER = ("No", " Name ", "laid_on", "seen_at", "length", "in_use", "at", "ratio")


def workbook(path: Path, *rows: tuple[Any, ...], above: int = 0, sheet: str = "Moorings") -> Path:
    book = openpyxl.Workbook()
    book.active.title = "Cover"
    filled = book.create_sheet(sheet)
    for number in range(above):
        filled.append([f"Report, line {number}"])
    for row in rows:
        filled.append(row)
    book.save(path)
    return path


def feed(folder: Path, **excel: Any) -> brenvik.FileFeed:
    return brenvik.FileFeed("office", "upserts", None, str(folder / "*.xlsx"), excel={"name": "Moorings", **excel})


def test_cells_become_values_of_the_table(anywhere: brenvik.Store, tmp_path: Path) -> None:
    workbook(
        tmp_path / "1.xlsx",
        HEADER,
        (1, "Øst", date(2024, 5, 13), datetime(2024, 5, 13, 8, 30, 1), 12.5, True, time(7, 5), 0.1),
        (),
        (2.0, "007", None, datetime(2024, 5, 14), 12, False, timedelta(hours=6), 1e300),
        (3, None, datetime(2024, 5, 15), None, "1.20", None, None, ""),
        above=3,
    )
    outcome = anywhere.load(RULES, feed(tmp_path, header_row=4))
    assert (outcome.counts["read"], outcome.counts["rejected"]) == (3, 0)
    assert outcome.decisions()["line"].to_pylist() == [5, 7, 8]
    found = [
        tuple(row[name.strip().lower()] if name == "No" else row[name.strip()] for name in HEADER)
        for row in anywhere.read(RULES).to_pylist()
    ]
    assert found == [
        (1, "Øst", date(2024, 5, 13), datetime(2024, 5, 13, 8, 30, 1), Decimal("12.50"), True, time(7, 5), 0.1),
        (2, "007", None, datetime(2024, 5, 14), Decimal("12.00"), False, time(6, 0), 1e300),
        (3, None, date(2024, 5, 15), None, Decimal("1.20"), None, None, None),
    ]


def test_errors_and_odd_cells_are_rejected_with_their_rows(tmp_path: Path) -> None:
    path = workbook(
        tmp_path / "1.xlsx",
        ("no", "laid_on", None, "length"),
        (1, "soon", None, 1),
        (2, date(2024, 5, 13), None, "#DIV/0!"),
        (3, date(2024, 5, 13), "beside", 1),
        (4, date(2024, 5, 13), None, 1, "beyond"),
        (5, datetime(2024, 5, 13, 8), None, 1),
        (6, date(2024, 5, 13), None, 1),
    )
    book = openpyxl.load_workbook(path)
    book["Moorings"]["D3"].data_type = "e"  # as Excel keeps what a formula came to
    book.save(path)
    with brenvik.open_store("duckdb::memory:") as store:
        assert store.load(RULES, feed(tmp_path)).counts["inserted"] == 1
        told = {row["line"]: row["reason"] for row in store.rejects().to_pylist()}
    assert told == {
        2: "laid_on: 'soon' is not a valid date",
        3: "length: '#DIV/0!' is not a valid decimal(9,2)",
        4: "has a value in column C, which has no name",
        5: "has a value in column E, which has no name",
        6: "laid_on: '2024-05-13 08:00:00' is not a valid date",
    }


@pytest.mark.parametrize(
    ("excel", "message"),
    [
        ({"name": "Berths"}, "1.xlsx has no sheet 'Berths'; it has Cover, Moorings."),
        ({"header_row": 9}, "row 9 of sheet 'Moorings' has no column names; declare the row that has them"),
        ({"name": None}, "row 1 of sheet 'Cover' has no column names"),
    ],
)
def test_what_is_not_there_is_told(excel: dict[str, Any], message: str, tmp_path: Path) -> None:
    workbook(tmp_path / "1.xlsx", ("no",), (1,))
    with brenvik.open_store("duckdb::memory:") as store, pytest.raises(UnreadableFile) as found:
        store.load(RULES, feed(tmp_path, **excel))
    assert message in str(found.value)


def test_a_file_that_is_no_workbook_is_told(tmp_path: Path) -> None:
    (tmp_path / "1.xlsx").write_text("no,name\n1,Øst\n")
    whole = workbook(tmp_path / "2.xlsx", ("no",), *((n,) for n in range(9000))).read_bytes()
    for content in (b"", b"no,name\n", whole[: len(whole) // 2]):
        (tmp_path / "1.xlsx").write_bytes(content)
        with (
            brenvik.open_store("duckdb::memory:") as store,
            pytest.raises(UnreadableFile, match="is not a readable Excel workbook"),
        ):
            store.load(RULES, feed(tmp_path))


def test_a_workbook_that_is_damaged_inside_is_told(tmp_path: Path) -> None:
    path = workbook(tmp_path / "1.xlsx", ("no",), (1,))
    with zipfile.ZipFile(path) as packed:
        parts = {name: packed.read(name) for name in packed.namelist()}
    for part in ("xl/worksheets/sheet2.xml", "xl/workbook.xml"):
        with zipfile.ZipFile(path, "w") as packed:
            for name, content in parts.items():
                packed.writestr(name, content[: len(content) // 2] if name == part else content)
        with brenvik.open_store("duckdb::memory:") as store, pytest.raises(UnreadableFile, match=r"1\.xlsx"):
            store.load(RULES, feed(tmp_path))


def test_a_sheet_with_a_chart_alone_is_passed_over(tmp_path: Path) -> None:
    book = openpyxl.load_workbook(workbook(tmp_path / "1.xlsx", ("no",), (1,)))
    chart = BarChart()
    chart.add_data(Reference(book["Moorings"], min_col=1, min_row=1, max_row=2))
    book.create_chartsheet("Chart", 0).add_chart(chart)
    del book["Cover"]
    book.save(tmp_path / "1.xlsx")
    with brenvik.open_store("duckdb::memory:") as store:
        assert store.load(RULES, feed(tmp_path, name=None)).counts["inserted"] == 1


def test_large_sheets_come_in_parts(tmp_path: Path) -> None:
    workbook(tmp_path / "1.xlsx", ("no", "ratio"), *((n, n / 8) for n in range(12_345)))
    with brenvik.open_store("duckdb::memory:") as store:
        assert store.load(RULES, feed(tmp_path)).counts["inserted"] == 12_345
        (row,) = store.engine.rows("SELECT count(DISTINCT no) AS n, sum(ratio) AS total FROM mooring")
    assert (row["n"], row["total"]) == (12_345, sum(n / 8 for n in range(12_345)))


def test_new_proposes_a_table_for_a_workbook(tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    book.active.append(("Cover",))
    filled = book.create_sheet("Moorings")
    for row in (("As of 13 May",), (), ("Mooring No", "laid on", "length")):
        filled.append(row)
    for number in range(5):
        filled.append((number, date(2024, 5, 13 + number), 1.5 * number))
    book.save(tmp_path / "moorings_2024.xlsx")
    assert 'excel = { sheet = "Moorings", header_row = 3 }' in call("new", "moorings_2024.xlsx", cwd=tmp_path).out
    assert call("load", cwd=tmp_path).code == 0
    with brenvik.open_store(f"duckdb:{tmp_path / 'moorings.duckdb'}") as store:
        found = store.engine.rows("SELECT mooring_no, laid_on, length FROM moorings ORDER BY mooring_no")
    assert [tuple(row.values()) for row in found] == [
        (number, date(2024, 5, 13 + number), Decimal("1.5") * number) for number in range(5)
    ]


def test_the_declaration_is_checked(tmp_path: Path) -> None:
    (tmp_path / "brenvik.toml").write_text(
        'store = "duckdb:a.duckdb"\n[table.mooring]\nnatural_key = "no"\n[table.mooring.feed.f]\nkind = "upserts"\n'
        'files = "*.xlsx"\nexcel = { sheet = 1, header_row = 0, row = 2 }\n'
    )
    said = call("check", cwd=tmp_path).err
    assert "excel.sheet: expected the name of a sheet, got 1" in said
    assert "excel.header_row: expected the number of a row, from 1, got 0" in said
    assert "excel.row: is not a valid key; valid keys are sheet, header_row" in said
