-- Run 4: trim what is older than 1 hour

CREATE TEMP VIEW "brenvik_work_unreverted_changes" AS
SELECT k."brenvik_run", k."brenvik_sequence_no", k."brenvik_column_set", k."brenvik_delete", k."brenvik_effective_at", k."buoy_code", k."at", k."entry", k."name", k."colour", k."keeper", k."since" FROM "brenvik"."change_log_buoy" k WHERE k.brenvik_run NOT IN (2);

CREATE TEMP TABLE "brenvik_work_old_changes" AS
WITH unsettled AS (
  SELECT k."buoy_code", min(k.brenvik_effective_at) AS brenvik_limit
  FROM "brenvik"."change_log_buoy" k WHERE NOT (k.brenvik_run <= :settled_run AND k.brenvik_effective_at < CAST(:settled_before AS TIMESTAMP) AND NOT EXISTS (SELECT 1 FROM (
  SELECT r.run, r.reverted_by, r.undone_by FROM "brenvik"."reverted_runs" r WHERE r.table_name = :table_name) w WHERE w.run = k.brenvik_run AND (w.reverted_by > :settled_run OR w.undone_by > :settled_run))) GROUP BY k."buoy_code"
), settled AS (
  SELECT k."brenvik_run", k."brenvik_sequence_no", k."brenvik_column_set", k."brenvik_delete", k."brenvik_effective_at", k."buoy_code", k."at", k."entry", k."name", k."colour", k."keeper", k."since"
  FROM "brenvik_work_unreverted_changes" k LEFT JOIN unsettled u ON u."buoy_code" = k."buoy_code"
  WHERE k.brenvik_run <= :settled_run AND k.brenvik_effective_at < CAST(:settled_before AS TIMESTAMP) AND NOT EXISTS (SELECT 1 FROM (
  SELECT r.run, r.reverted_by, r.undone_by FROM "brenvik"."reverted_runs" r WHERE r.table_name = :table_name) w WHERE w.run = k.brenvik_run AND (w.reverted_by > :settled_run OR w.undone_by > :settled_run)) AND (u.brenvik_limit IS NULL OR k.brenvik_effective_at < u.brenvik_limit)
), lasts AS (
  SELECT k."buoy_code", max(k.brenvik_effective_at) AS brenvik_last FROM settled k GROUP BY k."buoy_code"
)
SELECT s."brenvik_run", s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."buoy_code", s."at", s."entry", s."name", s."colour", s."keeper", s."since",
  CASE WHEN row_number() OVER (PARTITION BY s."buoy_code", s."brenvik_effective_at" ORDER BY s."at" DESC, s."entry" DESC, s."brenvik_run" DESC, s."brenvik_sequence_no" DESC) = 1 THEN 1 ELSE 0 END AS brenvik_counts,
  count(*) OVER (PARTITION BY s."buoy_code") AS brenvik_of_key
FROM settled s JOIN lasts l ON l."buoy_code" = s."buoy_code" AND s.brenvik_effective_at < l.brenvik_last;

CREATE TEMP TABLE "brenvik_work_replay_keys" AS
SELECT o."buoy_code", 1 AS brenvik_full_replay FROM "brenvik_work_old_changes" o GROUP BY o."buoy_code" HAVING count(*) > 1 AND max(o.brenvik_column_set) > 0;

CREATE TEMP TABLE "brenvik_work_decided" AS
WITH events ("buoy_code", "brenvik_effective_at", "brenvik_rank", "brenvik_run", "brenvik_sequence_no", "brenvik_is_new", "brenvik_delete", "brenvik_column_set", "at", "entry", "name", "colour", "keeper", "since", "brenvik_earlier_2") AS (
SELECT k."buoy_code",
  k.brenvik_effective_at, 1, k.brenvik_run, k.brenvik_sequence_no, 0, k.brenvik_delete, k.brenvik_column_set,
  k."at", k."entry", k."name", k."colour", k."keeper", k."since",
  CAST(NULL AS TEXT)
FROM "brenvik_work_beside_replay_keys" b
JOIN "brenvik_work_beside_old_changes" k ON k."buoy_code" = b."buoy_code"
WHERE b.brenvik_full_replay = 1
), placed AS (
  SELECT e.*,
    row_number() OVER brenvik_line AS brenvik_position,
    CASE WHEN lead(brenvik_effective_at) OVER brenvik_line = brenvik_effective_at THEN 1 ELSE 0 END AS brenvik_is_superseded,
    first_value(brenvik_delete) OVER (PARTITION BY e."buoy_code", brenvik_effective_at ORDER BY "brenvik_rank" DESC NULLS FIRST, "at" DESC NULLS FIRST, "entry" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_sequence_no" DESC NULLS FIRST) AS brenvik_ends_deleted
  FROM events e
  WINDOW brenvik_line AS (PARTITION BY e."buoy_code" ORDER BY brenvik_effective_at, "brenvik_rank", "at", "entry", "brenvik_run", "brenvik_sequence_no")
), lived AS (SELECT m.*, sum(CASE WHEN m.brenvik_column_set NOT IN (2) THEN 1 ELSE 0 END) OVER (PARTITION BY m."buoy_code", m.brenvik_lifetime, m.brenvik_delete ORDER BY m.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_step_0, sum(CASE WHEN m.brenvik_column_set NOT IN (2) THEN 1 ELSE 0 END) OVER (PARTITION BY m."buoy_code", m.brenvik_lifetime, m.brenvik_delete ORDER BY m.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_step_2 FROM (
  SELECT p.*, 1 - p.brenvik_is_superseded AS brenvik_is_last, sum(CASE WHEN p.brenvik_is_superseded = 0 THEN p.brenvik_delete ELSE 0 END) OVER (PARTITION BY p."buoy_code" ORDER BY p.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_lifetime, CAST(NULL AS BIGINT) AS brenvik_replaces, CAST(NULL AS BIGINT) AS brenvik_replaced_delete
  FROM placed p
  WHERE p.brenvik_is_superseded = 0 OR (p.brenvik_ends_deleted = 0 AND p.brenvik_delete = 0)) m
), states AS (
  SELECT l."buoy_code", l."brenvik_effective_at", l."brenvik_sequence_no", l."brenvik_column_set", l."brenvik_delete", l."brenvik_is_new", l."brenvik_position", l."brenvik_lifetime", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_earlier_2", l."brenvik_is_last", first_value(l."name") OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete, l.brenvik_step_0 ORDER BY l.brenvik_position) AS "name", l."colour", first_value(l."keeper") OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete, l.brenvik_step_2 ORDER BY l.brenvik_position) AS "keeper", first_value(l."since") OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete ORDER BY CASE WHEN l."since" IS NULL THEN 1 ELSE 0 END, l.brenvik_position) AS "since", min(CASE WHEN l."since" IS NOT NULL THEN l.brenvik_position END) OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete) AS brenvik_known_at_3, first_value(CASE WHEN l.brenvik_is_new = 0 THEN l."since" END) OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete ORDER BY CASE WHEN CASE WHEN l.brenvik_is_new = 0 THEN l."since" END IS NULL THEN 1 ELSE 0 END, l.brenvik_position) AS brenvik_prior_3, l."since" AS brenvik_source_3
  FROM lived l
), lined AS (
  SELECT s."buoy_code", s."brenvik_effective_at", s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_is_new", s."brenvik_position", s."brenvik_lifetime", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_earlier_2", s."name", lag(s."name") OVER brenvik_line AS brenvik_before_0, s."colour", lag(s."colour") OVER brenvik_line AS brenvik_before_1, lag(s."colour") OVER brenvik_line AS brenvik_prev_1, s."keeper", lag(s."keeper") OVER brenvik_line AS brenvik_before_2, lag(s."keeper") OVER brenvik_line AS brenvik_prev_2, s."since", lag(s."since") OVER brenvik_line AS brenvik_before_3, s.brenvik_known_at_3, s.brenvik_source_3, s.brenvik_prior_3,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_position) OVER brenvik_line, 0) AS brenvik_prev_position
  FROM states s
  WHERE s.brenvik_is_last = 1
  WINDOW brenvik_line AS (PARTITION BY s."buoy_code" ORDER BY s.brenvik_position)
), stepped AS ( SELECT j.*, sum(CASE WHEN j.brenvik_delete = 0 AND NOT (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) AND j."keeper" IS DISTINCT FROM j.brenvik_prev_2 THEN 1 ELSE 0 END) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime, j.brenvik_delete ORDER BY j.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_step_2 FROM lined j
), valued AS ( SELECT j.*, CASE WHEN j.brenvik_step_2 = 0 THEN first_value(j.brenvik_earlier_2) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime, j.brenvik_delete ORDER BY j.brenvik_position) ELSE first_value(j.brenvik_prev_2) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime, j.brenvik_delete, j.brenvik_step_2 ORDER BY j.brenvik_position) END AS "previous_keeper" FROM stepped j
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR j."colour" IS DISTINCT FROM j.brenvik_prev_1) THEN 1 ELSE 0 END AS brenvik_starts_version,
  CASE
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN CASE WHEN 0 = 0 THEN 'inserted' ELSE 'versioned' END
    WHEN j."colour" IS DISTINCT FROM j.brenvik_before_1 THEN 'versioned'
    WHEN j."name" IS DISTINCT FROM j.brenvik_before_0 OR j."keeper" IS DISTINCT FROM j.brenvik_before_2 OR (j.brenvik_known_at_3 > COALESCE(j.brenvik_replaces, j.brenvik_prev_position) AND j.brenvik_known_at_3 <= j.brenvik_position) THEN 'overwritten'
    WHEN (j.brenvik_column_set NOT IN (2) AND (j.brenvik_source_3 IS NOT NULL OR j.brenvik_known_at_3 <= j.brenvik_position) AND j.brenvik_source_3 IS DISTINCT FROM j."since") THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM valued j;

