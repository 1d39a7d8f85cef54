"""Every command through the installed program: what it says, and the code it ends with."""

from __future__ import annotations

import gzip
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
import typer.main
from cli import brenvik

from brenvik.cli.main import app
from brenvik.demo import scenario

COMMANDS = sorted(typer.main.get_command(app).commands)  # type: ignore[attr-defined]


KEEPING = scenario.PROJECT.replace('after_load = { move_to = "loaded/" }', "")


@pytest.fixture
def coast(tmp_path: Path) -> Path:
    """The project of the demo with the file of the first day."""
    (tmp_path / "inbox").mkdir()
    (tmp_path / "brenvik.toml").write_text(scenario.PROJECT)
    scenario.write_day("buoy_01.csv", tmp_path / "inbox")
    return tmp_path


def second_day(coast: Path) -> None:
    scenario.write_day("buoy_02.csv", coast / "inbox")


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_has_help_and_a_place_in_the_readme(command: str, tmp_path: Path) -> None:
    said = brenvik(command, "--help", cwd=tmp_path)
    assert said.code == 0
    assert len(said.out.splitlines()) > 5
    assert f"brenvik {command}" in (Path(__file__).parents[2] / "README.md").read_text(encoding="utf-8")


def test_load_takes_each_file_once_and_says_3_for_rejects(coast: Path) -> None:
    assert brenvik("load", cwd=coast).code == 0
    second_day(coast)
    assert brenvik("load", cwd=coast).code == 3
    again = brenvik("load", cwd=coast)
    assert again.code == 0
    assert "nothing new" in again.out


def test_accepted_rejects_end_with_0(coast: Path) -> None:
    second_day(coast)
    assert brenvik("load", "--accept-rejects", cwd=coast).code == 0


def test_load_tells_programs_everything(coast: Path) -> None:
    second_day(coast)
    answer = brenvik("load", "--json", cwd=coast).json
    (outcome,) = answer["outcomes"]
    assert answer["exit"] == 3
    assert outcome["run"] == 1
    assert outcome["counts"]["read"] == 26
    assert outcome["counts"]["rows_after"] == 18
    assert outcome["state"] == "done"


def test_preview_writes_nothing(coast: Path) -> None:
    seen = brenvik("preview", "--json", cwd=coast).json["outcomes"][0]
    assert not (coast / "coast.duckdb").exists()
    assert seen["counts"]["inserted"] == 12
    assert [row["decision"] for row in seen["decisions"]] == ["inserted"] * 12
    brenvik("load", cwd=coast)
    before = (coast / "coast.duckdb").read_bytes()
    second_day(coast)
    assert brenvik("preview", cwd=coast).code == 0
    assert (coast / "coast.duckdb").read_bytes() == before


def test_preview_shows_old_and_new_and_hides_unchanged_rows(coast: Path) -> None:
    brenvik("load", cwd=coast)
    second_day(coast)
    said = brenvik("preview", cwd=coast).out
    assert "Fl G 3s → Fl G 5s" in said
    assert "2019-04-02 stays (2009-04-02)" in said
    assert "NB-107" not in said
    assert "2 unchanged rows not shown: --all" in said
    assert "NB-107" in brenvik("preview", "--all", cwd=coast).out


def test_rejects_are_kept_whole(coast: Path) -> None:
    second_day(coast)
    brenvik("load", cwd=coast)
    rows = brenvik("rejects", "buoy", "--json", cwd=coast).json["rejects"]
    assert [(row["file"], row["line"], row["column_name"], row["value"]) for row in rows] == [
        ("inbox/buoy_02.csv", 13, "buoy_code", None),
        ("inbox/buoy_02.csv", 14, "buoy_code", "NB-114-WEST-B"),
        ("inbox/buoy_02.csv", 15, "changed_at", "2024-05-14 25:61"),
    ]
    assert '"name":"Vestre Grunn"' in rows[1]["content"]
    assert "buoy_code has 13 characters; the limit is 8" in brenvik("rejects", cwd=coast).out


