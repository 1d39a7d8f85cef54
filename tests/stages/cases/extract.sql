-- Run 2: extract at 2024-05-02 02:00

CREATE TEMP TABLE "brenvik_work_compared" AS -- in DuckDB, as the rows come
SELECT
  brenvik_arrival, brenvik_shape, brenvik_delete, CAST($extract_at AS TIMESTAMP) AS brenvik_effective,
  "no", "name", "phone",
  brenvik_fault
FROM (
  SELECT
    brenvik_arrival, CAST(1 AS INTEGER) AS brenvik_shape, 0 AS brenvik_delete,
    TRY_CAST("no" AS BIGINT) AS "no", "name" AS "name", "phone" AS "phone",
    CASE WHEN brenvik_first IS NOT NULL THEN CAST(json_object('column', CASE brenvik_first WHEN 1 THEN 'no' WHEN 2 THEN 'no' END, 'value', CASE brenvik_first WHEN 1 THEN CAST("no" AS VARCHAR) WHEN 2 THEN CAST("no" AS VARCHAR) END, 'reason', substr(COALESCE('; ' || CASE WHEN "no" IS NULL THEN 'no is empty' END, '') || COALESCE('; ' || CASE WHEN ("no" IS NOT NULL AND ((TRY_CAST("no" AS BIGINT)) IS NULL OR NOT regexp_full_match("no", '\s*[+-]?\d+(\.0*)?\s*'))) THEN 'no: ' || COALESCE(chr(39) || CAST("no" AS VARCHAR) || chr(39), 'nothing') || ' is no integer' END, ''), 3), 'row', CAST(json_object('no', CAST("no" AS VARCHAR), 'name', CAST("name" AS VARCHAR), 'phone', CAST("phone" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_fault
  FROM (
    SELECT all_rows.*, CASE WHEN "no" IS NULL THEN 1 WHEN ("no" IS NOT NULL AND ((TRY_CAST("no" AS BIGINT)) IS NULL OR NOT regexp_full_match("no", '\s*[+-]?\d+(\.0*)?\s*'))) THEN 2 END AS brenvik_first FROM brenvik_stream AS all_rows
  ) AS tested_rows
) AS cast_rows
-- and of that
SELECT COALESCE(c."no", t."no") AS "no", c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."name", c."phone", c."brenvik_fault", t.brenvik_locator, t."name" AS brenvik_was_0, t."phone" AS brenvik_was_1, CASE WHEN NOT (t."no" IS NULL) THEN 1 ELSE 0 END AS brenvik_met
FROM "brenvik_work_extracted" c
FULL JOIN (
  SELECT v."rowid" AS brenvik_locator, v."no", v."name", v."phone"
  FROM "buoy" v
  WHERE v."valid_to" IS NULL
) t ON t."no" = c."no"
WHERE c.brenvik_fault IS NOT NULL OR (t."no" IS NULL OR c.brenvik_arrival IS NULL OR CASE WHEN c."name" = t."name" THEN 1 = 0 ELSE (c."name" IS DISTINCT FROM t."name") END OR CASE WHEN c."phone" = t."phone" THEN 1 = 0 ELSE (c."phone" IS DISTINCT FROM t."phone") END);

SELECT count(d.brenvik_fault) AS faulty,
  COALESCE(sum(CASE WHEN d.brenvik_fault IS NOT NULL AND d.brenvik_met = 1 THEN 1 ELSE 0 END), 0) AS faulty_met,
  COALESCE(sum(CASE WHEN d.brenvik_arrival IS NOT NULL AND d.brenvik_fault IS NULL AND d.brenvik_met = 0 THEN 1 ELSE 0 END), 0) AS new,
  count(*) - count(d.brenvik_arrival) AS absent,
  (SELECT count(*) AS n FROM "buoy" t WHERE t."valid_to" IS NULL) AS living,
  CAST(CAST(:extract_at AS TIMESTAMP) AS TEXT) AS at,
  CASE WHEN CAST(:extract_at AS TIMESTAMP) <= CAST(:high_effective AS TIMESTAMP) THEN 1 ELSE 0 END AS late
FROM "brenvik_work_compared" d;

CREATE TEMP TABLE "brenvik_work_refused_keys" AS
SELECT DISTINCT e."no" FROM "brenvik_work_compared" e
WHERE e.brenvik_fault IS NOT NULL AND e."no" IS NOT NULL
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_compared" g WHERE g.brenvik_arrival IS NOT NULL AND g.brenvik_fault IS NULL AND g."no" = e."no");

CREATE TEMP TABLE "brenvik_work_faulty" AS SELECT s.brenvik_arrival AS brenvik_arrival, CAST(s.brenvik_fault AS JSON) ->> 'column' AS brenvik_column, CAST(s.brenvik_fault AS JSON) ->> 'value' AS brenvik_value, CAST(s.brenvik_fault AS JSON) ->> 'reason' AS brenvik_reason, CAST(s.brenvik_fault AS JSON) ->> 'row' AS brenvik_row FROM "brenvik_work_compared" s WHERE s.brenvik_fault IS NOT NULL;

DELETE FROM "brenvik_work_compared" WHERE brenvik_fault IS NOT NULL;

CREATE TEMP TABLE "brenvik_work_rejected" AS
SELECT f.brenvik_arrival, f.brenvik_column, f.brenvik_value, f.brenvik_reason, f.brenvik_row,
  CASE WHEN EXISTS (
      SELECT 1 FROM "brenvik"."rejects" r
      WHERE r.table_name = :table_name AND r.feed = :feed AND r.state = 'open' AND r.content = f.brenvik_row) OR
    row_number() OVER (PARTITION BY f.brenvik_row ORDER BY f.brenvik_arrival) > 1
  THEN 1 ELSE 0 END AS brenvik_again
FROM "brenvik_work_faulty" f;

SELECT count(*) AS n, COALESCE(sum(brenvik_again), 0) AS again FROM "brenvik_work_rejected";

CREATE TEMP TABLE "brenvik_work_screened" AS
SELECT d."brenvik_arrival", d."brenvik_shape", d."brenvik_delete", d."brenvik_effective", d."no", d."name", d."phone", d."brenvik_fault" FROM "brenvik_work_compared" d WHERE d.brenvik_arrival IS NOT NULL;

INSERT INTO "brenvik_work_screened" (brenvik_arrival, brenvik_shape, brenvik_delete, brenvik_effective, "no")
SELECT :absent_from + 2 * row_number() OVER (ORDER BY d."no"), 1, 1, CAST(:extract_at AS TIMESTAMP),
  d."no"
FROM "brenvik_work_compared" d
WHERE d.brenvik_arrival IS NULL
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_refused_keys" r WHERE r."no" = d."no");

CREATE TEMP TABLE "brenvik_work_busy" AS
SELECT c."no", 0 AS brenvik_full
FROM "brenvik_work_screened" c
GROUP BY c."no"
HAVING count(*) > 1;

CREATE TEMP TABLE "brenvik_work_plain" AS
SELECT
  c.brenvik_arrival, c.brenvik_effective, t."rowid" AS brenvik_locator,
  CASE WHEN t."rowid" IS NULL AND c.brenvik_delete = 1 THEN 0 WHEN t."rowid" IS NULL THEN 1 WHEN c.brenvik_delete = 1 THEN 4 WHEN (c."name" IS DISTINCT FROM t."name") THEN 2 WHEN (c."phone" IS DISTINCT FROM t."phone") THEN 3 ELSE 6 END AS brenvik_decided,
  CASE WHEN c.brenvik_delete = 0 AND t."rowid" IS NOT NULL AND (c."phone" IS DISTINCT FROM t."phone") THEN 1 ELSE 0 END AS brenvik_sets,
  CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."phone" IS DISTINCT FROM t."phone") THEN t."name" END AS brenvik_was_0, CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."phone" IS DISTINCT FROM t."phone") THEN t."phone" END AS brenvik_was_1
FROM "brenvik_work_screened" c
LEFT JOIN (
  SELECT m.brenvik_locator AS "rowid", m."no", m.brenvik_was_0 AS "name", m.brenvik_was_1 AS "phone"
  FROM "brenvik_work_compared" m WHERE m.brenvik_met = 1) t ON t."no" = c."no"
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."no" = c."no");

UPDATE "brenvik_work_plain" SET brenvik_decided = 0
WHERE "brenvik_work_plain".brenvik_decided IN (1) AND EXISTS (
  SELECT 1 FROM "brenvik_work_screened" c
  JOIN "buoy" t ON t."no" = c."no"
  WHERE c.brenvik_arrival = "brenvik_work_plain".brenvik_arrival AND NOT (t."valid_to" IS NULL));

SELECT CASE p.brenvik_decided WHEN 0 THEN 'full' WHEN 1 THEN 'inserted' WHEN 2 THEN 'versioned' WHEN 3 THEN 'overwritten' WHEN 4 THEN 'deleted' WHEN 5 THEN 'protected' WHEN 6 THEN 'unchanged' END AS brenvik_decision, n, sets FROM (SELECT brenvik_decided, count(*) AS n, CAST(sum(brenvik_sets) AS BIGINT) AS sets FROM "brenvik_work_plain" GROUP BY brenvik_decided) p;

CREATE TEMP TABLE "brenvik_work_closes" AS
SELECT p.brenvik_locator, p.brenvik_effective AS brenvik_until, CASE WHEN p.brenvik_decided IN (4) THEN 1 ELSE 0 END AS brenvik_ended
FROM "brenvik_work_plain" p
WHERE p.brenvik_decided IN (2, 4);

CREATE TEMP TABLE "brenvik_work_removes" AS SELECT brenvik_locator FROM "brenvik_work_plain" WHERE 1 = 0;

CREATE TEMP TABLE "brenvik_work_duplicates" AS SELECT c.brenvik_arrival FROM "brenvik_work_screened" c WHERE 1 = 0;

UPDATE "brenvik_work_busy" SET brenvik_full = 1 WHERE brenvik_full = 0 AND (NOT EXISTS (SELECT 1 FROM "buoy" t WHERE t."no" = "brenvik_work_busy"."no" AND t."valid_to" IS NULL));

CREATE TEMP TABLE "brenvik_work_judged" AS
WITH events ("no", "brenvik_effective", "brenvik_rank", "brenvik_run", "brenvik_arrival", "brenvik_new", "brenvik_delete", "brenvik_shape", "name", "phone") AS (
SELECT c."no",
  c.brenvik_effective, 1, :run, c.brenvik_arrival, 1, c.brenvik_delete, c.brenvik_shape,
  c."name", c."phone"
FROM "brenvik_work_screened" c
WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."no" = c."no")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival) UNION ALL 
SELECT t."no",
  t."valid_from", 1, 0, 0, 0, 0, 0,
  t."name",
  t."phone"
FROM "buoy" t
JOIN "brenvik_work_busy" b ON b."no" = t."no" AND b.brenvik_full = 0 AND t."valid_to" IS NULL UNION ALL 
SELECT k."no",
  k.brenvik_effective, 1, k.brenvik_run, k.brenvik_arrival, 0, k.brenvik_delete, k.brenvik_shape,
  k."name", k."phone"
FROM "brenvik_work_busy" b
JOIN "brenvik"."changes_of_buoy" k ON k."no" = b."no"
WHERE b.brenvik_full = 1
), placed AS (
  SELECT e.*,
    row_number() OVER (PARTITION BY e."no" ORDER BY brenvik_effective, "brenvik_rank", "brenvik_run", "brenvik_arrival") AS brenvik_at,
    CASE WHEN lead(brenvik_effective) OVER (PARTITION BY e."no" ORDER BY brenvik_effective, "brenvik_rank", "brenvik_run", "brenvik_arrival") = brenvik_effective THEN 1 ELSE 0 END AS brenvik_passed,
    first_value(brenvik_delete) OVER (PARTITION BY e."no", brenvik_effective ORDER BY "brenvik_rank" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_arrival" DESC NULLS FIRST) AS brenvik_gone
  FROM events e
), counted AS (
  SELECT p.*, 1 - p.brenvik_passed AS brenvik_counts,
    max(CASE WHEN p.brenvik_new = 0 THEN p.brenvik_at END) OVER (PARTITION BY p."no", p.brenvik_effective) AS brenvik_replaces,
    first_value(p.brenvik_delete) OVER (
      PARTITION BY p."no", p.brenvik_effective ORDER BY p.brenvik_new, p.brenvik_at DESC) AS brenvik_replaced_delete
  FROM placed p
), lived AS (
  SELECT m.*
  FROM (
    SELECT q.*,
      sum(q.brenvik_delete) OVER (PARTITION BY q."no" ORDER BY q.brenvik_at ROWS UNBOUNDED PRECEDING) AS brenvik_life
    FROM counted q
    WHERE q.brenvik_counts = 1 OR (q.brenvik_gone = 0 AND q.brenvik_delete = 0)
  ) m
), states AS (
  SELECT l."no", l."brenvik_effective", l."brenvik_arrival", l."brenvik_shape", l."brenvik_delete", l."brenvik_new", l."brenvik_at", l."brenvik_life", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_counts",
    max(CASE WHEN l.brenvik_new = 0 AND l.brenvik_delete = 0 THEN 1 ELSE 0 END) OVER (PARTITION BY l."no", l.brenvik_life) AS brenvik_lived,
    l."name" AS "name", l."phone" AS "phone"
  FROM lived l
), compared AS (
  SELECT s.*, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."name") OVER (PARTITION BY s."no", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."name") OVER (PARTITION BY s."no", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_0, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."phone") OVER (PARTITION BY s."no", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."phone") OVER (PARTITION BY s."no", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_1
  FROM states s
), lined AS (
  SELECT s."no", s."brenvik_effective", s."brenvik_arrival", s."brenvik_shape", s."brenvik_delete", s."brenvik_new", s."brenvik_at", s."brenvik_life", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_lived", s."name", s.brenvik_was_0, s."phone", s.brenvik_was_1, lag(s."name") OVER brenvik_line AS brenvik_prev_0,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_at) OVER brenvik_line, 0) AS brenvik_prev_at,
    max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_life END) OVER (PARTITION BY s."no") AS brenvik_last_life,
    max(s.brenvik_life) OVER (PARTITION BY s."no") AS brenvik_deaths
  FROM compared s
  WHERE s.brenvik_counts = 1
  WINDOW brenvik_line AS (PARTITION BY s."no" ORDER BY s.brenvik_at)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR (j."name" IS DISTINCT FROM j.brenvik_prev_0)) THEN 1 ELSE 0 END AS brenvik_starts,
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
    WHEN (j."name" IS DISTINCT FROM j.brenvik_was_0) THEN 'versioned'
    WHEN (j."phone" IS DISTINCT FROM j.brenvik_was_1) OR 1 = 0 THEN 'overwritten'
    WHEN 1 = 0 THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_desired" AS
