"""The pure relational core: it makes SQL text and knows no connection, no file and no clock.

Each module is one stage and takes a ``TableSchema``:

    staged rows ─ validate ─▶ changes, rejects ─ classify ─┬─ current path ─┬─▶ diff ─▶ row changes
                                                           └─ replay path ──┘

The text is written once in the PostgreSQL dialect; ``sql`` turns it into what a store runs.
Values are always bound (``:name``), identifiers always quoted.
"""
