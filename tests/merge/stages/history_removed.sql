-- Run 2: changes

CREATE TEMP TABLE "brenvik_work_staged" AS -- in DuckDB, as the rows come
SELECT
  brenvik_sequence_no, CAST(1 AS INTEGER) AS brenvik_column_set,
  brenvik_is_delete AS brenvik_delete,
  CAST(date_trunc('day', CASE WHEN NOT brenvik_is_invalid THEN "brenvik_timestamp_of_at" END) AS TIMESTAMP) AS brenvik_effective_at,
  "harbour", "brenvik_integer_of_berth" AS "berth", CASE WHEN NOT brenvik_is_invalid THEN "brenvik_timestamp_of_at" END AS "at", "keeper", "note",
  CASE WHEN brenvik_is_invalid THEN CAST(json_object('column', CASE WHEN brenvik_error_0 THEN 'op' WHEN brenvik_error_1 THEN 'at' WHEN brenvik_error_2 THEN 'harbour' WHEN brenvik_error_3 THEN 'berth' WHEN brenvik_error_4 THEN 'at' WHEN brenvik_error_5 THEN 'berth' WHEN brenvik_error_6 THEN 'at' END, 'value', CASE WHEN brenvik_error_0 THEN CAST("op" AS VARCHAR) WHEN brenvik_error_1 THEN CAST("at" AS VARCHAR) WHEN brenvik_error_2 THEN CAST("harbour" AS VARCHAR) WHEN brenvik_error_3 THEN CAST("berth" AS VARCHAR) WHEN brenvik_error_4 THEN CAST("at" AS VARCHAR) WHEN brenvik_error_5 THEN CAST("berth" AS VARCHAR) WHEN brenvik_error_6 THEN CAST("at" AS VARCHAR) END, 'reason', concat_ws('; ', CASE WHEN brenvik_error_0 THEN COALESCE('op: ''' || CAST("op" AS VARCHAR) || ''' is not a valid operation; valid codes are i, insert, u, update, d, delete', 'op: nothing is not a valid operation; valid codes are i, insert, u, update, d, delete') END, CASE WHEN brenvik_error_1 THEN 'at: ''' || CAST("at" AS VARCHAR) || ''' is not before open_end' END, CASE WHEN brenvik_error_2 THEN 'harbour is empty' END, CASE WHEN brenvik_error_3 THEN 'berth is empty' END, CASE WHEN brenvik_error_4 THEN 'at is empty' END, CASE WHEN brenvik_error_5 THEN 'berth: ''' || CAST("berth" AS VARCHAR) || ''' is not a valid integer' END, CASE WHEN brenvik_error_6 THEN CASE WHEN isfinite("brenvik_timestamp_of_at") AND NOT ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) THEN 'at: ''' || CAST("at" AS VARCHAR) || ''' is outside the years 1 to 9999' ELSE 'at: ''' || CAST("at" AS VARCHAR) || ''' is not a valid timestamp' END END), 'row', CAST(json_object('op', CAST("op" AS VARCHAR), 'harbour', CAST("harbour" AS VARCHAR), 'berth', CAST("berth" AS VARCHAR), 'at', CAST("at" AS VARCHAR), 'keeper', CAST("keeper" AS VARCHAR), 'note', CAST("note" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_error
FROM (SELECT tested_rows.*, brenvik_error_0 OR brenvik_error_1 OR brenvik_error_2 OR brenvik_error_3 OR brenvik_error_4 OR brenvik_error_5 OR brenvik_error_6 AS brenvik_is_invalid FROM (SELECT typed_rows.*, CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN TRUE ELSE FALSE END AS brenvik_error_0, CASE WHEN "brenvik_timestamp_of_at" >= CAST($open_end AS TIMESTAMP) THEN TRUE ELSE FALSE END AS brenvik_error_1, CASE WHEN "harbour" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_2, CASE WHEN "berth" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_3, CASE WHEN "at" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_4, CASE WHEN ("berth" IS NOT NULL AND ("brenvik_integer_of_berth" IS NULL OR NOT regexp_full_match("berth", '\s*[+-]?\d+(\.0*)?\s*'))) THEN TRUE ELSE FALSE END AS brenvik_error_5, CASE WHEN ("at" IS NOT NULL AND (("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) IS NOT TRUE)) THEN TRUE ELSE FALSE END AS brenvik_error_6 FROM (SELECT cast_rows.*, CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END AS brenvik_is_delete FROM (SELECT rows_as_read.*, TRY_CAST("berth" AS BIGINT) AS "brenvik_integer_of_berth", CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("at" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN NOT regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') THEN NULL
    WHEN NOT regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))
    WHEN timezone(regexp_extract("at", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1), COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) = TRY_CAST(regexp_extract("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP) THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END AS "brenvik_timestamp_of_at" FROM brenvik_stream AS rows_as_read) AS cast_rows) AS typed_rows) AS tested_rows) AS checked_rows;

SELECT count(c.brenvik_error) AS invalid, 0 AS inactive, 0 AS derived,
  count(CASE WHEN c.brenvik_error IS NULL THEN 1 END) AS changes, count(CASE WHEN c.brenvik_error IS NULL AND NOT (c."at" > CAST(:high_order_0 AS TIMESTAMP) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 END) AS late, CAST(max(CASE WHEN c.brenvik_error IS NULL AND c."at" > CAST(:high_order_0 AS TIMESTAMP) THEN c."at" END) AS TEXT) AS "brenvik_highest_0", CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective_at END) AS TEXT) AS "brenvik_highest",
  (SELECT count(*) FROM (SELECT DISTINCT c."harbour", c."berth" FROM "brenvik_work_staged" c WHERE c.brenvik_error IS NULL) k) AS changed_keys
FROM "brenvik_work_staged" c;

CREATE TEMP TABLE "brenvik_work_late_or_several" AS
SELECT k."harbour", k."berth", CASE WHEN t."harbour" IS NULL OR k.brenvik_late = 1 OR k.brenvik_deletes = 1 THEN 1 ELSE 0 END AS brenvik_full_replay, k.brenvik_changes
FROM (
  SELECT c."harbour", c."berth", max(CASE WHEN NOT (c."at" > CAST(:high_order_0 AS TIMESTAMP) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END) AS brenvik_late, count(*) AS brenvik_changes, max(c.brenvik_delete) AS brenvik_deletes FROM "brenvik_work_staged" c GROUP BY c."harbour", c."berth" HAVING count(*) > 1 OR max(CASE WHEN NOT (c."at" > CAST(:high_order_0 AS TIMESTAMP) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END) = 1
) k
LEFT JOIN "buoy" t ON t."harbour" = k."harbour" AND t."berth" = k."berth" AND t."until" = CAST(:open_end AS TIMESTAMP);

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
  CASE WHEN (c."keeper" IS DISTINCT FROM t."keeper") THEN 1 ELSE 0 END AS brenvik_type_2_differs,
  CASE WHEN c."note" IS DISTINCT FROM t."note" THEN 1 ELSE 0 END AS brenvik_differs_1,
  t."keeper" AS brenvik_before_0,
  t."note" AS brenvik_before_1
  FROM "brenvik_work_staged" c
  LEFT JOIN "buoy" t ON t."harbour" = c."harbour" AND t."berth" = c."berth" AND t."until" = CAST(:open_end AS TIMESTAMP)
  WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_late_or_several" b WHERE b."harbour" = c."harbour" AND b."berth" = c."berth")
) m;

SELECT brenvik_decision_no, count(*) AS n, CAST(sum(brenvik_sets_type_1) AS BIGINT) AS sets, max(CASE WHEN brenvik_sets_type_1 = 1 THEN brenvik_differs_1 ELSE 0 END) AS brenvik_differs_1 FROM "brenvik_work_current_path" GROUP BY brenvik_decision_no;

CREATE TEMP TABLE "brenvik_work_stored_versions" AS
SELECT t."rowid" AS brenvik_row_id, t."harbour", t."berth", CAST(t."from" AS TIMESTAMP) AS brenvik_effective_at, CAST(CASE WHEN t."until" = CAST(:open_end AS TIMESTAMP) THEN NULL ELSE t."until" END AS TIMESTAMP) AS brenvik_valid_to, CASE WHEN NOT (t."until" = CAST(:open_end AS TIMESTAMP)) THEN 1 ELSE 0 END AS brenvik_deleted, t."keeper", t."note", CASE WHEN t."until" = CAST(:open_end AS TIMESTAMP) THEN 1 ELSE 0 END AS brenvik_is_current,
  b.brenvik_full_replay
FROM "buoy" t
JOIN "brenvik_work_late_or_several" b ON b."harbour" = t."harbour" AND b."berth" = t."berth" AND (b.brenvik_full_replay = 1 OR t."until" = CAST(:open_end AS TIMESTAMP));

CREATE TEMP TABLE "brenvik_work_duplicates" AS
SELECT n.brenvik_sequence_no FROM (
  SELECT c.brenvik_sequence_no, row_number() OVER (
    PARTITION BY c."harbour", c."berth", c."brenvik_effective_at", c."at", c."brenvik_delete", c."brenvik_column_set", c."keeper", c."note" ORDER BY c.brenvik_sequence_no) AS brenvik_nth
  FROM "brenvik_work_staged" c
  JOIN (SELECT e."harbour", e."berth", e."brenvik_effective_at" FROM "brenvik_work_staged" e GROUP BY e."harbour", e."berth", e."brenvik_effective_at" HAVING count(*) > 1) s ON s."harbour" = c."harbour" AND s."berth" = c."berth" AND s."brenvik_effective_at" = c."brenvik_effective_at"
) n WHERE n.brenvik_nth > 1 UNION 
SELECT c.brenvik_sequence_no
FROM "brenvik_work_staged" c
JOIN "brenvik"."change_log_buoy" k ON k."harbour" = c."harbour" AND k."berth" = c."berth" AND k."brenvik_effective_at" = c."brenvik_effective_at" AND k."at" = c."at" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_column_set" = c."brenvik_column_set" AND k."keeper" IS NOT DISTINCT FROM c."keeper" AND k."note" IS NOT DISTINCT FROM c."note"
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_late_or_several" b WHERE b."harbour" = c."harbour" AND b."berth" = c."berth" AND b.brenvik_full_replay = 1);

CREATE TEMP TABLE "brenvik_work_decided" AS
WITH events ("harbour", "berth", "brenvik_effective_at", "brenvik_rank", "brenvik_run", "brenvik_sequence_no", "brenvik_is_new", "brenvik_delete", "brenvik_column_set", "at", "keeper", "note") AS (
SELECT c."harbour", c."berth",
  c.brenvik_effective_at, 1, :run, c.brenvik_sequence_no, 1, c.brenvik_delete, c.brenvik_column_set,
  c."at", c."keeper", c."note"
FROM "brenvik_work_staged" c
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_late_or_several" b WHERE b."harbour" = c."harbour" AND b."berth" = c."berth")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_sequence_no = c.brenvik_sequence_no) UNION ALL 
SELECT s."harbour", s."berth",
  s.brenvik_effective_at, 1, 0, 0, 0, 0, 0,
  CAST(NULL AS TIMESTAMP),
  s."keeper",
  s."note"
FROM "brenvik_work_stored_versions" s
WHERE s.brenvik_full_replay = 0 AND s.brenvik_is_current = 1 UNION ALL 
SELECT k."harbour", k."berth",
  k.brenvik_effective_at, 1, k.brenvik_run, k.brenvik_sequence_no, 0, k.brenvik_delete, k.brenvik_column_set,
  k."at", k."keeper", k."note"
FROM "brenvik_work_late_or_several" b
JOIN "brenvik"."change_log_buoy" k ON k."harbour" = b."harbour" AND k."berth" = b."berth"
WHERE b.brenvik_full_replay = 1
), placed AS (
  SELECT e.*,
    row_number() OVER brenvik_line AS brenvik_position,
    CASE WHEN lead(brenvik_effective_at) OVER brenvik_line = brenvik_effective_at THEN 1 ELSE 0 END AS brenvik_is_superseded
  FROM events e
  WINDOW brenvik_line AS (PARTITION BY e."harbour", e."berth" ORDER BY brenvik_effective_at, "brenvik_rank", "at", "brenvik_run", "brenvik_sequence_no")
), base AS (
  SELECT p."harbour", p."berth", p."brenvik_effective_at", max(p.brenvik_position) AS brenvik_position, max(2 * p.brenvik_position + p.brenvik_delete) AS brenvik_end,
    max(CASE WHEN p.brenvik_delete = 0 THEN 1 ELSE 0 END) AS brenvik_some_upsert
  FROM placed p
  WHERE p.brenvik_is_new = 0
  GROUP BY p."harbour", p."berth", p."brenvik_effective_at"
), lived AS (
  SELECT p.*, 1 - p.brenvik_is_superseded AS brenvik_is_last, sum(CASE WHEN p.brenvik_is_superseded = 0 THEN p.brenvik_delete ELSE 0 END) OVER (PARTITION BY p."harbour", p."berth" ORDER BY p.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_lifetime, b.brenvik_position AS brenvik_replaces, b.brenvik_end - 2 * b.brenvik_position AS brenvik_replaced_delete, CASE WHEN p.brenvik_is_superseded = 0 AND p.brenvik_delete = 0 AND b.brenvik_some_upsert = 1 THEN 1 ELSE 0 END AS brenvik_was_known
  FROM placed p LEFT JOIN base b ON b."harbour" = p."harbour" AND b."berth" = p."berth" AND b."brenvik_effective_at" = p."brenvik_effective_at"
  WHERE p.brenvik_is_superseded = 0 OR p.brenvik_is_new = 0
), states AS (
  SELECT l."harbour", l."berth", l."brenvik_effective_at", l."brenvik_sequence_no", l."brenvik_column_set", l."brenvik_delete", l."brenvik_is_new", l."brenvik_position", l."brenvik_lifetime", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_was_known", l."brenvik_rank", l."brenvik_is_last", l."keeper", l."note"
  FROM lived l
), compared AS (
  SELECT s.*, r."keeper" AS brenvik_replaced_0, r."note" AS brenvik_replaced_1
  FROM states s
  LEFT JOIN states r ON r.brenvik_is_new = 0 AND r."harbour" = s."harbour" AND r."berth" = s."berth" AND r.brenvik_position = CASE WHEN s.brenvik_is_new = 1 THEN s.brenvik_replaces END
), lined AS (
  SELECT s."harbour", s."berth", s."brenvik_effective_at", s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_is_new", s."brenvik_position", s."brenvik_lifetime", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_was_known", s."brenvik_rank", s."keeper", CASE WHEN s.brenvik_is_new = 1 AND s.brenvik_replaces IS NOT NULL THEN s.brenvik_replaced_0 ELSE lag(s."keeper") OVER brenvik_line END AS brenvik_before_0, lag(s."keeper") OVER brenvik_line AS brenvik_prev_0, s."note", CASE WHEN s.brenvik_is_new = 1 AND s.brenvik_replaces IS NOT NULL THEN s.brenvik_replaced_1 ELSE lag(s."note") OVER brenvik_line END AS brenvik_before_1, max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_lifetime END) OVER (PARTITION BY s."harbour", s."berth") AS brenvik_last_lifetime, max(s.brenvik_lifetime) OVER (PARTITION BY s."harbour", s."berth") AS brenvik_lifetimes,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_position) OVER brenvik_line, 0) AS brenvik_prev_position
  FROM compared s
  WHERE s.brenvik_is_last = 1
  WINDOW brenvik_line AS (PARTITION BY s."harbour", s."berth" ORDER BY s.brenvik_position)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1 OR j."keeper" IS DISTINCT FROM j.brenvik_prev_0) THEN 1 ELSE 0 END AS brenvik_starts_version,
  CASE
    WHEN j.brenvik_delete = 0 AND j.brenvik_lifetime < j.brenvik_lifetimes THEN 'superseded'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN CASE WHEN max(j.brenvik_was_known) OVER (PARTITION BY j."harbour", j."berth", j.brenvik_lifetime) = 0 THEN 'inserted' ELSE 'versioned' END
    WHEN j."keeper" IS DISTINCT FROM j.brenvik_before_0 THEN 'versioned'
    WHEN j."note" IS DISTINCT FROM j.brenvik_before_1 THEN 'overwritten'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_target_versions" AS
WITH lasts AS (
  SELECT j."harbour", j."berth", j.brenvik_effective_at, j.brenvik_delete, j.brenvik_position, j.brenvik_starts_version, j.brenvik_prev_delete, first_value(j."note") OVER brenvik_latest AS "note", j."keeper", j.brenvik_lifetime, j.brenvik_lifetimes
  FROM "brenvik_work_decided" j
  WINDOW brenvik_latest AS (PARTITION BY j."harbour", j."berth" ORDER BY j.brenvik_delete, j.brenvik_rank DESC, j.brenvik_position DESC)
), spans AS (
  SELECT j.*, lead(j.brenvik_effective_at) OVER brenvik_line AS brenvik_valid_to,
    lead(j.brenvik_delete) OVER brenvik_line AS brenvik_deleted
  FROM lasts j
  WHERE j.brenvik_starts_version = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
  WINDOW brenvik_line AS (PARTITION BY j."harbour", j."berth" ORDER BY j.brenvik_position)
)
SELECT row_number() OVER (ORDER BY v."harbour", v."berth", v.brenvik_effective_at) AS brenvik_version_no,
  v."harbour", v."berth", v.brenvik_effective_at, v.brenvik_valid_to, COALESCE(v.brenvik_deleted, 0) AS brenvik_deleted
  , v."keeper", v."note"
FROM spans v
WHERE v.brenvik_delete = 0 AND v.brenvik_lifetime = v.brenvik_lifetimes;

CREATE TEMP TABLE "brenvik_work_removed_rows" AS
SELECT t."rowid" AS brenvik_row_id
FROM "buoy" t
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_current_path" p JOIN "brenvik_work_staged" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no = 4 AND t."harbour" = c."harbour" AND t."berth" = c."berth");

CREATE TEMP TABLE "brenvik_work_actions" AS
WITH matched AS (
  SELECT COALESCE(d."harbour", s."harbour") AS "harbour", COALESCE(d."berth", s."berth") AS "berth", COALESCE(d."brenvik_effective_at", s."brenvik_effective_at") AS "brenvik_effective_at", d.brenvik_version_no AS brenvik_version_no, s.brenvik_row_id
  FROM "brenvik_work_target_versions" d FULL JOIN "brenvik_work_stored_versions" s ON d."harbour" = s."harbour" AND d."berth" = s."berth" AND d.brenvik_effective_at = s.brenvik_effective_at
), unmatched AS (
  SELECT m."harbour", m."berth", m.brenvik_version_no, m.brenvik_row_id, row_number() OVER (PARTITION BY m."harbour", m."berth", CASE WHEN m.brenvik_version_no IS NULL THEN 1 ELSE 0 END ORDER BY m.brenvik_effective_at) AS brenvik_nth FROM matched m WHERE m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL
), pairs AS (
  SELECT m.brenvik_version_no, m.brenvik_row_id FROM matched m WHERE NOT (m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL)
  UNION ALL
  SELECT max(r.brenvik_version_no) AS brenvik_version_no, max(r.brenvik_row_id) AS brenvik_row_id FROM unmatched r
  GROUP BY r."harbour", r."berth", r.brenvik_nth
), compared AS (
SELECT CASE WHEN p.brenvik_version_no IS NULL THEN 'delete' WHEN p.brenvik_row_id IS NULL THEN 'insert' WHEN (d."brenvik_effective_at" IS DISTINCT FROM s."brenvik_effective_at" OR d."keeper" IS DISTINCT FROM s."keeper" OR d."note" IS DISTINCT FROM s."note") THEN 'update' WHEN (d."brenvik_valid_to" IS DISTINCT FROM s."brenvik_valid_to") THEN 'close' ELSE 'keep' END AS brenvik_action, p.brenvik_row_id, COALESCE(d."harbour", s."harbour") AS "harbour", COALESCE(d."berth", s."berth") AS "berth", d."brenvik_effective_at", d."brenvik_valid_to", d."brenvik_deleted", d."keeper", d."note",
  COALESCE(CASE WHEN s.brenvik_valid_to IS NULL AND s.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_was_current, COALESCE(CASE WHEN d.brenvik_valid_to IS NULL AND d.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_is_current, CASE WHEN d."brenvik_effective_at" IS DISTINCT FROM s."brenvik_effective_at" THEN 1 ELSE 0 END AS brenvik_differs_effective_at, CASE WHEN d."brenvik_valid_to" IS DISTINCT FROM s."brenvik_valid_to" THEN 1 ELSE 0 END AS brenvik_differs_valid_to, CASE WHEN d."keeper" IS DISTINCT FROM s."keeper" THEN 1 ELSE 0 END AS brenvik_differs_0, CASE WHEN d."note" IS DISTINCT FROM s."note" THEN 1 ELSE 0 END AS brenvik_differs_1, CASE WHEN s.brenvik_full_replay = 1 AND ((NOT EXISTS (SELECT 1 FROM "brenvik_work_decided" e WHERE e."harbour" = s."harbour" AND e."berth" = s."berth" AND e.brenvik_effective_at = s.brenvik_effective_at AND (e.brenvik_is_new = 0 OR e.brenvik_replaces IS NOT NULL))) OR (s.brenvik_valid_to IS NOT NULL AND NOT EXISTS (SELECT 1 FROM "brenvik_work_decided" e WHERE e."harbour" = s."harbour" AND e."berth" = s."berth" AND e.brenvik_effective_at = s.brenvik_valid_to AND (e.brenvik_is_new = 0 OR e.brenvik_replaces IS NOT NULL)))) THEN 1 ELSE 0 END AS brenvik_is_unlogged
FROM pairs p
LEFT JOIN "brenvik_work_target_versions" d ON d.brenvik_version_no = p.brenvik_version_no
LEFT JOIN "brenvik_work_stored_versions" s ON s.brenvik_row_id = p.brenvik_row_id UNION ALL 
SELECT 'update', t."rowid" AS brenvik_row_id, t."harbour", t."berth", t."from", t."until", 0, t."keeper", x."note", 0, 0, 0, 0, 0, CASE WHEN x."note" IS DISTINCT FROM t."note" THEN 1 ELSE 0 END, 0
FROM (
  SELECT DISTINCT d."harbour", d."berth", d."note" FROM "brenvik_work_target_versions" d
) x
JOIN "brenvik_work_late_or_several" b ON b."harbour" = x."harbour" AND b."berth" = x."berth" AND b.brenvik_full_replay = 0
JOIN "buoy" t ON t."harbour" = x."harbour" AND t."berth" = x."berth"
WHERE NOT (t."until" = CAST(:open_end AS TIMESTAMP)) AND (x."note" IS DISTINCT FROM t."note"))
SELECT a.* FROM compared a WHERE a.brenvik_action <> 'keep' OR a.brenvik_is_unlogged = 1;

SELECT a.*, e.ended, j.*, d.*, t.* FROM (SELECT count(CASE WHEN a.brenvik_action = 'close'  THEN 1 END) AS "close", count(CASE WHEN a.brenvik_action = 'update'  THEN 1 END) AS "update", count(CASE WHEN a.brenvik_action = 'insert'  THEN 1 END) AS "insert", count(CASE WHEN a.brenvik_action = 'delete'  THEN 1 END) AS "delete", CAST(COALESCE(sum(a.brenvik_is_current - a.brenvik_was_current), 0) AS BIGINT) AS current_change, count(DISTINCT CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(length(CAST(a."harbour" AS TEXT)) AS TEXT) || ':' || CAST(a."harbour" AS TEXT) || CAST(length(CAST(a."berth" AS TEXT)) AS TEXT) || ':' || CAST(a."berth" AS TEXT) END) AS unlogged, min(CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(length(CAST(a."harbour" AS TEXT)) AS TEXT) || ':' || CAST(a."harbour" AS TEXT) || CAST(length(CAST(a."berth" AS TEXT)) AS TEXT) || ':' || CAST(a."berth" AS TEXT) END) AS unlogged_key, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_effective_at ELSE 0 END) AS brenvik_differs_effective_at, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_valid_to ELSE 0 END) AS brenvik_differs_valid_to, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_0 ELSE 0 END) AS brenvik_differs_0, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_1 ELSE 0 END) AS brenvik_differs_1 FROM "brenvik_work_actions" a) a CROSS JOIN (SELECT count(*) AS ended FROM (SELECT a."harbour", a."berth" FROM "brenvik_work_actions" a GROUP BY a."harbour", a."berth" HAVING max(a.brenvik_was_current) = 1 AND max(a.brenvik_is_current) = 0) k) e CROSS JOIN (SELECT count(CASE WHEN j.brenvik_decision = 'inserted'  THEN 1 END) AS "inserted", count(CASE WHEN j.brenvik_decision = 'versioned'  THEN 1 END) AS "versioned", count(CASE WHEN j.brenvik_decision = 'overwritten'  THEN 1 END) AS "overwritten", count(CASE WHEN j.brenvik_decision = 'deleted'  THEN 1 END) AS "deleted", count(CASE WHEN j.brenvik_decision = 'protected'  THEN 1 END) AS "protected", count(CASE WHEN j.brenvik_decision = 'unchanged'  THEN 1 END) AS "unchanged", count(CASE WHEN j.brenvik_decision = 'superseded'  THEN 1 END) AS "superseded", count(CASE WHEN j.brenvik_decision = 'ignored'  THEN 1 END) AS "ignored" FROM "brenvik_work_decided" j WHERE j.brenvik_is_new = 1) j CROSS JOIN (SELECT count(*) AS duplicates, count(CASE WHEN NOT (c."at" > CAST(:high_order_0 AS TIMESTAMP) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 END) AS late_duplicates FROM "brenvik_work_duplicates" d JOIN "brenvik_work_staged" c ON d.brenvik_sequence_no = c.brenvik_sequence_no) d CROSS JOIN (SELECT count(*) AS tied, min(CAST(k."harbour" AS TEXT) || ', ' || CAST(k."berth" AS TEXT)) AS tied_key FROM (SELECT DISTINCT p."harbour", p."berth" FROM (SELECT n."harbour", n."berth", n."brenvik_effective_at", n."at", count(*) AS brenvik_contents FROM (SELECT DISTINCT c."harbour", c."berth", c."brenvik_effective_at", c."at", c."brenvik_delete", c."brenvik_column_set", c."keeper" AS brenvik_content_0, c."note" AS brenvik_content_1 FROM "brenvik_work_staged" c WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_sequence_no = c.brenvik_sequence_no) AND NOT EXISTS (SELECT 1 FROM "brenvik"."change_log_buoy" k WHERE k."harbour" = c."harbour" AND k."berth" = c."berth" AND k."brenvik_effective_at" = c."brenvik_effective_at" AND k."at" = c."at" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_column_set" = c."brenvik_column_set" AND k."keeper" IS NOT DISTINCT FROM c."keeper" AND k."note" IS NOT DISTINCT FROM c."note")) n GROUP BY n."harbour", n."berth", n."brenvik_effective_at", n."at") p WHERE p.brenvik_contents > 1 OR EXISTS (SELECT 1 FROM "brenvik"."change_log_buoy" k WHERE k."harbour" = p."harbour" AND k."berth" = p."berth" AND k."brenvik_effective_at" = p."brenvik_effective_at" AND k."at" = p."at")) k) t;

UPDATE "buoy" SET "keeper" = s."keeper", "note" = s."note", "from" = s.brenvik_effective_at, "until" = COALESCE(s.brenvik_valid_to, CAST(:open_end AS TIMESTAMP)), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT a.* FROM "brenvik_work_actions" a WHERE a.brenvik_action = 'update') s WHERE "buoy"."rowid" = s.brenvik_row_id;

DELETE FROM "buoy" WHERE "buoy"."rowid" IN (SELECT s.brenvik_row_id FROM (SELECT r.brenvik_row_id FROM "brenvik_work_removed_rows" r) s);

INSERT INTO "buoy" ("berth_no", "harbour", "berth", "keeper", "note", "from", "until", "first_run", "last_run", "first_loaded_at", "last_loaded_at") SELECT :last_key + row_number() OVER (), s."harbour", s."berth", s."keeper", s."note", s.brenvik_valid_from, CAST(s.brenvik_valid_to AS TIMESTAMP), :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP) FROM (SELECT c."harbour", c."berth", c."keeper", c."note", c.brenvik_effective_at AS brenvik_valid_from, CAST(:open_end AS TIMESTAMP) AS brenvik_valid_to, TRUE AS brenvik_current, FALSE AS brenvik_deleted FROM "brenvik_work_current_path" p JOIN "brenvik_work_staged" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no IN (1, 2) UNION ALL SELECT s."harbour", s."berth", s."keeper", s."note", s.brenvik_effective_at AS brenvik_valid_from, COALESCE(s.brenvik_valid_to, CAST(:open_end AS TIMESTAMP)) AS brenvik_valid_to, (s.brenvik_valid_to IS NULL) AS brenvik_current, (s.brenvik_deleted = 1) AS brenvik_deleted FROM "brenvik_work_actions" s WHERE s.brenvik_action = 'insert') s;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "harbour", "berth", "at", "keeper", "note") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."harbour", s."berth", s."at", s."keeper", s."note" FROM "brenvik_work_staged" s;