WITH lasts AS (
  SELECT j."no", j.brenvik_effective, j.brenvik_delete, j.brenvik_at, j.brenvik_life, j.brenvik_last_life, j.brenvik_deaths,
    j.brenvik_starts, j.brenvik_prev_delete, first_value(j."phone") OVER (PARTITION BY j."no" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_at DESC) AS "phone", j."name"
  FROM "brenvik_work_judged" j
), spans AS (
  SELECT j.*, lead(j.brenvik_effective) OVER (PARTITION BY j."no" ORDER BY j.brenvik_at) AS brenvik_until, lead(j.brenvik_delete) OVER (PARTITION BY j."no" ORDER BY j.brenvik_at) AS brenvik_ended
  FROM lasts j
  WHERE j.brenvik_starts = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
)
SELECT row_number() OVER (ORDER BY v."no", v.brenvik_effective) AS brenvik_no,
  v."no", v.brenvik_effective, v.brenvik_until, COALESCE(v.brenvik_ended, 0) AS brenvik_ended
  , v."name", v."phone"
FROM spans v
WHERE v.brenvik_delete = 0 AND 1 = 1;

CREATE TEMP TABLE "brenvik_work_stored" AS
SELECT t."rowid" AS brenvik_locator, t."no", CAST(t."valid_from" AS TIMESTAMP) AS brenvik_effective, CAST(CASE WHEN t."valid_to" IS NULL THEN NULL ELSE t."valid_to" END AS TIMESTAMP) AS brenvik_until, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_ended, t."name", t."phone", b.brenvik_full, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged
FROM "buoy" t
JOIN "brenvik_work_busy" b ON b."no" = t."no" AND (b.brenvik_full = 1 OR t."valid_to" IS NULL);

