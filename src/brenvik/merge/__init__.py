"""The pure relational core: it gives SQL text and knows no connection, no file and no clock.

Each module is one stage of the way a table is worked out, and takes a ``Blueprint``:

    staged rows ─ screen ─▶ changes + rejects ─ sort ─▶ ways ─┬─ plain ──────────────┬─▶ diff ─ write ─▶ table
                                                              └─ versions (windows) ─┘

The text is written once in the PostgreSQL flavour; ``sql`` makes of it what a store runs.
Values are always bound (``:name``), identifiers always quoted.
"""
