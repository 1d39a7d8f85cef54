"""A messy source: what is declared once, instead of corrected by hand every day."""

import pyarrow as pa

import brenvik

store = brenvik.open_store("duckdb::memory:")
buoy = brenvik.TableRules(
    "buoy",
    natural_key="buoy_code",
    natural_key_form=["upper", "blanks"],  # nb-101 and NB-101 are one buoy
    order_by="entry_no",
    type_0="commissioned_on",
    type_0_changes="refuse",  # nobody moves the day on which a buoy was laid, unless someone has looked at it
    type_1="read_by",
    type_3={"status": "status_before"},
    not_compared="read_at",  # another time of reading is no change
    ignored_differences={"name": ["case", "blanks"], "label": ["case", "blanks"], "depth_m": {"round": 1}},
    derive={"label": "name || ' (' || light || ')'"},
    ties="reject",  # two different rows with one entry number
    stamps={"changed_in": {"added": "'run ' || run", "overwritten": "'run ' || run"}},
    types={"depth_m": "decimal(6,2)", "entry_no": "integer"},
)
words = brenvik.FeedColumns(values=brenvik.ValueFormats(absent_words="~"))  # "as it was"
columns = ("entry_no", "buoy_code", "name", "light", "depth_m", "status", "commissioned_on", "read_at", "read_by")


def day(*rows: tuple[object, ...]) -> pa.Table:
    return pa.table(dict(zip(columns, map(list, zip(*rows, strict=True)), strict=True)))


monday = day(
    (1, "NB-101", "Kvitsund", "Fl G 3s", "12.40", "on station", "2019-04-02", "23:00", "ida"),
    (2, "nb-106", "Skarholm", "Q", "8.00", "planned", "2024-06-01", "23:00", "ida"),
)
tuesday = day(
    (3, "nb-101 ", "KVITSUND", "Fl G 3s", "12.43", "on station", "2019-04-02", "23:05", "ida"),
    (4, "NB-106", "Skarholm", "~", "~", "on station", "~", "23:05", "odd"),
    (5, "NB-107", "Lyngvaer", "Fl R", "5.10", "on station", "2024-05-01", "23:05", "odd"),
    (5, "NB-107", "Lyngvaer", "Fl G", "5.10", "on station", "2024-05-01", "23:05", "odd"),
)
wednesday = day((6, "NB-101", "Kvitsund", "Fl G 3s", "12.40", "adrift", "2009-04-02", "23:01", "ida"))

for frame in (monday, tuesday):
    print(store.load(buoy, frame, kind="upserts", columns=words))
seen = store.preview(buoy, wednesday, kind="upserts", columns=words)
print(str(seen.blocked_by).splitlines()[1].strip())
store.load(buoy, wednesday, kind="upserts", columns=words, allow_type_0=1)
for row in store.read(buoy).to_pylist():
    print(row["buoy_code"], row["label"], row["depth_m"], row["status_before"], "→", row["status"], end=" ")
    print(row["commissioned_on"], row["changed_in"])
for reject in store.rejects().to_pylist():
    print(reject["reason"])
