"""What each rule costs: 100,000 changes into a history of 200,000 keys, with the rule and without it. Written to
docs/benchmarks/rules.md.

Each load is into a fresh history in a DuckDB in memory: newer changes of which each has a key of its own, and the same with a
tenth of them late. The ways take turns; a ratio is the median of those of the rounds.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

import brenvik
import history

KEYS, SIZE, TIMES = 200_000, 100_000, 5
NONE = "no further rule"
TRIMMED = "into a table whose change log is trimmed"
ABSENT = brenvik.FeedColumns(values=brenvik.ValueFormats(absent_words="~"))
PLAIN = brenvik.TableRules(
    "buoy",
    natural_key="code",
    order_by="changed_at",
    type_1="name",
    types={"changed_at": "timestamp with time zone"},
    max_deletes=None,
)
RULES: dict[str, dict[str, Any]] = {
    NONE: {},
    'type_0 = "region"': {"type_0": "region"},
    '… type_0_changes = "first_arrived"': {"type_0": "region", "type_0_changes": "first_arrived"},
    '… type_0_changes = "refuse"': {"type_0": "region", "type_0_changes": "refuse"},
    'type_3 = { status = "status_before" }': {"type_3": {"status": "status_before"}},
    'not_compared = "mass_kg"': {"not_compared": "mass_kg"},
    'ignored_differences: case and blanks of "light"': {"ignored_differences": {"light": ["case", "blanks"]}},
    'ignored_differences: "depth_m" rounded': {"ignored_differences": {"depth_m": {"round": 1}}},
    'natural_key_form = ["upper", "blanks"]': {"natural_key_form": ["upper", "blanks"]},
    "derive: two texts joined": {"derive": {"label": "name || ' ' || light"}},
    'surrogate_key = "hash"': {"surrogate_key": "hash"},
    'surrogate_key = "uuid"': {"surrogate_key": "uuid"},
    'surrogate_key = "identity"': {"surrogate_key": "identity"},
    "stamps: one for each event": {
        "stamps": {"by": {"added": "feed", "overwritten": "feed"}, "why": {"closed": "'replaced'", "deleted": "'gone'"}}
    },
    'ties = "reject"': {"ties": "reject"},
    'time_precision = "hour", in a zone': {"time_precision": "hour", "time_zone": "Europe/Oslo"},
    "absent_words": {},
    TRIMMED: {},
}


def frames() -> tuple[pa.Table, Mapping[str, pa.Table]]:
    """The rows of the history, and the changes by kind."""
    rows = history.changes(np.arange(KEYS), history.EPOCH)
    newer = history.batch(KEYS * 5 // 4, SIZE)
    return _coded(rows), {"newer": _coded(newer), "a tenth late": _coded(history.with_late(newer, 0.1))}


def _coded(rows: pa.Table) -> pa.Table:
    codes = pa.array([f"NB-{number}" for number in rows["buoy_no"].to_pylist()])
    rows = rows.set_column(0, "code", codes)
    zoned = rows["changed_at"].cast(pa.timestamp("us", tz="UTC"))
    return rows.set_column(rows.column_names.index("changed_at"), "changed_at", zoned)


def seconds(rule: str, rows: pa.Table, changes: pa.Table) -> float:
    rules = replace(PLAIN, **RULES[rule])
    columns = ABSENT if rule == "absent_words" else None
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(rules, rows, kind="upserts", explain=False)
        if rule == TRIMMED:
            store.trim(rules, keep="0 days")
        begin = time.perf_counter()
        store.load(rules, changes, kind="upserts", columns=columns, allow_type_0=SIZE, explain=False)
        return time.perf_counter() - begin


APPENDED = {"keep": "INSERT INTO landed SELECT row_number() OVER (), n.*, 2, now()::TIMESTAMP FROM new_rows n"}
"""How rows without a key are appended by hand."""


def appended(rows: pa.Table, changes: pa.Table) -> dict[tuple[str, str], float]:
    """Seconds for appending the changes to the rows, of which a tenth of the changes are copies; by hand and with Brenvik, with
    and without dropping those."""
    new = pa.concat_tables([changes.slice(SIZE // 10), rows.slice(0, SIZE // 10)])
    same = " AND ".join(f'l."{name}" IS NOT DISTINCT FROM n."{name}"' for name in new.column_names)
    by_hand = APPENDED | {"drop": f"{APPENDED['keep']} WHERE NOT EXISTS (SELECT 1 FROM landed l WHERE {same})"}
    spent = {}
    for what, statement in by_hand.items():
        with duckdb.connect() as connection:
            connection.register("new_rows", rows)
            made = (
                "SELECT CAST(0 AS BIGINT) AS landed_key, n.*, 1 AS run, now()::TIMESTAMP AS loaded_at FROM new_rows n"
            )
            connection.execute(f"CREATE TABLE landed AS {made}")
            connection.register("new_rows", new)
            begin = time.perf_counter()
            connection.execute(statement)
            spent[what, "by hand"] = time.perf_counter() - begin
        with brenvik.open_store("duckdb::memory:") as store:
            landed = store.table(brenvik.TableRules("landed", exact_duplicates=what))  # type: ignore[arg-type]
            landed.load(rows, kind="append", explain=False)
            begin = time.perf_counter()
            landed.load(new, kind="append", explain=False)
            spent[what, "Brenvik"] = time.perf_counter() - begin
    return spent


def appended_lines(rows: pa.Table, changes: pa.Table) -> list[str]:
    rounds = [appended(rows, changes) for _ in range(TIMES)]
    lines = []
    for what in ("keep", "drop"):
        by_hand, ours = (statistics.median(each[what, who] for each in rounds) for who in ("by hand", "Brenvik"))
        ratio = statistics.median(each[what, "Brenvik"] / each[what, "by hand"] for each in rounds)
        lines.append(f'| exact_duplicates = "{what}" | {by_hand:.2f} s | {ours:.2f} s | {ratio:.2f} |')
    return lines


def trimmed() -> tuple[float, float, float]:
    """Seconds for ten changes of each of 50,000 keys: the table rebuilt, its change log trimmed, and by hand all but the first
    and the last change of each key deleted."""
    keys = np.tile(np.arange(KEYS // 4), 10)
    rows = _coded(history.changes(keys, history.EPOCH))
    days = pa.array(np.repeat(np.arange(10), KEYS // 4) * 86_400_000_000, pa.duration("us"))
    index = rows.column_names.index("changed_at")
    rows = rows.set_column(index, "changed_at", pc.add(rows["changed_at"], days))
    with brenvik.open_store("duckdb::memory:") as store:
        store.load(PLAIN, rows, kind="upserts", explain=False)
        spent = []
        for do in (lambda: store.rebuild(PLAIN), lambda: store.trim(PLAIN, keep="0 days")):
            begin = time.perf_counter()
            do()
            spent.append(time.perf_counter() - begin)
    with duckdb.connect() as connection:
        connection.register("new_rows", rows)
        connection.execute("CREATE TABLE log AS SELECT * FROM new_rows")
        line = "PARTITION BY code ORDER BY changed_at"
        others = f"SELECT rowid AS r, row_number() OVER ({line}) AS n, row_number() OVER ({line} DESC) AS m FROM log"
        begin = time.perf_counter()
        connection.execute(f"DELETE FROM log WHERE rowid IN (SELECT r FROM ({others}) WHERE n > 1 AND m > 1)")
        spent.append(time.perf_counter() - begin)
    return spent[0], spent[1], spent[2]


def main() -> None:
    rows, kinds = frames()
    spent: dict[tuple[str, str], list[float]] = {(kind, rule): [] for kind in kinds for rule in RULES}
    for _ in range(TIMES):
        for kind, changes in kinds.items():
            for rule in RULES:
                spent[kind, rule].append(seconds(rule, rows, changes))
    lines = []
    for rule in RULES:
        cells = []
        for kind in kinds:
            pairs = zip(spent[kind, rule], spent[kind, NONE], strict=True)
            cells.append(f"{statistics.median(with_it / without for with_it, without in pairs):.2f}")
        times = [f"{statistics.median(spent[kind, NONE]):.2f} s" for kind in kinds]
        lines.append(f"| {rule} | {' | '.join(times if rule == NONE else cells)} |")
    rebuild, trim, by_hand = (statistics.median(each) for each in zip(*(trimmed() for _ in range(TIMES)), strict=True))
    place = Path(__file__).resolve().parents[1] / "docs" / "benchmarks" / "rules.md"
    place.write_text(
        f"""# What rules cost

{SIZE:,} changes into a history of {KEYS:,} keys in DuckDB in memory, with a rule and without it (`benchmarks/rules.py`, medians
of {TIMES} rounds in which the ways take turns): newer changes of one key each, and the same with a tenth of them late.

| rule | {" | ".join(kinds)} |
|:--|---:|---:|
{chr(10).join(lines)}

As many rows appended to a table without a natural key, a tenth of them copies; beside an INSERT by hand, without or with the
copies left out. That one validates nothing and records no run.

| appended | by hand | Brenvik | ratio |
|:--|---:|---:|---:|
{chr(10).join(appended_lines(rows, kinds["newer"]))}

Ten changes of each of {KEYS // 4:,} keys: the change log trimmed in {trim:.2f} s, in which every key is recomputed three times;
the table rebuilt in {rebuild:.2f} s. By hand all but the first and the last change of each key deleted, which would lose
versions, in {by_hand:.2f} s.

{history.machine()} · Brenvik {brenvik.__version__}
""",
        encoding="utf-8",
    )
    print("\n".join(lines))


if __name__ == "__main__":
    main()
