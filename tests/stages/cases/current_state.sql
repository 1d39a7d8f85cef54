-- Run 2: changes

CREATE TEMP TABLE "brenvik_work_screened" AS -- in DuckDB, as the rows come
SELECT
  brenvik_arrival, brenvik_shape, brenvik_delete, "at" AS brenvik_effective,
  "buoy_code", "at", "entry", "name", "lit", "since",
  brenvik_fault
FROM (
  SELECT
    brenvik_arrival, CAST(1 AS INTEGER) AS brenvik_shape, CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END AS brenvik_delete,
    "buoy_code" AS "buoy_code", CASE WHEN brenvik_first IS NULL THEN TRY_CAST("at" AS DATE) END AS "at", TRY_CAST("entry" AS BIGINT) AS "entry", "name" AS "name", TRY_CAST("lit" AS BOOLEAN) AS "lit", CASE WHEN (TRY_CAST("since" AS DATE) BETWEEN CAST('0001-01-01' AS DATE) AND CAST('9999-12-31' AS DATE)) THEN TRY_CAST("since" AS DATE) END AS "since",
    CASE WHEN brenvik_first IS NOT NULL THEN CAST(json_object('column', CASE brenvik_first WHEN 1 THEN 'op' WHEN 2 THEN 'buoy_code' WHEN 3 THEN 'entry' WHEN 4 THEN 'at' WHEN 5 THEN 'at' WHEN 6 THEN 'entry' WHEN 7 THEN 'lit' WHEN 8 THEN 'since' END, 'value', CASE brenvik_first WHEN 1 THEN CAST("op" AS VARCHAR) WHEN 2 THEN CAST("buoy_code" AS VARCHAR) WHEN 3 THEN CAST("entry" AS VARCHAR) WHEN 4 THEN CAST("at" AS VARCHAR) WHEN 5 THEN CAST("at" AS VARCHAR) WHEN 6 THEN CAST("entry" AS VARCHAR) WHEN 7 THEN CAST("lit" AS VARCHAR) WHEN 8 THEN CAST("since" AS VARCHAR) END, 'reason', substr(COALESCE('; ' || CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN 'op: ' || COALESCE(chr(39) || CAST("op" AS VARCHAR) || chr(39), 'nothing') || ' is no operation; known are i, insert, u, update, d, delete' END, '') || COALESCE('; ' || CASE WHEN "buoy_code" IS NULL THEN 'buoy_code is empty' END, '') || COALESCE('; ' || CASE WHEN "entry" IS NULL THEN 'entry is empty' END, '') || COALESCE('; ' || CASE WHEN "at" IS NULL THEN 'at is empty' END, '') || COALESCE('; ' || CASE WHEN ("at" IS NOT NULL AND ((TRY_CAST("at" AS DATE)) IS NULL OR NOT regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') OR NOT (TRY_CAST("at" AS DATE) BETWEEN CAST('0001-01-01' AS DATE) AND CAST('9999-12-31' AS DATE)) OR (contains("at", ':') AND CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("at" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') AND NOT (regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL AND timezone(CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL THEN regexp_extract("at", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1) ELSE 'UTC' END, COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) IS DISTINCT FROM TRY_CAST(regexp_extract("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP)) THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END IS DISTINCT FROM CAST(TRY_CAST("at" AS DATE) AS TIMESTAMP)))) THEN CASE WHEN isfinite(TRY_CAST("at" AS DATE)) AND NOT (TRY_CAST("at" AS DATE) BETWEEN CAST('0001-01-01' AS DATE) AND CAST('9999-12-31' AS DATE)) THEN 'at: ' || COALESCE(chr(39) || CAST("at" AS VARCHAR) || chr(39), 'nothing') || ' lies outside of the years 1 to 9999' ELSE 'at: ' || COALESCE(chr(39) || CAST("at" AS VARCHAR) || chr(39), 'nothing') || ' is no date' END END, '') || COALESCE('; ' || CASE WHEN ("entry" IS NOT NULL AND ((TRY_CAST("entry" AS BIGINT)) IS NULL OR NOT regexp_full_match("entry", '\s*[+-]?\d+(\.0*)?\s*'))) THEN 'entry: ' || COALESCE(chr(39) || CAST("entry" AS VARCHAR) || chr(39), 'nothing') || ' is no integer' END, '') || COALESCE('; ' || CASE WHEN CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END = 0 AND ("lit" IS NOT NULL AND ((TRY_CAST("lit" AS BOOLEAN)) IS NULL)) THEN 'lit: ' || COALESCE(chr(39) || CAST("lit" AS VARCHAR) || chr(39), 'nothing') || ' is no boolean' END, '') || COALESCE('; ' || CASE WHEN CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END = 0 AND ("since" IS NOT NULL AND ((TRY_CAST("since" AS DATE)) IS NULL OR NOT regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') OR NOT (TRY_CAST("since" AS DATE) BETWEEN CAST('0001-01-01' AS DATE) AND CAST('9999-12-31' AS DATE)) OR (contains("since", ':') AND CASE WHEN regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("since" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') AND NOT (regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL AND timezone(CASE WHEN regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL THEN regexp_extract("since", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1) ELSE 'UTC' END, COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) IS DISTINCT FROM TRY_CAST(regexp_extract("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP)) THEN COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END IS DISTINCT FROM CAST(TRY_CAST("since" AS DATE) AS TIMESTAMP)))) THEN CASE WHEN isfinite(TRY_CAST("since" AS DATE)) AND NOT (TRY_CAST("since" AS DATE) BETWEEN CAST('0001-01-01' AS DATE) AND CAST('9999-12-31' AS DATE)) THEN 'since: ' || COALESCE(chr(39) || CAST("since" AS VARCHAR) || chr(39), 'nothing') || ' lies outside of the years 1 to 9999' ELSE 'since: ' || COALESCE(chr(39) || CAST("since" AS VARCHAR) || chr(39), 'nothing') || ' is no date' END END, ''), 3), 'row', CAST(json_object('op', CAST("op" AS VARCHAR), 'buoy_code', CAST("buoy_code" AS VARCHAR), 'at', CAST("at" AS VARCHAR), 'entry', CAST("entry" AS VARCHAR), 'name', CAST("name" AS VARCHAR), 'lit', CAST("lit" AS VARCHAR), 'since', CAST("since" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_fault
  FROM (
    SELECT all_rows.*, CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN 1 WHEN "buoy_code" IS NULL THEN 2 WHEN "entry" IS NULL THEN 3 WHEN "at" IS NULL THEN 4 WHEN ("at" IS NOT NULL AND ((TRY_CAST("at" AS DATE)) IS NULL OR NOT regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') OR NOT (TRY_CAST("at" AS DATE) BETWEEN CAST('0001-01-01' AS DATE) AND CAST('9999-12-31' AS DATE)) OR (contains("at", ':') AND CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("at" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') AND NOT (regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL AND timezone(CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL THEN regexp_extract("at", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1) ELSE 'UTC' END, COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) IS DISTINCT FROM TRY_CAST(regexp_extract("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP)) THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END IS DISTINCT FROM CAST(TRY_CAST("at" AS DATE) AS TIMESTAMP)))) THEN 5 WHEN ("entry" IS NOT NULL AND ((TRY_CAST("entry" AS BIGINT)) IS NULL OR NOT regexp_full_match("entry", '\s*[+-]?\d+(\.0*)?\s*'))) THEN 6 WHEN CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END = 0 AND ("lit" IS NOT NULL AND ((TRY_CAST("lit" AS BOOLEAN)) IS NULL)) THEN 7 WHEN CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END = 0 AND ("since" IS NOT NULL AND ((TRY_CAST("since" AS DATE)) IS NULL OR NOT regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') OR NOT (TRY_CAST("since" AS DATE) BETWEEN CAST('0001-01-01' AS DATE) AND CAST('9999-12-31' AS DATE)) OR (contains("since", ':') AND CASE WHEN regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("since" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') AND NOT (regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL AND timezone(CASE WHEN regexp_full_match("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL THEN regexp_extract("since", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1) ELSE 'UTC' END, COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) IS DISTINCT FROM TRY_CAST(regexp_extract("since", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP)) THEN COALESCE(TRY_CAST("since" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("since", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END IS DISTINCT FROM CAST(TRY_CAST("since" AS DATE) AS TIMESTAMP)))) THEN 8 END AS brenvik_first FROM brenvik_stream AS all_rows
  ) AS tested_rows
) AS cast_rows;

SELECT count(c.brenvik_fault) AS faulty, CAST(COALESCE(0, 0) AS BIGINT) AS derived, CAST(COALESCE(sum(CASE WHEN NOT (c."entry" > CAST(:high_order_0 AS BIGINT) AND c.brenvik_effective > CAST(:high_effective AS DATE)) THEN 1 ELSE 0 END), 0) AS BIGINT) AS late, CAST(max(CASE WHEN c."entry" > CAST(:high_order_0 AS BIGINT) THEN c."entry" END) AS TEXT) AS "entry", CAST(max(CASE WHEN c.brenvik_effective > CAST(:high_effective AS DATE) THEN c.brenvik_effective END) AS TEXT) AS brenvik_high FROM "brenvik_work_screened" c;

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

SELECT count(c.brenvik_fault) AS faulty, CAST(COALESCE(0, 0) AS BIGINT) AS derived, CAST(COALESCE(sum(CASE WHEN NOT (c."entry" > CAST(:high_order_0 AS BIGINT) AND c.brenvik_effective > CAST(:high_effective AS DATE)) THEN 1 ELSE 0 END), 0) AS BIGINT) AS late, CAST(max(CASE WHEN c."entry" > CAST(:high_order_0 AS BIGINT) THEN c."entry" END) AS TEXT) AS "entry", CAST(max(CASE WHEN c.brenvik_effective > CAST(:high_effective AS DATE) THEN c.brenvik_effective END) AS TEXT) AS brenvik_high FROM "brenvik_work_screened" c;

CREATE TEMP TABLE "brenvik_work_busy" AS
SELECT c."buoy_code", 0 AS brenvik_full
FROM "brenvik_work_screened" c
GROUP BY c."buoy_code"
HAVING count(*) > 1;

CREATE TEMP TABLE "brenvik_work_plain" AS
SELECT
  c.brenvik_arrival, c.brenvik_effective, t."rowid" AS brenvik_locator,
  CASE WHEN t."rowid" IS NULL AND c.brenvik_delete = 1 THEN 0 WHEN t."rowid" IS NULL THEN 1 WHEN NOT (t."valid_to" = CAST(:open_end AS DATE)) THEN CASE WHEN c.brenvik_delete = 1 THEN 6 ELSE 0 END WHEN c.brenvik_delete = 1 THEN 4 WHEN ((t."since" IS NULL AND c."since" IS NOT NULL)) THEN 0 WHEN (c."name" IS DISTINCT FROM t."name" OR c."lit" IS DISTINCT FROM t."lit") THEN 3 WHEN (c."since" IS DISTINCT FROM t."since") THEN 5 ELSE 6 END AS brenvik_decided,
  CASE WHEN c.brenvik_delete = 0 AND t."rowid" IS NOT NULL AND (c."name" IS DISTINCT FROM t."name" OR c."lit" IS DISTINCT FROM t."lit") THEN 1 ELSE 0 END AS brenvik_sets,
  CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."lit" IS DISTINCT FROM t."lit" OR c."since" IS DISTINCT FROM t."since") THEN t."name" END AS brenvik_was_0, CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."lit" IS DISTINCT FROM t."lit" OR c."since" IS DISTINCT FROM t."since") THEN t."lit" END AS brenvik_was_1, CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."lit" IS DISTINCT FROM t."lit" OR c."since" IS DISTINCT FROM t."since") THEN t."since" END AS brenvik_was_2
FROM "brenvik_work_screened" c
LEFT JOIN "buoy" t ON t."buoy_code" = c."buoy_code"
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code");

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
    PARTITION BY c."buoy_code", c."brenvik_effective", c."brenvik_delete", c."brenvik_shape", c."at", c."entry", c."name", c."lit", c."since" ORDER BY c.brenvik_arrival) AS brenvik_nth
  FROM "brenvik_work_screened" c
  WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code")
) n WHERE n.brenvik_nth > 1 UNION 
SELECT c.brenvik_arrival
FROM "brenvik_work_screened" c
JOIN "brenvik"."changes_of_buoy" k ON k."buoy_code" = c."buoy_code" AND k."entry" = c."entry" AND k."brenvik_effective" = c."brenvik_effective" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_shape" = c."brenvik_shape" AND k."at" IS NOT DISTINCT FROM c."at" AND k."name" IS NOT DISTINCT FROM c."name" AND k."lit" IS NOT DISTINCT FROM c."lit" AND k."since" IS NOT DISTINCT FROM c."since"
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code" AND b.brenvik_full = 1);

UPDATE "brenvik_work_busy" SET brenvik_full = 1 WHERE brenvik_full = 0 AND (NOT EXISTS (SELECT 1 FROM "buoy" t WHERE t."buoy_code" = "brenvik_work_busy"."buoy_code" AND t."valid_to" = CAST(:open_end AS DATE) AND t."since" IS NOT NULL));

CREATE TEMP TABLE "brenvik_work_judged" AS
WITH events ("buoy_code", "brenvik_effective", "brenvik_rank", "brenvik_run", "brenvik_arrival", "brenvik_new", "brenvik_delete", "brenvik_shape", "at", "entry", "name", "lit", "since") AS (
SELECT c."buoy_code",
  c.brenvik_effective, 1, :run, c.brenvik_arrival, 1, c.brenvik_delete, c.brenvik_shape,
  c."at", c."entry", c."name", c."lit", c."since"
FROM "brenvik_work_screened" c
WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival) UNION ALL 
SELECT t."buoy_code",
  t."valid_from", 1, 0, 0, 0, 0, 0,
  CAST(NULL AS DATE),
  CAST(NULL AS BIGINT),
  t."name",
  t."lit",
  t."since"
FROM "buoy" t
JOIN "brenvik_work_busy" b ON b."buoy_code" = t."buoy_code" AND b.brenvik_full = 0 AND t."valid_to" = CAST(:open_end AS DATE) UNION ALL 
SELECT k."buoy_code",
  k.brenvik_effective, 1, k.brenvik_run, k.brenvik_arrival, 0, k.brenvik_delete, k.brenvik_shape,
  k."at", k."entry", k."name", k."lit", k."since"
FROM "brenvik_work_busy" b
JOIN "brenvik"."changes_of_buoy" k ON k."buoy_code" = b."buoy_code"
WHERE b.brenvik_full = 1
), placed AS (
  SELECT e.*,
    row_number() OVER (PARTITION BY e."buoy_code" ORDER BY brenvik_effective, "brenvik_rank", "entry", "brenvik_run", "brenvik_arrival") AS brenvik_at,
    CASE WHEN lead(brenvik_effective) OVER (PARTITION BY e."buoy_code" ORDER BY brenvik_effective, "brenvik_rank", "entry", "brenvik_run", "brenvik_arrival") = brenvik_effective THEN 1 ELSE 0 END AS brenvik_passed,
    first_value(brenvik_delete) OVER (PARTITION BY e."buoy_code", brenvik_effective ORDER BY "brenvik_rank" DESC NULLS FIRST, "entry" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_arrival" DESC NULLS FIRST) AS brenvik_gone
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
    l."name" AS "name", l."lit" AS "lit", first_value(l."since") OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete ORDER BY CASE WHEN l."since" IS NULL THEN 1 ELSE 0 END, l.brenvik_at) AS "since", min(CASE WHEN l."since" IS NOT NULL THEN l.brenvik_at END) OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete) AS brenvik_known_2, first_value(CASE WHEN l.brenvik_new = 0 THEN l."since" END) OVER (PARTITION BY l."buoy_code", l.brenvik_life, l.brenvik_delete ORDER BY CASE WHEN CASE WHEN l.brenvik_new = 0 THEN l."since" END IS NULL THEN 1 ELSE 0 END, l.brenvik_at) AS brenvik_before_2, l."since" AS brenvik_said_2
  FROM lived l
), compared AS (
  SELECT s.*, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."name") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."name") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_0, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."lit") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."lit") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_1, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."since") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."since") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_2
  FROM states s
), lined AS (
  SELECT s."buoy_code", s."brenvik_effective", s."brenvik_arrival", s."brenvik_shape", s."brenvik_delete", s."brenvik_new", s."brenvik_at", s."brenvik_life", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_lived", s."name", s.brenvik_was_0, s."lit", s.brenvik_was_1, s."since", s.brenvik_was_2, s.brenvik_known_2, s.brenvik_said_2, s.brenvik_before_2,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_at) OVER brenvik_line, 0) AS brenvik_prev_at,
    max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_life END) OVER (PARTITION BY s."buoy_code") AS brenvik_last_life,
    max(s.brenvik_life) OVER (PARTITION BY s."buoy_code") AS brenvik_deaths
  FROM compared s
  WHERE s.brenvik_counts = 1
  WINDOW brenvik_line AS (PARTITION BY s."buoy_code" ORDER BY s.brenvik_at)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR 1 = 0) THEN 1 ELSE 0 END AS brenvik_starts,
  CASE
    WHEN j.brenvik_delete = 0 AND j.brenvik_life < j.brenvik_last_life THEN 'superseded'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN
      CASE WHEN j.brenvik_lived = 0 THEN 'inserted' ELSE 'overwritten' END
    WHEN 1 = 0 THEN 'versioned'
    WHEN (j."name" IS DISTINCT FROM j.brenvik_was_0 OR j."lit" IS DISTINCT FROM j.brenvik_was_1) OR ((j.brenvik_known_2 > COALESCE(j.brenvik_replaces, j.brenvik_prev_at) AND j.brenvik_known_2 <= j.brenvik_at)) THEN 'overwritten'
    WHEN ((j.brenvik_known_2 <= j.brenvik_at AND j.brenvik_said_2 IS DISTINCT FROM j."since")) THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_desired" AS
