"""Tables of the open Apache Iceberg format: Parquet files in a folder, worked on by an embedded DuckDB.

engine      the store protocol: which statement goes to which table, and the commit of a transaction
pending     statements of the core, told as rows that go and rows that come
lake        the catalog, and what it knows of tables: their columns, files and snapshots
entries     the ledger as a log of entries in a table of its own
"""
