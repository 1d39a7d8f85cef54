"""A small table in a lakehouse, loaded by us and looked at by others."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa
from pyiceberg.catalog.sql import SqlCatalog

import brenvik

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at")


def frame(*rows: tuple[str, int, str]) -> pa.Table:
    codes, times, lights = zip(*rows, strict=True)
    return pa.table({"code": codes, "at": times, "light": lights})


def load(folder: Path, *rows: tuple[str, int, str], rules: brenvik.TableRules = RULES) -> brenvik.Outcome:
    with brenvik.open_store(f"lakehouse:{folder}") as store:
        return store.load(rules, frame(*rows), kind="upserts")


def current(rows: pa.Table) -> dict[str, str]:
    return {row["code"]: row["light"] for row in rows.to_pylist() if row["is_current"]}


def read(folder: Path, rules: brenvik.TableRules = RULES) -> pa.Table:
    with brenvik.open_store(f"lakehouse:{folder}") as store:
        return store.read(rules)


def others(folder: Path) -> SqlCatalog:
    """The catalog as someone else opens it."""
    return SqlCatalog("brenvik", uri=f"sqlite:///{folder}/catalog.db", warehouse=str(folder))


def scan(folder: Path, name: str = "main.buoy") -> pa.Table:
    return others(folder).load_table(name).scan().to_arrow()
