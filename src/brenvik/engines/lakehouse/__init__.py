"""Tables of the open Apache Iceberg format: Parquet files, worked on by an embedded DuckDB.

engine      the store protocol: the commit of a transaction, compaction
log         the ledger: in memory as its tables, in the lakehouse as a log
shown       the tables of a catalog, as they are and as they were
tables      tables of files in DuckDB, given as their columns and files: shown, read by key, changed
changes     what a transaction does to them, until its commit
stored      files as queries: their rows, and the positions of deleted ones
catalogs    where tables are known: a folder's own catalog, or one that is named elsewhere
lake        what a catalog knows of tables: their columns, files and snapshots; commits
snapshots   a change of a table as manifests and a list of them
files       rows and positions as Parquet files
compaction  which files are rewritten, which snapshots and files are removed
entries     the entries of the ledger's log
relocating  metadata of a folder that was copied or moved
upgrading   the ledger of an older schema version
"""
