"""The same changes give the same table whether they come as a typed frame, as CSV or as Parquet."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime, time
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st
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


FORMS = {
    "date": ("%d/%m/%Y", "%Y%m%d", "%a %d %b %Y"),
    "time": ("%H.%M.%S.%f", "%I:%M:%S.%f %p"),
    "timestamp": ("%d.%m.%Y %H:%M:%S.%f", "%B %d, %Y, %I.%M.%S.%f%p"),
    "timestamp with time zone": ("%d.%m.%Y %H:%M:%S.%f %z",),
}
NULLS = ("NULL", "-", "no value")
MARKS = ((",", "."), (",", ""), (".", ","), (",", " "))
TRUTH = (("J", "N"), ("ja", "nei"))


@st.composite
def writings(draw: st.DrawFn) -> brenvik.ValueFormats:
    decimal, thousands = draw(st.sampled_from(MARKS))
    true, false = draw(st.sampled_from(TRUTH))
    return brenvik.ValueFormats(
        date_format=draw(st.sampled_from(FORMS["date"])),
        time_format=draw(st.sampled_from(FORMS["time"])),
        timestamp_format=draw(st.sampled_from(FORMS["timestamp"] + FORMS["timestamp with time zone"])),
        decimal_mark=decimal,
        thousands_mark=thousands,
        null_words=draw(st.sampled_from(NULLS)),
        true_words=true,
        false_words=false,
    )


def written_so(value: Any, how: brenvik.ValueFormats) -> str:
    """A value in the declared form."""
    if value is None:
        return how.null_words[0]
    if isinstance(value, bool):
        return how.true_words[0] if value else how.false_words[0]
    form = {datetime: how.timestamp_format, date: how.date_format, time: how.time_format}.get(type(value))
    if form:
        zoned = value.replace(tzinfo=UTC) if type(value) is datetime and value.tzinfo is None else value
        year = "" if type(value) is time else f"{value.year:04}"  # which strftime may write with fewer digits
        return zoned.strftime(form[0].replace("%Y", year))
    if isinstance(value, (int, float, Decimal)):
        text = f"{value:,}" if isinstance(value, (int, Decimal)) else repr(value)
        return text.replace(",", "T").replace(".", how.decimal_mark).replace("T", how.thousands_mark)
    return str(value)


def in_words(row: dict[str, Any], how: brenvik.ValueFormats) -> bool:
    """Whether a text of the row would be taken for null."""
    return any(isinstance(value, str) and value == how.null_words[0] for value in row.values())


@given(cases(TEXTUAL, faults=False, absent=False), writings(), st.data())
def test_what_is_written_in_another_form(
    case: tuple[Scene, list[Batch]], how: brenvik.ValueFormats, data: st.DataObject
) -> None:
    """Texts in declared forms, under other names, give the same table as the typed values."""
    scene, made = case
    scene = replace(scene, rules=replace(scene.rules, time_zone="UTC"))  # the texts have no zone
    if scene.declared.effective is None or any(in_words(row, how) for batch in made for row in batch.rows):
        return
    old = {name: f"{number}th column" for number, name in enumerate(dict(scene.types)) if data.draw(st.booleans())}
    columns = brenvik.FeedColumns({written: name for name, written in old.items()}, values=how)
    tables = []
    for as_text in (False, True):
        with brenvik.open_store("duckdb::memory:") as store:
            for batch in made:
                if as_text:
                    texts = {old.get(n, n): [written_so(row[n], how) for row in batch.rows] for n in batch.columns}
                    frame = pa.table({name: pa.array(values, pa.string()) for name, values in texts.items()})
                    says = "op" in batch.columns
                    kind = scene.kind if says or scene.kind != "changes" else "upserts"
                    operation = "op" if says else None
                    store.load(scene.rules, frame, kind=kind, operation=operation, columns=columns)  # type: ignore[arg-type]
                else:
                    scene.load(store, batch)
            rejected = store.rejects().num_rows
            assert not rejected or scene.declared.refuses_ties
            tables.append((comparable(scene, stored(scene, store)), rejected))
    assert tables[0] == tables[1]


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
