-- Run 2: changes

CREATE TEMP TABLE "brenvik_work_screened" AS -- in DuckDB, as the rows come
SELECT
  brenvik_arrival, brenvik_shape, brenvik_delete, "no" AS brenvik_effective,
  "code", "no", "colour",
  brenvik_fault
FROM (
  SELECT
    brenvik_arrival, CAST(1 AS INTEGER) AS brenvik_shape, CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END AS brenvik_delete,
    "code" AS "code", TRY_CAST("no" AS BIGINT) AS "no", "colour" AS "colour",
    CASE WHEN brenvik_first IS NOT NULL THEN CAST(json_object('column', CASE brenvik_first WHEN 1 THEN 'op' WHEN 2 THEN 'code' WHEN 3 THEN 'no' WHEN 4 THEN 'no' END, 'value', CASE brenvik_first WHEN 1 THEN CAST("op" AS VARCHAR) WHEN 2 THEN CAST("code" AS VARCHAR) WHEN 3 THEN CAST("no" AS VARCHAR) WHEN 4 THEN CAST("no" AS VARCHAR) END, 'reason', substr(COALESCE('; ' || CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN 'op: ' || COALESCE(chr(39) || CAST("op" AS VARCHAR) || chr(39), 'nothing') || ' is no operation; known are i, insert, u, update, d, delete' END, '') || COALESCE('; ' || CASE WHEN "code" IS NULL THEN 'code is empty' END, '') || COALESCE('; ' || CASE WHEN "no" IS NULL THEN 'no is empty' END, '') || COALESCE('; ' || CASE WHEN ("no" IS NOT NULL AND ((TRY_CAST("no" AS BIGINT)) IS NULL OR NOT regexp_full_match("no", '\s*[+-]?\d+(\.0*)?\s*'))) THEN 'no: ' || COALESCE(chr(39) || CAST("no" AS VARCHAR) || chr(39), 'nothing') || ' is no integer' END, ''), 3), 'row', CAST(json_object('op', CAST("op" AS VARCHAR), 'code', CAST("code" AS VARCHAR), 'no', CAST("no" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_fault
  FROM (
    SELECT all_rows.*, CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN 1 WHEN "code" IS NULL THEN 2 WHEN "no" IS NULL THEN 3 WHEN ("no" IS NOT NULL AND ((TRY_CAST("no" AS BIGINT)) IS NULL OR NOT regexp_full_match("no", '\s*[+-]?\d+(\.0*)?\s*'))) THEN 4 END AS brenvik_first FROM brenvik_stream AS all_rows
  ) AS tested_rows
) AS cast_rows;

SELECT count(c.brenvik_fault) AS faulty, CAST(COALESCE(0, 0) AS BIGINT) AS derived, CAST(COALESCE(sum(CASE WHEN NOT (c."no" > CAST(:high_order_0 AS BIGINT) AND c.brenvik_effective > CAST(:high_effective AS BIGINT)) THEN 1 ELSE 0 END), 0) AS BIGINT) AS late, CAST(max(CASE WHEN c."no" > CAST(:high_order_0 AS BIGINT) THEN c."no" END) AS TEXT) AS "no", CAST(max(CASE WHEN c.brenvik_effective > CAST(:high_effective AS BIGINT) THEN c.brenvik_effective END) AS TEXT) AS brenvik_high FROM "brenvik_work_screened" c;

CREATE TEMP TABLE "brenvik_work_busy" AS
SELECT c."code", max(CASE WHEN NOT (c."no" > CAST(:high_order_0 AS BIGINT) AND c.brenvik_effective > CAST(:high_effective AS BIGINT)) THEN 1 ELSE 0 END) AS brenvik_full
FROM "brenvik_work_screened" c
GROUP BY c."code"
HAVING count(*) > 1 OR max(CASE WHEN NOT (c."no" > CAST(:high_order_0 AS BIGINT) AND c.brenvik_effective > CAST(:high_effective AS BIGINT)) THEN 1 ELSE 0 END) = 1;

CREATE TEMP TABLE "brenvik_work_plain" AS
SELECT
  c.brenvik_arrival, c.brenvik_effective, t."rowid" AS brenvik_locator,
  CASE WHEN t."rowid" IS NULL AND c.brenvik_delete = 1 THEN 0 WHEN t."rowid" IS NULL THEN 1 WHEN c.brenvik_delete = 1 THEN 4 WHEN (c."colour" IS DISTINCT FROM t."colour") THEN 3 ELSE 6 END AS brenvik_decided,
  CASE WHEN c.brenvik_delete = 0 AND t."rowid" IS NOT NULL AND (c."colour" IS DISTINCT FROM t."colour") THEN 1 ELSE 0 END AS brenvik_sets,
  CASE WHEN (c."colour" IS DISTINCT FROM t."colour") THEN t."colour" END AS brenvik_was_0
FROM "brenvik_work_screened" c
LEFT JOIN "buoy" t ON t."code" = c."code"
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."code" = c."code");

SELECT CASE p.brenvik_decided WHEN 0 THEN 'full' WHEN 1 THEN 'inserted' WHEN 2 THEN 'versioned' WHEN 3 THEN 'overwritten' WHEN 4 THEN 'deleted' WHEN 5 THEN 'protected' WHEN 6 THEN 'unchanged' END AS brenvik_decision, n, sets FROM (SELECT brenvik_decided, count(*) AS n, CAST(sum(brenvik_sets) AS BIGINT) AS sets FROM "brenvik_work_plain" GROUP BY brenvik_decided) p;

CREATE TEMP TABLE "brenvik_work_closes" AS
SELECT p.brenvik_locator, p.brenvik_effective AS brenvik_until, CASE WHEN p.brenvik_decided IN (4) THEN 1 ELSE 0 END AS brenvik_ended
FROM "brenvik_work_plain" p
WHERE p.brenvik_decided IN (2);

CREATE TEMP TABLE "brenvik_work_removes" AS 
SELECT t."rowid" AS brenvik_locator
FROM "buoy" t
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_plain" p JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
  WHERE p.brenvik_decided IN (4) AND t."code" = c."code");

CREATE TEMP TABLE "brenvik_work_duplicates" AS 
SELECT n.brenvik_arrival FROM (
  SELECT c.brenvik_arrival, row_number() OVER (
    PARTITION BY c."code", c."brenvik_effective", c."brenvik_delete", c."brenvik_shape", c."no", c."colour" ORDER BY c.brenvik_arrival) AS brenvik_nth
  FROM "brenvik_work_screened" c
  WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."code" = c."code")
) n WHERE n.brenvik_nth > 1 UNION 
SELECT c.brenvik_arrival
FROM "brenvik_work_screened" c
JOIN "brenvik"."changes_of_buoy" k ON k."code" = c."code" AND k."no" = c."no" AND k."brenvik_effective" = c."brenvik_effective" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_shape" = c."brenvik_shape" AND k."colour" IS NOT DISTINCT FROM c."colour"
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_busy" b WHERE b."code" = c."code" AND b.brenvik_full = 1);

UPDATE "brenvik_work_busy" SET brenvik_full = 1 WHERE brenvik_full = 0 AND (NOT EXISTS (SELECT 1 FROM "buoy" t WHERE t."code" = "brenvik_work_busy"."code" AND 1 = 1));

CREATE TEMP TABLE "brenvik_work_judged" AS
WITH events ("code", "brenvik_effective", "brenvik_rank", "brenvik_run", "brenvik_arrival", "brenvik_new", "brenvik_delete", "brenvik_shape", "no", "colour") AS (
SELECT c."code",
  c.brenvik_effective, 1, :run, c.brenvik_arrival, 1, c.brenvik_delete, c.brenvik_shape,
  c."no", c."colour"
FROM "brenvik_work_screened" c
WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."code" = c."code")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival) UNION ALL 
SELECT t."code",
  CAST(:high_effective AS BIGINT), 1, 0, 0, 0, 0, 0,
  CAST(NULL AS BIGINT),
  t."colour"
FROM "buoy" t
JOIN "brenvik_work_busy" b ON b."code" = t."code" AND b.brenvik_full = 0 AND 1 = 1 UNION ALL 
SELECT k."code",
  k.brenvik_effective, 1, k.brenvik_run, k.brenvik_arrival, 0, k.brenvik_delete, k.brenvik_shape,
  k."no", k."colour"
FROM "brenvik_work_busy" b
JOIN "brenvik"."changes_of_buoy" k ON k."code" = b."code"
WHERE b.brenvik_full = 1
), placed AS (
  SELECT e.*,
    row_number() OVER (PARTITION BY e."code" ORDER BY brenvik_effective, "brenvik_rank", "no", "brenvik_run", "brenvik_arrival") AS brenvik_at,
    CASE WHEN lead(brenvik_effective) OVER (PARTITION BY e."code" ORDER BY brenvik_effective, "brenvik_rank", "no", "brenvik_run", "brenvik_arrival") = brenvik_effective THEN 1 ELSE 0 END AS brenvik_passed,
    first_value(brenvik_delete) OVER (PARTITION BY e."code", brenvik_effective ORDER BY "brenvik_rank" DESC NULLS FIRST, "no" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_arrival" DESC NULLS FIRST) AS brenvik_gone
  FROM events e
), counted AS (
  SELECT p.*, 1 - p.brenvik_passed AS brenvik_counts,
    max(CASE WHEN p.brenvik_new = 0 THEN p.brenvik_at END) OVER (PARTITION BY p."code", p.brenvik_effective) AS brenvik_replaces,
    first_value(p.brenvik_delete) OVER (
      PARTITION BY p."code", p.brenvik_effective ORDER BY p.brenvik_new, p.brenvik_at DESC) AS brenvik_replaced_delete
  FROM placed p
), lived AS (
  SELECT m.*
  FROM (
    SELECT q.*,
      sum(q.brenvik_delete) OVER (PARTITION BY q."code" ORDER BY q.brenvik_at ROWS UNBOUNDED PRECEDING) AS brenvik_life
    FROM counted q
    WHERE q.brenvik_counts = 1 OR (q.brenvik_gone = 0 AND q.brenvik_delete = 0)
  ) m
), states AS (
  SELECT l."code", l."brenvik_effective", l."brenvik_arrival", l."brenvik_shape", l."brenvik_delete", l."brenvik_new", l."brenvik_at", l."brenvik_life", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_counts",
    max(CASE WHEN l.brenvik_new = 0 AND l.brenvik_delete = 0 THEN 1 ELSE 0 END) OVER (PARTITION BY l."code", l.brenvik_life) AS brenvik_lived,
    l."colour" AS "colour"
  FROM lived l
), compared AS (
  SELECT s.*, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."colour") OVER (PARTITION BY s."code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."colour") OVER (PARTITION BY s."code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_0
  FROM states s
), lined AS (
  SELECT s."code", s."brenvik_effective", s."brenvik_arrival", s."brenvik_shape", s."brenvik_delete", s."brenvik_new", s."brenvik_at", s."brenvik_life", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_lived", s."colour", s.brenvik_was_0,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_at) OVER brenvik_line, 0) AS brenvik_prev_at,
    max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_life END) OVER (PARTITION BY s."code") AS brenvik_last_life,
    max(s.brenvik_life) OVER (PARTITION BY s."code") AS brenvik_deaths
  FROM compared s
  WHERE s.brenvik_counts = 1
  WINDOW brenvik_line AS (PARTITION BY s."code" ORDER BY s.brenvik_at)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR 1 = 0) THEN 1 ELSE 0 END AS brenvik_starts,
  CASE
    WHEN j.brenvik_delete = 0 AND j.brenvik_life < j.brenvik_deaths THEN 'superseded'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN
      CASE WHEN j.brenvik_lived = 0 THEN 'inserted' ELSE 'overwritten' END
    WHEN 1 = 0 THEN 'versioned'
    WHEN (j."colour" IS DISTINCT FROM j.brenvik_was_0) OR 1 = 0 THEN 'overwritten'
    WHEN 1 = 0 THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_desired" AS
