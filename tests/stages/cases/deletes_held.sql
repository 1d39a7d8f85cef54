-- Run 2: changes

CREATE TEMP TABLE "brenvik_work_released" AS SELECT x.run, x.arrival FROM (
  SELECT r.run, r.arrival FROM "brenvik"."held_deletes" r
  WHERE r.table_name = :table_name AND ((r.state = 'released'))) x;

CREATE TEMP TABLE "brenvik_work_left_out" (run BIGINT);

CREATE TEMP VIEW "brenvik_work_counting" AS
SELECT k."brenvik_run", k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."buoy_code", k."at", k."name", k."colour" FROM "brenvik"."changes_of_buoy" k
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_left_out" o WHERE o.run = k.brenvik_run) AND (k.brenvik_delete = 0 OR EXISTS (
  SELECT 1 FROM "brenvik_work_released" r WHERE r.run = k.brenvik_run AND r.arrival = k.brenvik_arrival));

CREATE TEMP TABLE "brenvik_work_held_keys" AS
SELECT k."buoy_code", h.hold, h.from_extract
FROM (
  SELECT r.hold, r.feed, r.run, r.arrival, r.from_extract, r.held_since FROM "brenvik"."held_deletes" r
  WHERE r.table_name = :table_name AND r.state = 'held' AND NOT EXISTS (SELECT 1 FROM "brenvik"."withdrawals" w WHERE w.table_name = r.table_name AND w.run = r.run AND w.put_back_by IS NULL)) h JOIN "brenvik"."changes_of_buoy" k ON k.brenvik_run = h.run AND k.brenvik_arrival = h.arrival;

SELECT (SELECT count(*) FROM "brenvik_work_held_keys") AS "held_keys";

CREATE TEMP TABLE "brenvik_work_screened" AS -- in DuckDB, as the rows come
SELECT
  brenvik_arrival, brenvik_shape, brenvik_delete, "at" AS brenvik_effective,
  "buoy_code", "at", "name", "colour",
  brenvik_fault
