"""Walks through the scenario: writes each day's files to the inbox, runs the real commands, and comments on them."""

from __future__ import annotations

import json
import shutil
import time
from pathlib import Path
from typing import TYPE_CHECKING

from rich.text import Text

from brenvik.cli.exits import most_severe
from brenvik.cli.render import paper
from brenvik.cli.render.as_of import show_as_of
from brenvik.cli.render.deletes import show_pending_deletes
from brenvik.cli.render.history import show_change_log, show_history
from brenvik.cli.render.load import show_loads
from brenvik.cli.render.preview import show_previews
from brenvik.cli.render.recomputed import show_recomputed
from brenvik.cli.render.rejects import show_rejects
from brenvik.cli.render.runs import show_runs
from brenvik.cli.render.watermarks import show_watermarks
from brenvik.demo import scenario
from brenvik.errors import DeclarationError
from brenvik.project.file import FILE, read_project
from brenvik.project.project import Project
from brenvik.project.status import how_far
from brenvik.runs.load import LoadOptions

if TYPE_CHECKING:
    import pyarrow as pa

_FOLDER_HINT = "Choose an empty folder, or one that does not exist: brenvik demo FOLDER"


class _Guide:
    """Says short sentences and shows commands with their real output."""

    def __init__(self, project: Project) -> None:
        self.project = project
        self._console = paper.console()

    def say(self, *sentences: str) -> None:
        self._console.print()
        for sentence in sentences:
            self._console.print(Text(sentence, style="italic"))

    def _prompt(self, command: str) -> None:
        self._console.print()
        self._console.print(Text(f"$ brenvik {command}", style="bold green"))

    def load(self, *tables: str) -> int:
        """Returns the number of the last run."""
        self._prompt(" ".join(("load", *tables)))
        with self.project.open() as store:
            outcomes = self.project.load(tables or None, store=store)
            show_loads(self.project, outcomes, most_severe(outcomes), json=False)
        return outcomes[-1].run or 0

    def rows(self, table: str) -> pa.Table:
        """What a table says, without surrogate keys and stamps."""
        rules = self.project.table(table).rules
        stamps = ("surrogate_key", "first_run", "last_run", "first_loaded_at", "last_loaded_at")
        with self.project.open(read_only=True) as store:
            return store.read(rules).drop_columns([str(rules.system_column_name(name)) for name in stamps])

    def revert(self, run: int, *, reason: str) -> None:
        self._prompt(f'revert {run} --reason "{reason}"')
        rules = self.project.table("buoy").rules
        with self.project.open() as store:
            show_recomputed(self.project, rules, store.revert(rules, run, reason=reason), json=False)

    def pending_deletes(self) -> None:
        self._prompt("deletes")
        rules = self.project.table("keeper").rules
        with self.project.open(read_only=True) as store:
            show_pending_deletes(self.project, {"keeper": store.pending_deletes(rules).to_pylist()}, json=False)

    def approve(self, table: str, number: int, *, reason: str) -> None:
        self._prompt(f'deletes approve {table} {number} --reason "{reason}"')
        rules = self.project.table(table).rules
        with self.project.open() as store:
            show_recomputed(self.project, rules, store.approve_deletes(rules, number, reason=reason), json=False)

    def change_log(self, key: str) -> None:
        self._prompt(f"history buoy {key} --changes")
        rules = self.project.table("buoy").rules
        with self.project.open(read_only=True) as store:
            show_change_log(self.project, rules, key, store.change_log(rules, key), json=False)

    def preview(self, table: str) -> None:
        self._prompt(f"preview {table}")
        with self.project.open(read_only=True) as store:
            show_previews(
                self.project,
                self.project.load([table], options=LoadOptions(preview=True), store=store),
                everything=False,
                json=False,
            )

    def rejects(self) -> None:
        self._prompt("rejects")
        with self.project.open(read_only=True) as store:
            show_rejects(self.project, store.ledger.rejects().to_pylist(), json=False)

    def history(self, key: str) -> None:
        self._prompt(f"history buoy {key}")
        rules = self.project.table("buoy").rules
        with self.project.open(read_only=True) as store:
            show_history(self.project, rules, key, store.history(rules, key).to_pylist(), json=False)

    def as_of(self, when: str, *, limit: int = 5) -> None:
        self._prompt(f'as-of buoy "{when}" --limit {limit}')
        rules = self.project.table("buoy").rules
        with self.project.open(read_only=True) as store:
            show_as_of(self.project, rules, when, store.as_of(rules, when), limit=limit, json=False)

    def watermarks(self) -> None:
        self._prompt("watermarks")
        with self.project.open(read_only=True) as store:
            found = how_far(self.project, store, *self.project.tables.values())
        show_watermarks(self.project, found, json=False)

    def runs(self) -> None:
        self._prompt("runs")
        with self.project.open(read_only=True) as store:
            show_runs(self.project, store.ledger.runs().to_pylist(), store.ledger.reverted("buoy"), json=False)


