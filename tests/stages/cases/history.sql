-- Run 2: changes

CREATE TEMP TABLE "brenvik_work_screened" AS -- in DuckDB, as the rows come
SELECT
  brenvik_arrival, brenvik_shape, brenvik_delete, "at" AS brenvik_effective,
  "buoy_code", "at", "entry", "name", "colour", "depth", "since",
  brenvik_fault
FROM (
  SELECT
    brenvik_arrival, CAST(1 AS INTEGER) AS brenvik_shape, CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END AS brenvik_delete,
    "buoy_code" AS "buoy_code", CASE WHEN brenvik_first IS NULL THEN "brenvik_timestamp_of_at" END AS "at", TRY_CAST("entry" AS BIGINT) AS "entry", "name" AS "name", "colour" AS "colour", TRY_CAST("depth" AS DECIMAL(5, 2)) AS "depth", CASE WHEN (TRY_CAST("since" AS DATE) BETWEEN CAST('0001-01-01' AS DATE) AND CAST('9999-12-31' AS DATE)) THEN TRY_CAST("since" AS DATE) END AS "since",
    CASE WHEN brenvik_first IS NOT NULL THEN CAST(json_object('column', CASE brenvik_first WHEN 1 THEN 'op' WHEN 2 THEN 'buoy_code' WHEN 3 THEN 'at' WHEN 4 THEN 'entry' WHEN 5 THEN 'at' WHEN 6 THEN 'entry' WHEN 7 THEN 'depth' WHEN 8 THEN 'since' WHEN 9 THEN 'depth' END, 'value', CASE brenvik_first WHEN 1 THEN CAST("op" AS VARCHAR) WHEN 2 THEN CAST("buoy_code" AS VARCHAR) WHEN 3 THEN CAST("at" AS VARCHAR) WHEN 4 THEN CAST("entry" AS VARCHAR) WHEN 5 THEN CAST("at" AS VARCHAR) WHEN 6 THEN CAST("entry" AS VARCHAR) WHEN 7 THEN CAST("depth" AS VARCHAR) WHEN 8 THEN CAST("since" AS VARCHAR) WHEN 9 THEN CAST("depth" AS VARCHAR) END, 'reason', substr(COALESCE('; ' || CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN 'op: ' || COALESCE(chr(39) || CAST("op" AS VARCHAR) || chr(39), 'nothing') || ' is no operation; known are i, insert, u, update, d, delete' END, '') || COALESCE('; ' || CASE WHEN "buoy_code" IS NULL THEN 'buoy_code is empty' END, '') || COALESCE('; ' || CASE WHEN "at" IS NULL THEN 'at is empty' END, '') || COALESCE('; ' || CASE WHEN "entry" IS NULL THEN 'entry is empty' END, '') || COALESCE('; ' || CASE WHEN ("at" IS NOT NULL AND ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) IS NOT TRUE) THEN CASE WHEN isfinite("brenvik_timestamp_of_at") AND NOT ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) THEN 'at: ' || COALESCE(chr(39) || CAST("at" AS VARCHAR) || chr(39), 'nothing') || ' lies outside of the years 1 to 9999' ELSE 'at: ' || COALESCE(chr(39) || CAST("at" AS VARCHAR) || chr(39), 'nothing') || ' is no timestamp' END END, '') || COALESCE('; ' || CASE WHEN ("entry" IS NOT NULL AND ((TRY_CAST("entry" AS BIGINT)) IS NULL OR NOT regexp_full_match("entry", '\s*[+-]?\d+(\.0*)?\s*'))) THEN 'entry: ' || COALESCE(chr(39) || CAST("entry" AS VARCHAR) || chr(39), 'nothing') || ' is no integer' END, '') || COALESCE('; ' || CASE WHEN CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END = 0 AND ("depth" IS NOT NULL AND ((TRY_CAST("depth" AS DECIMAL(5, 2))) IS NULL OR NOT regexp_full_match("depth", '\s*[+-]?(\d+(\.\d{0,2}0*)?|\.\d{1,2}0*)\s*'))) THEN 'depth: ' || COALESCE(chr(39) || CAST("depth" AS VARCHAR) || chr(39), 'nothing') || ' is no decimal(5,2)' END, '') || COALESCE('; ' || CASE WHEN CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END = 0 AND ("since" IS NOT NULL AND ((TRY_CAST("since" AS DATE)) IS NULL OR NOT regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') OR NOT (TRY_CAST("since" AS DATE) BETWEEN CAST('0001-01-01' AS DATE) AND CAST('9999-12-31' AS DATE)) OR (contains("since", ':') AND CASE WHEN regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("since" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') AND NOT (regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL AND timezone(CASE WHEN regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL THEN regexp_extract("since", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1) ELSE 'UTC' END, COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) IS DISTINCT FROM TRY_CAST(regexp_extract("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP)) THEN COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END IS DISTINCT FROM CAST(TRY_CAST("since" AS DATE) AS TIMESTAMP)))) THEN CASE WHEN isfinite(TRY_CAST("since" AS DATE)) AND NOT (TRY_CAST("since" AS DATE) BETWEEN CAST('0001-01-01' AS DATE) AND CAST('9999-12-31' AS DATE)) THEN 'since: ' || COALESCE(chr(39) || CAST("since" AS VARCHAR) || chr(39), 'nothing') || ' lies outside of the years 1 to 9999' ELSE 'since: ' || COALESCE(chr(39) || CAST("since" AS VARCHAR) || chr(39), 'nothing') || ' is no date' END END, '') || COALESCE('; ' || CASE WHEN CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END = 0 AND (((TRY_CAST("depth" AS DECIMAL(5, 2))) < 0)) THEN 'depth below zero' END, ''), 3), 'row', CAST(json_object('op', CAST("op" AS VARCHAR), 'buoy_code', CAST("buoy_code" AS VARCHAR), 'at', CAST("at" AS VARCHAR), 'entry', CAST("entry" AS VARCHAR), 'name', CAST("name" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR), 'depth', CAST("depth" AS VARCHAR), 'since', CAST("since" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_fault
  FROM (
    SELECT all_rows.*, CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN 1 WHEN "buoy_code" IS NULL THEN 2 WHEN "at" IS NULL THEN 3 WHEN "entry" IS NULL THEN 4 WHEN ("at" IS NOT NULL AND ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) IS NOT TRUE) THEN 5 WHEN ("entry" IS NOT NULL AND ((TRY_CAST("entry" AS BIGINT)) IS NULL OR NOT regexp_full_match("entry", '\s*[+-]?\d+(\.0*)?\s*'))) THEN 6 WHEN CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END = 0 AND ("depth" IS NOT NULL AND ((TRY_CAST("depth" AS DECIMAL(5, 2))) IS NULL OR NOT regexp_full_match("depth", '\s*[+-]?(\d+(\.\d{0,2}0*)?|\.\d{1,2}0*)\s*'))) THEN 7 WHEN CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END = 0 AND ("since" IS NOT NULL AND ((TRY_CAST("since" AS DATE)) IS NULL OR NOT regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') OR NOT (TRY_CAST("since" AS DATE) BETWEEN CAST('0001-01-01' AS DATE) AND CAST('9999-12-31' AS DATE)) OR (contains("since", ':') AND CASE WHEN regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("since" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') AND NOT (regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL AND timezone(CASE WHEN regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL THEN regexp_extract("since", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1) ELSE 'UTC' END, COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) IS DISTINCT FROM TRY_CAST(regexp_extract("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP)) THEN COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END IS DISTINCT FROM CAST(TRY_CAST("since" AS DATE) AS TIMESTAMP)))) THEN 8 WHEN CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END = 0 AND (((TRY_CAST("depth" AS DECIMAL(5, 2))) < 0)) THEN 9 END AS brenvik_first FROM (SELECT rows_as_read.*, CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("at" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') AND NOT (regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL AND timezone(CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL THEN regexp_extract("at", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1) ELSE 'UTC' END, COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) IS DISTINCT FROM TRY_CAST(regexp_extract("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP)) THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END AS "brenvik_timestamp_of_at" FROM brenvik_stream AS rows_as_read) AS all_rows
  ) AS tested_rows
) AS cast_rows;

SELECT count(c.brenvik_fault) AS faulty, CAST(COALESCE(0, 0) AS BIGINT) AS derived, CAST(COALESCE(sum(CASE WHEN NOT ((c."at" > CAST(:high_order_0 AS TIMESTAMP) OR (c."at" = CAST(:high_order_0 AS TIMESTAMP) AND c."entry" > CAST(:high_order_1 AS BIGINT))) AND c.brenvik_effective > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END), 0) AS BIGINT) AS late FROM "brenvik_work_screened" c;

CREATE TEMP TABLE "brenvik_work_faulty" AS SELECT s.brenvik_arrival AS brenvik_arrival, CAST(s.brenvik_fault AS JSON) ->> 'column' AS brenvik_column, CAST(s.brenvik_fault AS JSON) ->> 'value' AS brenvik_value, CAST(s.brenvik_fault AS JSON) ->> 'reason' AS brenvik_reason, CAST(s.brenvik_fault AS JSON) ->> 'row' AS brenvik_row FROM "brenvik_work_screened" s WHERE s.brenvik_fault IS NOT NULL;

DELETE FROM "brenvik_work_screened" WHERE brenvik_fault IS NOT NULL;

CREATE TEMP TABLE "brenvik_work_rejected" AS
SELECT f.brenvik_arrival, f.brenvik_column, f.brenvik_value, f.brenvik_reason, f.brenvik_row,
  CASE WHEN EXISTS (
      SELECT 1 FROM "brenvik"."rejects" r
      WHERE r.table_name = :table_name AND r.feed = :feed AND r.state = 'open' AND r.content = f.brenvik_row) OR
    row_number() OVER (PARTITION BY f.brenvik_row ORDER BY f.brenvik_arrival) > 1
  THEN 1 ELSE 0 END AS brenvik_again
FROM "brenvik_work_faulty" f;

SELECT count(*) AS n, COALESCE(sum(brenvik_again), 0) AS again FROM "brenvik_work_rejected";

SELECT count(c.brenvik_fault) AS faulty, CAST(COALESCE(0, 0) AS BIGINT) AS derived, CAST(COALESCE(sum(CASE WHEN NOT ((c."at" > CAST(:high_order_0 AS TIMESTAMP) OR (c."at" = CAST(:high_order_0 AS TIMESTAMP) AND c."entry" > CAST(:high_order_1 AS BIGINT))) AND c.brenvik_effective > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END), 0) AS BIGINT) AS late FROM "brenvik_work_screened" c;

CREATE TEMP TABLE "brenvik_work_busy" AS
SELECT c."buoy_code", max(CASE WHEN NOT ((c."at" > CAST(:high_order_0 AS TIMESTAMP) OR (c."at" = CAST(:high_order_0 AS TIMESTAMP) AND c."entry" > CAST(:high_order_1 AS BIGINT))) AND c.brenvik_effective > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END) AS brenvik_full
FROM "brenvik_work_screened" c
GROUP BY c."buoy_code"
HAVING count(*) > 1 OR max(CASE WHEN NOT ((c."at" > CAST(:high_order_0 AS TIMESTAMP) OR (c."at" = CAST(:high_order_0 AS TIMESTAMP) AND c."entry" > CAST(:high_order_1 AS BIGINT))) AND c.brenvik_effective > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END) = 1;

CREATE TEMP TABLE "brenvik_work_plain" AS
SELECT
  c.brenvik_arrival, c.brenvik_effective, t."rowid" AS brenvik_locator,
  CASE WHEN t."rowid" IS NULL AND c.brenvik_delete = 1 THEN 0 WHEN t."rowid" IS NULL THEN 1 WHEN c.brenvik_delete = 1 THEN 4 WHEN ((t."since" IS NULL AND c."since" IS NOT NULL)) THEN 0 WHEN (c."colour" IS DISTINCT FROM t."colour" OR c."depth" IS DISTINCT FROM t."depth") THEN 2 WHEN (c."name" IS DISTINCT FROM t."name") THEN 3 WHEN (c."since" IS DISTINCT FROM t."since") THEN 5 ELSE 6 END AS brenvik_decided,
  CASE WHEN c.brenvik_delete = 0 AND t."rowid" IS NOT NULL AND (c."name" IS DISTINCT FROM t."name") THEN 1 ELSE 0 END AS brenvik_sets,
  CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."colour" IS DISTINCT FROM t."colour" OR c."depth" IS DISTINCT FROM t."depth" OR c."since" IS DISTINCT FROM t."since") THEN t."name" END AS brenvik_was_0, CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."colour" IS DISTINCT FROM t."colour" OR c."depth" IS DISTINCT FROM t."depth" OR c."since" IS DISTINCT FROM t."since") THEN t."colour" END AS brenvik_was_1, CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."colour" IS DISTINCT FROM t."colour" OR c."depth" IS DISTINCT FROM t."depth" OR c."since" IS DISTINCT FROM t."since") THEN t."depth" END AS brenvik_was_2, CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."colour" IS DISTINCT FROM t."colour" OR c."depth" IS DISTINCT FROM t."depth" OR c."since" IS DISTINCT FROM t."since") THEN t."since" END AS brenvik_was_3
FROM "brenvik_work_screened" c
LEFT JOIN "buoy" t ON t."buoy_code" = c."buoy_code" AND t."valid_to" IS NULL
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code");

UPDATE "brenvik_work_plain" SET brenvik_decided = 0
WHERE "brenvik_work_plain".brenvik_decided IN (1) AND EXISTS (
  SELECT 1 FROM "brenvik_work_screened" c
  JOIN "buoy" t ON t."buoy_code" = c."buoy_code"
  WHERE c.brenvik_arrival = "brenvik_work_plain".brenvik_arrival AND NOT (t."valid_to" IS NULL));

SELECT CASE p.brenvik_decided WHEN 0 THEN 'full' WHEN 1 THEN 'inserted' WHEN 2 THEN 'versioned' WHEN 3 THEN 'overwritten' WHEN 4 THEN 'deleted' WHEN 5 THEN 'protected' WHEN 6 THEN 'unchanged' END AS brenvik_decision, n, sets FROM (SELECT brenvik_decided, count(*) AS n, CAST(sum(brenvik_sets) AS BIGINT) AS sets FROM "brenvik_work_plain" GROUP BY brenvik_decided) p;

INSERT INTO "brenvik_work_busy" ("buoy_code", brenvik_full)
SELECT c."buoy_code", 1
FROM "brenvik_work_plain" p JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
WHERE p.brenvik_decided IN (0);

DELETE FROM "brenvik_work_plain" WHERE "brenvik_work_plain".brenvik_decided IN (0);

CREATE TEMP TABLE "brenvik_work_closes" AS
SELECT p.brenvik_locator, p.brenvik_effective AS brenvik_until, CASE WHEN p.brenvik_decided IN (4) THEN 1 ELSE 0 END AS brenvik_ended
FROM "brenvik_work_plain" p
WHERE p.brenvik_decided IN (2, 4);

CREATE TEMP TABLE "brenvik_work_removes" AS SELECT brenvik_locator FROM "brenvik_work_plain" WHERE 1 = 0;

CREATE TEMP TABLE "brenvik_work_duplicates" AS 
SELECT n.brenvik_arrival FROM (
  SELECT c.brenvik_arrival, row_number() OVER (
    PARTITION BY c."buoy_code", c."brenvik_effective", c."brenvik_delete", c."brenvik_shape", c."at", c."entry", c."name", c."colour", c."depth", c."since" ORDER BY c.brenvik_arrival) AS brenvik_nth
  FROM "brenvik_work_screened" c
  WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code")
) n WHERE n.brenvik_nth > 1 UNION 
SELECT c.brenvik_arrival
FROM "brenvik_work_screened" c
JOIN "brenvik"."changes_of_buoy" k ON k."buoy_code" = c."buoy_code" AND k."at" = c."at" AND k."entry" = c."entry" AND k."brenvik_effective" = c."brenvik_effective" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_shape" = c."brenvik_shape" AND k."name" IS NOT DISTINCT FROM c."name" AND k."colour" IS NOT DISTINCT FROM c."colour" AND k."depth" IS NOT DISTINCT FROM c."depth" AND k."since" IS NOT DISTINCT FROM c."since"
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code" AND b.brenvik_full = 1);

UPDATE "brenvik_work_busy" SET brenvik_full = 1 WHERE brenvik_full = 0 AND (NOT EXISTS (SELECT 1 FROM "buoy" t WHERE t."buoy_code" = "brenvik_work_busy"."buoy_code" AND t."valid_to" IS NULL AND t."since" IS NOT NULL));

CREATE TEMP TABLE "brenvik_work_judged" AS
WITH events ("buoy_code", "brenvik_effective", "brenvik_rank", "brenvik_run", "brenvik_arrival", "brenvik_new", "brenvik_delete", "brenvik_shape", "at", "entry", "name", "colour", "depth", "since") AS (
SELECT c."buoy_code",
  c.brenvik_effective, 1, :run, c.brenvik_arrival, 1, c.brenvik_delete, c.brenvik_shape,
  c."at", c."entry", c."name", c."colour", c."depth", c."since"
FROM "brenvik_work_screened" c
WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival) UNION ALL 
SELECT t."buoy_code",
  t."valid_from", 1, 0, 0, 0, 0, 0,
  CAST(NULL AS TIMESTAMP),
  CAST(NULL AS BIGINT),
  t."name",
  t."colour",
  t."depth",
  t."since"
FROM "buoy" t
JOIN "brenvik_work_busy" b ON b."buoy_code" = t."buoy_code" AND b.brenvik_full = 0 AND t."valid_to" IS NULL UNION ALL 
SELECT k."buoy_code",
  k.brenvik_effective, 1, k.brenvik_run, k.brenvik_arrival, 0, k.brenvik_delete, k.brenvik_shape,
  k."at", k."entry", k."name", k."colour", k."depth", k."since"
FROM "brenvik_work_busy" b
JOIN "brenvik"."changes_of_buoy" k ON k."buoy_code" = b."buoy_code"
WHERE b.brenvik_full = 1
), placed AS (
  SELECT e.*,
    row_number() OVER (PARTITION BY e."buoy_code" ORDER BY brenvik_effective, "brenvik_rank", "at", "entry", "brenvik_run", "brenvik_arrival") AS brenvik_at,
    CASE WHEN lead(brenvik_effective) OVER (PARTITION BY e."buoy_code" ORDER BY brenvik_effective, "brenvik_rank", "at", "entry", "brenvik_run", "brenvik_arrival") = brenvik_effective THEN 1 ELSE 0 END AS brenvik_passed,
    first_value(brenvik_delete) OVER (PARTITION BY e."buoy_code", brenvik_effective ORDER BY "brenvik_rank" DESC NULLS FIRST, "at" DESC NULLS FIRST, "entry" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_arrival" DESC NULLS FIRST) AS brenvik_gone
  FROM events e
), counted AS (
  SELECT p.*, 1 - p.brenvik_passed AS brenvik_counts,
    max(CASE WHEN p.brenvik_new = 0 THEN p.brenvik_at END) OVER (PARTITION BY p."buoy_code", p.brenvik_effective) AS brenvik_replaces,
    first_value(p.brenvik_delete) OVER (
      PARTITION BY p."buoy_code", p.brenvik_effective ORDER BY p.brenvik_new, p.brenvik_at DESC) AS brenvik_replaced_delete
  FROM placed p
), lived AS (
  SELECT m.*
  FROM (
    SELECT q.*,
      sum(q.brenvik_delete) OVER (PARTITION BY q."buoy_code" ORDER BY q.brenvik_at ROWS UNBOUNDED PRECEDING) AS brenvik_life
    FROM counted q
    WHERE q.brenvik_counts = 1 OR (q.brenvik_gone = 0 AND q.brenvik_delete = 0)
  ) m
), states AS (
  SELECT l."buoy_code", l."brenvik_effective", l."brenvik_arrival", l."brenvik_shape", l."brenvik_delete", l."brenvik_new", l."brenvik_at", l."brenvik_life", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_counts",
    max(CASE WHEN l.brenvik_new = 0 AND l.brenvik_delete = 0 THEN 1 ELSE 0 END) OVER (PARTITION BY l."buoy_code", l.brenvik_life) AS brenvik_lived,
    l."name" AS "name", l."colour" AS "colour", l."depth" AS "depth", first_value(l."since") OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete ORDER BY CASE WHEN l."since" IS NULL THEN 1 ELSE 0 END, l.brenvik_at) AS "since", min(CASE WHEN l."since" IS NOT NULL THEN l.brenvik_at END) OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete) AS brenvik_known_3, first_value(CASE WHEN l.brenvik_new = 0 THEN l."since" END) OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete ORDER BY CASE WHEN CASE WHEN l.brenvik_new = 0 THEN l."since" END IS NULL THEN 1 ELSE 0 END, l.brenvik_at) AS brenvik_before_3, l."since" AS brenvik_said_3
  FROM lived l
), compared AS (
  SELECT s.*, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."name") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."name") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_0, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."colour") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."colour") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_1, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."depth") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."depth") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_2, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."since") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."since") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_3
  FROM states s
), lined AS (
  SELECT s."buoy_code", s."brenvik_effective", s."brenvik_arrival", s."brenvik_shape", s."brenvik_delete", s."brenvik_new", s."brenvik_at", s."brenvik_life", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_lived", s."name", s.brenvik_was_0, s."colour", s.brenvik_was_1, s."depth", s.brenvik_was_2, s."since", s.brenvik_was_3, s.brenvik_known_3, s.brenvik_said_3, s.brenvik_before_3, lag(s."colour") OVER brenvik_line AS brenvik_prev_1, lag(s."depth") OVER brenvik_line AS brenvik_prev_2,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_at) OVER brenvik_line, 0) AS brenvik_prev_at,
    max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_life END) OVER (PARTITION BY s."buoy_code") AS brenvik_last_life,
    max(s.brenvik_life) OVER (PARTITION BY s."buoy_code") AS brenvik_deaths
  FROM compared s
  WHERE s.brenvik_counts = 1
  WINDOW brenvik_line AS (PARTITION BY s."buoy_code" ORDER BY s.brenvik_at)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR (j."colour" IS DISTINCT FROM j.brenvik_prev_1 OR j."depth" IS DISTINCT FROM j.brenvik_prev_2)) THEN 1 ELSE 0 END AS brenvik_starts,
  CASE
    WHEN 1 = 0 THEN 'superseded'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN
      CASE WHEN j.brenvik_lived = 0 THEN 'inserted' ELSE 'versioned' END
    WHEN (j."colour" IS DISTINCT FROM j.brenvik_was_1 OR j."depth" IS DISTINCT FROM j.brenvik_was_2) THEN 'versioned'
    WHEN (j."name" IS DISTINCT FROM j.brenvik_was_0) OR ((j.brenvik_known_3 > COALESCE(j.brenvik_replaces, j.brenvik_prev_at) AND j.brenvik_known_3 <= j.brenvik_at)) THEN 'overwritten'
    WHEN ((j.brenvik_known_3 <= j.brenvik_at AND j.brenvik_said_3 IS DISTINCT FROM j."since")) THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_desired" AS
