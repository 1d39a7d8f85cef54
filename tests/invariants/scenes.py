"""The feeds that the invariants are tried on: a pool of table shapes, and strategies that draw changes for them.

The shapes are drawn once, from a seed, so that every column type, role, key width and kind of order comes up often and
the SQL of a shape is made only once a process.
"""

from __future__ import annotations

import random
from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from typing import Any

import pyarrow as pa
from hypothesis import strategies as st
from oracle import Declared

import brenvik
from brenvik.model.rules import TimePrecision
from brenvik.model.text_forms import KeyForm
from counts import STORES

TABLE = "things of note"
DRAWN = [kind for kind in STORES if kind != "lakehouse"] * 5 + [kind for kind in STORES if kind == "lakehouse"]
"""The kinds of stores as they are drawn; a lakehouse takes several times as long as the others."""
_DAY = date(2024, 5, 13)
_MOMENT = datetime(2024, 5, 13, 8)

LONG = "".join(random.Random("long").choices("abcdefghij", k=10_000))
NAMES = (
    "line", "reason", "file", "row", "content", "place", "carried", "derived", "arrival", "members", "column", "value", "key",
    "state", "run", "feed", "since", "select", "from", "order", "1", " ", "a.b", "a/b", "~0", "%s", ":x", "$1", "?",
    "tab\t", "new\nline", "o'x", '"q"', "\u00e9", "e\u0301", "日本", "\u202e", "\x1b[31m", "{}", "[]",
    "\\n", "as", "q", "t", "s", "k",
)  # fmt: skip
"""What columns may be called all the same: words of SQL and of ours, marks, and characters that play tricks."""