def run(folder: Path, *, store: str | None = None) -> None:
    """Four days of the buoys of Halvorsund in a new folder, and in another store than a DuckDB file there where one is named.

    Raises DeclarationError when the folder is not empty, or the store has tables of these names.
    """
    guide = _Guide(_prepare(folder, scenario.PROJECT + scenario.VISITS + scenario.KEEPERS, store))
    inbox = folder / "inbox"
    guide.say(
        "Halvorsund keeps navigation buoys. Its registry sends a file of changes every day, service visits are in a database,",
        f"and the firms that maintain the buoys arrive as a full list every night. All of this is declared in {folder / FILE}.",
    )
    scenario.write_day("buoy_01.csv", inbox)
    scenario.write_visits(1, folder)
    scenario.write_keepers(1, inbox)
    guide.load()
    guide.say(
        "Day two has traps: three changes of one buoy, a line twice, a tampered date of commissioning, a corrected",
        "spelling, a line without a key, a code too long, a time that does not exist. First a preview:",
    )
    scenario.write_day("buoy_02.csv", inbox)
    guide.preview("buoy")
    scenario.write_visits(2, folder)
    scenario.write_keepers(2, inbox)
    guide.say(
        "Nothing was written. In the database a visit was corrected, one was entered a day late, one is dated 2042.",
        "How far has each feed been loaded, and what comes next?",
    )
    guide.watermarks()
    guide.say(
        "Now for real: valid rows are loaded, invalid ones rejected and kept in full; 2042 does not advance the watermark."
    )
    guide.load()
    guide.rejects()
    guide.say(
        "Day three: a change of NB-104 arrives two days late, then NB-104 is taken ashore and laid out again.",
        "NB-110 is gone for good. And the list of firms is incomplete: four of nine.",
    )
    scenario.write_day("buoy_03.csv", inbox)
    scenario.write_keepers(3, inbox, broken_off=True)
    guide.load("buoy", "keeper")
    guide.say("Nothing of the list was loaded. The office sends it again, complete, under the same name:")
    scenario.write_keepers(3, inbox)
    guide.load("keeper")
    guide.say("One firm is not in it. Its delete awaits approval by someone who knows that it has closed:")
    guide.pending_deletes()
    guide.approve("keeper", 1, reason="closed down in May")
    _look_back(guide, folder, inbox)


def _look_back(guide: _Guide, folder: Path, inbox: Path) -> None:
    """What the table says of the past; and a day that is taken back."""
    guide.say("The late change is in its place on the time line; the gap is when the buoy was ashore:")
    guide.history("NB-104")
    guide.say("The state at eight on day two (NB-104 was damaged, although nobody knew yet):")
    guide.as_of("2024-05-14 08:00")
    guide.say("And if a file comes twice, under another name? Nothing changes:")
    shutil.copy(folder / "loaded" / "buoy_02.csv", inbox / "buoy_99_again.csv")
    guide.load("buoy")
    before = guide.rows("buoy")
    guide.say("Day four: a faulty script reports six buoys as white and unlit. It is loaded, and reverted:")
    scenario.write_day("buoy_04.csv", inbox)
    run = guide.load("buoy")
    guide.revert(run, reason="lights all wrong")
    same = guide.rows("buoy").equals(before)
    guide.say(f"The table is {'equal' if same else 'NOT EQUAL'} to that of the day before: {before.num_rows} rows.")
    guide.change_log("NB-106")
    guide.runs()
    guide.say(
        f"Look around: cd {folder}",
        "brenvik history buoy NB-102 · brenvik watermarks · brenvik check · or start your own: brenvik new FILE",
    )


def run_at_scale(folder: Path, rows: int, *, store: str | None = None) -> None:
    """The same kinds of trap with many rows, timed. Raises what ``run`` does."""
    project = _prepare(folder, scenario.PROJECT.replace("inbox/buoy_*.csv", "inbox/buoy_*.parquet"), store)
    guide = _Guide(project)
    inbox = folder / "inbox"
    guide.say(
        f"Making {rows:,} changes of {rows // 2:,} buoys: late ones, repeated ones, deletes, a few without a key."
    )
    paths = scenario.write_at_scale(inbox, rows)
    waiting = [path.rename(path.with_suffix(".waiting")) for path in paths]
    for path, arrived in zip(waiting, paths, strict=True):
        path.rename(arrived)
        begin = time.perf_counter()
        guide.load()
        seconds = time.perf_counter() - begin
        guide.say(f"{rows // 2:,} changes in {seconds:.1f} s: {rows / 2 / seconds:,.0f} a second, files read and all.")
    with project.open(read_only=True) as opened:
        busiest = opened.engine.ask(
            'SELECT buoy_code FROM "buoy" GROUP BY buoy_code ORDER BY count(*) DESC, buoy_code LIMIT 1'
        )
    guide.say("The buoy with the most versions:")
    guide.history(busiest["buoy_code"][0].as_py())


def _prepare(folder: Path, declared: str, address: str | None) -> Project:
    if folder.exists() and any(folder.iterdir()):
        raise DeclarationError(f"{folder} is not empty. {_FOLDER_HINT}")
    (folder / "inbox").mkdir(parents=True, exist_ok=True)
    file = folder / FILE
    file.write_text(declared if address is None else in_store(declared, address), encoding="utf-8")
    project = read_project(file)
    with project.open() as opened:
        there = [name for name in project.tables if opened.engine.has_table(name)]
        if there:
            raise DeclarationError(
                f"{opened.address} already has a table {', '.join(there)}; use an empty store for the demo."
            )
    return project


def in_store(declared: str, address: str) -> str:
    """The project of the demo with its tables in another store: one line is another."""
    ours = f'store = "{scenario.STORE}"'
    assert ours in declared
    return declared.replace(ours, f"store = {json.dumps(address)}")
