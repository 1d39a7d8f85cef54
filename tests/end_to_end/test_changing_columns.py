"""Columns that are renamed, appear, and become too short, from one day to the next."""

from __future__ import annotations

import re
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from cli import brenvik as call

import brenvik
from brenvik.errors import FeedError, RulesChanged, RulesError
from brenvik.model.rules import SYSTEM_COLUMNS
from scripts import execute, is_lakehouse
from servers import fresh_database

PROJECT = """
name = "Coast"
store = "{address}"

[table.visit]
natural_key = "visit_no"
order_by = "seen_at"
type_1 = ["crew"]
types = {{ visit_no = "integer", seen_at = "timestamp", crew = "{crew}" }}
{more}
[table.visit.feed.office]
kind = "upserts"
files = "in/*.csv"
"""
VISIT = brenvik.TableRules("visit", natural_key="visit_no", order_by="seen_at", type_1="crew")


def rows(store: brenvik.Store, rules: brenvik.TableRules, *names: str) -> list[tuple[Any, ...]]:
    found = store.read(rules).to_pylist()
    return sorted(tuple(row[name] for name in names) for row in found)


def test_three_days_without_a_lost_value(address: str, tmp_path: Path) -> None:
    def declare(crew: str, more: str = "") -> None:
        text = PROJECT.format(address=address, crew=crew, more=more)
        (tmp_path / "brenvik.toml").write_text(text)

    def arrives(day: int, text: str) -> None:
        (tmp_path / "in" / f"{day}.csv").write_text(text)

    (tmp_path / "in").mkdir()
    declare("text(8)")
    arrives(1, "visit_no,seen_at,severity,crew\n1,2024-05-13,high,Tarva\n2,2024-05-13,low,Tarva\n")
    assert call("load", cwd=tmp_path).code == 0

    arrives(2, "visit_no,seen_at,priority,crew\n1,2024-05-14,mid,Tarva\n")  # renamed overnight, and nobody was told
    assert "New column priority (text) is added as type 2." in call("load", cwd=tmp_path).out
    declare("text(8)", 'renamed = { severity = "priority" }')
    assert call("load", cwd=tmp_path).code == 0  # there is nothing new
    arrives(3, "visit_no,seen_at,priority,crew,depth\n2,2024-05-15,high,Tarva,12\n")  # a column more
    assert re.search(r"depth +text +from the feed", call("check", cwd=tmp_path).out)
    blocked = call("load", cwd=tmp_path)
    assert blocked.code == 4
    assert "severity and priority: the table has both; renamed merges them" in blocked.out
    assert "recompute the table (brenvik rebuild visit)" in blocked.out
    assert "severity and priority: the table has both" in call("check", cwd=tmp_path).out
    seen = call("rebuild", "visit", "--preview", cwd=tmp_path).out
    assert "Column severity is merged into priority." in seen
    assert "Column severity is merged into priority." in call("rebuild", "visit", cwd=tmp_path).out
    assert "New column depth (text) is added as type 2." in call("load", cwd=tmp_path).out

    arrives(
        4, "visit_no,seen_at,severity,crew,depth\n2,2024-05-16,low,Halvorsund west,12.5\n"
    )  # longer, and the old name
    assert call("load", cwd=tmp_path).code == 3
    assert 'types that would fit     visit: types = { crew = "text(15)" }' in call("rejects", cwd=tmp_path).out
    declare("text(40)", 'renamed = { severity = "priority" }')
    told = call("check", cwd=tmp_path).out
    assert "With the next load or rebuild: Column crew is changed from text(8) to text(40)." in told
    retried = call("rejects", "retry", "visit", cwd=tmp_path)
    assert "Column crew is changed from text(8) to text(40)." in retried.out
    assert "Column crew is changed from text(8) to text(40)." in call("runs", "--json", cwd=tmp_path).out

    rules = brenvik.read_project(tmp_path / "brenvik.toml").table("visit").rules
    with brenvik.open_store(address) as store:
        assert rows(store, rules, "visit_no", "valid_from", "priority", "depth", "crew") == [
            (1, day(13), "high", None, "Tarva"),
            (1, day(14), "mid", None, "Tarva"),
            (2, day(13), "low", None, "Halvorsund west"),
            (2, day(15), "high", "12", "Halvorsund west"),
            (2, day(16), "low", "12.5", "Halvorsund west"),
        ]
        assert "severity" not in store.read(rules).column_names
        done = store.rebuild(rules)
        assert [done.counts[name] for name in ("rows_added", "rows_updated", "rows_removed")] == [0, 0, 0]