WITH lasts AS (
  SELECT j."code", j.brenvik_effective, j.brenvik_delete, j.brenvik_at, j.brenvik_life, j.brenvik_last_life, j.brenvik_deaths,
    j.brenvik_starts, j.brenvik_prev_delete, first_value(j."colour") OVER (PARTITION BY j."code" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_at DESC) AS "colour"
  FROM "brenvik_work_judged" j
), spans AS (
  SELECT j.*, lead(j.brenvik_effective) OVER (PARTITION BY j."code" ORDER BY j.brenvik_at) AS brenvik_until, lead(j.brenvik_delete) OVER (PARTITION BY j."code" ORDER BY j.brenvik_at) AS brenvik_ended
  FROM lasts j
  WHERE j.brenvik_starts = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
)
SELECT row_number() OVER (ORDER BY v."code", v.brenvik_effective) AS brenvik_no,
  v."code", v.brenvik_effective, v.brenvik_until, COALESCE(v.brenvik_ended, 0) AS brenvik_ended
  , v."colour"
FROM spans v
WHERE v.brenvik_delete = 0 AND v.brenvik_life = v.brenvik_deaths;

CREATE TEMP TABLE "brenvik_work_stored" AS
SELECT t."rowid" AS brenvik_locator, t."code", CAST(NULL AS BIGINT) AS brenvik_effective, CAST(NULL AS BIGINT) AS brenvik_until, CASE WHEN NOT (1 = 1) THEN 1 ELSE 0 END AS brenvik_ended, t."colour", b.brenvik_full
FROM "buoy" t
JOIN "brenvik_work_busy" b ON b."code" = t."code";

