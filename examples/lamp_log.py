"""Voltages of lamps for two years: the table keeps every state, its change log only what is younger than 400 days."""

from datetime import date, timedelta

import pyarrow as pa

import brenvik

store = brenvik.open_store("duckdb::memory:")
lamp = store.table(
    brenvik.TableRules("lamp", natural_key="buoy_code", order_by="day", type_1="volts", change_log="400 days")
)
days = [date(2024, 5, 1) + timedelta(days=number) for number in range(730)]
lamp.load(
    pa.table(
        {
            "buoy_code": ["NB-101"] * len(days),
            "day": days,
            "volts": [f"{12.6 - number % 90 / 100:.2f}" for number in range(len(days))],
            "state": ["dark" if number % 90 == 89 else "lit" for number in range(len(days))],
        }
    ),
    kind="upserts",
)
versions = lamp.read().num_rows
print(*lamp.trim().notes)  # its only run is young
print(*lamp.trim(keep="0 days").notes)  # as if it were long ago
print(f"{versions} versions before, {lamp.read().num_rows} after")
late = pa.table({"buoy_code": ["NB-101"], "day": [date(2025, 1, 1)], "volts": ["11.90"], "state": ["dark"]})
print(lamp.load(late, kind="upserts"))
for reject in lamp.rejects().to_pylist():
    print(reject["reason"])
