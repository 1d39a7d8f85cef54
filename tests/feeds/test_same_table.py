"""The same changes give the same table whether they come as a typed frame, as CSV or as Parquet."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

import pyarrow.parquet as pq
import pytest
from hypothesis import given
from scenes import SCENES, Batch, Scene, cases
from tables import comparable, stored

import brenvik
from brenvik.feeds.files import FileSource
from sources import load_from

# Bytes have no text of their own.
TEXTUAL = [scene for scene in SCENES if "binary" not in dict(scene.types).values()]


def written(value: Any) -> str:
    if value is None:
        return ""
    text = value.isoformat(" ") if isinstance(value, datetime) else str(value)
    if isinstance(value, date) and not isinstance(value, datetime):
        text = value.isoformat()
    return '"' + text.replace('"', '""') + '"'


def as_csv(batch: Batch) -> str:
    lines = [",".join(written(name) for name in batch.columns)]
    lines += [",".join(written(row[name]) for name in batch.columns) for row in batch.rows]
    return "\n".join(lines) + "\n"


@given(cases(TEXTUAL, faults=False, absent=False))
def test_frames_csv_and_parquet(tmp_path_factory: pytest.TempPathFactory, case: tuple[Scene, list[Batch]]) -> None:
    scene, made = case
    if scene.declared.effective is None:
        return  # the time of the load is another one each time
    folder = tmp_path_factory.mktemp("same")
    tables, counts = [], []
    for ending in ("", "csv", "parquet"):
        with brenvik.open_store("duckdb::memory:") as store:
            found = []
            for number, batch in enumerate(made):
                path = folder / f"{number}.{ending}"
                if ending == "csv":
                    path.write_text(as_csv(batch), encoding="utf-8", newline="")
                elif ending == "parquet":
                    pq.write_table(scene.frame(batch.rows, batch.columns), path)
                if ending:
                    says = "op" in batch.columns
                    kind = scene.kind if says or scene.kind != "changes" else "upserts"
                    source = FileSource(path.name, folder=folder, name="files" if says else "second", kind=kind)
                    outcome = load_from(
                        store, scene.rules, source, operations=brenvik.Operations("op") if says else None
                    )
                else:
                    outcome = scene.load(store, batch)
                found.append({name: n for name, n in outcome.counts.items() if n})
            tables.append(comparable(scene, stored(scene, store)))
            counts.append(found)
    assert tables[0] == tables[1] == tables[2]
    assert counts[0] == counts[1] == counts[2]