POOLS: dict[str, list[Any]] = {
    "integer": [0, 1, -1, 2**63 - 1, -(2**63)],
    "decimal(38,0)": [Decimal(0), Decimal(2**64), Decimal(-(10**37)), Decimal(10**38 - 1)],
    "decimal(9,2)": [Decimal("0.00"), Decimal("1.10"), Decimal("1.14"), Decimal("-9999999.99")],
    "double": [float("nan"), -0.0, 0.0, 1.5, 1.52, float("inf"), -1e300],
    "text": [
        "",
        " ",
        "a",
        "A",
        "a ",
        "\u00a0A",
        "NA",
        "null",
        "é",
        "e\u0301",
        "\u00a0",
        "o'x",
        '"q"',
        "%_",
        "日本",
        "x\ny",
        "007",
        "\x01\x1b[31m\x7f",
        "\r\t\x1f",
        "\u202e\ufeff",
    ],
    "text(20000)": [LONG, LONG[:-1] + "y", ""],
    "text(4)": ["", "abcd", "日本語字", "a"],
    "boolean": [True, False],
    "date": [date(1, 1, 1), _DAY, date(9999, 12, 31)],
    "time": [time(0), time(8, 30), time(23, 59, 59, 999999)],
    "timestamp": [_MOMENT, _MOMENT + timedelta(microseconds=1), datetime(1969, 12, 31, 23, 59, 59, 999999)],
    "timestamp with time zone": [datetime(2024, 5, 13, 8, tzinfo=UTC), datetime(2024, 3, 31, 1, 0, tzinfo=UTC)],
    "binary": [b"", b"\x00\xff", b"a"],
}
KEY_POOLS: dict[str, list[Any]] = {
    kind: POOLS[kind][:4] for kind in POOLS if kind not in {"double", "boolean", "decimal(9,2)"}
}
WHEN: dict[str, list[Any]] = {
    "timestamp": [_MOMENT + timedelta(microseconds=n) for n in (0, 1, 2, 10**6, 2 * 10**6, 3 * 10**6)],
    "timestamp with time zone": [
        datetime(2024, 10, 27, 0, 30, tzinfo=UTC) + timedelta(minutes=30 * n) for n in range(6)
    ],
    "date": [_DAY + timedelta(days=n) for n in range(6)],
    "integer": [-(2**63), -1, 0, 1, 2, 2**63 - 1],
}
ORDER: dict[str, list[Any]] = {**WHEN, "decimal(38,0)": [Decimal(10**30 + n) for n in range(6)]}
_ARROW = {
    "integer": pa.int64(),
    "double": pa.float64(),
    "text": pa.string(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "time": pa.time64("us"),
    "timestamp": pa.timestamp("us"),
    "timestamp with time zone": pa.timestamp("us", tz="UTC"),
    "binary": pa.binary(),
}


def _arrow(kind: str) -> pa.DataType:
    name, _, size = kind.rstrip(")").partition("(")
    return pa.decimal128(*map(int, size.split(","))) if name == "decimal" else _ARROW[name]


@dataclass(frozen=True)
class Scene:
    """One shape of a table and its feed, in one kind of store."""

    number: int
    rules: brenvik.TableRules
    declared: Declared
    types: tuple[tuple[str, str], ...]
    kind: str
    store: str = "duckdb"

    def frame(self, rows: list[dict[str, Any]], columns: Iterable[str]) -> pa.Table:
        """Rows as an Arrow table with these columns of the scene."""
        types = {**dict(self.types), "op": "text"}
        fields = [pa.field(name, _arrow(types[name])) for name in columns]
        return pa.table([pa.array([row[f.name] for row in rows], f.type) for f in fields], schema=pa.schema(fields))

    def load(self, store: brenvik.Store, batch: Batch, *, preview: bool = False, **options: Any) -> brenvik.Outcome:
        do = store.preview if preview else store.load
        second = self.kind == "changes" and "op" not in batch.columns  # the table has a feed that says no operations
        kind = "upserts" if second else self.kind
        return do(
            self.rules,
            self.frame(batch.rows, batch.columns),
            kind=kind,  # type: ignore[arg-type]
            operation="op" if kind == "changes" else None,
            feed="second" if second else "frame",
            **options,
        )

    @property
    def own(self) -> dict[str, str | None]:
        names = ("surrogate_key", "valid_from", "valid_to", "is_current", "is_deleted", "last_run")
        return {name: self.rules.system_column_name(name) for name in names}


@dataclass
class Batch:
    rows: list[dict[str, Any]]
    columns: tuple[str, ...]

    def __repr__(self) -> str:
        shown = "\n".join(f"    {row}" for row in self.rows)
        return f"Batch({', '.join(self.columns)})\n{shown}"


def _draw_scene(
    number: int,
    *,
    change_log: bool = True,
    with_order: bool | None = None,
    cuts: bool = False,
    flags: bool = False,
    beside: bool = False,
    previous: bool = False,
    ties: bool = False,
    first_arrived: bool = False,
    ignores: bool = False,
) -> Scene:
    dice = random.Random(f"scene {number}")
    types: dict[str, str] = {}
    names = iter(random.Random(f"names {number}").sample(NAMES, 12))

    def called(usual: str) -> str:
        """A column is called by what it is, or in a third of the scenes by what it should not be."""
        return next(names) if number % 3 == 0 else usual

    keys = tuple(called(f"key {n}") for n in range(dice.choice([1, 1, 2, 3])))
    types |= {name: dice.choice(list(KEY_POOLS)) for name in keys}
    has_order = dice.random() < 0.85 if with_order is None else with_order
    order = tuple(called(f"order {n}") for n in range(dice.choice([1, 1, 2]))) if has_order else ()
    types |= {name: dice.choice(list(ORDER)) for name in order}
    apart = dice.random() < 0.4 or (bool(order) and types[order[0]].startswith("decimal"))
    effective = "holds from" if apart else order[0] if order else None
    if apart:
        types["holds from"] = dice.choice(list(WHEN))
    roles: dict[str, list[str]] = {"type_0": [], "type_1": [], "type_2": []}
    possible = dice.choice([["type_0", "type_1", "type_2"], ["type_1"], ["type_2"], ["type_1", "type_2"], ["type_0"]])
    for n in range(dice.choice([1, 2, 3, 4])):
        name = called(f'value "{n}"')
        types[name] = dice.choice(list(POOLS))
        roles[dice.choice(possible)].append(name)
    if flags:
        types["is gone?"] = "boolean"
        roles[dice.choice(possible)].append("is gone?")
    not_compared = (called("read at"),) if beside else ()
    types |= dict.fromkeys(not_compared, "integer")
    kept = roles["type_1"][: 1 + number % 2] if previous else []
    type_3 = {name: f"before {n}" for n, name in enumerate(kept)}
    values = [name for names_of_role in roles.values() for name in names_of_role]
    forms: dict[str, tuple[Any, ...]] = {}
    for name in values if ignores else []:
        if types[name].startswith("text"):
            forms[name] = random.Random(f"{number} {name}").choice(
                [("case",), ("blanks",), ("blanks", "case", "unicode")]
            )
        elif types[name] in ("double", "decimal(9,2)"):
            forms[name] = ("round", len(name) % 3)
    key_form: tuple[KeyForm, ...] = random.Random(number).choice([("upper", "blanks"), ("lower",)]) if ignores else ()
    deletes = dice.choice(["close", "close", "remove"])
    versions = bool(roles["type_2"])
    system_columns: dict[str, Any] = {}
    if dice.random() < 0.3:
        system_columns["is_current"] = False
        system_columns["first_run"] = "brought by"
    if not versions and dice.random() < 0.3:
        system_columns["valid_from"] = False
    if not versions and dice.random() < 0.3:
        system_columns["valid_to"] = False
    elif dice.random() < 0.2:
        system_columns["is_deleted"] = False
    when = types[effective] if effective else "timestamp"
    ends = {"date": "9999-12-31", "timestamp": "9999-12-31", "timestamp with time zone": "9999-12-31T00:00:00+00:00"}
    rules = brenvik.TableRules(
        TABLE,
        natural_key=keys,
        natural_key_form=key_form,
        order_by=order,
        effective_at="holds from" if apart else None,
        type_0=tuple(roles["type_0"]),
        type_1=tuple(name for name in roles["type_1"] if name not in type_3),
        type_2=tuple(roles["type_2"]),
        type_0_changes="first_arrived" if first_arrived else "protect",
        type_3=type_3,
        other_columns="type_1",
        not_compared=not_compared,
        ignored_differences={name: {"round": of[1]} if of[0] == "round" else of for name, of in forms.items()},
        deletes=deletes,
        types=types,
        change_log=change_log,
        max_deletes=None,
        system_columns=system_columns,
        open_end=ends.get(when) if dice.random() < 0.3 else None,
        delete_if='"is gone?"' if flags else None,
        ties="reject" if ties else "latest_arrival",
    )
    if cuts and when.startswith("timestamp"):
        units: list[TimePrecision] = ["second", "minute", "hour", "day", "week", "month"]
        zone = dice.choice(["Europe/Oslo", "Asia/Kathmandu"]) if when.endswith("zone") else "UTC"
        rules = replace(rules, time_precision=dice.choice(units), time_zone=zone)
    elif cuts and when == "date":
        rules = replace(rules, time_precision=dice.choice(["week", "month"]))
    declared = Declared(
        keys,
        order,
        effective,
        tuple(roles["type_0"]),
        tuple(roles["type_1"]),
        tuple(roles["type_2"]),
        deletes,
        rules.time_precision,
        rules.time_zone,
        "is gone?" if flags else None,
        not_compared,
        type_3,
        forms,
        key_form,
        first_arrived,
        ties,
    )
    kind = dice.choice(["changes", "changes", "upserts"])
    rules = replace(rules, write_mode=dice.choice(["merge_on_read", "merge_on_read", "copy_on_write"]))
    return Scene(number, rules, declared, tuple(types.items()), kind)


SCENES = [
    _draw_scene(
        number,
        cuts=number % 4 == 1,
        flags=number % 5 == 2,
        beside=number % 7 in (3, 5),
        previous=number % 3 == 1,
        ties=number % 8 == 6,
        first_arrived=number % 5 == 3,
        ignores=number % 2 == 0,
    )
    for number in range(48)
]
ORDERED = [scene for scene in SCENES if scene.declared.order]
EXTRACTED = [
    scene
    for number in range(200, 280)
    if (
        scene := _draw_scene(number, with_order=False, ties=number % 6 == 0, ignores=number % 3 == 0)
    ).declared.effective
    is None
]
"""Shapes of tables that take extracts: these are ordered by their times."""
HELD = [
    replace(scene, rules=replace(scene.rules, deletes="review"))
    for scene in ORDERED
    if scene.declared.deletes == "close"
]
IGNORED = [replace(scene, rules=replace(scene.rules, deletes="ignore")) for scene in HELD]
EXTRACTED_HELD = [
    replace(scene, rules=replace(scene.rules, deletes="review"))
    for scene in EXTRACTED
    if scene.declared.deletes == "close"
]
UNKEPT = [_draw_scene(number, change_log=False, with_order=True) for number in range(100, 124)]


def has_long_key(scene: Scene) -> bool:
    return any(dict(scene.types)[name] == "text(20000)" for name in scene.declared.keys)


def some(scenes: list[Scene]) -> st.SearchStrategy[Scene]:
    """One of the scenes, in one of the stores."""

    def in_store(scene: Scene, store: str) -> Scene:
        types = dict(scene.types)
        if store == "sqlite" and any(types[name].startswith("decimal") for name in scene.declared.order):
            store = "duckdb"  # SQLite cannot put decimals in order
        if store == "postgres" and has_long_key(scene):
            store = "duckdb"  # in an index of PostgreSQL is no room for them
        return replace(scene, store=store)

    return st.builds(in_store, st.sampled_from(scenes), st.sampled_from(DRAWN))


NEARLY_ALIKE = ["a", "A", " a", "a  b", "a B", "a\u00a0b", "é", "E\u0301", "Æ", "æ", ""]


def keys_of(scene: Scene, name: str) -> list[Any]:
    """Values for a column of the key."""
    kind = dict(scene.types)[name]
    return ["a", "A", "\u00a0 a"] if scene.declared.key_form and kind.startswith("text") else KEY_POOLS[kind][:2]


def pool(scene: Scene, name: str) -> list[Any]:
    """Values for a column that the scene's store can hold; where differences are ignored, texts that have some."""
    kind = dict(scene.types)[name]
    if name in scene.declared.ignored and kind.startswith("text") and kind != "text(20000)":
        return NEARLY_ALIKE
    return [value for value in POOLS[kind] if scene.store != "sqlite" or value == value]


def _some_times(kind: str, batch: int, *, in_order: bool) -> list[Any]:
    """The times a batch draws from: a third of them, or all."""
    return ORDER[kind][2 * batch : 2 * batch + 2] if in_order else ORDER[kind]


@st.composite
def batches(
    draw: st.DrawFn, scene: Scene, *, faults: bool = True, absent: bool = True, second: bool = True, most: int = 3
) -> list[Batch]:
    """A few batches for a scene: few keys, few values, few times, so that everything collides."""
    types = dict(scene.types)
    d = scene.declared
    key = st.fixed_dictionaries({name: st.sampled_from(keys_of(scene, name)) for name in d.keys})
    when = dict.fromkeys((*d.order, *filter(None, [d.effective])))
    in_order = draw(st.booleans())  # then each batch has times above those of all before it
    domains = {
        name: st.sampled_from([None, *draw(st.lists(st.sampled_from(pool(scene, name)), min_size=1, max_size=3))])
        for name in d.values
    }
    operation = {"op": st.sampled_from(["I", "U", "U", "D"])} if scene.kind == "changes" else {}
    made = []
    for number in range(draw(st.integers(1, most))):
        times = {name: st.sampled_from(_some_times(types[name], number, in_order=in_order)) for name in when}
        row = st.builds(lambda k, rest: k | rest, key, st.fixed_dictionaries({**operation, **times, **domains}))
        rows = draw(st.lists(row, min_size=0, max_size=8))
        if rows and draw(st.booleans()):
            rows += draw(st.lists(st.sampled_from(rows), max_size=3))
        if faults and rows and draw(st.integers(0, 4)) == 0:
            name = draw(st.sampled_from([*d.keys, *d.order]))
            rows.append({**draw(st.sampled_from(rows)), name: None})
        gone = (
            draw(st.sets(st.sampled_from(d.values), max_size=1)) if absent and draw(st.integers(0, 3)) == 0 else set()
        )
        columns = tuple(name for name in (*operation, *types) if name not in gone)
        if second and operation and draw(st.integers(0, 3)) == 0:
            columns = tuple(name for name in columns if name != "op")
        made.append(Batch([{name: r[name] for name in columns} for r in rows], columns))
    return made


@st.composite
def cases(draw: st.DrawFn, scenes: list[Scene] = SCENES, **how: Any) -> tuple[Scene, list[Batch]]:
    scene = draw(some(scenes))
    return scene, draw(batches(scene, **how))
