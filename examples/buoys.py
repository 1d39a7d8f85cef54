"""Two days of buoys from frames in memory: load, see what was decided, ask for the history."""

import pyarrow as pa

import brenvik

store = brenvik.open_store("duckdb::memory:")
buoy = brenvik.TableRules("buoy", natural_key="buoy_code", order_by="entry_no", type_1="name")
day_1 = {"op": ["I", "I"], "entry_no": [1, 2], "buoy_code": ["NB-101", "NB-106"], "name": ["Kvitsund", "Skarholm Nort"], "light": ["Fl G 3s", "Q"]}  # fmt: skip  # noqa: E501
day_2 = {"op": ["U", "U"], "entry_no": [3, 4], "buoy_code": ["NB-101", "NB-106"], "name": ["Kvitsund", "Skarholm North"], "light": ["Fl G 5s", "Q"]}  # fmt: skip  # noqa: E501
for day in (day_1, day_2):
    print(store.load(buoy, pa.table(day), kind="changes", operation="op"))

outcome = store.preview(buoy, pa.table(day_2), kind="changes", operation="op")
for row in outcome.decisions().to_pylist():
    print(row["line"], row["key"]["buoy_code"], row["decision"], "-", row["reason"])
for row in store.history(buoy, "NB-101").to_pylist():
    print(row["buoy_code"], row["light"], row["valid_from"], row["valid_to"])