WITH lasts AS (
  SELECT j."buoy_code", j.brenvik_effective, j.brenvik_delete, j.brenvik_at, j.brenvik_life, j.brenvik_last_life, j.brenvik_deaths,
    j.brenvik_starts, j.brenvik_prev_delete, first_value(j."name") OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_at DESC) AS "name", j."since", j."colour", j."depth"
  FROM "brenvik_work_judged" j
), spans AS (
  SELECT j.*, lead(j.brenvik_effective) OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_at) AS brenvik_until, lead(j.brenvik_delete) OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_at) AS brenvik_ended
  FROM lasts j
  WHERE j.brenvik_starts = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
)
SELECT row_number() OVER (ORDER BY v."buoy_code", v.brenvik_effective) AS brenvik_no,
  v."buoy_code", v.brenvik_effective, v.brenvik_until, COALESCE(v.brenvik_ended, 0) AS brenvik_ended
  , v."name", v."colour", v."depth", v."since"
FROM spans v
WHERE v.brenvik_delete = 0 AND 1 = 1;

CREATE TEMP TABLE "brenvik_work_stored" AS
SELECT t."rowid" AS brenvik_locator, t."buoy_code", CAST(t."valid_from" AS TIMESTAMP) AS brenvik_effective, CAST(CASE WHEN t."valid_to" IS NULL THEN NULL ELSE t."valid_to" END AS TIMESTAMP) AS brenvik_until, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_ended, t."name", t."colour", t."depth", t."since", b.brenvik_full, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged
FROM "buoy" t
JOIN "brenvik_work_busy" b ON b."buoy_code" = t."buoy_code" AND (b.brenvik_full = 1 OR t."valid_to" IS NULL);

