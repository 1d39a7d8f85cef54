"""Columns that are computed from others of their row."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from cli import brenvik as call
from hypothesis import given, settings
from hypothesis import strategies as st
from scenes import ORDERED, Batch, Scene, cases
from stores import fresh
from tables import comparable, stored

import brenvik
from brenvik.errors import FeedError, RulesError
from counts import share
from scripts import execute

CREW = brenvik.TableRules(
    "crew",
    natural_key="crew_no",
    order_by="entry",
    exclude=["first", "last"],
    derive={
        "full_name": "first || ' ' || last",
        "is_senior": "years >= 10",
        "rank": "CASE WHEN years >= 10 THEN 'senior' WHEN years >= 3 THEN 'mate' ELSE 'trainee' END",
        "months": "years * 12",
        "fee": "CAST(years AS double precision) / 4",
    },
    types={"entry": "integer", "years": "integer", "full_name": "text(16)"},
    reject_if={"no name": "full_name = ' '"},
)


def frame(**columns: list[Any]) -> pa.Table:
    return pa.table(columns)


def derived(store: brenvik.Store) -> list[tuple[Any, ...]]:
    names = ("crew_no", "full_name", "is_senior", "rank", "months", "fee")
    return sorted(tuple(row[name] for name in names) for row in store.read(CREW).to_pylist())


def test_derived_columns_are_columns_like_any_other(anywhere: brenvik.Store) -> None:
    first = frame(
        crew_no=["1", "2", "3", "4"],
        entry=["1", "1", "1", "1"],
        first=["Ada", "Bo", "", "Ci"],
        last=["Tarva", "Halvorsundsviken", "", "Nes"],
        years=["12", "4", "1", "9223372036854775807"],
    )
    assert anywhere.preview(CREW, first, kind="upserts").counts["rejected"] == 3
    assert anywhere.load(CREW, first, kind="upserts").counts["rejected"] == 3
    reasons = [row["reason"] for row in anywhere.rejects().to_pylist()]
    assert reasons[0] == "full_name has 19 characters; the limit is 16"
    assert reasons[1] == "no name"
    assert re.fullmatch(r"months: '1106\d+' is not a valid integer", reasons[2])
    assert "full_name" not in anywhere.rejects()["content"][0].as_py()
    assert derived(anywhere) == [("1", "Ada Tarva", True, "senior", 144, 3.0)]
    assert {"first", "last"}.isdisjoint(anywhere.read(CREW).column_names)

    later = frame(crew_no=["1"], entry=["2"], years=["13"])  # without a name
    outcome = anywhere.load(CREW, later, kind="upserts")
    assert outcome.notes == ["the pyarrow Table has no full_name: existing values are kept."]
    assert [row["column"] for row in outcome.decisions()["changes"][0].as_py()] == ["years", "months", "fee"]
    assert derived(anywhere)[-1] == ("1", "Ada Tarva", True, "senior", 156, 3.25)
    assert anywhere.rebuild(CREW).counts["rows_updated"] == 0
    assert anywhere.history(CREW, "1").num_rows == 2


def test_a_feed_of_the_store_itself(anywhere: brenvik.Store) -> None:
    execute(
        anywhere,
        'CREATE TABLE "entries" ("crew_no" TEXT, "entry" BIGINT, "first" TEXT, "last" TEXT, "years" BIGINT)',
        "INSERT INTO \"entries\" VALUES ('1', 1, 'Ada', 'Tarva', 12), ('2', 1, NULL, 'Nes', 2)",
    )
    feed = brenvik.DatabaseFeed("own", "upserts", None, None, "entry", source_table="entries")
    assert anywhere.load(CREW, feed).counts["inserted"] == 2
    assert derived(anywhere) == [
        ("1", "Ada Tarva", True, "senior", 144, 3.0), ("2", None, False, "trainee", 24, 0.5),
    ]  # fmt: skip


def test_the_feed_must_not_have_them(anywhere: brenvik.Store) -> None:
    with pytest.raises(FeedError, match="already has a column months, which is declared under derive"):
        anywhere.load(CREW, frame(crew_no=["1"], entry=["1"], months=["3"]), kind="upserts")


@pytest.mark.parametrize(
    ("derive", "said"),
    [
        ({"a": "b +"}, "derive.a: 'b +' is not a valid condition"),
        ({"a": "b", "b": "c"}, "derive.a: b is derived itself; expected columns of the feed"),
        ({"crew_no": "b"}, "derive.crew_no: cannot be in natural_key"),
        ({"a": "now()"}, "is not allowed"),
    ],
)
def test_expressions_that_cannot_be(derive: dict[str, str], said: str) -> None:
    with pytest.raises(RulesError, match=re.escape(said)):
        replace(CREW, derive=derive, reject_if={})


def test_an_expression_must_fit_the_types(anywhere: brenvik.Store) -> None:
    wrong = replace(CREW, derive={"full_name": "first + years"})
    with pytest.raises(FeedError, match=r"derive.full_name: 'first \+ years' calculates with 'first', which is text"):
        anywhere.load(wrong, frame(crew_no=["1"], entry=["1"], first=["a"], years=["3"]), kind="upserts")


def test_conditions_about_columns_that_the_table_lacks(anywhere: brenvik.Store, tmp_path: Path) -> None:
    """They matter when rows are read; a rebuild, a question and a check read none."""
    rules = brenvik.TableRules("crew", natural_key="crew_no", exclude="unit", reject_if={"no unit": "unit IS NULL"})
    anywhere.load(rules, frame(crew_no=["1", "2"], unit=["m", None]), kind="upserts")
    assert anywhere.rebuild(rules).counts["rows_updated"] == 0
    assert anywhere.history(rules, "1", known_at=1).num_rows == 1
    anywhere.revert(rules, 1)
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "1.csv").write_text("crew_no,unit,first,last\n1,m,Ada,Tarva\n")
    (tmp_path / "brenvik.toml").write_text(
        'name = "Coast"\nstore = "duckdb:other.duckdb"\n[table.crew]\nnatural_key = "crew_no"\n'
        'exclude = ["unit", "first", "last"]\nreject_if = { "no unit" = "unit IS NULL" }\n'
        "derive = { full_name = \"last || ', ' || first\" }\n"
        '[table.crew.feed.office]\nkind = "upserts"\nfiles = "in/*.csv"\n'
    )
    assert re.search(r"full_name +text +derived +type 2, new version", call("check", cwd=tmp_path).out)
    assert call("load", cwd=tmp_path).code == 0
    assert "Tarva, Ada" in call("history", "crew", "1", cwd=tmp_path).out
    assert call("check", cwd=tmp_path).code == 0
    assert '"full_name"' in call("sql", "crew", cwd=tmp_path).out


@settings(max_examples=share(10))
@given(cases(ORDERED, faults=False), st.data())
def test_as_if_the_feed_had_them(case: tuple[Scene, list[Batch]], data: st.DataObject) -> None:
    """A derived column is the column that a feed would have, for every type, role and kind of store."""
    scene, made = case
    source = data.draw(st.sampled_from(scene.declared.values))
    role = data.draw(st.sampled_from(["type_0", "type_1", "type_2" if scene.declared.type_2 else "type_1"]))
    whole = replace(
        scene,
        rules=replace(
            scene.rules, **{role: (*getattr(scene.rules, role), "seen")}, types={**scene.rules.types, "seen": "text"}
        ),
        declared=replace(scene.declared, **{role: (*getattr(scene.declared, role), "seen")}),
        types=(*scene.types, ("seen", "text")),
    )
    quoted = '"' + source.replace('"', '""') + '"'
    text = f"CASE WHEN {quoted} IS NULL THEN 'never' ELSE 'once' END"
    deriving = replace(scene, rules=replace(whole.rules, derive={"seen": text}), declared=whole.declared)
    tables = []
    for shape in (whole, deriving):
        with fresh(scene) as store:
            for batch in made:
                rows, columns = batch.rows, batch.columns
                if shape is whole and source in columns:
                    rows = [{**row, "seen": "never" if row[source] is None else "once"} for row in rows]
                    columns = (*columns, "seen")
                shape.load(store, Batch(rows, columns))
            tables.append(comparable(whole, stored(whole, store)))
    assert tables[0] == tables[1]
