"""Files in an object store: a stand-in for one, on loopback."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest

import brenvik
from brenvik.errors import DeclarationError, ProjectError, SourceUnavailable
from brenvik.feeds.folders import LocalFolder
from brenvik.feeds.object_store import ObjectStore
from brenvik.model.feeds import Connection
from brenvik.project.status import status_of
from buckets import SECRET, USER, client, serving

ROW = "code,at,light\n{0},{1},Q\n"


@pytest.fixture(scope="module")
def endpoint() -> Iterator[str]:
    with serving() as endpoint:
        yield endpoint


@pytest.fixture
def bucket(endpoint: str, tmp_path: Path) -> tuple[Any, str, str]:
    """A client, the name of a bucket of the test's own, and its URL."""
    made, name = client(endpoint), f"coast-{abs(hash(tmp_path))}"
    made.create_bucket(Bucket=name)
    options = f"region=us-east-1&scheme=http&endpoint_override={endpoint.removeprefix('http://')}"
    return made, name, f"s3://{USER}:{quote(SECRET, safe='')}@{name}/registry?{options}"


def put(bucket: tuple[Any, str, str], **contents: str) -> None:
    for name, text in contents.items():
        bucket[0].put_object(Bucket=bucket[1], Key=f"registry/{name.replace('__', '/')}.csv", Body=text.encode())


def names(bucket: tuple[Any, str, str]) -> list[str]:
    found = bucket[0].list_objects_v2(Bucket=bucket[1]).get("Contents", [])
    return sorted(each["Key"].removeprefix("registry/") for each in found if not each["Key"].endswith("/"))


def project(folder: Path, url: str, feed: str = "") -> brenvik.Project:
    (folder / "brenvik.toml").write_text(
        f'store = "duckdb:coast.duckdb"\n[connections]\narchive = "{url}"\n[table.buoy]\nnatural_key = "code"\n'
        'order_by = "at"\ntypes = { at = "integer" }\n[table.buoy.feed.registry]\nkind = "upserts"\n'
        f'connection = "archive"\nfiles = "inbox/**/buoy_*.csv"\n{feed}'
    )
    return brenvik.read_project(folder / "brenvik.toml")


def load(coast: brenvik.Project, store: brenvik.Store, **options: Any) -> brenvik.Outcome:
    return coast.load(store=store, options=brenvik.LoadOptions(**options))[-1]


def test_objects_are_loaded_once_and_moved(bucket: tuple[Any, str, str], tmp_path: Path) -> None:
    put(bucket, inbox__buoy_1=ROW.format("A", 1), inbox__north__buoy_2=ROW.format("B", 1), inbox__float=ROW)
    coast = project(tmp_path, bucket[2], 'after_load = { move_to = "loaded/" }\n')
    with coast.open() as store:
        assert load(coast, store, preview=True).counts["inserted"] == 2
        assert "loaded/buoy_1.csv" not in names(bucket)
        assert load(coast, store).counts["inserted"] == 2
        assert names(bucket) == ["inbox/float.csv", "loaded/buoy_1.csv", "loaded/buoy_2.csv"]
        assert load(coast, store).state == "nothing new"
        put(bucket, inbox__buoy_1=ROW.format("A", 20), inbox__buoy_3="code,at\nC\n")
        outcome = load(coast, store)
        assert any("inbox/buoy_1.csv was loaded by run 1 and has changed since" in note for note in outcome.notes)
        assert outcome.counts["rejected"] == 1
        counts = load(coast, store, request=brenvik.LoadRequest(files=("inbox/buoy_2.csv",))).counts
        assert (counts["read"], counts["duplicate"]) == (1, 1)
    assert names(bucket) == ["inbox/buoy_1.csv", "inbox/float.csv", *(f"loaded/buoy_{n}.csv" for n in (1, 2, 3))]


def test_an_object_that_cannot_be_read_is_moved_aside(bucket: tuple[Any, str, str], tmp_path: Path) -> None:
    put(bucket, inbox__buoy_1="no\x00text", inbox__buoy_2=ROW.format("B", 1))
    coast = project(tmp_path, bucket[2], 'unreadable_files = { move_to = "bad" }\n')
    with coast.open() as store:
        assert load(coast, store).counts["inserted"] == 1
        assert names(bucket) == ["bad/buoy_1.csv", "inbox/buoy_2.csv"]


