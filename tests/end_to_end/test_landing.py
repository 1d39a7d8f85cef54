"""Files into a landing table, from there into a staging table, and into a table with history: in one store and across two."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from cli import brenvik as call

import brenvik
from brenvik.errors import DeclarationError, ProjectError
from brenvik.feeds.protocol import LoadRequest
from brenvik.runs.load import LoadOptions

TABLES = """
[table.lamp_report]
table_name = "landing.lamp_report"
types = { volts = "decimal(4,2)", sent_at = "timestamp" }
feed.shore = { kind = "append", files = "inbox/lamp_*.csv", one_run_per_file = true, add = { file = { from = "file" } } }

[table.lamp_report_checked]
table_name = "staging.lamp_report"
after = "lamp_report"
exclude = ["file"]
reject_if = { too_high = "volts > 20" }
exact_duplicates = "drop"
feed.landing = { kind = "append", source_table = "landing.lamp_report", watermark = "first_run" }

[table.lamp]
after = "lamp_report_checked"
natural_key = "buoy_code"
order_by = "sent_at"
type_1 = "volts"
feed.staging = { kind = "upserts", query = "select * from staging.lamp_report", watermark = "first_run" }
"""
"""Neither feed loads system columns, although the query selects all columns."""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "inbox").mkdir()
    return tmp_path


def project(folder: Path, store: str, tables: str = TABLES) -> brenvik.Project:
    (folder / "brenvik.toml").write_text(f'store = "{store}"\n{tables}', encoding="utf-8")
    return brenvik.read_project(folder / "brenvik.toml")


def send(folder: Path, name: str, *rows: str) -> None:
    (folder / "inbox" / name).write_text("\n".join(["buoy_code,volts,sent_at", *rows, ""]), encoding="utf-8")


def counts(outcomes: Any) -> list[dict[str, int]]:
    assert not [outcome.error for outcome in outcomes if outcome.error]
    names = ("inserted", "overwritten", "versioned", "duplicate", "rejected")
    return [{name: outcome.counts[name] for name in names if outcome.counts.get(name)} for outcome in outcomes]


def test_rows_go_all_the_way_once(folder: Path, address: str) -> None:
    without_schemas = address.startswith("sqlite:")
    quoted = TABLES.replace("* from staging.lamp_report", "* from 'staging.lamp_report'")
    coast = project(folder, address, quoted if without_schemas else TABLES)
    send(folder, "lamp_1.csv", "NB-1,12.5,2024-05-01 06:00", "NB-2,12.1,2024-05-01 06:00", "NB-3,99,2024-05-01 06:00")
    send(folder, "lamp_2.csv", "NB-1,12.4,2024-05-02 06:00", "NB-2,12.1,2024-05-01 06:00", "NB-2,weak,2024-05-02 06:00")
    assert counts(coast.load()) == [
        {"inserted": 3},
        {"inserted": 2, "rejected": 1},
        {"inserted": 3, "duplicate": 1, "rejected": 1},
        {"inserted": 2, "overwritten": 1},
    ]
    assert [o.state for o in coast.load()] == ["nothing new", "done", "done"]
    with coast.open() as store:
        landed = store.read(coast.table("lamp_report").rules).to_pylist()
        assert [(row["buoy_code"], row["file"], row["first_run"]) for row in landed] == [
            ("NB-1", "inbox/lamp_1.csv", 1), ("NB-2", "inbox/lamp_1.csv", 1), ("NB-3", "inbox/lamp_1.csv", 1),
            ("NB-1", "inbox/lamp_2.csv", 2), ("NB-2", "inbox/lamp_2.csv", 2),
        ]  # fmt: skip
        lamps = store.read(coast.table("lamp").rules).to_pylist()
        assert {(row["buoy_code"], str(row["volts"])) for row in lamps} == {("NB-1", "12.40"), ("NB-2", "12.10")}
        assert not {"file", "lamp_report_key", "lamp_report_checked_key"} & {*lamps[0]}


def test_a_file_is_loaded_again_once_its_run_is_reverted(folder: Path, address: str) -> None:
    coast = project(folder, address)
    send(folder, "lamp_1.csv", "NB-1,12.5,2024-05-01 06:00")
    send(folder, "lamp_2.csv", "NB-1,12.4,2024-05-02 06:00")
    coast.load(["lamp_report"])
    first = LoadOptions(request=LoadRequest(files=("inbox/lamp_1.csv",)))
    with pytest.raises(
        DeclarationError, match=r"lamp_1.csv: rows of it were loaded before \(run 1\).*brenvik revert 1"
    ):
        coast.load(["lamp_report"], options=first)
    rules = coast.table("lamp_report").rules
    with coast.open() as store:
        assert store.revert(rules, 1, preview=True).counts["rows_removed"] == 1
        assert store.revert(rules, 1).counts["rows_removed"] == 1
        assert [row["first_run"] for row in store.read(rules).to_pylist()] == [2]
    assert counts(coast.load(["lamp_report"], options=first)) == [{"inserted": 1}]
    with pytest.raises(DeclarationError, match=r"were loaded before \(run 5\)"):
        coast.load(["lamp_report"], options=first)
    with pytest.raises(DeclarationError, match=r"were loaded before \(run 2, 5\)"):
        coast.load(["lamp_report"], options=LoadOptions(request=LoadRequest(everything=True)))


def test_a_window_is_read_again_once_its_run_is_reverted(folder: Path, address: str) -> None:
    kept = TABLES.replace('exact_duplicates = "drop"\n', "")
    coast, rules = project(folder, address, kept), brenvik.TableRules
    for day in (1, 2):
        send(folder, f"lamp_{day}.csv", f"NB-1,12.{day},2024-05-0{day} 06:00")
        assert counts(coast.load(["lamp_report", "lamp_report_checked"])) == [{"inserted": 1}, {"inserted": 1}]
    checked = ["lamp_report_checked"]
    for request, told in (
        (LoadRequest(everything=True), r"run 2, 4\)"),
        (LoadRequest(after="1"), r"run 4\)"),
        (LoadRequest(until="1"), r"run 2\)"),
        (LoadRequest(full=True), "cannot be read in full again"),
    ):
        with pytest.raises(DeclarationError, match=told):
            coast.load(checked, options=LoadOptions(request=request))
    declared: rules = coast.table("lamp_report_checked").rules
    with coast.open() as store:
        store.revert(declared, 2)
    assert counts(coast.load(checked, options=LoadOptions(request=LoadRequest(until="1")))) == [{"inserted": 1}]
    with coast.open() as store:
        assert len(store.read(declared)) == 2


def test_a_landing_table_in_another_store(folder: Path) -> None:
    """Across stores the columns are those of any database."""
    tables = TABLES.partition("[table.lamp_report_checked]")[0].replace("landing.lamp_report", "lamp_report")
    landing = project(folder, "sqlite:landing.db", tables)
    send(folder, "lamp_1.csv", "NB-1,12.5,2024-05-01 06:00", "NB-1,12.5,2024-05-01 06:00")
    landing.load()
    final = f"""
