"""Every key of ``brenvik.toml`` that is not a rule of a table, with what it means; for rules see ``TableRules``."""

from __future__ import annotations

PROJECT = {
    "name": "The name of the project, shown in headings. By default the name of the folder.",
    "store": 'The address of the store, as in `"duckdb:coast.duckdb"`. A file or folder is relative to the project file.',
    "memory_limit": 'How much memory an engine in this process may use, as in `"4 GB"`; beyond it, it works on disk.',
    "time_zone": "The zone of timestamps that come without one for a column that needs one. By default UTC.",
    "connections": 'Sources by name: the SQLAlchemy URL of a database, or of an object store as in `"s3://bucket/folder"`; or '
    "`{ url = …, user = …, password = … }`.",
    "defaults": "Keys of all tables; what a table declares itself takes precedence.",
    "tables": 'A pattern for further files with `[table.NAME]` sections, as in `"tables/*.toml"`.',
    "table": "The tables by name, each with its rules and feeds.",
    "environment": "Keys that override those of the file, by the name of an environment (`--env`, `BRENVIK_ENV`).",
}
TABLE = {
    "feed": "The feeds of the table by name; at least one.",
    "like": "The name of another table whose rules and settings apply here as well, its feeds excepted.",
    "after": "Tables that must be loaded before this one; it is skipped when one of them fails.",
    "groups": "Groups that the table belongs to, for `brenvik load --group NAME`.",
    "expected_every": 'The longest time between two successful runs, as in `"26 hours"`; beyond it `status` exits with 4.',
}
"""Keys of a table besides its rules."""
FEED = {
    "kind": '`"changes"`: each row is an insert, an update or a delete. `"upserts"`: each row is the new state of its key. '
    '`"full_extract"`: the rows are all there is; a key that is absent is deleted. `"append"`: rows for a table without a '
    "natural key.",
    "operation": "For changes: the column with the operation codes, or its column and codes; see below.",
    "extract_scope": "For extracts: a condition for the part of the table that the extract covers. Other rows are not absent.",
    "rename": 'New names for columns of the feed, as in `{ "Buoy No" = "buoy_no" }`. All other keys use the new names, except '
    "`watermark` and the pointers of `record`.",
    "add": 'Columns that the feed lacks: constants, as in `{ system = "north" }`, or the origin of each row; see below.',
    "values": "The formats of dates, numbers, null and booleans, if they are not those of ISO 8601 and JSON; see below.",
    "extract_time": 'For extracts: where their time is: `{ file_name = "firm_(.+)\\\\.csv" }`, a pattern with one group, or '
    '`{ column = "as_at" }`. By default the source\'s clock; for files, the time of the load.',
}
FILES = {
    "files": 'A pattern below the project folder, or in the object store that `connection` names, as in `"inbox/buoy_*.csv"`. '
    "CSV, JSON Lines (`.jsonl`), Parquet, "
    "Excel (`.xlsx`, with `brenvik[excel]`) or text without delimiters (`fixed_width`).",
    "file_order": "A pattern with one group: the number or date in a file's name by which files are ordered. By default "
    "the name.",
    "min_age": 'Files that changed less than this ago are left for the next load, as in `"30 seconds"`.',
    "after_load": 'What happens to loaded files: `"keep"` (the default), `"delete"` or `{ move_to = "loaded/" }`.',
    "one_run_per_file": "Whether each file is a run of its own. By default all new files are loaded together.",
    "unreadable_files": 'What happens if a file cannot be read at all: `"stop"` (the default) fails the load; '
    '`{ move_to = "unreadable/" }` moves the file there, and the load continues with the others.',
    "rewritten_files": 'A loaded file whose content has changed: `"report"` (the default) or `"load"`.',
    "csv": "How the files differ from RFC 4180; see below.",
    "fixed_width": "The places of columns in files without delimiters; see below.",
    "excel": "The sheet of Excel workbooks and the row of its column names; see below.",
    "record": "Where the parts of a change are in a JSON record; see below.",
}
DATABASE = {
    "connection": "The name of a connection. Without it the feed reads a table or query of the store itself, or files of "
    "this machine.",
    "source_table": "The table to read; either this or `query`.",
    "query": "A query to read, in the language of the database.",
    "watermark": "A timestamp, date or integer column that increases with every change of a row. Extracts have none.",
    "overlap": 'How far to read below the last watermark, for rows committed late: `"6 hours"`, or a number for integers.',
    "lag": "How far to stay below the source's clock; for integers, below the highest value.",
    "start_at": "Where the first load starts. By default at the lowest value.",
    "window": 'The size of a run: a time, as in `"7 days"`, or a number of rows. By default everything that is new is one run.',
}
WATERMARK = ("watermark", "overlap", "lag", "start_at", "window")
"""Keys of feeds that are read by watermark."""
OPERATION = {
    "column": "The column with the codes. Case and surrounding blanks of codes are ignored.",
    "insert": 'Codes that mean an insert. By default `["i", "insert"]`.',
    "update": 'Codes that mean an update. By default `["u", "update"]`.',
    "delete": 'Codes that mean a delete. By default `["d", "delete"]`.',
}
CSV = {
    "delimiter": "The character between fields. By default a comma.",
    "quote": "The character around a quoted field. By default a double quote.",
    "escape": "The character before a quote inside a quoted field. By default the quote is doubled.",
    "encoding": 'The encoding, as in `"latin-1"`. By default UTF-8.',
    "columns": "The column names of files without a header.",
    "null": 'Unquoted texts that mean null. By default `[""]`.',
}
FIXED_WIDTH = {
    "columns": "The first and the last character of each column, from 1, as in `{ buoy_code = [1, 8], status = [9, 20] }`.",
    "encoding": 'The encoding, as in `"latin-1"`. By default UTF-8.',
    "header_lines": "How many lines at the top are skipped. By default 0.",
}
EXCEL = {
    "sheet": "The name of the sheet. By default the first.",
    "header_row": "The number of the row with the column names; rows above it are skipped. By default 1.",
}
RECORD = {
    "new_row": "The JSON pointer (RFC 6901) to the row after the change. By default the record itself.",
    "old_row": "The JSON pointer to the row before the change; a delete may have only this one.",
    "columns": "Pointers to columns elsewhere in the record, by column.",
}
ADD = {
    "from": '`"file"`: the name of the file, relative to the project. `"line"`: the number of the line in it. `"feed"`: the '
    "name of the feed.",
    "file_name": "A pattern with one group: the part of the file name (without folders) that it matches.",
}
VALUES = {
    "date_format": 'The format of dates in % codes, as in `"%d/%m/%Y"`, or a list of formats that are tried in turn. Two-digit '
    "years are 1969 to 2068.",
    "time_format": 'The format of times of day, as in `"%H.%M"`.',
    "timestamp_format": 'The format of timestamps, as in `"%d/%m/%Y %I:%M %p"`.',
    "decimal_mark": 'The character before the decimals of a number: `"."` (the default) or `","`.',
    "thousands_mark": "The optional character between groups of digits: a comma, a point, a blank, … By default none.",
    "null_words": 'Texts that mean null, quoted or not, as in `["NULL", "n/a"]`.',
    "true_words": 'Texts that mean true, as in `["yes", "Y"]`; case is ignored. They need `false_words`.',
    "false_words": "Texts that mean false.",
    "absent_words": 'Texts that mean that a row lacks the column, as in `["~"]`: the existing value is kept.',
    "trim": "Whether surrounding blanks are removed; a value that consists of blanks is then null. By default false.",
    "columns": 'What differs for some columns, as in `{ due = { date_format = "%Y%m%d" } }`.',
}
EXTRACT_TIME = ("file_name", "column")