SELECT count(DISTINCT q.brenvik_key) AS n, min(q.brenvik_key) AS key FROM (SELECT CAST(s."no" AS TEXT) AS brenvik_key FROM (SELECT * FROM "brenvik_work_stored" a WHERE a.brenvik_full = 1) s WHERE NOT EXISTS (SELECT 1 FROM (SELECT * FROM "brenvik_work_judged" j WHERE j.brenvik_new = 0 OR j.brenvik_replaces IS NOT NULL) e WHERE e."no" = s."no" AND e.brenvik_effective = s.brenvik_effective) UNION ALL SELECT CAST(s."no" AS TEXT) AS brenvik_key FROM (SELECT * FROM "brenvik_work_stored" a WHERE a.brenvik_full = 1) s WHERE s.brenvik_until IS NOT NULL AND NOT EXISTS (SELECT 1 FROM (SELECT * FROM "brenvik_work_judged" j WHERE j.brenvik_new = 0 OR j.brenvik_replaces IS NOT NULL) e WHERE e."no" = s."no" AND e.brenvik_effective = s.brenvik_until)) q;

CREATE TEMP TABLE "brenvik_work_pairs" AS
WITH exact AS (
  SELECT d.brenvik_no, s.brenvik_locator FROM "brenvik_work_desired" d JOIN "brenvik_work_stored" s ON d."no" = s."no" AND d.brenvik_effective = s.brenvik_effective
), new_left AS (
SELECT d."no", d.brenvik_no, row_number() OVER (PARTITION BY d."no" ORDER BY d.brenvik_effective) AS brenvik_nth
FROM "brenvik_work_desired" d
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.brenvik_no = d.brenvik_no)
), old_left AS (
SELECT s."no", s.brenvik_locator, row_number() OVER (PARTITION BY s."no" ORDER BY s.brenvik_effective) AS brenvik_nth
FROM "brenvik_work_stored" s
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.brenvik_locator = s.brenvik_locator)
)
SELECT brenvik_no, brenvik_locator FROM exact
UNION ALL
SELECT d.brenvik_no, s.brenvik_locator FROM new_left d JOIN old_left s ON d."no" = s."no" AND d.brenvik_nth = s.brenvik_nth;

INSERT INTO "brenvik_work_closes" SELECT s.brenvik_locator, d.brenvik_until, d.brenvik_ended 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE NOT ((d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."phone" IS DISTINCT FROM s."phone")) AND ((d."brenvik_until" IS DISTINCT FROM s."brenvik_until" OR d."brenvik_ended" IS DISTINCT FROM s."brenvik_ended") OR s.brenvik_flagged <> CASE WHEN d.brenvik_until IS NULL THEN 1 ELSE 0 END);

