"""``make screenshots``: what the commands print on a terminal, as pictures in docs/screenshots/.

Each command runs in a pseudo terminal of 148 columns; its real output, colours included, is drawn with a monospaced
font (DejaVu Sans Mono, Debian's fonts-dejavu-core).
"""

from __future__ import annotations

import fcntl
import os
import pty
import re
import shlex
import shutil
import sqlite3
import struct
import subprocess
import sys
import tempfile
import termios
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont
from rich.text import Text

from brenvik.demo import scenario

ROOT = Path(__file__).parents[1]
OUT = ROOT / "docs" / "screenshots"
COLUMNS, SIZE, LEADING, MARGIN = 148, 14, 19, 16
PAPER, INK, DIM = "#fbfaf7", "#22252a", "#8a8f98"
COLOURS = {"color(1)": "#b3261e", "color(2)": "#1e6b3a", "color(3)": "#8a6100"}  # red, green, yellow
FONTS = Path("/usr/share/fonts/truetype/dejavu")


def run(words: list[str], folder: Path) -> str:
    """What a command prints on a terminal."""
    leader, follower = pty.openpty()
    fcntl.ioctl(follower, termios.TIOCSWINSZ, struct.pack("HHHH", 50, COLUMNS, 0, 0))
    environment = {**os.environ, "TERM": "xterm-256color", "COLUMNS": str(COLUMNS)}
    command = [str(Path(sys.executable).parent / "brenvik"), *words]
    with subprocess.Popen(command, cwd=folder, stdout=follower, stderr=subprocess.DEVNULL, env=environment):
        os.close(follower)
        pieces = []
        while True:
            try:
                piece = os.read(leader, 65536)
            except OSError:  # the other end is closed
                break
            if not piece:
                break
            pieces.append(piece)
    os.close(leader)
    return b"".join(pieces).decode().replace("\r\n", "\n")


def draw(text: str, path: Path, *, lines: int = 41) -> None:
    """Draws the first lines of a terminal's text at about 1280 x 800."""
    regular = ImageFont.truetype(FONTS / "DejaVuSansMono.ttf", SIZE)
    bold = ImageFont.truetype(FONTS / "DejaVuSansMono-Bold.ttf", SIZE)
    width = regular.getlength("M")
    shown = text.splitlines()[:lines]
    image = Image.new("RGB", (int(COLUMNS * width) + 2 * MARGIN, lines * LEADING + 2 * MARGIN), PAPER)
    pen = ImageDraw.Draw(image)
    for row, line in enumerate(shown):
        rich = Text.from_ansi(line)
        styles = ["" for _ in rich.plain]
        for span in rich.spans:
            for index in range(span.start, min(span.end, len(styles))):
                styles[index] += f" {span.style}"
        for column, character in enumerate(rich.plain):
            words = styles[column].split()
            colour = next((COLOURS[word] for word in words if word in COLOURS), DIM if "dim" in words else INK)
            place = (MARGIN + column * width, MARGIN + row * LEADING)
            pen.text(place, character, fill=colour, font=bold if "bold" in words else regular)
    path.parent.mkdir(parents=True, exist_ok=True)
    image.save(path, optimize=True)


FIRMS = """\
Firm No;name;town;since;fee;certified
1;Skjærgård, Sjø og Los;Halvorsund;01.03.2019;1.200,50;Ja
2;Bøyer & Lys;Ytre Halvor;15.08.2021;980;Nei
3;Nordvær Kystdrift;Halvorsund;09.01.2023;NULL;Ja
"""
ASKED = "request of 3 May"
BEFORE = """\
name = "coast"
store = "sqlite:before.db"

[table.buoy]
natural_key = ["buoy_code"]
order_by = ["changed_at", "entry_no"]
effective_at = "changed_at"
type_1 = ["name"]
exclude = ["entry_no", "latitude", "longitude", "commissioned_on"]
types = { entry_no = "integer", changed_at = "timestamp", buoy_code = "text(8)", name = "text(40)" }
system_columns = { surrogate_key = "id", valid_from = "since", valid_to = "until", is_current = false }

[table.buoy.feed.registry]
kind = "changes"
files = "loaded/buoy_02.csv"
operation = { column = "op", insert = ["I"], update = ["U"], delete = ["D"] }
"""


