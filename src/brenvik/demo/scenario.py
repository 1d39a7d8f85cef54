"""The scenario: what the registry of buoys sends on three days of May 2024. All names are made up.

``write_day`` makes the small files (kept in ``data/`` too, so that they can be read without running anything);
``write_at_scale`` the same kinds of trap by the million.
"""

from __future__ import annotations

import csv
import random
import sqlite3
from contextlib import closing
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

SEED = 20240513
COLUMNS = (
    "entry_no", "op", "changed_at", "buoy_code", "name", "latitude", "longitude", "light", "colour", "status", "commissioned_on",
)  # fmt: skip
STORE = "duckdb:coast.duckdb"
PROJECT = f"""\
name = "coast"
store = "{STORE}"

[table.buoy]
natural_key = ["buoy_code"]
order_by = ["changed_at", "entry_no"]     # entry_no tells the later of two changes of the same moment
effective_at = "changed_at"
type_0 = ["commissioned_on"]              # must never change
type_1 = ["name"]                         # a corrected spelling holds for all versions
other_columns = "type_2"                  # everything else opens a new version
exclude = ["entry_no"]
deletes = "close"

[table.buoy.types]                        # text stays text unless a type is declared
entry_no = "integer"
changed_at = "timestamp"
buoy_code = "text(8)"
latitude = "decimal(7,4)"
longitude = "decimal(7,4)"
commissioned_on = "date"

[table.buoy.feed.registry]
kind = "changes"
files = "inbox/buoy_*.csv"
operation = {{ column = "op", insert = ["I"], update = ["U"], delete = ["D"] }}
after_load = {{ move_to = "loaded/" }}      # when their rows are safe
"""
VISITS = """
[connections]
registry = "sqlite:///registry.db"        # any database that SQLAlchemy reaches; secrets as ${NAME}

[table.visit]
natural_key = ["visit_no"]
order_by = ["modified_at"]
other_columns = "type_1"                  # a visit is what it is; corrections overwrite

[table.visit.feed.service]
kind = "upserts"
connection = "registry"
source_table = "service_visit"
watermark = "modified_at"                 # a load takes what was modified since the last one
overlap = "6 hours"                       # and looks back, for visits that were entered late
lag = "2 minutes"
"""
KEEPERS = """
[table.keeper]
natural_key = ["keeper_no"]
type_1 = ["phone"]
deletes = "review"                        # a firm that is gone waits for a person
max_deletes = 0.2                         # and a fifth of them at once is no extract to trust
types = { keeper_no = "integer" }

[table.keeper.feed.nightly]
kind = "full_extract"                     # all there is: a firm that is absent is gone
files = "inbox/keeper_*.csv"
extract_time = { file_name = 'keeper_(\\d{4}-\\d\\d-\\d\\d)' }
"""
_FIRMS = (
    "Halvor & Sons", "Tarva Marine", "Grasøy Slip", "Norrskjær Works", "Blåskjell Boats",
    "Storskarv Divers", "Ytre Moorings", "Vesle Lamps", "Sunde Chain",
)  # fmt: skip
_HARBOURS = ("Halvorsund", "Tarva", "Grasøy")
_NAMES = (
    "Kvitsund", "Tarva Deep", "Grasøy Inner", "Norrskjær", "Langbåen", "Skarholm Nort",
    "Holmflua", "Sildegrunn", "Vesleneset", "Storskarv", "Ytre Halvor", "Blåskjell Bank",
)  # fmt: skip
_LIGHTS = ("Fl G 3s", "Fl R 5s", "Q", "Fl 3s", "Iso 4s", "LFl 10s")
_COLOURS = ("green", "red", "yellow")
_DAY = timedelta(days=1)