CREATE TEMP TABLE "brenvik_work_target_versions" AS
WITH lasts AS (
  SELECT j."buoy_code", j.brenvik_effective_at, j.brenvik_delete, j.brenvik_position, j.brenvik_starts_version, j.brenvik_prev_delete, first_value(j."name") OVER brenvik_latest AS "name", first_value(j."keeper") OVER brenvik_latest AS "keeper", first_value(j."previous_keeper") OVER brenvik_latest AS "previous_keeper", j."since", j."colour"
  FROM "brenvik_work_decided" j
  WINDOW brenvik_latest AS (PARTITION BY j."buoy_code" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_position DESC)
), spans AS (
  SELECT j.*, lead(j.brenvik_effective_at) OVER brenvik_line AS brenvik_valid_to,
    lead(j.brenvik_delete) OVER brenvik_line AS brenvik_deleted
  FROM lasts j
  WHERE j.brenvik_starts_version = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
  WINDOW brenvik_line AS (PARTITION BY j."buoy_code" ORDER BY j.brenvik_position)
)
SELECT row_number() OVER (ORDER BY v."buoy_code", v.brenvik_effective_at) AS brenvik_version_no,
  v."buoy_code", v.brenvik_effective_at, v.brenvik_valid_to, COALESCE(v.brenvik_deleted, 0) AS brenvik_deleted
  , v."name", v."colour", v."keeper", v."since", v."previous_keeper"
FROM spans v
WHERE v.brenvik_delete = 0;

CREATE TEMP TABLE "brenvik_work_base_states" AS
SELECT b."brenvik_run", b."brenvik_sequence_no", b."brenvik_column_set", b."brenvik_delete", b."brenvik_effective_at", b."buoy_code", b."at", b."entry", b."name", b."colour", b."keeper", b."since"
FROM (
  SELECT o.brenvik_run, o.brenvik_sequence_no, 0 AS brenvik_column_set, o.brenvik_delete, o.brenvik_effective_at, o."buoy_code", o."at", o."entry", CASE WHEN j.brenvik_delete = 0 THEN j."name" END AS "name", CASE WHEN j.brenvik_delete = 0 THEN j."colour" END AS "colour", CASE WHEN j.brenvik_delete = 0 THEN j."keeper" END AS "keeper", CASE WHEN j.brenvik_delete = 0 THEN j."since" END AS "since",
    o.brenvik_of_key, count(*) OVER (PARTITION BY j."buoy_code") AS brenvik_needed
  FROM (SELECT j.*, max(j.brenvik_position) OVER (PARTITION BY j."buoy_code") AS brenvik_last, max(CASE WHEN j.brenvik_delete = 0 THEN j.brenvik_position END) OVER (PARTITION BY j."buoy_code") AS brenvik_last_upsert, max(CASE WHEN j.brenvik_delete = 0 AND NOT (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) AND j."keeper" IS DISTINCT FROM j.brenvik_prev_2 THEN j.brenvik_position END) OVER (PARTITION BY j."buoy_code") AS brenvik_changed_0, max(CASE WHEN j.brenvik_delete = 0 AND NOT (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) AND j."keeper" IS DISTINCT FROM j.brenvik_prev_2 THEN j.brenvik_prev_position END) OVER (PARTITION BY j."buoy_code") AS brenvik_former_0 FROM "brenvik_work_beside_decided" j) j
  JOIN "brenvik_work_old_changes" o ON o.brenvik_counts = 1 AND o."buoy_code" = j."buoy_code" AND o."brenvik_effective_at" = j."brenvik_effective_at"
  WHERE (j.brenvik_starts_version = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0) OR j.brenvik_position = j.brenvik_last OR j.brenvik_position = j.brenvik_last_upsert OR j.brenvik_position = j.brenvik_changed_0 OR j.brenvik_position = j.brenvik_former_0)
) b
WHERE b.brenvik_needed < b.brenvik_of_key;

CREATE TEMP TABLE "brenvik_work_trimmed_keys" AS
SELECT DISTINCT b."buoy_code", 1 AS brenvik_full_replay FROM "brenvik_work_base_states" b;

CREATE TEMP VIEW "brenvik_work_trimmed_log" AS
SELECT k."brenvik_run", k."brenvik_sequence_no", k."brenvik_column_set", k."brenvik_delete", k."brenvik_effective_at", k."buoy_code", k."at", k."entry", k."name", k."colour", k."keeper", k."since" FROM "brenvik_work_unreverted_changes" k WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_old_changes" o WHERE o.brenvik_run = k.brenvik_run AND o.brenvik_sequence_no = k.brenvik_sequence_no AND EXISTS (SELECT 1 FROM "brenvik_work_trimmed_keys" b WHERE b."buoy_code" = o."buoy_code"))
UNION ALL SELECT k."brenvik_run", k."brenvik_sequence_no", k."brenvik_column_set", k."brenvik_delete", k."brenvik_effective_at", k."buoy_code", k."at", k."entry", k."name", k."colour", k."keeper", k."since" FROM "brenvik_work_base_states" k;

CREATE TEMP TABLE "brenvik_work_decided" AS
WITH events ("buoy_code", "brenvik_effective_at", "brenvik_rank", "brenvik_run", "brenvik_sequence_no", "brenvik_is_new", "brenvik_delete", "brenvik_column_set", "at", "entry", "name", "colour", "keeper", "since", "brenvik_earlier_2") AS (
SELECT k."buoy_code",
  k.brenvik_effective_at, 1, k.brenvik_run, k.brenvik_sequence_no, 0, k.brenvik_delete, k.brenvik_column_set,
  k."at", k."entry", k."name", k."colour", k."keeper", k."since",
  CAST(NULL AS TEXT)
FROM "brenvik_work_beside_trimmed_keys" b
JOIN "brenvik_work_beside_unreverted_changes" k ON k."buoy_code" = b."buoy_code"
WHERE b.brenvik_full_replay = 1
), placed AS (
  SELECT e.*,
    row_number() OVER brenvik_line AS brenvik_position,
    CASE WHEN lead(brenvik_effective_at) OVER brenvik_line = brenvik_effective_at THEN 1 ELSE 0 END AS brenvik_is_superseded,
    first_value(brenvik_delete) OVER (PARTITION BY e."buoy_code", brenvik_effective_at ORDER BY "brenvik_rank" DESC NULLS FIRST, "at" DESC NULLS FIRST, "entry" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_sequence_no" DESC NULLS FIRST) AS brenvik_ends_deleted
  FROM events e
  WINDOW brenvik_line AS (PARTITION BY e."buoy_code" ORDER BY brenvik_effective_at, "brenvik_rank", "at", "entry", "brenvik_run", "brenvik_sequence_no")
), lived AS (SELECT m.*, sum(CASE WHEN m.brenvik_column_set NOT IN (2) THEN 1 ELSE 0 END) OVER (PARTITION BY m."buoy_code", m.brenvik_lifetime, m.brenvik_delete ORDER BY m.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_step_0, sum(CASE WHEN m.brenvik_column_set NOT IN (2) THEN 1 ELSE 0 END) OVER (PARTITION BY m."buoy_code", m.brenvik_lifetime, m.brenvik_delete ORDER BY m.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_step_2 FROM (
  SELECT p.*, 1 - p.brenvik_is_superseded AS brenvik_is_last, sum(CASE WHEN p.brenvik_is_superseded = 0 THEN p.brenvik_delete ELSE 0 END) OVER (PARTITION BY p."buoy_code" ORDER BY p.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_lifetime, CAST(NULL AS BIGINT) AS brenvik_replaces, CAST(NULL AS BIGINT) AS brenvik_replaced_delete
  FROM placed p
  WHERE p.brenvik_is_superseded = 0 OR (p.brenvik_ends_deleted = 0 AND p.brenvik_delete = 0)) m
), states AS (
  SELECT l."buoy_code", l."brenvik_effective_at", l."brenvik_sequence_no", l."brenvik_column_set", l."brenvik_delete", l."brenvik_is_new", l."brenvik_position", l."brenvik_lifetime", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_earlier_2", l."brenvik_is_last", first_value(l."name") OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete, l.brenvik_step_0 ORDER BY l.brenvik_position) AS "name", l."colour", first_value(l."keeper") OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete, l.brenvik_step_2 ORDER BY l.brenvik_position) AS "keeper", first_value(l."since") OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete ORDER BY CASE WHEN l."since" IS NULL THEN 1 ELSE 0 END, l.brenvik_position) AS "since", min(CASE WHEN l."since" IS NOT NULL THEN l.brenvik_position END) OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete) AS brenvik_known_at_3, first_value(CASE WHEN l.brenvik_is_new = 0 THEN l."since" END) OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete ORDER BY CASE WHEN CASE WHEN l.brenvik_is_new = 0 THEN l."since" END IS NULL THEN 1 ELSE 0 END, l.brenvik_position) AS brenvik_prior_3, l."since" AS brenvik_source_3
  FROM lived l
), lined AS (
  SELECT s."buoy_code", s."brenvik_effective_at", s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_is_new", s."brenvik_position", s."brenvik_lifetime", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_earlier_2", s."name", lag(s."name") OVER brenvik_line AS brenvik_before_0, s."colour", lag(s."colour") OVER brenvik_line AS brenvik_before_1, lag(s."colour") OVER brenvik_line AS brenvik_prev_1, s."keeper", lag(s."keeper") OVER brenvik_line AS brenvik_before_2, lag(s."keeper") OVER brenvik_line AS brenvik_prev_2, s."since", lag(s."since") OVER brenvik_line AS brenvik_before_3, s.brenvik_known_at_3, s.brenvik_source_3, s.brenvik_prior_3,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_position) OVER brenvik_line, 0) AS brenvik_prev_position
  FROM states s
  WHERE s.brenvik_is_last = 1
  WINDOW brenvik_line AS (PARTITION BY s."buoy_code" ORDER BY s.brenvik_position)
), stepped AS ( SELECT j.*, sum(CASE WHEN j.brenvik_delete = 0 AND NOT (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) AND j."keeper" IS DISTINCT FROM j.brenvik_prev_2 THEN 1 ELSE 0 END) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime, j.brenvik_delete ORDER BY j.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_step_2 FROM lined j
), valued AS ( SELECT j.*, CASE WHEN j.brenvik_step_2 = 0 THEN first_value(j.brenvik_earlier_2) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime, j.brenvik_delete ORDER BY j.brenvik_position) ELSE first_value(j.brenvik_prev_2) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime, j.brenvik_delete, j.brenvik_step_2 ORDER BY j.brenvik_position) END AS "previous_keeper" FROM stepped j
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR j."colour" IS DISTINCT FROM j.brenvik_prev_1) THEN 1 ELSE 0 END AS brenvik_starts_version,
  CASE
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN CASE WHEN 0 = 0 THEN 'inserted' ELSE 'versioned' END
    WHEN j."colour" IS DISTINCT FROM j.brenvik_before_1 THEN 'versioned'
    WHEN j."name" IS DISTINCT FROM j.brenvik_before_0 OR j."keeper" IS DISTINCT FROM j.brenvik_before_2 OR (j.brenvik_known_at_3 > COALESCE(j.brenvik_replaces, j.brenvik_prev_position) AND j.brenvik_known_at_3 <= j.brenvik_position) THEN 'overwritten'
    WHEN (j.brenvik_column_set NOT IN (2) AND (j.brenvik_source_3 IS NOT NULL OR j.brenvik_known_at_3 <= j.brenvik_position) AND j.brenvik_source_3 IS DISTINCT FROM j."since") THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM valued j;

