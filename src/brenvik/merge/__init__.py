"""The pure relational core: it makes queries and knows no connection, no file and no clock.

Each module is one stage and takes a ``TableSchema``. A query makes one relation from earlier ones, which never changes
afterwards; what becomes of the table is a value (``row_changes``) that a store writes its own way:

    staged rows ─ validate ─▶ changes, rejects ─ classify ─┬─ current path ─┬─▶ diff, writes ─▶ row changes
                                                           └─ replay path ──┘

What a load works out for some keys depends on nothing but the schema, the parameters, and the changes, rows and logged changes
of these keys. What is over the whole table is kept apart: sums that add up (``summarize`` of each stage), the highest order and
effective time, the numbers of surrogate keys, and what the guards decide.

The text is written once in the PostgreSQL dialect; ``sql`` turns it into what a store runs.
Values are always bound (``:name``), identifiers always quoted.
"""