CREATE TEMP TABLE "brenvik_work_sets" AS SELECT s.brenvik_locator, d."brenvik_effective", d."brenvik_until", d."brenvik_ended", d."name", d."phone" 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE (d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."phone" IS DISTINCT FROM s."phone");

CREATE TEMP TABLE "brenvik_work_adds" AS SELECT d.brenvik_no FROM "brenvik_work_desired" d WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_no = d.brenvik_no);

INSERT INTO "brenvik_work_removes" SELECT s.brenvik_locator FROM "brenvik_work_stored" s WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_locator = s.brenvik_locator);

INSERT INTO "brenvik_work_sets"
SELECT t."rowid", t."valid_from", t."valid_to", CASE WHEN t."is_deleted" THEN 1 ELSE 0 END,
  t."name", x."phone"
FROM (
  SELECT DISTINCT d."no", d."phone" FROM "brenvik_work_desired" d
) x
JOIN "brenvik_work_busy" b ON b."no" = x."no" AND b.brenvik_full = 0
JOIN "buoy" t ON t."no" = x."no"
WHERE NOT (t."valid_to" IS NULL) AND (x."phone" IS DISTINCT FROM t."phone");

SELECT (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0) AS before, (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0 AND NOT EXISTS (SELECT 1 FROM "brenvik_work_desired" d WHERE d."no" = s."no" AND d.brenvik_until IS NULL)) AS lost,
  (SELECT count(*) FROM "brenvik_work_desired" d WHERE d.brenvik_until IS NULL) AS after;

SELECT brenvik_decision, count(*) AS n FROM "brenvik_work_judged" WHERE brenvik_new = 1 GROUP BY brenvik_decision;

SELECT (SELECT count(*) FROM "brenvik_work_screened") AS "screened", (SELECT count(*) FROM "brenvik_work_plain") AS "plain", (SELECT count(*) FROM "brenvik_work_duplicates") AS "duplicates";

CREATE TEMP TABLE "brenvik_work_spread" AS
SELECT t."rowid" AS brenvik_locator, p.brenvik_arrival
FROM "brenvik_work_plain" p
JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
JOIN "buoy" t ON t."no" = c."no"
WHERE p.brenvik_sets = 1 AND NOT (t."valid_to" IS NULL) AND (c."phone" IS DISTINCT FROM t."phone");

UPDATE "buoy" SET "valid_to" = s.brenvik_until, "is_current" = (s.brenvik_until IS NULL), "is_deleted" = (s.brenvik_ended = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_closes" s WHERE "buoy"."rowid" = s.brenvik_locator;

SELECT max(CASE WHEN c."phone" IS DISTINCT FROM p.brenvik_was_1 THEN 1 ELSE 0 END) AS "phone"
FROM "brenvik_work_plain" p JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
WHERE p.brenvik_sets = 1;

UPDATE "buoy" SET "phone" = s."phone", "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (
  SELECT r.brenvik_locator, c.brenvik_shape, c."phone"
  FROM (SELECT brenvik_locator, brenvik_arrival FROM "brenvik_work_plain" WHERE brenvik_sets = 1) r JOIN "brenvik_work_screened" c ON c.brenvik_arrival = r.brenvik_arrival
) s WHERE "buoy"."rowid" = s.brenvik_locator;

INSERT INTO "buoy" ("buoy_key", "no", "name", "phone", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at")
SELECT :last_key + row_number() OVER (), n."no", n."name", n."phone", n.brenvik_start, CAST(n.brenvik_end AS TIMESTAMP), n.brenvik_open, n.brenvik_ended, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP)
FROM (
SELECT c."no", c."name" AS "name", c."phone" AS "phone", c.brenvik_effective AS brenvik_start, NULL AS brenvik_end,
  TRUE AS brenvik_open, FALSE AS brenvik_ended
FROM "brenvik_work_plain" p JOIN "brenvik_work_screened" c ON c.brenvik_arrival = p.brenvik_arrival
WHERE p.brenvik_decided IN (1, 2) UNION ALL 
SELECT d."no", d."name", d."phone", d.brenvik_effective AS brenvik_start, d.brenvik_until AS brenvik_end,
  (d.brenvik_until IS NULL) AS brenvik_open, (d.brenvik_ended = 1) AS brenvik_ended
FROM "brenvik_work_adds" a JOIN "brenvik_work_desired" d ON d.brenvik_no = a.brenvik_no) n;

INSERT INTO "brenvik"."changes_of_buoy" (brenvik_run, "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "no", "name", "phone")
SELECT :run, c."brenvik_arrival", c."brenvik_shape", c."brenvik_delete", c."brenvik_effective", c."no", c."name", c."phone"
FROM "brenvik_work_screened" c
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival);

INSERT INTO "brenvik"."rejects" ("reject", "table_name", "feed", "run", "file", "line", "column_name", "value", "reason", "content", "state", "rejected_at", "decided_by")
SELECT :last_reject + row_number() OVER (ORDER BY r.brenvik_arrival), :table_name, :feed, :run, NULL,
  CASE WHEN r.brenvik_arrival % 1000000000000 < 200000000000 THEN CAST(floor((r.brenvik_arrival % 1000000000000) / 2) AS BIGINT) END, r.brenvik_column, r.brenvik_value, r.brenvik_reason, r.brenvik_row, 'open',
  CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_rejected" r
WHERE r.brenvik_again = 0;

INSERT INTO "brenvik"."refused_keys" ("table_name", "run", "key")
SELECT :table_name, :run, CAST(r."no" AS TEXT) FROM "brenvik_work_refused_keys" r;

-- Run 4: revert 2

CREATE TEMP TABLE "brenvik_work_explicit" AS SELECT k."brenvik_run", k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."no", k."name", k."phone" FROM "brenvik"."changes_of_buoy" k WHERE 1 = 0;

CREATE TEMP TABLE "brenvik_work_left_out" (run BIGINT);

INSERT INTO "brenvik_work_left_out" (run) VALUES (:left_out_0);

CREATE TEMP VIEW "brenvik_work_counting" AS
SELECT k."brenvik_run", k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."no", k."name", k."phone" FROM "brenvik"."changes_of_buoy" k
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_left_out" o WHERE o.run = k.brenvik_run);

CREATE TEMP TABLE "brenvik_work_screened" AS
SELECT k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."no", k."name", k."phone" FROM "brenvik"."changes_of_buoy" k WHERE 1 = 0;

