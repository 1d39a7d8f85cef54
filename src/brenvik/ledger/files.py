"""Loaded files in the ledger."""

from __future__ import annotations

import itertools
from collections.abc import Collection, Iterator, Sequence
from typing import Any

from brenvik.ledger.entries import Entries, H
from brenvik.ledger.records import LoadedFile, NewRows, Run
from brenvik.ledger.schema import place

_AT_ONCE = 200


def _chunks(items: Sequence[Any], *, padded: bool = False) -> Iterator[Sequence[Any]]:
    """Chunks of at most ``_AT_ONCE`` items. ``padded`` repeats the last item up to one of two lengths, so that a query over them
    has one of two texts, which stores parse only once."""
    for start in range(0, len(items), _AT_ONCE):
        part = items[start : start + _AT_ONCE]
        missing = (_AT_ONCE if len(part) > 4 else 4) - len(part)
        yield [*part, *[part[-1]] * missing] if padded else part


class Files(Entries[H]):
    """Loaded files."""

    def loaded_files(self, table: str, feed: str, names: Sequence[str] | None = None) -> dict[str, LoadedFile]:
        """The files that a feed has loaded, by name, each as of its last load; all, or some by name."""
        if not self.exists():
            return {}
        question = (
            f"SELECT file, size, modified_ns, digest, number, run FROM {place('loaded_files')} "
            "WHERE table_name = :table_name AND feed = :feed"
        )
        values: dict[str, Any] = {"table_name": table, "feed": feed}
        found: dict[str, LoadedFile] = {}
        for part in [None] if names is None else _chunks(names, padded=True):
            these = "" if part is None else f" AND file IN ({', '.join(f':file_{n}' for n in range(len(part)))})"
            asked = values | {f"file_{n}": name for n, name in enumerate(part or ())}
            rows = self._rows(f"{question}{these} ORDER BY run", asked)
            found |= {row["file"]: LoadedFile(**row) for row in rows}
        return found

    def loaded_any_file(self, table: str, feed: str) -> bool:
        """Whether a feed has ever loaded a file."""
        return bool(
            self.exists()
            and self._rows(
                f"SELECT 1 AS one FROM {place('loaded_files')} WHERE table_name = :table_name AND feed = :feed LIMIT 1",
                {"table_name": table, "feed": feed},
            )
        )

    def enter_files(self, run: Run, files: Sequence[LoadedFile]) -> None:
        """Records the files that a run loads, many with one statement."""
        of_run = {"table_name": run.table, "feed": run.feed, "run": run.number, "loaded_at": run.started_at}
        names = ("file", "size", "modified_ns", "digest", "number")
        for part in _chunks(files):
            rows = [of_run | {name: getattr(file, name) for name in names} for file in part]
            self.engine.record(NewRows("loaded_files", rows))

    def files_of(self, table: str, runs: Collection[int]) -> list[tuple[int, int, str]]:
        """The files that some runs of a table loaded: the run, the number of the file in it (from 1), its name."""
        found = self._rows(
            f"SELECT run, file FROM {place('loaded_files')} WHERE table_name = :table_name AND run BETWEEN :low AND :high "
            "ORDER BY run, number",
            {"table_name": table, "low": min(runs), "high": max(runs)},
        )
        of_runs = itertools.groupby((row for row in found if row["run"] in runs), key=lambda row: row["run"])
        return [(run, number, row["file"]) for run, rows in of_runs for number, row in enumerate(rows, 1)]