WITH lasts AS (
  SELECT j."buoy_code", j.brenvik_effective, j.brenvik_delete, j.brenvik_at, j.brenvik_life, j.brenvik_last_life, j.brenvik_deaths,
    j.brenvik_starts, j.brenvik_prev_delete, first_value(j."name") OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_at DESC) AS "name", first_value(j."lit") OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_at DESC) AS "lit", j."since"
  FROM "brenvik_work_judged" j
), spans AS (
  SELECT j.*, lead(j.brenvik_effective) OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_at) AS brenvik_until, lead(j.brenvik_delete) OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_at) AS brenvik_ended
  FROM lasts j
  WHERE j.brenvik_starts = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
)
SELECT row_number() OVER (ORDER BY v."buoy_code", v.brenvik_effective) AS brenvik_no,
  v."buoy_code", v.brenvik_effective, v.brenvik_until, COALESCE(v.brenvik_ended, 0) AS brenvik_ended
  , v."name", v."lit", v."since"
FROM spans v
WHERE v.brenvik_delete = 0 AND v.brenvik_life = v.brenvik_last_life;

CREATE TEMP TABLE "brenvik_work_stored" AS
SELECT t."rowid" AS brenvik_locator, t."buoy_code", CAST(t."valid_from" AS DATE) AS brenvik_effective, CAST(CASE WHEN t."valid_to" = CAST(:open_end AS DATE) THEN NULL ELSE t."valid_to" END AS DATE) AS brenvik_until, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_ended, t."name", t."lit", t."since", b.brenvik_full, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged
FROM "buoy" t
JOIN "brenvik_work_busy" b ON b."buoy_code" = t."buoy_code";

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
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE NOT ((d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."lit" IS DISTINCT FROM s."lit" OR d."since" IS DISTINCT FROM s."since")) AND ((d."brenvik_until" IS DISTINCT FROM s."brenvik_until" OR d."brenvik_ended" IS DISTINCT FROM s."brenvik_ended") OR s.brenvik_flagged <> CASE WHEN d.brenvik_until IS NULL THEN 1 ELSE 0 END);