SELECT count(DISTINCT q.brenvik_key) AS n, min(q.brenvik_key) AS key FROM (SELECT CAST(s."code" AS TEXT) AS brenvik_key FROM (SELECT * FROM "brenvik_work_stored" a WHERE a.brenvik_full = 1) s WHERE NOT EXISTS (SELECT 1 FROM (SELECT * FROM "brenvik_work_judged" j WHERE j.brenvik_new = 0 OR j.brenvik_replaces IS NOT NULL) e WHERE e."code" = s."code")) q;

CREATE TEMP TABLE "brenvik_work_pairs" AS
WITH exact AS (
  SELECT d.brenvik_no, s.brenvik_locator FROM "brenvik_work_desired" d JOIN "brenvik_work_stored" s ON d."code" = s."code"
), new_left AS (
SELECT d."code", d.brenvik_no, row_number() OVER (PARTITION BY d."code" ORDER BY d.brenvik_effective) AS brenvik_nth
FROM "brenvik_work_desired" d
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.brenvik_no = d.brenvik_no)
), old_left AS (
SELECT s."code", s.brenvik_locator, row_number() OVER (PARTITION BY s."code" ORDER BY s.brenvik_effective) AS brenvik_nth
FROM "brenvik_work_stored" s
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.brenvik_locator = s.brenvik_locator)
)
SELECT brenvik_no, brenvik_locator FROM exact
UNION ALL
SELECT d.brenvik_no, s.brenvik_locator FROM new_left d JOIN old_left s ON d."code" = s."code" AND d.brenvik_nth = s.brenvik_nth;

