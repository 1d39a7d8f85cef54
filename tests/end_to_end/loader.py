"""A process that loads batches of made-up changes into tables of a store, one run each, until it is done or killed.

python loader.py ADDRESS SEED TABLES ORDER
"""

from __future__ import annotations

import random
import sys

import pyarrow as pa

import brenvik
from brenvik.errors import Temporary

BATCHES, ROWS = 6, 8


def rules(table: str) -> brenvik.TableRules:
    return brenvik.TableRules(
        table, natural_key="code", order_by=["at", "entry"], exclude=["entry"], type_0="since", type_1="name",
        max_deletes=None,
    )  # fmt: skip


def batch(table: str, number: int, seed: int) -> pa.Table:
    """Changes of few keys at few times: late ones, repeated ones, deletes."""
    chance = random.Random(f"{table} {number} {seed}")
    rows = [
        {
            "op": chance.choice("IUUUD"),
            "code": f"NB-{chance.randrange(5)}",
            "at": chance.randrange(12),
            "entry": number * ROWS + place,
            "since": chance.choice(["2019", "2020"]),
            "name": chance.choice("abc"),
            "light": chance.choice("QF"),
        }
        for place in range(ROWS)
    ]
    return pa.Table.from_pylist(rows)


def load(address: str, table: str, number: int, seed: int) -> None:
    while True:
        try:
            with brenvik.open_store(address, wait_s=60.0) as store:
                store.load(rules(table), batch(table, number, seed), kind="changes", operation="op", wait_s=60.0)
            return
        except Temporary:  # someone else was quicker
            continue


def main(address: str, seed: str, tables: str, order: str) -> None:
    numbers = list(range(BATCHES))
    random.Random(order).shuffle(numbers)
    print("ready", flush=True)
    for number in numbers:
        for table in tables.split(","):
            load(address, table, number, int(seed))


if __name__ == "__main__":
    main(*sys.argv[1:])