SELECT count(DISTINCT q.brenvik_key) AS n, min(q.brenvik_key) AS key FROM (SELECT CAST(s."buoy_code" AS TEXT) AS brenvik_key FROM (SELECT * FROM "brenvik_work_stored" a WHERE a.brenvik_full = 1) s WHERE NOT EXISTS (SELECT 1 FROM (SELECT * FROM "brenvik_work_judged" j WHERE j.brenvik_new = 0 OR j.brenvik_replaces IS NOT NULL) e WHERE e."buoy_code" = s."buoy_code" AND e.brenvik_effective = s.brenvik_effective) UNION ALL SELECT CAST(s."buoy_code" AS TEXT) AS brenvik_key FROM (SELECT * FROM "brenvik_work_stored" a WHERE a.brenvik_full = 1) s WHERE s.brenvik_until IS NOT NULL AND NOT EXISTS (SELECT 1 FROM (SELECT * FROM "brenvik_work_judged" j WHERE j.brenvik_new = 0 OR j.brenvik_replaces IS NOT NULL) e WHERE e."buoy_code" = s."buoy_code" AND e.brenvik_effective = s.brenvik_until)) q;

CREATE TEMP TABLE "brenvik_work_pairs" AS
WITH exact AS (
  SELECT d.brenvik_no, s.brenvik_locator FROM "brenvik_work_desired" d JOIN "brenvik_work_stored" s ON d."buoy_code" = s."buoy_code" AND d.brenvik_effective = s.brenvik_effective
), new_left AS (
SELECT d."buoy_code", d.brenvik_no, row_number() OVER (PARTITION BY d."buoy_code" ORDER BY d.brenvik_effective) AS brenvik_nth
FROM "brenvik_work_desired" d
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.brenvik_no = d.brenvik_no)
), old_left AS (
SELECT s."buoy_code", s.brenvik_locator, row_number() OVER (PARTITION BY s."buoy_code" ORDER BY s.brenvik_effective) AS brenvik_nth
FROM "brenvik_work_stored" s
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.brenvik_locator = s.brenvik_locator)
)
SELECT brenvik_no, brenvik_locator FROM exact
UNION ALL
SELECT d.brenvik_no, s.brenvik_locator FROM new_left d JOIN old_left s ON d."buoy_code" = s."buoy_code" AND d.brenvik_nth = s.brenvik_nth;

INSERT INTO "brenvik_work_closes" SELECT s.brenvik_locator, d.brenvik_until, d.brenvik_ended 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE NOT ((d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."colour" IS DISTINCT FROM s."colour" OR d."depth" IS DISTINCT FROM s."depth" OR d."since" IS DISTINCT FROM s."since")) AND ((d."brenvik_until" IS DISTINCT FROM s."brenvik_until" OR d."brenvik_ended" IS DISTINCT FROM s."brenvik_ended") OR s.brenvik_flagged <> CASE WHEN d.brenvik_until IS NULL THEN 1 ELSE 0 END);

CREATE TEMP TABLE "brenvik_work_sets" AS SELECT s.brenvik_locator, d."brenvik_effective", d."brenvik_until", d."brenvik_ended", d."name", d."colour", d."depth", d."since" 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE (d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."colour" IS DISTINCT FROM s."colour" OR d."depth" IS DISTINCT FROM s."depth" OR d."since" IS DISTINCT FROM s."since");

CREATE TEMP TABLE "brenvik_work_adds" AS SELECT d.brenvik_no FROM "brenvik_work_desired" d WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_no = d.brenvik_no);

INSERT INTO "brenvik_work_removes" SELECT s.brenvik_locator FROM "brenvik_work_stored" s WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_locator = s.brenvik_locator);

INSERT INTO "brenvik_work_sets"
SELECT t."rowid", t."valid_from", t."valid_to", CASE WHEN t."is_deleted" THEN 1 ELSE 0 END,
  x."name", t."colour", t."depth", t."since"
FROM (
  SELECT DISTINCT d."buoy_code", d."name" FROM "brenvik_work_desired" d
) x
JOIN "brenvik_work_busy" b ON b."buoy_code" = x."buoy_code" AND b.brenvik_full = 0
JOIN "buoy" t ON t."buoy_code" = x."buoy_code"
WHERE NOT (t."valid_to" IS NULL) AND (x."name" IS DISTINCT FROM t."name");

SELECT (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0) AS before, (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0 AND NOT EXISTS (SELECT 1 FROM "brenvik_work_desired" d WHERE d."buoy_code" = s."buoy_code" AND d.brenvik_until IS NULL)) AS lost,
  (SELECT count(*) FROM "brenvik_work_desired" d WHERE d.brenvik_until IS NULL) AS after;

SELECT brenvik_decision, count(*) AS n FROM "brenvik_work_judged" WHERE brenvik_new = 1 GROUP BY brenvik_decision;

