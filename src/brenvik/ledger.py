"""The ledger: what Brenvik remembers beside the data, and the questions it answers."""

from __future__ import annotations

import itertools
import json
import logging
import math
import os
import socket
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from brenvik import __version__
from brenvik.core import sql
from brenvik.core.blueprint import Blueprint, Column
from brenvik.core.windows import Mark, Window, parse_mark
from brenvik.errors import BrenvikError, DeclarationError, LayoutError, Refused
from brenvik.ledger_entries import Extract, FeedMemory, Run, TableState, TakenFile, Watermark
from brenvik.ledger_tables import DECISIONS, LAYOUT, LOADS, ROW_COUNTS, SCHEMA, TABLES, VIEWS, make_table, place
from brenvik.rules import TableRules
from brenvik.types import parse_type

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.stores.base import Engine

_log = logging.getLogger("brenvik")
_log.addHandler(logging.NullHandler())  # a library does not print its records unasked


def now() -> datetime:
    """The clock, in UTC and without a zone, as the ledger writes it."""
    return datetime.now(UTC).replace(tzinfo=None)


def _other_than(runs: Iterable[int]) -> str:
    numbers = ", ".join(str(int(run)) for run in runs)
    return f" AND r.run NOT IN ({numbers})" if numbers else ""


def _text(mark: Mark | None) -> str | None:
    return None if mark is None else str(mark)


_AT_ONCE = 200


def _chunks(items: Sequence[Any], *, padded: bool = False) -> Iterator[Sequence[Any]]:
    """Parts of at most ``_AT_ONCE`` items; ``padded`` with the last one to one of two lengths, so that a question about them is
    one of two texts, which stores need to read only once."""
    for start in range(0, len(items), _AT_ONCE):
        part = items[start : start + _AT_ONCE]
        missing = (_AT_ONCE if len(part) > 4 else 4) - len(part)
        yield [*part, *[part[-1]] * missing] if padded else part


