"""Makes the history tables and batches of changes that the benchmarks run on."""

from __future__ import annotations

import os
import platform
import shutil
from datetime import date, datetime, timedelta
from pathlib import Path

import numpy as np
import pyarrow as pa

import brenvik
from by_hand import ATTRIBUTES

EPOCH = datetime(2024, 5, 1)
PIECE = 1_000_000


def rules(*, keep: bool) -> brenvik.TableRules:
    return brenvik.TableRules("buoy", natural_key="buoy_no", order_by="changed_at", type_2=ATTRIBUTES, change_log=keep)


def changes(numbers: np.ndarray, at: datetime, *, salt: int | np.ndarray = 0) -> pa.Table:
    """One state per buoy number; the same number and salt give the same attributes, another salt another light."""
    salted = numbers + np.broadcast_to(salt, numbers.shape)
    words = pa.array([f"value {n:03d}" for n in range(1000)])
    texts = {name: words.take(pa.array((numbers * (i + 3)) % 1000)) for i, name in enumerate(ATTRIBUTES[:5])}
    texts["light"] = words.take(pa.array(salted % 1000))
    moments = np.datetime64(at, "us") + np.arange(len(numbers)).astype("timedelta64[us]")
    days = np.datetime64(date(2020, 1, 1)) + (numbers % 1500).astype("timedelta64[D]")
    return pa.table(
        {
            "buoy_no": pa.array(numbers),
            "changed_at": pa.array(moments),
            **texts,
            "depth_m": pa.array((numbers % 500).astype("float64") / 4),
            "mass_kg": pa.array(numbers % 9000),
            "inspected_on": pa.array(days.astype("datetime64[D]")),
        }
    )


def fill(store: brenvik.Store, its: brenvik.TableRules, *, rows: int, keys: int) -> None:
    """Loads a history of ``rows`` rows of ``keys`` keys; what is more than one a key are closed versions."""
    for start in range(0, keys, PIECE):
        numbers = np.arange(start, min(start + PIECE, keys))
        store.load(its, changes(numbers, EPOCH + timedelta(minutes=start // PIECE)), kind="upserts")
    for start in range(0, rows - keys, PIECE):
        numbers = np.arange(start, min(start + PIECE, rows - keys)) * 4
        at = EPOCH + timedelta(days=1 + start // PIECE)
        store.load(its, changes(numbers, at, salt=500), kind="upserts")


def make(path: Path, *, rows: int, keep: bool) -> None:
    """A history of ``rows`` rows, a fifth of them closed versions, loaded by Brenvik itself."""
    with brenvik.open_store(f"duckdb:{path}") as store:
        fill(store, rules(keep=keep), rows=rows, keys=rows * 4 // 5)
        store.engine.run(
            "CREATE TABLE buoy_raw (run BIGINT, buoy_no BIGINT, changed_at TIMESTAMP, name TEXT, light TEXT, colour TEXT, "
            "status TEXT, region TEXT, depth_m DOUBLE PRECISION, mass_kg BIGINT, inspected_on DATE)"
        )


def bring_lake(base: Path, lake: Path, *, rows: int) -> None:
    """A fresh copy of a compacted history in a lakehouse. The files of a table name each other by whole paths, so it is made at
    ``lake``, kept in ``base``, and copied back."""
    shutil.rmtree(lake, ignore_errors=True)
    if not base.exists():
        print(f"making {base.name}", flush=True)
        with brenvik.open_store(f"lakehouse:{lake}") as store:
            fill(store, rules(keep=True), rows=rows, keys=rows * 4 // 5)
            store.compact(rules(keep=True), keep=timedelta(0))
        lake.rename(base)
    shutil.copytree(base, lake)


def batch(rows: int, size: int, *, seed: int = 7) -> pa.Table:
    """Changes of which a fifth are new keys, two fifths equal what is stored, two fifths change the light."""
    dice = np.random.default_rng(seed)
    keys = rows * 4 // 5
    known = dice.choice(keys, size * 4 // 5, replace=False)
    stored = np.where((known % 4 == 0) & (known // 4 < rows - keys), 500, 0)
    changed = np.arange(len(known)) % 2
    numbers = np.concatenate([known, keys + np.arange(size - len(known))])
    salt = np.concatenate([stored + changed * 123, np.zeros(size - len(known), dtype=np.int64)])
    mixed = dice.permutation(size)
    return changes(numbers[mixed], EPOCH + timedelta(days=9), salt=salt[mixed])


def with_late(made: pa.Table, share: float) -> pa.Table:
    """The same with a share of its changes earlier than the latest that the table has."""
    dice = np.random.default_rng(11)
    late = dice.random(len(made)) < share
    moments = made["changed_at"].to_numpy().copy()
    moments[late] = np.datetime64(EPOCH + timedelta(hours=12), "us") + np.arange(int(late.sum())).astype(
        "timedelta64[us]"
    )
    return made.set_column(made.column_names.index("changed_at"), "changed_at", pa.array(moments))


def machine() -> str:
    """The machine that all was measured on."""
    memory = int(next(line.split()[1] for line in Path("/proc/meminfo").read_text().splitlines() if "MemTotal" in line))
    return f"{platform.machine()}, {os.cpu_count()} cores, {memory // 2**20} GiB · Python {platform.python_version()}"