SELECT (SELECT count(*) FROM "brenvik_work_screened") AS "screened", (SELECT count(*) FROM "brenvik_work_plain") AS "plain", (SELECT count(*) FROM "brenvik_work_duplicates") AS "duplicates";

SELECT count(*) AS n FROM "brenvik_work_duplicates" d JOIN "brenvik_work_screened" c ON c.brenvik_arrival = d.brenvik_arrival
WHERE NOT ((c."at" > CAST(:high_order_0 AS TIMESTAMP) OR (c."at" = CAST(:high_order_0 AS TIMESTAMP) AND c."entry" > CAST(:high_order_1 AS BIGINT))) AND c.brenvik_effective > CAST(:high_effective AS TIMESTAMP));

UPDATE "buoy" SET "valid_to" = s.brenvik_until, "is_current" = (s.brenvik_until IS NULL), "is_deleted" = (s.brenvik_ended = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_closes" s WHERE "buoy"."rowid" = s.brenvik_locator;

SELECT max(CASE WHEN t."valid_from" IS DISTINCT FROM s."brenvik_effective" THEN 1 ELSE 0 END) AS "brenvik_effective", max(CASE WHEN t."valid_to" IS DISTINCT FROM COALESCE(s."brenvik_until", NULL) THEN 1 ELSE 0 END) AS "brenvik_until", max(CASE WHEN t."is_deleted" IS DISTINCT FROM (s."brenvik_ended" = 1) THEN 1 ELSE 0 END) AS "brenvik_ended", max(CASE WHEN t."name" IS DISTINCT FROM s."name" THEN 1 ELSE 0 END) AS "name", max(CASE WHEN t."colour" IS DISTINCT FROM s."colour" THEN 1 ELSE 0 END) AS "colour", max(CASE WHEN t."depth" IS DISTINCT FROM s."depth" THEN 1 ELSE 0 END) AS "depth", max(CASE WHEN t."since" IS DISTINCT FROM s."since" THEN 1 ELSE 0 END) AS "since"
FROM "brenvik_work_sets" s
JOIN "buoy" t ON t."rowid" = s.brenvik_locator;

UPDATE "buoy" SET "name" = s."name", "valid_to" = COALESCE(s.brenvik_until, NULL), "is_deleted" = (s.brenvik_ended = 1), "is_current" = (s.brenvik_until IS NULL), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_sets" s WHERE "buoy"."rowid" = s.brenvik_locator;

INSERT INTO "buoy" ("buoy_key", "buoy_code", "name", "colour", "depth", "since", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at")
SELECT :last_key + row_number() OVER (), n."buoy_code", n."name", n."colour", n."depth", n."since", n.brenvik_start, CAST(n.brenvik_end AS TIMESTAMP), n.brenvik_open, n.brenvik_ended, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP)
FROM (
SELECT c."buoy_code", c."name" AS "name", c."colour" AS "colour", c."depth" AS "depth", COALESCE(p.brenvik_was_3, c."since") AS "since", c.brenvik_effective AS brenvik_start, NULL AS brenvik_end,
  TRUE AS brenvik_open, FALSE AS brenvik_ended
FROM "brenvik_work_plain" p JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
WHERE p.brenvik_decided IN (1, 2) UNION ALL 
SELECT d."buoy_code", d."name", d."colour", d."depth", d."since", d.brenvik_effective AS brenvik_start, d.brenvik_until AS brenvik_end,
  (d.brenvik_until IS NULL) AS brenvik_open, (d.brenvik_ended = 1) AS brenvik_ended
FROM "brenvik_work_adds" a JOIN "brenvik_work_desired" d ON d.brenvik_no = a.brenvik_no) n;

INSERT INTO "brenvik"."changes_of_buoy" (brenvik_run, "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "buoy_code", "at", "entry", "name", "colour", "depth", "since")
SELECT :run, c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."buoy_code", c."at", c."entry", c."name", c."colour", c."depth", c."since"
FROM "brenvik_work_screened" c
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival);

INSERT INTO "brenvik"."rejects" ("reject", "table_name", "feed", "run", "file", "line", "column_name", "value", "reason", "content", "state", "rejected_at", "decided_by")
SELECT :last_reject + row_number() OVER (ORDER BY r.brenvik_arrival), :table_name, :feed, :run, NULL,
  CASE WHEN r.brenvik_arrival % 1000000000000 < 200000000000 THEN CAST(floor((r.brenvik_arrival % 1000000000000) / 2) AS BIGINT) END, r.brenvik_column, r.brenvik_value, r.brenvik_reason, r.brenvik_row, 'open',
  CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_rejected" r
WHERE r.brenvik_again = 0;

SELECT k.brenvik_run AS of_run, count(DISTINCT c.brenvik_arrival) AS n
FROM "brenvik_work_duplicates" d
JOIN "brenvik_work_screened" c ON c.brenvik_arrival = d.brenvik_arrival
JOIN "brenvik"."changes_of_buoy" k ON k."buoy_code" = c."buoy_code" AND k."at" = c."at" AND k."entry" = c."entry" AND k."brenvik_effective" = c."brenvik_effective" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_shape" = c."brenvik_shape" AND k."name" IS NOT DISTINCT FROM c."name" AND k."colour" IS NOT DISTINCT FROM c."colour" AND k."depth" IS NOT DISTINCT FROM c."depth" AND k."since" IS NOT DISTINCT FROM c."since"
GROUP BY k.brenvik_run;

SELECT o."at", o."entry", e.brenvik_high
FROM (SELECT CAST(max(c.brenvik_effective) AS TEXT) AS brenvik_high FROM "brenvik_work_screened" c WHERE c.brenvik_effective > CAST(:high_effective AS TIMESTAMP)) e
LEFT JOIN (SELECT CAST(c."at" AS TEXT) AS "at", CAST(c."entry" AS TEXT) AS "entry" FROM "brenvik_work_screened" c WHERE (c."at" > CAST(:high_order_0 AS TIMESTAMP) OR (c."at" = CAST(:high_order_0 AS TIMESTAMP) AND c."entry" > CAST(:high_order_1 AS BIGINT))) ORDER BY c."at" DESC, c."entry" DESC LIMIT 1) o ON 1 = 1;

-- Run 4: revert 2

CREATE TEMP TABLE "brenvik_work_left_out" (run BIGINT);

INSERT INTO "brenvik_work_left_out" (run) VALUES (:left_out_0);

CREATE TEMP VIEW "brenvik_work_counting" AS
SELECT k."brenvik_run", k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."buoy_code", k."at", k."entry", k."name", k."colour", k."depth", k."since" FROM "brenvik"."changes_of_buoy" k
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_left_out" o WHERE o.run = k.brenvik_run);

CREATE TEMP TABLE "brenvik_work_busy" AS
SELECT DISTINCT b."buoy_code", 1 AS brenvik_full FROM (SELECT k."buoy_code" FROM "brenvik"."changes_of_buoy" k WHERE k.brenvik_run IN (2)) b;

CREATE TEMP TABLE "brenvik_work_screened" AS
SELECT k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."buoy_code", k."at", k."entry", k."name", k."colour", k."depth", k."since" FROM "brenvik"."changes_of_buoy" k WHERE 1 = 0;

SELECT (SELECT count(*) FROM "brenvik_work_busy") AS "busy";

CREATE TEMP TABLE "brenvik_work_plain" AS
SELECT
  c.brenvik_arrival, c.brenvik_effective, t."rowid" AS brenvik_locator,
  CASE WHEN t."rowid" IS NULL AND c.brenvik_delete = 1 THEN 0 WHEN t."rowid" IS NULL THEN 1 WHEN c.brenvik_delete = 1 THEN 4 WHEN ((t."since" IS NULL AND c."since" IS NOT NULL)) THEN 0 WHEN (c."colour" IS DISTINCT FROM t."colour" OR (c.brenvik_shape NOT IN (2) AND c."depth" IS DISTINCT FROM t."depth")) THEN 2 WHEN ((c.brenvik_shape NOT IN (2) AND c."name" IS DISTINCT FROM t."name")) THEN 3 WHEN ((c.brenvik_shape NOT IN (2) AND c."since" IS DISTINCT FROM t."since")) THEN 5 ELSE 6 END AS brenvik_decided,
  CASE WHEN c.brenvik_delete = 0 AND t."rowid" IS NOT NULL AND ((c.brenvik_shape NOT IN (2) AND c."name" IS DISTINCT FROM t."name")) THEN 1 ELSE 0 END AS brenvik_sets,
  CASE WHEN ((c.brenvik_shape NOT IN (2) AND c."name" IS DISTINCT FROM t."name") OR c."colour" IS DISTINCT FROM t."colour" OR (c.brenvik_shape NOT IN (2) AND c."depth" IS DISTINCT FROM t."depth") OR (c.brenvik_shape NOT IN (2) AND c."since" IS DISTINCT FROM t."since")) THEN t."name" END AS brenvik_was_0, CASE WHEN ((c.brenvik_shape NOT IN (2) AND c."name" IS DISTINCT FROM t."name") OR c."colour" IS DISTINCT FROM t."colour" OR (c.brenvik_shape NOT IN (2) AND c."depth" IS DISTINCT FROM t."depth") OR (c.brenvik_shape NOT IN (2) AND c."since" IS DISTINCT FROM t."since")) THEN t."depth" END AS brenvik_was_2, CASE WHEN ((c.brenvik_shape NOT IN (2) AND c."name" IS DISTINCT FROM t."name") OR c."colour" IS DISTINCT FROM t."colour" OR (c.brenvik_shape NOT IN (2) AND c."depth" IS DISTINCT FROM t."depth") OR (c.brenvik_shape NOT IN (2) AND c."since" IS DISTINCT FROM t."since")) THEN t."since" END AS brenvik_was_3
FROM "brenvik_work_screened" c
LEFT JOIN "buoy" t ON t."buoy_code" = c."buoy_code" AND t."valid_to" IS NULL
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code");

UPDATE "brenvik_work_plain" SET brenvik_decided = 0
WHERE "brenvik_work_plain".brenvik_decided IN (1) AND EXISTS (
  SELECT 1 FROM "brenvik_work_screened" c
  JOIN "buoy" t ON t."buoy_code" = c."buoy_code"
  WHERE c.brenvik_arrival = "brenvik_work_plain".brenvik_arrival AND NOT (t."valid_to" IS NULL));

SELECT CASE p.brenvik_decided WHEN 0 THEN 'full' WHEN 1 THEN 'inserted' WHEN 2 THEN 'versioned' WHEN 3 THEN 'overwritten' WHEN 4 THEN 'deleted' WHEN 5 THEN 'protected' WHEN 6 THEN 'unchanged' END AS brenvik_decision, n, sets FROM (SELECT brenvik_decided, count(*) AS n, CAST(sum(brenvik_sets) AS BIGINT) AS sets FROM "brenvik_work_plain" GROUP BY brenvik_decided) p;

CREATE TEMP TABLE "brenvik_work_closes" AS
SELECT p.brenvik_locator, p.brenvik_effective AS brenvik_until, CASE WHEN p.brenvik_decided IN (4) THEN 1 ELSE 0 END AS brenvik_ended
FROM "brenvik_work_plain" p
WHERE p.brenvik_decided IN (2, 4);

CREATE TEMP TABLE "brenvik_work_removes" AS SELECT brenvik_locator FROM "brenvik_work_plain" WHERE 1 = 0;

CREATE TEMP TABLE "brenvik_work_duplicates" AS 
SELECT n.brenvik_arrival FROM (
  SELECT c.brenvik_arrival, row_number() OVER (
    PARTITION BY c."buoy_code", c."brenvik_effective", c."brenvik_delete", c."brenvik_shape", c."at", c."entry", c."name", c."colour", c."depth", c."since" ORDER BY c.brenvik_arrival) AS brenvik_nth
  FROM "brenvik_work_screened" c
  WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code")
) n WHERE n.brenvik_nth > 1 UNION 
SELECT c.brenvik_arrival
FROM "brenvik_work_screened" c
JOIN "brenvik_work_counting" k ON k."buoy_code" = c."buoy_code" AND k."at" = c."at" AND k."entry" = c."entry" AND k."brenvik_effective" = c."brenvik_effective" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_shape" = c."brenvik_shape" AND k."name" IS NOT DISTINCT FROM c."name" AND k."colour" IS NOT DISTINCT FROM c."colour" AND k."depth" IS NOT DISTINCT FROM c."depth" AND k."since" IS NOT DISTINCT FROM c."since"
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code" AND b.brenvik_full = 1);

CREATE TEMP TABLE "brenvik_work_judged" AS
WITH events ("buoy_code", "brenvik_effective", "brenvik_rank", "brenvik_run", "brenvik_arrival", "brenvik_new", "brenvik_delete", "brenvik_shape", "at", "entry", "name", "colour", "depth", "since") AS (
SELECT c."buoy_code",
  c.brenvik_effective, 1, :run, c.brenvik_arrival, 1, c.brenvik_delete, c.brenvik_shape,
  c."at", c."entry", c."name", c."colour", c."depth", c."since"
FROM "brenvik_work_screened" c
WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival) UNION ALL 
SELECT k."buoy_code",
  k.brenvik_effective, 1, k.brenvik_run, k.brenvik_arrival, 0, k.brenvik_delete, k.brenvik_shape,
  k."at", k."entry", k."name", k."colour", k."depth", k."since"
FROM "brenvik_work_busy" b
JOIN "brenvik_work_counting" k ON k."buoy_code" = b."buoy_code"
WHERE b.brenvik_full = 1
), placed AS (
  SELECT e.*,
    row_number() OVER (PARTITION BY e."buoy_code" ORDER BY brenvik_effective, "brenvik_rank", "at", "entry", "brenvik_run", "brenvik_arrival") AS brenvik_at,
    CASE WHEN lead(brenvik_effective) OVER (PARTITION BY e."buoy_code" ORDER BY brenvik_effective, "brenvik_rank", "at", "entry", "brenvik_run", "brenvik_arrival") = brenvik_effective THEN 1 ELSE 0 END AS brenvik_passed,
    first_value(brenvik_delete) OVER (PARTITION BY e."buoy_code", brenvik_effective ORDER BY "brenvik_rank" DESC NULLS FIRST, "at" DESC NULLS FIRST, "entry" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_arrival" DESC NULLS FIRST) AS brenvik_gone
  FROM events e
), counted AS (
  SELECT p.*, 1 - p.brenvik_passed AS brenvik_counts,
    max(CASE WHEN p.brenvik_new = 0 THEN p.brenvik_at END) OVER (PARTITION BY p."buoy_code", p.brenvik_effective) AS brenvik_replaces,
    first_value(p.brenvik_delete) OVER (
      PARTITION BY p."buoy_code", p.brenvik_effective ORDER BY p.brenvik_new, p.brenvik_at DESC) AS brenvik_replaced_delete
  FROM placed p
), lived AS (
  SELECT m.*, sum(CASE WHEN m.brenvik_shape NOT IN (2) THEN 1 ELSE 0 END) OVER (PARTITION BY m."buoy_code", m.brenvik_life, m.brenvik_delete ORDER BY m.brenvik_at ROWS UNBOUNDED PRECEDING) AS brenvik_step_0, sum(CASE WHEN m.brenvik_shape NOT IN (2) THEN 1 ELSE 0 END) OVER (PARTITION BY m."buoy_code", m.brenvik_life, m.brenvik_delete ORDER BY m.brenvik_at ROWS UNBOUNDED PRECEDING) AS brenvik_step_2
  FROM (
    SELECT q.*,
      sum(q.brenvik_delete) OVER (PARTITION BY q."buoy_code" ORDER BY q.brenvik_at ROWS UNBOUNDED PRECEDING) AS brenvik_life
    FROM counted q
    WHERE q.brenvik_counts = 1 OR (q.brenvik_gone = 0 AND q.brenvik_delete = 0)
  ) m
), states AS (
  SELECT l."buoy_code", l."brenvik_effective", l."brenvik_arrival", l."brenvik_shape", l."brenvik_delete", l."brenvik_new", l."brenvik_at", l."brenvik_life", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_counts",
    max(CASE WHEN l.brenvik_new = 0 AND l.brenvik_delete = 0 THEN 1 ELSE 0 END) OVER (PARTITION BY l."buoy_code", l.brenvik_life) AS brenvik_lived,
    first_value(l."name") OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete, l.brenvik_step_0 ORDER BY l.brenvik_at) AS "name", l."colour" AS "colour", first_value(l."depth") OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete, l.brenvik_step_2 ORDER BY l.brenvik_at) AS "depth", first_value(l."since") OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete ORDER BY CASE WHEN l."since" IS NULL THEN 1 ELSE 0 END, l.brenvik_at) AS "since", min(CASE WHEN l."since" IS NOT NULL THEN l.brenvik_at END) OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete) AS brenvik_known_3, first_value(CASE WHEN l.brenvik_new = 0 THEN l."since" END) OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete ORDER BY CASE WHEN CASE WHEN l.brenvik_new = 0 THEN l."since" END IS NULL THEN 1 ELSE 0 END, l.brenvik_at) AS brenvik_before_3, l."since" AS brenvik_said_3
  FROM lived l
), compared AS (
  SELECT s.*, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."name") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."name") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_0, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."colour") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."colour") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_1, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."depth") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."depth") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_2, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."since") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."since") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_3
  FROM states s
), lined AS (
  SELECT s."buoy_code", s."brenvik_effective", s."brenvik_arrival", s."brenvik_shape", s."brenvik_delete", s."brenvik_new", s."brenvik_at", s."brenvik_life", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_lived", s."name", s.brenvik_was_0, s."colour", s.brenvik_was_1, s."depth", s.brenvik_was_2, s."since", s.brenvik_was_3, s.brenvik_known_3, s.brenvik_said_3, s.brenvik_before_3, lag(s."colour") OVER brenvik_line AS brenvik_prev_1, lag(s."depth") OVER brenvik_line AS brenvik_prev_2,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_at) OVER brenvik_line, 0) AS brenvik_prev_at,
    max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_life END) OVER (PARTITION BY s."buoy_code") AS brenvik_last_life,
    max(s.brenvik_life) OVER (PARTITION BY s."buoy_code") AS brenvik_deaths
  FROM compared s
  WHERE s.brenvik_counts = 1
  WINDOW brenvik_line AS (PARTITION BY s."buoy_code" ORDER BY s.brenvik_at)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR (j."colour" IS DISTINCT FROM j.brenvik_prev_1 OR j."depth" IS DISTINCT FROM j.brenvik_prev_2)) THEN 1 ELSE 0 END AS brenvik_starts,
  CASE
    WHEN 1 = 0 THEN 'superseded'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN
      CASE WHEN j.brenvik_lived = 0 THEN 'inserted' ELSE 'versioned' END
    WHEN (j."colour" IS DISTINCT FROM j.brenvik_was_1 OR j."depth" IS DISTINCT FROM j.brenvik_was_2) THEN 'versioned'
    WHEN (j."name" IS DISTINCT FROM j.brenvik_was_0) OR ((j.brenvik_known_3 > COALESCE(j.brenvik_replaces, j.brenvik_prev_at) AND j.brenvik_known_3 <= j.brenvik_at)) THEN 'overwritten'
    WHEN ((j.brenvik_shape NOT IN (2) AND j.brenvik_known_3 <= j.brenvik_at AND j.brenvik_said_3 IS DISTINCT FROM j."since")) THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_desired" AS