class Ledger:
    """The questions and entries of one store's ledger. Entries are made inside the caller's transactions."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self._exists = False

    def exists(self) -> bool:
        """Whether this store has a ledger. Raises LayoutError when another layout wrote it."""
        self._exists = self._exists or self._look()
        return self._exists

    def _look(self) -> bool:
        if not self.engine.has_table(f"{SCHEMA}.layout"):
            return False
        found = self.engine.rows(f"SELECT layout FROM {place('layout')}")
        if len(found) != 1:
            raise LayoutError(
                f"The ledger in {self.engine.address} is damaged: {SCHEMA}.layout has {len(found)} rows, expected 1. Nothing was "
                "written; restore the store from a backup."
            )
        layout = found[0]["layout"]
        if layout != LAYOUT:
            older = "an older" if layout < LAYOUT else "a newer"
            raise LayoutError(
                f"The ledger in {self.engine.address} has layout {layout}, {older} one than {LAYOUT}, which Brenvik "
                f"{__version__} writes. Use the version of Brenvik that wrote it."
            )
        return True

    def prepare(self) -> None:
        """Makes the ledger's tables where they are missing."""
        if self.exists():
            return
        with self.engine.hold(f"{SCHEMA}.layout", wait_s=60.0), self.engine.transaction():
            if self.exists():  # somebody else was quicker
                return
            self.engine.make_schema(SCHEMA)
            for name in TABLES:
                self.engine.run(make_table(name))
            self.engine.index(f"{SCHEMA}.runs", ("table_name", "state", "run", "kind"))
            for name, text in VIEWS.items():
                self.engine.run(f"CREATE VIEW {place(name)} AS {text}")
            self._insert("layout", {"layout": LAYOUT, "written_by": __version__, "since": now(), "last_run": 0})

    def start_run(
        self,
        rules: TableRules,
        *,
        feed: str,
        kind: str,
        source: str,
        window: Window | None = None,
        seen: Mapping[str, int] | None = None,
        label: str | None = None,
        reason: str | None = None,
        extract_scope: str | None = None,
    ) -> tuple[Run, int]:
        """Enters a run as ``running`` in a transaction of its own.

        The caller holds the table, so nobody works on other runs of it that are ``running`` still: they become ``lost``.
        Returns the run and how many were lost.
        """
        with self.engine.hold(f"{SCHEMA}.runs", wait_s=60.0), self.engine.transaction():
            (found,) = self.engine.rows(
                f"SELECT (SELECT COALESCE(max(run), 0) FROM {place('runs')}) AS run, "
                f"(SELECT max(last_run) FROM {place('layout')}) AS last_run, "
                f"(SELECT count(*) FROM {place('runs')} WHERE table_name = :table_name AND state = 'running') AS lost",
                {"table_name": rules.table},
            )
            if lost := int(found["lost"]):
                self.engine.run(
                    f"UPDATE {place('runs')} SET state = 'lost', message = 'the process ended before the run did' "
                    "WHERE table_name = :table_name AND state = 'running'",
                    {"table_name": rules.table},
                )
            run = Run(max(found["run"], found["last_run"]) + 1, rules.table, feed, kind, source, now())
            self.engine.run(f"UPDATE {place('layout')} SET last_run = :run", {"run": run.number})
            self._insert(
                "runs",
                {
                    "run": run.number,
                    "table_name": run.table,
                    "feed": feed,
                    "kind": kind,
                    "state": "running",
                    "source": source,
                    "started_at": run.started_at,
                    "host": socket.gethostname(),
                    "pid": os.getpid(),
                    "version": __version__,
                    "rules": json.dumps(rules._for_ledger(), default=str),
                    "label": label,
                    "reason": reason,
                    "extract_scope": extract_scope,
                    "window_low": _text(window.low) if window else None,
                    "window_high": _text(window.high) if window else None,
                    **(seen or {}),
                },
            )
        return run, lost

    def end_run(
        self, run: Run, state: str, counts: Mapping[str, int], message: str = "", **others: str | int | None
    ) -> None:
        """Enters how a run ended, and other columns of it; for ``done`` in the transaction of the data.

        What breaks off after that transaction does not undo it: a run that is done stays so."""
        columns = ("read", "derived", *DECISIONS, *ROW_COUNTS)
        values: dict[str, Any] = {name: counts[name] for name in columns if name in counts}
        values |= {"state": state, "ended_at": now(), "message": message or None, **others}
        given = ", ".join(f"{sql.quote(name)} = :{name}" for name in values)
        self.engine.run(
            f"UPDATE {place('runs')} SET {given} WHERE run = :run AND state = 'running'", {**values, "run": run.number}
        )

    def loads_taken(self, table: str, *, without: Iterable[int]) -> tuple[int, int]:
        """How many extracts a table has taken, and how many other loads; without some runs, which are withdrawn."""
        found = self.engine.rows(
            f"SELECT r.kind, count(*) AS n FROM {place('runs')} r WHERE r.table_name = :table_name AND r.state = 'done' "
            f"AND r.kind IN {LOADS!r}{_other_than(without)} GROUP BY r.kind",
            {"table_name": table},
        )
        kinds = {row["kind"]: row["n"] for row in found}
        extracts = kinds.pop("extract", 0)
        return extracts, sum(kinds.values())

    def newest_extract(self, table: str, feed: str, *, without: Iterable[int]) -> tuple[int, str] | None:
        """The run and the time of the newest extract that a feed has taken; without some runs, which are withdrawn."""
        found = self.engine.rows(
            f"SELECT r.run, r.window_high FROM {place('runs')} r WHERE r.table_name = :table_name AND r.feed = :feed "
            f"AND r.state = 'done' AND r.kind = 'extract'{_other_than(without)} ORDER BY r.run DESC LIMIT 1",
            {"table_name": table, "feed": feed},
        )
        return (found[0]["run"], found[0]["window_high"]) if found else None

    def extracts(self, table: str) -> dict[int, Extract]:
        """All extracts that were taken into a table, by their runs."""
        found = self.engine.rows(
            f"SELECT run, feed, window_high, extract_scope, extract_shape FROM {place('runs')} "
            "WHERE table_name = :table_name AND kind = 'extract' AND state = 'done' ORDER BY run",
            {"table_name": table},
        )
        return {
            row["run"]: Extract(row["feed"], row["window_high"], row["extract_scope"], row["extract_shape"])
            for row in found
        }

    def enter_failure(self, run: Run, error: BaseException) -> None:
        """Says how a run failed. The transaction of the data is undone already."""
        state = "refused" if isinstance(error, Refused) else "failed"
        message = str(error) if isinstance(error, BrenvikError) else type(error).__name__
        _log.error("%s: %s", state, message, extra=run.about())
        try:
            with self.engine.transaction():
                self.end_run(run, state, getattr(error, "counts", {}), message)
        except BrenvikError as second:  # the store is gone: the first error is the one to tell
            error.add_note(f"The run could not be entered as {state} either: {second}")

    def runs_of(self, table: str) -> list[int]:
        """The numbers of all runs of a table."""
        found = self.engine.rows(
            f"SELECT run FROM {place('runs')} WHERE table_name = :table_name", {"table_name": table}
        )
        return [int(row["run"]) for row in found]

    def runs(self, table: str | None = None, *, last: int | None = None) -> pa.Table:
        """Runs, the newest first."""
        where = "WHERE table_name = :table_name" if table else ""
        limit = f"LIMIT {last:d}" if last else ""
        return self.engine.ask(
            f"SELECT {sql.columns(TABLES['runs'])} FROM {place('runs')} {where} ORDER BY run DESC {limit}",
            {"table_name": table},
        )

    def run(self, number: int) -> dict[str, Any] | None:
        """One run, as ``runs`` has it; None when there is none of that number."""
        if not self.exists():
            return None
        found = self.engine.rows(
            f"SELECT {sql.columns(TABLES['runs'])} FROM {place('runs')} WHERE run = :run", {"run": number}
        )
        return next(iter(found), None)

    def files_of(self, table: str, runs: Collection[int]) -> list[tuple[int, int, str]]:
        """The files that some runs of a table took: the run, the number of the file in it (from 1), its name."""
        found = self.engine.rows(
            f"SELECT run, file FROM {place('taken_files')} WHERE table_name = :table_name AND run BETWEEN :low AND :high "
            "ORDER BY run, number",
            {"table_name": table, "low": min(runs), "high": max(runs)},
        )
        of_runs = itertools.groupby((row for row in found if row["run"] in runs), key=lambda row: row["run"])
        return [(run, number, row["file"]) for run, rows in of_runs for number, row in enumerate(rows, 1)]

    def starts_of(self, table: str, runs: Collection[int]) -> dict[int, datetime]:
        """When some runs of a table began (UTC)."""
        found = self.engine.rows(
            f"SELECT run, started_at FROM {place('runs')} WHERE table_name = :table_name AND run BETWEEN :low AND :high",
            {"table_name": table, "low": min(runs), "high": max(runs)},
        )
        return {row["run"]: row["started_at"] for row in found if row["run"] in runs}

    def progress(self) -> dict[tuple[str, str], dict[str, Any]]:
        """How far each feed is that ever took something, by table and feed, as the view ``feed_progress`` says it."""
        rows = self.engine.rows(f"SELECT * FROM {place('feed_progress')}") if self.exists() else []
        return {(row["table_name"], row["feed"]): row for row in rows}

    def status(self) -> dict[str, dict[str, Any]]:
        """How each table is that was ever loaded, by its name, as the view ``table_status`` says it."""
        rows = self.engine.rows(f"SELECT * FROM {place('table_status')}") if self.exists() else []
        return {row["table_name"]: row for row in rows}

    def state(self, table: str) -> TableState | None:
        """What is known of a table; None when Brenvik never made it."""
        found = self.engine.rows(
            "SELECT t.columns, t.rules, t.high_order, t.high_effective, t.last_key, t.row_count, t.living, s.shape, "
            f"s.columns AS carried FROM {place('tables')} t LEFT JOIN {place('shapes')} s ON s.table_name = t.table_name "
            "WHERE t.table_name = :table_name",
            {"table_name": table},
        )
        if not found:
            return None
        row = found[0]
        drawn = json.loads(row["columns"])
        return TableState(
            columns=tuple(Column(name, parse_type(kind), role) for name, kind, role in drawn["columns"]),
            effective_type=parse_type(drawn["effective_type"]),
            rules=json.loads(row["rules"]),
            high_order=tuple(json.loads(row["high_order"])) if row["high_order"] else None,
            high_effective=row["high_effective"],
            last_key=row["last_key"],
            row_count=row["row_count"],
            living=row["living"],
            shapes={each["shape"]: tuple(json.loads(each["carried"])) for each in found if each["carried"]},
            numbered_by_store=drawn.get("numbered_by_store", False),
        )

    def owner_of(self, stored_as: str) -> str | None:
        """The table whose rows are stored under a name; None where it is nobody's."""
        traits = self.engine.traits

        def told(name: str) -> str:
            return (name if traits.cased else name.casefold()).removeprefix(f"{traits.home}.")

        found = self.engine.rows(f"SELECT table_name, rules FROM {place('tables')}") if self.exists() else []
        names = {told(json.loads(row["rules"])["table_name"]): str(row["table_name"]) for row in found}
        return names.get(told(stored_as))

    def set_state(
        self,
        blueprint: Blueprint,
        rules: TableRules,
        *,
        high_order: Sequence[str] | None,
        high_effective: str | None,
        last_key: int,
        row_count: int,
        living: int,
        first_run: int | None,
    ) -> None:
        """Enters what is known of a table from now on; ``first_run`` where nothing was known before."""
        values = {
            "table_name": rules.table,
            "columns": json.dumps(blueprint.as_plain()),
            "rules": json.dumps(rules._for_ledger(), default=str),
            "high_order": json.dumps(high_order) if high_order else None,
            "high_effective": high_effective,
            "last_key": last_key,
            "row_count": row_count,
            "living": living,
        }
        if first_run is not None:
            self._insert("tables", {**values, "first_run": first_run})
            return
        given = ", ".join(f"{sql.quote(name)} = :{name}" for name in values if name != "table_name")
        self.engine.run(f"UPDATE {place('tables')} SET {given} WHERE table_name = :table_name", values)

    def add_shapes(self, table: str, shapes: Mapping[int, Sequence[str]]) -> None:
        """Enters which columns changes carry that no change of the table carried before, by the number of the shape."""
        for shape, columns in shapes.items():
            self._insert("shapes", {"table_name": table, "shape": shape, "columns": json.dumps(list(columns))})

    def withdrawn(self, table: str, *, known_at: int | None = None) -> dict[int, int]:
        """The runs of a table that are withdrawn, each with the run that did it; as it was after the run ``known_at``."""
        if not self.exists():
            return {}
        found = self.engine.rows(
            f"SELECT run, by_run, put_back_by FROM {place('withdrawals')} WHERE table_name = :table_name ORDER BY by_run",
            {"table_name": table},
        )
        until = math.inf if known_at is None else known_at
        return {
            row["run"]: row["by_run"]
            for row in found
            if row["by_run"] <= until and (row["put_back_by"] is None or row["put_back_by"] > until)
        }

    def withdraw(self, run: Run, targets: Iterable[int], reason: str | None) -> None:
        """Enters that runs are withdrawn, in the transaction that takes their changes out of the table; rejects that they took
        again are open again."""
        for target in targets:
            self._insert(
                "withdrawals", {"table_name": run.table, "run": target, "by_run": run.number, "reason": reason}
            )
            self._set_rejects(run.table, target, "retaken", "open")

    def put_back(self, run: Run, targets: Iterable[int]) -> None:
        for target in targets:
            self.engine.run(
                f"UPDATE {place('withdrawals')} SET put_back_by = :by_run "
                "WHERE table_name = :table_name AND run = :run AND put_back_by IS NULL",
                {"table_name": run.table, "run": target, "by_run": run.number},
            )
            self._set_rejects(run.table, target, "open", "retaken")

    def _set_rejects(self, table: str, decided_by: int, before: str, state: str) -> None:
        self.engine.run(
            f"UPDATE {place('rejects')} SET state = :state "
            "WHERE table_name = :table_name AND decided_by = :run AND state = :before",
            {"state": state, "before": before, "table_name": table, "run": decided_by},
        )

    def last_hold(self, table: str) -> int:
        """The highest number of a table's held deletes; they are numbered by table, under its hold."""
        found = self.engine.rows(
            f"SELECT COALESCE(max(hold), 0) AS hold FROM {place('held_deletes')} WHERE table_name = :table_name",
            {"table_name": table},
        )
        return int(found[0]["hold"])

    def decide_holds(self, run: Run, holds: Iterable[int], state: str) -> None:
        """Enters what became of held deletes: ``released``, ``dropped`` or ``lapsed``."""
        numbers = ", ".join(str(int(hold)) for hold in holds)
        if numbers:
            self.engine.run(
                f"UPDATE {place('held_deletes')} SET state = :state, decided_by = :run "
                f"WHERE table_name = :table_name AND hold IN ({numbers})",
                {"state": state, "run": run.number, "table_name": run.table},
            )

    def fold(self, run: Run, changes: Mapping[int, int]) -> None:
        """Enters how many changes of a run were duplicates of those of which earlier runs."""
        for of_run, count in changes.items():
            self._insert("folded", {"table_name": run.table, "run": run.number, "of_run": of_run, "changes": count})

    def folded(self, table: str, of_runs: Sequence[int]) -> dict[int, int]:
        """How many changes of these runs came again, by the later run that folded them."""
        found = self.engine.rows(
            f"SELECT run, of_run, changes FROM {place('folded')} WHERE table_name = :table_name ORDER BY run",
            {"table_name": table},
        )
        counts: dict[int, int] = {}
        for row in found:
            if row["of_run"] in of_runs and row["run"] not in of_runs:
                counts[row["run"]] = counts.get(row["run"], 0) + row["changes"]
        return counts

    def memory(self, table: str, feed: str) -> FeedMemory:
        return FeedMemory(self, table, feed)

    def taken_files(self, table: str, feed: str, names: Sequence[str] | None = None) -> dict[str, TakenFile]:
        """The files a feed has taken, by name, each as it was when it was taken last; of all, or of some names."""
        if not self.exists():
            return {}
        question = (
            f"SELECT file, size, modified_ns, digest, number, run FROM {place('taken_files')} "
            "WHERE table_name = :table_name AND feed = :feed"
        )
        values: dict[str, Any] = {"table_name": table, "feed": feed}
        found: dict[str, TakenFile] = {}
        for part in [None] if names is None else _chunks(names, padded=True):
            these = "" if part is None else f" AND file IN ({', '.join(f':file_{n}' for n in range(len(part)))})"
            asked = values | {f"file_{n}": name for n, name in enumerate(part or ())}
            rows = self.engine.rows(f"{question}{these} ORDER BY run", asked)
            found |= {row["file"]: TakenFile(**row) for row in rows}
        return found

    def took_any_file(self, table: str, feed: str) -> bool:
        """Whether a feed has ever taken a file."""
        return bool(
            self.exists()
            and self.engine.rows(
                f"SELECT 1 AS one FROM {place('taken_files')} WHERE table_name = :table_name AND feed = :feed LIMIT 1",
                {"table_name": table, "feed": feed},
            )
        )

    def take_files(self, run: Run, files: Sequence[TakenFile]) -> None:
        """Enters files that a run takes, many with one statement."""
        for part in _chunks(files):
            values: dict[str, Any] = {
                "table_name": run.table,
                "feed": run.feed,
                "run": run.number,
                "taken_at": run.started_at,
            }
            rows = []
            for n, file in enumerate(part):
                own = {name: getattr(file, name) for name in ("file", "size", "modified_ns", "digest", "number")}
                values |= {f"{name}_{n}": value for name, value in own.items()}
                marks = (f":{name}_{n}" if name in own else f":{name}" for name in TABLES["taken_files"])
                rows.append(f"({', '.join(marks)})")
            self.engine.run(
                f"INSERT INTO {place('taken_files')} ({sql.columns(TABLES['taken_files'])}) VALUES {', '.join(rows)}",
                values,
            )

    def watermark(self, table: str, feed: str) -> Watermark | None:
        """How far a feed is; None when it never took anything."""
        if not self.exists():
            return None
        found = self.engine.rows(
            f"SELECT kind, watermark, run, moved_at FROM {place('watermarks')} "
            "WHERE table_name = :table_name AND feed = :feed",
            {"table_name": table, "feed": feed},
        )
        return next(
            (Watermark(r["kind"], parse_mark(r["watermark"], r["kind"]), r["run"], r["moved_at"]) for r in found), None
        )

    def set_watermark(self, run: Run, kind: str, mark: Mark) -> None:
        """Moves a feed's watermark, in the transaction of the data that was taken up to it."""
        values = {
            "table_name": run.table,
            "feed": run.feed,
            "kind": kind,
            "watermark": str(mark),
            "run": run.number,
            "moved_at": run.started_at,
        }
        moved = self.engine.run(
            f"UPDATE {place('watermarks')} SET kind = :kind, watermark = :watermark, run = :run, moved_at = :moved_at "
            "WHERE table_name = :table_name AND feed = :feed",
            values,
        )
        if not moved:
            self._insert("watermarks", values)

    def rejects(self, table: str | None = None, *, run: int | None = None, state: str | None = "open") -> pa.Table:
        """Rejected rows by table, the oldest first."""
        tests = {"table_name": table, "run": run, "state": state}
        where = " AND ".join(f"{name} = :{name}" for name, value in tests.items() if value is not None) or "1 = 1"
        return self.engine.ask(
            f"SELECT {sql.columns(TABLES['rejects'])} FROM {place('rejects')} WHERE {where} ORDER BY table_name, reject",
            tests,
        )

    def last_reject(self, table: str) -> int:
        """The highest number of a table's rejects; they are numbered by table, under its hold."""
        found = self.engine.rows(
            f"SELECT COALESCE(max(reject), 0) AS reject FROM {place('rejects')} WHERE table_name = :table_name",
            {"table_name": table},
        )
        return int(found[0]["reject"])

    def decide_rejects(self, run: Run, rejects: Iterable[int], state: str) -> None:
        """Enters what became of open rejects: ``retaken`` or ``dropped``. Raises DeclarationError when one is not open."""
        numbers = [str(int(reject)) for reject in rejects]
        if not numbers:
            return
        decided = self.engine.run(
            f"UPDATE {place('rejects')} SET state = :state, decided_by = :run "
            f"WHERE table_name = :table_name AND state = 'open' AND reject IN ({', '.join(numbers)})",
            {"state": state, "run": run.number, "table_name": run.table},
        )
        if decided != len(numbers):
            raise DeclarationError(
                f"Of {len(numbers):,} rejects of table {run.table!r}, {len(numbers) - decided:,} are not open any more: "
                "brenvik rejects"
            )

    def place_rejects(self, run: Run) -> None:
        """Of a run that took rejects again, in their order: what it refused stands where it stood at first."""
        self.engine.run(
            f"UPDATE {place('rejects')} SET file = m.file, line = m.line FROM ("
            f"SELECT o.file, o.line, row_number() OVER (ORDER BY o.reject) AS nth FROM {place('rejects')} o "
            "WHERE o.table_name = :table_name AND o.decided_by = :run) m "
            f"WHERE {place('rejects')}.table_name = :table_name AND {place('rejects')}.run = :run "
            f"AND {place('rejects')}.line = m.nth",
            {"table_name": run.table, "run": run.number},
        )

    def _insert(self, table: str, values: Mapping[str, Any]) -> None:
        marks = ", ".join(f":{name}" for name in values)
        self.engine.run(f"INSERT INTO {place(table)} ({sql.columns(values)}) VALUES ({marks})", values)
