"""The demo: its files, its story, and the rows of its table in full."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import nullcontext
from datetime import datetime
from pathlib import Path
from typing import Any

import pytest
from cli import brenvik as call

import brenvik
from brenvik.demo import scenario
from counts import STORES
from servers import fresh_database

DATA = Path(scenario.__file__).parent / "data"

EXPECTED = """
key | code   | name           | lat     | lon    | light   | colour | status     | since      | valid_from  | valid_to    | cur | del | runs
1   | NB-101 | Kvitsund       | 62.1795 | 6.1560 | Fl G 3s | green  | on station | 2018-06-21 | 05-13 08:00 | 05-14 05:30 | no  | no  | 1 4
13  | NB-101 | Kvitsund       | 62.1795 | 6.1560 | Fl G 5s | green  | on station | 2018-06-21 | 05-14 05:30 | -           | yes | no  | 4 4
2   | NB-102 | Tarva Deep     | 62.2631 | 5.5918 | Q       | green  | on station | 2015-05-11 | 05-13 08:00 | 05-14 06:10 | no  | no  | 1 4
15  | NB-102 | Tarva Deep     | 62.2631 | 5.5918 | Q       | green  | adrift     | 2015-05-11 | 05-14 06:10 | 05-14 09:40 | no  | no  | 4 4
16  | NB-102 | Tarva Deep     | 62.2631 | 5.5918 | Q       | green  | in dock    | 2015-05-11 | 05-14 09:40 | 05-14 16:20 | no  | no  | 4 4
17  | NB-102 | Tarva Deep     | 62.2631 | 5.5918 | Q       | green  | on station | 2015-05-11 | 05-14 16:20 | -           | yes | no  | 4 4
3   | NB-103 | Grasøy Inner   | 62.3633 | 5.2032 | Fl G 3s | red    | on station | 2019-07-06 | 05-13 08:00 | 05-15 10:15 | no  | no  | 1 7
19  | NB-103 | Grasøy Inner   | 62.3633 | 5.2032 | Fl G 3s | red    | adrift     | 2019-07-06 | 05-15 10:15 | -           | yes | no  | 7 7
4   | NB-104 | Norrskjær      | 62.2490 | 6.1082 | Fl 3s   | red    | on station | 2018-11-04 | 05-13 08:00 | 05-13 17:45 | no  | no  | 1 7
20  | NB-104 | Norrskjær      | 62.2490 | 6.1082 | Fl 3s   | red    | damaged    | 2018-11-04 | 05-13 17:45 | 05-14 11:05 | no  | no  | 7 7
18  | NB-104 | Norrskjær      | 62.2490 | 6.1082 | Fl 3s   | green  | on station | 2018-11-04 | 05-14 11:05 | 05-15 07:20 | no  | yes | 4 7
21  | NB-104 | Norrskjær      | 62.2490 | 6.1082 | Fl 5s   | green  | on station | 2018-11-04 | 05-15 15:00 | -           | yes | no  | 7 7
5   | NB-105 | Langbåen       | 62.1371 | 6.1400 | LFl 10s | red    | on station | 2019-04-02 | 05-13 08:00 | -           | yes | no  | 1 13
6   | NB-106 | Skarholm North | 62.1225 | 5.8256 | Q       | red    | on station | 2016-01-23 | 05-13 08:00 | -           | yes | no  | 1 13
7   | NB-107 | Holmflua       | 62.3357 | 5.8117 | Fl G 3s | yellow | on station | 2018-07-26 | 05-13 08:00 | -           | yes | no  | 1 13
8   | NB-108 | Sildegrunn     | 61.9406 | 5.6545 | LFl 10s | red    | on station | 2020-02-22 | 05-13 08:00 | -           | yes | no  | 1 13
9   | NB-109 | Vesleneset     | 62.2750 | 6.1025 | Fl R 5s | green  | on station | 2019-02-01 | 05-13 08:00 | -           | yes | no  | 1 13
10  | NB-110 | Storskarv      | 62.1581 | 5.5727 | Fl R 5s | green  | on station | 2016-01-28 | 05-13 08:00 | 05-15 09:00 | no  | yes | 1 7
11  | NB-111 | Ytre Halvor    | 62.0173 | 5.8412 | LFl 10s | yellow | on station | 2018-01-26 | 05-13 08:00 | -           | yes | no  | 1 13
12  | NB-112 | Blåskjell Bank | 62.2066 | 5.1547 | Fl 3s   | green  | on station | 2020-04-13 | 05-13 08:00 | -           | yes | no  | 1 1
14  | NB-113 | Morkflu        | 62.0931 | 5.4477 | Q R     | red    | on station | 2024-05-14 | 05-14 13:00 | -           | yes | no  | 4 4
""".strip()  # noqa: E501


KEEPERS = """
no | firm             | harbour    | phone       | valid_from  | valid_to    | del | runs
1  | Halvor & Sons    | Tarva      | 70 41 01 15 | 05-13 00:00 | -           | no  | 3 3
2  | Tarva Marine     | Grasøy     | 70 41 02 25 | 05-13 00:00 | -           | no  | 3 3
3  | Grasøy Slip      | Halvorsund | 70 41 03 35 | 05-13 00:00 | 05-14 00:00 | no  | 3 6
3  | Grasøy Slip      | Tarva      | 70 41 03 35 | 05-14 00:00 | -           | no  | 6 6
4  | Norrskjær Works  | Tarva      | 70 41 04 45 | 05-13 00:00 | -           | no  | 3 3
5  | Blåskjell Boats  | Grasøy     | 70 41 99 00 | 05-13 00:00 | -           | no  | 3 6
6  | Storskarv Divers | Halvorsund | 70 41 06 65 | 05-13 00:00 | -           | no  | 3 3
7  | Ytre Moorings    | Tarva      | 70 41 07 75 | 05-13 00:00 | 05-15 00:00 | no  | 3 9
7  | Ytre Moorings    | Grasøy     | 70 41 07 75 | 05-15 00:00 | -           | no  | 9 9
8  | Vesle Lamps      | Grasøy     | 70 41 08 85 | 05-13 00:00 | 05-15 00:00 | yes | 3 10
9  | Sunde Chain      | Halvorsund | 70 41 09 95 | 05-13 00:00 | -           | no  | 3 3
""".strip()


VISITS = """
no  | buoy   | visited    | work             | hours | modified    | runs
501 | NB-101 | 2024-05-13 | lamp changed     | 2.0   | 05-13 10:20 | 2 2
502 | NB-103 | 2024-05-13 | chain replaced   | 6.5   | 05-13 14:05 | 2 5
503 | NB-107 | 2024-05-13 | paint            | 5.0   | 05-13 16:40 | 2 2
504 | NB-110 | 2024-05-13 | lamp changed     | 1.5   | 05-13 21:17 | 2 2
505 | NB-104 | 2024-05-14 | repainted green  | 4.0   | 05-14 11:30 | 5 5
506 | NB-113 | 2024-05-14 | moored           | 7.5   | 05-14 15:00 | 5 5
507 | NB-108 | 2024-05-13 | battery          | 1.0   | 05-13 18:30 | 5 5
""".strip()


@pytest.fixture(scope="module", params=STORES)
def toured(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Path, str]]:
    """The tour in a store of each kind: one line of the project is another."""
    folder = tmp_path_factory.mktemp("tour")
    with fresh_database() if request.param == "postgres" else nullcontext(f"{request.param}:coast.db") as address:
        said = call("demo", "coast", *([] if request.param == "duckdb" else ["--store", address]), cwd=folder)
        assert said.code == 0, said.err
        yield folder / "coast", said.out


def shown(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, datetime):
        return f"{value:%m-%d %H:%M}"
    return "-" if value is None else str(value)


def test_the_table_holds_these_rows(toured: tuple[Path, str]) -> None:
    project = brenvik.read_project(toured[0] / "brenvik.toml")
    with project.open(read_only=True) as store:
        rows = store.read(project.table("buoy").rules).to_pylist()
    names = (
        "buoy_key", "buoy_code", "name", "latitude", "longitude", "light", "colour", "status", "commissioned_on",
        "valid_from", "valid_to", "is_current", "is_deleted",
    )  # fmt: skip
    found = [[*(shown(row[name]) for name in names), f"{row['first_run']} {row['last_run']}"] for row in rows]
    _, *lines = EXPECTED.splitlines()
    expected = [[cell.strip() for cell in line.split("|")] for line in lines]
    if not project.store.startswith("duckdb"):  # which of two new rows is numbered first is the store's own affair
        assert sorted(row[0] for row in found) == sorted(row[0] for row in expected)
        found, expected = [row[1:] for row in found], [row[1:] for row in expected]
    assert found == expected
    assert list(rows[0]) == [*names, "first_run", "last_run", "first_loaded_at", "last_loaded_at"]


def test_the_visits_are_these_rows_and_none_from_2042(toured: tuple[Path, str]) -> None:
    project = brenvik.read_project(toured[0] / "brenvik.toml")
    with project.open(read_only=True) as store:
        rows = store.read(project.table("visit").rules).to_pylist()
    names = ("visit_no", "buoy_code", "visited_on", "work", "hours", "valid_from")
    found = [[*(shown(row[name]) for name in names), f"{row['first_run']} {row['last_run']}"] for row in rows]
    _, *lines = VISITS.splitlines()
    assert found == [[cell.strip() for cell in line.split("|")] for line in lines]


def test_the_keepers_are_these_rows(toured: tuple[Path, str]) -> None:
    project = brenvik.read_project(toured[0] / "brenvik.toml")
    with project.open(read_only=True) as store:
        rows = store.read(project.table("keeper").rules).to_pylist()
    names = ("keeper_no", "firm", "harbour", "phone", "valid_from", "valid_to", "is_deleted")
    found = [[*(shown(row[name]) for name in names), f"{row['first_run']} {row['last_run']}"] for row in rows]
    _, *lines = KEEPERS.splitlines()
    assert found == [[cell.strip() for cell in line.split("|")] for line in lines]


def test_a_project_whose_files_were_all_taken_is_ok(toured: tuple[Path, str]) -> None:
    said = call("check", cwd=toured[0])
    assert (said.code, "OK" in said.out) == (0, True)


def test_taken_files_are_moved(toured: tuple[Path, str]) -> None:
    assert [path.name for path in sorted((toured[0] / "loaded").iterdir())] == [
        "buoy_01.csv", "buoy_02.csv", "buoy_03.csv", "buoy_04.csv", "buoy_99_again.csv",
    ]  # fmt: skip
    assert not list((toured[0] / "inbox").glob("buoy*"))


def test_the_tour_tells_every_trap(toured: tuple[Path, str]) -> None:
    for sentence in (
        "14 read = 1 inserted + 5 versioned + 1 overwritten + 1 protected + 2 unchanged + 1 duplicate + 3 rejected",
        "12 rows + 6 added − 0 removed = 18",
        "commissioned_on stays 2019-04-02; the source has 2009-04-02",
        "buoy_code has 13 characters; the limit is 8",
        "changed_at: '2024-05-14 25:61' is not a valid timestamp",
        "5 read = 1 inserted + 2 versioned + 2 deleted",
        "deleted 2024-05-15 07:20, inserted again 2024-05-15 15:00 (after 7 h 40 min)",
        "14 read = 14 duplicate",
        "21 rows + 0 added − 0 removed = 21",
        "next window   (2024-05-13 21:17, 2024-05-14 15:00]",
        "6 read = 3 inserted + 1 overwritten + 2 duplicate",
        "1 row is dated after the source's clock, ",
        "It has 4 rows; the table has 9 current keys. Loading it would leave 5 deletes pending (56 %, limit 20 %).",
        "to allow    brenvik load keeper --allow-deletes 5",
        "8 read + 1 derived = 1 versioned + 1 pending + 7 unchanged",
        "27 rows + 0 added − 6 removed = 21, 6 changed",
        "The table is equal to that of the day before: 21 rows.",
    ):
        assert sentence in toured[1]


@pytest.mark.parametrize("name", sorted(scenario.days()))
def test_the_files_in_the_repository_are_those_the_seed_gives(name: str, tmp_path: Path) -> None:
    assert scenario.write_day(name, tmp_path).read_bytes() == (DATA / name).read_bytes()


def test_a_folder_with_something_in_it_is_left_alone(tmp_path: Path) -> None:
    (tmp_path / "thesis.txt").write_text("mine")
    said = call("demo", ".", cwd=tmp_path)
    assert said.code == 2
    assert "is not empty" in said.err
    assert [path.name for path in tmp_path.iterdir()] == ["thesis.txt"]


def test_the_demo_at_scale_adds_up(tmp_path: Path) -> None:
    said = call("demo", "big", "--rows", "20000", cwd=tmp_path)
    assert said.code == 0, said.err
    assert "10,000 read = 10,000 inserted" in said.out
    assert "500 duplicate + 3 rejected" in said.out
