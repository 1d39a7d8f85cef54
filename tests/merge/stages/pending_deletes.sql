-- Run 2: changes

CREATE TEMP TABLE "brenvik_work_approved" AS
SELECT x.run, x.sequence_no FROM (
  SELECT r.run, r.sequence_no FROM "brenvik"."pending_deletes" r
  WHERE r.table_name = :table_name AND ((r.state = 'approved'))) x;

CREATE TEMP VIEW "brenvik_work_active_changes" AS
SELECT k."brenvik_run", k."brenvik_sequence_no", k."brenvik_column_set", k."brenvik_delete", k."brenvik_effective_at", k."buoy_code", k."at", k."name", k."colour" FROM "brenvik"."change_log_buoy" k WHERE (k.brenvik_delete = 0 OR EXISTS (
  SELECT 1 FROM "brenvik_work_approved" r WHERE r.run = k.brenvik_run AND r.sequence_no = k.brenvik_sequence_no));

CREATE TEMP TABLE "brenvik_work_pending_keys" AS
SELECT k."buoy_code", h.delete_no, h.from_extract
FROM (
  SELECT r.delete_no, r.feed, r.run, r.sequence_no, r.from_extract, r.pending_since FROM "brenvik"."pending_deletes" r
  WHERE r.table_name = :table_name AND r.state = 'pending' AND NOT EXISTS (SELECT 1 FROM "brenvik"."reverted_runs" w WHERE w.table_name = r.table_name AND w.run = r.run AND w.undone_by IS NULL)) h JOIN "brenvik"."change_log_buoy" k ON k.brenvik_run = h.run AND k.brenvik_sequence_no = h.sequence_no;

SELECT count(*) AS n FROM "brenvik_work_pending_keys";