FROM (
  SELECT
    brenvik_arrival, CAST(1 AS INTEGER) AS brenvik_shape, CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END AS brenvik_delete,
    "buoy_code" AS "buoy_code", CASE WHEN brenvik_first IS NULL THEN "brenvik_timestamp_of_at" END AS "at", "name" AS "name", "colour" AS "colour",
    CASE WHEN brenvik_first IS NOT NULL THEN CAST(json_object('column', CASE brenvik_first WHEN 1 THEN 'op' WHEN 2 THEN 'buoy_code' WHEN 3 THEN 'at' WHEN 4 THEN 'at' END, 'value', CASE brenvik_first WHEN 1 THEN CAST("op" AS VARCHAR) WHEN 2 THEN CAST("buoy_code" AS VARCHAR) WHEN 3 THEN CAST("at" AS VARCHAR) WHEN 4 THEN CAST("at" AS VARCHAR) END, 'reason', substr(COALESCE('; ' || CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN 'op: ' || COALESCE(chr(39) || CAST("op" AS VARCHAR) || chr(39), 'nothing') || ' is no operation; known are i, insert, u, update, d, delete' END, '') || COALESCE('; ' || CASE WHEN "buoy_code" IS NULL THEN 'buoy_code is empty' END, '') || COALESCE('; ' || CASE WHEN "at" IS NULL THEN 'at is empty' END, '') || COALESCE('; ' || CASE WHEN ("at" IS NOT NULL AND ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) IS NOT TRUE) THEN CASE WHEN isfinite("brenvik_timestamp_of_at") AND NOT ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) THEN 'at: ' || COALESCE(chr(39) || CAST("at" AS VARCHAR) || chr(39), 'nothing') || ' lies outside of the years 1 to 9999' ELSE 'at: ' || COALESCE(chr(39) || CAST("at" AS VARCHAR) || chr(39), 'nothing') || ' is no timestamp' END END, ''), 3), 'row', CAST(json_object('op', CAST("op" AS VARCHAR), 'buoy_code', CAST("buoy_code" AS VARCHAR), 'at', CAST("at" AS VARCHAR), 'name', CAST("name" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_fault
  FROM (
    SELECT all_rows.*, CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN 1 WHEN "buoy_code" IS NULL THEN 2 WHEN "at" IS NULL THEN 3 WHEN ("at" IS NOT NULL AND ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) IS NOT TRUE) THEN 4 END AS brenvik_first FROM (SELECT rows_as_read.*, CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("at" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') AND NOT (regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL AND timezone(CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL THEN regexp_extract("at", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1) ELSE 'UTC' END, COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) IS DISTINCT FROM TRY_CAST(regexp_extract("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP)) THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END AS "brenvik_timestamp_of_at" FROM brenvik_stream AS rows_as_read) AS all_rows
  ) AS tested_rows
) AS cast_rows;

SELECT count(c.brenvik_fault) AS faulty, CAST(COALESCE(0, 0) AS BIGINT) AS derived, CAST(COALESCE(sum(CASE WHEN NOT (c."at" > CAST(:high_order_0 AS TIMESTAMP) AND c.brenvik_effective > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END), 0) AS BIGINT) AS late, CAST(max(CASE WHEN c."at" > CAST(:high_order_0 AS TIMESTAMP) THEN c."at" END) AS TEXT) AS "at", CAST(max(CASE WHEN c.brenvik_effective > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective END) AS TEXT) AS brenvik_high FROM "brenvik_work_screened" c;

CREATE TEMP TABLE "brenvik_work_aside" AS SELECT c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."buoy_code", c."at", c."name", c."colour", CAST(NULL AS TEXT) AS brenvik_decision FROM "brenvik_work_screened" c WHERE c.brenvik_delete = 1;

DELETE FROM "brenvik_work_screened" WHERE brenvik_delete = 1;

SELECT (SELECT count(*) FROM "brenvik_work_aside") AS "aside";

CREATE TEMP TABLE "brenvik_work_busy" AS
SELECT c."buoy_code", 0 AS brenvik_full
FROM "brenvik_work_screened" c
GROUP BY c."buoy_code"
HAVING count(*) > 1;

CREATE TEMP TABLE "brenvik_work_plain" AS
SELECT
  c.brenvik_arrival, c.brenvik_effective, t."rowid" AS brenvik_locator,
  CASE WHEN t."rowid" IS NULL AND c.brenvik_delete = 1 THEN 0 WHEN t."rowid" IS NULL THEN 1 WHEN c.brenvik_delete = 1 THEN 4 WHEN (c."colour" IS DISTINCT FROM t."colour") THEN 2 WHEN (c."name" IS DISTINCT FROM t."name") THEN 3 ELSE 6 END AS brenvik_decided,
  CASE WHEN c.brenvik_delete = 0 AND t."rowid" IS NOT NULL AND (c."name" IS DISTINCT FROM t."name") THEN 1 ELSE 0 END AS brenvik_sets,
  CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."colour" IS DISTINCT FROM t."colour") THEN t."name" END AS brenvik_was_0, CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."colour" IS DISTINCT FROM t."colour") THEN t."colour" END AS brenvik_was_1
FROM "brenvik_work_screened" c
LEFT JOIN "buoy" t ON t."buoy_code" = c."buoy_code" AND t."valid_to" IS NULL;

UPDATE "brenvik_work_plain" SET brenvik_decided = 0
WHERE "brenvik_work_plain".brenvik_decided IN (1) AND EXISTS (
  SELECT 1 FROM "brenvik_work_screened" c
  JOIN "buoy" t ON t."buoy_code" = c."buoy_code"
  WHERE c.brenvik_arrival = "brenvik_work_plain".brenvik_arrival AND NOT (t."valid_to" IS NULL));

SELECT CASE p.brenvik_decided WHEN 0 THEN 'full' WHEN 1 THEN 'inserted' WHEN 2 THEN 'versioned' WHEN 3 THEN 'overwritten' WHEN 4 THEN 'deleted' WHEN 5 THEN 'protected' WHEN 6 THEN 'unchanged' END AS brenvik_decision, n, sets FROM (SELECT brenvik_decided, count(*) AS n, CAST(sum(brenvik_sets) AS BIGINT) AS sets FROM "brenvik_work_plain" GROUP BY brenvik_decided) p;

CREATE TEMP VIEW "brenvik_work_closes" AS
SELECT p.brenvik_locator, p.brenvik_effective AS brenvik_until, CASE WHEN p.brenvik_decided IN (4) THEN 1 ELSE 0 END AS brenvik_ended
FROM "brenvik_work_plain" p
WHERE p.brenvik_decided IN (2, 4);

UPDATE "brenvik_work_aside" SET brenvik_decision = CASE WHEN EXISTS (SELECT 1 FROM "brenvik_work_aside" o WHERE o.brenvik_arrival < "brenvik_work_aside".brenvik_arrival AND o."buoy_code" = "brenvik_work_aside"."buoy_code" AND o."at" = "brenvik_work_aside"."at" AND o."brenvik_effective" = "brenvik_work_aside"."brenvik_effective" AND o."brenvik_shape" = "brenvik_work_aside"."brenvik_shape" AND o."name" IS NOT DISTINCT FROM "brenvik_work_aside"."name" AND o."colour" IS NOT DISTINCT FROM "brenvik_work_aside"."colour") OR EXISTS (SELECT 1 FROM "brenvik"."changes_of_buoy" o WHERE o.brenvik_delete = 1 AND o."buoy_code" = "brenvik_work_aside"."buoy_code" AND o."at" = "brenvik_work_aside"."at" AND o."brenvik_effective" = "brenvik_work_aside"."brenvik_effective" AND o."brenvik_shape" = "brenvik_work_aside"."brenvik_shape" AND o."name" IS NOT DISTINCT FROM "brenvik_work_aside"."name" AND o."colour" IS NOT DISTINCT FROM "brenvik_work_aside"."colour" AND NOT EXISTS (SELECT 1 FROM "brenvik_work_left_out" w WHERE w.run = o.brenvik_run)) THEN 'duplicate' WHEN NOT ((EXISTS (SELECT 1 FROM "buoy" t WHERE t."buoy_code" = "brenvik_work_aside"."buoy_code" AND t."valid_to" IS NULL) OR EXISTS (SELECT 1 FROM "brenvik_work_screened" s WHERE s."buoy_code" = "brenvik_work_aside"."buoy_code"))) AND NOT (EXISTS (SELECT 1 FROM "buoy" t WHERE t."buoy_code" = "brenvik_work_aside"."buoy_code") OR EXISTS (SELECT 1 FROM "brenvik_work_screened" s WHERE s."buoy_code" = "brenvik_work_aside"."buoy_code")) THEN 'ignored' WHEN NOT ((EXISTS (SELECT 1 FROM "buoy" t WHERE t."buoy_code" = "brenvik_work_aside"."buoy_code" AND t."valid_to" IS NULL) OR EXISTS (SELECT 1 FROM "brenvik_work_screened" s WHERE s."buoy_code" = "brenvik_work_aside"."buoy_code"))) OR (EXISTS (SELECT 1 FROM "brenvik_work_aside" o WHERE o.brenvik_arrival < "brenvik_work_aside".brenvik_arrival AND o."buoy_code" = "brenvik_work_aside"."buoy_code")) THEN 'unchanged' ELSE 'held' END;

SELECT brenvik_decision, count(*) AS n FROM "brenvik_work_aside" GROUP BY brenvik_decision;

CREATE TEMP TABLE "brenvik_work_spread" AS
SELECT t."rowid" AS brenvik_locator, p.brenvik_arrival
FROM "brenvik_work_plain" p
JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
JOIN "buoy" t ON t."buoy_code" = c."buoy_code"
WHERE p.brenvik_sets = 1 AND NOT (t."valid_to" IS NULL) AND (c."name" IS DISTINCT FROM t."name");

UPDATE "buoy" SET "valid_to" = s.brenvik_until, "is_current" = (s.brenvik_until IS NULL), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_closes" s WHERE "buoy"."rowid" = s.brenvik_locator;

SELECT max(CASE WHEN c."name" IS DISTINCT FROM p.brenvik_was_0 THEN 1 ELSE 0 END) AS "name"
FROM "brenvik_work_plain" p JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
WHERE p.brenvik_sets = 1;

UPDATE "buoy" SET "name" = s."name", "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (
  SELECT r.brenvik_locator, c.brenvik_shape, c."name"
  FROM (SELECT brenvik_locator, brenvik_arrival FROM "brenvik_work_plain" WHERE brenvik_sets = 1) r JOIN "brenvik_work_screened" c ON c.brenvik_arrival = r.brenvik_arrival
) s WHERE "buoy"."rowid" = s.brenvik_locator;

INSERT INTO "buoy" ("buoy_key", "buoy_code", "name", "colour", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at")
SELECT :last_key + row_number() OVER (), n."buoy_code", n."name", n."colour", n.brenvik_start, CAST(n.brenvik_end AS TIMESTAMP), n.brenvik_open, n.brenvik_ended, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP)
FROM (
SELECT c."buoy_code", c."name" AS "name", c."colour" AS "colour", c.brenvik_effective AS brenvik_start, NULL AS brenvik_end,
  TRUE AS brenvik_open, FALSE AS brenvik_ended
FROM "brenvik_work_plain" p JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
WHERE p.brenvik_decided IN (1, 2)) n;

INSERT INTO "brenvik"."changes_of_buoy" (brenvik_run, "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "buoy_code", "at", "name", "colour")
SELECT :run, c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."buoy_code", c."at", c."name", c."colour"
FROM "brenvik_work_screened" c;

INSERT INTO "brenvik"."changes_of_buoy" (brenvik_run, "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "buoy_code", "at", "name", "colour")
SELECT :run, c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."buoy_code", c."at", c."name", c."colour" FROM "brenvik_work_aside" c WHERE c.brenvik_decision <> 'duplicate';

INSERT INTO "brenvik"."held_deletes" ("table_name", "hold", "feed", "run", "arrival", "from_extract", "state", "held_since", "decided_by")
SELECT :table_name, :last_hold + row_number() OVER (ORDER BY a.brenvik_arrival), :feed, :run, a.brenvik_arrival,
  :from_extract, 'held', CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_aside" a
WHERE a.brenvik_decision = 'held';

SELECT CAST(max(CASE WHEN c."at" > CAST(:high_order_0 AS TIMESTAMP) THEN c."at" END) AS TEXT) AS "at", CAST(max(CASE WHEN c.brenvik_effective > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective END) AS TEXT) AS brenvik_high FROM "brenvik_work_screened" c;

-- Run 3: release 1

SELECT h.hold AS brenvik_hold, h.feed AS brenvik_feed, h.run AS brenvik_run, h.held_since AS brenvik_since,
  k.brenvik_effective AS brenvik_effective, k."buoy_code", t."name", t."colour"
FROM (
  SELECT r.hold, r.feed, r.run, r.arrival, r.from_extract, r.held_since FROM "brenvik"."held_deletes" r
  WHERE r.table_name = :table_name AND r.state = 'held' AND NOT EXISTS (SELECT 1 FROM "brenvik"."withdrawals" w WHERE w.table_name = r.table_name AND w.run = r.run AND w.put_back_by IS NULL)) h
JOIN "brenvik"."changes_of_buoy" k ON k.brenvik_run = h.run AND k.brenvik_arrival = h.arrival
LEFT JOIN "buoy" t ON t."buoy_code" = k."buoy_code" AND t."valid_to" IS NULL
ORDER BY h.hold;

CREATE TEMP TABLE "brenvik_work_released" AS SELECT x.run, x.arrival FROM (
  SELECT r.run, r.arrival FROM "brenvik"."held_deletes" r
  WHERE r.table_name = :table_name AND ((r.state = 'released') OR r.hold IN (1))) x;

CREATE TEMP TABLE "brenvik_work_left_out" (run BIGINT);

CREATE TEMP VIEW "brenvik_work_counting" AS
SELECT k."brenvik_run", k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."buoy_code", k."at", k."name", k."colour" FROM "brenvik"."changes_of_buoy" k
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_left_out" o WHERE o.run = k.brenvik_run) AND (k.brenvik_delete = 0 OR EXISTS (
  SELECT 1 FROM "brenvik_work_released" r WHERE r.run = k.brenvik_run AND r.arrival = k.brenvik_arrival));

CREATE TEMP TABLE "brenvik_work_busy" AS
SELECT DISTINCT b."buoy_code", 1 AS brenvik_full FROM (SELECT k."buoy_code" FROM "brenvik"."changes_of_buoy" k WHERE EXISTS (SELECT 1 FROM (
  SELECT r.run, r.arrival FROM "brenvik"."held_deletes" r WHERE r.table_name = :table_name AND r.hold IN (1)) r WHERE r.run = k.brenvik_run AND r.arrival = k.brenvik_arrival)) b;

CREATE TEMP TABLE "brenvik_work_screened" AS
SELECT k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."buoy_code", k."at", k."name", k."colour" FROM "brenvik"."changes_of_buoy" k WHERE 1 = 0;

SELECT (SELECT count(*) FROM "brenvik_work_busy") AS "busy";

CREATE TEMP TABLE "brenvik_work_plain" AS
SELECT
  c.brenvik_arrival, c.brenvik_effective, t."rowid" AS brenvik_locator,
  CASE WHEN t."rowid" IS NULL AND c.brenvik_delete = 1 THEN 0 WHEN t."rowid" IS NULL THEN 1 WHEN c.brenvik_delete = 1 THEN 4 WHEN (c."colour" IS DISTINCT FROM t."colour") THEN 2 WHEN (c."name" IS DISTINCT FROM t."name") THEN 3 ELSE 6 END AS brenvik_decided,
  CASE WHEN c.brenvik_delete = 0 AND t."rowid" IS NOT NULL AND (c."name" IS DISTINCT FROM t."name") THEN 1 ELSE 0 END AS brenvik_sets,
  CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."colour" IS DISTINCT FROM t."colour") THEN t."name" END AS brenvik_was_0
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
    PARTITION BY c."buoy_code", c."brenvik_effective", c."brenvik_delete", c."brenvik_shape", c."at", c."name", c."colour" ORDER BY c.brenvik_arrival) AS brenvik_nth
  FROM "brenvik_work_screened" c
  WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code")
) n WHERE n.brenvik_nth > 1 UNION 
SELECT c.brenvik_arrival
FROM "brenvik_work_screened" c
JOIN "brenvik_work_counting" k ON k."buoy_code" = c."buoy_code" AND k."at" = c."at" AND k."brenvik_effective" = c."brenvik_effective" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_shape" = c."brenvik_shape" AND k."name" IS NOT DISTINCT FROM c."name" AND k."colour" IS NOT DISTINCT FROM c."colour"
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code" AND b.brenvik_full = 1);