def test_runs_lists_the_newest_first(coast: Path) -> None:
    assert "There are no runs yet" in brenvik("runs", cwd=coast).out
    brenvik("load", cwd=coast)
    second_day(coast)
    brenvik("load", cwd=coast)
    runs = brenvik("runs", "--json", cwd=coast).json["runs"]
    assert [(run["run"], run["state"], run["read"]) for run in runs] == [(2, "done", 14), (1, "done", 12)]
    assert len(brenvik("runs", "--last", "1", "--json", cwd=coast).json["runs"]) == 1


def test_history_and_as_of(coast: Path) -> None:
    second_day(coast)
    brenvik("load", cwd=coast)
    versions = brenvik("history", "buoy", "NB-102", "--json", cwd=coast).json["versions"]
    assert [row["status"] for row in versions] == ["on station", "adrift", "in dock", "on station"]
    assert "4 versions" in brenvik("history", "buoy", "buoy_code=NB-102", cwd=coast).out
    only = brenvik("history", "buoy", "NB-108", cwd=coast).out
    assert "· 1 version ·" in only and re.search(r"^  name Sildegrunn, .*, light LFl 10s, ", only, re.MULTILINE)
    unknown = brenvik("history", "buoy", "NB-999", cwd=coast)
    assert (unknown.code, "unknown" in unknown.out) == (1, True)
    rows = brenvik("as-of", "buoy", "2024-05-14 07:00", "--json", cwd=coast).json["rows"]
    assert {row["buoy_code"]: row["status"] for row in rows}["NB-102"] == "adrift"
    assert brenvik("as-of", "buoy", "2024-05-01", "--json", cwd=coast).json["rows"] == []


def test_a_moment_that_is_none_is_told(coast: Path) -> None:
    brenvik("load", cwd=coast)
    said = brenvik("as-of", "buoy", "yesterday", cwd=coast)
    assert said.code == 2
    assert "'yesterday' is not a valid timestamp" in said.err


def test_check_says_what_each_column_is(coast: Path) -> None:
    said = brenvik("check", cwd=coast)
    assert said.code == 0
    for column, what in (
        ("commissioned_on", "type 0"),
        ("name", "type 1"),
        ("changed_at", "effective"),
        ("light", "type 2"),
    ):
        assert any(line.split()[:1] == [column] and what in line for line in said.out.splitlines())


def test_check_looks_at_the_table_where_all_files_were_taken_and_deleted(coast: Path) -> None:
    text = (coast / "brenvik.toml").read_text()
    assert '{ move_to = "loaded/" }' in text
    (coast / "brenvik.toml").write_text(text.replace('{ move_to = "loaded/" }', '"delete"'))
    before = brenvik("check", "buoy", "--json", cwd=coast).json["tables"][0]["columns"]
    assert brenvik("load", "buoy", cwd=coast).code in {0, 3}
    assert not list((coast / "inbox").glob("buoy_*"))
    after = brenvik("check", "buoy", "--json", cwd=coast)
    assert (after.code, after.json["tables"][0]["faults"]) == (0, [])
    assert [(row["column"], row["type"]) for row in after.json["tables"][0]["columns"]] == [
        (row["column"], row["type"]) for row in before
    ]


def test_check_finds_what_is_missing(coast: Path) -> None:
    text = (coast / "brenvik.toml").read_text().replace('type_1 = ["name"]', 'type_1 = ["nome"]')
    (coast / "brenvik.toml").write_text(text)
    said = brenvik("check", cwd=coast)
    assert said.code == 2
    assert "nome is declared, but neither in buoy_01.csv" in said.out


def test_a_table_without_versions_shows_its_one_row(coast: Path) -> None:
    (coast / "brenvik.toml").write_text(
        'store = "duckdb:s.duckdb"\n[table.buoy]\nnatural_key = ["buoy_code", "colour"]\nother_columns = "type_1"\n'
        "system_columns = { valid_from = false, valid_to = false }\n"
        '[table.buoy.feed.f]\nkind = "upserts"\nfiles = "inbox/*.csv"\n'
    )
    assert brenvik("load", cwd=coast).code == 0
    said = brenvik("history", "buoy", "colour=red", "buoy_code=NB-103", cwd=coast)
    assert (said.code, "buoy NB-103 red · 1 version · current\n" in said.out) == (0, True), said


