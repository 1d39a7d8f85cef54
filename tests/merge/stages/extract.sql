-- Run 2: full_extract at 2024-05-02 02:00

CREATE TEMP TABLE "brenvik_work_diff_of_stream" AS -- in DuckDB, as the rows come
SELECT
  brenvik_sequence_no, CAST(1 AS INTEGER) AS brenvik_column_set,
  0 AS brenvik_delete,
  CAST($extract_at AS TIMESTAMP) AS brenvik_effective_at,
  "brenvik_integer_of_no" AS "no", "name", "phone",
  CASE WHEN brenvik_is_invalid THEN CAST(json_object('column', CASE WHEN brenvik_error_0 THEN 'no' WHEN brenvik_error_1 THEN 'no' END, 'value', CASE WHEN brenvik_error_0 THEN CAST("no" AS VARCHAR) WHEN brenvik_error_1 THEN CAST("no" AS VARCHAR) END, 'reason', concat_ws('; ', CASE WHEN brenvik_error_0 THEN 'no is empty' END, CASE WHEN brenvik_error_1 THEN 'no: ''' || CAST("no" AS VARCHAR) || ''' is not a valid integer' END), 'row', CAST(json_object('no', CAST("no" AS VARCHAR), 'name', CAST("name" AS VARCHAR), 'phone', CAST("phone" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_error
FROM (SELECT tested_rows.*, brenvik_error_0 OR brenvik_error_1 AS brenvik_is_invalid FROM (SELECT typed_rows.*, CASE WHEN "no" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_0, CASE WHEN ("no" IS NOT NULL AND ("brenvik_integer_of_no" IS NULL OR NOT regexp_full_match("no", '\s*[+-]?\d+(\.0*)?\s*'))) THEN TRUE ELSE FALSE END AS brenvik_error_1 FROM (SELECT rows_as_read.*, TRY_CAST("no" AS BIGINT) AS "brenvik_integer_of_no" FROM brenvik_stream AS rows_as_read) AS typed_rows) AS tested_rows) AS checked_rows
-- and of that
SELECT COALESCE(c."no", t."no") AS "no", c."brenvik_sequence_no", c."brenvik_column_set", c."brenvik_delete", c."brenvik_effective_at", c."name", c."phone", c."brenvik_error", t.brenvik_row_id, t."name" AS brenvik_before_0, t."phone" AS brenvik_before_1, CASE WHEN t."no" IS NOT NULL THEN 1 ELSE 0 END AS brenvik_matched
FROM "brenvik_work_extract_rows" c
FULL JOIN (
  SELECT v."rowid" AS brenvik_row_id, v."no", v."name", v."phone"
  FROM "buoy" v
  WHERE v."valid_to" IS NULL
) t ON t."no" = c."no"
WHERE c.brenvik_error IS NOT NULL OR (t."no" IS NULL OR c.brenvik_sequence_no IS NULL OR CASE WHEN c."name" = t."name" THEN FALSE ELSE (c."name" IS DISTINCT FROM t."name") END OR CASE WHEN c."phone" = t."phone" THEN FALSE ELSE (c."phone" IS DISTINCT FROM t."phone") END);

SELECT count(d.brenvik_error) AS invalid,
  count(CASE WHEN d.brenvik_error IS NOT NULL AND d.brenvik_matched = 1 THEN 1 END) AS invalid_matched,
  count(CASE WHEN d.brenvik_sequence_no IS NOT NULL AND d.brenvik_error IS NULL AND d.brenvik_matched = 0 THEN 1 END) AS new,
  count(*) - count(d.brenvik_sequence_no) AS absent,
  (SELECT count(*) AS n FROM "buoy" t WHERE t."valid_to" IS NULL) AS current_keys,
  CAST(CAST(:extract_at AS TIMESTAMP) AS TEXT) AS at,
  CASE WHEN CAST(:extract_at AS TIMESTAMP) <= CAST(:high_effective AS TIMESTAMP) THEN 1 ELSE 0 END AS late
FROM "brenvik_work_diff_of_stream" d;

CREATE TEMP TABLE "brenvik_work_rejected_keys" AS
SELECT DISTINCT e."no" FROM "brenvik_work_diff_of_stream" e
WHERE e.brenvik_error IS NOT NULL AND e."no" IS NOT NULL
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_diff_of_stream" g WHERE g.brenvik_sequence_no IS NOT NULL AND g.brenvik_error IS NULL AND g."no" = e."no");

CREATE TEMP TABLE "brenvik_work_invalid" AS
SELECT s.brenvik_sequence_no AS brenvik_sequence_no, CAST(s.brenvik_error AS JSON) ->> 'column' AS brenvik_column, CAST(s.brenvik_error AS JSON) ->> 'value' AS brenvik_value, CAST(s.brenvik_error AS JSON) ->> 'reason' AS brenvik_reason, CAST(s.brenvik_error AS JSON) ->> 'row' AS brenvik_row FROM "brenvik_work_diff_of_stream" s WHERE s.brenvik_error IS NOT NULL;

CREATE TEMP TABLE "brenvik_work_rejected" AS
SELECT f.brenvik_sequence_no, f.brenvik_column, f.brenvik_value, f.brenvik_reason, f.brenvik_row,
  CASE WHEN EXISTS (SELECT 1 FROM (
  SELECT r.reason, r.content FROM "brenvik"."rejects" r
  WHERE r.table_name = :table_name AND r.feed = :feed AND r.state = 'open') r WHERE r.content = f.brenvik_row) OR
    row_number() OVER (PARTITION BY f.brenvik_row ORDER BY f.brenvik_sequence_no) > 1
  THEN 1 ELSE 0 END AS brenvik_is_duplicate
FROM "brenvik_work_invalid" f;

SELECT count(*) AS n, COALESCE(sum(brenvik_is_duplicate), 0) AS again FROM "brenvik_work_rejected";

CREATE TEMP VIEW "brenvik_work_extract_diff" AS
SELECT s.* FROM "brenvik_work_diff_of_stream" s WHERE s.brenvik_error IS NULL;

CREATE TEMP TABLE "brenvik_work_absent_keys" AS
SELECT CAST(:absent_from AS BIGINT) + 2 * row_number() OVER (ORDER BY d."no") AS "brenvik_sequence_no",
  1 AS "brenvik_column_set",
  1 AS "brenvik_delete",
  CAST(:extract_at AS TIMESTAMP) AS "brenvik_effective_at",
  d."no",
  CAST(NULL AS TEXT) AS "name",
  CAST(NULL AS TEXT) AS "phone",
  CAST(NULL AS TEXT) AS "brenvik_error"
FROM "brenvik_work_extract_diff" d
WHERE d.brenvik_sequence_no IS NULL
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_rejected_keys" r WHERE r."no" = d."no");

CREATE TEMP TABLE "brenvik_work_extract_changes" AS
SELECT d."brenvik_sequence_no", d."brenvik_column_set", d."brenvik_delete", d."brenvik_effective_at", d."no", d."name", d."phone", d."brenvik_error" FROM "brenvik_work_extract_diff" d WHERE d.brenvik_sequence_no IS NOT NULL UNION ALL SELECT d."brenvik_sequence_no", d."brenvik_column_set", d."brenvik_delete", d."brenvik_effective_at", d."no", d."name", d."phone", d."brenvik_error" FROM "brenvik_work_absent_keys" d;

SELECT count(c.brenvik_error) AS invalid, 0 AS inactive, 0 AS derived,
  count(CASE WHEN c.brenvik_error IS NULL THEN 1 END) AS changes, count(CASE WHEN c.brenvik_error IS NULL AND NOT (c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 END) AS late, CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective_at END) AS TEXT) AS "brenvik_highest",
  (SELECT count(*) FROM (SELECT DISTINCT c."no" FROM "brenvik_work_extract_changes" c WHERE c.brenvik_error IS NULL) k) AS changed_keys
FROM "brenvik_work_extract_changes" c;

CREATE TEMP TABLE "brenvik_work_late_or_several" AS
SELECT k."no", CASE WHEN t."no" IS NULL THEN 1 ELSE 0 END AS brenvik_full_replay, k.brenvik_changes
FROM (
  SELECT c."no", 0 AS brenvik_late, count(*) AS brenvik_changes FROM "brenvik_work_extract_changes" c GROUP BY c."no" HAVING count(*) > 1
) k
LEFT JOIN (
  SELECT m."no" AS "no", m.brenvik_before_0 AS "name", m.brenvik_before_1 AS "phone", m.brenvik_row_id AS "rowid"
  FROM "brenvik_work_extract_diff" m WHERE m.brenvik_matched = 1) t ON t."no" = k."no";

SELECT count(*) AS replay_keys, CAST(COALESCE(sum(k.brenvik_changes), 0) AS BIGINT) AS replayed FROM "brenvik_work_late_or_several" k;

CREATE TEMP TABLE "brenvik_work_current_path" AS
SELECT m.brenvik_sequence_no, m.brenvik_effective_at, m.brenvik_row_id,
  CASE WHEN m.brenvik_row_id IS NULL THEN CASE WHEN m.brenvik_delete = 1 THEN 0 ELSE 1 END WHEN m.brenvik_delete = 1 THEN 4 WHEN m.brenvik_type_2_differs = 1 THEN 2 WHEN m.brenvik_differs_1 = 1 THEN 3 ELSE 6 END AS brenvik_decision_no,
  CASE WHEN m.brenvik_delete = 0 AND NOT (m.brenvik_row_id IS NULL) AND (m.brenvik_differs_1 = 1) THEN 1 ELSE 0 END AS brenvik_sets_type_1,
  m.brenvik_differs_1,
  CASE WHEN m.brenvik_type_2_differs = 1 OR m.brenvik_differs_1 = 1 THEN m.brenvik_before_0 END AS brenvik_before_0,
  CASE WHEN m.brenvik_type_2_differs = 1 OR m.brenvik_differs_1 = 1 THEN m.brenvik_before_1 END AS brenvik_before_1
FROM (
  SELECT c.brenvik_sequence_no, c.brenvik_effective_at, c.brenvik_delete, t."rowid" AS brenvik_row_id,
  CASE WHEN (c."name" IS DISTINCT FROM t."name") THEN 1 ELSE 0 END AS brenvik_type_2_differs,
  CASE WHEN c."phone" IS DISTINCT FROM t."phone" THEN 1 ELSE 0 END AS brenvik_differs_1,
  t."name" AS brenvik_before_0,
  t."phone" AS brenvik_before_1
  FROM "brenvik_work_extract_changes" c
  LEFT JOIN (
  SELECT m."no" AS "no", m.brenvik_before_0 AS "name", m.brenvik_before_1 AS "phone", m.brenvik_row_id AS "rowid"
  FROM "brenvik_work_extract_diff" m WHERE m.brenvik_matched = 1) t ON t."no" = c."no"
  WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_late_or_several" b WHERE b."no" = c."no")
) m;

SELECT brenvik_decision_no, count(*) AS n, CAST(sum(brenvik_sets_type_1) AS BIGINT) AS sets, max(CASE WHEN brenvik_sets_type_1 = 1 THEN brenvik_differs_1 ELSE 0 END) AS brenvik_differs_1 FROM "brenvik_work_current_path" GROUP BY brenvik_decision_no;

CREATE TEMP TABLE "brenvik_work_stored_versions" AS
SELECT t."rowid" AS brenvik_row_id, t."no", CAST(t."valid_from" AS TIMESTAMP) AS brenvik_effective_at, CAST(t."valid_to" AS TIMESTAMP) AS brenvik_valid_to, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_deleted, t."name", t."phone", CASE WHEN t."valid_to" IS NULL THEN 1 ELSE 0 END AS brenvik_is_current,
  b.brenvik_full_replay, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged_current
FROM "buoy" t
JOIN "brenvik_work_late_or_several" b ON b."no" = t."no" AND (b.brenvik_full_replay = 1 OR t."valid_to" IS NULL);

CREATE TEMP TABLE "brenvik_work_decided" AS
WITH events ("no", "brenvik_effective_at", "brenvik_rank", "brenvik_run", "brenvik_sequence_no", "brenvik_is_new", "brenvik_delete", "brenvik_column_set", "name", "phone") AS (
SELECT c."no",
  c.brenvik_effective_at, 1, :run, c.brenvik_sequence_no, 1, c.brenvik_delete, c.brenvik_column_set,
  c."name", c."phone"
FROM "brenvik_work_extract_changes" c
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_late_or_several" b WHERE b."no" = c."no") UNION ALL 
SELECT s."no",
  s.brenvik_effective_at, 1, 0, 0, 0, 0, 0,
  s."name",
  s."phone"
FROM "brenvik_work_stored_versions" s
WHERE s.brenvik_full_replay = 0 AND s.brenvik_is_current = 1 UNION ALL 
SELECT k."no",
  k.brenvik_effective_at, 1, k.brenvik_run, k.brenvik_sequence_no, 0, k.brenvik_delete, k.brenvik_column_set,
  k."name", k."phone"
FROM "brenvik_work_late_or_several" b
JOIN "brenvik"."change_log_buoy" k ON k."no" = b."no"
WHERE b.brenvik_full_replay = 1
), placed AS (
  SELECT e.*,
    row_number() OVER brenvik_line AS brenvik_position,
    CASE WHEN lead(brenvik_effective_at) OVER brenvik_line = brenvik_effective_at THEN 1 ELSE 0 END AS brenvik_is_superseded
  FROM events e
  WINDOW brenvik_line AS (PARTITION BY e."no" ORDER BY brenvik_effective_at, "brenvik_rank", "brenvik_run", "brenvik_sequence_no")
), lived AS (
  SELECT p.*, 1 - p.brenvik_is_superseded AS brenvik_is_last, CAST(NULL AS BIGINT) AS brenvik_replaces, CAST(NULL AS BIGINT) AS brenvik_replaced_delete
  FROM placed p
  WHERE p.brenvik_is_superseded = 0
), states AS (
  SELECT l."no", l."brenvik_effective_at", l."brenvik_sequence_no", l."brenvik_column_set", l."brenvik_delete", l."brenvik_is_new", l."brenvik_position", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_is_last", l."name", l."phone"
  FROM lived l
), lined AS (
  SELECT s."no", s."brenvik_effective_at", s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_is_new", s."brenvik_position", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."name", lag(s."name") OVER brenvik_line AS brenvik_before_0, lag(s."name") OVER brenvik_line AS brenvik_prev_0, s."phone", lag(s."phone") OVER brenvik_line AS brenvik_before_1, sum(s.brenvik_delete) OVER brenvik_line AS brenvik_lifetime,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_position) OVER brenvik_line, 0) AS brenvik_prev_position
  FROM states s
  WHERE s.brenvik_is_last = 1
  WINDOW brenvik_line AS (PARTITION BY s."no" ORDER BY s.brenvik_position)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR j."name" IS DISTINCT FROM j.brenvik_prev_0) THEN 1 ELSE 0 END AS brenvik_starts_version,
  CASE
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN CASE WHEN 0 = 0 THEN 'inserted' ELSE 'versioned' END
    WHEN j."name" IS DISTINCT FROM j.brenvik_before_0 THEN 'versioned'
    WHEN j."phone" IS DISTINCT FROM j.brenvik_before_1 THEN 'overwritten'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_target_versions" AS
WITH lasts AS (
  SELECT j."no", j.brenvik_effective_at, j.brenvik_delete, j.brenvik_position, j.brenvik_starts_version, j.brenvik_prev_delete, first_value(j."phone") OVER brenvik_latest AS "phone", j."name"
  FROM "brenvik_work_decided" j
  WINDOW brenvik_latest AS (PARTITION BY j."no" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_position DESC)
), spans AS (
  SELECT j.*, lead(j.brenvik_effective_at) OVER brenvik_line AS brenvik_valid_to,
    lead(j.brenvik_delete) OVER brenvik_line AS brenvik_deleted
  FROM lasts j
  WHERE j.brenvik_starts_version = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
  WINDOW brenvik_line AS (PARTITION BY j."no" ORDER BY j.brenvik_position)
)
SELECT row_number() OVER (ORDER BY v."no", v.brenvik_effective_at) AS brenvik_version_no,
  v."no", v.brenvik_effective_at, v.brenvik_valid_to, COALESCE(v.brenvik_deleted, 0) AS brenvik_deleted
  , v."name", v."phone"
FROM spans v
WHERE v.brenvik_delete = 0;

CREATE TEMP TABLE "brenvik_work_closed_versions" AS
SELECT t."rowid" AS brenvik_row_id, p.brenvik_sequence_no
FROM "brenvik_work_current_path" p
JOIN "brenvik_work_extract_changes" c ON c.brenvik_sequence_no = p.brenvik_sequence_no
JOIN "buoy" t ON t."no" = c."no"
WHERE p.brenvik_sets_type_1 = 1 AND NOT (t."valid_to" IS NULL) AND (c."phone" IS DISTINCT FROM t."phone");

CREATE TEMP TABLE "brenvik_work_actions" AS
WITH matched AS (
  SELECT COALESCE(d."no", s."no") AS "no", COALESCE(d."brenvik_effective_at", s."brenvik_effective_at") AS "brenvik_effective_at", d.brenvik_version_no AS brenvik_version_no, s.brenvik_row_id
  FROM "brenvik_work_target_versions" d FULL JOIN "brenvik_work_stored_versions" s ON d."no" = s."no" AND d.brenvik_effective_at = s.brenvik_effective_at
), unmatched AS (
  SELECT m."no", m.brenvik_version_no, m.brenvik_row_id, row_number() OVER (PARTITION BY m."no", CASE WHEN m.brenvik_version_no IS NULL THEN 1 ELSE 0 END ORDER BY m.brenvik_effective_at) AS brenvik_nth FROM matched m WHERE m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL
), pairs AS (
  SELECT m.brenvik_version_no, m.brenvik_row_id FROM matched m WHERE NOT (m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL)
  UNION ALL
  SELECT max(r.brenvik_version_no) AS brenvik_version_no, max(r.brenvik_row_id) AS brenvik_row_id FROM unmatched r
  GROUP BY r."no", r.brenvik_nth
), compared AS (
SELECT CASE WHEN p.brenvik_version_no IS NULL THEN 'delete' WHEN p.brenvik_row_id IS NULL THEN 'insert' WHEN (d."brenvik_effective_at" IS DISTINCT FROM s."brenvik_effective_at" OR d."name" IS DISTINCT FROM s."name" OR d."phone" IS DISTINCT FROM s."phone") THEN 'update' WHEN ((d."brenvik_valid_to" IS DISTINCT FROM s."brenvik_valid_to" OR d."brenvik_deleted" IS DISTINCT FROM s."brenvik_deleted") OR s.brenvik_flagged_current <> CASE WHEN d.brenvik_valid_to IS NULL THEN 1 ELSE 0 END) THEN 'close' ELSE 'keep' END AS brenvik_action, p.brenvik_row_id, COALESCE(d."no", s."no") AS "no", d."brenvik_effective_at", d."brenvik_valid_to", d."brenvik_deleted", d."name", d."phone",
  COALESCE(CASE WHEN s.brenvik_valid_to IS NULL AND s.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_was_current, COALESCE(CASE WHEN d.brenvik_valid_to IS NULL AND d.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_is_current, CASE WHEN d."brenvik_effective_at" IS DISTINCT FROM s."brenvik_effective_at" THEN 1 ELSE 0 END AS brenvik_differs_effective_at, CASE WHEN d."brenvik_valid_to" IS DISTINCT FROM s."brenvik_valid_to" THEN 1 ELSE 0 END AS brenvik_differs_valid_to, CASE WHEN d."brenvik_deleted" IS DISTINCT FROM s."brenvik_deleted" THEN 1 ELSE 0 END AS brenvik_differs_deleted, CASE WHEN d."name" IS DISTINCT FROM s."name" THEN 1 ELSE 0 END AS brenvik_differs_0, CASE WHEN d."phone" IS DISTINCT FROM s."phone" THEN 1 ELSE 0 END AS brenvik_differs_1, CASE WHEN s.brenvik_full_replay = 1 AND ((NOT EXISTS (SELECT 1 FROM "brenvik_work_decided" e WHERE e."no" = s."no" AND e.brenvik_effective_at = s.brenvik_effective_at AND (e.brenvik_is_new = 0 OR e.brenvik_replaces IS NOT NULL))) OR (s.brenvik_valid_to IS NOT NULL AND NOT EXISTS (SELECT 1 FROM "brenvik_work_decided" e WHERE e."no" = s."no" AND e.brenvik_effective_at = s.brenvik_valid_to AND (e.brenvik_is_new = 0 OR e.brenvik_replaces IS NOT NULL)))) THEN 1 ELSE 0 END AS brenvik_is_unlogged
FROM pairs p
LEFT JOIN "brenvik_work_target_versions" d ON d.brenvik_version_no = p.brenvik_version_no
LEFT JOIN "brenvik_work_stored_versions" s ON s.brenvik_row_id = p.brenvik_row_id UNION ALL 
SELECT 'update', t."rowid" AS brenvik_row_id, t."no", t."valid_from", t."valid_to", CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END, t."name", x."phone", 0, 0, 0, 0, 0, 0, CASE WHEN x."phone" IS DISTINCT FROM t."phone" THEN 1 ELSE 0 END, 0
FROM (
  SELECT DISTINCT d."no", d."phone" FROM "brenvik_work_target_versions" d
) x
JOIN "brenvik_work_late_or_several" b ON b."no" = x."no" AND b.brenvik_full_replay = 0
JOIN "buoy" t ON t."no" = x."no"
WHERE NOT (t."valid_to" IS NULL) AND (x."phone" IS DISTINCT FROM t."phone"))
SELECT a.* FROM compared a WHERE a.brenvik_action <> 'keep' OR a.brenvik_is_unlogged = 1;

SELECT a.*, e.ended, j.* FROM (SELECT count(CASE WHEN a.brenvik_action = 'close'  THEN 1 END) AS "close", count(CASE WHEN a.brenvik_action = 'update'  THEN 1 END) AS "update", count(CASE WHEN a.brenvik_action = 'insert'  THEN 1 END) AS "insert", count(CASE WHEN a.brenvik_action = 'delete'  THEN 1 END) AS "delete", CAST(COALESCE(sum(a.brenvik_is_current - a.brenvik_was_current), 0) AS BIGINT) AS current_change, count(DISTINCT CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(a."no" AS TEXT) END) AS unlogged, min(CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(a."no" AS TEXT) END) AS unlogged_key, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_effective_at ELSE 0 END) AS brenvik_differs_effective_at, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_valid_to ELSE 0 END) AS brenvik_differs_valid_to, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_deleted ELSE 0 END) AS brenvik_differs_deleted, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_0 ELSE 0 END) AS brenvik_differs_0, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_1 ELSE 0 END) AS brenvik_differs_1 FROM "brenvik_work_actions" a) a CROSS JOIN (SELECT count(*) AS ended FROM (SELECT a."no" FROM "brenvik_work_actions" a GROUP BY a."no" HAVING max(a.brenvik_was_current) = 1 AND max(a.brenvik_is_current) = 0) k) e CROSS JOIN (SELECT count(CASE WHEN j.brenvik_decision = 'inserted'  THEN 1 END) AS "inserted", count(CASE WHEN j.brenvik_decision = 'versioned'  THEN 1 END) AS "versioned", count(CASE WHEN j.brenvik_decision = 'overwritten'  THEN 1 END) AS "overwritten", count(CASE WHEN j.brenvik_decision = 'deleted'  THEN 1 END) AS "deleted", count(CASE WHEN j.brenvik_decision = 'protected'  THEN 1 END) AS "protected", count(CASE WHEN j.brenvik_decision = 'unchanged'  THEN 1 END) AS "unchanged", count(CASE WHEN j.brenvik_decision = 'superseded'  THEN 1 END) AS "superseded", count(CASE WHEN j.brenvik_decision = 'ignored'  THEN 1 END) AS "ignored" FROM "brenvik_work_decided" j WHERE j.brenvik_is_new = 1) j;

SELECT count(*) AS tied, min(CAST(k."no" AS TEXT)) AS tied_key FROM (SELECT DISTINCT p."no" FROM (SELECT n."no", n."brenvik_effective_at", count(*) AS brenvik_contents FROM (SELECT DISTINCT c."no", c."brenvik_effective_at", c."brenvik_delete", c."brenvik_column_set", c."name" AS brenvik_content_0, c."phone" AS brenvik_content_1 FROM "brenvik_work_extract_changes" c) n GROUP BY n."no", n."brenvik_effective_at") p WHERE p.brenvik_contents > 1) k;

UPDATE "buoy" SET "valid_to" = s.brenvik_valid_to, "is_current" = (s.brenvik_valid_to IS NULL), "is_deleted" = (s.brenvik_deleted = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT p.brenvik_row_id, p.brenvik_effective_at AS brenvik_valid_to, CASE WHEN p.brenvik_decision_no = 4 THEN 1 ELSE 0 END AS brenvik_deleted FROM "brenvik_work_current_path" p WHERE p.brenvik_decision_no IN (2, 4)) s WHERE "buoy"."rowid" = s.brenvik_row_id;

UPDATE "buoy" SET "phone" = s."phone", "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT r.brenvik_row_id, c."phone" FROM (SELECT p.brenvik_row_id, p.brenvik_sequence_no FROM "brenvik_work_current_path" p WHERE p.brenvik_sets_type_1 = 1 AND p.brenvik_decision_no IN (3, 5, 6)) r JOIN "brenvik_work_extract_changes" c ON c.brenvik_sequence_no = r.brenvik_sequence_no) s WHERE "buoy"."rowid" = s.brenvik_row_id;

INSERT INTO "buoy" ("buoy_key", "no", "name", "phone", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at") SELECT :last_key + row_number() OVER (), s."no", s."name", s."phone", s.brenvik_valid_from, CAST(s.brenvik_valid_to AS TIMESTAMP), s.brenvik_current, s.brenvik_deleted, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP) FROM (SELECT c."no", c."name", c."phone", c.brenvik_effective_at AS brenvik_valid_from, NULL AS brenvik_valid_to, TRUE AS brenvik_current, FALSE AS brenvik_deleted FROM "brenvik_work_current_path" p JOIN "brenvik_work_extract_changes" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no IN (1, 2) UNION ALL SELECT s."no", s."name", s."phone", s.brenvik_effective_at AS brenvik_valid_from, s.brenvik_valid_to AS brenvik_valid_to, (s.brenvik_valid_to IS NULL) AS brenvik_current, (s.brenvik_deleted = 1) AS brenvik_deleted FROM "brenvik_work_actions" s WHERE s.brenvik_action = 'insert') s;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "no", "name", "phone") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."no", s."name", s."phone" FROM "brenvik_work_extract_changes" s;

INSERT INTO "brenvik"."rejects" ("reject", "table_name", "feed", "run", "file", "line", "column_name", "value", "reason", "content", "state", "rejected_at", "decided_by")
SELECT :last_reject + row_number() OVER (ORDER BY r.brenvik_sequence_no), :table_name, :feed, :run, NULL, CASE WHEN r.brenvik_sequence_no % 1000000000000 < 200000000000 THEN CAST(floor((r.brenvik_sequence_no % 1000000000000) / 2) AS BIGINT) END,
  r.brenvik_column, r.brenvik_value, r.brenvik_reason, r.brenvik_row, 'open', CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_rejected" r
WHERE r.brenvik_is_duplicate = 0;

INSERT INTO "brenvik"."rejected_keys" ("table_name", "run", "key")
SELECT :table_name, :run, CAST(r."no" AS TEXT) FROM "brenvik_work_rejected_keys" r;

-- Run 4: revert 2

CREATE TEMP VIEW "brenvik_work_unreverted_changes" AS
SELECT k."brenvik_run", k."brenvik_sequence_no", k."brenvik_column_set", k."brenvik_delete", k."brenvik_effective_at", k."no", k."name", k."phone" FROM "brenvik"."change_log_buoy" k WHERE k.brenvik_run NOT IN (4);

CREATE TEMP TABLE "brenvik_work_replay_keys" AS
SELECT DISTINCT b."no", 1 AS brenvik_full_replay FROM (SELECT k."no" FROM "brenvik"."change_log_buoy" k WHERE k.brenvik_run IN (2) AND NOT EXISTS (
  SELECT 1 FROM "brenvik"."change_log_buoy" o WHERE o.brenvik_run = :to_run AND o."no" = k."no")) b;

CREATE TEMP TABLE "brenvik_work_decided" AS
WITH events ("no", "brenvik_effective_at", "brenvik_rank", "brenvik_run", "brenvik_sequence_no", "brenvik_is_new", "brenvik_delete", "brenvik_column_set", "name", "phone") AS (
SELECT k."no",
  k.brenvik_effective_at, 1, k.brenvik_run, k.brenvik_sequence_no, 0, k.brenvik_delete, k.brenvik_column_set,
  k."name", k."phone"
FROM "brenvik_work_replay_keys" b
JOIN "brenvik_work_unreverted_changes" k ON k."no" = b."no"
WHERE b.brenvik_full_replay = 1
), placed AS (
  SELECT e.*,
    row_number() OVER brenvik_line AS brenvik_position,
    CASE WHEN lead(brenvik_effective_at) OVER brenvik_line = brenvik_effective_at THEN 1 ELSE 0 END AS brenvik_is_superseded
  FROM events e
  WINDOW brenvik_line AS (PARTITION BY e."no" ORDER BY brenvik_effective_at, "brenvik_rank", "brenvik_run", "brenvik_sequence_no")
), lived AS (
  SELECT p.*, 1 - p.brenvik_is_superseded AS brenvik_is_last, CAST(NULL AS BIGINT) AS brenvik_replaces, CAST(NULL AS BIGINT) AS brenvik_replaced_delete
  FROM placed p
  WHERE p.brenvik_is_superseded = 0
), states AS (
  SELECT l."no", l."brenvik_effective_at", l."brenvik_sequence_no", l."brenvik_column_set", l."brenvik_delete", l."brenvik_is_new", l."brenvik_position", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_is_last", l."name", l."phone"
  FROM lived l
), lined AS (
  SELECT s."no", s."brenvik_effective_at", s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_is_new", s."brenvik_position", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."name", lag(s."name") OVER brenvik_line AS brenvik_before_0, lag(s."name") OVER brenvik_line AS brenvik_prev_0, s."phone", lag(s."phone") OVER brenvik_line AS brenvik_before_1, sum(s.brenvik_delete) OVER brenvik_line AS brenvik_lifetime,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_position) OVER brenvik_line, 0) AS brenvik_prev_position
  FROM states s
  WHERE s.brenvik_is_last = 1
  WINDOW brenvik_line AS (PARTITION BY s."no" ORDER BY s.brenvik_position)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR j."name" IS DISTINCT FROM j.brenvik_prev_0) THEN 1 ELSE 0 END AS brenvik_starts_version,
  CASE
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN CASE WHEN 0 = 0 THEN 'inserted' ELSE 'versioned' END
    WHEN j."name" IS DISTINCT FROM j.brenvik_before_0 THEN 'versioned'
    WHEN j."phone" IS DISTINCT FROM j.brenvik_before_1 THEN 'overwritten'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

-- as before: CREATE TEMP TABLE "brenvik_work_target_versions" AS

CREATE TEMP TABLE "brenvik_work_explicit_0" AS
SELECT CAST(:to_run AS BIGINT) AS brenvik_run, CAST(:explicit_from AS BIGINT) + 2 * row_number() OVER (ORDER BY x."brenvik_delete", x."no") AS brenvik_sequence_no, 1 AS brenvik_column_set, x.brenvik_delete,
  CAST(:extract_at AS TIMESTAMP) AS brenvik_effective_at, x."no", x."name", x."phone"
FROM (SELECT 0 AS brenvik_delete, b."no", d."name", d."phone" FROM "brenvik_work_replay_keys" b JOIN "brenvik_work_target_versions" d ON d."no" = b."no" AND d.brenvik_valid_to IS NULL WHERE NOT EXISTS (SELECT 1 FROM (SELECT r.key FROM "brenvik"."rejected_keys" r WHERE r.table_name = :table_name AND r.run = :to_run) r WHERE r.key = CAST(b."no" AS TEXT)) UNION ALL SELECT 1 AS brenvik_delete, b."no", CAST(NULL AS TEXT) AS "name", CAST(NULL AS TEXT) AS "phone" FROM "brenvik_work_replay_keys" b WHERE NOT EXISTS (SELECT 1 FROM (SELECT r.key FROM "brenvik"."rejected_keys" r WHERE r.table_name = :table_name AND r.run = :to_run) r WHERE r.key = CAST(b."no" AS TEXT)) AND NOT EXISTS (SELECT 1 FROM "brenvik_work_target_versions" d WHERE d."no" = b."no" AND d.brenvik_valid_to IS NULL)) x;

CREATE TEMP VIEW "brenvik_work_unreverted_changes" AS
SELECT k."brenvik_run", k."brenvik_sequence_no", k."brenvik_column_set", k."brenvik_delete", k."brenvik_effective_at", k."no", k."name", k."phone" FROM "brenvik"."change_log_buoy" k WHERE k.brenvik_run NOT IN (2) UNION ALL SELECT k."brenvik_run", k."brenvik_sequence_no", k."brenvik_column_set", k."brenvik_delete", k."brenvik_effective_at", k."no", k."name", k."phone" FROM "brenvik_work_beside_explicit_0" k WHERE k.brenvik_run NOT IN (2);

CREATE TEMP TABLE "brenvik_work_replay_keys" AS
SELECT DISTINCT b."no", 1 AS brenvik_full_replay FROM (SELECT k."no" FROM "brenvik"."change_log_buoy" k WHERE k.brenvik_run IN (2)) b;

CREATE TEMP TABLE "brenvik_work_stored_versions" AS
SELECT t."rowid" AS brenvik_row_id, t."no", CAST(t."valid_from" AS TIMESTAMP) AS brenvik_effective_at, CAST(t."valid_to" AS TIMESTAMP) AS brenvik_valid_to, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_deleted, t."name", t."phone", CASE WHEN t."valid_to" IS NULL THEN 1 ELSE 0 END AS brenvik_is_current,
  b.brenvik_full_replay, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged_current
FROM "buoy" t
JOIN "brenvik_work_replay_keys" b ON b."no" = t."no" AND (b.brenvik_full_replay = 1 OR t."valid_to" IS NULL);

CREATE TEMP TABLE "brenvik_work_decided" AS
WITH events ("no", "brenvik_effective_at", "brenvik_rank", "brenvik_run", "brenvik_sequence_no", "brenvik_is_new", "brenvik_delete", "brenvik_column_set", "name", "phone") AS (
SELECT k."no",
  k.brenvik_effective_at, 1, k.brenvik_run, k.brenvik_sequence_no, 0, k.brenvik_delete, k.brenvik_column_set,
  k."name", k."phone"
FROM "brenvik_work_replay_keys" b
JOIN "brenvik_work_unreverted_changes" k ON k."no" = b."no"
WHERE b.brenvik_full_replay = 1
), placed AS (
  SELECT e.*,
    row_number() OVER brenvik_line AS brenvik_position,
    CASE WHEN lead(brenvik_effective_at) OVER brenvik_line = brenvik_effective_at THEN 1 ELSE 0 END AS brenvik_is_superseded
  FROM events e
  WINDOW brenvik_line AS (PARTITION BY e."no" ORDER BY brenvik_effective_at, "brenvik_rank", "brenvik_run", "brenvik_sequence_no")
), lived AS (
  SELECT p.*, 1 - p.brenvik_is_superseded AS brenvik_is_last, CAST(NULL AS BIGINT) AS brenvik_replaces, CAST(NULL AS BIGINT) AS brenvik_replaced_delete
  FROM placed p
  WHERE p.brenvik_is_superseded = 0
), states AS (
  SELECT l."no", l."brenvik_effective_at", l."brenvik_sequence_no", l."brenvik_column_set", l."brenvik_delete", l."brenvik_is_new", l."brenvik_position", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_is_last", l."name", l."phone"
  FROM lived l
), lined AS (
  SELECT s."no", s."brenvik_effective_at", s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_is_new", s."brenvik_position", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."name", lag(s."name") OVER brenvik_line AS brenvik_before_0, lag(s."name") OVER brenvik_line AS brenvik_prev_0, s."phone", lag(s."phone") OVER brenvik_line AS brenvik_before_1, sum(s.brenvik_delete) OVER brenvik_line AS brenvik_lifetime,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_position) OVER brenvik_line, 0) AS brenvik_prev_position
  FROM states s
  WHERE s.brenvik_is_last = 1
  WINDOW brenvik_line AS (PARTITION BY s."no" ORDER BY s.brenvik_position)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR j."name" IS DISTINCT FROM j.brenvik_prev_0) THEN 1 ELSE 0 END AS brenvik_starts_version,
  CASE
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN CASE WHEN 0 = 0 THEN 'inserted' ELSE 'versioned' END
    WHEN j."name" IS DISTINCT FROM j.brenvik_before_0 THEN 'versioned'
    WHEN j."phone" IS DISTINCT FROM j.brenvik_before_1 THEN 'overwritten'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

-- as before: CREATE TEMP TABLE "brenvik_work_target_versions" AS

CREATE TEMP TABLE "brenvik_work_actions" AS
WITH matched AS (
  SELECT COALESCE(d."no", s."no") AS "no", COALESCE(d."brenvik_effective_at", s."brenvik_effective_at") AS "brenvik_effective_at", CASE WHEN row_number() OVER (PARTITION BY d.brenvik_version_no ORDER BY s.brenvik_row_id) = 1 THEN d.brenvik_version_no END AS brenvik_version_no, s.brenvik_row_id
  FROM "brenvik_work_target_versions" d FULL JOIN "brenvik_work_stored_versions" s ON d."no" = s."no" AND d.brenvik_effective_at = s.brenvik_effective_at
), unmatched AS (
  SELECT m."no", m.brenvik_version_no, m.brenvik_row_id, row_number() OVER (PARTITION BY m."no", CASE WHEN m.brenvik_version_no IS NULL THEN 1 ELSE 0 END ORDER BY m.brenvik_effective_at) AS brenvik_nth FROM matched m WHERE m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL
), pairs AS (
  SELECT m.brenvik_version_no, m.brenvik_row_id FROM matched m WHERE NOT (m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL)
  UNION ALL
  SELECT max(r.brenvik_version_no) AS brenvik_version_no, max(r.brenvik_row_id) AS brenvik_row_id FROM unmatched r
  GROUP BY r."no", r.brenvik_nth
), compared AS (
SELECT CASE WHEN p.brenvik_version_no IS NULL THEN 'delete' WHEN p.brenvik_row_id IS NULL THEN 'insert' WHEN (d."brenvik_effective_at" IS DISTINCT FROM s."brenvik_effective_at" OR d."name" IS DISTINCT FROM s."name" OR d."phone" IS DISTINCT FROM s."phone") THEN 'update' WHEN ((d."brenvik_valid_to" IS DISTINCT FROM s."brenvik_valid_to" OR d."brenvik_deleted" IS DISTINCT FROM s."brenvik_deleted") OR s.brenvik_flagged_current <> CASE WHEN d.brenvik_valid_to IS NULL THEN 1 ELSE 0 END) THEN 'close' ELSE 'keep' END AS brenvik_action, p.brenvik_row_id, COALESCE(d."no", s."no") AS "no", d."brenvik_effective_at", d."brenvik_valid_to", d."brenvik_deleted", d."name", d."phone",
  COALESCE(CASE WHEN s.brenvik_valid_to IS NULL AND s.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_was_current, COALESCE(CASE WHEN d.brenvik_valid_to IS NULL AND d.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_is_current, CASE WHEN d."brenvik_effective_at" IS DISTINCT FROM s."brenvik_effective_at" THEN 1 ELSE 0 END AS brenvik_differs_effective_at, CASE WHEN d."brenvik_valid_to" IS DISTINCT FROM s."brenvik_valid_to" THEN 1 ELSE 0 END AS brenvik_differs_valid_to, CASE WHEN d."brenvik_deleted" IS DISTINCT FROM s."brenvik_deleted" THEN 1 ELSE 0 END AS brenvik_differs_deleted, CASE WHEN d."name" IS DISTINCT FROM s."name" THEN 1 ELSE 0 END AS brenvik_differs_0, CASE WHEN d."phone" IS DISTINCT FROM s."phone" THEN 1 ELSE 0 END AS brenvik_differs_1, CASE WHEN s."no" IS NOT NULL AND ((NOT EXISTS (SELECT 1 FROM "brenvik"."change_log_buoy" e JOIN "brenvik_work_replay_keys" b ON b."no" = e."no" WHERE e."no" = s."no" AND e.brenvik_effective_at = s.brenvik_effective_at)) OR (s.brenvik_valid_to IS NOT NULL AND NOT EXISTS (SELECT 1 FROM "brenvik"."change_log_buoy" e JOIN "brenvik_work_replay_keys" b ON b."no" = e."no" WHERE e."no" = s."no" AND e.brenvik_effective_at = s.brenvik_valid_to))) THEN 1 ELSE 0 END AS brenvik_is_unlogged
FROM pairs p
LEFT JOIN "brenvik_work_target_versions" d ON d.brenvik_version_no = p.brenvik_version_no
LEFT JOIN "brenvik_work_stored_versions" s ON s.brenvik_row_id = p.brenvik_row_id UNION ALL 
SELECT 'update', t."rowid" AS brenvik_row_id, t."no", t."valid_from", t."valid_to", CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END, t."name", x."phone", 0, 0, 0, 0, 0, 0, CASE WHEN x."phone" IS DISTINCT FROM t."phone" THEN 1 ELSE 0 END, 0
FROM (
  SELECT DISTINCT d."no", d."phone" FROM "brenvik_work_target_versions" d
) x
JOIN "brenvik_work_replay_keys" b ON b."no" = x."no" AND b.brenvik_full_replay = 0
JOIN "buoy" t ON t."no" = x."no"
WHERE NOT (t."valid_to" IS NULL) AND (x."phone" IS DISTINCT FROM t."phone"))
SELECT a.* FROM compared a WHERE a.brenvik_action <> 'keep' OR a.brenvik_is_unlogged = 1;

SELECT a.*, e.ended FROM (SELECT count(CASE WHEN a.brenvik_action = 'close'  THEN 1 END) AS "close", count(CASE WHEN a.brenvik_action = 'update'  THEN 1 END) AS "update", count(CASE WHEN a.brenvik_action = 'insert'  THEN 1 END) AS "insert", count(CASE WHEN a.brenvik_action = 'delete'  THEN 1 END) AS "delete", CAST(COALESCE(sum(a.brenvik_is_current - a.brenvik_was_current), 0) AS BIGINT) AS current_change, count(DISTINCT CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(a."no" AS TEXT) END) AS unlogged, min(CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(a."no" AS TEXT) END) AS unlogged_key, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_effective_at ELSE 0 END) AS brenvik_differs_effective_at, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_valid_to ELSE 0 END) AS brenvik_differs_valid_to, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_deleted ELSE 0 END) AS brenvik_differs_deleted, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_0 ELSE 0 END) AS brenvik_differs_0, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_1 ELSE 0 END) AS brenvik_differs_1 FROM "brenvik_work_actions" a) a CROSS JOIN (SELECT count(*) AS ended FROM (SELECT a."no" FROM "brenvik_work_actions" a GROUP BY a."no" HAVING max(a.brenvik_was_current) = 1 AND max(a.brenvik_is_current) = 0) k) e;

SELECT a."no", CAST(sum(CASE WHEN a.brenvik_action = 'insert' THEN 1 ELSE 0 END) AS BIGINT) AS brenvik_added, CAST(sum(CASE WHEN a.brenvik_action IN ('update', 'close') THEN 1 ELSE 0 END) AS BIGINT) AS brenvik_changed, CAST(sum(CASE WHEN a.brenvik_action = 'delete' THEN 1 ELSE 0 END) AS BIGINT) AS brenvik_removed FROM "brenvik_work_actions" a WHERE a.brenvik_action <> 'keep' GROUP BY a."no" ORDER BY a."no";

SELECT CAST(max(c.brenvik_effective_at) AS TEXT) AS "brenvik_highest" FROM "brenvik_work_unreverted_changes" c;

UPDATE "buoy" SET "valid_to" = s.brenvik_valid_to, "is_current" = (s.brenvik_valid_to IS NULL), "is_deleted" = (s.brenvik_deleted = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT a.brenvik_row_id, a.brenvik_valid_to, a.brenvik_deleted FROM "brenvik_work_actions" a WHERE a.brenvik_action = 'close') s WHERE "buoy"."rowid" = s.brenvik_row_id;

UPDATE "buoy" SET "phone" = s."phone", "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT a.* FROM "brenvik_work_actions" a WHERE a.brenvik_action = 'update') s WHERE "buoy"."rowid" = s.brenvik_row_id;

DELETE FROM "buoy" WHERE "buoy"."rowid" IN (SELECT s.brenvik_row_id FROM (SELECT a.brenvik_row_id FROM "brenvik_work_actions" a WHERE a.brenvik_action = 'delete') s);