CREATE TEMP TABLE "brenvik_work_busy" AS
SELECT DISTINCT b."no", 1 AS brenvik_full FROM (SELECT k."no" FROM "brenvik"."changes_of_buoy" k WHERE k.brenvik_run IN (2) AND NOT EXISTS (
  SELECT 1 FROM "brenvik"."changes_of_buoy" o WHERE o.brenvik_run = :to_run AND o."no" = k."no")) b;

CREATE TEMP TABLE "brenvik_work_duplicates" AS SELECT c.brenvik_arrival FROM "brenvik_work_screened" c WHERE 1 = 0;

CREATE TEMP TABLE "brenvik_work_judged" AS
WITH events ("no", "brenvik_effective", "brenvik_rank", "brenvik_run", "brenvik_arrival", "brenvik_new", "brenvik_delete", "brenvik_shape", "name", "phone") AS (
SELECT c."no",
  c.brenvik_effective, 1, :run, c.brenvik_arrival, 1, c.brenvik_delete, c.brenvik_shape,
  c."name", c."phone"
FROM "brenvik_work_screened" c
WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."no" = c."no")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival) UNION ALL 
SELECT k."no",
  k.brenvik_effective, 1, k.brenvik_run, k.brenvik_arrival, 0, k.brenvik_delete, k.brenvik_shape,
  k."name", k."phone"
FROM "brenvik_work_busy" b
JOIN "brenvik_work_counting" k ON k."no" = b."no"
WHERE b.brenvik_full = 1
), placed AS (
  SELECT e.*,
    row_number() OVER (PARTITION BY e."no" ORDER BY brenvik_effective, "brenvik_rank", "brenvik_run", "brenvik_arrival") AS brenvik_at,
    CASE WHEN lead(brenvik_effective) OVER (PARTITION BY e."no" ORDER BY brenvik_effective, "brenvik_rank", "brenvik_run", "brenvik_arrival") = brenvik_effective THEN 1 ELSE 0 END AS brenvik_passed,
    first_value(brenvik_delete) OVER (PARTITION BY e."no", brenvik_effective ORDER BY "brenvik_rank" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_arrival" DESC NULLS FIRST) AS brenvik_gone
  FROM events e
), counted AS (
  SELECT p.*, 1 - p.brenvik_passed AS brenvik_counts,
    max(CASE WHEN p.brenvik_new = 0 THEN p.brenvik_at END) OVER (PARTITION BY p."no", p.brenvik_effective) AS brenvik_replaces,
    first_value(p.brenvik_delete) OVER (
      PARTITION BY p."no", p.brenvik_effective ORDER BY p.brenvik_new, p.brenvik_at DESC) AS brenvik_replaced_delete
  FROM placed p
), lived AS (
  SELECT m.*
  FROM (
    SELECT q.*,
      sum(q.brenvik_delete) OVER (PARTITION BY q."no" ORDER BY q.brenvik_at ROWS UNBOUNDED PRECEDING) AS brenvik_life
    FROM counted q
    WHERE q.brenvik_counts = 1 OR (q.brenvik_gone = 0 AND q.brenvik_delete = 0)
  ) m
), states AS (
  SELECT l."no", l."brenvik_effective", l."brenvik_arrival", l."brenvik_shape", l."brenvik_delete", l."brenvik_new", l."brenvik_at", l."brenvik_life", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_counts",
    max(CASE WHEN l.brenvik_new = 0 AND l.brenvik_delete = 0 THEN 1 ELSE 0 END) OVER (PARTITION BY l."no", l.brenvik_life) AS brenvik_lived,
    l."name" AS "name", l."phone" AS "phone"
  FROM lived l
), compared AS (
  SELECT s.*, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."name") OVER (PARTITION BY s."no", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."name") OVER (PARTITION BY s."no", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_0, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."phone") OVER (PARTITION BY s."no", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."phone") OVER (PARTITION BY s."no", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_1
  FROM states s
), lined AS (
  SELECT s."no", s."brenvik_effective", s."brenvik_arrival", s."brenvik_shape", s."brenvik_delete", s."brenvik_new", s."brenvik_at", s."brenvik_life", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_lived", s."name", s.brenvik_was_0, s."phone", s.brenvik_was_1, lag(s."name") OVER brenvik_line AS brenvik_prev_0,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_at) OVER brenvik_line, 0) AS brenvik_prev_at,
    max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_life END) OVER (PARTITION BY s."no") AS brenvik_last_life,
    max(s.brenvik_life) OVER (PARTITION BY s."no") AS brenvik_deaths
  FROM compared s
  WHERE s.brenvik_counts = 1
  WINDOW brenvik_line AS (PARTITION BY s."no" ORDER BY s.brenvik_at)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR (j."name" IS DISTINCT FROM j.brenvik_prev_0)) THEN 1 ELSE 0 END AS brenvik_starts,
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
    WHEN (j."name" IS DISTINCT FROM j.brenvik_was_0) THEN 'versioned'
    WHEN (j."phone" IS DISTINCT FROM j.brenvik_was_1) OR 1 = 0 THEN 'overwritten'
    WHEN 1 = 0 THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_desired" AS
WITH lasts AS (
  SELECT j."no", j.brenvik_effective, j.brenvik_delete, j.brenvik_at, j.brenvik_life, j.brenvik_last_life, j.brenvik_deaths,
    j.brenvik_starts, j.brenvik_prev_delete, first_value(j."phone") OVER (PARTITION BY j."no" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_at DESC) AS "phone", j."name"
  FROM "brenvik_work_judged" j
), spans AS (
  SELECT j.*, lead(j.brenvik_effective) OVER (PARTITION BY j."no" ORDER BY j.brenvik_at) AS brenvik_until, lead(j.brenvik_delete) OVER (PARTITION BY j."no" ORDER BY j.brenvik_at) AS brenvik_ended
  FROM lasts j
  WHERE j.brenvik_starts = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
)
SELECT row_number() OVER (ORDER BY v."no", v.brenvik_effective) AS brenvik_no,
  v."no", v.brenvik_effective, v.brenvik_until, COALESCE(v.brenvik_ended, 0) AS brenvik_ended
  , v."name", v."phone"
FROM spans v
WHERE v.brenvik_delete = 0 AND 1 = 1;