CREATE TEMP TABLE "brenvik_work_sets" AS SELECT s.brenvik_locator, d."brenvik_effective", d."brenvik_until", d."brenvik_ended", d."name", d."lit", d."since" 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE (d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."lit" IS DISTINCT FROM s."lit" OR d."since" IS DISTINCT FROM s."since");

CREATE TEMP TABLE "brenvik_work_adds" AS SELECT d.brenvik_no FROM "brenvik_work_desired" d WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_no = d.brenvik_no);

INSERT INTO "brenvik_work_removes" SELECT s.brenvik_locator FROM "brenvik_work_stored" s WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_locator = s.brenvik_locator);

SELECT (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0) AS before, (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0 AND NOT EXISTS (SELECT 1 FROM "brenvik_work_desired" d WHERE d."buoy_code" = s."buoy_code" AND d.brenvik_until IS NULL)) AS lost,
  (SELECT count(*) FROM "brenvik_work_desired" d WHERE d.brenvik_until IS NULL) AS after;

SELECT brenvik_decision, count(*) AS n FROM "brenvik_work_judged" WHERE brenvik_new = 1 GROUP BY brenvik_decision;

SELECT (SELECT count(*) FROM "brenvik_work_screened") AS "screened", (SELECT count(*) FROM "brenvik_work_plain") AS "plain", (SELECT count(*) FROM "brenvik_work_duplicates") AS "duplicates";