CREATE TEMP TABLE "brenvik_work_staged" AS -- in DuckDB, as the rows come
SELECT
  brenvik_sequence_no, CAST(1 AS INTEGER) AS brenvik_column_set,
  brenvik_is_delete AS brenvik_delete,
  CASE WHEN NOT brenvik_is_invalid THEN "brenvik_timestamp_of_at" END AS brenvik_effective_at,
  "buoy_code", CASE WHEN NOT brenvik_is_invalid THEN "brenvik_timestamp_of_at" END AS "at", "name", "colour",
  CASE WHEN brenvik_is_invalid THEN CAST(json_object('column', CASE WHEN brenvik_error_0 THEN 'op' WHEN brenvik_error_1 THEN 'buoy_code' WHEN brenvik_error_2 THEN 'at' WHEN brenvik_error_3 THEN 'at' END, 'value', CASE WHEN brenvik_error_0 THEN CAST("op" AS VARCHAR) WHEN brenvik_error_1 THEN CAST("buoy_code" AS VARCHAR) WHEN brenvik_error_2 THEN CAST("at" AS VARCHAR) WHEN brenvik_error_3 THEN CAST("at" AS VARCHAR) END, 'reason', concat_ws('; ', CASE WHEN brenvik_error_0 THEN COALESCE('op: ''' || CAST("op" AS VARCHAR) || ''' is not a valid operation; valid codes are i, insert, u, update, d, delete', 'op: nothing is not a valid operation; valid codes are i, insert, u, update, d, delete') END, CASE WHEN brenvik_error_1 THEN 'buoy_code is empty' END, CASE WHEN brenvik_error_2 THEN 'at is empty' END, CASE WHEN brenvik_error_3 THEN CASE WHEN isfinite("brenvik_timestamp_of_at") AND NOT ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) THEN 'at: ''' || CAST("at" AS VARCHAR) || ''' is outside the years 1 to 9999' ELSE 'at: ''' || CAST("at" AS VARCHAR) || ''' is not a valid timestamp' END END), 'row', CAST(json_object('op', CAST("op" AS VARCHAR), 'buoy_code', CAST("buoy_code" AS VARCHAR), 'at', CAST("at" AS VARCHAR), 'name', CAST("name" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_error
FROM (SELECT tested_rows.*, brenvik_error_0 OR brenvik_error_1 OR brenvik_error_2 OR brenvik_error_3 AS brenvik_is_invalid FROM (SELECT typed_rows.*, CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN TRUE ELSE FALSE END AS brenvik_error_0, CASE WHEN "buoy_code" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_1, CASE WHEN "at" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_2, CASE WHEN ("at" IS NOT NULL AND (("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) IS NOT TRUE)) THEN TRUE ELSE FALSE END AS brenvik_error_3 FROM (SELECT cast_rows.*, CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END AS brenvik_is_delete FROM (SELECT rows_as_read.*, CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("at" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN NOT regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') THEN NULL
    WHEN NOT regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))
    WHEN timezone(regexp_extract("at", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1), COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) = TRY_CAST(regexp_extract("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP) THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END AS "brenvik_timestamp_of_at" FROM brenvik_stream AS rows_as_read) AS cast_rows) AS typed_rows) AS tested_rows) AS checked_rows;

SELECT count(c.brenvik_error) AS invalid, count(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 1 THEN 1 END) AS inactive, 0 AS derived,
  count(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 0 THEN 1 END) AS changes, count(CASE WHEN c.brenvik_error IS NULL AND NOT (c."at" > CAST(:high_order_0 AS TIMESTAMP) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 END) AS late, CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 0 AND c."at" > CAST(:high_order_0 AS TIMESTAMP) THEN c."at" END) AS TEXT) AS "brenvik_highest_0", CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 0 AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective_at END) AS TEXT) AS "brenvik_highest",
  (SELECT count(*) FROM (SELECT DISTINCT c."buoy_code" FROM "brenvik_work_staged" c WHERE c.brenvik_error IS NULL AND c.brenvik_delete = 0) k) AS changed_keys
FROM "brenvik_work_staged" c;

CREATE TEMP TABLE "brenvik_work_inactive_deletes" AS
SELECT c."brenvik_sequence_no", c."brenvik_column_set", c."brenvik_delete", c."brenvik_effective_at", c."buoy_code", c."at", c."name", c."colour" FROM "brenvik_work_staged" c WHERE c.brenvik_delete = 1;

CREATE TEMP VIEW "brenvik_work_changes" AS
SELECT c."brenvik_sequence_no", c."brenvik_column_set", c."brenvik_delete", c."brenvik_effective_at", c."buoy_code", c."at", c."name", c."colour" FROM "brenvik_work_staged" c WHERE c.brenvik_delete = 0;

CREATE TEMP TABLE "brenvik_work_current_path" AS
SELECT m.brenvik_sequence_no, m.brenvik_effective_at, m.brenvik_row_id,
  CASE WHEN m.brenvik_row_id IS NULL THEN CASE WHEN m.brenvik_delete = 1 THEN 0 ELSE 1 END WHEN m.brenvik_delete = 1 THEN 4 WHEN m.brenvik_type_2_differs = 1 THEN 2 WHEN m.brenvik_differs_0 = 1 THEN 3 ELSE 6 END AS brenvik_decision_no,
  CASE WHEN m.brenvik_delete = 0 AND NOT (m.brenvik_row_id IS NULL) AND (m.brenvik_differs_0 = 1) THEN 1 ELSE 0 END AS brenvik_sets_type_1,
  m.brenvik_differs_0,
  CASE WHEN m.brenvik_type_2_differs = 1 OR m.brenvik_differs_0 = 1 THEN m.brenvik_before_0 END AS brenvik_before_0,
  CASE WHEN m.brenvik_type_2_differs = 1 OR m.brenvik_differs_0 = 1 THEN m.brenvik_before_1 END AS brenvik_before_1
FROM (
  SELECT c.brenvik_sequence_no, c.brenvik_effective_at, c.brenvik_delete, t."rowid" AS brenvik_row_id,
  CASE WHEN (c."colour" IS DISTINCT FROM t."colour") THEN 1 ELSE 0 END AS brenvik_type_2_differs,
  CASE WHEN c."name" IS DISTINCT FROM t."name" THEN 1 ELSE 0 END AS brenvik_differs_0,
  t."name" AS brenvik_before_0,
  t."colour" AS brenvik_before_1
  FROM "brenvik_work_changes" c
  LEFT JOIN "buoy" t ON t."buoy_code" = c."buoy_code" AND t."valid_to" IS NULL
) m;

SELECT brenvik_decision_no, count(*) AS n, CAST(sum(brenvik_sets_type_1) AS BIGINT) AS sets, max(CASE WHEN brenvik_sets_type_1 = 1 THEN brenvik_differs_0 ELSE 0 END) AS brenvik_differs_0 FROM "brenvik_work_current_path" GROUP BY brenvik_decision_no;

CREATE TEMP TABLE "brenvik_work_closed_versions" AS
SELECT t."rowid" AS brenvik_row_id, p.brenvik_sequence_no
FROM "brenvik_work_current_path" p
JOIN "brenvik_work_changes" c ON c.brenvik_sequence_no = p.brenvik_sequence_no
JOIN "buoy" t ON t."buoy_code" = c."buoy_code"
WHERE p.brenvik_sets_type_1 = 1 AND NOT (t."valid_to" IS NULL) AND (c."name" IS DISTINCT FROM t."name");

CREATE TEMP TABLE "brenvik_work_decided_deletes" AS
SELECT c.*, CASE WHEN EXISTS (SELECT 1 FROM "brenvik_work_inactive_deletes" o WHERE o.brenvik_sequence_no < c.brenvik_sequence_no AND o."buoy_code" = c."buoy_code" AND o."brenvik_effective_at" = c."brenvik_effective_at" AND o."at" = c."at" AND o."brenvik_delete" = c."brenvik_delete" AND o."brenvik_column_set" = c."brenvik_column_set" AND o."name" IS NOT DISTINCT FROM c."name" AND o."colour" IS NOT DISTINCT FROM c."colour") OR EXISTS (SELECT 1 FROM "brenvik"."change_log_buoy" o WHERE o."buoy_code" = c."buoy_code" AND o."brenvik_effective_at" = c."brenvik_effective_at" AND o."at" = c."at" AND o."brenvik_delete" = c."brenvik_delete" AND o."brenvik_column_set" = c."brenvik_column_set" AND o."name" IS NOT DISTINCT FROM c."name" AND o."colour" IS NOT DISTINCT FROM c."colour") THEN 'duplicate' WHEN NOT ((EXISTS (SELECT 1 FROM "buoy" t WHERE t."buoy_code" = c."buoy_code" AND t."valid_to" IS NULL) OR EXISTS (SELECT 1 FROM "brenvik_work_changes" s WHERE s."buoy_code" = c."buoy_code"))) AND NOT (EXISTS (SELECT 1 FROM "buoy" t WHERE t."buoy_code" = c."buoy_code") OR EXISTS (SELECT 1 FROM "brenvik_work_changes" s WHERE s."buoy_code" = c."buoy_code")) THEN 'ignored' WHEN NOT ((EXISTS (SELECT 1 FROM "buoy" t WHERE t."buoy_code" = c."buoy_code" AND t."valid_to" IS NULL) OR EXISTS (SELECT 1 FROM "brenvik_work_changes" s WHERE s."buoy_code" = c."buoy_code"))) OR (EXISTS (SELECT 1 FROM "brenvik_work_inactive_deletes" o WHERE o.brenvik_sequence_no < c.brenvik_sequence_no AND o."buoy_code" = c."buoy_code")) THEN 'unchanged' ELSE 'pending' END AS brenvik_decision FROM "brenvik_work_inactive_deletes" c;

SELECT c.brenvik_decision, count(*) AS n, CAST(sum(0) AS BIGINT) AS late FROM "brenvik_work_decided_deletes" c GROUP BY c.brenvik_decision;

UPDATE "buoy" SET "valid_to" = s.brenvik_valid_to, "is_current" = (s.brenvik_valid_to IS NULL), "name" = s."name", "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT p.brenvik_row_id, p.brenvik_effective_at AS brenvik_valid_to, 0 AS brenvik_deleted, c."name" FROM "brenvik_work_current_path" p JOIN "brenvik_work_changes" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no = 2 AND p.brenvik_sets_type_1 = 1) s WHERE "buoy"."rowid" = s.brenvik_row_id;

INSERT INTO "buoy" ("buoy_key", "buoy_code", "name", "colour", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at") SELECT :last_key + row_number() OVER (), s."buoy_code", s."name", s."colour", s.brenvik_valid_from, CAST(s.brenvik_valid_to AS TIMESTAMP), s.brenvik_current, s.brenvik_deleted, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP) FROM (SELECT c."buoy_code", c."name", c."colour", c.brenvik_effective_at AS brenvik_valid_from, NULL AS brenvik_valid_to, TRUE AS brenvik_current, FALSE AS brenvik_deleted FROM "brenvik_work_current_path" p JOIN "brenvik_work_changes" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no IN (1, 2)) s;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "buoy_code", "at", "name", "colour") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."buoy_code", s."at", s."name", s."colour" FROM "brenvik_work_changes" s;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "buoy_code", "at", "name", "colour") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."buoy_code", s."at", s."name", s."colour" FROM (SELECT c.* FROM "brenvik_work_decided_deletes" c WHERE c.brenvik_decision <> 'duplicate') s;

INSERT INTO "brenvik"."pending_deletes" ("table_name", "delete_no", "feed", "run", "sequence_no", "from_extract", "state", "pending_since", "decided_by")
SELECT :table_name, :last_delete_no + row_number() OVER (ORDER BY a.brenvik_sequence_no), :feed, :run, a.brenvik_sequence_no,
  :from_extract, 'pending', CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_decided_deletes" a
WHERE a.brenvik_decision = 'pending';

-- Run 3: approve 1

SELECT h.delete_no AS brenvik_delete_no, h.feed AS brenvik_feed, h.run AS brenvik_run, h.pending_since AS brenvik_pending_since,
  k.brenvik_effective_at AS brenvik_effective_at, k."buoy_code", t."name", t."colour"
FROM (
  SELECT r.delete_no, r.feed, r.run, r.sequence_no, r.from_extract, r.pending_since FROM "brenvik"."pending_deletes" r
  WHERE r.table_name = :table_name AND r.state = 'pending' AND NOT EXISTS (SELECT 1 FROM "brenvik"."reverted_runs" w WHERE w.table_name = r.table_name AND w.run = r.run AND w.undone_by IS NULL)) h
JOIN "brenvik"."change_log_buoy" k ON k.brenvik_run = h.run AND k.brenvik_sequence_no = h.sequence_no
LEFT JOIN "buoy" t ON t."buoy_code" = k."buoy_code" AND t."valid_to" IS NULL
ORDER BY h.delete_no;

CREATE TEMP TABLE "brenvik_work_approved" AS
SELECT x.run, x.sequence_no FROM (
  SELECT r.run, r.sequence_no FROM "brenvik"."pending_deletes" r
  WHERE r.table_name = :table_name AND ((r.state = 'approved') OR r.delete_no IN (1))) x;

-- as before: CREATE TEMP VIEW "brenvik_work_active_changes" AS

CREATE TEMP TABLE "brenvik_work_replay_keys" AS
SELECT DISTINCT b."buoy_code", 1 AS brenvik_full_replay FROM (SELECT k."buoy_code" FROM "brenvik"."change_log_buoy" k WHERE EXISTS (SELECT 1 FROM (
  SELECT r.run, r.sequence_no FROM "brenvik"."pending_deletes" r WHERE r.table_name = :table_name AND r.delete_no IN (1)) r WHERE r.run = k.brenvik_run AND r.sequence_no = k.brenvik_sequence_no)) b;

CREATE TEMP TABLE "brenvik_work_stored_versions" AS
SELECT t."rowid" AS brenvik_row_id, t."buoy_code", CAST(t."valid_from" AS TIMESTAMP) AS brenvik_effective_at, CAST(t."valid_to" AS TIMESTAMP) AS brenvik_valid_to, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_deleted, t."name", t."colour", CASE WHEN t."valid_to" IS NULL THEN 1 ELSE 0 END AS brenvik_is_current,
  b.brenvik_full_replay, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged_current
FROM "buoy" t
JOIN "brenvik_work_replay_keys" b ON b."buoy_code" = t."buoy_code" AND (b.brenvik_full_replay = 1 OR t."valid_to" IS NULL);

CREATE TEMP TABLE "brenvik_work_decided" AS
WITH events ("buoy_code", "brenvik_effective_at", "brenvik_rank", "brenvik_run", "brenvik_sequence_no", "brenvik_is_new", "brenvik_delete", "brenvik_column_set", "at", "name", "colour") AS (
SELECT k."buoy_code",
  k.brenvik_effective_at, 1, k.brenvik_run, k.brenvik_sequence_no, 0, k.brenvik_delete, k.brenvik_column_set,
  k."at", k."name", k."colour"
FROM "brenvik_work_replay_keys" b
JOIN "brenvik_work_active_changes" k ON k."buoy_code" = b."buoy_code"
WHERE b.brenvik_full_replay = 1
), placed AS (
  SELECT e.*,
    row_number() OVER brenvik_line AS brenvik_position,
    CASE WHEN lead(brenvik_effective_at) OVER brenvik_line = brenvik_effective_at THEN 1 ELSE 0 END AS brenvik_is_superseded
  FROM events e
  WINDOW brenvik_line AS (PARTITION BY e."buoy_code" ORDER BY brenvik_effective_at, "brenvik_rank", "at", "brenvik_run", "brenvik_sequence_no")
), lived AS (
  SELECT p.*, 1 - p.brenvik_is_superseded AS brenvik_is_last, CAST(NULL AS BIGINT) AS brenvik_replaces, CAST(NULL AS BIGINT) AS brenvik_replaced_delete
  FROM placed p
  WHERE p.brenvik_is_superseded = 0
), states AS (
  SELECT l."buoy_code", l."brenvik_effective_at", l."brenvik_sequence_no", l."brenvik_column_set", l."brenvik_delete", l."brenvik_is_new", l."brenvik_position", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_rank", l."brenvik_is_last", l."name", l."colour"
  FROM lived l
), lined AS (
  SELECT s."buoy_code", s."brenvik_effective_at", s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_is_new", s."brenvik_position", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_rank", s."name", lag(s."name") OVER brenvik_line AS brenvik_before_0, s."colour", lag(s."colour") OVER brenvik_line AS brenvik_before_1, lag(s."colour") OVER brenvik_line AS brenvik_prev_1, sum(s.brenvik_delete) OVER brenvik_line AS brenvik_lifetime,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_position) OVER brenvik_line, 0) AS brenvik_prev_position
  FROM states s
  WHERE s.brenvik_is_last = 1
  WINDOW brenvik_line AS (PARTITION BY s."buoy_code" ORDER BY s.brenvik_position)
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
    WHEN j."name" IS DISTINCT FROM j.brenvik_before_0 THEN 'overwritten'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_target_versions" AS
WITH lasts AS (
  SELECT j."buoy_code", j.brenvik_effective_at, j.brenvik_delete, j.brenvik_position, j.brenvik_starts_version, j.brenvik_prev_delete, first_value(j."name") OVER brenvik_latest AS "name", j."colour"
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
  , v."name", v."colour"
FROM spans v
WHERE v.brenvik_delete = 0;

CREATE TEMP TABLE "brenvik_work_actions" AS
WITH matched AS (
  SELECT COALESCE(d."buoy_code", s."buoy_code") AS "buoy_code", COALESCE(d."brenvik_effective_at", s."brenvik_effective_at") AS "brenvik_effective_at", CASE WHEN row_number() OVER (PARTITION BY d.brenvik_version_no ORDER BY s.brenvik_row_id) = 1 THEN d.brenvik_version_no END AS brenvik_version_no, s.brenvik_row_id
  FROM "brenvik_work_target_versions" d FULL JOIN "brenvik_work_stored_versions" s ON d."buoy_code" = s."buoy_code" AND d.brenvik_effective_at = s.brenvik_effective_at
), unmatched AS (
  SELECT m."buoy_code", m.brenvik_version_no, m.brenvik_row_id, row_number() OVER (PARTITION BY m."buoy_code", CASE WHEN m.brenvik_version_no IS NULL THEN 1 ELSE 0 END ORDER BY m.brenvik_effective_at) AS brenvik_nth FROM matched m WHERE m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL
), pairs AS (
  SELECT m.brenvik_version_no, m.brenvik_row_id FROM matched m WHERE NOT (m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL)
  UNION ALL
  SELECT max(r.brenvik_version_no) AS brenvik_version_no, max(r.brenvik_row_id) AS brenvik_row_id FROM unmatched r
  GROUP BY r."buoy_code", r.brenvik_nth
), compared AS (
SELECT CASE WHEN p.brenvik_version_no IS NULL THEN 'delete' WHEN p.brenvik_row_id IS NULL THEN 'insert' WHEN (d."brenvik_effective_at" IS DISTINCT FROM s."brenvik_effective_at" OR d."name" IS DISTINCT FROM s."name" OR d."colour" IS DISTINCT FROM s."colour") THEN 'update' WHEN ((d."brenvik_valid_to" IS DISTINCT FROM s."brenvik_valid_to" OR d."brenvik_deleted" IS DISTINCT FROM s."brenvik_deleted") OR s.brenvik_flagged_current <> CASE WHEN d.brenvik_valid_to IS NULL THEN 1 ELSE 0 END) THEN 'close' ELSE 'keep' END AS brenvik_action, p.brenvik_row_id, COALESCE(d."buoy_code", s."buoy_code") AS "buoy_code", d."brenvik_effective_at", d."brenvik_valid_to", d."brenvik_deleted", d."name", d."colour",
  COALESCE(CASE WHEN s.brenvik_valid_to IS NULL AND s.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_was_current, COALESCE(CASE WHEN d.brenvik_valid_to IS NULL AND d.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_is_current, CASE WHEN d."brenvik_effective_at" IS DISTINCT FROM s."brenvik_effective_at" THEN 1 ELSE 0 END AS brenvik_differs_effective_at, CASE WHEN d."brenvik_valid_to" IS DISTINCT FROM s."brenvik_valid_to" THEN 1 ELSE 0 END AS brenvik_differs_valid_to, CASE WHEN d."brenvik_deleted" IS DISTINCT FROM s."brenvik_deleted" THEN 1 ELSE 0 END AS brenvik_differs_deleted, CASE WHEN d."name" IS DISTINCT FROM s."name" THEN 1 ELSE 0 END AS brenvik_differs_0, CASE WHEN d."colour" IS DISTINCT FROM s."colour" THEN 1 ELSE 0 END AS brenvik_differs_1, CASE WHEN s."buoy_code" IS NOT NULL AND ((NOT EXISTS (SELECT 1 FROM "brenvik"."change_log_buoy" e JOIN "brenvik_work_replay_keys" b ON b."buoy_code" = e."buoy_code" WHERE e."buoy_code" = s."buoy_code" AND e.brenvik_effective_at = s.brenvik_effective_at)) OR (s.brenvik_valid_to IS NOT NULL AND NOT EXISTS (SELECT 1 FROM "brenvik"."change_log_buoy" e JOIN "brenvik_work_replay_keys" b ON b."buoy_code" = e."buoy_code" WHERE e."buoy_code" = s."buoy_code" AND e.brenvik_effective_at = s.brenvik_valid_to))) THEN 1 ELSE 0 END AS brenvik_is_unlogged
FROM pairs p
LEFT JOIN "brenvik_work_target_versions" d ON d.brenvik_version_no = p.brenvik_version_no
LEFT JOIN "brenvik_work_stored_versions" s ON s.brenvik_row_id = p.brenvik_row_id UNION ALL 
SELECT 'update', t."rowid" AS brenvik_row_id, t."buoy_code", t."valid_from", t."valid_to", CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END, x."name", t."colour", 0, 0, 0, 0, 0, CASE WHEN x."name" IS DISTINCT FROM t."name" THEN 1 ELSE 0 END, 0, 0
FROM (
  SELECT DISTINCT d."buoy_code", d."name" FROM "brenvik_work_target_versions" d
) x
JOIN "brenvik_work_replay_keys" b ON b."buoy_code" = x."buoy_code" AND b.brenvik_full_replay = 0
JOIN "buoy" t ON t."buoy_code" = x."buoy_code"
WHERE NOT (t."valid_to" IS NULL) AND (x."name" IS DISTINCT FROM t."name"))
SELECT a.* FROM compared a WHERE a.brenvik_action <> 'keep' OR a.brenvik_is_unlogged = 1;

SELECT a.*, e.ended FROM (SELECT count(CASE WHEN a.brenvik_action = 'close'  THEN 1 END) AS "close", count(CASE WHEN a.brenvik_action = 'update'  THEN 1 END) AS "update", count(CASE WHEN a.brenvik_action = 'insert'  THEN 1 END) AS "insert", count(CASE WHEN a.brenvik_action = 'delete'  THEN 1 END) AS "delete", CAST(COALESCE(sum(a.brenvik_is_current - a.brenvik_was_current), 0) AS BIGINT) AS current_change, count(DISTINCT CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(a."buoy_code" AS TEXT) END) AS unlogged, min(CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(a."buoy_code" AS TEXT) END) AS unlogged_key, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_effective_at ELSE 0 END) AS brenvik_differs_effective_at, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_valid_to ELSE 0 END) AS brenvik_differs_valid_to, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_deleted ELSE 0 END) AS brenvik_differs_deleted, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_0 ELSE 0 END) AS brenvik_differs_0, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_1 ELSE 0 END) AS brenvik_differs_1 FROM "brenvik_work_actions" a) a CROSS JOIN (SELECT count(*) AS ended FROM (SELECT a."buoy_code" FROM "brenvik_work_actions" a GROUP BY a."buoy_code" HAVING max(a.brenvik_was_current) = 1 AND max(a.brenvik_is_current) = 0) k) e;

SELECT a."buoy_code", CAST(sum(CASE WHEN a.brenvik_action = 'insert' THEN 1 ELSE 0 END) AS BIGINT) AS brenvik_added, CAST(sum(CASE WHEN a.brenvik_action IN ('update', 'close') THEN 1 ELSE 0 END) AS BIGINT) AS brenvik_changed, CAST(sum(CASE WHEN a.brenvik_action = 'delete' THEN 1 ELSE 0 END) AS BIGINT) AS brenvik_removed FROM "brenvik_work_actions" a WHERE a.brenvik_action <> 'keep' GROUP BY a."buoy_code" ORDER BY a."buoy_code";

SELECT CAST(max(c."at") AS TEXT) AS "brenvik_highest_0", CAST(max(c.brenvik_effective_at) AS TEXT) AS "brenvik_highest" FROM "brenvik_work_active_changes" c;

UPDATE "buoy" SET "valid_to" = s.brenvik_valid_to, "is_current" = (s.brenvik_valid_to IS NULL), "is_deleted" = (s.brenvik_deleted = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT a.brenvik_row_id, a.brenvik_valid_to, a.brenvik_deleted FROM "brenvik_work_actions" a WHERE a.brenvik_action = 'close') s WHERE "buoy"."rowid" = s.brenvik_row_id;