def day(number: int) -> datetime:
    return datetime(2024, 5, number)


def frame(**columns: list[Any]) -> pa.Table:
    return pa.table({"visit_no": [1, 2], "seen_at": [day(13), day(13)], **columns})


def test_other_runs_wait_until_the_columns_have_changed(anywhere: brenvik.Store) -> None:
    anywhere.load(VISIT, frame(severity=["high", "low"], crew=["Tarva", "Tarva"]), kind="upserts")
    renamed = replace(VISIT, renamed={"severity": "priority"})
    for attempt in (lambda: anywhere.revert(renamed, 1), lambda: anywhere.history(renamed, 1, known_at=1)):
        with pytest.raises(RulesChanged, match="severity: was renamed to priority"):
            attempt()
    assert anywhere.rebuild(renamed, preview=True).notes == ["Column severity is renamed to priority."]
    assert anywhere.rebuild(renamed).notes == ["Column severity is renamed to priority."]
    assert anywhere.runs().to_pylist()[0]["message"] == "Column severity is renamed to priority."
    assert [row["priority"] for row in anywhere.history(renamed, 1, known_at=1).to_pylist()] == ["high"]
    anywhere.revert(renamed, 1)
    assert anywhere.read(renamed).num_rows == 0


def test_a_table_that_lost_its_rows_gets_its_columns_too(anywhere: brenvik.Store) -> None:
    anywhere.load(VISIT, frame(severity=["high", "low"], height=[1, 2], crew=["Tarva", "Tarva"]), kind="upserts")
    renamed = replace(VISIT, renamed={"severity": "priority"}, types={"height": "decimal(9,2)"})
    if is_lakehouse(anywhere):
        anywhere.engine._lake.catalog.drop_table(("main", "visit"))  # type: ignore[attr-defined]
    else:
        execute(anywhere, 'DROP TABLE "visit"')
    assert anywhere.rebuild(renamed).notes[0].startswith("visit was missing; it was recreated")
    assert rows(anywhere, renamed, "visit_no", "priority", "height") == [(1, "high", 1), (2, "low", 2)]


def test_both_names_at_once_are_an_error(anywhere: brenvik.Store) -> None:
    renamed = replace(VISIT, renamed={"severity": "priority"})
    with pytest.raises(FeedError, match="several columns for one of the table:\n  'severity' would be priority"):
        anywhere.load(renamed, frame(severity=["a", "b"], priority=["a", "b"]), kind="upserts")
    both = frame(severity=["a", "b"], priority=["c", "d"], crew=["Tarva", "Tarva"])
    anywhere.load(VISIT, both, kind="upserts")
    with pytest.raises(RulesChanged, match="severity and priority: the table has both"):
        anywhere.rebuild(renamed)