INSERT INTO "brenvik_work_closes" SELECT s.brenvik_locator, d.brenvik_until, d.brenvik_ended 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE NOT ((d."colour" IS DISTINCT FROM s."colour")) AND (d."brenvik_ended" IS DISTINCT FROM s."brenvik_ended");

CREATE TEMP TABLE "brenvik_work_sets" AS SELECT s.brenvik_locator, d."brenvik_effective", d."brenvik_until", d."brenvik_ended", d."colour" 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE (d."colour" IS DISTINCT FROM s."colour");

CREATE TEMP TABLE "brenvik_work_adds" AS SELECT d.brenvik_no FROM "brenvik_work_desired" d WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_no = d.brenvik_no);

INSERT INTO "brenvik_work_removes" SELECT s.brenvik_locator FROM "brenvik_work_stored" s WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_locator = s.brenvik_locator);

SELECT (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0) AS before, (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0 AND NOT EXISTS (SELECT 1 FROM "brenvik_work_desired" d WHERE d."code" = s."code" AND d.brenvik_until IS NULL)) AS lost,
  (SELECT count(*) FROM "brenvik_work_desired" d WHERE d.brenvik_until IS NULL) AS after;

SELECT brenvik_decision, count(*) AS n FROM "brenvik_work_judged" WHERE brenvik_new = 1 GROUP BY brenvik_decision;

SELECT (SELECT count(*) FROM "brenvik_work_screened") AS "screened", (SELECT count(*) FROM "brenvik_work_plain") AS "plain", (SELECT count(*) FROM "brenvik_work_duplicates") AS "duplicates";

SELECT 0 AS "brenvik_effective", 0 AS "brenvik_until", 0 AS "brenvik_ended", max(CASE WHEN t."colour" IS DISTINCT FROM s."colour" THEN 1 ELSE 0 END) AS "colour"
FROM "brenvik_work_sets" s
JOIN "buoy" t ON t."rowid" = s.brenvik_locator;

UPDATE "buoy" SET "colour" = s."colour" FROM "brenvik_work_sets" s WHERE "buoy"."rowid" = s.brenvik_locator;

DELETE FROM "buoy" WHERE "buoy"."rowid" IN (SELECT r.brenvik_locator FROM "brenvik_work_removes" r);

INSERT INTO "buoy" ("code", "colour")
SELECT n."code", n."colour"
FROM (
SELECT c."code", c."colour" AS "colour", c.brenvik_effective AS brenvik_start, NULL AS brenvik_end,
  TRUE AS brenvik_open, FALSE AS brenvik_ended
FROM "brenvik_work_plain" p JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
WHERE p.brenvik_decided IN (1, 2)) n;

INSERT INTO "brenvik"."changes_of_buoy" (brenvik_run, "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "code", "no", "colour")
SELECT :run, c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."code", c."no", c."colour"
FROM "brenvik_work_screened" c
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival);