def test_new_proposes_a_declaration_that_loads(coast: Path) -> None:
    second_day(coast)
    (coast / "brenvik.toml").unlink()
    made = brenvik("new", "inbox/buoy_02.csv", cwd=coast)
    assert made.code == 0
    assert "brenvik check" in made.out
    text = (coast / "brenvik.toml").read_text()
    for line in ('natural_key = ["buoy_code"]', 'order_by = ["changed_at", "entry_no"]', 'operation = "op"'):
        assert line in text
    assert brenvik("check", cwd=coast).code == 0
    counts = brenvik("load", "--json", cwd=coast).json["outcomes"][0]["counts"]
    assert (counts["read"], counts["rejected"]) == (26, 2)
    assert brenvik("new", "inbox/buoy_02.csv", cwd=coast).code == 2
    for more in ([], ["--table", "float"]):
        told = brenvik("new", "inbox/buoy_02.csv", "--project", "other.toml", *more, cwd=coast).out
        name = ["float"] if more else []
        assert f"  brenvik load {' '.join([*name, '--project other.toml'])} " in told


def test_new_sees_whether_moments_tell_a_zone(tmp_path: Path) -> None:
    rows = [f"{n},2024-05-0{n} 08:00,2024-05-0{n}T08:00:00+02:00,2024-05-0{n}T08:00:00.5Z" for n in range(1, 5)]
    (tmp_path / "visit.csv").write_text("\n".join(["visit_no,planned_at,done_at,entered_at", *rows]))
    assert brenvik("new", "visit.csv", cwd=tmp_path).code == 0
    text = (tmp_path / "brenvik.toml").read_text()
    kinds = ("timestamp", "timestamp with time zone", "timestamp with time zone")
    for name, kind in zip(("planned_at", "done_at", "entered_at"), kinds, strict=True):
        assert f'{name:<10} = "{kind}"' in text
    assert brenvik("load", cwd=tmp_path).code == 0


@pytest.mark.parametrize(
    ("name", "content", "written"),
    [
        ("firm.csv", '\ufeffNo;Name;Fee\r\n1;Kyst, Hav;1,5\r\n2;"Ærø; Bø";2\r\n'.encode(), '{ delimiter = ";" }'),
        ("firm 05-13.CSV", "No;Name\n1;Ærø\n2;5 €\n".encode("cp1252"), '{ delimiter = ";", encoding = "cp1252" }'),
        ("firm.tsv.gz", gzip.compress(b"No\tName\n1\ta, b\n2\tc\n"), '{ delimiter = "\\t" }'),
        ("firm.txt", "No\tName\n1\tÆrø\n2\tb\n".encode("utf-16"), '{ delimiter = "\\t", encoding = "utf-16" }'),
        ("firm[2].txt", b"No,Name\n1,a\n2,b\n", '{ delimiter = "," }'),
        ('the "firms".csv', b'"No ""1""",Name\n1,"a;b;c"\n2,"d;e;f"\n', None),
    ],
    ids=("semicolons", "cp1252", "packed tabs", "utf-16", "commas in a text file", "as it should be"),
)
def test_new_finds_how_a_file_is_written(tmp_path: Path, name: str, content: bytes, written: str | None) -> None:
    (tmp_path / name).write_bytes(content)
    assert brenvik("new", name, cwd=tmp_path).code == 0
    declared = re.findall(r"^csv = ({.*}) +#", (tmp_path / "brenvik.toml").read_text(), re.MULTILINE)
    assert declared == ([written] if written else [])
    outcome = brenvik("load", "--json", cwd=tmp_path).json["outcomes"][0]
    assert (outcome["counts"]["read"], outcome["counts"]["inserted"]) == (2, 2)