WITH lasts AS (
  SELECT j."buoy_code", j.brenvik_effective, j.brenvik_delete, j.brenvik_at, j.brenvik_life, j.brenvik_last_life, j.brenvik_deaths,
    j.brenvik_starts, j.brenvik_prev_delete, first_value(j."name") OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_at DESC) AS "name", j."since", j."colour", j."depth"
  FROM "brenvik_work_judged" j
), spans AS (
  SELECT j.*, lead(j.brenvik_effective) OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_at) AS brenvik_until, lead(j.brenvik_delete) OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_at) AS brenvik_ended
  FROM lasts j
  WHERE j.brenvik_starts = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
)
SELECT row_number() OVER (ORDER BY v."buoy_code", v.brenvik_effective) AS brenvik_no,
  v."buoy_code", v.brenvik_effective, v.brenvik_until, COALESCE(v.brenvik_ended, 0) AS brenvik_ended
  , v."name", v."colour", v."depth", v."since"
FROM spans v
WHERE v.brenvik_delete = 0 AND 1 = 1;

CREATE TEMP TABLE "brenvik_work_stored" AS
SELECT t."rowid" AS brenvik_locator, t."buoy_code", CAST(t."valid_from" AS TIMESTAMP) AS brenvik_effective, CAST(CASE WHEN t."valid_to" IS NULL THEN NULL ELSE t."valid_to" END AS TIMESTAMP) AS brenvik_until, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_ended, t."name", t."colour", t."depth", t."since", b.brenvik_full, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged
FROM "buoy" t
JOIN "brenvik_work_busy" b ON b."buoy_code" = t."buoy_code" AND (b.brenvik_full = 1 OR t."valid_to" IS NULL);