INSERT INTO "brenvik_work_explicit" ("brenvik_run", "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "no", "name", "phone")
SELECT :to_run, :explicit_from + 2 * row_number() OVER (ORDER BY b."no"), 1, 0, CAST(:extract_at AS TIMESTAMP), b."no", d."name", d."phone"
FROM "brenvik_work_busy" b JOIN "brenvik_work_desired" d ON d."no" = b."no" AND d.brenvik_until IS NULL WHERE NOT EXISTS (SELECT 1 FROM (SELECT r.key FROM "brenvik"."refused_keys" r WHERE r.table_name = :table_name AND r.run = :to_run) r WHERE r.key = CAST(b."no" AS TEXT));

INSERT INTO "brenvik_work_explicit" ("brenvik_run", "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "no", "name", "phone")
SELECT :to_run, :explicit_from + 2 * row_number() OVER (ORDER BY b."no"), 1, 1, CAST(:extract_at AS TIMESTAMP), b."no", CAST(NULL AS TEXT), CAST(NULL AS TEXT)
FROM "brenvik_work_busy" b WHERE NOT EXISTS (SELECT 1 FROM (SELECT r.key FROM "brenvik"."refused_keys" r WHERE r.table_name = :table_name AND r.run = :to_run) r WHERE r.key = CAST(b."no" AS TEXT)) AND NOT EXISTS (SELECT 1 FROM "brenvik_work_desired" d WHERE d."no" = b."no" AND d.brenvik_until IS NULL);

DROP VIEW "brenvik_work_counting";

DROP TABLE "brenvik_work_left_out";

DROP TABLE "brenvik_work_screened";

DROP TABLE "brenvik_work_busy";

DROP TABLE "brenvik_work_duplicates";

DROP TABLE "brenvik_work_judged";

DROP TABLE "brenvik_work_desired";

CREATE TEMP TABLE "brenvik_work_left_out" (run BIGINT);

INSERT INTO "brenvik_work_left_out" (run) VALUES (:left_out_0);

CREATE TEMP VIEW "brenvik_work_counting" AS
SELECT k."brenvik_run", k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."no", k."name", k."phone" FROM "brenvik"."changes_of_buoy" k
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_left_out" o WHERE o.run = k.brenvik_run) UNION ALL SELECT k."brenvik_run", k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."no", k."name", k."phone" FROM "brenvik_work_explicit" k WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_left_out" o WHERE o.run = k.brenvik_run);

CREATE TEMP TABLE "brenvik_work_busy" AS
SELECT DISTINCT b."no", 1 AS brenvik_full FROM (SELECT k."no" FROM "brenvik"."changes_of_buoy" k WHERE k.brenvik_run IN (2)) b;

CREATE TEMP TABLE "brenvik_work_screened" AS
SELECT k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."no", k."name", k."phone" FROM "brenvik"."changes_of_buoy" k WHERE 1 = 0;

SELECT (SELECT count(*) FROM "brenvik_work_busy") AS "busy";

CREATE TEMP TABLE "brenvik_work_plain" AS
SELECT
  c.brenvik_arrival, c.brenvik_effective, t."rowid" AS brenvik_locator,
  CASE WHEN t."rowid" IS NULL AND c.brenvik_delete = 1 THEN 0 WHEN t."rowid" IS NULL THEN 1 WHEN c.brenvik_delete = 1 THEN 4 WHEN (c."name" IS DISTINCT FROM t."name") THEN 2 WHEN (c."phone" IS DISTINCT FROM t."phone") THEN 3 ELSE 6 END AS brenvik_decided,
  CASE WHEN c.brenvik_delete = 0 AND t."rowid" IS NOT NULL AND (c."phone" IS DISTINCT FROM t."phone") THEN 1 ELSE 0 END AS brenvik_sets,
  CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."phone" IS DISTINCT FROM t."phone") THEN t."phone" END AS brenvik_was_1
FROM "brenvik_work_screened" c
LEFT JOIN "buoy" t ON t."no" = c."no" AND t."valid_to" IS NULL
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."no" = c."no");

UPDATE "brenvik_work_plain" SET brenvik_decided = 0
WHERE "brenvik_work_plain".brenvik_decided IN (1) AND EXISTS (
  SELECT 1 FROM "brenvik_work_screened" c
  JOIN "buoy" t ON t."no" = c."no"
  WHERE c.brenvik_arrival = "brenvik_work_plain".brenvik_arrival AND NOT (t."valid_to" IS NULL));

SELECT CASE p.brenvik_decided WHEN 0 THEN 'full' WHEN 1 THEN 'inserted' WHEN 2 THEN 'versioned' WHEN 3 THEN 'overwritten' WHEN 4 THEN 'deleted' WHEN 5 THEN 'protected' WHEN 6 THEN 'unchanged' END AS brenvik_decision, n, sets FROM (SELECT brenvik_decided, count(*) AS n, CAST(sum(brenvik_sets) AS BIGINT) AS sets FROM "brenvik_work_plain" GROUP BY brenvik_decided) p;

CREATE TEMP TABLE "brenvik_work_closes" AS
SELECT p.brenvik_locator, p.brenvik_effective AS brenvik_until, CASE WHEN p.brenvik_decided IN (4) THEN 1 ELSE 0 END AS brenvik_ended
FROM "brenvik_work_plain" p
WHERE p.brenvik_decided IN (2, 4);

CREATE TEMP TABLE "brenvik_work_removes" AS SELECT brenvik_locator FROM "brenvik_work_plain" WHERE 1 = 0;

CREATE TEMP TABLE "brenvik_work_duplicates" AS SELECT c.brenvik_arrival FROM "brenvik_work_screened" c WHERE 1 = 0;

CREATE TEMP TABLE "brenvik_work_judged" AS
WITH events ("no", "brenvik_effective", "brenvik_rank", "brenvik_run", "brenvik_arrival", "brenvik_new", "brenvik_delete", "brenvik_shape", "name", "phone") AS (
SELECT c."no",
  c.brenvik_effective, 1, :run, c.brenvik_arrival, 1, c.brenvik_delete, c.brenvik_shape,
  c."name", c."phone"
FROM "brenvik_work_screened" c
WHERE EXISTS (SELECT 1 FROM "brenvik_work_busy" b WHERE b."no" = c."no")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_arrival = c.brenvik_arrival) UNION ALL 
SELECT k."no",
  k.brenvik_effective, 1, k.brenvik_run, k.brenvik_arrival, 0, k.brenvik_delete, k.brenvik_shape,
  k."name", k."phone"
