"""Tables of the open Apache Iceberg format: Parquet files, worked on by an embedded DuckDB.

engine      the store protocol: which statement goes to which table, and the commit of a transaction
log         the ledger: in memory as its tables, in the lakehouse as a log
shown       tables as views of their files, as they are and as they were
catalogs    where tables are known: a folder's own catalog, or one that is named elsewhere
lake        what a catalog knows of tables: their columns, files and snapshots; commits
snapshots   a change of a table as manifests and a list of them
files       rows and positions as Parquet files
pending     statements of the core as rows to delete and rows to add; what is read from the files for them
compaction     which files are rewritten, which snapshots and files are removed
entries     the entries of the ledger's log
"""