def test_the_part_of_an_extract_follows_a_renamed_column(anywhere: brenvik.Store) -> None:
    """A revert of an earlier run makes explicit which rows a later extract lacked: those of its part."""
    rules = brenvik.TableRules("berth", natural_key="berth_no", other_columns="type_1", max_deletes=None)
    whole = pa.table({"berth_no": [1, 2, 3], "side": ["north", "north", "south"]})
    anywhere.load(rules, whole, kind="full_extract", at="2024-05-13")
    north = "side = 'north'"
    one = pa.table({"berth_no": [1], "side": ["north"]})
    anywhere.load(rules, one, kind="full_extract", at="2024-05-14", extract_scope=north)
    renamed = replace(rules, renamed={"side": "bank"})
    anywhere.rebuild(renamed)
    anywhere.revert(renamed, 1)
    assert rows(anywhere, renamed, "berth_no", "bank") == [(1, "north")]


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({"renamed": {"crew": "team"}}, "crew: is a former name (team under renamed); use the new one"),
        ({"renamed": {"a": "b", "b": "c"}}, "renamed.a: expected a new name that is not a former name itself, got 'b'"),
        ({"renamed": {"a": "c", "b": "c"}}, "renamed: several columns would be named c"),
        ({"renamed": {"a": ""}}, "renamed.a: expected a new name"),
    ],
)
def test_names_that_cannot_be(given: dict[str, Any], said: str) -> None:
    with pytest.raises(RulesError, match=re.escape(said)):
        replace(VISIT, **given)


def test_a_short_column_of_an_adopted_table_becomes_longer() -> None:
    with fresh_database() as url, brenvik.open_store(url) as store:
        store.engine.run("CREATE TABLE visit (visit_no BIGINT NOT NULL, crew VARCHAR(8), side VARCHAR(5))")  # type: ignore[attr-defined]
        store.engine.run("INSERT INTO visit VALUES (1, 'Tarva', 'north')")  # type: ignore[attr-defined]
        none = dict.fromkeys(SYSTEM_COLUMNS, False)
        rules = brenvik.TableRules(
            "visit",
            natural_key="visit_no",
            type_1=("crew", "side"),
            other_columns="type_1",
            system_columns=none,
            deletes="remove",
        )
        store.adopt(rules)
        longer = replace(rules, types={"crew": "text(40)"})
        store.load(longer, pa.table({"visit_no": [2], "crew": ["Halvorsund west"], "side": ["south"]}), kind="upserts")
        assert rows(store, longer, "visit_no", "crew") == [(1, "Tarva"), (2, "Halvorsund west")]
        kinds = {column.name: column.type_name for column in store.engine.columns_of("visit")}
        assert (kinds["crew"], kinds["side"]) == ("text", "character varying(5)")


def test_a_column_keeps_its_id_in_a_lakehouse(tmp_path: Path) -> None:
    """So that readers find it in files that were written under its former name, or with fewer digits; the files stay."""
    rules = replace(VISIT, types={"fee": "decimal(9,2)"})
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        first = frame(fee=["1.50", None], height=[1, 2], crew=["Tarva", "Tarva"])
        store.load(rules, first, kind="upserts")
        table = store.engine._lake.catalog.load_table(("main", "visit"))  # type: ignore[attr-defined]
        before = {field.name: field.field_id for field in table.schema().fields}
        files = {task.file.file_path for task in table.scan().plan_files()}
        changed = replace(VISIT, renamed={"height": "depth"}, types={"fee": "decimal(12,2)"})
        store.rebuild(changed)
        table.refresh()
        after = {field.name: field.field_id for field in table.schema().fields}
        assert (after["depth"], after["fee"]) == (before["height"], before["fee"])
        assert {task.file.file_path for task in table.scan().plan_files()} == files
        assert sorted(map(str, table.scan().to_arrow()["fee"].to_pylist())) == ["1.50", "None"]
        assert table.scan().to_arrow()["depth"].to_pylist() == [1, 2]


def test_the_statements_of_a_change_are_printed(tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    text = PROJECT.format(address="duckdb:coast.duckdb", crew="text", more="{}")
    (tmp_path / "in" / "1.csv").write_text("visit_no,seen_at,severity,crew\n1,2024-05-13,high,Tarva\n")
    (tmp_path / "brenvik.toml").write_text(text.replace("{}", ""))
    assert call("load", cwd=tmp_path).code == 0
    (tmp_path / "brenvik.toml").write_text(text.replace("{}", 'renamed = { severity = "priority" }'))
    told = call("sql", "visit", cwd=tmp_path).out
    assert 'ALTER TABLE "visit" RENAME COLUMN "severity" TO "priority"' in told.replace("\n", " ")