FROM "brenvik_work_busy" b
JOIN "brenvik_work_counting" k ON k."no" = b."no"
WHERE b.brenvik_full = 1
), placed AS (
  SELECT e.*,
    row_number() OVER (PARTITION BY e."no" ORDER BY brenvik_effective, "brenvik_rank", "brenvik_run", "brenvik_arrival") AS brenvik_at,
    CASE WHEN lead(brenvik_effective) OVER (PARTITION BY e."no" ORDER BY brenvik_effective, "brenvik_rank", "brenvik_run", "brenvik_arrival") = brenvik_effective THEN 1 ELSE 0 END AS brenvik_passed,
    first_value(brenvik_delete) OVER (PARTITION BY e."no", brenvik_effective ORDER BY "brenvik_rank" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_arrival" DESC NULLS FIRST) AS brenvik_gone
  FROM events e
), counted AS (
  SELECT p.*, 1 - p.brenvik_passed AS brenvik_counts,
    max(CASE WHEN p.brenvik_new = 0 THEN p.brenvik_at END) OVER (PARTITION BY p."no", p.brenvik_effective) AS brenvik_replaces,
    first_value(p.brenvik_delete) OVER (
      PARTITION BY p."no", p.brenvik_effective ORDER BY p.brenvik_new, p.brenvik_at DESC) AS brenvik_replaced_delete
  FROM placed p
), lived AS (
  SELECT m.*
  FROM (
    SELECT q.*,
      sum(q.brenvik_delete) OVER (PARTITION BY q."no" ORDER BY q.brenvik_at ROWS UNBOUNDED PRECEDING) AS brenvik_life
    FROM counted q
    WHERE q.brenvik_counts = 1 OR (q.brenvik_gone = 0 AND q.brenvik_delete = 0)
  ) m
), states AS (
  SELECT l."no", l."brenvik_effective", l."brenvik_arrival", l."brenvik_shape", l."brenvik_delete", l."brenvik_new", l."brenvik_at", l."brenvik_life", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_counts",
    max(CASE WHEN l.brenvik_new = 0 AND l.brenvik_delete = 0 THEN 1 ELSE 0 END) OVER (PARTITION BY l."no", l.brenvik_life) AS brenvik_lived,
    l."name" AS "name", l."phone" AS "phone"
  FROM lived l
), compared AS (
  SELECT s.*, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."name") OVER (PARTITION BY s."no", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."name") OVER (PARTITION BY s."no", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_0, CASE WHEN s.brenvik_new = 1 AND s.brenvik_replaces IS NOT NULL THEN first_value(s."phone") OVER (PARTITION BY s."no", s.brenvik_effective ORDER BY s.brenvik_new, s.brenvik_at DESC) ELSE lag(s."phone") OVER (PARTITION BY s."no", s.brenvik_counts ORDER BY s.brenvik_at) END AS brenvik_was_1
  FROM states s
), lined AS (
  SELECT s."no", s."brenvik_effective", s."brenvik_arrival", s."brenvik_shape", s."brenvik_delete", s."brenvik_new", s."brenvik_at", s."brenvik_life", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_lived", s."name", s.brenvik_was_0, s."phone", s.brenvik_was_1, lag(s."name") OVER brenvik_line AS brenvik_prev_0,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_at) OVER brenvik_line, 0) AS brenvik_prev_at,
    max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_life END) OVER (PARTITION BY s."no") AS brenvik_last_life,
    max(s.brenvik_life) OVER (PARTITION BY s."no") AS brenvik_deaths
  FROM compared s
  WHERE s.brenvik_counts = 1
  WINDOW brenvik_line AS (PARTITION BY s."no" ORDER BY s.brenvik_at)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR (j."name" IS DISTINCT FROM j.brenvik_prev_0)) THEN 1 ELSE 0 END AS brenvik_starts,
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
    WHEN (j."name" IS DISTINCT FROM j.brenvik_was_0) THEN 'versioned'
    WHEN (j."phone" IS DISTINCT FROM j.brenvik_was_1) OR 1 = 0 THEN 'overwritten'
    WHEN 1 = 0 THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_desired" AS
WITH lasts AS (
  SELECT j."no", j.brenvik_effective, j.brenvik_delete, j.brenvik_at, j.brenvik_life, j.brenvik_last_life, j.brenvik_deaths,
    j.brenvik_starts, j.brenvik_prev_delete, first_value(j."phone") OVER (PARTITION BY j."no" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_at DESC) AS "phone", j."name"
  FROM "brenvik_work_judged" j
), spans AS (
  SELECT j.*, lead(j.brenvik_effective) OVER (PARTITION BY j."no" ORDER BY j.brenvik_at) AS brenvik_until, lead(j.brenvik_delete) OVER (PARTITION BY j."no" ORDER BY j.brenvik_at) AS brenvik_ended
  FROM lasts j
  WHERE j.brenvik_starts = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
)
SELECT row_number() OVER (ORDER BY v."no", v.brenvik_effective) AS brenvik_no,
  v."no", v.brenvik_effective, v.brenvik_until, COALESCE(v.brenvik_ended, 0) AS brenvik_ended
  , v."name", v."phone"
FROM spans v
WHERE v.brenvik_delete = 0 AND 1 = 1;

CREATE TEMP TABLE "brenvik_work_stored" AS
SELECT t."rowid" AS brenvik_locator, t."no", CAST(t."valid_from" AS TIMESTAMP) AS brenvik_effective, CAST(CASE WHEN t."valid_to" IS NULL THEN NULL ELSE t."valid_to" END AS TIMESTAMP) AS brenvik_until, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_ended, t."name", t."phone", b.brenvik_full, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged
FROM "buoy" t
JOIN "brenvik_work_busy" b ON b."no" = t."no" AND (b.brenvik_full = 1 OR t."valid_to" IS NULL);

SELECT count(DISTINCT q.brenvik_key) AS n, min(q.brenvik_key) AS key FROM (SELECT CAST(s."no" AS TEXT) AS brenvik_key FROM "brenvik_work_stored" s WHERE NOT EXISTS (SELECT 1 FROM "brenvik"."changes_of_buoy" e WHERE e."no" = s."no" AND e.brenvik_effective = s.brenvik_effective) UNION ALL SELECT CAST(s."no" AS TEXT) AS brenvik_key FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NOT NULL AND NOT EXISTS (SELECT 1 FROM "brenvik"."changes_of_buoy" e WHERE e."no" = s."no" AND e.brenvik_effective = s.brenvik_until)) q;