def test_a_move_overwrites_no_other_content_and_ends_what_was_broken_off(bucket: tuple[Any, str, str]) -> None:
    folder = ObjectStore(Connection("archive", bucket[2]))
    put(bucket, a="one", loaded__a="two", b="one", loaded__b="one")
    assert [folder.move(f"{name}.csv", f"loaded/{name}.csv") for name in "ab"] == ["loaded/a (2).csv", "loaded/b.csv"]
    assert names(bucket) == ["loaded/a (2).csv", "loaded/a.csv", "loaded/b.csv"]
    assert folder.move("loaded/b.csv", "loaded/b.csv") == "loaded/b.csv"
    assert folder.look("loaded/b.csv")
    folder.delete("loaded/a.csv")
    assert folder.look("loaded/a.csv") is None
    copy = folder.fetch("loaded/a (2).csv")
    assert copy.read_text() == "one"
    folder.release()
    assert not copy.exists()


PATTERNS = [
    "*.csv",
    "b*.csv",
    "inbox/*",
    "inbox/**/*.csv",
    "**/*.csv",
    "**",
    "inbox/?/x.csv",
    "[ab].csv",
    ".*",
    "*/.h/*",
]


def test_patterns_match_objects_as_they_match_files(bucket: tuple[Any, str, str], tmp_path: Path) -> None:
    there = [
        "a.csv",
        "b.csv",
        ".h.csv",
        "inbox/x.csv",
        "inbox/.h/x.csv",
        "inbox/a/x.csv",
        "inbox/a/b/x.csv",
        "other/x.csv",
    ]
    for name in there:
        bucket[0].put_object(Bucket=bucket[1], Key=f"registry/{name}", Body=b"x")
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_bytes(b"x")
    folder, local = ObjectStore(Connection("archive", bucket[2])), LocalFolder(tmp_path)
    for pattern in PATTERNS:
        for besides in ([], ["inbox/a"]):
            assert sorted(folder.find(pattern, besides)) == sorted(local.find(pattern, besides)), pattern


def test_what_is_not_there_is_told(bucket: tuple[Any, str, str], tmp_path: Path) -> None:
    coast = project(tmp_path, bucket[2])
    with coast.open() as store:
        assert load(coast, store).state == "nothing new"
        (buoy,) = status_of(coast, store, coast.chosen())
        assert (
            f"registry: No file in s3://…@{bucket[1]}/registry has ever matched inbox/**/buoy_*.csv." in buoy.attention
        )
    missing = bucket[2].replace(bucket[1], "nowhere")
    with (
        project(tmp_path, missing).open() as store,
        pytest.raises(SourceUnavailable, match="there is no nowhere") as caught,
    ):
        rules = brenvik.TableRules("buoy", natural_key="code")
        store.load(rules, brenvik.FileFeed("registry", "upserts", None, "*.csv", connection=missing))
    assert SECRET not in str(caught.value)


@pytest.mark.parametrize(
    ("feed", "told"),
    [
        (
            'connection = "elsewhere"\nfiles = "*.csv"',
            "'elsewhere' is not in [connections]; valid connections are archive",
        ),
        (
            'connection = "archive"\nsource_table = "x"\nwatermark = "at"',
            "archive is an object store; expected files = ",
        ),
        ('connection = "base"\nfiles = "*.csv"', "base is a database; expected an object store for files"),
        ('connection = "base"\nfiles = "*.csv"\nquery = "x"', "remove files or query"),
        ('files = "s3://buoys/inbox/*.csv"', "files: expected a path; name the object store as a connection"),
    ],
)
def test_a_feed_names_the_right_kind_of_connection(feed: str, told: str, tmp_path: Path) -> None:
    (tmp_path / "brenvik.toml").write_text(
        'store = "duckdb:coast.duckdb"\n[connections]\narchive = "s3://buoys"\nbase = "sqlite:base.db"\n[table.buoy]\n'
        f'natural_key = "code"\n[table.buoy.feed.registry]\nkind = "upserts"\n{feed}\n'
    )
    with pytest.raises(ProjectError) as caught:
        brenvik.read_project(tmp_path / "brenvik.toml")
    assert told in str(caught.value)


def test_a_url_that_arrow_does_not_know_is_refused() -> None:
    with pytest.raises(DeclarationError, match="archive: is not a valid URL of an object store"):
        ObjectStore(Connection("archive", "s3://buoys?colour=red")).find("*.csv")