def table_of_before(folder: Path) -> Callable[[], None]:
    """A table that someone's own script kept, with two faults; returns what mends them."""
    (folder / "before.toml").write_text(BEFORE)
    with closing(sqlite3.connect(folder / "before.db")) as connection:
        connection.execute(
            "CREATE TABLE buoy (id INTEGER PRIMARY KEY, buoy_code VARCHAR(8), name VARCHAR(30), light TEXT, colour TEXT, "
            "status TEXT, since TIMESTAMP, until TIMESTAMP, noted TEXT DEFAULT 'by hand')"
        )
        rows = [
            ("NB-101", "Kvitsund", "Fl G 3s", "green", "on station", "2024-05-01 08:00:00", None),
            ("NB-102", "Storevik", "Q", "red", "on station", "2024-05-01 08:00:00", "2024-05-09 06:00:00"),
            ("NB-102", "Storevik", "Q", "red", "adrift", "2024-05-08 21:00:00", None),
            ("NB-103", "Lia", "Fl 3s", "red", "on station", "2024-05-01 08:00:00", "2024-05-04 10:00:00"),
            ("NB-103", "Lia", "Fl 3s", "red", "on station", "2024-05-04 10:00:00", None),
        ]
        columns = "buoy_code, name, light, colour, status, since, until"
        connection.executemany(f"INSERT INTO buoy ({columns}) VALUES (?, ?, ?, ?, ?, ?, ?)", rows)
        connection.commit()

    def mend() -> None:
        (folder / "before.toml").write_text(BEFORE.replace("text(40)", "text(30)"))
        with closing(sqlite3.connect(folder / "before.db")) as connection:
            connection.execute("UPDATE buoy SET until = '2024-05-08 21:00:00' WHERE until = '2024-05-09 06:00:00'")
            connection.commit()

    return mend


AT_ONCE = ("lamp", "--keep", "0 days")
FILES = re.compile(r"```\{code-block\} \w+\n:caption: (brenvik.toml|inbox/lamp_01.csv)\n\n(.*?)```", re.DOTALL)


def write_lamps(folder: Path) -> Path:
    """The project of the page about the change log."""
    page = (ROOT / "docs" / "how-to" / "change-log.md").read_text(encoding="utf-8")
    for name, content in FILES.findall(page):
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(content, encoding="utf-8")
    return folder


def main() -> None:
    folder = Path(tempfile.mkdtemp())
    try:
        (folder / "inbox").mkdir()
        (folder / "brenvik.toml").write_text(scenario.PROJECT + scenario.VISITS + scenario.KEEPERS)

        def shot(name: str, *words: str) -> None:
            draw(f"$ brenvik {shlex.join(words)}\n{run(list(words), folder)}", OUT / f"{name}.png")

        scenario.write_day("buoy_01.csv", folder / "inbox")
        scenario.write_visits(1, folder)
        scenario.write_keepers(1, folder / "inbox")
        run(["load"], folder)
        scenario.write_day("buoy_02.csv", folder / "inbox")
        scenario.write_visits(2, folder)
        shot("preview", "preview", "buoy")
        scenario.write_keepers(2, folder / "inbox")
        shot("watermarks", "watermarks")
        shot("load", "load")
        shot("rejects", "rejects")
        scenario.write_day("buoy_03.csv", folder / "inbox")
        scenario.write_keepers(3, folder / "inbox", broken_off=True)
        run(["load", "buoy"], folder)
        shot("blocked", "load", "keeper")
        scenario.write_keepers(3, folder / "inbox")
        run(["load", "keeper"], folder)
        shot("deletes", "deletes")
        shutil.copy(folder / "loaded" / "buoy_02.csv", folder / "inbox" / "buoy_99_again.csv")
        (folder / "registry.db").rename(folder / "away.db")  # the source is down for a while
        run(["load", "visit"], folder)
        shot("status", "status")
        (folder / "away.db").rename(folder / "registry.db")
        run(["load", "buoy"], folder)
        shot("revert", "revert", "4", "--reason", "wrong day")
        shot("changes", "history", "buoy", "NB-104", "--changes")
        shot("runs", "runs")
        shot("run", "runs", "4")
        run(["revert", "4", "--undo"], folder)
        shot("history", "history", "buoy", "NB-104")
        shot("sql", "sql", "buoy")
        asked = [
            run(["erase", "buoy", "NB-104", *words], folder) for words in (["--preview"], ["--reason", ASKED, "--yes"])
        ]
        heads = ("$ brenvik erase buoy NB-104 --preview", f"$ brenvik erase buoy NB-104 --reason {ASKED!r} --yes")
        draw("\n".join(f"{head}\n{text}" for head, text in zip(heads, asked, strict=True)), OUT / "erase.png")
        calls = (["load"], ["trim", *AT_ONCE, "--preview"], ["trim", *AT_ONCE], ["status"])
        lamps = write_lamps(folder / "lamps")
        told = (f"$ brenvik {shlex.join(words)}\n{run(words, lamps)}" for words in calls)
        draw("\n".join(told), OUT / "trim.png")
        (folder / "firm_2024-05-13.csv").write_text(FIRMS, encoding="cp1252")
        shot("new", "new", "firm_2024-05-13.csv", "--project", "firms.toml")
        mend = table_of_before(folder)
        shot("check", "check", "--project", "before.toml")
        mend()
        shot("adopt", "adopt", "buoy", "--project", "before.toml", "--allow-changes", "2")
        run(["demo", "lake", "--store", "lakehouse:lake"], folder)
        calls = (["runs", "--last", "8"], ["compact", "--keep", "0 minutes"])
        told = (f"$ brenvik {shlex.join(words)}\n{run(words, folder / 'lake')}" for words in calls)
        draw("\n".join(told), OUT / "compact.png")
        draw("$ brenvik demo\n" + run(["demo", "coast"], folder), OUT / "demo.png")
    finally:
        shutil.rmtree(folder)


if __name__ == "__main__":
    main()