def days() -> dict[str, list[dict[str, Any]]]:
    """The rows of each file, by its name."""
    fleet = _fleet()
    first = datetime(2024, 5, 13, 8)
    inbox = _Inbox()
    inbox.day("buoy_01.csv")
    for buoy in fleet.values():
        inbox.enter("I", first, buoy)

    inbox.day("buoy_02.csv")
    second = first + _DAY

    def at(hour: int, minute: int) -> datetime:
        return second.replace(hour=hour, minute=minute)

    inbox.enter("U", at(5, 30), fleet["NB-101"], light="Fl G 5s")
    for hour, minute, status in ((6, 10, "adrift"), (9, 40, "in dock"), (16, 20, "on station")):
        inbox.enter("U", at(hour, minute), fleet["NB-102"], status=status)
    inbox.enter("U", at(11, 5), fleet["NB-104"], colour="green")
    inbox.again()
    inbox.enter("U", at(11, 30), fleet["NB-105"], commissioned_on="2009-04-02", keep=False)
    inbox.enter("U", at(12, 0), fleet["NB-106"], name="Skarholm North")
    inbox.enter("U", at(12, 5), fleet["NB-107"])
    inbox.enter("U", at(12, 10), fleet["NB-108"])
    morkflu = {
        "buoy_code": "NB-113",
        "name": "Morkflu",
        "latitude": "62.0931",
        "longitude": "5.4477",
        "light": "Q R",
        "colour": "red",
        "status": "on station",
        "commissioned_on": "2024-05-14",
    }
    inbox.enter("I", at(13, 0), morkflu)
    inbox.enter("U", at(13, 10), dict(fleet["NB-109"], buoy_code=""))
    inbox.enter("I", at(13, 20), dict(morkflu, buoy_code="NB-114-WEST-B", name="Vestre Grunn"))
    inbox.enter("U", "2024-05-14 25:61", fleet["NB-109"], status="adrift", keep=False)

    inbox.day("buoy_03.csv")
    inbox.enter("U", datetime(2024, 5, 13, 17, 45), dict(fleet["NB-104"], colour="red"), status="damaged", keep=False)
    inbox.enter("D", datetime(2024, 5, 15, 7, 20), fleet["NB-104"])
    inbox.enter("I", datetime(2024, 5, 15, 15, 0), fleet["NB-104"], light="Fl 5s")
    inbox.enter("D", datetime(2024, 5, 15, 9, 0), fleet["NB-110"])
    inbox.enter("U", datetime(2024, 5, 15, 10, 15), fleet["NB-103"], status="adrift")

    inbox.day("buoy_04.csv")  # someone's script: every light is white and never lit
    for number in (105, 106, 107, 108, 109, 111):
        inbox.enter("U", datetime(2024, 5, 16, 4, 0), fleet[f"NB-{number}"], light="W 0s", colour="white", keep=False)
    return inbox.files


def keepers(day: int, *, broken_off: bool = False) -> list[dict[str, Any]]:
    """The firms that look after buoys, as they are on a day, from 1; an extract that was ``broken_off`` has the first four."""
    rows = [
        {"keeper_no": number, "firm": firm, "harbour": _HARBOURS[number % 3], "phone": f"70 41 0{number} {number}5"}
        for number, firm in enumerate(_FIRMS, 1)
    ]
    if day >= 2:
        rows[2] |= {"harbour": "Tarva"}  # Grasøy Slip has moved
        rows[4] |= {"phone": "70 41 99 00"}
    if day >= 3:
        rows[6] |= {"harbour": "Grasøy"}
        del rows[7]  # Vesle Lamps is gone
    return rows[:4] if broken_off else rows


def visits(day: int) -> list[tuple[Any, ...]]:
    """What is entered or changed in the registry's ``service_visit`` until the evening of a day, from 1."""
    rows = [
        (501, "NB-101", "2024-05-13", "lamp changed", 2.0, "2024-05-13 10:20:00"),
        (502, "NB-103", "2024-05-13", "chain inspected", 3.5, "2024-05-13 14:05:00"),
        (503, "NB-107", "2024-05-13", "paint", 5.0, "2024-05-13 16:40:00"),
        (504, "NB-110", "2024-05-13", "lamp changed", 1.5, "2024-05-13 21:17:00"),
    ]
    if day == 1:
        return rows
    return [
        (502, "NB-103", "2024-05-13", "chain replaced", 6.5, "2024-05-14 08:10:00"),  # corrected
        (505, "NB-104", "2024-05-14", "repainted green", 4.0, "2024-05-14 11:30:00"),
        (506, "NB-113", "2024-05-14", "moored", 7.5, "2024-05-14 15:00:00"),
        (507, "NB-108", "2024-05-13", "battery", 1.0, "2024-05-13 18:30:00"),  # entered a day late
        (508, "NB-102", "2042-05-14", "towed to the dock", 3.0, "2042-05-14 10:00:00"),  # someone's clock
    ]


def write_visits(day: int, folder: Path) -> Path:
    """Brings the source database ``registry.db`` to the state of a day; makes it when it is not there."""
    path = folder / "registry.db"
    with closing(sqlite3.connect(path)) as registry, registry:
        registry.execute(
            "CREATE TABLE IF NOT EXISTS service_visit (visit_no INTEGER PRIMARY KEY, buoy_code TEXT, visited_on DATE, "
            "work TEXT, hours DECIMAL(4,1), modified_at TIMESTAMP)"
        )
        registry.executemany("INSERT OR REPLACE INTO service_visit VALUES (?, ?, ?, ?, ?, ?)", visits(day))
    return path


def write_day(name: str, folder: Path) -> Path:
    """Writes one day's file into a folder."""
    path = folder / name
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.DictWriter(file, COLUMNS, lineterminator="\n")
        writer.writeheader()
        writer.writerows(days()[name])
    return path


