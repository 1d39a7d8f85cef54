"""Runs a case in one kind of store and writes down what its stages were given and what they made of it."""

from __future__ import annotations

import difflib
import re
import sys
import tempfile
import tomllib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa

import brenvik
from brenvik.engines.ledger_entries import entry_statement
from brenvik.engines.row_changes import row_statement, table_statements
from brenvik.feeds.files import FileSource
from brenvik.feeds.reading import ReadOptions, Record
from brenvik.ledger.schema import change_log_table
from brenvik.merge import sql
from sources import load_from

CASES = Path(__file__).parent / "stages"
OTHER_STORES = ("postgres", "sqlite")
_PREFIX = re.compile(r"brenvik_w(?:\d+_)+")
_CODES = brenvik.Operations("op")
_BEGIN = datetime(2024, 6, 1, 6)


@dataclass
class Recorded:
    """The rows of a case as text, and the statements of the runs that are marked."""

    rows: str
    sql: str


def cases() -> list[str]:
    return sorted(path.stem for path in CASES.glob("*.toml"))


def record(name: str, store: brenvik.Store) -> Recorded:
    """Runs a case in an empty store. Rows are written down in DuckDB only."""
    with_rows = store.engine.dialect == "duckdb"
    text = (CASES / f"{name}.toml").read_text(encoding="utf-8")
    declared = tomllib.loads(text)
    rules = brenvik.TableRules("buoy", **declared["rules"])
    rows = [line for line in text.splitlines() if line.startswith("#")]
    statements: list[str] = []
    with tempfile.TemporaryDirectory() as folder:
        for number, run in enumerate(declared["run"], 1):
            title, given = f"Run {number}: {_title(run)}", run.get("rows", run.get("records", "")).rstrip()
            with _Watched(store) as watched, _clock(_BEGIN + timedelta(days=number)):
                outcome = _run(store, rules, run, Path(folder))
            rows += ["", "=" * len(title), title, "=" * len(title), *(["", given] if given else [])]
            made = watched.made() if with_rows else ()
            rows += [f"\n-- {name}\n{_table(store.engine.ask(f'SELECT * FROM {quoted}'))}" for name, quoted in made]
            if given:
                decisions = outcome.decisions()
                none = [] if any(decisions["protected"].to_pylist()) else ["protected"]
                rows += ["\n-- decisions", _table(decisions.drop_columns(["file", *none]), keep_order=True)]
            rows += [f"\ncounts: {', '.join(f'{name} {n}' for name, n in outcome.counts.items() if n)}"]
            rows += ["\n-- the table", _table(store.read(rules), keep_order=True)]
            if with_rows and rules.is_logged:
                kept = sql.relation(change_log_table(rules.table))
                rows += ["\n-- the changes that are kept", _table(store.engine.ask(f"SELECT * FROM {kept}"))]
            if run.get("sql"):
                again = {text for text in watched.statements if text in statements}
                told = (
                    f"-- as before: {text.splitlines()[0]}\n" if text in again else text for text in watched.statements
                )
                statements += [f"-- {title}\n", *told]
    return Recorded("\n".join(rows) + "\n", "\n".join(statements) + "\n")


def difference(ours: str, theirs: str) -> str:
    """What of the statements of one store another runs otherwise."""
    lines = difflib.unified_diff(ours.splitlines(), theirs.splitlines(), n=2, lineterm="")
    return "".join(f"{line.rstrip()}\n" for line in lines if not line.startswith(("---", "+++")))


def _title(run: dict[str, Any]) -> str:
    if "records" in run:
        return "changes of keys"
    what = next(name for name in ("kind", "revert", "undo", "approve", "rebuild", "trim") if name in run)
    if what == "kind":
        return f"{run['kind']}{' at ' + run['at'] if 'at' in run else ''}{' where ' + run['scope'] if 'scope' in run else ''}"
    if what == "trim":
        return f"trim what is older than {run['trim']}"
    return what if run[what] is True else f"{what} {', '.join(map(str, run[what]))}"


def _run(store: brenvik.Store, rules: brenvik.TableRules, run: dict[str, Any], folder: Path) -> brenvik.Outcome:
    if "records" in run:
        (folder / "records.jsonl").write_text(run["records"], encoding="utf-8")
        where = Record("/after", "/before", (("op", "/op"),), rules.natural_key, _CODES)
        source = FileSource("*.jsonl", folder=folder, name="files", kind="changes", reading=ReadOptions(record=where))
        return load_from(store, rules, source, operations=_CODES)
    if "kind" in run:
        kind = run["kind"]
        return store.load(
            rules,
            _frame(run["rows"]),
            kind=kind,
            operation="op" if kind == "changes" else None,
            at=run.get("at"),
            extract_scope=run.get("scope"),
        )
    if "approve" in run:
        return store.approve_deletes(rules, *run["approve"])
    if run.get("rebuild"):
        return store.rebuild(rules)
    if "trim" in run:
        return store.trim(rules, keep=run["trim"])
    undo = "undo" in run
    return store.revert(rules, *run["undo" if undo else "revert"], undo=undo)