def test_new_tells_what_is_no_row_and_refuses_what_is_no_table(tmp_path: Path) -> None:
    (tmp_path / "firm.csv").write_text("No,Name\n1,a\n2\n3,c\n")
    told = brenvik("new", "firm.csv", cwd=tmp_path).out
    assert "2 rows, 2 columns" in told
    assert "1 line is not a row, which a load would reject; line 3 has 1 field, the header has 2" in told
    (tmp_path / "late.csv").write_bytes(b"No,Name\n" + b"1,abcdefgh\n" * 200_000 + b"2,\xe6\n")
    for name, content in (("prose.txt", b"some words\n"), ("rows.json", b'{"a": 1,\n"b": 2}'), ("x.ods", b"PK\0,;\0")):
        (tmp_path / name).write_bytes(content)
    (tmp_path / "no.csv.gz").write_bytes(b"No,Name")
    (tmp_path / "half.csv.gz").write_bytes(gzip.compress(b"No,Name" * 99)[:20])
    for name in ("no.csv.gz", "half.csv.gz"):
        said = brenvik("new", name, "--print", cwd=tmp_path)
        assert (said.code, said.err.startswith(f"brenvik: {name} cannot be read: ")) == (1, True), said
    for name in ("prose.txt", "rows.json", "x.ods", "late.csv"):
        said = brenvik("new", name, "--print", cwd=tmp_path)
        why = "is not utf-8 text: line 200002 has" if name == "late.csv" else "supported are files that end in .csv"
        assert (said.code, said.err.startswith(f"brenvik: {name}"), why in said.err) == (1, True, True), said


@pytest.mark.parametrize(
    ("words", "code", "told"),
    [
        (["load", "bouy"], 2, "has no table 'bouy'; did you mean 'buoy'?"),
        (["load", "--project", "nowhere.toml"], 2, "nowhere.toml"),
        (["new", "nothing.csv"], 2, "nothing.csv"),
        (["history", "buoy", "a", "b"], 2, "Expected buoy_code=VALUE"),
    ],
)
def test_wrong_calls_end_with_2_and_say_what_was_expected(coast: Path, words: list[str], code: int, told: str) -> None:
    said = brenvik(*words, cwd=coast)
    assert (said.code, told in said.err) == (code, True), said
    assert "Traceback" not in said.err


def test_all_faults_of_a_project_are_told_at_once(coast: Path) -> None:
    (coast / "brenvik.toml").write_text(
        'stor = "x"\n[table.a]\nnatural_key = []\n[table.b]\nnatural_key = "k"\ndeletes = "burn"\n'
        '[table.b.feed.f]\nkind = "changes"\nfiles = "*.csv"\n'
    )
    said = brenvik("check", cwd=coast)
    assert said.code == 2
    for fault in (
        "stor: is not a project key",
        "store: missing; expected",
        "table.a.natural_key: missing; expected as in",
        "table.a: has no feed",
        "table.b: deletes: Input should be",
        "table.b.feed.f.operation: missing",
    ):
        assert fault in said.err


def test_changed_rules_are_refused_with_4(coast: Path) -> None:
    brenvik("load", cwd=coast)
    second_day(coast)
    text = (coast / "brenvik.toml").read_text()
    (coast / "brenvik.toml").write_text(text.replace('deletes = "close"', 'deletes = "remove"'))
    said = brenvik("load", cwd=coast)
    assert said.code == 4
    assert "deletes: was 'close', is 'remove'" in said.out
    (coast / "brenvik.toml").write_text(text)
    assert brenvik("load", cwd=coast).code == 3


def test_too_many_rejects_fail_the_load_and_write_only_the_run(coast: Path) -> None:
    brenvik("load", cwd=coast)
    second_day(coast)
    text = (coast / "brenvik.toml").read_text()
    (coast / "brenvik.toml").write_text(text.replace("deletes =", "max_rejects = 2\ndeletes ="))
    said = brenvik("load", cwd=coast)
    assert said.code == 1
    assert "3 of 14 rows would be rejected; max_rejects allows 2" in said.out
    assert brenvik("rejects", "--json", cwd=coast).json["rejects"] == []
    assert [run["state"] for run in brenvik("runs", "--json", cwd=coast).json["runs"]] == ["failed", "done"]
    (coast / "brenvik.toml").write_text(text.replace("deletes =", "max_rejects = 0.5\ndeletes ="))
    assert brenvik("load", cwd=coast).code == 3


