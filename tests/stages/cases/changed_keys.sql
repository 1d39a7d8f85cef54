-- Run 2: changes of keys

CREATE TEMP TABLE "brenvik_work_screened" AS -- in DuckDB, as the rows come
SELECT
  brenvik_arrival, brenvik_shape, brenvik_delete, "at" AS brenvik_effective,
  "code", "at", "colour",
  brenvik_fault
FROM (
  SELECT
    brenvik_arrival, CAST(1 AS INTEGER) AS brenvik_shape, CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END AS brenvik_delete,
    "code" AS "code", CASE WHEN brenvik_first IS NULL THEN "brenvik_timestamp_of_at" END AS "at", "colour" AS "colour",
    CASE WHEN brenvik_first IS NOT NULL THEN CAST(json_object('column', CASE brenvik_first WHEN 1 THEN 'op' WHEN 2 THEN 'code' WHEN 3 THEN 'at' WHEN 4 THEN 'at' END, 'value', CASE brenvik_first WHEN 1 THEN CAST("op" AS VARCHAR) WHEN 2 THEN CAST("code" AS VARCHAR) WHEN 3 THEN CAST("at" AS VARCHAR) WHEN 4 THEN CAST("at" AS VARCHAR) END, 'reason', substr(COALESCE('; ' || CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN 'op: ' || COALESCE(chr(39) || CAST("op" AS VARCHAR) || chr(39), 'nothing') || ' is no operation; known are i, insert, u, update, d, delete' END, '') || COALESCE('; ' || CASE WHEN "code" IS NULL THEN 'code is empty' END, '') || COALESCE('; ' || CASE WHEN "at" IS NULL THEN 'at is empty' END, '') || COALESCE('; ' || CASE WHEN ("at" IS NOT NULL AND ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) IS NOT TRUE) THEN CASE WHEN isfinite("brenvik_timestamp_of_at") AND NOT ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) THEN 'at: ' || COALESCE(chr(39) || CAST("at" AS VARCHAR) || chr(39), 'nothing') || ' lies outside of the years 1 to 9999' ELSE 'at: ' || COALESCE(chr(39) || CAST("at" AS VARCHAR) || chr(39), 'nothing') || ' is no timestamp' END END, ''), 3), 'row', COALESCE(brenvik_raw, CAST(json_object('at', CAST("at" AS VARCHAR), 'code', CAST("code" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR), 'op', CAST("op" AS VARCHAR)) AS VARCHAR))) AS VARCHAR) END AS brenvik_fault
  FROM (
    SELECT all_rows.*, CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN 1 WHEN "code" IS NULL THEN 2 WHEN "at" IS NULL THEN 3 WHEN ("at" IS NOT NULL AND ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) IS NOT TRUE) THEN 4 END AS brenvik_first FROM (SELECT rows_as_read.*, CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("at" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') AND NOT (regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL AND timezone(CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL THEN regexp_extract("at", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1) ELSE 'UTC' END, COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) IS DISTINCT FROM TRY_CAST(regexp_extract("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP)) THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END AS "brenvik_timestamp_of_at" FROM brenvik_stream AS rows_as_read) AS all_rows
  ) AS tested_rows
) AS cast_rows;

