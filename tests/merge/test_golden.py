"""The golden cases: stories that a practitioner can read, see golden/README.md."""

from __future__ import annotations

from datetime import date, datetime
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
NUMBERS = {"at", "entry"}
TIMES = {"day": date, "moment": datetime}
STAYS_AWAY = "(absent)"
"""In a cell of a key that an extract does not have."""


def cells(line: str) -> list[str]:
    return [cell.strip() for cell in line.split("|")]


def value(column: str, text: str) -> Any:
    if text == "-":
        return None
    if text == "''":
        return ""
    if column in TIMES:
        return TIMES[column].fromisoformat(text)
    return int(text) if column in NUMBERS else text


def given(line: str) -> dict[str, list[str]]:
    """The rules in a line, by name."""
    pairs = (cell.partition(":") for cell in cells(line))
    return {name: [part.strip() for part in parts.split(",")] for name, _, parts in pairs}


def declared(rules: dict[str, list[str]]) -> brenvik.TableRules:
    def one(name: str, default: str | None = None) -> Any:
        return rules.get(name, [default])[0]

    def pairs(name: str) -> dict[str, str]:
        return dict(pair.split("=", 1) for pair in rules.get(name, ()))  # type: ignore[misc]

    return brenvik.TableRules(
        "buoy",
        natural_key=rules.get("key", ()),
        order_by=rules.get("order", ()),
        effective_at=one("effective"),
        time_precision=one("precision"),
        type_0=rules.get("type_0", ()),
        type_1=rules.get("type_1", ()),
        type_2=rules.get("type_2", ()),
        type_3=pairs("type_3"),
        not_compared=rules.get("not_compared", ()),
        derive=pairs("derive"),
        types=pairs("types"),
        renamed=pairs("renamed"),
        new_columns=one("new_columns", "add"),
        deletes=one("deletes", "close"),
        ties=one("ties", "latest_arrival"),
        ignored_differences={name: words.split("+") for name, words in pairs("ignored").items()},
        natural_key_form=rules.get("key_form", ()),  # type: ignore[arg-type]
        type_0_changes=one("type_0_changes", "protect"),
        surrogate_key=one("surrogate_key", "counter"),
        stamps={"note": pairs("note")} if "note" in rules else {},
        exact_duplicates=one("duplicates", "keep"),
        **({"other_columns": "type_1", "max_deletes": None} if "key" in rules else {}),
    )


TOLD = [(path, kind) for path in CASES for kind in STORES if kind in WHOLE or path.stem in ELSEWHERE]


@pytest.mark.parametrize(("path", "address"), TOLD, ids=lambda part: getattr(part, "stem", part), indirect=["address"])
def test_golden(path: Path, anywhere: brenvik.Store) -> None:
    story, batches, expected = path.read_text(encoding="utf-8").split("\n\n")
    first = story.splitlines()[1]
    rules = declared(given(first))
    header: list[str] = []
    for batch in batches.split("---\n"):
        how: dict[str, Any] = {"kind": "append"} if rules.appends else {"kind": "changes", "operation": "op"}
        if batch.startswith("> "):
            line, _, batch = batch.removeprefix("> ").partition("\n")
            if line.startswith("new rules "):
                rules = declared(given(first) | given(line.partition("| ")[2]))
            how |= act(anywhere, rules, line)
        lines = [cells(line) for line in batch.splitlines()]
        if lines and lines[0][-1] == "decision":
            header, *lines = lines
        if lines:
            check(anywhere, rules, header, lines, how)
    head, *lines = [cells(line) for line in expected.strip().splitlines()]
    stored = anywhere.read(rules).to_pylist()
    shown = [{name: _shown(row[name]) for name in head} for row in stored]
    assert shown == [dict(zip(head, line, strict=True)) for line in lines]


def act(store: brenvik.Store, rules: brenvik.TableRules, what: str) -> dict[str, Any]:
    """Does what a line says; or returns how the rows after it are loaded."""
    words = what.split()
    match words[0]:
        case "trim":
            store.trim(rules, keep=" ".join(words[-2:]))
        case "erase":
            store.erase(rules, words[1], reason="told so")
        case "revert":
            store.revert(rules, int(words[-1]))
        case "rebuild":
            store.rebuild(rules)
        case "dated":
            return {"kind": "upserts", "operation": None, "at": words[1]}
        case "extract":
            return {"kind": "full_extract", "operation": None, "at": words[-1]}
        case other:
            assert other == "new", what
    return {}


def check(
    store: brenvik.Store, rules: brenvik.TableRules, header: list[str], lines: list[list[str]], how: dict[str, Any]
) -> None:
    """Loads some rows and compares the decisions; an extract does not tell of rows that are unchanged."""
    columns = header[:-1]
    rows = [dict(zip(header, line, strict=True)) for line in lines]
    sent = [row for row in rows if STAYS_AWAY not in row.values()]
    types = {name: pa.string() for name in columns} | {name: pa.int64() for name in NUMBERS & {*columns}}
    types |= {"day": pa.date32(), "moment": pa.timestamp("us")}
    data = {name: pa.array([value(name, row[name]) for row in sent], types[name]) for name in columns}
    decisions = store.load(rules, pa.table(data), **how).decisions().to_pylist()
    if how["kind"] != "full_extract":
        assert [row["decision"] for row in decisions] == [row["decision"] for row in rows]
        return
    told = {row["key"]["code"]: row["decision"] for row in decisions}
    assert told == {row["code"]: row["decision"] for row in rows if row["decision"] != "unchanged"}


def _shown(cell: Any) -> str:
    if cell is None:
        return "-"
    if isinstance(cell, bool):
        return "yes" if cell else "no"
    return "''" if cell == "" else str(cell)