CREATE TEMP TABLE "brenvik_work_judged" AS
WITH events ("buoy_code", "brenvik_effective", "brenvik_rank", "brenvik_run", "brenvik_arrival", "brenvik_new", "brenvik_delete", "brenvik_shape", "at", "name", "colour") AS (
SELECT c."buoy_code",
  c.brenvik_effective, 1, :run, c.brenvik_arrival, 1, c.brenvik_delete, c.brenvik_shape,
  c."at", c."name", c."colour"
FROM "brenvik_work_screened" c
WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival) UNION ALL 
SELECT k."buoy_code",
  k.brenvik_effective, 1, k.brenvik_run, k.brenvik_arrival, 0, k.brenvik_delete, k.brenvik_shape,
  k."at", k."name", k."colour"
FROM "brenvik_work_busy" b
JOIN "brenvik_work_counting" k ON k."buoy_code" = b."buoy_code"
WHERE b.brenvik_full = 1
), placed AS (
  SELECT e.*,
    row_number() OVER (PARTITION BY e."buoy_code" ORDER BY brenvik_effective, "brenvik_rank", "at", "brenvik_run", "brenvik_arrival") AS brenvik_at,
    CASE WHEN lead(brenvik_effective) OVER (PARTITION BY e."buoy_code" ORDER BY brenvik_effective, "brenvik_rank", "at", "brenvik_run", "brenvik_arrival") = brenvik_effective THEN 1 ELSE 0 END AS brenvik_passed,
    first_value(brenvik_delete) OVER (PARTITION BY e."buoy_code", brenvik_effective ORDER BY "brenvik_rank" DESC NULLS FIRST, "at" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_arrival" DESC NULLS FIRST) AS brenvik_gone
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
    l."name" AS "name", l."colour" AS "colour"
  FROM lived l
), compared AS (
  SELECT s.*, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."name") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."name") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_0, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."colour") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."colour") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_1
  FROM states s
), lined AS (
  SELECT s."buoy_code", s."brenvik_effective", s."brenvik_arrival", s."brenvik_shape", s."brenvik_delete", s."brenvik_new", s."brenvik_at", s."brenvik_life", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_lived", s."name", s.brenvik_was_0, s."colour", s.brenvik_was_1, lag(s."colour") OVER brenvik_line AS brenvik_prev_1,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_at) OVER brenvik_line, 0) AS brenvik_prev_at,
    max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_life END) OVER (PARTITION BY s."buoy_code") AS brenvik_last_life,
    max(s.brenvik_life) OVER (PARTITION BY s."buoy_code") AS brenvik_deaths
  FROM compared s
  WHERE s.brenvik_counts = 1
  WINDOW brenvik_line AS (PARTITION BY s."buoy_code" ORDER BY s.brenvik_at)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR (j."colour" IS DISTINCT FROM j.brenvik_prev_1)) THEN 1 ELSE 0 END AS brenvik_starts,
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
    WHEN (j."colour" IS DISTINCT FROM j.brenvik_was_1) THEN 'versioned'
    WHEN (j."name" IS DISTINCT FROM j.brenvik_was_0) OR 1 = 0 THEN 'overwritten'
    WHEN 1 = 0 THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_desired" AS