def write_keepers(day: int, folder: Path, *, broken_off: bool = False) -> Path:
    """Writes the nightly extract of a day into a folder."""
    path = folder / f"keeper_2024-05-{12 + day}.csv"
    rows = keepers(day, broken_off=broken_off)
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.DictWriter(file, list(rows[0]), lineterminator="\n")
        writer.writeheader()
        writer.writerows(rows)
    return path


class _Inbox:
    """Rows in the making; entries are numbered through all files."""

    def __init__(self) -> None:
        self.files: dict[str, list[dict[str, Any]]] = {}
        self._number = 0

    def day(self, name: str) -> None:
        self._rows = self.files[name] = []

    def enter(self, op: str, at: datetime | str, buoy: dict[str, Any], *, keep: bool = True, **changed: str) -> None:
        """One change of a buoy; with ``keep`` the buoy is like that from now on."""
        self._number += 1
        moment = at if isinstance(at, str) else f"{at:%Y-%m-%d %H:%M}"
        if keep:
            buoy.update(changed)
        self._rows.append({"entry_no": self._number, "op": op, "changed_at": moment, **buoy, **changed})

    def again(self) -> None:
        self._rows.append(dict(self._rows[-1]))


def _fleet() -> dict[str, dict[str, Any]]:
    dice = random.Random(SEED)
    fleet = {}
    for number, name in enumerate(_NAMES, 101):
        code = f"NB-{number}"
        fleet[code] = {
            "buoy_code": code,
            "name": name,
            "latitude": f"{dice.uniform(61.9, 62.4):.4f}",
            "longitude": f"{dice.uniform(5.1, 6.2):.4f}",
            "light": dice.choice(_LIGHTS),
            "colour": dice.choice(_COLOURS),
            "status": "on station",
            "commissioned_on": f"20{dice.randint(10, 23)}-{dice.randint(1, 12):02d}-{dice.randint(1, 28):02d}",
        }
    fleet["NB-101"] |= {"light": "Fl G 3s", "colour": "green"}
    fleet["NB-104"] |= {"light": "Fl 3s", "colour": "red"}
    fleet["NB-105"] |= {"commissioned_on": "2019-04-02"}
    return fleet


def write_at_scale(folder: Path, rows: int) -> list[Path]:
    """Writes ``rows`` changes into two Parquet files: half of them bring the buoys, half change them.

    Of the second half, five in a hundred are late, five stand twice, two delete; a few have no key or too long a one.
    """
    import numpy as np
    import pyarrow as pa
    import pyarrow.parquet as pq

    dice = np.random.default_rng(SEED)
    half = rows // 2
    start = np.datetime64("2024-05-13T08:00:00", "us")
    texts = {"light": _LIGHTS, "colour": _COLOURS, "status": ("on station", "adrift", "in dock", "damaged")}

    def state(numbers: Any, at: Any, op: Any, entry: Any) -> pa.Table:
        codes = pa.array(np.char.add("NB", numbers.astype("U6")))
        return pa.table(
            {
                "entry_no": pa.array(entry),
                "op": pa.array(op),
                "changed_at": pa.array(at),
                "buoy_code": codes,
                "name": pa.array(np.char.add("Buoy ", numbers.astype("U6"))),
                "latitude": pa.array((numbers % 5000 / 10_000 + 61.9).round(4)),
                "longitude": pa.array((numbers % 9000 / 10_000 + 5.1).round(4)),
                **{name: pa.array(dice.choice(values, len(numbers))) for name, values in texts.items()},
                "commissioned_on": pa.array((np.datetime64("2010-01-01") + numbers % 5000).astype("datetime64[D]")),
            }
        )

    numbers = np.arange(half) + 100_000
    first = state(numbers, start + np.arange(half), np.full(half, "I"), np.arange(half))
    changed = dice.choice(numbers, rows - half - (rows - half) // 20)
    count = len(changed)
    at = start + np.timedelta64(1, "D") + np.arange(count)
    late = dice.random(count) < 0.05
    at[late] -= np.timedelta64(12, "h")
    op = np.where(dice.random(count) < 0.02, "D", "U")
    second = state(changed, at, op, half + np.arange(count))
    again = second.take(pa.array(dice.choice(count, (rows - half) // 20, replace=False)))
    bad = second.slice(0, 3)
    bad = bad.set_column(3, "buoy_code", pa.array([None, "NB-114-WEST-B", "NB-115-WEST-B"]))
    paths = [folder / "buoy_01.parquet", folder / "buoy_02.parquet"]
    pq.write_table(first, paths[0])
    pq.write_table(pa.concat_tables([second, again, bad]), paths[1])
    return paths