SELECT count(DISTINCT q.brenvik_key) AS n, min(q.brenvik_key) AS key FROM (SELECT CAST(s."buoy_code" AS TEXT) AS brenvik_key FROM "brenvik_work_stored" s WHERE NOT EXISTS (SELECT 1 FROM "brenvik"."changes_of_buoy" e WHERE e."buoy_code" = s."buoy_code" AND e.brenvik_effective = s.brenvik_effective) UNION ALL SELECT CAST(s."buoy_code" AS TEXT) AS brenvik_key FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NOT NULL AND NOT EXISTS (SELECT 1 FROM "brenvik"."changes_of_buoy" e WHERE e."buoy_code" = s."buoy_code" AND e.brenvik_effective = s.brenvik_until)) q;

CREATE TEMP TABLE "brenvik_work_pairs" AS
WITH exact AS (
  SELECT m.brenvik_no, min(m.brenvik_locator) AS brenvik_locator FROM (SELECT d.brenvik_no, s.brenvik_locator FROM "brenvik_work_desired" d JOIN "brenvik_work_stored" s ON d."buoy_code" = s."buoy_code" AND d.brenvik_effective = s.brenvik_effective) m GROUP BY m.brenvik_no
), new_left AS (
SELECT d."buoy_code", d.brenvik_no, row_number() OVER (PARTITION BY d."buoy_code" ORDER BY d.brenvik_effective) AS brenvik_nth
FROM "brenvik_work_desired" d
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.brenvik_no = d.brenvik_no)
), old_left AS (
SELECT s."buoy_code", s.brenvik_locator, row_number() OVER (PARTITION BY s."buoy_code" ORDER BY s.brenvik_effective) AS brenvik_nth
FROM "brenvik_work_stored" s
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.brenvik_locator = s.brenvik_locator)
)
SELECT brenvik_no, brenvik_locator FROM exact
UNION ALL
SELECT d.brenvik_no, s.brenvik_locator FROM new_left d JOIN old_left s ON d."buoy_code" = s."buoy_code" AND d.brenvik_nth = s.brenvik_nth;

INSERT INTO "brenvik_work_closes" SELECT s.brenvik_locator, d.brenvik_until, d.brenvik_ended 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE NOT ((d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."colour" IS DISTINCT FROM s."colour" OR d."depth" IS DISTINCT FROM s."depth" OR d."since" IS DISTINCT FROM s."since")) AND ((d."brenvik_until" IS DISTINCT FROM s."brenvik_until" OR d."brenvik_ended" IS DISTINCT FROM s."brenvik_ended") OR s.brenvik_flagged <> CASE WHEN d.brenvik_until IS NULL THEN 1 ELSE 0 END);

CREATE TEMP TABLE "brenvik_work_sets" AS SELECT s.brenvik_locator, d."brenvik_effective", d."brenvik_until", d."brenvik_ended", d."name", d."colour", d."depth", d."since" 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE (d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."colour" IS DISTINCT FROM s."colour" OR d."depth" IS DISTINCT FROM s."depth" OR d."since" IS DISTINCT FROM s."since");

CREATE TEMP TABLE "brenvik_work_adds" AS SELECT d.brenvik_no FROM "brenvik_work_desired" d WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_no = d.brenvik_no);

INSERT INTO "brenvik_work_removes" SELECT s.brenvik_locator FROM "brenvik_work_stored" s WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_locator = s.brenvik_locator);

INSERT INTO "brenvik_work_sets"
SELECT t."rowid", t."valid_from", t."valid_to", CASE WHEN t."is_deleted" THEN 1 ELSE 0 END,
  x."name", t."colour", t."depth", t."since"
FROM (
  SELECT DISTINCT d."buoy_code", d."name" FROM "brenvik_work_desired" d
) x
JOIN "brenvik_work_busy" b ON b."buoy_code" = x."buoy_code" AND b.brenvik_full = 0
JOIN "buoy" t ON t."buoy_code" = x."buoy_code"
WHERE NOT (t."valid_to" IS NULL) AND (x."name" IS DISTINCT FROM t."name");

SELECT (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0) AS before, (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0 AND NOT EXISTS (SELECT 1 FROM "brenvik_work_desired" d WHERE d."buoy_code" = s."buoy_code" AND d.brenvik_until IS NULL)) AS lost,
  (SELECT count(*) FROM "brenvik_work_desired" d WHERE d.brenvik_until IS NULL) AS after;

SELECT r."buoy_code", CAST(sum(r.added) AS BIGINT) AS brenvik_added, CAST(sum(r.changed) AS BIGINT) AS brenvik_changed, CAST(sum(r.removed) AS BIGINT) AS brenvik_removed FROM (SELECT o."buoy_code", 1 AS added, 0 AS changed, 0 AS removed FROM "brenvik_work_adds" w JOIN "brenvik_work_desired" o ON o.brenvik_no = w.brenvik_no UNION ALL SELECT o."buoy_code", 0 AS added, 1 AS changed, 0 AS removed FROM "brenvik_work_sets" w JOIN "brenvik_work_stored" o ON o.brenvik_locator = w.brenvik_locator UNION ALL SELECT o."buoy_code", 0 AS added, 1 AS changed, 0 AS removed FROM "brenvik_work_closes" w JOIN "brenvik_work_stored" o ON o.brenvik_locator = w.brenvik_locator UNION ALL SELECT o."buoy_code", 0 AS added, 0 AS changed, 1 AS removed FROM "brenvik_work_removes" w JOIN "brenvik_work_stored" o ON o.brenvik_locator = w.brenvik_locator) r GROUP BY r."buoy_code" ORDER BY r."buoy_code";