CREATE TEMP TABLE "brenvik_work_pairs" AS
WITH exact AS (
  SELECT m.brenvik_no, min(m.brenvik_locator) AS brenvik_locator FROM (SELECT d.brenvik_no, s.brenvik_locator FROM "brenvik_work_desired" d JOIN "brenvik_work_stored" s ON d."no" = s."no" AND d.brenvik_effective = s.brenvik_effective) m GROUP BY m.brenvik_no
), new_left AS (
SELECT d."no", d.brenvik_no, row_number() OVER (PARTITION BY d."no" ORDER BY d.brenvik_effective) AS brenvik_nth
FROM "brenvik_work_desired" d
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.brenvik_no = d.brenvik_no)
), old_left AS (
SELECT s."no", s.brenvik_locator, row_number() OVER (PARTITION BY s."no" ORDER BY s.brenvik_effective) AS brenvik_nth
FROM "brenvik_work_stored" s
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.brenvik_locator = s.brenvik_locator)
)
SELECT brenvik_no, brenvik_locator FROM exact
UNION ALL
SELECT d.brenvik_no, s.brenvik_locator FROM new_left d JOIN old_left s ON d."no" = s."no" AND d.brenvik_nth = s.brenvik_nth;

INSERT INTO "brenvik_work_closes" SELECT s.brenvik_locator, d.brenvik_until, d.brenvik_ended 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE NOT ((d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."phone" IS DISTINCT FROM s."phone")) AND ((d."brenvik_until" IS DISTINCT FROM s."brenvik_until" OR d."brenvik_ended" IS DISTINCT FROM s."brenvik_ended") OR s.brenvik_flagged <> CASE WHEN d.brenvik_until IS NULL THEN 1 ELSE 0 END);

CREATE TEMP TABLE "brenvik_work_sets" AS SELECT s.brenvik_locator, d."brenvik_effective", d."brenvik_until", d."brenvik_ended", d."name", d."phone" 
FROM "brenvik_work_pairs" p
JOIN "brenvik_work_desired" d ON d.brenvik_no = p.brenvik_no
JOIN "brenvik_work_stored" s ON s.brenvik_locator = p.brenvik_locator WHERE (d."brenvik_effective" IS DISTINCT FROM s."brenvik_effective" OR d."name" IS DISTINCT FROM s."name" OR d."phone" IS DISTINCT FROM s."phone");

CREATE TEMP TABLE "brenvik_work_adds" AS SELECT d.brenvik_no FROM "brenvik_work_desired" d WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_no = d.brenvik_no);

INSERT INTO "brenvik_work_removes" SELECT s.brenvik_locator FROM "brenvik_work_stored" s WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_pairs" p WHERE p.brenvik_locator = s.brenvik_locator);

INSERT INTO "brenvik_work_sets"
SELECT t."rowid", t."valid_from", t."valid_to", CASE WHEN t."is_deleted" THEN 1 ELSE 0 END,
  t."name", x."phone"
FROM (
  SELECT DISTINCT d."no", d."phone" FROM "brenvik_work_desired" d
) x
JOIN "brenvik_work_busy" b ON b."no" = x."no" AND b.brenvik_full = 0
JOIN "buoy" t ON t."no" = x."no"
WHERE NOT (t."valid_to" IS NULL) AND (x."phone" IS DISTINCT FROM t."phone");

SELECT (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0) AS before, (SELECT count(*) FROM "brenvik_work_stored" s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0 AND NOT EXISTS (SELECT 1 FROM "brenvik_work_desired" d WHERE d."no" = s."no" AND d.brenvik_until IS NULL)) AS lost,
  (SELECT count(*) FROM "brenvik_work_desired" d WHERE d.brenvik_until IS NULL) AS after;

SELECT r."no", CAST(sum(r.added) AS BIGINT) AS brenvik_added, CAST(sum(r.changed) AS BIGINT) AS brenvik_changed, CAST(sum(r.removed) AS BIGINT) AS brenvik_removed FROM (SELECT o."no", 1 AS added, 0 AS changed, 0 AS removed FROM "brenvik_work_adds" w JOIN "brenvik_work_desired" o ON o.brenvik_no = w.brenvik_no UNION ALL SELECT o."no", 0 AS added, 1 AS changed, 0 AS removed FROM "brenvik_work_sets" w JOIN "brenvik_work_stored" o ON o.brenvik_locator = w.brenvik_locator UNION ALL SELECT o."no", 0 AS added, 1 AS changed, 0 AS removed FROM "brenvik_work_closes" w JOIN "brenvik_work_stored" o ON o.brenvik_locator = w.brenvik_locator UNION ALL SELECT o."no", 0 AS added, 0 AS changed, 1 AS removed FROM "brenvik_work_removes" w JOIN "brenvik_work_stored" o ON o.brenvik_locator = w.brenvik_locator) r GROUP BY r."no" ORDER BY r."no";

UPDATE "buoy" SET "valid_to" = s.brenvik_until, "is_current" = (s.brenvik_until IS NULL), "is_deleted" = (s.brenvik_ended = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_closes" s WHERE "buoy"."rowid" = s.brenvik_locator;

SELECT max(CASE WHEN t."valid_from" IS DISTINCT FROM s."brenvik_effective" THEN 1 ELSE 0 END) AS "brenvik_effective", max(CASE WHEN t."valid_to" IS DISTINCT FROM COALESCE(s."brenvik_until", NULL) THEN 1 ELSE 0 END) AS "brenvik_until", max(CASE WHEN t."is_deleted" IS DISTINCT FROM (s."brenvik_ended" = 1) THEN 1 ELSE 0 END) AS "brenvik_ended", max(CASE WHEN t."name" IS DISTINCT FROM s."name" THEN 1 ELSE 0 END) AS "name", max(CASE WHEN t."phone" IS DISTINCT FROM s."phone" THEN 1 ELSE 0 END) AS "phone"
FROM "brenvik_work_sets" s
JOIN "buoy" t ON t."rowid" = s.brenvik_locator;

UPDATE "buoy" SET "phone" = s."phone", "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_sets" s WHERE "buoy"."rowid" = s.brenvik_locator;

DELETE FROM "buoy" WHERE "buoy"."rowid" IN (SELECT r.brenvik_locator FROM "brenvik_work_removes" r);

INSERT INTO "brenvik"."changes_of_buoy" ("brenvik_run", "brenvik_arrival", "brenvik_shape", "brenvik_delete", "brenvik_effective", "no", "name", "phone")
SELECT k."brenvik_run", k."brenvik_arrival", k."brenvik_shape", k."brenvik_delete", k."brenvik_effective", k."no", k."name", k."phone" FROM "brenvik_work_explicit" k;

SELECT CAST(max(c.brenvik_effective) AS TEXT) AS brenvik_high FROM "brenvik_work_counting" c;

