"""What declared formats of values cost: 500,000 rows of text in them, beside the same rows in ISO 8601; and renamed and added
columns beside none. Written to docs/benchmarks/reading.md.

Each load is the first one into an empty database in memory; the ways take turns, and the table has medians.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Mapping
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

import brenvik
import history

ROWS, TIMES = 500_000, 5
RULES = brenvik.TableRules(
    "mooring",
    natural_key="no",
    types={"no": "integer", "laid_on": "date", "seen_at": "timestamp", "length": "decimal(12,2)", "in_use": "boolean"},
)
FORMS = brenvik.ValueFormats(
    date_format="%d/%m/%Y",
    timestamp_format="%d.%m.%Y %H:%M:%S",
    decimal_mark=",",
    thousands_mark=".",
    null_words=["NULL"],
    true_words=["J"],
    false_words=["N"],
)


def plain() -> dict[str, pa.Array]:
    """The texts as they need no declaration."""
    numbers = np.arange(ROWS)
    days = pa.array(np.datetime64("2000-01-01") + numbers % 9_000)
    moments = pa.array(np.datetime64("2024-01-01T00:00:00") + numbers * 7)
    return {
        "no": pa.array(numbers).cast(pa.string()),
        "laid_on": pc.strftime(days, "%Y-%m-%d"),
        "seen_at": pc.strftime(moments, "%Y-%m-%d %H:%M:%S"),
        "length": pa.array([f"{n / 8:.2f}" for n in numbers]),
        "in_use": pa.array(np.where(numbers % 3 == 0, "true", "false")),
    }


def in_forms() -> dict[str, pa.Array]:
    """The same values in the declared forms."""
    numbers, texts = np.arange(ROWS), plain()
    marked = [f"{n / 8:,.2f}".translate({ord(","): ".", ord("."): ","}) for n in numbers]
    return texts | {
        "laid_on": pc.strftime(texts["laid_on"].cast(pa.date32()), "%d/%m/%Y"),
        "seen_at": pc.strftime(texts["seen_at"].cast(pa.timestamp("s")), "%d.%m.%Y %H:%M:%S"),
        "length": pa.array(marked),
        "in_use": pa.array(np.where(numbers % 3 == 0, "J", "N")),
    }


def seconds(columns: Mapping[str, pa.Array], declared: brenvik.FeedColumns | None) -> float:
    frame = pa.table(dict(columns))
    with brenvik.open_store("duckdb::memory:") as store:
        begin = time.perf_counter()
        outcome = store.load(RULES, frame, kind="upserts", columns=declared)
        spent = time.perf_counter() - begin
    assert outcome.counts["inserted"] == ROWS
    return spent


def main() -> None:
    texts = plain()
    old = {f"{name} (old)": values for name, values in texts.items()}
    renamed = brenvik.FeedColumns({f"{name} (old)": name for name in texts}, {"system": "north"})
    ways = {
        "nothing declared": (texts, None),
        "dates, timestamps, numbers, words": (in_forms(), brenvik.FeedColumns(values=FORMS)),
        "every column renamed, one added": (old, renamed),
    }
    spent: dict[str, list[float]] = {name: [] for name in ways}
    for _ in range(TIMES):
        for name, (columns, declared) in ways.items():
            spent[name].append(seconds(columns, declared))
    found = {name: statistics.median(times) for name, times in spent.items()}
    first = found["nothing declared"]
    lines = "\n".join(f"| {name} | {s:.2f} s | {s / first:.2f} |" for name, s in found.items())
    place = Path(__file__).resolve().parents[1] / "docs" / "benchmarks" / "reading.md"
    place.write_text(
        f"""# What formats and column mappings cost

The first load of {ROWS:,} rows of text with five columns into DuckDB in memory (`benchmarks/reading.py`, medians of {TIMES}, in
turns).

| declared | seconds | beside nothing declared |
|:--|---:|---:|
{lines}

{history.machine()} · Brenvik {brenvik.__version__}
""",
        encoding="utf-8",
    )
    print(lines)


if __name__ == "__main__":
    main()
