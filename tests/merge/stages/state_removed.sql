-- Run 2: changes

CREATE TEMP TABLE "brenvik_work_staged" AS -- in DuckDB, as the rows come
SELECT
  brenvik_sequence_no, CAST(1 AS INTEGER) AS brenvik_column_set,
  brenvik_is_delete AS brenvik_delete,
  "brenvik_integer_of_no" AS brenvik_effective_at,
  "code", "brenvik_integer_of_no" AS "no", "colour",
  CASE WHEN brenvik_is_invalid THEN CAST(json_object('column', CASE WHEN brenvik_error_0 THEN 'op' WHEN brenvik_error_1 THEN 'code' WHEN brenvik_error_2 THEN 'no' WHEN brenvik_error_3 THEN 'no' END, 'value', CASE WHEN brenvik_error_0 THEN CAST("op" AS VARCHAR) WHEN brenvik_error_1 THEN CAST("code" AS VARCHAR) WHEN brenvik_error_2 THEN CAST("no" AS VARCHAR) WHEN brenvik_error_3 THEN CAST("no" AS VARCHAR) END, 'reason', concat_ws('; ', CASE WHEN brenvik_error_0 THEN COALESCE('op: ''' || CAST("op" AS VARCHAR) || ''' is not a valid operation; valid codes are i, insert, u, update, d, delete', 'op: nothing is not a valid operation; valid codes are i, insert, u, update, d, delete') END, CASE WHEN brenvik_error_1 THEN 'code is empty' END, CASE WHEN brenvik_error_2 THEN 'no is empty' END, CASE WHEN brenvik_error_3 THEN 'no: ''' || CAST("no" AS VARCHAR) || ''' is not a valid integer' END), 'row', CAST(json_object('op', CAST("op" AS VARCHAR), 'code', CAST("code" AS VARCHAR), 'no', CAST("no" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_error
FROM (SELECT tested_rows.*, brenvik_error_0 OR brenvik_error_1 OR brenvik_error_2 OR brenvik_error_3 AS brenvik_is_invalid FROM (SELECT typed_rows.*, CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN TRUE ELSE FALSE END AS brenvik_error_0, CASE WHEN "code" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_1, CASE WHEN "no" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_2, CASE WHEN ("no" IS NOT NULL AND ("brenvik_integer_of_no" IS NULL OR NOT regexp_full_match("no", '\s*[+-]?\d+(\.0*)?\s*'))) THEN TRUE ELSE FALSE END AS brenvik_error_3 FROM (SELECT cast_rows.*, CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END AS brenvik_is_delete FROM (SELECT rows_as_read.*, TRY_CAST("no" AS BIGINT) AS "brenvik_integer_of_no" FROM brenvik_stream AS rows_as_read) AS cast_rows) AS typed_rows) AS tested_rows) AS checked_rows;

SELECT count(c.brenvik_error) AS invalid, 0 AS inactive, 0 AS derived,
  count(CASE WHEN c.brenvik_error IS NULL THEN 1 END) AS changes, count(CASE WHEN c.brenvik_error IS NULL AND NOT (c."no" > CAST(:high_order_0 AS BIGINT) AND c.brenvik_effective_at > CAST(:high_effective AS BIGINT)) THEN 1 END) AS late, CAST(max(CASE WHEN c.brenvik_error IS NULL AND c."no" > CAST(:high_order_0 AS BIGINT) THEN c."no" END) AS TEXT) AS "brenvik_highest_0", CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_effective_at > CAST(:high_effective AS BIGINT) THEN c.brenvik_effective_at END) AS TEXT) AS "brenvik_highest",
  (SELECT count(*) FROM (SELECT DISTINCT c."code" FROM "brenvik_work_staged" c WHERE c.brenvik_error IS NULL) k) AS changed_keys
FROM "brenvik_work_staged" c;

CREATE TEMP TABLE "brenvik_work_late_or_several" AS
SELECT k."code", CASE WHEN t."code" IS NULL OR k.brenvik_late = 1 THEN 1 ELSE 0 END AS brenvik_full_replay, k.brenvik_changes
FROM (
  SELECT c."code", max(CASE WHEN NOT (c."no" > CAST(:high_order_0 AS BIGINT) AND c.brenvik_effective_at > CAST(:high_effective AS BIGINT)) THEN 1 ELSE 0 END) AS brenvik_late, count(*) AS brenvik_changes FROM "brenvik_work_staged" c GROUP BY c."code" HAVING count(*) > 1 OR max(CASE WHEN NOT (c."no" > CAST(:high_order_0 AS BIGINT) AND c.brenvik_effective_at > CAST(:high_effective AS BIGINT)) THEN 1 ELSE 0 END) = 1
) k
LEFT JOIN "buoy" t ON t."code" = k."code" AND 1 = 1;

SELECT count(*) AS replay_keys, CAST(COALESCE(sum(k.brenvik_changes), 0) AS BIGINT) AS replayed FROM "brenvik_work_late_or_several" k;

CREATE TEMP TABLE "brenvik_work_current_path" AS
SELECT m.brenvik_sequence_no, m.brenvik_effective_at, m.brenvik_row_id,
  CASE WHEN m.brenvik_row_id IS NULL THEN CASE WHEN m.brenvik_delete = 1 THEN 0 ELSE 1 END WHEN m.brenvik_delete = 1 THEN 4 WHEN m.brenvik_differs_0 = 1 THEN 3 ELSE 6 END AS brenvik_decision_no,
  CASE WHEN m.brenvik_delete = 0 AND NOT (m.brenvik_row_id IS NULL) AND (m.brenvik_differs_0 = 1) THEN 1 ELSE 0 END AS brenvik_sets_type_1,
  m.brenvik_differs_0,
  CASE WHEN m.brenvik_differs_0 = 1 THEN m.brenvik_before_0 END AS brenvik_before_0
FROM (
  SELECT c.brenvik_sequence_no, c.brenvik_effective_at, c.brenvik_delete, t."rowid" AS brenvik_row_id,
  CASE WHEN c."colour" IS DISTINCT FROM t."colour" THEN 1 ELSE 0 END AS brenvik_differs_0,
  t."colour" AS brenvik_before_0
  FROM "brenvik_work_staged" c
  LEFT JOIN "buoy" t ON t."code" = c."code"
  WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_late_or_several" b WHERE b."code" = c."code")
) m;

SELECT brenvik_decision_no, count(*) AS n, CAST(sum(brenvik_sets_type_1) AS BIGINT) AS sets, max(CASE WHEN brenvik_sets_type_1 = 1 THEN brenvik_differs_0 ELSE 0 END) AS brenvik_differs_0 FROM "brenvik_work_current_path" GROUP BY brenvik_decision_no;

CREATE TEMP TABLE "brenvik_work_stored_versions" AS
SELECT t."rowid" AS brenvik_row_id, t."code", CAST(NULL AS BIGINT) AS brenvik_effective_at, CAST(NULL AS BIGINT) AS brenvik_valid_to, CASE WHEN NOT (1 = 1) THEN 1 ELSE 0 END AS brenvik_deleted, t."colour", CASE WHEN 1 = 1 THEN 1 ELSE 0 END AS brenvik_is_current,
  b.brenvik_full_replay
FROM "buoy" t
JOIN "brenvik_work_late_or_several" b ON b."code" = t."code";

CREATE TEMP TABLE "brenvik_work_duplicates" AS
SELECT n.brenvik_sequence_no FROM (
  SELECT c.brenvik_sequence_no, row_number() OVER (
    PARTITION BY c."code", c."brenvik_effective_at", c."no", c."brenvik_delete", c."brenvik_column_set", c."colour" ORDER BY c.brenvik_sequence_no) AS brenvik_nth
  FROM "brenvik_work_staged" c
  JOIN (SELECT e."code", e."brenvik_effective_at" FROM "brenvik_work_staged" e GROUP BY e."code", e."brenvik_effective_at" HAVING count(*) > 1) s ON s."code" = c."code" AND s."brenvik_effective_at" = c."brenvik_effective_at"
) n WHERE n.brenvik_nth > 1 UNION 
SELECT c.brenvik_sequence_no
FROM "brenvik_work_staged" c
JOIN "brenvik"."change_log_buoy" k ON k."code" = c."code" AND k."brenvik_effective_at" = c."brenvik_effective_at" AND k."no" = c."no" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_column_set" = c."brenvik_column_set" AND k."colour" IS NOT DISTINCT FROM c."colour"
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_late_or_several" b WHERE b."code" = c."code" AND b.brenvik_full_replay = 1);

CREATE TEMP TABLE "brenvik_work_decided" AS
WITH events ("code", "brenvik_effective_at", "brenvik_rank", "brenvik_run", "brenvik_sequence_no", "brenvik_is_new", "brenvik_delete", "brenvik_column_set", "no", "colour") AS (
SELECT c."code",
  c.brenvik_effective_at, 1, :run, c.brenvik_sequence_no, 1, c.brenvik_delete, c.brenvik_column_set,
  c."no", c."colour"
FROM "brenvik_work_staged" c
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_late_or_several" b WHERE b."code" = c."code")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_sequence_no = c.brenvik_sequence_no) UNION ALL 
SELECT s."code",
  CAST(:high_effective AS BIGINT), 1, 0, 0, 0, 0, 0,
  CAST(NULL AS BIGINT),
  s."colour"
FROM "brenvik_work_stored_versions" s
WHERE s.brenvik_full_replay = 0 AND s.brenvik_is_current = 1 UNION ALL 
SELECT k."code",
  k.brenvik_effective_at, 1, k.brenvik_run, k.brenvik_sequence_no, 0, k.brenvik_delete, k.brenvik_column_set,
  k."no", k."colour"
FROM "brenvik_work_late_or_several" b
JOIN "brenvik"."change_log_buoy" k ON k."code" = b."code"
WHERE b.brenvik_full_replay = 1
), placed AS (
  SELECT e.*,
    row_number() OVER brenvik_line AS brenvik_position,
    CASE WHEN lead(brenvik_effective_at) OVER brenvik_line = brenvik_effective_at THEN 1 ELSE 0 END AS brenvik_is_superseded
  FROM events e
  WINDOW brenvik_line AS (PARTITION BY e."code" ORDER BY brenvik_effective_at, "brenvik_rank", "no", "brenvik_run", "brenvik_sequence_no")
), base AS (
  SELECT p."code", p."brenvik_effective_at", max(p.brenvik_position) AS brenvik_position, max(2 * p.brenvik_position + p.brenvik_delete) AS brenvik_end,
    max(CASE WHEN p.brenvik_delete = 0 THEN 1 ELSE 0 END) AS brenvik_some_upsert
  FROM placed p
  WHERE p.brenvik_is_new = 0
  GROUP BY p."code", p."brenvik_effective_at"
), lived AS (
  SELECT p.*, 1 - p.brenvik_is_superseded AS brenvik_is_last, sum(CASE WHEN p.brenvik_is_superseded = 0 THEN p.brenvik_delete ELSE 0 END) OVER (PARTITION BY p."code" ORDER BY p.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_lifetime, b.brenvik_position AS brenvik_replaces, b.brenvik_end - 2 * b.brenvik_position AS brenvik_replaced_delete, CASE WHEN p.brenvik_is_superseded = 0 AND p.brenvik_delete = 0 AND b.brenvik_some_upsert = 1 THEN 1 ELSE 0 END AS brenvik_was_known
  FROM placed p LEFT JOIN base b ON b."code" = p."code" AND b."brenvik_effective_at" = p."brenvik_effective_at"
  WHERE p.brenvik_is_superseded = 0 OR p.brenvik_is_new = 0
), states AS (
  SELECT l."code", l."brenvik_effective_at", l."brenvik_sequence_no", l."brenvik_column_set", l."brenvik_delete", l."brenvik_is_new", l."brenvik_position", l."brenvik_lifetime", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_was_known", l."brenvik_rank", l."brenvik_is_last", l."colour"
  FROM lived l
), compared AS (
  SELECT s.*, r."colour" AS brenvik_replaced_0
  FROM states s
  LEFT JOIN states r ON r.brenvik_is_new = 0 AND r."code" = s."code" AND r.brenvik_position = CASE WHEN s.brenvik_is_new = 1 THEN s.brenvik_replaces END
), lined AS (
  SELECT s."code", s."brenvik_effective_at", s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_is_new", s."brenvik_position", s."brenvik_lifetime", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_was_known", s."brenvik_rank", s."colour", CASE WHEN s.brenvik_is_new = 1 AND s.brenvik_replaces IS NOT NULL THEN s.brenvik_replaced_0 ELSE lag(s."colour") OVER brenvik_line END AS brenvik_before_0, max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_lifetime END) OVER (PARTITION BY s."code") AS brenvik_last_lifetime, max(s.brenvik_lifetime) OVER (PARTITION BY s."code") AS brenvik_lifetimes,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_position) OVER brenvik_line, 0) AS brenvik_prev_position
  FROM compared s
  WHERE s.brenvik_is_last = 1
  WINDOW brenvik_line AS (PARTITION BY s."code" ORDER BY s.brenvik_position)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN 1 ELSE 0 END AS brenvik_starts_version,
  CASE
    WHEN j.brenvik_delete = 0 AND j.brenvik_lifetime < j.brenvik_lifetimes THEN 'superseded'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN CASE WHEN max(j.brenvik_was_known) OVER (PARTITION BY j."code", j.brenvik_lifetime) = 0 THEN 'inserted' ELSE 'overwritten' END
    WHEN j."colour" IS DISTINCT FROM j.brenvik_before_0 THEN 'overwritten'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_target_versions" AS
WITH lasts AS (
  SELECT j."code", j.brenvik_effective_at, j.brenvik_delete, j.brenvik_position, j.brenvik_starts_version, j.brenvik_prev_delete, first_value(j."colour") OVER brenvik_latest AS "colour", j.brenvik_lifetime, j.brenvik_lifetimes
  FROM "brenvik_work_decided" j
  WINDOW brenvik_latest AS (PARTITION BY j."code" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_position DESC)
), spans AS (
  SELECT j.*, lead(j.brenvik_effective_at) OVER brenvik_line AS brenvik_valid_to,
    lead(j.brenvik_delete) OVER brenvik_line AS brenvik_deleted
  FROM lasts j
  WHERE j.brenvik_starts_version = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
  WINDOW brenvik_line AS (PARTITION BY j."code" ORDER BY j.brenvik_position)
)
SELECT row_number() OVER (ORDER BY v."code", v.brenvik_effective_at) AS brenvik_version_no,
  v."code", v.brenvik_effective_at, v.brenvik_valid_to, COALESCE(v.brenvik_deleted, 0) AS brenvik_deleted
  , v."colour"
FROM spans v
WHERE v.brenvik_delete = 0 AND v.brenvik_lifetime = v.brenvik_lifetimes;

CREATE TEMP TABLE "brenvik_work_removed_rows" AS
SELECT t."rowid" AS brenvik_row_id
FROM "buoy" t
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_current_path" p JOIN "brenvik_work_staged" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no = 4 AND t."code" = c."code");

CREATE TEMP TABLE "brenvik_work_actions" AS
WITH matched AS (
  SELECT COALESCE(d."code", s."code") AS "code", COALESCE(d."brenvik_effective_at", s."brenvik_effective_at") AS "brenvik_effective_at", d.brenvik_version_no AS brenvik_version_no, s.brenvik_row_id
  FROM "brenvik_work_target_versions" d FULL JOIN "brenvik_work_stored_versions" s ON d."code" = s."code"
), unmatched AS (
  SELECT m."code", m.brenvik_version_no, m.brenvik_row_id, row_number() OVER (PARTITION BY m."code", CASE WHEN m.brenvik_version_no IS NULL THEN 1 ELSE 0 END ORDER BY m.brenvik_effective_at) AS brenvik_nth FROM matched m WHERE m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL
), pairs AS (
  SELECT m.brenvik_version_no, m.brenvik_row_id FROM matched m WHERE NOT (m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL)
  UNION ALL
  SELECT max(r.brenvik_version_no) AS brenvik_version_no, max(r.brenvik_row_id) AS brenvik_row_id FROM unmatched r
  GROUP BY r."code", r.brenvik_nth
), compared AS (
SELECT CASE WHEN p.brenvik_version_no IS NULL THEN 'delete' WHEN p.brenvik_row_id IS NULL THEN 'insert' WHEN (d."colour" IS DISTINCT FROM s."colour") THEN 'update' WHEN (d."brenvik_deleted" IS DISTINCT FROM s."brenvik_deleted") THEN 'close' ELSE 'keep' END AS brenvik_action, p.brenvik_row_id, COALESCE(d."code", s."code") AS "code", d."brenvik_effective_at", d."brenvik_valid_to", d."brenvik_deleted", d."colour",
  COALESCE(CASE WHEN s.brenvik_valid_to IS NULL AND s.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_was_current, COALESCE(CASE WHEN d.brenvik_valid_to IS NULL AND d.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_is_current, CASE WHEN d."colour" IS DISTINCT FROM s."colour" THEN 1 ELSE 0 END AS brenvik_differs_0, CASE WHEN s.brenvik_full_replay = 1 AND ((NOT EXISTS (SELECT 1 FROM "brenvik_work_decided" e WHERE e."code" = s."code" AND (e.brenvik_is_new = 0 OR e.brenvik_replaces IS NOT NULL)))) THEN 1 ELSE 0 END AS brenvik_is_unlogged
FROM pairs p
LEFT JOIN "brenvik_work_target_versions" d ON d.brenvik_version_no = p.brenvik_version_no
LEFT JOIN "brenvik_work_stored_versions" s ON s.brenvik_row_id = p.brenvik_row_id)
SELECT a.* FROM compared a WHERE a.brenvik_action <> 'keep' OR a.brenvik_is_unlogged = 1;

SELECT a.*, e.ended, j.*, d.*, t.* FROM (SELECT count(CASE WHEN a.brenvik_action = 'close'  THEN 1 END) AS "close", count(CASE WHEN a.brenvik_action = 'update'  THEN 1 END) AS "update", count(CASE WHEN a.brenvik_action = 'insert'  THEN 1 END) AS "insert", count(CASE WHEN a.brenvik_action = 'delete'  THEN 1 END) AS "delete", CAST(COALESCE(sum(a.brenvik_is_current - a.brenvik_was_current), 0) AS BIGINT) AS current_change, count(DISTINCT CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(a."code" AS TEXT) END) AS unlogged, min(CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(a."code" AS TEXT) END) AS unlogged_key, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_0 ELSE 0 END) AS brenvik_differs_0 FROM "brenvik_work_actions" a) a CROSS JOIN (SELECT count(*) AS ended FROM (SELECT a."code" FROM "brenvik_work_actions" a GROUP BY a."code" HAVING max(a.brenvik_was_current) = 1 AND max(a.brenvik_is_current) = 0) k) e CROSS JOIN (SELECT count(CASE WHEN j.brenvik_decision = 'inserted'  THEN 1 END) AS "inserted", count(CASE WHEN j.brenvik_decision = 'versioned'  THEN 1 END) AS "versioned", count(CASE WHEN j.brenvik_decision = 'overwritten'  THEN 1 END) AS "overwritten", count(CASE WHEN j.brenvik_decision = 'deleted'  THEN 1 END) AS "deleted", count(CASE WHEN j.brenvik_decision = 'protected'  THEN 1 END) AS "protected", count(CASE WHEN j.brenvik_decision = 'unchanged'  THEN 1 END) AS "unchanged", count(CASE WHEN j.brenvik_decision = 'superseded'  THEN 1 END) AS "superseded", count(CASE WHEN j.brenvik_decision = 'ignored'  THEN 1 END) AS "ignored" FROM "brenvik_work_decided" j WHERE j.brenvik_is_new = 1) j CROSS JOIN (SELECT count(*) AS duplicates, count(CASE WHEN NOT (c."no" > CAST(:high_order_0 AS BIGINT) AND c.brenvik_effective_at > CAST(:high_effective AS BIGINT)) THEN 1 END) AS late_duplicates FROM "brenvik_work_duplicates" d JOIN "brenvik_work_staged" c ON d.brenvik_sequence_no = c.brenvik_sequence_no) d CROSS JOIN (SELECT count(*) AS tied, min(CAST(k."code" AS TEXT)) AS tied_key FROM (SELECT DISTINCT p."code" FROM (SELECT n."code", n."brenvik_effective_at", n."no", count(*) AS brenvik_contents FROM (SELECT DISTINCT c."code", c."brenvik_effective_at", c."no", c."brenvik_delete", c."brenvik_column_set", c."colour" AS brenvik_content_0 FROM "brenvik_work_staged" c WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_sequence_no = c.brenvik_sequence_no) AND NOT EXISTS (SELECT 1 FROM "brenvik"."change_log_buoy" k WHERE k."code" = c."code" AND k."brenvik_effective_at" = c."brenvik_effective_at" AND k."no" = c."no" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_column_set" = c."brenvik_column_set" AND k."colour" IS NOT DISTINCT FROM c."colour")) n GROUP BY n."code", n."brenvik_effective_at", n."no") p WHERE p.brenvik_contents > 1 OR EXISTS (SELECT 1 FROM "brenvik"."change_log_buoy" k WHERE k."code" = p."code" AND k."brenvik_effective_at" = p."brenvik_effective_at" AND k."no" = p."no")) k) t;

UPDATE "buoy" SET "colour" = s."colour" FROM (SELECT a.* FROM "brenvik_work_actions" a WHERE a.brenvik_action = 'update') s WHERE "buoy"."rowid" = s.brenvik_row_id;

DELETE FROM "buoy" WHERE "buoy"."rowid" IN (SELECT s.brenvik_row_id FROM (SELECT r.brenvik_row_id FROM "brenvik_work_removed_rows" r) s);

INSERT INTO "buoy" ("code", "colour") SELECT s."code", s."colour" FROM (SELECT c."code", c."colour", c.brenvik_effective_at AS brenvik_valid_from, NULL AS brenvik_valid_to, TRUE AS brenvik_current, FALSE AS brenvik_deleted FROM "brenvik_work_current_path" p JOIN "brenvik_work_staged" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no IN (1, 2)) s;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "code", "no", "colour") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."code", s."no", s."colour" FROM "brenvik_work_staged" s;