CREATE TEMP TABLE "brenvik_work_target_versions" AS
WITH lasts AS (
  SELECT j."buoy_code", j.brenvik_effective_at, j.brenvik_delete, j.brenvik_position, j.brenvik_starts_version, j.brenvik_prev_delete, first_value(j."name") OVER brenvik_latest AS "name", first_value(j."keeper") OVER brenvik_latest AS "keeper", first_value(j."previous_keeper") OVER brenvik_latest AS "previous_keeper", j."since", j."colour"
  FROM "brenvik_work_decided" j
  WINDOW brenvik_latest AS (PARTITION BY j."buoy_code" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_position DESC)
), spans AS (
  SELECT j.*, lead(j.brenvik_effective_at) OVER brenvik_line AS brenvik_valid_to,
    lead(j.brenvik_delete) OVER brenvik_line AS brenvik_deleted
  FROM lasts j
  WHERE j.brenvik_starts_version = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
  WINDOW brenvik_line AS (PARTITION BY j."buoy_code" ORDER BY j.brenvik_position)
)
SELECT row_number() OVER (ORDER BY v."buoy_code", v.brenvik_effective_at) AS brenvik_version_no,
  v."buoy_code", v.brenvik_effective_at, v.brenvik_valid_to, COALESCE(v.brenvik_deleted, 0) AS brenvik_deleted
  , v."name", v."colour", v."keeper", v."since", v."previous_keeper"
FROM spans v
WHERE v.brenvik_delete = 0;