def test_a_changed_file_is_told_and_taken_again_when_asked_for(coast: Path) -> None:
    (coast / "brenvik.toml").write_text(KEEPING)
    brenvik("load", cwd=coast)
    path = coast / "inbox" / "buoy_01.csv"
    path.write_text(path.read_text().replace("Kvitsund", "Kvittsund"))
    said = brenvik("load", cwd=coast)
    assert said.code == 0
    assert "was loaded by run 1 and has changed since" in said.out
    again = brenvik("load", "buoy", "--again", "inbox/buoy_01.csv", "--json", cwd=coast).json["outcomes"][0]
    assert (again["counts"]["duplicate"], again["counts"]["overwritten"]) == (11, 1)
    assert "has changed since" not in brenvik("load", cwd=coast).out


def test_one_table_that_fails_keeps_no_other_from_loading(coast: Path) -> None:
    more = KEEPING[KEEPING.index("[table.buoy]") :].replace("table.buoy", "table.float")
    broken = more.replace("entry_no", "entry_nr")
    (coast / "brenvik.toml").write_text(KEEPING + broken + more.replace("table.float", "table.mark"))
    answer = brenvik("load", "--json", cwd=coast).json
    assert [outcome["state"] for outcome in answer["outcomes"]] == ["done", "failed", "done"]
    assert answer["exit"] == 1
    assert "entry_nr is not in" in answer["outcomes"][1]["error"]


