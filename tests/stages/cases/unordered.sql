-- Run 2: upserts

CREATE TEMP TABLE "brenvik_work_screened" AS -- in DuckDB, as the rows come
SELECT
  brenvik_arrival, brenvik_shape, brenvik_delete, CAST($loaded_at AS TIMESTAMP) AS brenvik_effective,
  "buoy_code", "colour", "name",
  brenvik_fault
FROM (
  SELECT
    brenvik_arrival, CAST(1 AS INTEGER) AS brenvik_shape, 0 AS brenvik_delete,
    "buoy_code" AS "buoy_code", "colour" AS "colour", "name" AS "name",
    CASE WHEN brenvik_first IS NOT NULL THEN CAST(json_object('column', CASE brenvik_first WHEN 1 THEN 'buoy_code' END, 'value', CASE brenvik_first WHEN 1 THEN CAST("buoy_code" AS VARCHAR) END, 'reason', substr(COALESCE('; ' || CASE WHEN "buoy_code" IS NULL THEN 'buoy_code is empty' END, ''), 3), 'row', CAST(json_object('buoy_code', CAST("buoy_code" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR), 'name', CAST("name" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_fault
  FROM (
    SELECT all_rows.*, CASE WHEN "buoy_code" IS NULL THEN 1 END AS brenvik_first FROM brenvik_stream AS all_rows
  ) AS tested_rows
) AS cast_rows;

SELECT count(c.brenvik_fault) AS faulty, CAST(COALESCE(0, 0) AS BIGINT) AS derived, CAST(COALESCE(sum(CASE WHEN NOT (1 = 1 AND c.brenvik_effective > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END), 0) AS BIGINT) AS late, CAST(max(CASE WHEN c.brenvik_effective > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective END) AS TEXT) AS brenvik_high FROM "brenvik_work_screened" c;

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
  CASE WHEN (c."colour" IS DISTINCT FROM t."colour" OR c."name" IS DISTINCT FROM t."name") THEN t."colour" END AS brenvik_was_0, CASE WHEN (c."colour" IS DISTINCT FROM t."colour" OR c."name" IS DISTINCT FROM t."name") THEN t."name" END AS brenvik_was_1
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

CREATE TEMP TABLE "brenvik_work_duplicates" AS SELECT c.brenvik_arrival FROM "brenvik_work_screened" c WHERE 1 = 0;

UPDATE "brenvik_work_busy" SET brenvik_full = 1 WHERE brenvik_full = 0 AND (NOT EXISTS (SELECT 1 FROM "buoy" t WHERE t."buoy_code" = "brenvik_work_busy"."buoy_code" AND t."valid_to" IS NULL));

CREATE TEMP TABLE "brenvik_work_judged" AS
WITH events ("buoy_code", "brenvik_effective", "brenvik_rank", "brenvik_run", "brenvik_arrival", "brenvik_new", "brenvik_delete", "brenvik_shape", "colour", "name") AS (
SELECT c."buoy_code",
  c.brenvik_effective, 1, :run, c.brenvik_arrival, 1, c.brenvik_delete, c.brenvik_shape,
  c."colour", c."name"
FROM "brenvik_work_screened" c
WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."buoy_code" = c."buoy_code")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival) UNION ALL 
SELECT t."buoy_code",
  t."valid_from", 1, 0, 0, 0, 0, 0,
  t."colour",
  t."name"
FROM "buoy" t
JOIN "brenvik_work_busy" b ON b."buoy_code" = t."buoy_code" AND b.brenvik_full = 0 AND t."valid_to" IS NULL UNION ALL 
SELECT k."buoy_code",
  k.brenvik_effective, 1, k.brenvik_run, k.brenvik_arrival, 0, k.brenvik_delete, k.brenvik_shape,
  k."colour", k."name"
FROM "brenvik_work_busy" b
JOIN "brenvik"."changes_of_buoy" k ON k."buoy_code" = b."buoy_code"
WHERE b.brenvik_full = 1
), placed AS (
  SELECT e.*,
    row_number() OVER (PARTITION BY e."buoy_code" ORDER BY brenvik_effective, "brenvik_rank", "brenvik_run", "brenvik_arrival") AS brenvik_at,
    CASE WHEN lead(brenvik_effective) OVER (PARTITION BY e."buoy_code" ORDER BY brenvik_effective, "brenvik_rank", "brenvik_run", "brenvik_arrival") = brenvik_effective THEN 1 ELSE 0 END AS brenvik_passed,
    first_value(brenvik_delete) OVER (PARTITION BY e."buoy_code", brenvik_effective ORDER BY "brenvik_rank" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_arrival" DESC NULLS FIRST) AS brenvik_gone
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
    l."colour" AS "colour", l."name" AS "name"
  FROM lived l
), compared AS (
  SELECT s.*, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."colour") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."colour") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_0, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."name") OVER (PARTITION BY s."buoy_code", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."name") OVER (PARTITION BY s."buoy_code", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_1
  FROM states s
), lined AS (
  SELECT s."buoy_code", s."brenvik_effective", s."brenvik_arrival", s."brenvik_shape", s."brenvik_delete", s."brenvik_new", s."brenvik_at", s."brenvik_life", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_lived", s."colour", s.brenvik_was_0, s."name", s.brenvik_was_1, lag(s."colour") OVER brenvik_line AS brenvik_prev_0,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_at) OVER brenvik_line, 0) AS brenvik_prev_at,
    max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_life END) OVER (PARTITION BY s."buoy_code") AS brenvik_last_life,
    max(s.brenvik_life) OVER (PARTITION BY s."buoy_code") AS brenvik_deaths
  FROM compared s
  WHERE s.brenvik_counts = 1
  WINDOW brenvik_line AS (PARTITION BY s."buoy_code" ORDER BY s.brenvik_at)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR (j."colour" IS DISTINCT FROM j.brenvik_prev_0)) THEN 1 ELSE 0 END AS brenvik_starts,
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
    WHEN (j."colour" IS DISTINCT FROM j.brenvik_was_0) THEN 'versioned'
    WHEN (j."name" IS DISTINCT FROM j.brenvik_was_1) OR 1 = 0 THEN 'overwritten'
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
  , v."colour", v."name"
FROM spans v
WHERE v.brenvik_delete = 0 AND 1 = 1;

CREATE TEMP TABLE "brenvik_work_stored" AS
SELECT t."rowid" AS brenvik_locator, t."buoy_code", CAST(t."valid_from" AS TIMESTAMP) AS brenvik_effective, CAST(CASE WHEN t."valid_to" IS NULL THEN NULL ELSE t."valid_to" END AS TIMESTAMP) AS brenvik_until, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_ended, t."colour", t."name", b.brenvik_full, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged
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
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE NOT ((d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."colour" IS DISTINCT FROM s."colour" OR d."name" IS DISTINCT FROM s."name")) AND ((d."brenvik_until" IS DISTINCT FROM s."brenvik_until" OR d."brenvik_ended" IS DISTINCT FROM s."brenvik_ended") OR s.brenvik_flagged <> CASE WHEN d.brenvik_until IS NULL THEN 1 ELSE 0 END);

CREATE TEMP TABLE "brenvik_work_sets" AS SELECT s.brenvik_locator, d."brenvik_effective", d."brenvik_until", d."brenvik_ended", d."colour", d."name" 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE (d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."colour" IS DISTINCT FROM s."colour" OR d."name" IS DISTINCT FROM s."name");

CREATE TEMP TABLE "brenvik_work_adds" AS SELECT d.brenvik_no FROM "brenvik_work_desired" d WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_no = d.brenvik_no);

INSERT INTO "brenvik_work_removes" SELECT s.brenvik_locator FROM "brenvik_work_stored" s WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_locator = s.brenvik_locator);

