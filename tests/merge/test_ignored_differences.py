"""Differences that make no change, and keys in one form."""

from __future__ import annotations

from dataclasses import replace

import pyarrow as pa
import pytest

import brenvik
from brenvik.errors import FeedError, RulesChanged, RulesError, SchemaMismatch
from brenvik.model.rules import SYSTEM_COLUMNS
from scripts import execute

RULES = brenvik.TableRules(
    "buoy",
    natural_key="code",
    natural_key_form=["upper", "blanks"],
    order_by="at",
    type_0="since",
    ignored_differences={"name": ["case", "blanks"], "depth": {"round": 1}, "since": "unicode"},
    types={"at": "integer", "depth": "decimal(6,3)"},
)


def frame(*rows: tuple[str, int, str, str, str]) -> pa.Table:
    columns = zip(*rows, strict=True)
    return pa.table(dict(zip(("code", "at", "name", "depth", "since"), map(list, columns), strict=True)))


def test_what_differs_in_nothing_else_is_unchanged(anywhere: brenvik.Store) -> None:
    anywhere.load(RULES, frame(("nb-1", 1, "Tarva", "4.012", "é")), kind="upserts")
    outcome = anywhere.load(RULES, frame((" NB-1 ", 2, "TARVA ", "4.049", "e\u0301")), kind="upserts")
    assert outcome.counts["unchanged"] == 1
    told = anywhere.load(RULES, frame(("NB-1", 3, "tarva", "4.050", "é!")), kind="upserts").decisions().to_pylist()[0]
    assert told["reason"] == "depth 4.012 → 4.050; since stays é; the source has é!"
    rows = anywhere.history(RULES, "nb-1").to_pylist()
    assert [(row["code"], row["name"], str(row["depth"]), row["since"]) for row in rows] == [
        ("NB-1", "Tarva", "4.012", "é"), ("NB-1", "Tarva", "4.050", "é"),
    ]  # fmt: skip
    assert len(anywhere.change_log(RULES, "nb-1")) == 3
    late = anywhere.load(RULES, frame(("nb-1", 2, "Tarva", "4.03", "é")), kind="upserts")
    assert late.counts["duplicate"] == 1
    assert anywhere.rebuild(RULES).counts["rows_updated"] == 0
    plain = replace(RULES, ignored_differences={})
    anywhere.rebuild(plain)
    assert [row["name"] for row in anywhere.history(plain, "NB-1").to_pylist()] == ["Tarva", "TARVA ", "tarva"]


def test_an_extract_compares_in_the_same_way(anywhere: brenvik.Store) -> None:
    rules = replace(RULES, order_by=(), types={"depth": "double"}, max_deletes=None)
    rows = frame(("nb-1", 1, "Tarva", "4.012", "é"), ("nb-2", 1, "Nes", "1", "é")).drop_columns(["at"])
    again = frame(("NB-1", 1, "TARVA", "4.02", "é"), ("NB-2", 1, "Nes  ", "1.06", "é")).drop_columns(["at"])
    anywhere.load(rules, rows, kind="full_extract", at="2024-05-13")
    outcome = anywhere.load(rules, again, kind="full_extract", at="2024-05-14")
    assert (outcome.counts["unchanged"], outcome.counts["versioned"], outcome.counts["derived"]) == (1, 1, 0)
    assert [row["name"] for row in anywhere.read(rules).to_pylist()] == ["Tarva", "Nes", "Nes"]


@pytest.mark.parametrize(
    ("rules", "said"),
    [
        ({"ignored_differences": {"code": ["case"]}}, "code: is in natural_key, not_compared or exclude"),
        ({"ignored_differences": {"name": []}}, 'name: expected a list as in ["case", "blanks"]'),
        ({"ignored_differences": {"depth": {"round": -1}}}, "or digits as in { round = 2 }, 0 to 15"),
        ({"natural_key_form": ["lower", "upper"]}, "natural_key_form: names lower and upper; expected one of them"),
    ],
)
def test_rules_that_cannot_be(rules: dict[str, object], said: str) -> None:
    with pytest.raises(RulesError) as caught:
        replace(RULES, **rules)  # type: ignore[arg-type]
    assert said in str(caught.value)


def test_what_can_be_ignored_depends_on_the_type(anywhere: brenvik.Store) -> None:
    rows = frame(("nb-1", 1, "Tarva", "4.012", "é"))
    with pytest.raises(FeedError, match="at is integer; only decimals and doubles can be rounded"):
        anywhere.load(replace(RULES, ignored_differences={"at": {"round": 1}}, type_1="at"), rows, kind="upserts")
    with pytest.raises(FeedError, match="depth is decimal\\(6,3\\); case, blanks and unicode are differences of texts"):
        anywhere.load(replace(RULES, ignored_differences={"depth": ["case"]}), rows, kind="upserts")


def test_keys_stay_in_one_form(anywhere: brenvik.Store) -> None:
    anywhere.load(RULES, frame(("nb-1", 1, "Tarva", "4.012", "é")), kind="upserts")
    other = replace(RULES, natural_key_form="lower")
    with pytest.raises(RulesChanged, match="natural_key_form: was"):
        anywhere.load(other, frame(("nb-1", 2, "Tarva", "4.012", "é")), kind="upserts")
    execute(
        anywhere,
        'CREATE TABLE "old" ("old_key" BIGINT, "code" TEXT, "name" TEXT)',
        "INSERT INTO \"old\" VALUES (1, 'nb-1', 'Tarva'), (2, 'NB-2', 'Nes')",
    )
    none = dict.fromkeys((*SYSTEM_COLUMNS,), False) | {"surrogate_key": "old_key"}
    old = brenvik.TableRules(
        "old",
        natural_key="code",
        natural_key_form="upper",
        other_columns="type_1",
        deletes="remove",
        system_columns=none,  # type: ignore[arg-type]
    )
    with pytest.raises(SchemaMismatch, match="rows whose natural key is not in natural_key_form: 1"):
        anywhere.adopt(old, {"code": "text", "name": "text"})