def _frame(text: str) -> pa.Table:
    head, *lines = [[cell.strip() for cell in line.split("|")] for line in text.strip().splitlines()]
    columns = zip(*lines, strict=True)
    return pa.table(
        {
            name: pa.array([None if cell == "-" else cell for cell in cells], pa.string())
            for name, cells in zip(head, columns, strict=True)
        }
    )


def _table(rows: pa.Table, *, keep_order: bool = False) -> str:
    """Rows as aligned text, in the order of their first columns where nothing else orders them."""
    names = [re.sub(_PREFIX, "brenvik_work_", name) for name in rows.column_names]
    lines = [[_cell(value) for value in row.values()] for row in rows.to_pylist()]
    if not keep_order:
        lines.sort(key=lambda line: [(len(cell), cell) if cell.lstrip("-").isdigit() else (0, cell) for cell in line])
    widths = [max(map(len, column)) for column in zip(names, *lines, strict=True)]
    shown = (
        " | ".join(cell.ljust(width) for cell, width in zip(line, widths, strict=True)) for line in (names, *lines)
    )
    return "\n".join(line.rstrip() for line in shown) if names else "(no columns)"


def _cell(value: Any) -> str:
    if value is None:
        return "-"
    if isinstance(value, dict):
        return " ".join(f"{name}={_cell(each)}" for name, each in value.items())
    if isinstance(value, list):
        return "; ".join(map(_cell, value)) or "''"
    return str(value).removesuffix(" 00:00:00") if isinstance(value, datetime) else "''" if value == "" else str(value)


@dataclass
class _Watched:
    """Listens to the engine of a store: what it is asked for and handed, as statements, and which relations that makes."""

    store: brenvik.Store
    statements: list[str] = field(default_factory=list)
    _made: dict[str, str] = field(default_factory=dict)
    _inside: bool = False

    def __enter__(self) -> _Watched:
        engine: Any = self.store.engine
        for name in ("make", "stage", "ask", "rows", "apply", "change_table", "record"):
            setattr(engine, name, self._listening(getattr(engine, name), getattr(self, f"_on_{name}")))
        return self

    def __exit__(self, *error: object) -> None:
        for name in ("make", "stage", "ask", "rows", "apply", "change_table", "record"):
            delattr(self.store.engine, name)

    def _listening(self, call: Callable[..., Any], told: Callable[..., None]) -> Callable[..., Any]:
        def listening(*words: Any, **more: Any) -> Any:
            if not self._inside:  # one call may go by way of another
                told(*words, **more)
            before, self._inside = self._inside, True
            try:
                return call(*words, **more)
            finally:
                self._inside = before

        return listening

    def _on_make(self, relation: str, query: str, values: Any, *, work: str, view: bool = False, **more: Any) -> None:
        self._made[relation] = f'"{work}{relation}"'
        self._tell(f'CREATE TEMP {"VIEW" if view else "TABLE"} "brenvik_work_{relation}" AS\n{query.strip()}')

    def _on_stage(self, rows: Any, staging: Any, values: Any, *, work: str) -> None:
        into = staging.kept_as if staging.through else staging.into
        self._made[into] = f'"{work}{into}"'
        text = f'CREATE TEMP TABLE "brenvik_work_{into}" AS -- in DuckDB, as the rows come\n{staging.question.strip()}'
        if staging.through:
            text += f"\n-- and of that\n{staging.through.strip()}"
        self._tell(text)

    def _on_ask(self, text: str, *words: Any, **more: Any) -> None:
        self._tell(text)

    _on_rows = _on_ask

    def _on_apply(self, change: Any, *words: Any, **more: Any) -> None:
        self._tell(row_statement(change))

    def _on_change_table(self, change: Any) -> None:
        for statement in table_statements(change):
            self._tell(statement)

    def _on_record(self, entry: Any, *words: Any, **more: Any) -> None:
        self._tell(entry_statement(entry)[0])

    def _tell(self, text: str) -> None:
        if "brenvik_work_" in text or '"buoy"' in text.replace("'buoy'", ""):
            self.statements.append(re.sub(_PREFIX, "brenvik_work_beside_", f"{text.strip()};\n"))

    def made(self) -> Iterator[tuple[str, str]]:
        """The working relations that are still there, as they are called and found, in the order in which they were made."""
        there = self.store.engine.ask("SELECT table_name FROM information_schema.tables").column(0).to_pylist()
        for relation, quoted in self._made.items():
            if quoted.strip('"') in there:
                yield relation, quoted


@contextmanager
def _clock(time: datetime) -> Iterator[None]:
    """The clock stands still."""
    clock = brenvik.ledger.entries.now
    places: list[Any] = [
        m for name, m in sys.modules.items() if name.startswith("brenvik") and vars(m).get("now") is clock
    ]
    for module in places:
        module.now = lambda: time
    try:
        yield
    finally:
        for module in places:
            module.now = clock
