"""Messages without a key: kept as they were sent, each once; and the table that is loaded from them."""

import pyarrow as pa

import brenvik

store = brenvik.open_store("duckdb::memory:")
messages = store.table(
    brenvik.TableRules(
        "lamp_message",
        exact_duplicates="drop",  # stations repeat themselves
        types={"volts": "decimal(4,2)", "sent_at": "timestamp"},
    )
)
lamp = store.table(brenvik.TableRules("lamp", natural_key="buoy_code", order_by="sent_at", exclude="first_run"))
new_messages = brenvik.DatabaseFeed(  # of the store itself
    "messages",
    "upserts",
    operations=None,
    connection=None,
    query="select buoy_code, volts, sent_at, first_run from lamp_message",
    watermark="first_run",  # what new runs have appended
)


def sent(*rows: tuple[str, str, str]) -> pa.Table:
    return pa.table(dict(zip(("buoy_code", "volts", "sent_at"), map(list, zip(*rows, strict=True)), strict=True)))


morning = sent(("NB-101", "12.60", "2024-05-01 06:00"), ("NB-102", "12.10", "2024-05-01 06:00"))
noon = sent(
    ("NB-102", "12.10", "2024-05-01 06:00"),
    ("NB-101", "12.40", "2024-05-01 12:00"),
    ("NB-103", "low", "2024-05-01 12:00"),
)
for frame in (morning, noon):
    print(messages.load(frame, kind="append"))
    print(lamp.load(new_messages))
for row in lamp.read().to_pylist():
    print(row["buoy_code"], row["volts"], "V from", row["valid_from"], "to", row["valid_to"])
for reject in messages.rejects().to_pylist():
    print(reject["reason"])
