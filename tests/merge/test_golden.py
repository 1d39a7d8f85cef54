"""The golden cases: stories that a practitioner can read, see golden/README.md."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import brenvik
from counts import STORES

CASES = sorted((Path(__file__).parent / "golden").glob("*.txt"))
WHOLE = ("duckdb", "postgres")
ELSEWHERE = ("delete_and_return", "late_change_splits_a_version", "type_0_keeps_the_first")
"""All stories are told in two kinds of stores, these in every kind: it runs the same statements, as the stage fixtures show."""
NUMBERS, DATES = {"at", "entry"}, {"day"}
TRIM = "trim everything older than "


def cells(line: str) -> list[str]:
    return [cell.strip() for cell in line.split("|")]


def value(column: str, text: str) -> Any:
    if text == "-":
        return None
    if text == "''":
        return ""
    if column in DATES:
        return date.fromisoformat(text)
    return int(text) if column in NUMBERS else text


def declared(line: str) -> brenvik.TableRules:
    given = {
        name: [part.strip() for part in parts.split(",")] for name, _, parts in (c.partition(":") for c in cells(line))
    }
    return brenvik.TableRules(
        "buoy",
        natural_key=given.get("key", ()),
        order_by=given.get("order", ()),
        effective_at=given.get("effective", [None])[0],
        type_0=given.get("type_0", ()),
        type_1=given.get("type_1", ()),
        type_2=given.get("type_2", ()),
        type_3=dict(pair.split("=") for pair in given.get("type_3", ())),
        not_compared=given.get("not_compared", ()),
        deletes=given.get("deletes", ["close"])[0],
        ties=given.get("ties", ["latest_arrival"])[0],
        ignored_differences={
            name: words.split("+") for name, words in (each.split("=") for each in given.get("ignored", ()))
        },
        natural_key_form=given.get("key_form", ()),  # type: ignore[arg-type]
        type_0_changes=given.get("type_0_changes", ["protect"])[0],
        stamps={"note": dict(each.split("=", 1) for each in given["note"])} if "note" in given else {},
        exact_duplicates=given.get("duplicates", ["keep"])[0],
        **({"other_columns": "type_1", "max_deletes": None} if "key" in given else {}),
    )


TOLD = [(path, kind) for path in CASES for kind in STORES if kind in WHOLE or path.stem in ELSEWHERE]


@pytest.mark.parametrize(("path", "address"), TOLD, ids=lambda part: getattr(part, "stem", part), indirect=["address"])
def test_golden(path: Path, anywhere: brenvik.Store) -> None:
    story, batches, expected = path.read_text(encoding="utf-8").split("\n\n")
    rules = declared(story.splitlines()[1])
    header: list[str] = []
    for batch in batches.split("---\n"):
        if batch.startswith(TRIM):
            anywhere.trim(rules, keep=batch.removeprefix(TRIM).strip())
            continue
        lines = [cells(line) for line in batch.splitlines()]
        if lines[0][-1] == "decision":
            header, *lines = lines
        columns = header[:-1]
        rows = [dict(zip(header, line, strict=True)) for line in lines]
        data = {name: [value(name, row[name]) for row in rows] for name in columns}
        types = {name: pa.int64() if name in NUMBERS else pa.string() for name in columns}
        types |= {name: pa.date32() for name in columns if name in DATES}
        frame = pa.table({name: pa.array(data[name], types[name]) for name in columns})
        how = {"kind": "append"} if rules.appends else {"kind": "changes", "operation": "op"}
        outcome = anywhere.load(rules, frame, **how)
        assert outcome.decisions()["decision"].to_pylist() == [row["decision"] for row in rows]
    head, *lines = [cells(line) for line in expected.strip().splitlines()]
    stored = anywhere.read(rules).to_pylist()
    shown = [{name: _shown(row[name]) for name in head} for row in stored]
    assert shown == [dict(zip(head, line, strict=True)) for line in lines]


def _shown(cell: Any) -> str:
    if cell is None:
        return "-"
    if isinstance(cell, bool):
        return "yes" if cell else "no"
    return "''" if cell == "" else str(cell)
