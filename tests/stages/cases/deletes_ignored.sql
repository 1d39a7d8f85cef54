-- Run 2: upserts

CREATE TEMP TABLE "brenvik_work_released" AS SELECT x.run, x.arrival FROM (
  SELECT r.run, r.arrival FROM "brenvik"."held_deletes" r
  WHERE r.table_name = :table_name AND ((r.state = 'released'))) x;

CREATE TEMP TABLE "brenvik_work_left_out" (run BIGINT);

CREATE TEMP VIEW "brenvik_work_counting" AS
SELECT k."brenvik_run", k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."code", k."no", k."colour" FROM "brenvik"."changes_of_buoy" k
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_left_out" o WHERE o.run = k.brenvik_run) AND (k.brenvik_delete = 0 OR EXISTS (
  SELECT 1 FROM "brenvik_work_released" r WHERE r.run = k.brenvik_run AND r.arrival = k.brenvik_arrival));

CREATE TEMP TABLE "brenvik_work_screened" AS -- in DuckDB, as the rows come
SELECT
  brenvik_arrival, brenvik_shape, brenvik_delete, "no" AS brenvik_effective,
  "code", "no", "colour",
  brenvik_fault
FROM (
  SELECT
    brenvik_arrival, CAST(1 AS INTEGER) AS brenvik_shape, CASE WHEN (((("colour") = 'gone'))) THEN 1 ELSE 0 END AS brenvik_delete,
    "code" AS "code", TRY_CAST("no" AS BIGINT) AS "no", "colour" AS "colour",
    CASE WHEN brenvik_first IS NOT NULL THEN CAST(json_object('column', CASE brenvik_first WHEN 1 THEN 'code' WHEN 2 THEN 'no' WHEN 3 THEN 'no' END, 'value', CASE brenvik_first WHEN 1 THEN CAST("code" AS VARCHAR) WHEN 2 THEN CAST("no" AS VARCHAR) WHEN 3 THEN CAST("no" AS VARCHAR) END, 'reason', substr(COALESCE('; ' || CASE WHEN "code" IS NULL THEN 'code is empty' END, '') || COALESCE('; ' || CASE WHEN "no" IS NULL THEN 'no is empty' END, '') || COALESCE('; ' || CASE WHEN ("no" IS NOT NULL AND ((TRY_CAST("no" AS BIGINT)) IS NULL OR NOT regexp_full_match("no", '\s*[+-]?\d+(\.0*)?\s*'))) THEN 'no: ' || COALESCE(chr(39) || CAST("no" AS VARCHAR) || chr(39), 'nothing') || ' is no integer' END, ''), 3), 'row', CAST(json_object('code', CAST("code" AS VARCHAR), 'no', CAST("no" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_fault
  FROM (
    SELECT all_rows.*, CASE WHEN "code" IS NULL THEN 1 WHEN "no" IS NULL THEN 2 WHEN ("no" IS NOT NULL AND ((TRY_CAST("no" AS BIGINT)) IS NULL OR NOT regexp_full_match("no", '\s*[+-]?\d+(\.0*)?\s*'))) THEN 3 END AS brenvik_first FROM brenvik_stream AS all_rows
  ) AS tested_rows
) AS cast_rows;

SELECT count(c.brenvik_fault) AS faulty, CAST(COALESCE(0, 0) AS BIGINT) AS derived, CAST(COALESCE(sum(CASE WHEN NOT (c."no" > CAST(:high_order_0 AS BIGINT) AND c.brenvik_effective > CAST(:high_effective AS BIGINT)) THEN 1 ELSE 0 END), 0) AS BIGINT) AS late, CAST(max(CASE WHEN c."no" > CAST(:high_order_0 AS BIGINT) THEN c."no" END) AS TEXT) AS "no", CAST(max(CASE WHEN c.brenvik_effective > CAST(:high_effective AS BIGINT) THEN c.brenvik_effective END) AS TEXT) AS brenvik_high FROM "brenvik_work_screened" c;

CREATE TEMP TABLE "brenvik_work_aside" AS SELECT c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."code", c."no", c."colour", CAST(NULL AS TEXT) AS brenvik_decision FROM "brenvik_work_screened" c WHERE c.brenvik_delete = 1;

DELETE FROM "brenvik_work_screened" WHERE brenvik_delete = 1;

SELECT (SELECT count(*) FROM "brenvik_work_aside") AS "aside";

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

UPDATE "brenvik_work_aside" SET brenvik_decision = CASE WHEN EXISTS (SELECT 1 FROM "brenvik_work_aside" o WHERE o.brenvik_arrival < "brenvik_work_aside".brenvik_arrival AND o."code" = "brenvik_work_aside"."code" AND o."no" = "brenvik_work_aside"."no" AND o."brenvik_effective" = "brenvik_work_aside"."brenvik_effective" AND o."brenvik_shape" = "brenvik_work_aside"."brenvik_shape" AND o."colour" IS NOT DISTINCT FROM "brenvik_work_aside"."colour") OR EXISTS (SELECT 1 FROM "brenvik"."changes_of_buoy" o WHERE o.brenvik_delete = 1 AND o."code" = "brenvik_work_aside"."code" AND o."no" = "brenvik_work_aside"."no" AND o."brenvik_effective" = "brenvik_work_aside"."brenvik_effective" AND o."brenvik_shape" = "brenvik_work_aside"."brenvik_shape" AND o."colour" IS NOT DISTINCT FROM "brenvik_work_aside"."colour" AND NOT EXISTS (SELECT 1 FROM "brenvik_work_left_out" w WHERE w.run = o.brenvik_run)) THEN 'duplicate' ELSE 'ignored' END;

SELECT brenvik_decision, count(*) AS n FROM "brenvik_work_aside" GROUP BY brenvik_decision;

UPDATE "buoy" SET "valid_to" = s.brenvik_until, "is_current" = (s.brenvik_until IS NULL), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_closes" s WHERE "buoy"."rowid" = s.brenvik_locator;

INSERT INTO "buoy" ("buoy_key", "code", "colour", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at")
SELECT :last_key + row_number() OVER (), n."code", n."colour", n.brenvik_start, CAST(n.brenvik_end AS BIGINT), n.brenvik_open, n.brenvik_ended, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP)
FROM (
SELECT c."code", c."colour" AS "colour", c.brenvik_effective AS brenvik_start, NULL AS brenvik_end,
  TRUE AS brenvik_open, FALSE AS brenvik_ended
FROM "brenvik_work_plain" p JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
WHERE p.brenvik_decided IN (1, 2)) n;

INSERT INTO "brenvik"."changes_of_buoy" (brenvik_run, "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "code", "no", "colour")
SELECT :run, c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."code", c."no", c."colour"
FROM "brenvik_work_screened" c;

INSERT INTO "brenvik"."changes_of_buoy" (brenvik_run, "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "code", "no", "colour")
SELECT :run, c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."code", c."no", c."colour" FROM "brenvik_work_aside" c WHERE c.brenvik_decision <> 'duplicate';

SELECT CAST(max(CASE WHEN c."no" > CAST(:high_order_0 AS BIGINT) THEN c."no" END) AS TEXT) AS "no", CAST(max(CASE WHEN c.brenvik_effective > CAST(:high_effective AS BIGINT) THEN c.brenvik_effective END) AS TEXT) AS brenvik_high FROM "brenvik_work_screened" c;