def imported_by(word: str, cwd: Path) -> set[str]:
    """The heavy packages that a call of the command brings in."""
    code = (
        f"import sys\nsys.argv = ['brenvik', {word!r}]\nfrom brenvik.cli.main import main\n"
        "try: main()\nexcept SystemExit as end: assert end.code == 0, end.code\n"
        "print('HEAVY', *{'duckdb', 'pyarrow', 'sqlglot', 'sqlalchemy', 'pydantic', 'pandas', 'numpy'} & set(sys.modules))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=cwd, check=True)
    return set(done.stdout.rpartition("HEAVY")[2].split())


def test_nothing_heavy_is_imported_for_help(tmp_path: Path) -> None:
    assert imported_by("--help", tmp_path) == set()


def test_a_load_translates_no_sql_for_duckdb(coast: Path) -> None:
    heavy = imported_by("load", coast)
    assert "duckdb" in heavy
    assert "sqlglot" not in heavy


def test_a_preview_shows_what_becomes_of_every_line(coast: Path) -> None:
    second_day(coast)
    header = (coast / "inbox" / "buoy_01.csv").read_text().splitlines()[0]
    rows = [("D", 90, "NB-102"), ("I", 91, "NB-199"), ("D", 92, "NB-199")]
    given = [
        {"op": op, "entry_no": number, "changed_at": f"2024-05-20 {number % 24}:00", "buoy_code": code}
        for op, number, code in rows
    ]
    lines = [",".join(str(row.get(name, "")) for name in header.split(",")) for row in given]
    (coast / "inbox" / "buoy_03.csv").write_text("\n".join([header, *lines, ""]))
    decided = brenvik("preview", "buoy", "--json", cwd=coast).json["outcomes"][0]["decisions"]
    assert {"deleted", "inserted", "rejected", "versioned", "duplicate"} <= {row["decision"] for row in decided}
    said = brenvik("preview", "buoy", "--all", cwd=coast).out
    for row in decided:
        assert re.search(rf"^ .*\b{row['line']}  .*\b{row['decision']}\b", said, re.MULTILINE), row


def test_nothing_that_a_load_does_not_need_is_imported(coast: Path) -> None:
    """Files are there and taken, so nothing is read: neither Arrow nor what reads databases is brought in."""
    assert {"pyarrow", "numpy"} <= imported_by("load", coast)
    assert imported_by("load", coast) == {"duckdb", "pydantic"}


def test_check_tells_once_what_several_files_lack(coast: Path) -> None:
    second_day(coast)
    project = coast / "brenvik.toml"
    odd = '[table.buoy]\nreject_if = { "odd" = "buoy_code = 7" }\n'
    project.write_text(project.read_text().replace("[table.buoy]\n", odd, 1))
    said = brenvik("check", "buoy", cwd=coast)
    assert said.code == 2
    assert said.out.count("      reject_if.odd: 'buoy_code = 7' combines text with a whole number\n") == 1
    assert "      The same applies to buoy_02.csv.\n" in said.out


def test_a_project_can_be_named_from_anywhere(coast: Path, tmp_path_factory: pytest.TempPathFactory) -> None:
    elsewhere = tmp_path_factory.mktemp("elsewhere")
    said = brenvik("load", "--project", coast / "brenvik.toml", cwd=elsewhere)
    assert said.code == 0
    assert (coast / "coast.duckdb").exists()
    assert list(elsewhere.iterdir()) == []


def test_environment_variables_are_filled_in_or_told(coast: Path) -> None:
    text = scenario.PROJECT.replace("duckdb:coast.duckdb", "duckdb:${COAST}.duckdb")
    (coast / "brenvik.toml").write_text(text)
    missing = brenvik("load", cwd=coast)
    assert (missing.code, "store: the environment variable 'COAST' is not set" in missing.err) == (2, True)
    assert brenvik("load", cwd=coast, COAST="shore").code == 0
    assert (coast / "shore.duckdb").exists()


def test_output_off_a_terminal_has_no_colours_and_no_trailing_blanks(coast: Path) -> None:
    second_day(coast)
    for words in (["preview"], ["load"], ["runs"], ["rejects"], ["history", "buoy", "NB-102"], ["check"]):
        said = brenvik(*words, cwd=coast).out
        assert "\x1b" not in said
        assert all(line == line.rstrip() for line in said.splitlines())


def test_two_copies_of_one_file_are_duplicates(coast: Path) -> None:
    shutil.copy(coast / "inbox" / "buoy_01.csv", coast / "inbox" / "buoy_01_copy.csv")
    counts = brenvik("load", "--json", cwd=coast).json["outcomes"][0]["counts"]
    assert (counts["inserted"], counts["duplicate"], counts["rows_after"]) == (12, 12, 12)


def test_files_that_two_feeds_read_are_not_moved_away_by_one(coast: Path) -> None:
    more = scenario.PROJECT[scenario.PROJECT.index("[table.buoy]") :].replace("table.buoy", "table.float")
    (coast / "brenvik.toml").write_text(scenario.PROJECT + more)
    said = brenvik("check", cwd=coast)
    assert said.code == 2
    assert "table.buoy.feed.registry.after_load: table.float.feed.registry reads the same files" in said.err


def test_two_tables_are_not_stored_as_one(coast: Path) -> None:
    more = '[table.float]\nlike = "buoy"\ntable_name = "Buoy"\n[table.float.feed.x]\nkind = "upserts"\nfiles = "float_*.csv"\n'
    (coast / "brenvik.toml").write_text(scenario.PROJECT + more)
    said = brenvik("check", cwd=coast)
    assert (
        said.code,
        "table.float: has the same name in the store as table.buoy: 'Buoy' (case is ignored)" in said.err,
    ) == (2, True)
    (coast / "brenvik.toml").write_text(KEEPING)
    assert brenvik("load", "buoy", cwd=coast).code == 0
    renamed = KEEPING.replace("[table.buoy", "[table.float").replace(
        "[table.float]", '[table.float]\ntable_name = "buoy"'
    )
    (coast / "brenvik.toml").write_text(renamed)
    assert "error: table_name: 'buoy' is the table of 'buoy'" in brenvik("check", "float", cwd=coast).out
    assert brenvik("load", "float", cwd=coast).code == 4


@pytest.fixture
def visited(tmp_path: Path) -> Path:
    """The project of the demo on the evening of the first day, loaded; the second day waits in the database."""
    (tmp_path / "inbox").mkdir()
    (tmp_path / "brenvik.toml").write_text(scenario.PROJECT + scenario.VISITS)
    scenario.write_day("buoy_01.csv", tmp_path / "inbox")
    scenario.write_visits(1, tmp_path)
    assert brenvik("load", cwd=tmp_path).code == 0
    scenario.write_visits(2, tmp_path)
    return tmp_path


def visits(folder: Path) -> dict[str, object]:
    return next(each for each in brenvik("watermarks", "--json", cwd=folder).json["feeds"] if each["table"] == "visit")


def test_watermarks_say_how_far_each_feed_is_and_what_is_next(visited: Path) -> None:
    found = visits(visited)
    assert (found["loaded_up_to"], found["run"], found["waiting"], found["future_rows"]) == (
        "2024-05-13 21:17",
        2,
        3,
        1,
    )
    assert found["next_window"] == {
        "low": "2024-05-13 21:17:00", "high": "2024-05-14 15:00:00", "reads_from": "2024-05-13 15:17:00", "advances": True,
    }  # fmt: skip
    said = brenvik("watermarks", cwd=visited)
    assert said.code == 0
    for words in ("inbox/buoy_01.csv", "next window   (2024-05-13 21:17, 2024-05-14 15:00]", "3 rows"):
        assert words in said.out
    brenvik("load", "visit", cwd=visited)
    assert (visits(visited)["loaded_up_to"], visits(visited)["waiting"]) == ("2024-05-14 15:00", 0)


def test_a_watermark_is_set_by_a_person_and_entered_as_a_run(visited: Path) -> None:
    nobody = brenvik("watermarks", "set", "visit", "--back", "1 day", cwd=visited)
    assert (nobody.code, "--yes" in nobody.err) == (2, True)
    assert visits(visited)["loaded_up_to"] == "2024-05-13 21:17"
    said = brenvik("watermarks", "set", "visit", "--back", "10 hours", "--yes", "--reason", "a late boat", cwd=visited)
    assert said.code == 0, said.err
    assert visits(visited)["loaded_up_to"] == "2024-05-13 11:17"
    run = brenvik("runs", "--last", "1", "--json", cwd=visited).json["runs"][0]
    assert (run["kind"], run["state"], run["reason"]) == ("watermark", "done", "a late boat")
    assert (run["window_low"], run["window_high"]) == ("2024-05-13 21:17:00", "2024-05-13 11:17:00")
    assert brenvik("runs", cwd=visited).code == 0
    counts = brenvik("load", "visit", "--json", cwd=visited).json["outcomes"][0]["counts"]
    assert (counts["read"], counts["duplicate"], counts["inserted"]) == (7, 3, 3)


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["set", "buoy", "--back", "1 day", "--yes"], "reads files, each loaded once, and has no watermark"),
        (["set", "visit", "--yes"], "Expected either --to VALUE or --back"),
        (["set", "visit", "--to", "soon", "--yes"], "--to: expected a time as in 2024-05-14 22:41, got 'soon'"),
        (["set", "visit", "--back", "7", "--yes"], "--back: does not fit the watermark, which is timestamp"),
        (["set", "visit", "--feed", "x", "--to", "2024-05-14", "--yes"], "Table visit has no feed 'x': service"),
    ],
)
def test_a_watermark_that_cannot_be_set_is_told(visited: Path, words: list[str], told: str) -> None:
    said = brenvik("watermarks", *words, cwd=visited)
    assert (said.code, told in said.err) == (2, True), said.err
    assert visits(visited)["loaded_up_to"] == "2024-05-13 21:17"