UPDATE "buoy" SET "valid_to" = s.brenvik_until, "is_current" = (s.brenvik_until IS NULL), "is_deleted" = (s.brenvik_ended = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_closes" s WHERE "buoy"."rowid" = s.brenvik_locator;

SELECT max(CASE WHEN t."valid_from" IS DISTINCT FROM s."brenvik_effective" THEN 1 ELSE 0 END) AS "brenvik_effective", max(CASE WHEN t."valid_to" IS DISTINCT FROM COALESCE(s."brenvik_until", NULL) THEN 1 ELSE 0 END) AS "brenvik_until", max(CASE WHEN t."is_deleted" IS DISTINCT FROM (s."brenvik_ended" = 1) THEN 1 ELSE 0 END) AS "brenvik_ended", max(CASE WHEN t."name" IS DISTINCT FROM s."name" THEN 1 ELSE 0 END) AS "name", max(CASE WHEN t."colour" IS DISTINCT FROM s."colour" THEN 1 ELSE 0 END) AS "colour", max(CASE WHEN t."depth" IS DISTINCT FROM s."depth" THEN 1 ELSE 0 END) AS "depth", max(CASE WHEN t."since" IS DISTINCT FROM s."since" THEN 1 ELSE 0 END) AS "since"
FROM "brenvik_work_sets" s
JOIN "buoy" t ON t."rowid" = s.brenvik_locator;

UPDATE "buoy" SET "name" = s."name", "depth" = s."depth", "valid_to" = COALESCE(s.brenvik_until, NULL), "is_deleted" = (s.brenvik_ended = 1), "is_current" = (s.brenvik_until IS NULL), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_sets" s WHERE "buoy"."rowid" = s.brenvik_locator;

DELETE FROM "buoy" WHERE "buoy"."rowid" IN (SELECT r.brenvik_locator FROM "brenvik_work_removes" r);

SELECT o."at", o."entry", e.brenvik_high
FROM (SELECT CAST(max(c.brenvik_effective) AS TEXT) AS brenvik_high FROM "brenvik_work_counting" c ) e
LEFT JOIN (SELECT CAST(c."at" AS TEXT) AS "at", CAST(c."entry" AS TEXT) AS "entry" FROM "brenvik_work_counting" c  ORDER BY c."at" DESC, c."entry" DESC LIMIT 1) o ON 1 = 1;

-- Run 6: rebuild

SELECT count(DISTINCT q.brenvik_key) AS n, min(q.brenvik_key) AS key FROM (SELECT CAST(s."buoy_code" AS TEXT) AS brenvik_key FROM (SELECT t."buoy_code", t."valid_from" AS brenvik_effective, CASE WHEN t."valid_to" IS NULL THEN NULL ELSE t."valid_to" END AS brenvik_until FROM "buoy" t) s WHERE NOT EXISTS (SELECT 1 FROM "brenvik"."changes_of_buoy" e WHERE e."buoy_code" = s."buoy_code" AND e.brenvik_effective = s.brenvik_effective) UNION ALL SELECT CAST(s."buoy_code" AS TEXT) AS brenvik_key FROM (SELECT t."buoy_code", t."valid_from" AS brenvik_effective, CASE WHEN t."valid_to" IS NULL THEN NULL ELSE t."valid_to" END AS brenvik_until FROM "buoy" t) s WHERE s.brenvik_until IS NOT NULL AND NOT EXISTS (SELECT 1 FROM "brenvik"."changes_of_buoy" e WHERE e."buoy_code" = s."buoy_code" AND e.brenvik_effective = s.brenvik_until)) q;

SELECT count(*) AS n FROM "buoy";

SELECT count(*) AS n FROM "buoy" t WHERE t."valid_to" IS NULL;

CREATE TEMP TABLE "brenvik_work_busy" AS
SELECT DISTINCT b."buoy_code", 1 AS brenvik_full FROM (SELECT k."buoy_code" FROM "brenvik"."changes_of_buoy" k UNION SELECT k."buoy_code" FROM "buoy" k) b;

CREATE TEMP TABLE "brenvik_work_screened" AS
SELECT k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."buoy_code", k."at", k."entry", k."name", k."colour", k."depth", k."since" FROM "brenvik"."changes_of_buoy" k WHERE 1 = 0;

SELECT (SELECT count(*) FROM "brenvik_work_busy") AS "busy";

CREATE TEMP TABLE "brenvik_work_plain" AS
SELECT
  c.brenvik_arrival, c.brenvik_effective, t."rowid" AS brenvik_locator,
  CASE WHEN t."rowid" IS NULL AND c.brenvik_delete = 1 THEN 0 WHEN t."rowid" IS NULL THEN 1 WHEN c.brenvik_delete = 1 THEN 4 WHEN ((t."since" IS NULL AND c."since" IS NOT NULL)) THEN 0 WHEN (c."colour" IS DISTINCT FROM t."colour" OR (c.brenvik_shape NOT IN (2) AND c."depth" IS DISTINCT FROM t."depth")) THEN 2 WHEN ((c.brenvik_shape NOT IN (2) AND c."name" IS DISTINCT FROM t."name")) THEN 3 WHEN ((c.brenvik_shape NOT IN (2) AND c."since" IS DISTINCT FROM t."since")) THEN 5 ELSE 6 END AS brenvik_decided,
  CASE WHEN c.brenvik_delete = 0 AND t."rowid" IS NOT NULL AND ((c.brenvik_shape NOT IN (2) AND c."name" IS DISTINCT FROM t."name")) THEN 1 ELSE 0 END AS brenvik_sets,
  CASE WHEN ((c.brenvik_shape NOT IN (2) AND c."name" IS DISTINCT FROM t."name") OR c."colour" IS DISTINCT FROM t."colour" OR (c.brenvik_shape NOT IN (2) AND c."depth" IS DISTINCT FROM t."depth") OR (c.brenvik_shape NOT IN (2) AND c."since" IS DISTINCT FROM t."since")) THEN t."name" END AS brenvik_was_0, CASE WHEN ((c.brenvik_shape NOT IN (2) AND c."name" IS DISTINCT FROM t."name") OR c."colour" IS DISTINCT FROM t."colour" OR (c.brenvik_shape NOT IN (2) AND c."depth" IS DISTINCT FROM t."depth") OR (c.brenvik_shape NOT IN (2) AND c."since" IS DISTINCT FROM t."since")) THEN t."depth" END AS brenvik_was_2, CASE WHEN ((c.brenvik_shape NOT IN (2) AND c."name" IS DISTINCT FROM t."name") OR c."colour" IS DISTINCT FROM t."colour" OR (c.brenvik_shape NOT IN (2) AND c."depth" IS DISTINCT FROM t."depth") OR (c.brenvik_shape NOT IN (2) AND c."since" IS DISTINCT FROM t."since")) THEN t."since" END AS brenvik_was_3
FROM "brenvik_work_screened" c
LEFT JOIN "buoy" t ON t."buoy_code" = c."buoy_code" AND t."valid_to" IS NULL
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code");

UPDATE "brenvik_work_plain" SET brenvik_decided = 0
WHERE "brenvik_work_plain".brenvik_decided IN (1) AND EXISTS (
  SELECT 1 FROM "brenvik_work_screened" c
  JOIN "buoy" t ON t."buoy_code" = c."buoy_code"
  WHERE c.brenvik_arrival = "brenvik_work_plain".brenvik_arrival AND NOT (t."valid_to" IS NULL));

SELECT CASE p.brenvik_decided WHEN 0 THEN 'full' WHEN 1 THEN 'inserted' WHEN 2 THEN 'versioned' WHEN 3 THEN 'overwritten' WHEN 4 THEN 'deleted' WHEN 5 THEN 'protected' WHEN 6 THEN 'unchanged' END AS brenvik_decision, n, sets FROM (SELECT brenvik_decided, count(*) AS n, CAST(sum(brenvik_sets) AS BIGINT) AS sets FROM "brenvik_work_plain" GROUP BY brenvik_decided) p;

CREATE TEMP TABLE "brenvik_work_closes" AS
SELECT p.brenvik_locator, p.brenvik_effective AS brenvik_until, CASE WHEN p.brenvik_decided IN (4) THEN 1 ELSE 0 END AS brenvik_ended
FROM "brenvik_work_plain" p
WHERE p.brenvik_decided IN (2, 4);

CREATE TEMP TABLE "brenvik_work_removes" AS SELECT brenvik_locator FROM "brenvik_work_plain" WHERE 1 = 0;

CREATE TEMP TABLE "brenvik_work_duplicates" AS 
SELECT n.brenvik_arrival FROM (
  SELECT c.brenvik_arrival, row_number() OVER (
    PARTITION BY c."buoy_code", c."brenvik_effective", c."brenvik_delete", c."brenvik_shape", c."at", c."entry", c."name", c."colour", c."depth", c."since" ORDER BY c.brenvik_arrival) AS brenvik_nth
  FROM "brenvik_work_screened" c
  WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code")
) n WHERE n.brenvik_nth > 1 UNION 
SELECT c.brenvik_arrival
FROM "brenvik_work_screened" c
JOIN "brenvik"."changes_of_buoy" k ON k."buoy_code" = c."buoy_code" AND k."at" = c."at" AND k."entry" = c."entry" AND k."brenvik_effective" = c."brenvik_effective" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_shape" = c."brenvik_shape" AND k."name" IS NOT DISTINCT FROM c."name" AND k."colour" IS NOT DISTINCT FROM c."colour" AND k."depth" IS NOT DISTINCT FROM c."depth" AND k."since" IS NOT DISTINCT FROM c."since"
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code" AND b.brenvik_full = 1);

CREATE TEMP TABLE "brenvik_work_judged" AS
WITH events ("buoy_code", "brenvik_effective", "brenvik_rank", "brenvik_run", "brenvik_arrival", "brenvik_new", "brenvik_delete", "brenvik_shape", "at", "entry", "name", "colour", "depth", "since") AS (
SELECT c."buoy_code",
  c.brenvik_effective, 1, :run, c.brenvik_arrival, 1, c.brenvik_delete, c.brenvik_shape,
  c."at", c."entry", c."name", c."colour", c."depth", c."since"
FROM "brenvik_work_screened" c
WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival) UNION ALL 
SELECT k."buoy_code",
  k.brenvik_effective, 1, k.brenvik_run, k.brenvik_arrival, 0, k.brenvik_delete, k.brenvik_shape,
  k."at", k."entry", k."name", k."colour", k."depth", k."since"
FROM "brenvik_work_busy" b
JOIN "brenvik"."changes_of_buoy" k ON k."buoy_code" = b."buoy_code"
WHERE b.brenvik_full = 1
), placed AS (
  SELECT e.*,
    row_number() OVER (PARTITION BY e."buoy_code" ORDER BY brenvik_effective, "brenvik_rank", "at", "entry", "brenvik_run", "brenvik_arrival") AS brenvik_at,
    CASE WHEN lead(brenvik_effective) OVER (PARTITION BY e."buoy_code" ORDER BY brenvik_effective, "brenvik_rank", "at", "entry", "brenvik_run", "brenvik_arrival") = brenvik_effective THEN 1 ELSE 0 END AS brenvik_passed,
    first_value(brenvik_delete) OVER (PARTITION BY e."buoy_code", brenvik_effective ORDER BY "brenvik_rank" DESC NULLS FIRST, "at" DESC NULLS FIRST, "entry" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_arrival" DESC NULLS FIRST) AS brenvik_gone
  FROM events e
), counted AS (
  SELECT p.*, 1 - p.brenvik_passed AS brenvik_counts,
    max(CASE WHEN p.brenvik_new = 0 THEN p.brenvik_at END) OVER (PARTITION BY p."buoy_code", p.brenvik_effective) AS brenvik_replaces,
    first_value(p.brenvik_delete) OVER (
      PARTITION BY p."buoy_code", p.brenvik_effective ORDER BY p.brenvik_new, p.brenvik_at DESC) AS brenvik_replaced_delete
  FROM placed p
), lived AS (
  SELECT m.*, sum(CASE WHEN m.brenvik_shape NOT IN (2) THEN 1 ELSE 0 END) OVER (PARTITION BY m."buoy_code", m.brenvik_life, m.brenvik_delete ORDER BY m.brenvik_at ROWS UNBOUNDED PRECEDING) AS brenvik_step_0, sum(CASE WHEN m.brenvik_shape NOT IN (2) THEN 1 ELSE 0 END) OVER (PARTITION BY m."buoy_code", m.brenvik_life, m.brenvik_delete ORDER BY m.brenvik_at ROWS UNBOUNDED PRECEDING) AS brenvik_step_2
  FROM (
    SELECT q.*,
      sum(q.brenvik_delete) OVER (PARTITION BY q."buoy_code" ORDER BY q.brenvik_at ROWS UNBOUNDED PRECEDING) AS brenvik_life
    FROM counted q
    WHERE q.brenvik_counts = 1 OR (q.brenvik_gone = 0 AND q.brenvik_delete = 0)
  ) m
), states AS (
  SELECT l."buoy_code", l."brenvik_effective", l."brenvik_arrival", l."brenvik_shape", l."brenvik_delete", l."brenvik_new", l."brenvik_at", l."brenvik_life", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_counts",
    max(CASE WHEN l.brenvik_new = 0 AND l.brenvik_delete = 0 THEN 1 ELSE 0 END) OVER (PARTITION BY l."buoy_code", l.brenvik_life) AS brenvik_lived,
    first_value(l."name") OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete, l.brenvik_step_0 ORDER BY l.brenvik_at) AS "name", l."colour" AS "colour", first_value(l."depth") OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete, l.brenvik_step_2 ORDER BY l.brenvik_at) AS "depth", first_value(l."since") OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete ORDER BY CASE WHEN l."since" IS NULL THEN 1 ELSE 0 END, l.brenvik_at) AS "since", min(CASE WHEN l."since" IS NOT NULL THEN l.brenvik_at END) OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete) AS brenvik_known_3, first_value(CASE WHEN l.brenvik_new = 0 THEN l."since" END) OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete ORDER BY CASE WHEN CASE WHEN l.brenvik_new = 0 THEN l."since" END IS NULL THEN 1 ELSE 0 END, l.brenvik_at) AS brenvik_before_3, l."since" AS brenvik_said_3
  FROM lived l
), compared AS (
  SELECT s.*, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."name") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."name") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_0, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."colour") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."colour") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_1, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."depth") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."depth") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_2, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."since") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."since") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_3
  FROM states s
), lined AS (
  SELECT s."buoy_code", s."brenvik_effective", s."brenvik_arrival", s."brenvik_shape", s."brenvik_delete", s."brenvik_new", s."brenvik_at", s."brenvik_life", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_lived", s."name", s.brenvik_was_0, s."colour", s.brenvik_was_1, s."depth", s.brenvik_was_2, s."since", s.brenvik_was_3, s.brenvik_known_3, s.brenvik_said_3, s.brenvik_before_3, lag(s."colour") OVER brenvik_line AS brenvik_prev_1, lag(s."depth") OVER brenvik_line AS brenvik_prev_2,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_at) OVER brenvik_line, 0) AS brenvik_prev_at,
    max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_life END) OVER (PARTITION BY s."buoy_code") AS brenvik_last_life,
    max(s.brenvik_life) OVER (PARTITION BY s."buoy_code") AS brenvik_deaths
  FROM compared s
  WHERE s.brenvik_counts = 1
  WINDOW brenvik_line AS (PARTITION BY s."buoy_code" ORDER BY s.brenvik_at)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR (j."colour" IS DISTINCT FROM j.brenvik_prev_1 OR j."depth" IS DISTINCT FROM j.brenvik_prev_2)) THEN 1 ELSE 0 END AS brenvik_starts,
  CASE
    WHEN 1 = 0 THEN 'superseded'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN
      CASE WHEN j.brenvik_lived = 0 THEN 'inserted' ELSE 'versioned' END
    WHEN (j."colour" IS DISTINCT FROM j.brenvik_was_1 OR j."depth" IS DISTINCT FROM j.brenvik_was_2) THEN 'versioned'
    WHEN (j."name" IS DISTINCT FROM j.brenvik_was_0) OR ((j.brenvik_known_3 > COALESCE(j.brenvik_replaces, j.brenvik_prev_at) AND j.brenvik_known_3 <= j.brenvik_at)) THEN 'overwritten'
    WHEN ((j.brenvik_shape NOT IN (2) AND j.brenvik_known_3 <= j.brenvik_at AND j.brenvik_said_3 IS DISTINCT FROM j."since")) THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_desired" AS
