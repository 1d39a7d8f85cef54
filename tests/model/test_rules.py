"""Declarations: what is accepted, and that every fault is told at once, by column."""

from __future__ import annotations

import dataclasses
import re
from datetime import date
from typing import Any

import pytest

import brenvik
from brenvik.errors import RulesError
from brenvik.model.types import parse_type


def faults(**declared: Any) -> tuple[str, ...]:
    with pytest.raises(RulesError) as caught:
        brenvik.TableRules("buoy", **{"natural_key": "code", **declared})
    return caught.value.faults


def test_all_faults_are_told_at_once() -> None:
    told = faults(
        natural_key=["code", "code"],
        order_by=["at"],
        type_1=["code"],
        type_2=["light"],
        exclude=["light"],
        types={"code": "double", "at": "text", "light": "colour"},
        system_columns={"valid_from": False, "validity": "v"},
        max_rejects=1.5,
    )
    for part in (
        "natural_key: names 'code' 2 times",
        "code: is in natural_key and type_1",
        "light: is in type_2 and exclude",
        "types: light: 'colour' is not a valid type",
        "code: natural key column of type double",
        "at: order_by column is text",
        "'validity' is not a system column",
        "valid_from cannot be left out",
        "1.5 is not a share",
    ):
        assert any(part in fault for fault in told), part


@pytest.mark.parametrize(
    ("declared", "told"),
    [
        ({"natural_key": [], "order_by": "at"}, "order_by: needs a natural key"),
        ({"deletes": "burn"}, "deletes: Input should be 'close', 'remove', 'review' or 'ignore'"),
        ({"no_such_rule": 1}, "no_such_rule: is not a table rule"),
        ({"order_by": "code"}, "a key column cannot order the changes of its own key"),
        ({"effective_at": "code"}, "a key column cannot be the effective time"),
        ({"type_1": ["brenvik_x"]}, "begin with 'brenvik_'"),
        ({"order_by": "day", "types": {"day": "date"}, "time_precision": "hour"}, "day is date, which has no hours"),
        ({"order_by": "no", "types": {"no": "integer"}, "open_end": date(9999, 12, 31)}, "does not fit no"),
        ({"system_columns": {"valid_to": "valid_from"}}, "would be the name of 2 columns"),
        (
            {"max_deletes": "20%"},
            "max_deletes: expected a whole number, 0 or more, or a share between 0.0 and 1.0, got '20%'",
        ),
        (
            {"max_changes": True},
            "max_changes: expected a whole number, 0 or more, or a share between 0.0 and 1.0, got True",
        ),
        ({"type_1": ["Is_Current"]}, "'is_current' would be the name of 2 columns"),
        (
            {"other_columns": "type_1", "system_columns": {"valid_to": False, "is_deleted": False}},
            "needs valid_to or is_deleted",
        ),
    ],
)
def test_a_fault_is_told_by_its_column(declared: dict[str, Any], told: str) -> None:
    assert any(told in fault for fault in faults(**declared))


def test_the_name_of_a_table_is_a_rule_as_well() -> None:
    with pytest.raises(RulesError, match="table: String should have at least 1 character"):
        brenvik.TableRules("", natural_key="code")


def test_rules_cannot_be_changed() -> None:
    rules = brenvik.TableRules("buoy", natural_key="code")
    with pytest.raises(dataclasses.FrozenInstanceError):
        rules.deletes = "remove"  # type: ignore[misc]


def test_roles() -> None:
    rules = brenvik.TableRules(
        "buoy", natural_key="code", order_by=["at", "no"], type_0="since", type_1=["name", "no"], exclude="note"
    )
    roles = {name: rules.role_of(name) for name in ("code", "at", "no", "since", "name", "note", "light")}
    assert roles == {
        "code": None, "at": None, "no": "type_1", "since": "type_0", "name": "type_1", "note": None, "light": "type_2",
    }  # fmt: skip
    assert rules.effective_column == "at"
    assert brenvik.TableRules("buoy", natural_key="code").effective_column is None


@pytest.mark.parametrize("text", ["text", "text(8)", "decimal(38,0)", "timestamp with time zone", "binary"])
def test_types_are_written_as_they_are_read(text: str) -> None:
    assert str(parse_type(text)) == text
    assert str(parse_type(f" {text.upper()} ")) == text


@pytest.mark.parametrize("text", ["text(0)", "decimal(39,0)", "decimal(4,5)", "varchar", ""])
def test_what_is_no_type_is_told(text: str) -> None:
    with pytest.raises(ValueError, match=r"is not a valid type|needs 1 to 38 digits"):
        parse_type(text)


@pytest.mark.parametrize(
    ("declared", "meant"),
    [("int", "integer"), ("string", "text"), ("VARCHAR(20)", "text(20)"), ("numeric(9,2)", "decimal(9,2)"), ("float", "double"),
     ("datetime", "timestamp"), ("timestmp", "timestamp"), ("bool", "boolean"), ("decimal(5.1)", "decimal(5,1)")],
)  # fmt: skip
def test_the_type_that_was_meant_is_named(declared: str, meant: str) -> None:
    with pytest.raises(RulesError, match=re.escape(f"{declared!r} is not a valid type; did you mean {meant!r}?")):
        brenvik.TableRules("buoy", natural_key="code", types={"n": declared})


def test_the_rule_that_was_meant_is_named_and_a_missing_key_has_an_example() -> None:
    with pytest.raises(RulesError, match="order_bye: is not a table rule; did you mean 'order_by'"):
        brenvik.TableRules("buoy", natural_key="code", order_bye="at")  # type: ignore[call-arg]
    with pytest.raises(RulesError, match=re.escape('deletes: needs a natural key, as in natural_key = ["buoy_code"]')):
        brenvik.TableRules("buoy", deletes="remove")
