"""``brenvik new`` finds how a file is written, so that the table becomes right without another edit."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from decimal import Decimal
from pathlib import Path

import pytest
from cli import brenvik as call

import brenvik

DAY = date(2024, 1, 9)


def marked(value: Decimal, decimal: str, thousands: str) -> str:
    return f"{value:,}".replace(",", "T").replace(".", decimal).replace("T", thousands)


@pytest.mark.parametrize(
    ("form", "marks", "truth"),
    [
        ("%d/%m/%Y", (",", "."), ("J", "N")),
        ("%m/%d/%Y", (".", ","), ("Yes", "No")),
        ("%d.%m.%Y", (",", " "), ("Ja", "Nei")),
        ("%d-%b-%y", (",", ""), ("Oui", "Non")),
        ("%B %d, %Y", (".", "’"), ("Sim", "Não")),
    ],
)
@pytest.mark.parametrize("hour", ["%H:%M", "%I:%M:%S %p"])
def test_what_is_written_so_is_read_so(
    form: str, hour: str, marks: tuple[str, str], truth: tuple[str, str], tmp_path: Path
) -> None:
    days = [DAY + timedelta(days=3 * n) for n in range(12)]
    moments = [datetime(2024, 5, 1 + n, 2 * n, 5) for n in range(12)]
    sums = [Decimal(n * 98765) / 100 for n in range(12)]
    lines = ["Berth No;Laid on;Seen;Length (m);In use;Name"]
    for n in range(12):
        sum_of_it = "NULL" if n == 3 else marked(sums[n], *marks)
        lines.append(f"{n + 1};{days[n]:{form}};{moments[n]:{form} {hour}};{sum_of_it};{truth[n % 2]}; Øst {n}")
    (tmp_path / "berths_2024-05.csv").write_bytes(b"\xef\xbb\xbf" + "\r\n".join(lines).encode() + b"\r\n")
    assert call("new", "berths_2024-05.csv", cwd=tmp_path).code == 0
    text = (tmp_path / "brenvik.toml").read_text()
    assert '# effective_at = "Seen"' in text
    assert r"""# add = { file_date = { file_name = 'berths_(\d{4}-\d\d)' } }""" in text
    assert call("check", cwd=tmp_path).code == 0
    assert call("load", cwd=tmp_path).code == 0
    with brenvik.open_store(f"duckdb:{tmp_path / 'berths.duckdb'}") as store:
        found = store.engine.rows("SELECT * FROM berths ORDER BY berth_no")
    assert [row["berth_no"] for row in found] == [*range(1, 13)]
    assert [row["laid_on"] for row in found] == days
    assert [row["Seen"] for row in found] == moments
    assert [row["length_m"] for row in found] == [None if n == 3 else each for n, each in enumerate(sums)]
    assert [row["in_use"] for row in found] == [True, False] * 6
    assert [row["Name"] for row in found] == [f"Øst {n}" for n in range(12)]


def test_days_that_could_be_months_are_asked_for(tmp_path: Path) -> None:
    (tmp_path / "fees.csv").write_text("fee_no,due,fee\n1,03/02/2024,1\n2,04/05/2024,2\n")
    said = call("new", "fees.csv", cwd=tmp_path).out
    assert "due may be %d/%m/%Y or %m/%d/%Y: choose one in the declaration, then declare its type" in said
    path = tmp_path / "brenvik.toml"
    text = path.read_text()
    assert '# due = "date"' in text
    assert '# date_format = "%d/%m/%Y"' in text
    path.write_text(text.replace('# due = "date"', 'due = "date"').replace("# date_format", "date_format"))
    assert call("load", cwd=tmp_path).code == 0
    with brenvik.open_store(f"duckdb:{tmp_path / 'fees.duckdb'}") as store:
        assert [row["due"] for row in store.engine.rows("SELECT due FROM fees ORDER BY due")] == [
            date(2024, 2, 3),
            date(2024, 5, 4),
        ]


def test_a_mark_that_could_be_of_decimals_or_thousands_is_asked_for(tmp_path: Path) -> None:
    (tmp_path / "fees.csv").write_text('fee_no,fee,no_of\n1,"1,234",7\n2,"12,345",8\n')
    assert (
        "fee has numbers as in 1,234.5 or 1234,5: choose one in the declaration"
        in call("new", "fees.csv", cwd=tmp_path).out
    )
    (tmp_path / "sums.csv").write_text('fee_no,fee,no_of\n1,"1,234",7.5\n2,"12,345",8\n')
    assert (
        'thousands_mark = ","' in call("new", "sums.csv", cwd=tmp_path).out
    )  # another column has a point in its numbers


def test_words_of_people_are_left_alone(tmp_path: Path) -> None:
    (tmp_path / "names.csv").write_text("name_no,name,country,size\n1,None,NA,1\n2,-,NO,n/a\n3,Øst,SE,2\n4,,DK,3\n")
    text = call("new", "names.csv", "--print", cwd=tmp_path).out
    assert 'null_words = ["n/a"]' in text
    assert "trim" not in text