INSERT INTO "brenvik_work_sets"
SELECT t."rowid", t."valid_from", t."valid_to", CASE WHEN t."is_deleted" THEN 1 ELSE 0 END,
  t."colour", x."name"
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

CREATE TEMP TABLE "brenvik_work_spread" AS
SELECT t."rowid" AS brenvik_locator, p.brenvik_arrival
FROM "brenvik_work_plain" p
JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
JOIN "buoy" t ON t."buoy_code" = c."buoy_code"
WHERE p.brenvik_sets = 1 AND NOT (t."valid_to" IS NULL) AND (c."name" IS DISTINCT FROM t."name");

UPDATE "buoy" SET "valid_to" = s.brenvik_until, "is_current" = (s.brenvik_until IS NULL), "is_deleted" = (s.brenvik_ended = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_closes" s WHERE "buoy"."rowid" = s.brenvik_locator;

SELECT max(CASE WHEN c."name" IS DISTINCT FROM p.brenvik_was_1 THEN 1 ELSE 0 END) AS "name"
FROM "brenvik_work_plain" p JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
WHERE p.brenvik_sets = 1;

UPDATE "buoy" SET "name" = s."name", "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (
  SELECT r.brenvik_locator, c.brenvik_shape, c."name"
  FROM (SELECT brenvik_locator, brenvik_arrival FROM "brenvik_work_plain" WHERE brenvik_sets = 1) r JOIN "brenvik_work_screened" c ON c.brenvik_arrival = r.brenvik_arrival
) s WHERE "buoy"."rowid" = s.brenvik_locator;

INSERT INTO "buoy" ("buoy_key", "buoy_code", "colour", "name", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at")
SELECT :last_key + row_number() OVER (), n."buoy_code", n."colour", n."name", n.brenvik_start, CAST(n.brenvik_end AS TIMESTAMP), n.brenvik_open, n.brenvik_ended, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP)
FROM (
SELECT c."buoy_code", c."colour" AS "colour", c."name" AS "name", c.brenvik_effective AS brenvik_start, NULL AS brenvik_end,
  TRUE AS brenvik_open, FALSE AS brenvik_ended
FROM "brenvik_work_plain" p JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
WHERE p.brenvik_decided IN (1, 2) UNION ALL 
SELECT d."buoy_code", d."colour", d."name", d.brenvik_effective AS brenvik_start, d.brenvik_until AS brenvik_end,
  (d.brenvik_until IS NULL) AS brenvik_open, (d.brenvik_ended = 1) AS brenvik_ended
FROM "brenvik_work_adds" a JOIN "brenvik_work_desired" d ON d.brenvik_no = a.brenvik_no) n;

INSERT INTO "brenvik"."changes_of_buoy" (brenvik_run, "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "buoy_code", "colour", "name")
SELECT :run, c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."buoy_code", c."colour", c."name"
FROM "brenvik_work_screened" c
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival);

