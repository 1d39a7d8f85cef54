"""Projects of several tables: order, groups, shared settings, environments, and what one failing table does to others."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from cli import brenvik as call

import brenvik
from brenvik.errors import ProjectError
from brenvik.project.status import status_of

HEAD = 'name = "coast"\nstore = "duckdb:coast.duckdb"\n'
TABLE = """
[table.{name}]
natural_key = "code"
order_by = "at"
types = {{ at = "integer" }}
{more}
[table.{name}.feed.files]
kind = "upserts"
files = "{name}*.csv"
"""


def table(name: str, more: str = "") -> str:
    return TABLE.format(name=name, more=more)


@pytest.fixture
def coast(tmp_path: Path) -> Path:
    for name in ("buoy", "keeper", "visit", "chart"):
        (tmp_path / f"{name}_1.csv").write_text("code,at,light\nA,1,Fl\nB,1,Q\n")
    return tmp_path


def declare(folder: Path, *parts: str, name: str = "brenvik.toml") -> Path:
    (folder / name).write_text("".join(parts))
    return folder / name


def loaded(folder: Path, *words: str, **environment: str) -> tuple[int, list[tuple[str, str]]]:
    said = call("load", "--json", *words, cwd=folder, **environment)
    return said.code, [(outcome["table"], outcome["state"]) for outcome in said.json["outcomes"]]


def test_tables_load_in_order_each_after_those_it_needs(coast: Path) -> None:
    declare(
        coast,
        HEAD,
        table("visit", 'after = ["buoy", "keeper"]'),
        table("chart"),
        table("buoy", 'after = "keeper"'),
        table("keeper"),
    )
    assert loaded(coast) == (0, [("chart", "done"), ("keeper", "done"), ("buoy", "done"), ("visit", "done")])


def test_what_stands_behind_a_failed_table_is_skipped_and_all_else_goes_on(coast: Path) -> None:
    declare(
        coast,
        HEAD,
        table("keeper"),
        table("buoy", 'after = "keeper"'),
        table("visit", 'after = "buoy"'),
        table("chart"),
    )
    (coast / "keeper_1.csv").write_text("code,light\nA,Fl\n")
    assert loaded(coast) == (1, [("keeper", "failed"), ("buoy", "skipped"), ("visit", "skipped"), ("chart", "done")])
    said = call("load", cwd=coast)
    assert "depends on keeper, which failed" in said.out
    assert "1 failed, 2 skipped, 1 nothing new    exit 1" in said.out
    (coast / "keeper_1.csv").write_text("code,at,light\nA,1,Fl\n")
    assert loaded(coast)[0] == 0
    assert loaded(coast, "visit") == (0, [("visit", "nothing new")])


def test_groups_choose_tables(coast: Path) -> None:
    declare(
        coast,
        HEAD,
        table("buoy", 'groups = ["nightly"]'),
        table("keeper", 'groups = ["nightly", "weekly"]'),
        table("chart"),
    )
    assert loaded(coast, "--group", "nightly") == (0, [("buoy", "done"), ("keeper", "done")])
    said = call("load", "--group", "hourly", cwd=coast)
    assert (said.code, "has no table in group 'hourly'; valid groups are nightly, weekly" in said.err) == (2, True)


def test_a_table_of_several_feeds_takes_from_each(coast: Path) -> None:
    more = '[table.buoy.feed.late]\nkind = "upserts"\nfiles = "late*.csv"\n'
    declare(coast, HEAD, table("buoy"), more)
    (coast / "late.csv").write_text("code,at,light\nA,0,Iso\n")
    assert loaded(coast) == (0, [("buoy", "done"), ("buoy", "done")])
    assert loaded(coast, "--feed", "late") == (0, [("buoy", "nothing new")])
    said = call("load", cwd=coast)
    assert [line.split()[:2] for line in said.out.splitlines()[2:5]] == [
        ["table", "feed"],
        ["buoy", "files"],
        ["buoy", "late"],
    ]
    with brenvik.open_store(f"duckdb:{coast / 'coast.duckdb'}") as store:
        rules = brenvik.read_project(coast / "brenvik.toml").table("buoy").rules
        assert store.history(rules, "A")["light"].to_pylist() == ["Iso", "Fl"]


def test_settings_are_shared_by_defaults_likeness_and_files(coast: Path) -> None:
    (coast / "tables").mkdir()
    shared = 'tables = "tables/*.toml"\n[defaults]\nother_columns = "type_1"\ndeletes = "remove"\ntypes = { at = "integer" }\n'
    declare(coast, HEAD, shared)
    declare(coast / "tables", table("buoy", 'exclude = "light"\ndeletes = "close"'), name="buoy.toml")
    keeper = '[table.keeper]\nlike = "buoy"\ntypes = { code = "text(3)" }\n'
    keeper += '[table.keeper.feed.files]\nkind = "upserts"\nfiles = "keeper*.csv"\n'
    declare(coast / "tables", keeper, name="keeper.toml")
    project = brenvik.read_project(coast / "brenvik.toml")
    buoy, found = project.table("buoy").rules, project.table("keeper")
    assert (buoy.other_columns, buoy.deletes, buoy.exclude) == ("type_1", "close", ("light",))
    assert (found.rules.exclude, found.rules.types) == (("light",), {"at": "integer", "code": "text(3)"})
    assert [feed.reads for feed in found.feeds] == ["keeper*.csv"]
    assert loaded(coast) == (0, [("buoy", "done"), ("keeper", "done")])


def test_an_environment_overrides_and_is_shown_in_every_heading(coast: Path) -> None:
    other = '[environment.test]\nstore = "duckdb:test.duckdb"\n[environment.test.table.buoy]\nmax_rejects = 7\n'
    declare(coast, HEAD, table("buoy"), other)
    assert loaded(coast, "--env", "test")[0] == 0
    assert not (coast / "coast.duckdb").exists()
    assert (coast / "test.duckdb").exists()
    assert brenvik.read_project(coast / "brenvik.toml", environment="test").table("buoy").rules.max_rejects == 7
    for words in (
        ["load"],
        ["runs"],
        ["check"],
        ["watermarks"],
        ["rejects"],
        ["history", "buoy", "A"],
        ["as-of", "buoy", "1"],
    ):
        assert call(*words, cwd=coast, BRENVIK_ENV="test").out.startswith("coast (test) · "), words
    assert call("runs", "--json", "--env", "test", cwd=coast).json["environment"] == "test"
    assert call("runs", cwd=coast).out.startswith("coast · ")


@pytest.mark.parametrize(
    ("parts", "told"),
    [
        ([table("buoy", 'after = "keper"')], "table.buoy.after: there is no table 'keper'"),
        ([table("buoy", 'after = "chart"'), table("chart", 'after = "buoy"')], "is a circular dependency"),
        ([table("buoy", 'like = "keper"')], "table.buoy.like: there is no table 'keper'"),
        (
            [table("buoy", 'like = "chart"'), table("chart", 'like = "buoy"')],
            "table.buoy.like: is a circular reference",
        ),
        (['tables = "no/*.toml"\n', table("buoy")], "tables: no file matches 'no/*.toml'"),
        (["defaults = 3\n", table("buoy")], "defaults: expected a section"),
        (["[defaults]\ncolour = 1\n", table("buoy")], "colour: is not a table rule"),
        (['memory_limit = "lots"\n', table("buoy")], 'memory_limit: expected a size as in "500 MB"'),
        ([table("buoy", 'time_zone = "Mars/Olympus"')], "time_zone: 'Mars/Olympus' is not a valid time zone"),
        ([table("buoy", "groups = 3")], "table.buoy.groups: expected a list of names, got 3"),
        (['[connections]\na = { user = "x" }\n', table("buoy")], "connections.a: url is missing"),
        ([table("buoy"), 'file_order = "buoy"\n'], "file_order: expected a regular expression with one group"),
        ([table("buoy"), 'min_age = "soon"\n'], "min_age: expected a time as in"),
        ([table("buoy"), "after_load = { to = 'x' }\n"], 'after_load: expected "keep", "delete" or'),
        ([table("buoy"), 'csv = ";"\n'], "csv: expected keys as in"),
        ([table("buoy"), 'csv = { delimiter = ";;" }\n'], "csv.delimiter: expected one character, got ';;'"),
        ([table("buoy"), 'csv = { quote = "," }\n'], "csv: delimiter, quote and escape must differ"),
        ([table("buoy"), 'csv = { encoding = "morse" }\n'], "csv.encoding: expected a name"),
        ([table("buoy"), "csv = { header = true }\n"], "csv.header: is not a valid key"),
        ([table("buoy"), 'watermark = "x"\n'], "files: a feed reads either files or a database"),
        ([table("buoy"), "[environment]\ntest = 3\n"], "environment: expected sections"),
    ],
)
def test_every_fault_of_a_project_is_told(coast: Path, parts: list[str], told: str) -> None:
    with pytest.raises(ProjectError) as caught:
        brenvik.read_project(declare(coast, HEAD, *parts))
    assert told in str(caught.value)


@pytest.mark.parametrize(
    ("given", "told"),
    [
        ({"source_table": "t"}, "watermark: missing"),
        (
            {"connection": "x", "source_table": "t", "watermark": "w"},
            "'x' is not in [connections]; valid connections are registry",
        ),
        ({"connection": "registry", "watermark": "w"}, "expected either source_table or query"),
        ({"connection": "registry", "query": "q"}, "watermark: missing"),
        ({"connection": "registry", "query": "q", "watermark": "w", "overlap": "a while"}, "overlap: expected a time"),
        ({"connection": "registry", "query": "q", "watermark": "w", "window": 0}, "window: expected a number of rows"),
        ({"connection": "registry", "query": "", "watermark": "w"}, "query: expected a string, got ''"),
    ],
)
def test_every_fault_of_a_database_feed_is_told(coast: Path, given: dict[str, Any], told: str) -> None:
    lines = "".join(f"{key} = {value!r}\n" for key, value in given.items())
    head = '[connections]\nregistry = "sqlite:///r.db"\n[table.visit]\nnatural_key = "n"\n'
    head += '[table.visit.feed.f]\nkind = "upserts"\n'
    with pytest.raises(ProjectError) as caught:
        brenvik.read_project(declare(coast, HEAD, head, lines))
    assert told in str(caught.value)


def test_secrets_are_never_shown(coast: Path) -> None:
    secret = (
        '[connections]\nregistry = { url = "postgresql+psycopg://127.0.0.1:1/coast", user = "me", password = "${HUSH}" }\n'
        '[table.visit]\nnatural_key = "n"\norder_by = "m"\n[table.visit.feed.f]\nkind = "upserts"\nconnection = "registry"\n'
        'source_table = "t"\nwatermark = "m"\n'
    )
    declare(coast, HEAD, secret)
    for words in (["load"], ["check"], ["watermarks"], ["preview"], ["runs"], ["load", "--json"], ["runs", "--json"]):
        said = call(*words, cwd=coast, HUSH="open-sesame")
        assert "open-sesame" not in said.out + said.err
    assert call("load", cwd=coast, HUSH="open-sesame").code == 5
    assert b"open-sesame" not in (coast / "coast.duckdb").read_bytes()


def test_many_tables_with_nothing_new_are_counted_and_cost_one_question(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "in").mkdir()
    names = [f"t{number:02}" for number in range(12)]
    rules = "".join(
        f'[table.{name}]\nnatural_key = ["code"]\n[table.{name}.feed.files]\nkind = "upserts"\nfiles = "in/{name}.csv"\n'
        for name in names
    )
    (tmp_path / "brenvik.toml").write_text(f'name = "many"\nstore = "duckdb:many.duckdb"\n{rules}')
    for name in names:
        (tmp_path / "in" / f"{name}.csv").write_text("code\nA\n")
    assert call("load", cwd=tmp_path).code == 0
    said = call("load", cwd=tmp_path).out.splitlines()
    assert said[1:] == ["", "", "  12 nothing new    exit 0"]
    assert call("load", "--quiet", cwd=tmp_path).out == ""
    (tmp_path / "in" / "t03.csv").unlink()
    (tmp_path / "in" / "t04.csv").write_text("code\nB\n")
    quiet = call("load", "--quiet", cwd=tmp_path).out
    assert "t04" in quiet
    assert "t05" not in quiet
    project = brenvik.read_project(tmp_path / "brenvik.toml")
    with project.open(read_only=True) as store:
        asked: list[str] = []
        rows = store.engine.rows
        monkeypatch.setattr(store.engine, "rows", lambda text, *a, **k: (asked.append(text), rows(text, *a, **k))[1])
        assert len(status_of(project, store, list(project.tables.values()))) == 12
    assert sum("table_status" in text or "feed_progress" in text for text in asked) == 2


def test_rows_without_a_time_are_dated_by_the_caller(tmp_path: Path) -> None:
    (tmp_path / "buoy_1.csv").write_text("code,light\nA,Fl\n")
    declare(tmp_path, HEAD, table("buoy").replace('order_by = "at"\ntypes = { at = "integer" }\n', ""))
    assert "--at applies to one table; name it" in call("load", "--at", "2024-05-31", cwd=tmp_path).err
    assert "2024-05-31" in call("preview", "buoy", "--at", "2024-05-31", cwd=tmp_path).out
    assert "The rows are dated 2024-05-31 00:00:00." in call("load", "buoy", "--at", "2024-05-31", cwd=tmp_path).out
    assert "current since 2024-05-31" in call("history", "buoy", "A", cwd=tmp_path).out


def test_check_says_what_changed_rules_mean(coast: Path) -> None:
    """Those that are free, those that hold from now on, and those that need a rebuild."""
    declare(coast, HEAD, table("buoy"))
    assert call("load", cwd=coast).code == 0
    assert "Changed since" not in call("check", cwd=coast).out
    more = 'max_rejects = 5\nwrite_mode = "copy_on_write"\nties = "reject"\nreject_if = { dark = "light is null" }\n'
    declare(coast, HEAD, table("buoy", more + 'ignored_differences = { light = "case" }'))
    said = call("check", cwd=coast)
    assert said.code == 0
    for told in (
        "Changed since the last load: max_rejects, write_mode; no row of the table depends on that.",
        "Changed since the last load: reject_if, ties; this holds for changes from the next load on.",
        "Changed since the last load: ignored_differences; this holds from the next load on, and with brenvik rebuild buoy",
    ):
        assert told in said.out
    (coast / "buoy_2.csv").write_text("code,at,light\nA,2,FL\n")
    assert call("load", cwd=coast).code == 0
    assert "Changed since" not in call("check", cwd=coast).out
    declare(coast, HEAD, table("buoy", 'type_1 = "light"'))
    needs = call("check", cwd=coast)
    assert needs.code == 2
    assert "recompute the table (brenvik rebuild buoy)" in needs.out
