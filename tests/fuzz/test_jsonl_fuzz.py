"""Lines of JSON, right and almost right: the members that a strict parser finds, as they are written, or a reject."""

from __future__ import annotations

import json
import random
from pathlib import Path
from typing import Any

from brenvik.feeds import jsonl
from brenvik.feeds.protocol import BrokenLine
from brenvik.feeds.reading import PLAIN_RECORD
from counts import FUZZED, SEED, tried

NAMES = (
    "k",
    "line",
    "place",
    "reason",
    "carried",
    "derived",
    "said",
    "now",
    "was",
    "value_0",
    "is_marked",
    "a b",
    "日",
)
NUMBERS = (
    "0", "-0", "1.10", "12345678901234567890.123", "1e5", "1E-400", "0.1", "450.0", "-1.5e+10", "9007199254740993",
)  # fmt: skip
TEXTS = (
    "",
    "x",
    "1.10",
    "NaN",
    ",]",
    ", }",
    "inf",
    "é",
    "\u2028",
    "\x01",
    "\x02",
    "{",
    '"',
    "\\",
    "\ufdd01.5",
    "a\x7fb",
    "/",
)
ODD = (
    ",}",
    ",]",
    "NaN",
    "Infinity",
    "-inf",
    "nan",
    "01",
    "+1",
    ".5",
    "5.",
    "'x'",
    "tru",
    "//",
    "\t",
    "\x0b",
    '"\\ud800"',
    "",
)


class Number(str):
    """A number as it is written."""


def value(dice: random.Random, depth: int) -> str:
    kind = dice.randrange(6 if depth else 4)
    if kind == 4:
        return "{" + ", ".join(f"{json.dumps(name)}: {value(dice, depth - 1)}" for name in dice.sample(NAMES, 2)) + "}"
    if kind == 5:
        return "[" + ",".join(value(dice, depth - 1) for _ in range(dice.randint(0, 3))) + "]"
    plain = ("true", "false", "null", dice.choice(NUMBERS))
    text = json.dumps(dice.choice(TEXTS) + dice.choice(["", dice.choice(TEXTS)]), ensure_ascii=dice.random() < 0.5)
    return text if kind < 2 else dice.choice(plain)


def one_line(dice: random.Random) -> str:
    members = [f"{json.dumps(name)}:{value(dice, 2)}" for name in dice.sample(NAMES, dice.randint(1, 3))]
    line = "{" + ", ".join(members) + "}"
    if dice.random() < 0.3:
        at = dice.randrange(len(line) + 1)
        line = line[:at] + dice.choice(ODD) + line[at + dice.choice([0, 0, 1]) :]
    found = strict(line)
    return (
        line if found is None or found.keys() <= set(NAMES) else one_line(dice)
    )  # others may clash but for their case


def strict(line: str) -> dict[str, Any] | None:
    def no_constant(name: str) -> None:
        raise ValueError(name)

    def members(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        return dict(pairs) if len(dict(pairs)) == len(pairs) else {"": None}

    try:
        found = json.loads(
            line, parse_float=Number, parse_int=Number, parse_constant=no_constant, object_pairs_hook=members
        )
        json.dumps(found, ensure_ascii=False).encode()  # half of a surrogate pair is no text
    except ValueError:
        return None
    return found if isinstance(found, dict) and "" not in found else None


def same(ours: str | None, expected: Any) -> bool:
    if expected is None or isinstance(expected, bool):
        return ours == {None: None, True: "true", False: "false"}[expected]
    if isinstance(expected, str):
        return ours == expected
    assert ours is not None
    return bool(json.loads(ours, parse_float=Number, parse_int=Number) == expected)


def test_json_lines_are_read_as_a_strict_parser_reads_them(tmp_path: Path) -> None:
    dice = random.Random(f"json lines{SEED}")
    path, done = tmp_path / "a.jsonl", 0
    while done < FUZZED:
        lines = [one_line(dice) for _ in range(min(500, FUZZED))]
        path.write_text("\n".join(lines) + "\n", encoding="utf-8", newline="")
        found = jsonl.column_sets_in(path, PLAIN_RECORD)
        sets = {names: number for number, names in enumerate(found)}
        columns = sorted({name for names in found for name in names})
        broken: list[BrokenLine] = []
        rows: dict[int, dict[str, Any]] = {}
        for piece in jsonl.read(path, 0, sets, columns, broken, PLAIN_RECORD):
            places = [number // 2 for number in piece.sequence_numbers.to_pylist()]
            rows |= dict(zip(places, piece.rows.to_pylist(), strict=True))
        refused = {each.line for each in broken}
        for number, line in enumerate(lines, 1):
            expected = strict(line)
            if expected is None or number in refused:
                assert number in refused, line
                assert expected is None or "\ufdd0" in line or "\\ufdd0" in line, line
                continue
            row = {name: text for name, text in rows[number].items() if name in expected}
            assert row.keys() == expected.keys(), line
            assert all(same(row[name], expected[name]) for name in row), f"{line}\n{row}"
        done += len(lines)
    tried("duckdb", done, what="fuzzed rows of JSON Lines")