def test_a_source_that_is_down_ends_with_5_and_others_load(visited: Path) -> None:
    (visited / "registry.db").unlink()
    second_day(visited)
    answer = brenvik("load", "--json", cwd=visited)
    assert [outcome["state"] for outcome in answer.json["outcomes"]] == ["done", "failed"]
    assert answer.code == 5
    assert "the file does not exist" in answer.json["outcomes"][1]["error"]
    assert not (visited / "registry.db").exists()
    assert brenvik("watermarks", cwd=visited).code == 5


def test_what_a_run_took_can_be_taken_again(visited: Path) -> None:
    brenvik("load", "visit", cwd=visited)
    for words, read in (
        (["--again", "2"], 4),
        (["--again", "1"], 12),
        (["visit", "--from", "2024-05-13 12:00", "--to", "2024-05-13 17:00"], 1),
        (["visit", "--from-start"], 7),
    ):
        answer = brenvik("load", *words, "--json", cwd=visited)
        (outcome,) = answer.json["outcomes"]
        counts = outcome["counts"]
        assert (answer.code, counts["read"], counts["duplicate"], counts["rows_updated"]) == (0, read, read, 0), words
    assert visits(visited)["loaded_up_to"] == "2024-05-14 15:00"
    assert sorted(path.name for path in (visited / "loaded").iterdir()) == ["buoy_01.csv"]


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["--again", "77"], "run 77"),
        (
            ["visit", "--from", "2024-05-13", "--from-start"],
            "--from and --to, --again, --files, --from-start and --full cannot be combined",
        ),
        (["--from-start"], "Expected one feed to load again, got 2 (buoy registry, visit service)"),
        (["buoy", "--from", "2024-05-13"], "reads files and has no windows"),
        (
            ["visit", "--from", "2024-05-13", "--to", "2024-05-13"],
            "--from must be below --to, got 2024-05-13 00:00 and 2024-05-13 00:00",
        ),
        (["visit", "--again", "inbox/x.csv"], "reads a table and has no files"),
        (["buoy", "--again", "inbox/x.csv"], "has no file inbox/x.csv"),
    ],
)
def test_what_cannot_be_taken_again_is_told(visited: Path, words: list[str], told: str) -> None:
    said = brenvik("load", *words, cwd=visited)
    assert (said.code, told in said.err) == (2, True), said