[connections]
landing = "sqlite:///{folder / "landing.db"}"

[table.lamp]
natural_key = "buoy_code"
order_by = "sent_at"
types = {{ sent_at = "timestamp" }}
exclude = ["lamp_report_key", "file", "first_run", "first_loaded_at"]
feed.landing = {{ kind = "upserts", connection = "landing", source_table = "lamp_report", watermark = "first_run" }}
"""
    coast = project(folder, "duckdb:coast.duckdb", final)
    assert counts(coast.load()) == [{"inserted": 1, "duplicate": 1}]
    assert [outcome.counts["read"] for outcome in coast.load()] == [0]


@pytest.mark.parametrize(
    ("was", "becomes", "told"),
    [
        (
            'natural_key = "buoy_code"\norder_by = "sent_at"\ntype_1 = "volts"\n',
            "",
            "natural_key: missing; expected as in",
        ),
        ('kind = "upserts"', 'kind = "append"', "kind: is 'append', which is for tables without a natural key"),
        ("one_run_per_file = true", 'rewritten_files = "load"', "rewritten_files: would append rows again"),
        (
            'exact_duplicates = "drop"\nfeed.landing = { ',
            "feed.landing = { overlap = 1, ",
            "overlap: would append rows again",
        ),
        ('after = "lamp_report"\n', 'after = "lamp_report"\norder_by = "sent_at"\n', "order_by: needs a natural key"),
        ('kind = "append", source_table', 'kind = "appended", source_table', "'full_extract' or 'append'"),
    ],
)
def test_a_project_is_told_what_does_not_fit(folder: Path, was: str, becomes: str, told: str) -> None:
    assert was in TABLES
    with pytest.raises(ProjectError) as raised:
        project(folder, "duckdb::memory:", TABLES.replace(was, becomes))
    assert told in str(raised.value)


def test_a_feed_that_does_not_fit_is_refused_in_python_too() -> None:
    feed = brenvik.DatabaseFeed("s", "append", None, None, "no", "staging", overlap=5)
    with brenvik.open_store("duckdb::memory:") as store, pytest.raises(DeclarationError, match="overlap: would append"):
        store.load(brenvik.TableRules("lamp"), feed)


def test_what_a_person_sees(folder: Path) -> None:
    project(folder, "duckdb:coast.duckdb")
    send(folder, "lamp_1.csv", "NB-1,12.5,2024-05-01 06:00", "NB-1,12.5,2024-05-01 06:00", "NB-2,weak,2024-05-01 06:00")
    checked = call("check", cwd=folder)
    assert checked.code == 0
    assert "volts      decimal(4,2)  declared       appended" in checked.out
    assert "reads a query by first_run, which the first load of lamp_report_checked creates" in checked.out
    ahead = call("preview", "lamp_report", cwd=folder)
    assert ahead.out.splitlines()[2:6] == [
        "  line  decision  column  before → after",
        "     2  inserted  –       new: NB-1, 12.50, 2024-05-01 06:00:00, inbox/lamp_1.csv",
        "     3  inserted  –       new: NB-1, 12.50, 2024-05-01 06:00:00, inbox/lamp_1.csv",
        "     4  rejected  volts   volts: 'weak' is not a valid decimal(4,2)",
    ]
    loaded = call("load", cwd=folder)
    assert (loaded.code, loaded.out.count("rejected  line 4  volts: 'weak' is not a valid decimal(4,2)")) == (3, 1)
    reverted = call("revert", "1", "--reason", "wrong shore station", cwd=folder)
    assert [line.strip() for line in reverted.out.splitlines() if line][1:] == [
        "2 rows + 0 added − 2 removed = 0",
        "To load its rows again: brenvik load --again 1",
        "What lamp_report_checked loaded from lamp_report stays.",
    ]
    assert call("load", "lamp_report", "--again", "1", cwd=folder).code == 0
    shown = call("sql", "lamp_report", cwd=folder).out
    assert 'INSERT INTO "landing"."lamp_report"' in shown
    assert call("status", cwd=folder).code == 4  # an open reject
    assert "no natural key, so its rows have no history" in call("history", "lamp_report", "1", cwd=folder).err
    (folder / "inbox" / "lamp_2.csv").write_text("buoy_code,sent_at\nNB-1,2024-05-02 06:00\n", encoding="utf-8")
    assert "inbox/lamp_2.csv has no volts: null in its rows." in call("load", "lamp_report", cwd=folder).out