UPDATE "buoy" SET "valid_to" = COALESCE(s.brenvik_until, CAST(:open_end AS DATE)), "is_current" = (s.brenvik_until IS NULL), "is_deleted" = (s.brenvik_ended = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_closes" s WHERE "buoy"."rowid" = s.brenvik_locator;

SELECT max(CASE WHEN t."valid_from" IS DISTINCT FROM s."brenvik_effective" THEN 1 ELSE 0 END) AS "brenvik_effective", max(CASE WHEN t."valid_to" IS DISTINCT FROM COALESCE(s."brenvik_until", CAST(:open_end AS DATE)) THEN 1 ELSE 0 END) AS "brenvik_until", max(CASE WHEN t."is_deleted" IS DISTINCT FROM (s."brenvik_ended" = 1) THEN 1 ELSE 0 END) AS "brenvik_ended", max(CASE WHEN t."name" IS DISTINCT FROM s."name" THEN 1 ELSE 0 END) AS "name", max(CASE WHEN t."lit" IS DISTINCT FROM s."lit" THEN 1 ELSE 0 END) AS "lit", max(CASE WHEN t."since" IS DISTINCT FROM s."since" THEN 1 ELSE 0 END) AS "since"
FROM "brenvik_work_sets" s
JOIN "buoy" t ON t."rowid" = s.brenvik_locator;

UPDATE "buoy" SET "name" = s."name", "lit" = s."lit", "since" = s."since", "valid_from" = s.brenvik_effective, "valid_to" = COALESCE(s.brenvik_until, CAST(:open_end AS DATE)), "is_deleted" = (s.brenvik_ended = 1), "is_current" = (s.brenvik_until IS NULL), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_sets" s WHERE "buoy"."rowid" = s.brenvik_locator;

INSERT INTO "buoy" ("buoy_key", "buoy_code", "name", "lit", "since", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at")
SELECT :last_key + row_number() OVER (), n."buoy_code", n."name", n."lit", n."since", n.brenvik_start, CAST(n.brenvik_end AS DATE), n.brenvik_open, n.brenvik_ended, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP)
FROM (
SELECT d."buoy_code", d."name", d."lit", d."since", d.brenvik_effective AS brenvik_start, COALESCE(d.brenvik_until, CAST(:open_end AS DATE)) AS brenvik_end,
  (d.brenvik_until IS NULL) AS brenvik_open, (d.brenvik_ended = 1) AS brenvik_ended
FROM "brenvik_work_adds" a JOIN "brenvik_work_desired" d ON d.brenvik_no = a.brenvik_no) n;

INSERT INTO "brenvik"."changes_of_buoy" (brenvik_run, "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "buoy_code", "at", "entry", "name", "lit", "since")
SELECT :run, c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."buoy_code", c."at", c."entry", c."name", c."lit", c."since"
FROM "brenvik_work_screened" c
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival);

INSERT INTO "brenvik"."rejects" ("reject", "table_name", "feed", "run", "file", "line", "column_name", "value", "reason", "content", "state", "rejected_at", "decided_by")
SELECT :last_reject + row_number() OVER (ORDER BY r.brenvik_arrival), :table_name, :feed, :run, NULL,
  CASE WHEN r.brenvik_arrival % 1000000000000 < 200000000000 THEN CAST(floor((r.brenvik_arrival % 1000000000000) / 2) AS BIGINT) END, r.brenvik_column, r.brenvik_value, r.brenvik_reason, r.brenvik_row, 'open',
  CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_rejected" r
WHERE r.brenvik_again = 0;