def test_other_files_than_the_feeds_own_can_be_taken_once(coast: Path) -> None:
    brenvik("load", cwd=coast)
    (coast / "archive").mkdir()
    scenario.write_day("buoy_02.csv", coast / "archive")
    said = brenvik("load", "buoy", "--files", "archive/*.csv", "--json", cwd=coast)
    assert (said.code, said.json["outcomes"][0]["counts"]["read"]) == (3, 14)
    again = brenvik("load", "buoy", "--files", "archive/*.csv", "--json", cwd=coast)
    assert (again.code, again.json["outcomes"][0]["state"]) == (0, "nothing new")


def test_the_project_can_be_named_before_the_command(coast: Path, tmp_path: Path) -> None:
    file = str(coast / "brenvik.toml")
    for words in (["--project", file, "status", "--json"], [f"--project={file}", "rejects", "--json"]):
        assert brenvik(*words, cwd=tmp_path).json["project"] == "coast"


def test_errors_are_json_where_json_was_asked_for(coast: Path, tmp_path: Path) -> None:
    said = brenvik("load", "boye", "--json", cwd=coast)
    assert (said.code, said.json["exit"]) == (2, 2)
    assert "has no table 'boye'; did you mean 'buoy'?" in said.json["error"]
    assert brenvik("load", "--json", "--project", "nowhere.toml", cwd=coast).json["exit"] == 2


def test_as_of_a_table_that_was_never_loaded_is_told(coast: Path) -> None:
    said = brenvik("as-of", "buoy", "2024-05-15", cwd=coast)
    assert (said.code, "has not been loaded yet" in said.err) == (1, True)


def test_declared_types_that_no_feed_carries_are_told(coast: Path) -> None:
    project = (coast / "brenvik.toml").read_text()
    (coast / "brenvik.toml").write_text(project.replace('latitude = "d', 'ligth = "text"\nlatitude = "d', 1))
    said = brenvik("check", cwd=coast)
    assert (said.code, "types names ligth, which is not a column of any feed; did you mean 'light'?" in said.out) == (
        4,
        True,
    )
    assert "types names ligth, which is a column of neither" in brenvik("load", cwd=coast).out