WITH lasts AS (
  SELECT j."buoy_code", j.brenvik_effective, j.brenvik_delete, j.brenvik_at, j.brenvik_life, j.brenvik_last_life, j.brenvik_deaths,
    j.brenvik_starts, j.brenvik_prev_delete, first_value(j."name") OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_at DESC) AS "name", j."colour"
  FROM "brenvik_work_judged" j
), spans AS (
  SELECT j.*, lead(j.brenvik_effective) OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_at) AS brenvik_until, lead(j.brenvik_delete) OVER (PARTITION BY j."buoy_code" ORDER BY j.brenvik_at) AS brenvik_ended
  FROM lasts j
  WHERE j.brenvik_starts = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
)
SELECT row_number() OVER (ORDER BY v."buoy_code", v.brenvik_effective) AS brenvik_no,
  v."buoy_code", v.brenvik_effective, v.brenvik_until, COALESCE(v.brenvik_ended, 0) AS brenvik_ended
  , v."name", v."colour"
FROM spans v
WHERE v.brenvik_delete = 0 AND 1 = 1;

CREATE TEMP TABLE "brenvik_work_stored" AS
SELECT t."rowid" AS brenvik_locator, t."buoy_code", CAST(t."valid_from" AS TIMESTAMP) AS brenvik_effective, CAST(CASE WHEN t."valid_to" IS NULL THEN NULL ELSE t."valid_to" END AS TIMESTAMP) AS brenvik_until, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_ended, t."name", t."colour", b.brenvik_full, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged
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
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE NOT ((d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."colour" IS DISTINCT FROM s."colour")) AND ((d."brenvik_until" IS DISTINCT FROM s."brenvik_until" OR d."brenvik_ended" IS DISTINCT FROM s."brenvik_ended") OR s.brenvik_flagged <> CASE WHEN d.brenvik_until IS NULL THEN 1 ELSE 0 END);

CREATE TEMP TABLE "brenvik_work_sets" AS SELECT s.brenvik_locator, d."brenvik_effective", d."brenvik_until", d."brenvik_ended", d."name", d."colour" 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE (d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."colour" IS DISTINCT FROM s."colour");

CREATE TEMP TABLE "brenvik_work_adds" AS SELECT d.brenvik_no FROM "brenvik_work_desired" d WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_no = d.brenvik_no);

INSERT INTO "brenvik_work_removes" SELECT s.brenvik_locator FROM "brenvik_work_stored" s WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_locator = s.brenvik_locator);

INSERT INTO "brenvik_work_sets"
SELECT t."rowid", t."valid_from", t."valid_to", CASE WHEN t."is_deleted" THEN 1 ELSE 0 END,
  x."name", t."colour"
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

SELECT CAST(max(c."at") AS TEXT) AS "at", CAST(max(c.brenvik_effective) AS TEXT) AS brenvik_high FROM "brenvik_work_counting" c;

