"""Words that say that a row lacks a column: the existing value is kept."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from cli import brenvik as call
from hypothesis import given, settings
from hypothesis import strategies as st
from oracle import Oracle
from scenes import ORDERED, Batch, Scene, cases
from stores import fresh
from tables import comparable, stored

import brenvik
from brenvik.errors import DeclarationError, FeedError
from brenvik.model.decisions import DECISIONS
from counts import share
from scripts import execute

MARK = "#~"
COLUMNS = brenvik.FeedColumns(values=brenvik.ValueFormats(absent_words=[MARK]))
RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at", type_1="name", types={"at": "integer"})


def frame(**columns: list[Any]) -> pa.Table:
    return pa.table(columns)


def test_absent_is_not_null(anywhere: brenvik.Store) -> None:
    first = frame(code=["A", "B"], at=["1", "1"], name=["Tarva", "Nes"], light=["Fl", "Q"])
    second = frame(code=["A", "B", "C"], at=["2", "2", "2"], name=[MARK, None, "Lomvi"], light=["Q", MARK, MARK])
    anywhere.load(RULES, first, kind="upserts", columns=COLUMNS)
    seen = anywhere.preview(RULES, second, kind="upserts", columns=COLUMNS)
    outcome = anywhere.load(RULES, second, kind="upserts", columns=COLUMNS)
    assert seen.counts == outcome.counts
    assert outcome.decisions()["reason"].to_pylist() == ["light Fl → Q", "name Nes → nothing", "first of its lifetime"]
    rows = [(r["code"], r["name"], r["light"]) for r in anywhere.read(RULES).to_pylist() if r["is_current"]]
    assert rows == [("A", "Tarva", "Q"), ("B", None, "Q"), ("C", "Lomvi", None)]
    assert anywhere.load(RULES, second, kind="upserts", columns=COLUMNS).counts["duplicate"] == 3
    assert anywhere.rebuild(RULES).counts["rows_updated"] == 0


def test_what_orders_is_never_absent_and_a_reject_keeps_the_word(anywhere: brenvik.Store) -> None:
    rows = frame(code=["A", MARK], at=[MARK, "1"], name=[MARK, "x"])
    outcome = anywhere.load(RULES, rows, kind="upserts", columns=COLUMNS)
    assert outcome.counts["rejected"] == 2
    assert [row["reason"] for row in anywhere.rejects().to_pylist()] == ["at is empty", "code is empty"]
    assert anywhere.rejects()["content"].to_pylist()[0] == f'{{"code":"A","at":"{MARK}","name":"{MARK}"}}'


def test_an_extract_with_rows_that_lack_columns(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("keeper", natural_key="firm", max_deletes=None)
    first = frame(firm=["Skerry", "Tern"], town=["Sund", "Nes"])
    anywhere.load(rules, first, kind="full_extract", at="2024-05-13", columns=COLUMNS)
    second = frame(firm=["Skerry", "Tern"], town=[MARK, "Halvor"])
    outcome = anywhere.load(rules, second, kind="full_extract", at="2024-05-14", columns=COLUMNS)
    assert (outcome.counts["unchanged"], outcome.counts["versioned"]) == (1, 1)


def test_files_with_a_word_for_some_columns_only(tmp_path: Path) -> None:
    (tmp_path / "brenvik.toml").write_text(
        'name = "Coast"\nstore = "duckdb:coast.duckdb"\n[table.crew]\nnatural_key = "no"\norder_by = "at"\n'
        'types = { at = "integer" }\n[table.crew.feed.office]\nkind = "upserts"\nfiles = "crew_*.csv"\n'
        'values = { trim = true, columns = { rank = { absent_words = ["~"] } } }\n'
    )
    (tmp_path / "crew_1.csv").write_text("no,at,rank,name\n1,1,mate,Ada\n2,1,~,Bo\nx\n")
    (tmp_path / "crew_2.csv").write_text('no,at,rank,name\n1,2," ~ ",~\n2,2,,Bo\n')
    done = call("load", "--accept-rejects", "--json", cwd=tmp_path).json["outcomes"][0]
    assert (done["counts"]["read"], done["counts"]["rejected"]) == (5, 1)
    history = call("history", "crew", "1", "--json", cwd=tmp_path).json["versions"]
    assert [(row["rank"], row["name"]) for row in history] == [("mate", "Ada"), ("mate", "~")]


def test_rows_of_many_columns_each_lack_their_own() -> None:
    """As if each row had come alone."""
    names = [f"c{number}" for number in range(70)]
    values = {
        name: [f"{name} of {row}" if (row * 7 + index) % 5 else MARK for row in range(40)]
        for index, name in enumerate(names)
    }
    keys = [f"NB-{row % 8}" for row in range(40)]
    rows = frame(code=keys, at=[str(row) for row in range(40)], name=["x"] * 40, **values)
    rules = replace(RULES, other_columns="type_1")
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(rules, rows, kind="upserts", columns=COLUMNS)
        found = {row["code"]: row for row in store.read(rules).to_pylist()}
    for name in names:
        last = {key: value for key, value in zip(keys, values[name], strict=True) if value != MARK}
        assert {key: found[key][name] for key in last} == last


def test_where_it_cannot_be(anywhere: brenvik.Store) -> None:
    with pytest.raises(DeclarationError, match="null_words and absent_words: NA would mean both"):
        brenvik.ValueFormats(null_words="NA", absent_words="NA")
    execute(anywhere, 'CREATE TABLE "entries" ("code" TEXT, "at" BIGINT, "name" TEXT)')
    feed = brenvik.DatabaseFeed("own", "upserts", None, None, "at", source_table="entries", columns=COLUMNS)
    with pytest.raises(FeedError, match="is read inside the store, where absent_words do not apply"):
        anywhere.load(RULES, feed)


@settings(max_examples=share(8))
@given(cases(ORDERED), st.data())
def test_as_if_the_rows_came_without_these_columns(case: tuple[Scene, list[Batch]], data: st.DataObject) -> None:
    scene, made = case
    types = dict(scene.types)
    oracle = Oracle(scene.declared)
    with fresh(scene) as store:
        for batch in made:
            texts = [name for name in batch.columns if name in scene.declared.values and types[name].startswith("text")]
            marked, sparse = [], []
            for row in batch.rows:
                gone = data.draw(st.sets(st.sampled_from(texts))) if texts else set()
                marked.append({**row, **dict.fromkeys(gone, MARK)})
                sparse.append({name: value for name, value in row.items() if name not in gone})
            outcome = scene.load(store, Batch(marked, batch.columns), columns=COLUMNS)
            expected = oracle.load(sparse)
            counts = {name: outcome.counts[name] for name in DECISIONS if outcome.counts[name]}
            assert counts == {name: expected.count(name) for name in DECISIONS if name in expected}
            assert comparable(scene, stored(scene, store)) == comparable(scene, oracle.rows())