WITH lasts AS (
  SELECT j."buoy_code", j.brenvik_effective, j.brenvik_delete, j.brenvik_at, j.brenvik_life, j.brenvik_last_life, j.brenvik_deaths,
    j.brenvik_starts, j.brenvik_prev_delete, first_value(j."name") OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_at DESC) AS "name", j."since", j."colour", j."depth"
  FROM "brenvik_work_judged" j
), spans AS (
  SELECT j.*, lead(j.brenvik_effective) OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_at) AS brenvik_until, lead(j.brenvik_delete) OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_at) AS brenvik_ended
  FROM lasts j
  WHERE j.brenvik_starts = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
)
SELECT row_number() OVER (ORDER BY v."buoy_code", v.brenvik_effective) AS brenvik_no,
  v."buoy_code", v.brenvik_effective, v.brenvik_until, COALESCE(v.brenvik_ended, 0) AS brenvik_ended
  , v."name", v."colour", v."depth", v."since"
FROM spans v
WHERE v.brenvik_delete = 0 AND 1 = 1;

CREATE TEMP TABLE "brenvik_work_stored" AS
SELECT t."rowid" AS brenvik_locator, t."buoy_code", CAST(t."valid_from" AS TIMESTAMP) AS brenvik_effective, CAST(CASE WHEN t."valid_to" IS NULL THEN NULL ELSE t."valid_to" END AS TIMESTAMP) AS brenvik_until, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_ended, t."name", t."colour", t."depth", t."since", b.brenvik_full, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged
FROM "buoy" t
JOIN "brenvik_work_busy" b ON b."buoy_code" = t."buoy_code" AND (b.brenvik_full = 1 OR t."valid_to" IS NULL);

CREATE TEMP TABLE "brenvik_work_pairs" AS
WITH exact AS (
  SELECT m.brenvik_no, min(m.brenvik_locator) AS brenvik_locator FROM (SELECT d.brenvik_no, s.brenvik_locator FROM "brenvik_work_desired" d JOIN "brenvik_work_stored" s ON d."buoy_code" = s."buoy_code" AND d.brenvik_effective = s.brenvik_effective) m GROUP BY m.brenvik_no
), new_left AS (
SELECT d."buoy_code", d.brenvik_no, row_number() OVER (PARTITION BY d."buoy_code" ORDER BY d.brenvik_effective) AS brenvik_nth
FROM "brenvik_work_desired" d
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.brenvik_no = d.brenvik_no)
), old_left AS (
SELECT s."buoy_code", s.brenvik_locator, row_number() OVER (PARTITION BY s."buoy_code" ORDER BY s.brenvik_effective) AS brenvik_nth
FROM "brenvik_work_stored" s
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.brenvik_locator = s.brenvik_locator)
)
SELECT brenvik_no, brenvik_locator FROM exact
UNION ALL
SELECT d.brenvik_no, s.brenvik_locator FROM new_left d JOIN old_left s ON d."buoy_code" = s."buoy_code" AND d.brenvik_nth = s.brenvik_nth;

INSERT INTO "brenvik_work_closes" SELECT s.brenvik_locator, d.brenvik_until, d.brenvik_ended 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE NOT ((d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."colour" IS DISTINCT FROM s."colour" OR d."depth" IS DISTINCT FROM s."depth" OR d."since" IS DISTINCT FROM s."since")) AND ((d."brenvik_until" IS DISTINCT FROM s."brenvik_until" OR d."brenvik_ended" IS DISTINCT FROM s."brenvik_ended") OR s.brenvik_flagged <> CASE WHEN d.brenvik_until IS NULL THEN 1 ELSE 0 END);

CREATE TEMP TABLE "brenvik_work_sets" AS SELECT s.brenvik_locator, d."brenvik_effective", d."brenvik_until", d."brenvik_ended", d."name", d."colour", d."depth", d."since" 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE (d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."colour" IS DISTINCT FROM s."colour" OR d."depth" IS DISTINCT FROM s."depth" OR d."since" IS DISTINCT FROM s."since");

CREATE TEMP TABLE "brenvik_work_adds" AS SELECT d.brenvik_no FROM "brenvik_work_desired" d WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_no = d.brenvik_no);

INSERT INTO "brenvik_work_removes" SELECT s.brenvik_locator FROM "brenvik_work_stored" s WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_locator = s.brenvik_locator);

INSERT INTO "brenvik_work_sets"
SELECT t."rowid", t."valid_from", t."valid_to", CASE WHEN t."is_deleted" THEN 1 ELSE 0 END,
  x."name", t."colour", t."depth", t."since"
FROM (
  SELECT DISTINCT d."buoy_code", d."name" FROM "brenvik_work_desired" d
) x
JOIN "brenvik_work_busy" b ON b."buoy_code" = x."buoy_code" AND b.brenvik_full = 0
JOIN "buoy" t ON t."buoy_code" = x."buoy_code"
WHERE NOT (t."valid_to" IS NULL) AND (x."name" IS DISTINCT FROM t."name");

SELECT (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0) AS before, (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0 AND NOT EXISTS (SELECT 1 FROM "brenvik_work_desired" d WHERE d."buoy_code" = s."buoy_code" AND d.brenvik_until IS NULL)) AS lost,
  (SELECT count(*) FROM "brenvik_work_desired" d WHERE d.brenvik_until IS NULL) AS after;

SELECT r."buoy_code", CAST(sum(r.added) AS BIGINT) AS brenvik_added, CAST(sum(r.changed) AS BIGINT) AS brenvik_changed, CAST(sum(r.removed) AS BIGINT) AS brenvik_removed FROM (SELECT o."buoy_code", 1 AS added, 0 AS changed, 0 AS removed FROM "brenvik_work_adds" w JOIN "brenvik_work_desired" o ON o.brenvik_no = w.brenvik_no UNION ALL SELECT o."buoy_code", 0 AS added, 1 AS changed, 0 AS removed FROM "brenvik_work_sets" w JOIN "brenvik_work_stored" o ON o.brenvik_locator = w.brenvik_locator UNION ALL SELECT o."buoy_code", 0 AS added, 1 AS changed, 0 AS removed FROM "brenvik_work_closes" w JOIN "brenvik_work_stored" o ON o.brenvik_locator = w.brenvik_locator UNION ALL SELECT o."buoy_code", 0 AS added, 0 AS changed, 1 AS removed FROM "brenvik_work_removes" w JOIN "brenvik_work_stored" o ON o.brenvik_locator = w.brenvik_locator) r GROUP BY r."buoy_code" ORDER BY r."buoy_code";

