"""The pure relational core: it gives SQL text and knows no connection, no file and no clock.

Each module is one stage of the way a table is worked out, and takes a ``Blueprint``:

    staged rows ─ screen ─▶ changes + rejects ─ sort ─▶ ways ─┬─ plain ──────────────┬─▶ diff ─ write ─▶ table
                                                              └─ versions (windows) ─┘

The text is written once in the PostgreSQL flavour; ``sql.compile_for`` gives it in the dialect of a store.
Values are always bound (``:name``), identifiers always quoted.
"""