SELECT count(c.brenvik_fault) AS faulty, CAST(COALESCE(sum(CASE WHEN c.brenvik_arrival % 2 = 0 THEN 1 ELSE 0 END), 0) AS BIGINT) AS derived, CAST(COALESCE(sum(CASE WHEN NOT (c."at" > CAST(:high_order_0 AS TIMESTAMP) AND c.brenvik_effective > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END), 0) AS BIGINT) AS late, CAST(max(CASE WHEN c."at" > CAST(:high_order_0 AS TIMESTAMP) THEN c."at" END) AS TEXT) AS "at", CAST(max(CASE WHEN c.brenvik_effective > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective END) AS TEXT) AS brenvik_high FROM "brenvik_work_screened" c;

CREATE TEMP TABLE "brenvik_work_faulty" AS SELECT (s.brenvik_arrival - s.brenvik_arrival % 2 + 1) AS brenvik_arrival, CAST(s.brenvik_fault AS JSON) ->> 'column' AS brenvik_column, CAST(s.brenvik_fault AS JSON) ->> 'value' AS brenvik_value, CAST(s.brenvik_fault AS JSON) ->> 'reason' AS brenvik_reason, CAST(s.brenvik_fault AS JSON) ->> 'row' AS brenvik_row FROM "brenvik_work_screened" s WHERE s.brenvik_fault IS NOT NULL AND NOT (s.brenvik_arrival <> (s.brenvik_arrival - s.brenvik_arrival % 2 + 1) AND EXISTS (
  SELECT 1 FROM "brenvik_work_screened" o WHERE o.brenvik_arrival = (s.brenvik_arrival - s.brenvik_arrival % 2 + 1) AND o.brenvik_fault IS NOT NULL));

DELETE FROM "brenvik_work_screened" WHERE brenvik_fault IS NOT NULL OR EXISTS (
  SELECT 1 FROM "brenvik_work_faulty" f WHERE f.brenvik_arrival = ("brenvik_work_screened".brenvik_arrival - "brenvik_work_screened".brenvik_arrival % 2 + 1));

CREATE TEMP TABLE "brenvik_work_rejected" AS
SELECT f.brenvik_arrival, f.brenvik_column, f.brenvik_value, f.brenvik_reason, f.brenvik_row,
  CASE WHEN EXISTS (
      SELECT 1 FROM "brenvik"."rejects" r
      WHERE r.table_name = :table_name AND r.feed = :feed AND r.state = 'open' AND r.content = f.brenvik_row) OR
    row_number() OVER (PARTITION BY f.brenvik_row ORDER BY f.brenvik_arrival) > 1
  THEN 1 ELSE 0 END AS brenvik_again
FROM "brenvik_work_faulty" f;

SELECT count(*) AS n, COALESCE(sum(brenvik_again), 0) AS again FROM "brenvik_work_rejected";

SELECT count(c.brenvik_fault) AS faulty, CAST(COALESCE(sum(CASE WHEN c.brenvik_arrival % 2 = 0 THEN 1 ELSE 0 END), 0) AS BIGINT) AS derived, CAST(COALESCE(sum(CASE WHEN NOT (c."at" > CAST(:high_order_0 AS TIMESTAMP) AND c.brenvik_effective > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END), 0) AS BIGINT) AS late, CAST(max(CASE WHEN c."at" > CAST(:high_order_0 AS TIMESTAMP) THEN c."at" END) AS TEXT) AS "at", CAST(max(CASE WHEN c.brenvik_effective > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective END) AS TEXT) AS brenvik_high FROM "brenvik_work_screened" c;

CREATE TEMP TABLE "brenvik_work_busy" AS
SELECT c."code", 0 AS brenvik_full
FROM "brenvik_work_screened" c
GROUP BY c."code"
HAVING count(*) > 1;

CREATE TEMP TABLE "brenvik_work_plain" AS
SELECT
  c.brenvik_arrival, c.brenvik_effective, t."rowid" AS brenvik_locator,
  CASE WHEN t."rowid" IS NULL AND c.brenvik_delete = 1 THEN 0 WHEN t."rowid" IS NULL THEN 1 WHEN c.brenvik_delete = 1 THEN 4 WHEN (c."colour" IS DISTINCT FROM t."colour") THEN 2 ELSE 6 END AS brenvik_decided,
  CASE WHEN c.brenvik_delete = 0 AND t."rowid" IS NOT NULL AND 1 = 0 THEN 1 ELSE 0 END AS brenvik_sets,
  CASE WHEN (c."colour" IS DISTINCT FROM t."colour") THEN t."colour" END AS brenvik_was_0
FROM "brenvik_work_screened" c
LEFT JOIN "buoy" t ON t."code" = c."code" AND t."valid_to" IS NULL;

SELECT CASE p.brenvik_decided WHEN 0 THEN 'full' WHEN 1 THEN 'inserted' WHEN 2 THEN 'versioned' WHEN 3 THEN 'overwritten' WHEN 4 THEN 'deleted' WHEN 5 THEN 'protected' WHEN 6 THEN 'unchanged' END AS brenvik_decision, n, sets FROM (SELECT brenvik_decided, count(*) AS n, CAST(sum(brenvik_sets) AS BIGINT) AS sets FROM "brenvik_work_plain" GROUP BY brenvik_decided) p;

CREATE TEMP VIEW "brenvik_work_closes" AS
SELECT p.brenvik_locator, p.brenvik_effective AS brenvik_until, CASE WHEN p.brenvik_decided IN (4) THEN 1 ELSE 0 END AS brenvik_ended
FROM "brenvik_work_plain" p
WHERE p.brenvik_decided IN (2, 4);

UPDATE "buoy" SET "valid_to" = s.brenvik_until, "is_current" = (s.brenvik_until IS NULL), "is_deleted" = (s.brenvik_ended = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_closes" s WHERE "buoy"."rowid" = s.brenvik_locator;

INSERT INTO "buoy" ("buoy_key", "code", "colour", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at")
SELECT :last_key + row_number() OVER (), n."code", n."colour", n.brenvik_start, CAST(n.brenvik_end AS TIMESTAMP), n.brenvik_open, n.brenvik_ended, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP)
FROM (
SELECT c."code", c."colour" AS "colour", c.brenvik_effective AS brenvik_start, NULL AS brenvik_end,
  TRUE AS brenvik_open, FALSE AS brenvik_ended
FROM "brenvik_work_plain" p JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
WHERE p.brenvik_decided IN (1, 2)) n;

INSERT INTO "brenvik"."changes_of_buoy" (brenvik_run, "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "code", "at", "colour")
SELECT :run, c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."code", c."at", c."colour"
FROM "brenvik_work_screened" c;

INSERT INTO "brenvik"."rejects" ("reject", "table_name", "feed", "run", "file", "line", "column_name", "value", "reason", "content", "state", "rejected_at", "decided_by")
SELECT :last_reject + row_number() OVER (ORDER BY r.brenvik_arrival), :table_name, :feed, :run, CASE CAST(floor(r.brenvik_arrival / 1000000000000) AS BIGINT) WHEN 1 THEN :file_1 END,
  CASE WHEN r.brenvik_arrival % 1000000000000 < 200000000000 THEN CAST(floor((r.brenvik_arrival % 1000000000000) / 2) AS BIGINT) END, r.brenvik_column, r.brenvik_value, r.brenvik_reason, r.brenvik_row, 'open',
  CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_rejected" r
WHERE r.brenvik_again = 0;

