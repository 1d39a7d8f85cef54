"""Records that change their natural key: one row, two changes, which the invariants count and order like all others."""

from __future__ import annotations

import json
import tempfile
from collections import Counter
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from oracle import Declared, Oracle, plain
from scenes import DRAWN
from stores import fresh_store

import brenvik
from brenvik.feeds.files import FileSource
from brenvik.feeds.reading import ReadOptions, Record
from brenvik.model.decisions import DECISIONS
from sources import load_from

CODES = brenvik.Operations("op", insert=("I",), update=("U",), delete=("D",))
RECORD = Record("/now", "/was", (("op", "/op"), ("at", "/at")), ("code", "part"), CODES)

keys = st.fixed_dictionaries({"code": st.sampled_from("AB"), "part": st.sampled_from("12")})
values = st.fixed_dictionaries({"name": st.sampled_from("xy"), "light": st.sampled_from([None, "Q", "Fl"])})
absent = st.sampled_from(["", "", "name", "light"])


@st.composite
def records(draw: st.DrawFn) -> dict[str, Any]:
    op = draw(st.sampled_from("IUUUUD"))
    gone = draw(absent)
    now = draw(keys) | {name: value for name, value in draw(values).items() if name != gone}
    was = draw(keys) if op == "U" and draw(st.booleans()) else None
    return {"op": op, "now": None, "was": now} if op == "D" else {"op": op, "now": now, "was": was}


def changes(record: dict[str, Any]) -> list[dict[str, Any]]:
    """What a record says, change by change, as the oracle takes them."""
    row = (record["now"] or record["was"]) | {"op": record["op"], "at": record["at"]}
    was = record["now"] and record["was"]
    moved = was and any(was[name] != row[name] for name in RECORD.keys)
    return [row | was | {"op": "D"}, row] if moved else [row]


@given(
    st.lists(records(), min_size=1, max_size=10),
    st.lists(st.integers(1, 4), min_size=1, max_size=4),
    st.randoms(use_true_random=False),
    st.booleans(),
    st.sampled_from(DRAWN),
)
def test_a_changed_key_is_two_changes(
    made: list[dict[str, Any]], sizes: list[int], dice: Any, late: bool, kind: str
) -> None:
    made = [{**record, "at": number} for number, record in enumerate(made)]
    if late:
        dice.shuffle(made)
    types = {"at": "integer", "name": "text", "light": "text"}
    rules = brenvik.TableRules(
        "buoy",
        natural_key=RECORD.keys,
        order_by="at",
        types=types,
        type_1=("name",),
        type_2=("light",),
        max_deletes=None,
    )
    oracle = Oracle(Declared(RECORD.keys, ("at",), "at", (), ("name",), ("light",), "close"))
    with tempfile.TemporaryDirectory() as folder, fresh_store(kind) as store:
        source = FileSource(
            "*.jsonl", folder=Path(folder), name="files", kind="changes", reading=ReadOptions(record=RECORD)
        )
        rest, number = made + made[:2], 0  # the first two come again
        while rest:
            size = sizes[number % len(sizes)]
            part, rest = rest[:size], rest[size:]
            number += 1
            text = "".join(json.dumps(record) + "\n" for record in part)
            (Path(folder) / f"{number:03d}.jsonl").write_text(text)
            outcome = load_from(store, rules, source, operations=CODES)
            said = [change for record in part for change in changes(record)]
            expected = oracle.load([{**change, "at": int(change["at"])} for change in said])
            counts = outcome.counts
            assert (counts["read"], counts["derived"]) == (len(part), len(said) - len(part))
            assert {name: counts[name] for name in DECISIONS if counts[name]} == Counter(expected)
            assert outcome.decisions()["decision"].to_pylist() == expected
            lines = [line for line, record in enumerate(part, 1) for _ in changes(record)]
            assert outcome.decisions()["line"].to_pylist() == lines
        names = (*RECORD.keys, "name", "light", "valid_from", "valid_to", "is_deleted")
        held = sorted([plain(row[name]) for name in names] for row in store.read(rules).to_pylist())
        assert str(held) == str(sorted([plain(row[name]) for name in names] for row in oracle.rows()))