CREATE TEMP TABLE "brenvik_work_decided" AS
WITH events ("buoy_code", "brenvik_effective_at", "brenvik_rank", "brenvik_run", "brenvik_sequence_no", "brenvik_is_new", "brenvik_delete", "brenvik_column_set", "at", "entry", "name", "colour", "keeper", "since", "brenvik_earlier_2") AS (
SELECT k."buoy_code",
  k.brenvik_effective_at, 1, k.brenvik_run, k.brenvik_sequence_no, 0, k.brenvik_delete, k.brenvik_column_set,
  k."at", k."entry", k."name", k."colour", k."keeper", k."since",
  CAST(NULL AS TEXT)
FROM "brenvik_work_beside_trimmed_keys" b
JOIN "brenvik_work_beside_trimmed_log" k ON k."buoy_code" = b."buoy_code"
WHERE b.brenvik_full_replay = 1
), placed AS (
  SELECT e.*,
    row_number() OVER brenvik_line AS brenvik_position,
    CASE WHEN lead(brenvik_effective_at) OVER brenvik_line = brenvik_effective_at THEN 1 ELSE 0 END AS brenvik_is_superseded,
    first_value(brenvik_delete) OVER (PARTITION BY e."buoy_code", brenvik_effective_at ORDER BY "brenvik_rank" DESC NULLS FIRST, "at" DESC NULLS FIRST, "entry" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_sequence_no" DESC NULLS FIRST) AS brenvik_ends_deleted
  FROM events e
  WINDOW brenvik_line AS (PARTITION BY e."buoy_code" ORDER BY brenvik_effective_at, "brenvik_rank", "at", "entry", "brenvik_run", "brenvik_sequence_no")
), lived AS (SELECT m.*, sum(CASE WHEN m.brenvik_column_set NOT IN (2) THEN 1 ELSE 0 END) OVER (PARTITION BY m."buoy_code", m.brenvik_lifetime, m.brenvik_delete ORDER BY m.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_step_0, sum(CASE WHEN m.brenvik_column_set NOT IN (2) THEN 1 ELSE 0 END) OVER (PARTITION BY m."buoy_code", m.brenvik_lifetime, m.brenvik_delete ORDER BY m.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_step_2 FROM (
  SELECT p.*, 1 - p.brenvik_is_superseded AS brenvik_is_last, sum(CASE WHEN p.brenvik_is_superseded = 0 THEN p.brenvik_delete ELSE 0 END) OVER (PARTITION BY p."buoy_code" ORDER BY p.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_lifetime, CAST(NULL AS BIGINT) AS brenvik_replaces, CAST(NULL AS BIGINT) AS brenvik_replaced_delete
  FROM placed p
  WHERE p.brenvik_is_superseded = 0 OR (p.brenvik_ends_deleted = 0 AND p.brenvik_delete = 0)) m
), states AS (
  SELECT l."buoy_code", l."brenvik_effective_at", l."brenvik_sequence_no", l."brenvik_column_set", l."brenvik_delete", l."brenvik_is_new", l."brenvik_position", l."brenvik_lifetime", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_earlier_2", l."brenvik_is_last", first_value(l."name") OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete, l.brenvik_step_0 ORDER BY l.brenvik_position) AS "name", l."colour", first_value(l."keeper") OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete, l.brenvik_step_2 ORDER BY l.brenvik_position) AS "keeper", first_value(l."since") OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete ORDER BY CASE WHEN l."since" IS NULL THEN 1 ELSE 0 END, l.brenvik_position) AS "since", min(CASE WHEN l."since" IS NOT NULL THEN l.brenvik_position END) OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete) AS brenvik_known_at_3, first_value(CASE WHEN l.brenvik_is_new = 0 THEN l."since" END) OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete ORDER BY CASE WHEN CASE WHEN l.brenvik_is_new = 0 THEN l."since" END IS NULL THEN 1 ELSE 0 END, l.brenvik_position) AS brenvik_prior_3, l."since" AS brenvik_source_3
  FROM lived l
), lined AS (
  SELECT s."buoy_code", s."brenvik_effective_at", s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_is_new", s."brenvik_position", s."brenvik_lifetime", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."brenvik_earlier_2", s."name", lag(s."name") OVER brenvik_line AS brenvik_before_0, s."colour", lag(s."colour") OVER brenvik_line AS brenvik_before_1, lag(s."colour") OVER brenvik_line AS brenvik_prev_1, s."keeper", lag(s."keeper") OVER brenvik_line AS brenvik_before_2, lag(s."keeper") OVER brenvik_line AS brenvik_prev_2, s."since", lag(s."since") OVER brenvik_line AS brenvik_before_3, s.brenvik_known_at_3, s.brenvik_source_3, s.brenvik_prior_3,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_position) OVER brenvik_line, 0) AS brenvik_prev_position
  FROM states s
  WHERE s.brenvik_is_last = 1
  WINDOW brenvik_line AS (PARTITION BY s."buoy_code" ORDER BY s.brenvik_position)
), stepped AS ( SELECT j.*, sum(CASE WHEN j.brenvik_delete = 0 AND NOT (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) AND j."keeper" IS DISTINCT FROM j.brenvik_prev_2 THEN 1 ELSE 0 END) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime, j.brenvik_delete ORDER BY j.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_step_2 FROM lined j
), valued AS ( SELECT j.*, CASE WHEN j.brenvik_step_2 = 0 THEN first_value(j.brenvik_earlier_2) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime, j.brenvik_delete ORDER BY j.brenvik_position) ELSE first_value(j.brenvik_prev_2) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime, j.brenvik_delete, j.brenvik_step_2 ORDER BY j.brenvik_position) END AS "previous_keeper" FROM stepped j
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR j."colour" IS DISTINCT FROM j.brenvik_prev_1) THEN 1 ELSE 0 END AS brenvik_starts_version,
  CASE
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN CASE WHEN 0 = 0 THEN 'inserted' ELSE 'versioned' END
    WHEN j."colour" IS DISTINCT FROM j.brenvik_before_1 THEN 'versioned'
    WHEN j."name" IS DISTINCT FROM j.brenvik_before_0 OR j."keeper" IS DISTINCT FROM j.brenvik_before_2 OR (j.brenvik_known_at_3 > COALESCE(j.brenvik_replaces, j.brenvik_prev_position) AND j.brenvik_known_at_3 <= j.brenvik_position) THEN 'overwritten'
    WHEN (j.brenvik_column_set NOT IN (2) AND (j.brenvik_source_3 IS NOT NULL OR j.brenvik_known_at_3 <= j.brenvik_position) AND j.brenvik_source_3 IS DISTINCT FROM j."since") THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM valued j;

CREATE TEMP TABLE "brenvik_work_target_versions" AS
WITH lasts AS (
  SELECT j."buoy_code", j.brenvik_effective_at, j.brenvik_delete, j.brenvik_position, j.brenvik_starts_version, j.brenvik_prev_delete, first_value(j."name") OVER brenvik_latest AS "name", first_value(j."keeper") OVER brenvik_latest AS "keeper", first_value(j."previous_keeper") OVER brenvik_latest AS "previous_keeper", j."since", j."colour"
  FROM "brenvik_work_decided" j
  WINDOW brenvik_latest AS (PARTITION BY j."buoy_code" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_position DESC)
), spans AS (
  SELECT j.*, lead(j.brenvik_effective_at) OVER brenvik_line AS brenvik_valid_to,
    lead(j.brenvik_delete) OVER brenvik_line AS brenvik_deleted
  FROM lasts j
  WHERE j.brenvik_starts_version = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
  WINDOW brenvik_line AS (PARTITION BY j."buoy_code" ORDER BY j.brenvik_position)
)
SELECT row_number() OVER (ORDER BY v."buoy_code", v.brenvik_effective_at) AS brenvik_version_no,
  v."buoy_code", v.brenvik_effective_at, v.brenvik_valid_to, COALESCE(v.brenvik_deleted, 0) AS brenvik_deleted
  , v."name", v."colour", v."keeper", v."since", v."previous_keeper"
FROM spans v
WHERE v.brenvik_delete = 0;

CREATE TEMP TABLE "brenvik_work_dropped_changes" AS
SELECT l."rowid" AS brenvik_row_id FROM "brenvik_work_old_changes" o JOIN "brenvik_work_trimmed_keys" b ON b."buoy_code" = o."buoy_code" JOIN "brenvik"."change_log_buoy" l ON o.brenvik_run = l.brenvik_run AND o.brenvik_sequence_no = l.brenvik_sequence_no AND o."buoy_code" = l."buoy_code" UNION SELECT l."rowid" AS brenvik_row_id FROM "brenvik"."change_log_buoy" l WHERE l.brenvik_run IN (2);

SELECT count(*) AS n FROM "brenvik_work_old_changes" o JOIN "brenvik_work_trimmed_keys" b ON b."buoy_code" = o."buoy_code";

DELETE FROM "brenvik"."change_log_buoy" WHERE "brenvik"."change_log_buoy"."rowid" IN (SELECT s.brenvik_row_id FROM "brenvik_work_dropped_changes" s);

-- Run 5: upserts

-- as before: CREATE TEMP VIEW "brenvik_work_unreverted_changes" AS

CREATE TEMP TABLE "brenvik_work_rows_of_any_time" AS -- in DuckDB, as the rows come
SELECT
  brenvik_sequence_no, CAST(3 AS INTEGER) AS brenvik_column_set,
  0 AS brenvik_delete,
  CASE WHEN NOT brenvik_is_invalid THEN "brenvik_timestamp_of_at" END AS brenvik_effective_at,
  "buoy_code", CASE WHEN NOT brenvik_is_invalid THEN "brenvik_timestamp_of_at" END AS "at", "brenvik_integer_of_entry" AS "entry", "name", "colour", "keeper", CAST(NULL AS DATE) AS "since",
  CASE WHEN brenvik_is_invalid THEN CAST(json_object('column', CASE WHEN brenvik_error_0 THEN 'buoy_code' WHEN brenvik_error_1 THEN 'at' WHEN brenvik_error_2 THEN 'entry' WHEN brenvik_error_3 THEN 'at' WHEN brenvik_error_4 THEN 'entry' END, 'value', CASE WHEN brenvik_error_0 THEN CAST("buoy_code" AS VARCHAR) WHEN brenvik_error_1 THEN CAST("at" AS VARCHAR) WHEN brenvik_error_2 THEN CAST("entry" AS VARCHAR) WHEN brenvik_error_3 THEN CAST("at" AS VARCHAR) WHEN brenvik_error_4 THEN CAST("entry" AS VARCHAR) END, 'reason', concat_ws('; ', CASE WHEN brenvik_error_0 THEN 'buoy_code is empty' END, CASE WHEN brenvik_error_1 THEN 'at is empty' END, CASE WHEN brenvik_error_2 THEN 'entry is empty' END, CASE WHEN brenvik_error_3 THEN CASE WHEN isfinite("brenvik_timestamp_of_at") AND NOT ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) THEN 'at: ''' || CAST("at" AS VARCHAR) || ''' is outside the years 1 to 9999' ELSE 'at: ''' || CAST("at" AS VARCHAR) || ''' is not a valid timestamp' END END, CASE WHEN brenvik_error_4 THEN 'entry: ''' || CAST("entry" AS VARCHAR) || ''' is not a valid integer' END), 'row', CAST(json_object('buoy_code', CAST("buoy_code" AS VARCHAR), 'at', CAST("at" AS VARCHAR), 'entry', CAST("entry" AS VARCHAR), 'name', CAST("name" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR), 'keeper', CAST("keeper" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_error, CASE WHEN CASE WHEN NOT brenvik_is_invalid THEN "brenvik_timestamp_of_at" END < CAST($settled_before AS TIMESTAMP) AND CASE WHEN NOT brenvik_is_invalid THEN "brenvik_timestamp_of_at" END <= CAST($high_effective AS TIMESTAMP) THEN CAST(json_object('buoy_code', CAST("buoy_code" AS VARCHAR), 'at', CAST("at" AS VARCHAR), 'entry', CAST("entry" AS VARCHAR), 'name', CAST("name" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR), 'keeper', CAST("keeper" AS VARCHAR)) AS VARCHAR) END AS brenvik_row
FROM (SELECT tested_rows.*, brenvik_error_0 OR brenvik_error_1 OR brenvik_error_2 OR brenvik_error_3 OR brenvik_error_4 AS brenvik_is_invalid FROM (SELECT typed_rows.*, CASE WHEN "buoy_code" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_0, CASE WHEN "at" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_1, CASE WHEN "entry" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_2, CASE WHEN ("at" IS NOT NULL AND (("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) IS NOT TRUE)) THEN TRUE ELSE FALSE END AS brenvik_error_3, CASE WHEN ("entry" IS NOT NULL AND ("brenvik_integer_of_entry" IS NULL OR NOT regexp_full_match("entry", '\s*[+-]?\d+(\.0*)?\s*'))) THEN TRUE ELSE FALSE END AS brenvik_error_4 FROM (SELECT rows_as_read.*, CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("at" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN NOT regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') THEN NULL
    WHEN NOT regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))
    WHEN timezone(regexp_extract("at", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1), COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) = TRY_CAST(regexp_extract("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP) THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END AS "brenvik_timestamp_of_at", TRY_CAST("entry" AS BIGINT) AS "brenvik_integer_of_entry" FROM brenvik_stream AS rows_as_read) AS typed_rows) AS tested_rows) AS checked_rows;

SELECT count(*) AS n FROM "brenvik_work_rows_of_any_time" s WHERE s.brenvik_error IS NULL AND s.brenvik_effective_at < CAST(:settled_before AS TIMESTAMP) AND s.brenvik_effective_at <= CAST(:high_effective AS TIMESTAMP);

CREATE TEMP TABLE "brenvik_work_rows_beyond_the_log" AS
SELECT s.brenvik_sequence_no, max(k.brenvik_effective_at) AS brenvik_limit
FROM "brenvik_work_rows_of_any_time" s
JOIN "brenvik"."change_log_buoy" k ON k."buoy_code" = s."buoy_code" AND k.brenvik_column_set = 0 AND k.brenvik_effective_at >= s.brenvik_effective_at
WHERE s.brenvik_error IS NULL AND s.brenvik_effective_at < CAST(:settled_before AS TIMESTAMP) AND s.brenvik_effective_at <= CAST(:high_effective AS TIMESTAMP)
GROUP BY s.brenvik_sequence_no;

CREATE TEMP TABLE "brenvik_work_staged" AS
SELECT s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."buoy_code", s."at", s."entry", s."name", s."colour", s."keeper", s."since",
  CASE WHEN t.brenvik_sequence_no IS NULL THEN s.brenvik_error ELSE CAST(json_object('column', 'at', 'value', substr(COALESCE(', ' || CAST(s."at" AS TEXT), ''), 3), 'reason', 'not after ' || CAST(t.brenvik_limit AS TEXT) || ', up to which the changes of its key are trimmed', 'row', s.brenvik_row) AS TEXT) END AS brenvik_error
FROM "brenvik_work_rows_of_any_time" s
LEFT JOIN "brenvik_work_rows_beyond_the_log" t ON t.brenvik_sequence_no = s.brenvik_sequence_no;

SELECT s.*, o."brenvik_highest_0", o."brenvik_highest_1" FROM (SELECT count(c.brenvik_error) AS invalid, 0 AS inactive, 0 AS derived,
  count(CASE WHEN c.brenvik_error IS NULL THEN 1 END) AS changes, count(CASE WHEN c.brenvik_error IS NULL AND NOT ((c."at" > CAST(:high_order_0 AS TIMESTAMP) OR (c."at" = CAST(:high_order_0 AS TIMESTAMP) AND c."entry" > CAST(:high_order_1 AS BIGINT))) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 END) AS late, CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective_at END) AS TEXT) AS "brenvik_highest",
  (SELECT count(*) FROM (SELECT DISTINCT c."buoy_code" FROM "brenvik_work_staged" c WHERE c.brenvik_error IS NULL) k) AS changed_keys
FROM "brenvik_work_staged" c) s LEFT JOIN (SELECT CAST(c."at" AS TEXT) AS brenvik_highest_0, CAST(c."entry" AS TEXT) AS brenvik_highest_1 FROM "brenvik_work_staged" c WHERE c.brenvik_error IS NULL AND (c."at" > CAST(:high_order_0 AS TIMESTAMP) OR (c."at" = CAST(:high_order_0 AS TIMESTAMP) AND c."entry" > CAST(:high_order_1 AS BIGINT))) ORDER BY c."at" DESC, c."entry" DESC LIMIT 1) o ON TRUE;

CREATE TEMP TABLE "brenvik_work_invalid" AS
SELECT s.brenvik_sequence_no AS brenvik_sequence_no, CAST(s.brenvik_error AS JSON) ->> 'column' AS brenvik_column, CAST(s.brenvik_error AS JSON) ->> 'value' AS brenvik_value, CAST(s.brenvik_error AS JSON) ->> 'reason' AS brenvik_reason, CAST(s.brenvik_error AS JSON) ->> 'row' AS brenvik_row FROM "brenvik_work_staged" s WHERE s.brenvik_error IS NOT NULL;

CREATE TEMP TABLE "brenvik_work_rejected" AS
SELECT f.brenvik_sequence_no, f.brenvik_column, f.brenvik_value, f.brenvik_reason, f.brenvik_row,
  CASE WHEN EXISTS (SELECT 1 FROM (
  SELECT r.reason, r.content FROM "brenvik"."rejects" r
  WHERE r.table_name = :table_name AND r.feed = :feed AND r.state = 'open') r WHERE r.content = f.brenvik_row) OR
    row_number() OVER (PARTITION BY f.brenvik_row ORDER BY f.brenvik_sequence_no) > 1
  THEN 1 ELSE 0 END AS brenvik_is_duplicate
FROM "brenvik_work_invalid" f;

SELECT count(*) AS n, COALESCE(sum(brenvik_is_duplicate), 0) AS again FROM "brenvik_work_rejected";

CREATE TEMP VIEW "brenvik_work_accepted" AS
SELECT s.* FROM "brenvik_work_staged" s WHERE s.brenvik_error IS NULL;

CREATE TEMP TABLE "brenvik_work_late_or_several" AS
SELECT k."buoy_code", CASE WHEN t."buoy_code" IS NULL OR k.brenvik_late = 1 THEN 1 ELSE 0 END AS brenvik_full_replay, k.brenvik_changes
FROM (
  SELECT c."buoy_code", max(CASE WHEN NOT ((c."at" > CAST(:high_order_0 AS TIMESTAMP) OR (c."at" = CAST(:high_order_0 AS TIMESTAMP) AND c."entry" > CAST(:high_order_1 AS BIGINT))) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END) AS brenvik_late, count(*) AS brenvik_changes FROM "brenvik_work_accepted" c GROUP BY c."buoy_code" HAVING count(*) > 1 OR max(CASE WHEN NOT ((c."at" > CAST(:high_order_0 AS TIMESTAMP) OR (c."at" = CAST(:high_order_0 AS TIMESTAMP) AND c."entry" > CAST(:high_order_1 AS BIGINT))) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END) = 1
) k
LEFT JOIN "buoy" t ON t."buoy_code" = k."buoy_code" AND t."valid_to" IS NULL AND t."since" IS NOT NULL;

SELECT count(*) AS replay_keys, CAST(COALESCE(sum(k.brenvik_changes), 0) AS BIGINT) AS replayed FROM "brenvik_work_late_or_several" k;

CREATE TEMP TABLE "brenvik_work_current_path" AS
SELECT m.brenvik_sequence_no, m.brenvik_effective_at, m.brenvik_row_id,
  CASE WHEN m.brenvik_row_id IS NULL THEN CASE WHEN m.brenvik_delete = 1 THEN 0 ELSE 1 END WHEN m.brenvik_delete = 1 THEN 4 WHEN m.brenvik_is_learned = 1 THEN 0 WHEN m.brenvik_type_2_differs = 1 THEN 2 WHEN m.brenvik_differs_0 = 1 OR m.brenvik_differs_2 = 1 THEN 3 WHEN m.brenvik_type_0_differs = 1 THEN 5 ELSE 6 END AS brenvik_decision_no,
  CASE WHEN m.brenvik_delete = 0 AND NOT (m.brenvik_row_id IS NULL) AND m.brenvik_is_learned = 0 AND (m.brenvik_differs_0 = 1 OR m.brenvik_differs_2 = 1) THEN 1 ELSE 0 END AS brenvik_sets_type_1,
  m.brenvik_differs_0,
  m.brenvik_differs_2,
  CASE WHEN m.brenvik_type_2_differs = 1 OR m.brenvik_differs_0 = 1 OR m.brenvik_differs_2 = 1 OR m.brenvik_type_0_differs = 1 THEN m.brenvik_before_0 END AS brenvik_before_0,
  CASE WHEN m.brenvik_type_2_differs = 1 OR m.brenvik_differs_0 = 1 OR m.brenvik_differs_2 = 1 OR m.brenvik_type_0_differs = 1 THEN m.brenvik_before_1 END AS brenvik_before_1,
  CASE WHEN m.brenvik_type_2_differs = 1 OR m.brenvik_differs_0 = 1 OR m.brenvik_differs_2 = 1 OR m.brenvik_type_0_differs = 1 THEN m.brenvik_before_2 END AS brenvik_before_2,
  CASE WHEN m.brenvik_type_2_differs = 1 OR m.brenvik_differs_0 = 1 OR m.brenvik_differs_2 = 1 OR m.brenvik_type_0_differs = 1 THEN m.brenvik_before_3 END AS brenvik_before_3,
  CASE WHEN m.brenvik_type_2_differs = 1 OR m.brenvik_differs_0 = 1 OR m.brenvik_differs_2 = 1 OR m.brenvik_type_0_differs = 1 THEN m.brenvik_before_4 END AS brenvik_before_4
FROM (
  SELECT c.brenvik_sequence_no, c.brenvik_effective_at, c.brenvik_delete, t."rowid" AS brenvik_row_id,
  CASE WHEN t."since" IS NULL AND c."since" IS NOT NULL THEN 1 ELSE 0 END AS brenvik_is_learned,
  CASE WHEN (c."colour" IS DISTINCT FROM t."colour") THEN 1 ELSE 0 END AS brenvik_type_2_differs,
  CASE WHEN ((c.brenvik_column_set NOT IN (2, 3) AND c."since" IS DISTINCT FROM t."since")) THEN 1 ELSE 0 END AS brenvik_type_0_differs,
  CASE WHEN (c.brenvik_column_set NOT IN (2) AND c."name" IS DISTINCT FROM t."name") THEN 1 ELSE 0 END AS brenvik_differs_0,
  CASE WHEN (c.brenvik_column_set NOT IN (2) AND c."keeper" IS DISTINCT FROM t."keeper") THEN 1 ELSE 0 END AS brenvik_differs_2,
  t."name" AS brenvik_before_0,
  t."colour" AS brenvik_before_1,
  t."keeper" AS brenvik_before_2,
  t."since" AS brenvik_before_3,
  t."previous_keeper" AS brenvik_before_4
  FROM "brenvik_work_accepted" c
  LEFT JOIN "buoy" t ON t."buoy_code" = c."buoy_code" AND t."valid_to" IS NULL
  WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_late_or_several" b WHERE b."buoy_code" = c."buoy_code")
) m;

SELECT brenvik_decision_no, count(*) AS n, CAST(sum(brenvik_sets_type_1) AS BIGINT) AS sets, max(CASE WHEN brenvik_sets_type_1 = 1 THEN brenvik_differs_0 ELSE 0 END) AS brenvik_differs_0, max(CASE WHEN brenvik_sets_type_1 = 1 THEN brenvik_differs_2 ELSE 0 END) AS brenvik_differs_2 FROM "brenvik_work_current_path" GROUP BY brenvik_decision_no;

CREATE TEMP TABLE "brenvik_work_stored_versions" AS
SELECT t."rowid" AS brenvik_row_id, t."buoy_code", CAST(t."valid_from" AS TIMESTAMP) AS brenvik_effective_at, CAST(t."valid_to" AS TIMESTAMP) AS brenvik_valid_to, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_deleted, t."name", t."colour", t."keeper", t."since", t."previous_keeper", CASE WHEN t."valid_to" IS NULL THEN 1 ELSE 0 END AS brenvik_is_current,
  b.brenvik_full_replay, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged_current
FROM "buoy" t
JOIN "brenvik_work_late_or_several" b ON b."buoy_code" = t."buoy_code" AND (b.brenvik_full_replay = 1 OR t."valid_to" IS NULL);

CREATE TEMP TABLE "brenvik_work_duplicates" AS
SELECT n.brenvik_sequence_no FROM (
  SELECT c.brenvik_sequence_no, row_number() OVER (
    PARTITION BY c."buoy_code", c."brenvik_effective_at", c."at", c."entry", c."brenvik_delete", c."brenvik_column_set", c."name", c."colour", c."keeper", c."since" ORDER BY c.brenvik_sequence_no) AS brenvik_nth
  FROM "brenvik_work_accepted" c
  JOIN (SELECT e."buoy_code", e."brenvik_effective_at" FROM "brenvik_work_accepted" e GROUP BY e."buoy_code", e."brenvik_effective_at" HAVING count(*) > 1) s ON s."buoy_code" = c."buoy_code" AND s."brenvik_effective_at" = c."brenvik_effective_at"
) n WHERE n.brenvik_nth > 1 UNION 
SELECT c.brenvik_sequence_no
FROM "brenvik_work_accepted" c
JOIN "brenvik_work_unreverted_changes" k ON k."buoy_code" = c."buoy_code" AND k."brenvik_effective_at" = c."brenvik_effective_at" AND k."at" = c."at" AND k."entry" = c."entry" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_column_set" = c."brenvik_column_set" AND k."name" IS NOT DISTINCT FROM c."name" AND k."colour" IS NOT DISTINCT FROM c."colour" AND k."keeper" IS NOT DISTINCT FROM c."keeper" AND k."since" IS NOT DISTINCT FROM c."since"
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_late_or_several" b WHERE b."buoy_code" = c."buoy_code" AND b.brenvik_full_replay = 1);

CREATE TEMP TABLE "brenvik_work_decided" AS
WITH events ("buoy_code", "brenvik_effective_at", "brenvik_rank", "brenvik_run", "brenvik_sequence_no", "brenvik_is_new", "brenvik_delete", "brenvik_column_set", "at", "entry", "name", "colour", "keeper", "since", "brenvik_earlier_2") AS (
SELECT c."buoy_code",
  c.brenvik_effective_at, 1, :run, c.brenvik_sequence_no, 1, c.brenvik_delete, c.brenvik_column_set,
  c."at", c."entry", c."name", c."colour", c."keeper", c."since",
  CAST(NULL AS TEXT)
FROM "brenvik_work_accepted" c
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_late_or_several" b WHERE b."buoy_code" = c."buoy_code")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_sequence_no = c.brenvik_sequence_no) UNION ALL 
SELECT s."buoy_code",
  s.brenvik_effective_at, 1, 0, 0, 0, 0, 0,
  CAST(NULL AS TIMESTAMP),
  CAST(NULL AS BIGINT),
  s."name",
  s."colour",
  s."keeper",
  s."since",
  s."previous_keeper"
FROM "brenvik_work_stored_versions" s
WHERE s.brenvik_full_replay = 0 AND s.brenvik_is_current = 1 UNION ALL 
SELECT k."buoy_code",
  k.brenvik_effective_at, 1, k.brenvik_run, k.brenvik_sequence_no, 0, k.brenvik_delete, k.brenvik_column_set,
  k."at", k."entry", k."name", k."colour", k."keeper", k."since",
  CAST(NULL AS TEXT)
FROM "brenvik_work_late_or_several" b
JOIN "brenvik_work_unreverted_changes" k ON k."buoy_code" = b."buoy_code"
WHERE b.brenvik_full_replay = 1
), placed AS (
  SELECT e.*,
    row_number() OVER brenvik_line AS brenvik_position,
    CASE WHEN lead(brenvik_effective_at) OVER brenvik_line = brenvik_effective_at THEN 1 ELSE 0 END AS brenvik_is_superseded,
    first_value(brenvik_delete) OVER (PARTITION BY e."buoy_code", brenvik_effective_at ORDER BY "brenvik_rank" DESC NULLS FIRST, "at" DESC NULLS FIRST, "entry" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_sequence_no" DESC NULLS FIRST) AS brenvik_ends_deleted
  FROM events e
  WINDOW brenvik_line AS (PARTITION BY e."buoy_code" ORDER BY brenvik_effective_at, "brenvik_rank", "at", "entry", "brenvik_run", "brenvik_sequence_no")
), base AS (
  SELECT p."buoy_code", p."brenvik_effective_at", max(p.brenvik_position) AS brenvik_position, max(2 * p.brenvik_position + p.brenvik_delete) AS brenvik_end,
    max(CASE WHEN p.brenvik_delete = 0 THEN 1 ELSE 0 END) AS brenvik_some_upsert
  FROM placed p
  WHERE p.brenvik_is_new = 0
  GROUP BY p."buoy_code", p."brenvik_effective_at"
), lived AS (SELECT m.*, sum(CASE WHEN m.brenvik_column_set NOT IN (2) THEN 1 ELSE 0 END) OVER (PARTITION BY m."buoy_code", m.brenvik_lifetime, m.brenvik_delete ORDER BY m.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_step_0, sum(CASE WHEN m.brenvik_column_set NOT IN (2) THEN 1 ELSE 0 END) OVER (PARTITION BY m."buoy_code", m.brenvik_lifetime, m.brenvik_delete ORDER BY m.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_step_2 FROM (
  SELECT p.*, 1 - p.brenvik_is_superseded AS brenvik_is_last, sum(CASE WHEN p.brenvik_is_superseded = 0 THEN p.brenvik_delete ELSE 0 END) OVER (PARTITION BY p."buoy_code" ORDER BY p.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_lifetime, b.brenvik_position AS brenvik_replaces, b.brenvik_end - 2 * b.brenvik_position AS brenvik_replaced_delete, CASE WHEN p.brenvik_is_superseded = 0 AND p.brenvik_delete = 0 AND b.brenvik_some_upsert = 1 THEN 1 ELSE 0 END AS brenvik_was_known
  FROM placed p LEFT JOIN base b ON b."buoy_code" = p."buoy_code" AND b."brenvik_effective_at" = p."brenvik_effective_at"
  WHERE p.brenvik_is_superseded = 0 OR (p.brenvik_ends_deleted = 0 AND p.brenvik_delete = 0)) m
), states AS (
  SELECT l."buoy_code", l."brenvik_effective_at", l."brenvik_sequence_no", l."brenvik_column_set", l."brenvik_delete", l."brenvik_is_new", l."brenvik_position", l."brenvik_lifetime", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_was_known", l."brenvik_rank", l."brenvik_earlier_2", l."brenvik_is_last", first_value(l."name") OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete, l.brenvik_step_0 ORDER BY l.brenvik_position) AS "name", l."colour", first_value(l."keeper") OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete, l.brenvik_step_2 ORDER BY l.brenvik_position) AS "keeper", first_value(l."since") OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete ORDER BY CASE WHEN l."since" IS NULL THEN 1 ELSE 0 END, l.brenvik_position) AS "since", min(CASE WHEN l."since" IS NOT NULL THEN l.brenvik_position END) OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete) AS brenvik_known_at_3, first_value(CASE WHEN l.brenvik_is_new = 0 THEN l."since" END) OVER (PARTITION BY l."buoy_code", l.brenvik_lifetime, l.brenvik_delete ORDER BY CASE WHEN CASE WHEN l.brenvik_is_new = 0 THEN l."since" END IS NULL THEN 1 ELSE 0 END, l.brenvik_position) AS brenvik_prior_3, l."since" AS brenvik_source_3
  FROM lived l
), compared AS (
  SELECT s.*, r."name" AS brenvik_replaced_0, r."colour" AS brenvik_replaced_1, r."keeper" AS brenvik_replaced_2, r."since" AS brenvik_replaced_3
  FROM states s
  LEFT JOIN states r ON r.brenvik_is_new = 0 AND r."buoy_code" = s."buoy_code" AND r.brenvik_position = CASE WHEN s.brenvik_is_new = 1 THEN s.brenvik_replaces END
), lined AS (
  SELECT s."buoy_code", s."brenvik_effective_at", s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_is_new", s."brenvik_position", s."brenvik_lifetime", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_was_known", s."brenvik_rank", s."brenvik_earlier_2", s."name", CASE WHEN s.brenvik_is_new = 1 AND s.brenvik_replaces IS NOT NULL THEN s.brenvik_replaced_0 ELSE lag(s."name") OVER brenvik_line END AS brenvik_before_0, s."colour", CASE WHEN s.brenvik_is_new = 1 AND s.brenvik_replaces IS NOT NULL THEN s.brenvik_replaced_1 ELSE lag(s."colour") OVER brenvik_line END AS brenvik_before_1, lag(s."colour") OVER brenvik_line AS brenvik_prev_1, s."keeper", CASE WHEN s.brenvik_is_new = 1 AND s.brenvik_replaces IS NOT NULL THEN s.brenvik_replaced_2 ELSE lag(s."keeper") OVER brenvik_line END AS brenvik_before_2, lag(s."keeper") OVER brenvik_line AS brenvik_prev_2, s."since", CASE WHEN s.brenvik_is_new = 1 AND s.brenvik_replaces IS NOT NULL THEN s.brenvik_replaced_3 ELSE lag(s."since") OVER brenvik_line END AS brenvik_before_3, s.brenvik_known_at_3, s.brenvik_source_3, s.brenvik_prior_3,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_position) OVER brenvik_line, 0) AS brenvik_prev_position
  FROM compared s
  WHERE s.brenvik_is_last = 1
  WINDOW brenvik_line AS (PARTITION BY s."buoy_code" ORDER BY s.brenvik_position)
), stepped AS ( SELECT j.*, sum(CASE WHEN j.brenvik_delete = 0 AND NOT (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) AND j."keeper" IS DISTINCT FROM j.brenvik_prev_2 THEN 1 ELSE 0 END) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime, j.brenvik_delete ORDER BY j.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_step_2 FROM lined j
), valued AS ( SELECT j.*, CASE WHEN j.brenvik_step_2 = 0 THEN first_value(j.brenvik_earlier_2) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime, j.brenvik_delete ORDER BY j.brenvik_position) ELSE first_value(j.brenvik_prev_2) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime, j.brenvik_delete, j.brenvik_step_2 ORDER BY j.brenvik_position) END AS "previous_keeper" FROM stepped j
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR j."colour" IS DISTINCT FROM j.brenvik_prev_1) THEN 1 ELSE 0 END AS brenvik_starts_version,
  CASE
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN CASE WHEN max(j.brenvik_was_known) OVER (PARTITION BY j."buoy_code", j.brenvik_lifetime) = 0 THEN 'inserted' ELSE 'versioned' END
    WHEN j."colour" IS DISTINCT FROM j.brenvik_before_1 THEN 'versioned'
    WHEN j."name" IS DISTINCT FROM j.brenvik_before_0 OR j."keeper" IS DISTINCT FROM j.brenvik_before_2 OR (j.brenvik_known_at_3 > COALESCE(j.brenvik_replaces, j.brenvik_prev_position) AND j.brenvik_known_at_3 <= j.brenvik_position) THEN 'overwritten'
    WHEN (j.brenvik_column_set NOT IN (2, 3) AND (j.brenvik_source_3 IS NOT NULL OR j.brenvik_known_at_3 <= j.brenvik_position) AND j.brenvik_source_3 IS DISTINCT FROM j."since") THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM valued j;

-- as before: CREATE TEMP TABLE "brenvik_work_target_versions" AS

CREATE TEMP TABLE "brenvik_work_actions" AS
WITH matched AS (
  SELECT COALESCE(d."buoy_code", s."buoy_code") AS "buoy_code", COALESCE(d."brenvik_effective_at", s."brenvik_effective_at") AS "brenvik_effective_at", d.brenvik_version_no AS brenvik_version_no, s.brenvik_row_id
  FROM "brenvik_work_target_versions" d FULL JOIN "brenvik_work_stored_versions" s ON d."buoy_code" = s."buoy_code" AND d.brenvik_effective_at = s.brenvik_effective_at
), unmatched AS (
  SELECT m."buoy_code", m.brenvik_version_no, m.brenvik_row_id, row_number() OVER (PARTITION BY m."buoy_code", CASE WHEN m.brenvik_version_no IS NULL THEN 1 ELSE 0 END ORDER BY m.brenvik_effective_at) AS brenvik_nth FROM matched m WHERE m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL
), pairs AS (
  SELECT m.brenvik_version_no, m.brenvik_row_id FROM matched m WHERE NOT (m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL)
  UNION ALL
  SELECT max(r.brenvik_version_no) AS brenvik_version_no, max(r.brenvik_row_id) AS brenvik_row_id FROM unmatched r
  GROUP BY r."buoy_code", r.brenvik_nth
), compared AS (
SELECT CASE WHEN p.brenvik_version_no IS NULL THEN 'delete' WHEN p.brenvik_row_id IS NULL THEN 'insert' WHEN (d."brenvik_effective_at" IS DISTINCT FROM s."brenvik_effective_at" OR d."name" IS DISTINCT FROM s."name" OR d."colour" IS DISTINCT FROM s."colour" OR d."keeper" IS DISTINCT FROM s."keeper" OR d."since" IS DISTINCT FROM s."since" OR d."previous_keeper" IS DISTINCT FROM s."previous_keeper") THEN 'update' WHEN ((d."brenvik_valid_to" IS DISTINCT FROM s."brenvik_valid_to" OR d."brenvik_deleted" IS DISTINCT FROM s."brenvik_deleted") OR s.brenvik_flagged_current <> CASE WHEN d.brenvik_valid_to IS NULL THEN 1 ELSE 0 END) THEN 'close' ELSE 'keep' END AS brenvik_action, p.brenvik_row_id, COALESCE(d."buoy_code", s."buoy_code") AS "buoy_code", d."brenvik_effective_at", d."brenvik_valid_to", d."brenvik_deleted", d."name", d."colour", d."keeper", d."since", d."previous_keeper",
  COALESCE(CASE WHEN s.brenvik_valid_to IS NULL AND s.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_was_current, COALESCE(CASE WHEN d.brenvik_valid_to IS NULL AND d.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_is_current, CASE WHEN d."brenvik_effective_at" IS DISTINCT FROM s."brenvik_effective_at" THEN 1 ELSE 0 END AS brenvik_differs_effective_at, CASE WHEN d."brenvik_valid_to" IS DISTINCT FROM s."brenvik_valid_to" THEN 1 ELSE 0 END AS brenvik_differs_valid_to, CASE WHEN d."brenvik_deleted" IS DISTINCT FROM s."brenvik_deleted" THEN 1 ELSE 0 END AS brenvik_differs_deleted, CASE WHEN d."name" IS DISTINCT FROM s."name" THEN 1 ELSE 0 END AS brenvik_differs_0, CASE WHEN d."colour" IS DISTINCT FROM s."colour" THEN 1 ELSE 0 END AS brenvik_differs_1, CASE WHEN d."keeper" IS DISTINCT FROM s."keeper" THEN 1 ELSE 0 END AS brenvik_differs_2, CASE WHEN d."since" IS DISTINCT FROM s."since" THEN 1 ELSE 0 END AS brenvik_differs_3, CASE WHEN d."previous_keeper" IS DISTINCT FROM s."previous_keeper" THEN 1 ELSE 0 END AS brenvik_differs_4, CASE WHEN s.brenvik_full_replay = 1 AND ((NOT EXISTS (SELECT 1 FROM "brenvik_work_decided" e WHERE e."buoy_code" = s."buoy_code" AND e.brenvik_effective_at = s.brenvik_effective_at AND (e.brenvik_is_new = 0 OR e.brenvik_replaces IS NOT NULL))) OR (s.brenvik_valid_to IS NOT NULL AND NOT EXISTS (SELECT 1 FROM "brenvik_work_decided" e WHERE e."buoy_code" = s."buoy_code" AND e.brenvik_effective_at = s.brenvik_valid_to AND (e.brenvik_is_new = 0 OR e.brenvik_replaces IS NOT NULL)))) THEN 1 ELSE 0 END AS brenvik_is_unlogged
FROM pairs p
LEFT JOIN "brenvik_work_target_versions" d ON d.brenvik_version_no = p.brenvik_version_no
LEFT JOIN "brenvik_work_stored_versions" s ON s.brenvik_row_id = p.brenvik_row_id UNION ALL 
SELECT 'update', t."rowid" AS brenvik_row_id, t."buoy_code", t."valid_from", t."valid_to", CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END, x."name", t."colour", x."keeper", t."since", x."previous_keeper", 0, 0, 0, 0, 0, CASE WHEN x."name" IS DISTINCT FROM t."name" THEN 1 ELSE 0 END, 0, CASE WHEN x."keeper" IS DISTINCT FROM t."keeper" THEN 1 ELSE 0 END, 0, CASE WHEN x."previous_keeper" IS DISTINCT FROM t."previous_keeper" THEN 1 ELSE 0 END, 0
FROM (
  SELECT DISTINCT d."buoy_code", d."name", d."keeper", d."previous_keeper" FROM "brenvik_work_target_versions" d
) x
JOIN "brenvik_work_late_or_several" b ON b."buoy_code" = x."buoy_code" AND b.brenvik_full_replay = 0
JOIN "buoy" t ON t."buoy_code" = x."buoy_code"
WHERE NOT (t."valid_to" IS NULL) AND (x."name" IS DISTINCT FROM t."name" OR x."keeper" IS DISTINCT FROM t."keeper" OR x."previous_keeper" IS DISTINCT FROM t."previous_keeper"))
SELECT a.* FROM compared a WHERE a.brenvik_action <> 'keep' OR a.brenvik_is_unlogged = 1;

SELECT a.*, e.ended, j.*, d.*, t.* FROM (SELECT count(CASE WHEN a.brenvik_action = 'close'  THEN 1 END) AS "close", count(CASE WHEN a.brenvik_action = 'update'  THEN 1 END) AS "update", count(CASE WHEN a.brenvik_action = 'insert'  THEN 1 END) AS "insert", count(CASE WHEN a.brenvik_action = 'delete'  THEN 1 END) AS "delete", CAST(COALESCE(sum(a.brenvik_is_current - a.brenvik_was_current), 0) AS BIGINT) AS current_change, count(DISTINCT CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(a."buoy_code" AS TEXT) END) AS unlogged, min(CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(a."buoy_code" AS TEXT) END) AS unlogged_key, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_effective_at ELSE 0 END) AS brenvik_differs_effective_at, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_valid_to ELSE 0 END) AS brenvik_differs_valid_to, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_deleted ELSE 0 END) AS brenvik_differs_deleted, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_0 ELSE 0 END) AS brenvik_differs_0, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_1 ELSE 0 END) AS brenvik_differs_1, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_2 ELSE 0 END) AS brenvik_differs_2, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_3 ELSE 0 END) AS brenvik_differs_3, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_4 ELSE 0 END) AS brenvik_differs_4 FROM "brenvik_work_actions" a) a CROSS JOIN (SELECT count(*) AS ended FROM (SELECT a."buoy_code" FROM "brenvik_work_actions" a GROUP BY a."buoy_code" HAVING max(a.brenvik_was_current) = 1 AND max(a.brenvik_is_current) = 0) k) e CROSS JOIN (SELECT count(CASE WHEN j.brenvik_decision = 'inserted'  THEN 1 END) AS "inserted", count(CASE WHEN j.brenvik_decision = 'versioned'  THEN 1 END) AS "versioned", count(CASE WHEN j.brenvik_decision = 'overwritten'  THEN 1 END) AS "overwritten", count(CASE WHEN j.brenvik_decision = 'deleted'  THEN 1 END) AS "deleted", count(CASE WHEN j.brenvik_decision = 'protected'  THEN 1 END) AS "protected", count(CASE WHEN j.brenvik_decision = 'unchanged'  THEN 1 END) AS "unchanged", count(CASE WHEN j.brenvik_decision = 'superseded'  THEN 1 END) AS "superseded", count(CASE WHEN j.brenvik_decision = 'ignored'  THEN 1 END) AS "ignored" FROM "brenvik_work_decided" j WHERE j.brenvik_is_new = 1) j CROSS JOIN (SELECT count(*) AS duplicates, count(CASE WHEN NOT ((c."at" > CAST(:high_order_0 AS TIMESTAMP) OR (c."at" = CAST(:high_order_0 AS TIMESTAMP) AND c."entry" > CAST(:high_order_1 AS BIGINT))) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 END) AS late_duplicates FROM "brenvik_work_duplicates" d JOIN "brenvik_work_accepted" c ON d.brenvik_sequence_no = c.brenvik_sequence_no) d CROSS JOIN (SELECT count(*) AS tied, min(CAST(k."buoy_code" AS TEXT)) AS tied_key FROM (SELECT DISTINCT p."buoy_code" FROM (SELECT n."buoy_code", n."brenvik_effective_at", n."at", n."entry", count(*) AS brenvik_contents FROM (SELECT DISTINCT c."buoy_code", c."brenvik_effective_at", c."at", c."entry", c."brenvik_delete", c."brenvik_column_set", c."name" AS brenvik_content_0, c."colour" AS brenvik_content_1, c."keeper" AS brenvik_content_2, c."since" AS brenvik_content_3 FROM "brenvik_work_accepted" c WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_sequence_no = c.brenvik_sequence_no) AND NOT EXISTS (SELECT 1 FROM "brenvik_work_unreverted_changes" k WHERE k."buoy_code" = c."buoy_code" AND k."brenvik_effective_at" = c."brenvik_effective_at" AND k."at" = c."at" AND k."entry" = c."entry" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_column_set" = c."brenvik_column_set" AND k."name" IS NOT DISTINCT FROM c."name" AND k."colour" IS NOT DISTINCT FROM c."colour" AND k."keeper" IS NOT DISTINCT FROM c."keeper" AND k."since" IS NOT DISTINCT FROM c."since")) n GROUP BY n."buoy_code", n."brenvik_effective_at", n."at", n."entry") p WHERE p.brenvik_contents > 1 OR EXISTS (SELECT 1 FROM "brenvik_work_unreverted_changes" k WHERE k."buoy_code" = p."buoy_code" AND k."brenvik_effective_at" = p."brenvik_effective_at" AND k."at" = p."at" AND k."entry" = p."entry")) k) t;

UPDATE "buoy" SET "valid_to" = s.brenvik_valid_to, "is_current" = (s.brenvik_valid_to IS NULL), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT p.brenvik_row_id, p.brenvik_effective_at AS brenvik_valid_to, CASE WHEN p.brenvik_decision_no = 4 THEN 1 ELSE 0 END AS brenvik_deleted FROM "brenvik_work_current_path" p WHERE p.brenvik_decision_no = 2) s WHERE "buoy"."rowid" = s.brenvik_row_id;

UPDATE "buoy" SET "previous_keeper" = s."previous_keeper", "valid_to" = s.brenvik_valid_to, "is_current" = (s.brenvik_valid_to IS NULL), "is_deleted" = (s.brenvik_deleted = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT a.* FROM "brenvik_work_actions" a WHERE a.brenvik_action = 'update') s WHERE "buoy"."rowid" = s.brenvik_row_id;

INSERT INTO "buoy" ("buoy_key", "buoy_code", "name", "colour", "keeper", "since", "previous_keeper", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at") SELECT :last_key + row_number() OVER (), s."buoy_code", s."name", s."colour", s."keeper", s."since", s."previous_keeper", s.brenvik_valid_from, CAST(s.brenvik_valid_to AS TIMESTAMP), s.brenvik_current, s.brenvik_deleted, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP) FROM (SELECT c."buoy_code", CASE WHEN c.brenvik_column_set NOT IN (2) THEN c."name" ELSE p.brenvik_before_0 END AS "name", c."colour", CASE WHEN c.brenvik_column_set NOT IN (2) THEN c."keeper" ELSE p.brenvik_before_2 END AS "keeper", COALESCE(p.brenvik_before_3, c."since") AS "since", CASE WHEN c.brenvik_column_set NOT IN (2) AND c."keeper" IS DISTINCT FROM p.brenvik_before_2 THEN p.brenvik_before_2 ELSE p.brenvik_before_4 END AS "previous_keeper", c.brenvik_effective_at AS brenvik_valid_from, NULL AS brenvik_valid_to, TRUE AS brenvik_current, FALSE AS brenvik_deleted FROM "brenvik_work_current_path" p JOIN "brenvik_work_accepted" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no IN (1, 2) UNION ALL SELECT s."buoy_code", s."name", s."colour", s."keeper", s."since", s."previous_keeper", s.brenvik_effective_at AS brenvik_valid_from, s.brenvik_valid_to AS brenvik_valid_to, (s.brenvik_valid_to IS NULL) AS brenvik_current, (s.brenvik_deleted = 1) AS brenvik_deleted FROM "brenvik_work_actions" s WHERE s.brenvik_action = 'insert') s;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "buoy_code", "at", "entry", "name", "colour", "keeper", "since") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."buoy_code", s."at", s."entry", s."name", s."colour", s."keeper", s."since" FROM "brenvik_work_accepted" s;

INSERT INTO "brenvik"."rejects" ("reject", "table_name", "feed", "run", "file", "line", "column_name", "value", "reason", "content", "state", "rejected_at", "decided_by")
SELECT :last_reject + row_number() OVER (ORDER BY r.brenvik_sequence_no), :table_name, :feed, :run, NULL, CASE WHEN r.brenvik_sequence_no % 1000000000000 < 200000000000 THEN CAST(floor((r.brenvik_sequence_no % 1000000000000) / 2) AS BIGINT) END,
  r.brenvik_column, r.brenvik_value, r.brenvik_reason, r.brenvik_row, 'open', CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_rejected" r
WHERE r.brenvik_is_duplicate = 0;

