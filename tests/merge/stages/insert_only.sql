-- Run 2: upserts

CREATE TEMP TABLE "brenvik_work_staged" AS -- in DuckDB, as the rows come
SELECT
  brenvik_sequence_no, CAST(1 AS INTEGER) AS brenvik_column_set,
  0 AS brenvik_delete,
  CASE WHEN NOT brenvik_is_invalid THEN "brenvik_timestamp with time zone_of_at" END AS brenvik_effective_at,
  "code", CASE WHEN NOT brenvik_is_invalid THEN "brenvik_timestamp with time zone_of_at" END AS "at", "brenvik_double_of_weight" AS "weight", "owner",
  CASE WHEN brenvik_is_invalid THEN CAST(json_object('column', CASE WHEN brenvik_error_0 THEN 'code' WHEN brenvik_error_1 THEN 'at' WHEN brenvik_error_2 THEN 'at' WHEN brenvik_error_3 THEN 'weight' END, 'value', CASE WHEN brenvik_error_0 THEN CAST("code" AS VARCHAR) WHEN brenvik_error_1 THEN CAST("at" AS VARCHAR) WHEN brenvik_error_2 THEN CAST("at" AS VARCHAR) WHEN brenvik_error_3 THEN CAST("weight" AS VARCHAR) END, 'reason', concat_ws('; ', CASE WHEN brenvik_error_0 THEN 'code is empty' END, CASE WHEN brenvik_error_1 THEN 'at is empty' END, CASE WHEN brenvik_error_2 THEN CASE WHEN isfinite("brenvik_timestamp with time zone_of_at") AND NOT ("brenvik_timestamp with time zone_of_at" BETWEEN CAST('0001-01-01 00:00:00+00:00' AS TIMESTAMPTZ) AND CAST('9999-12-31 23:59:59.999999+00:00' AS TIMESTAMPTZ)) THEN 'at: ''' || CAST("at" AS VARCHAR) || ''' is outside the years 1 to 9999' ELSE CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') AND TRY_CAST("at" AS TIMESTAMP) IS NOT NULL AND "brenvik_timestamp with time zone_of_at" IS NULL THEN 'at: ''' || CAST("at" AS VARCHAR) || ''' does not exist in Europe/Oslo, because clocks were put forward' ELSE 'at: ''' || CAST("at" AS VARCHAR) || ''' is not a valid timestamp with time zone' END END END, CASE WHEN brenvik_error_3 THEN 'weight: ''' || CAST("weight" AS VARCHAR) || ''' is not a valid double' END), 'row', CAST(json_object('code', CAST("code" AS VARCHAR), 'at', CAST("at" AS VARCHAR), 'weight', CAST("weight" AS VARCHAR), 'owner', CAST("owner" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_error
FROM (SELECT tested_rows.*, brenvik_error_0 OR brenvik_error_1 OR brenvik_error_2 OR brenvik_error_3 AS brenvik_is_invalid FROM (SELECT typed_rows.*, CASE WHEN "code" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_0, CASE WHEN "at" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_1, CASE WHEN ("at" IS NOT NULL AND (("brenvik_timestamp with time zone_of_at" BETWEEN CAST('0001-01-01 00:00:00+00:00' AS TIMESTAMPTZ) AND CAST('9999-12-31 23:59:59.999999+00:00' AS TIMESTAMPTZ)) IS NOT TRUE)) THEN TRUE ELSE FALSE END AS brenvik_error_2, CASE WHEN ("weight" IS NOT NULL AND ("brenvik_double_of_weight" IS NULL OR NOT regexp_full_match("weight", '\s*[+-]?((\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?|(?i:inf(inity)?|nan))\s*') OR isinf("brenvik_double_of_weight") AND NOT contains(lower("weight"), 'inf') OR "brenvik_double_of_weight" = 0 AND regexp_matches("weight", '^[^eE]*[1-9]'))) THEN TRUE ELSE FALSE END AS brenvik_error_3 FROM (SELECT rows_as_read.*, CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN CASE WHEN timezone('Europe/Oslo', timezone('Europe/Oslo', TRY_CAST("at" AS TIMESTAMP))) = TRY_CAST("at" AS TIMESTAMP) THEN timezone('Europe/Oslo', TRY_CAST("at" AS TIMESTAMP)) END ELSE CASE WHEN NOT regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') THEN NULL
    WHEN NOT regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))
    WHEN timezone(regexp_extract("at", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1), COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) = TRY_CAST(regexp_extract("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP) THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END END AS "brenvik_timestamp with time zone_of_at", TRY_CAST("weight" AS DOUBLE) AS "brenvik_double_of_weight" FROM brenvik_stream AS rows_as_read) AS typed_rows) AS tested_rows) AS checked_rows;

SELECT count(c.brenvik_error) AS invalid, 0 AS inactive, 0 AS derived,
  count(CASE WHEN c.brenvik_error IS NULL THEN 1 END) AS changes, count(CASE WHEN c.brenvik_error IS NULL AND NOT (c."at" > CAST(:high_order_0 AS TIMESTAMPTZ) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMPTZ)) THEN 1 END) AS late, CAST(max(CASE WHEN c.brenvik_error IS NULL AND c."at" > CAST(:high_order_0 AS TIMESTAMPTZ) THEN c."at" END) AS TEXT) AS "brenvik_highest_0", CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMPTZ) THEN c.brenvik_effective_at END) AS TEXT) AS "brenvik_highest",
  (SELECT count(*) FROM (SELECT DISTINCT c."code" FROM "brenvik_work_staged" c WHERE c.brenvik_error IS NULL) k) AS changed_keys
FROM "brenvik_work_staged" c;

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
SELECT k."code", CASE WHEN t."code" IS NULL OR k.brenvik_late = 1 THEN 1 ELSE 0 END AS brenvik_full_replay, k.brenvik_changes
FROM (
  SELECT c."code", max(CASE WHEN NOT (c."at" > CAST(:high_order_0 AS TIMESTAMPTZ) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMPTZ)) THEN 1 ELSE 0 END) AS brenvik_late, count(*) AS brenvik_changes FROM "brenvik_work_accepted" c GROUP BY c."code" HAVING count(*) > 1 OR max(CASE WHEN NOT (c."at" > CAST(:high_order_0 AS TIMESTAMPTZ) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMPTZ)) THEN 1 ELSE 0 END) = 1
) k
LEFT JOIN "buoy" t ON t."code" = k."code" AND t."valid_to" IS NULL AND t."weight" IS NOT NULL AND t."owner" IS NOT NULL;

SELECT count(*) AS replay_keys, CAST(COALESCE(sum(k.brenvik_changes), 0) AS BIGINT) AS replayed FROM "brenvik_work_late_or_several" k;

CREATE TEMP TABLE "brenvik_work_current_path" AS
SELECT m.brenvik_sequence_no, m.brenvik_effective_at, m.brenvik_row_id,
  CASE WHEN m.brenvik_row_id IS NULL THEN CASE WHEN m.brenvik_delete = 1 THEN 0 ELSE 1 END WHEN m.brenvik_is_current = 0 THEN CASE WHEN m.brenvik_delete = 1 THEN 6 ELSE 0 END WHEN m.brenvik_delete = 1 THEN 4 WHEN m.brenvik_is_learned = 1 THEN 0 WHEN m.brenvik_type_0_differs = 1 THEN 5 ELSE 6 END AS brenvik_decision_no,
  0 AS brenvik_sets_type_1,
  CASE WHEN m.brenvik_type_0_differs = 1 THEN m.brenvik_before_0 END AS brenvik_before_0,
  CASE WHEN m.brenvik_type_0_differs = 1 THEN m.brenvik_before_1 END AS brenvik_before_1
FROM (
  SELECT c.brenvik_sequence_no, c.brenvik_effective_at, c.brenvik_delete, t."rowid" AS brenvik_row_id,
  CASE WHEN t."valid_to" IS NULL THEN 1 ELSE 0 END AS brenvik_is_current,
  CASE WHEN t."weight" IS NULL AND c."weight" IS NOT NULL OR t."owner" IS NULL AND c."owner" IS NOT NULL THEN 1 ELSE 0 END AS brenvik_is_learned,
  CASE WHEN (c."weight" IS DISTINCT FROM t."weight" OR c."owner" IS DISTINCT FROM t."owner") THEN 1 ELSE 0 END AS brenvik_type_0_differs,
  t."weight" AS brenvik_before_0,
  t."owner" AS brenvik_before_1
  FROM "brenvik_work_accepted" c
  LEFT JOIN "buoy" t ON t."code" = c."code"
  WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_late_or_several" b WHERE b."code" = c."code")
) m;

SELECT brenvik_decision_no, count(*) AS n, 0 AS sets FROM "brenvik_work_current_path" GROUP BY brenvik_decision_no;

CREATE TEMP TABLE "brenvik_work_replay_keys" AS
SELECT k."code", k.brenvik_full_replay FROM "brenvik_work_late_or_several" k UNION ALL SELECT c."code", 1 AS brenvik_full_replay FROM "brenvik_work_current_path" p JOIN "brenvik_work_accepted" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no = 0;

CREATE TEMP TABLE "brenvik_work_stored_versions" AS
SELECT t."rowid" AS brenvik_row_id, t."code", CAST(t."valid_from" AS TIMESTAMPTZ) AS brenvik_effective_at, CAST(t."valid_to" AS TIMESTAMPTZ) AS brenvik_valid_to, CASE WHEN t."is_deleted" = TRUE THEN 1 ELSE 0 END AS brenvik_deleted, t."weight", t."owner", CASE WHEN t."valid_to" IS NULL THEN 1 ELSE 0 END AS brenvik_is_current,
  b.brenvik_full_replay, CASE WHEN t."is_current" = TRUE THEN 1 ELSE 0 END AS brenvik_flagged_current
FROM "buoy" t
JOIN "brenvik_work_replay_keys" b ON b."code" = t."code";

CREATE TEMP TABLE "brenvik_work_duplicates" AS
SELECT n.brenvik_sequence_no FROM (
  SELECT c.brenvik_sequence_no, row_number() OVER (
    PARTITION BY c."code", c."brenvik_effective_at", c."at", c."brenvik_delete", c."brenvik_column_set", c."weight", c."owner" ORDER BY c.brenvik_sequence_no) AS brenvik_nth
  FROM "brenvik_work_accepted" c
  JOIN (SELECT e."code", e."brenvik_effective_at" FROM "brenvik_work_accepted" e GROUP BY e."code", e."brenvik_effective_at" HAVING count(*) > 1) s ON s."code" = c."code" AND s."brenvik_effective_at" = c."brenvik_effective_at"
) n WHERE n.brenvik_nth > 1 UNION 
SELECT c.brenvik_sequence_no
FROM "brenvik_work_accepted" c
JOIN "brenvik"."change_log_buoy" k ON k."code" = c."code" AND k."brenvik_effective_at" = c."brenvik_effective_at" AND k."at" = c."at" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_column_set" = c."brenvik_column_set" AND k."weight" IS NOT DISTINCT FROM c."weight" AND k."owner" IS NOT DISTINCT FROM c."owner"
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_replay_keys" b WHERE b."code" = c."code" AND b.brenvik_full_replay = 1);

CREATE TEMP TABLE "brenvik_work_decided" AS
WITH events ("code", "brenvik_effective_at", "brenvik_rank", "brenvik_run", "brenvik_sequence_no", "brenvik_is_new", "brenvik_delete", "brenvik_column_set", "at", "weight", "owner") AS (
SELECT c."code",
  c.brenvik_effective_at, 1, :run, c.brenvik_sequence_no, 1, c.brenvik_delete, c.brenvik_column_set,
  c."at", c."weight", c."owner"
FROM "brenvik_work_accepted" c
WHERE EXISTS (
  SELECT 1 FROM "brenvik_work_replay_keys" b WHERE b."code" = c."code")
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_sequence_no = c.brenvik_sequence_no) UNION ALL 
SELECT s."code",
  s.brenvik_effective_at, 1, 0, 0, 0, 0, 0,
  CAST(NULL AS TIMESTAMPTZ),
  s."weight",
  s."owner"
FROM "brenvik_work_stored_versions" s
WHERE s.brenvik_full_replay = 0 AND s.brenvik_is_current = 1 UNION ALL 
SELECT k."code",
  k.brenvik_effective_at, 1, k.brenvik_run, k.brenvik_sequence_no, 0, k.brenvik_delete, k.brenvik_column_set,
  k."at", k."weight", k."owner"
FROM "brenvik_work_replay_keys" b
JOIN "brenvik"."change_log_buoy" k ON k."code" = b."code"
WHERE b.brenvik_full_replay = 1
), placed AS (
  SELECT e.*,
    row_number() OVER brenvik_line AS brenvik_position,
    CASE WHEN lead(brenvik_effective_at) OVER brenvik_line = brenvik_effective_at THEN 1 ELSE 0 END AS brenvik_is_superseded,
    first_value(brenvik_delete) OVER (PARTITION BY e."code", brenvik_effective_at ORDER BY "brenvik_rank" DESC NULLS FIRST, "at" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_sequence_no" DESC NULLS FIRST) AS brenvik_ends_deleted
  FROM events e
  WINDOW brenvik_line AS (PARTITION BY e."code" ORDER BY brenvik_effective_at, "brenvik_rank", "at", "brenvik_run", "brenvik_sequence_no")
), base AS (
  SELECT p."code", p."brenvik_effective_at", max(p.brenvik_position) AS brenvik_position, max(2 * p.brenvik_position + p.brenvik_delete) AS brenvik_end,
    max(CASE WHEN p.brenvik_delete = 0 THEN 1 ELSE 0 END) AS brenvik_some_upsert
  FROM placed p
  WHERE p.brenvik_is_new = 0
  GROUP BY p."code", p."brenvik_effective_at"
), lived AS (
  SELECT p.*, 1 - p.brenvik_is_superseded AS brenvik_is_last, sum(CASE WHEN p.brenvik_is_superseded = 0 THEN p.brenvik_delete ELSE 0 END) OVER (PARTITION BY p."code" ORDER BY p.brenvik_position ROWS UNBOUNDED PRECEDING) AS brenvik_lifetime, b.brenvik_position AS brenvik_replaces, b.brenvik_end - 2 * b.brenvik_position AS brenvik_replaced_delete, CASE WHEN p.brenvik_is_superseded = 0 AND p.brenvik_delete = 0 AND b.brenvik_some_upsert = 1 THEN 1 ELSE 0 END AS brenvik_was_known
  FROM placed p LEFT JOIN base b ON b."code" = p."code" AND b."brenvik_effective_at" = p."brenvik_effective_at"
  WHERE p.brenvik_is_superseded = 0 OR (p.brenvik_ends_deleted = 0 AND p.brenvik_delete = 0)
), states AS (
  SELECT l."code", l."brenvik_effective_at", l."brenvik_sequence_no", l."brenvik_column_set", l."brenvik_delete", l."brenvik_is_new", l."brenvik_position", l."brenvik_lifetime", l."brenvik_replaces", l."brenvik_replaced_delete", l."brenvik_was_known", l."brenvik_rank", l."brenvik_is_last", first_value(l."weight") OVER (PARTITION BY l."code", l.brenvik_lifetime, l.brenvik_delete ORDER BY CASE WHEN l."weight" IS NULL THEN 1 ELSE 0 END, l.brenvik_position) AS "weight", min(CASE WHEN l."weight" IS NOT NULL THEN l.brenvik_position END) OVER (PARTITION BY l."code", l.brenvik_lifetime, l.brenvik_delete) AS brenvik_known_at_0, first_value(CASE WHEN l.brenvik_is_new = 0 THEN l."weight" END) OVER (PARTITION BY l."code", l.brenvik_lifetime, l.brenvik_delete ORDER BY CASE WHEN CASE WHEN l.brenvik_is_new = 0 THEN l."weight" END IS NULL THEN 1 ELSE 0 END, l.brenvik_position) AS brenvik_prior_0, l."weight" AS brenvik_source_0, first_value(l."owner") OVER (PARTITION BY l."code", l.brenvik_lifetime, l.brenvik_delete ORDER BY CASE WHEN l."owner" IS NULL THEN 1 ELSE 0 END, l.brenvik_position) AS "owner", min(CASE WHEN l."owner" IS NOT NULL THEN l.brenvik_position END) OVER (PARTITION BY l."code", l.brenvik_lifetime, l.brenvik_delete) AS brenvik_known_at_1, first_value(CASE WHEN l.brenvik_is_new = 0 THEN l."owner" END) OVER (PARTITION BY l."code", l.brenvik_lifetime, l.brenvik_delete ORDER BY CASE WHEN CASE WHEN l.brenvik_is_new = 0 THEN l."owner" END IS NULL THEN 1 ELSE 0 END, l.brenvik_position) AS brenvik_prior_1, l."owner" AS brenvik_source_1
  FROM lived l
), compared AS (
  SELECT s.*, r."weight" AS brenvik_replaced_0, r."owner" AS brenvik_replaced_1
  FROM states s
  LEFT JOIN states r ON r.brenvik_is_new = 0 AND r."code" = s."code" AND r.brenvik_position = CASE WHEN s.brenvik_is_new = 1 THEN s.brenvik_replaces END
), lined AS (
  SELECT s."code", s."brenvik_effective_at", s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_is_new", s."brenvik_position", s."brenvik_lifetime", s."brenvik_replaces", s."brenvik_replaced_delete", s."brenvik_was_known", s."brenvik_rank", s."weight", CASE WHEN s.brenvik_is_new = 1 AND s.brenvik_replaces IS NOT NULL THEN s.brenvik_replaced_0 ELSE lag(s."weight") OVER brenvik_line END AS brenvik_before_0, s.brenvik_known_at_0, s.brenvik_source_0, s.brenvik_prior_0, s."owner", CASE WHEN s.brenvik_is_new = 1 AND s.brenvik_replaces IS NOT NULL THEN s.brenvik_replaced_1 ELSE lag(s."owner") OVER brenvik_line END AS brenvik_before_1, s.brenvik_known_at_1, s.brenvik_source_1, s.brenvik_prior_1, max(CASE WHEN s.brenvik_delete = 0 THEN s.brenvik_lifetime END) OVER (PARTITION BY s."code") AS brenvik_last_lifetime, max(s.brenvik_lifetime) OVER (PARTITION BY s."code") AS brenvik_lifetimes,
    lag(s.brenvik_delete) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_position) OVER brenvik_line, 0) AS brenvik_prev_position
  FROM compared s
  WHERE s.brenvik_is_last = 1
  WINDOW brenvik_line AS (PARTITION BY s."code" ORDER BY s.brenvik_position)
)
SELECT j.*,
  CASE WHEN j.brenvik_delete = 0 AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN 1 ELSE 0 END AS brenvik_starts_version,
  CASE
    WHEN j.brenvik_delete = 0 AND j.brenvik_lifetime < j.brenvik_last_lifetime THEN 'superseded'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.brenvik_delete = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND (j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1) THEN CASE WHEN max(j.brenvik_was_known) OVER (PARTITION BY j."code", j.brenvik_lifetime) = 0 THEN 'inserted' ELSE 'overwritten' END
    WHEN (j.brenvik_known_at_0 > COALESCE(j.brenvik_replaces, j.brenvik_prev_position) AND j.brenvik_known_at_0 <= j.brenvik_position) OR (j.brenvik_known_at_1 > COALESCE(j.brenvik_replaces, j.brenvik_prev_position) AND j.brenvik_known_at_1 <= j.brenvik_position) THEN 'overwritten'
    WHEN ((j.brenvik_source_0 IS NOT NULL OR j.brenvik_known_at_0 <= j.brenvik_position) AND j.brenvik_source_0 IS DISTINCT FROM j."weight") OR ((j.brenvik_source_1 IS NOT NULL OR j.brenvik_known_at_1 <= j.brenvik_position) AND j.brenvik_source_1 IS DISTINCT FROM j."owner") THEN 'protected'
    ELSE 'unchanged'
  END AS brenvik_decision
FROM lined j;

CREATE TEMP TABLE "brenvik_work_target_versions" AS
WITH lasts AS (
  SELECT j."code", j.brenvik_effective_at, j.brenvik_delete, j.brenvik_position, j.brenvik_starts_version, j.brenvik_prev_delete, j."weight", j."owner", j.brenvik_lifetime, j.brenvik_last_lifetime
  FROM "brenvik_work_decided" j
), spans AS (
  SELECT j.*, lead(j.brenvik_effective_at) OVER brenvik_line AS brenvik_valid_to,
    lead(j.brenvik_delete) OVER brenvik_line AS brenvik_deleted
  FROM lasts j
  WHERE j.brenvik_starts_version = 1 OR (j.brenvik_delete = 1 AND j.brenvik_prev_delete = 0)
  WINDOW brenvik_line AS (PARTITION BY j."code" ORDER BY j.brenvik_position)
)
SELECT row_number() OVER (ORDER BY v."code", v.brenvik_effective_at) AS brenvik_version_no,
  v."code", v.brenvik_effective_at, v.brenvik_valid_to, COALESCE(v.brenvik_deleted, 0) AS brenvik_deleted
  , v."weight", v."owner"
FROM spans v
WHERE v.brenvik_delete = 0 AND v.brenvik_lifetime = v.brenvik_last_lifetime;

CREATE TEMP TABLE "brenvik_work_actions" AS
WITH matched AS (
  SELECT COALESCE(d."code", s."code") AS "code", COALESCE(d."brenvik_effective_at", s."brenvik_effective_at") AS "brenvik_effective_at", d.brenvik_version_no AS brenvik_version_no, s.brenvik_row_id
  FROM "brenvik_work_target_versions" d FULL JOIN "brenvik_work_stored_versions" s ON d."code" = s."code" AND d.brenvik_effective_at = s.brenvik_effective_at
), unmatched AS (
  SELECT m."code", m.brenvik_version_no, m.brenvik_row_id, row_number() OVER (PARTITION BY m."code", CASE WHEN m.brenvik_version_no IS NULL THEN 1 ELSE 0 END ORDER BY m.brenvik_effective_at) AS brenvik_nth FROM matched m WHERE m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL
), pairs AS (
  SELECT m.brenvik_version_no, m.brenvik_row_id FROM matched m WHERE NOT (m.brenvik_version_no IS NULL OR m.brenvik_row_id IS NULL)
  UNION ALL
  SELECT max(r.brenvik_version_no) AS brenvik_version_no, max(r.brenvik_row_id) AS brenvik_row_id FROM unmatched r
  GROUP BY r."code", r.brenvik_nth
), compared AS (
SELECT CASE WHEN p.brenvik_version_no IS NULL THEN 'delete' WHEN p.brenvik_row_id IS NULL THEN 'insert' WHEN (d."brenvik_effective_at" IS DISTINCT FROM s."brenvik_effective_at" OR d."weight" IS DISTINCT FROM s."weight" OR d."owner" IS DISTINCT FROM s."owner") THEN 'update' WHEN ((d."brenvik_valid_to" IS DISTINCT FROM s."brenvik_valid_to" OR d."brenvik_deleted" IS DISTINCT FROM s."brenvik_deleted") OR s.brenvik_flagged_current <> CASE WHEN d.brenvik_valid_to IS NULL THEN 1 ELSE 0 END) THEN 'close' ELSE 'keep' END AS brenvik_action, p.brenvik_row_id, COALESCE(d."code", s."code") AS "code", d."brenvik_effective_at", d."brenvik_valid_to", d."brenvik_deleted", d."weight", d."owner",
  COALESCE(CASE WHEN s.brenvik_valid_to IS NULL AND s.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_was_current, COALESCE(CASE WHEN d.brenvik_valid_to IS NULL AND d.brenvik_deleted = 0 THEN 1 ELSE 0 END, 0) AS brenvik_is_current, CASE WHEN d."brenvik_effective_at" IS DISTINCT FROM s."brenvik_effective_at" THEN 1 ELSE 0 END AS brenvik_differs_effective_at, CASE WHEN d."brenvik_valid_to" IS DISTINCT FROM s."brenvik_valid_to" THEN 1 ELSE 0 END AS brenvik_differs_valid_to, CASE WHEN d."brenvik_deleted" IS DISTINCT FROM s."brenvik_deleted" THEN 1 ELSE 0 END AS brenvik_differs_deleted, CASE WHEN d."weight" IS DISTINCT FROM s."weight" THEN 1 ELSE 0 END AS brenvik_differs_0, CASE WHEN d."owner" IS DISTINCT FROM s."owner" THEN 1 ELSE 0 END AS brenvik_differs_1, CASE WHEN s.brenvik_full_replay = 1 AND ((NOT EXISTS (SELECT 1 FROM "brenvik_work_decided" e WHERE e."code" = s."code" AND e.brenvik_effective_at = s.brenvik_effective_at AND (e.brenvik_is_new = 0 OR e.brenvik_replaces IS NOT NULL))) OR (s.brenvik_valid_to IS NOT NULL AND NOT EXISTS (SELECT 1 FROM "brenvik_work_decided" e WHERE e."code" = s."code" AND e.brenvik_effective_at = s.brenvik_valid_to AND (e.brenvik_is_new = 0 OR e.brenvik_replaces IS NOT NULL)))) THEN 1 ELSE 0 END AS brenvik_is_unlogged
FROM pairs p
LEFT JOIN "brenvik_work_target_versions" d ON d.brenvik_version_no = p.brenvik_version_no
LEFT JOIN "brenvik_work_stored_versions" s ON s.brenvik_row_id = p.brenvik_row_id)
SELECT a.* FROM compared a WHERE a.brenvik_action <> 'keep' OR a.brenvik_is_unlogged = 1;

SELECT a.*, e.ended, j.*, d.*, t.* FROM (SELECT count(CASE WHEN a.brenvik_action = 'close'  THEN 1 END) AS "close", count(CASE WHEN a.brenvik_action = 'update'  THEN 1 END) AS "update", count(CASE WHEN a.brenvik_action = 'insert'  THEN 1 END) AS "insert", count(CASE WHEN a.brenvik_action = 'delete'  THEN 1 END) AS "delete", CAST(COALESCE(sum(a.brenvik_is_current - a.brenvik_was_current), 0) AS BIGINT) AS current_change, count(DISTINCT CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(a."code" AS TEXT) END) AS unlogged, min(CASE WHEN a.brenvik_is_unlogged = 1 THEN CAST(a."code" AS TEXT) END) AS unlogged_key, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_effective_at ELSE 0 END) AS brenvik_differs_effective_at, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_valid_to ELSE 0 END) AS brenvik_differs_valid_to, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_deleted ELSE 0 END) AS brenvik_differs_deleted, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_0 ELSE 0 END) AS brenvik_differs_0, max(CASE WHEN a.brenvik_action = 'update' THEN a.brenvik_differs_1 ELSE 0 END) AS brenvik_differs_1 FROM "brenvik_work_actions" a) a CROSS JOIN (SELECT count(*) AS ended FROM (SELECT a."code" FROM "brenvik_work_actions" a GROUP BY a."code" HAVING max(a.brenvik_was_current) = 1 AND max(a.brenvik_is_current) = 0) k) e CROSS JOIN (SELECT count(CASE WHEN j.brenvik_decision = 'inserted'  THEN 1 END) AS "inserted", count(CASE WHEN j.brenvik_decision = 'versioned'  THEN 1 END) AS "versioned", count(CASE WHEN j.brenvik_decision = 'overwritten'  THEN 1 END) AS "overwritten", count(CASE WHEN j.brenvik_decision = 'deleted'  THEN 1 END) AS "deleted", count(CASE WHEN j.brenvik_decision = 'protected'  THEN 1 END) AS "protected", count(CASE WHEN j.brenvik_decision = 'unchanged'  THEN 1 END) AS "unchanged", count(CASE WHEN j.brenvik_decision = 'superseded'  THEN 1 END) AS "superseded", count(CASE WHEN j.brenvik_decision = 'ignored'  THEN 1 END) AS "ignored" FROM "brenvik_work_decided" j WHERE j.brenvik_is_new = 1) j CROSS JOIN (SELECT count(*) AS duplicates, count(CASE WHEN NOT (c."at" > CAST(:high_order_0 AS TIMESTAMPTZ) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMPTZ)) THEN 1 END) AS late_duplicates FROM "brenvik_work_duplicates" d JOIN "brenvik_work_accepted" c ON d.brenvik_sequence_no = c.brenvik_sequence_no) d CROSS JOIN (SELECT count(*) AS tied, min(CAST(k."code" AS TEXT)) AS tied_key FROM (SELECT DISTINCT p."code" FROM (SELECT n."code", n."brenvik_effective_at", n."at", count(*) AS brenvik_contents FROM (SELECT DISTINCT c."code", c."brenvik_effective_at", c."at", c."brenvik_delete", c."brenvik_column_set", c."weight" AS brenvik_content_0, c."owner" AS brenvik_content_1 FROM "brenvik_work_accepted" c WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_sequence_no = c.brenvik_sequence_no) AND NOT EXISTS (SELECT 1 FROM "brenvik"."change_log_buoy" k WHERE k."code" = c."code" AND k."brenvik_effective_at" = c."brenvik_effective_at" AND k."at" = c."at" AND k."brenvik_delete" = c."brenvik_delete" AND k."brenvik_column_set" = c."brenvik_column_set" AND k."weight" IS NOT DISTINCT FROM c."weight" AND k."owner" IS NOT DISTINCT FROM c."owner")) n GROUP BY n."code", n."brenvik_effective_at", n."at") p WHERE p.brenvik_contents > 1 OR EXISTS (SELECT 1 FROM "brenvik"."change_log_buoy" k WHERE k."code" = p."code" AND k."brenvik_effective_at" = p."brenvik_effective_at" AND k."at" = p."at")) k) t;

UPDATE "buoy" SET "weight" = s."weight", "owner" = s."owner", "valid_from" = s.brenvik_effective_at, "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT a.* FROM "brenvik_work_actions" a WHERE a.brenvik_action = 'update') s WHERE "buoy"."rowid" = s.brenvik_row_id;

INSERT INTO "buoy" ("buoy_key", "code", "weight", "owner", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at") SELECT :last_key + row_number() OVER (), s."code", s."weight", s."owner", s.brenvik_valid_from, CAST(s.brenvik_valid_to AS TIMESTAMPTZ), s.brenvik_current, s.brenvik_deleted, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP) FROM (SELECT c."code", COALESCE(p.brenvik_before_0, c."weight") AS "weight", COALESCE(p.brenvik_before_1, c."owner") AS "owner", c.brenvik_effective_at AS brenvik_valid_from, NULL AS brenvik_valid_to, TRUE AS brenvik_current, FALSE AS brenvik_deleted FROM "brenvik_work_current_path" p JOIN "brenvik_work_accepted" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no IN (1, 2)) s;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "code", "at", "weight", "owner") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."code", s."at", s."weight", s."owner" FROM "brenvik_work_accepted" s;

INSERT INTO "brenvik"."rejects" ("reject", "table_name", "feed", "run", "file", "line", "column_name", "value", "reason", "content", "state", "rejected_at", "decided_by")
SELECT :last_reject + row_number() OVER (ORDER BY r.brenvik_sequence_no), :table_name, :feed, :run, NULL, CASE WHEN r.brenvik_sequence_no % 1000000000000 < 200000000000 THEN CAST(floor((r.brenvik_sequence_no % 1000000000000) / 2) AS BIGINT) END,
  r.brenvik_column, r.brenvik_value, r.brenvik_reason, r.brenvik_row, 'open', CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_rejected" r
WHERE r.brenvik_is_duplicate = 0;

