-- Run 2: changes of keys

CREATE TEMP TABLE "brenvik_work_staged" AS -- in DuckDB, as the rows come
SELECT
  brenvik_sequence_no, CAST(1 AS INTEGER) AS brenvik_column_set,
  brenvik_is_delete AS brenvik_delete,
  CASE WHEN NOT brenvik_is_invalid THEN "brenvik_timestamp_of_at" END AS brenvik_effective_at,
  "code", CASE WHEN NOT brenvik_is_invalid THEN "brenvik_timestamp_of_at" END AS "at", "colour",
  CASE WHEN brenvik_is_invalid THEN CAST(json_object('column', CASE WHEN brenvik_error_0 THEN 'op' WHEN brenvik_error_1 THEN 'code' WHEN brenvik_error_2 THEN 'at' WHEN brenvik_error_3 THEN 'at' END, 'value', CASE WHEN brenvik_error_0 THEN CAST("op" AS VARCHAR) WHEN brenvik_error_1 THEN CAST("code" AS VARCHAR) WHEN brenvik_error_2 THEN CAST("at" AS VARCHAR) WHEN brenvik_error_3 THEN CAST("at" AS VARCHAR) END, 'reason', concat_ws('; ', CASE WHEN brenvik_error_0 THEN COALESCE('op: ''' || CAST("op" AS VARCHAR) || ''' is not a valid operation; valid codes are i, insert, u, update, d, delete', 'op: nothing is not a valid operation; valid codes are i, insert, u, update, d, delete') END, CASE WHEN brenvik_error_1 THEN 'code is empty' END, CASE WHEN brenvik_error_2 THEN 'at is empty' END, CASE WHEN brenvik_error_3 THEN CASE WHEN isfinite("brenvik_timestamp_of_at") AND NOT ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) THEN 'at: ''' || CAST("at" AS VARCHAR) || ''' is outside the years 1 to 9999' ELSE 'at: ''' || CAST("at" AS VARCHAR) || ''' is not a valid timestamp' END END), 'row', COALESCE(brenvik_raw, CAST(json_object('at', CAST("at" AS VARCHAR), 'code', CAST("code" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR), 'op', CAST("op" AS VARCHAR)) AS VARCHAR))) AS VARCHAR) END AS brenvik_error
FROM (SELECT tested_rows.*, brenvik_error_0 OR brenvik_error_1 OR brenvik_error_2 OR brenvik_error_3 AS brenvik_is_invalid FROM (SELECT typed_rows.*, CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN TRUE ELSE FALSE END AS brenvik_error_0, CASE WHEN "code" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_1, CASE WHEN "at" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_2, CASE WHEN ("at" IS NOT NULL AND (("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) IS NOT TRUE)) THEN TRUE ELSE FALSE END AS brenvik_error_3 FROM (SELECT cast_rows.*, CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END AS brenvik_is_delete FROM (SELECT rows_as_read.*, CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("at" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN NOT regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') THEN NULL
    WHEN NOT regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))
    WHEN timezone(regexp_extract("at", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1), COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) = TRY_CAST(regexp_extract("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP) THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END AS "brenvik_timestamp_of_at" FROM brenvik_stream AS rows_as_read) AS cast_rows) AS typed_rows) AS tested_rows) AS checked_rows;

SELECT count(c.brenvik_error) AS invalid, 0 AS inactive, CAST(COALESCE(sum(CASE WHEN c.brenvik_sequence_no % 2 = 0 THEN 1 ELSE 0 END), 0) AS BIGINT) AS derived,
  count(CASE WHEN c.brenvik_error IS NULL THEN 1 END) AS changes, count(CASE WHEN c.brenvik_error IS NULL AND NOT (c."at" > CAST(:high_order_0 AS TIMESTAMP) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 END) AS late, CAST(max(CASE WHEN c.brenvik_error IS NULL AND c."at" > CAST(:high_order_0 AS TIMESTAMP) THEN c."at" END) AS TEXT) AS "brenvik_highest_0", CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective_at END) AS TEXT) AS "brenvik_highest",
  (SELECT count(*) FROM (SELECT DISTINCT c."code" FROM "brenvik_work_staged" c WHERE c.brenvik_error IS NULL) k) AS changed_keys
FROM "brenvik_work_staged" c;

CREATE TEMP TABLE "brenvik_work_invalid" AS
SELECT (s.brenvik_sequence_no - s.brenvik_sequence_no % 2 + 1) AS brenvik_sequence_no, CAST(s.brenvik_error AS JSON) ->> 'column' AS brenvik_column, CAST(s.brenvik_error AS JSON) ->> 'value' AS brenvik_value, CAST(s.brenvik_error AS JSON) ->> 'reason' AS brenvik_reason, CAST(s.brenvik_error AS JSON) ->> 'row' AS brenvik_row FROM "brenvik_work_staged" s WHERE s.brenvik_error IS NOT NULL AND NOT (s.brenvik_sequence_no <> (s.brenvik_sequence_no - s.brenvik_sequence_no % 2 + 1) AND EXISTS (
  SELECT 1 FROM "brenvik_work_staged" o WHERE o.brenvik_sequence_no = (s.brenvik_sequence_no - s.brenvik_sequence_no % 2 + 1) AND o.brenvik_error IS NOT NULL));

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
SELECT s.* FROM "brenvik_work_staged" s WHERE s.brenvik_error IS NULL AND NOT EXISTS (
  SELECT 1 FROM "brenvik_work_invalid" f WHERE f.brenvik_sequence_no = (s.brenvik_sequence_no - s.brenvik_sequence_no % 2 + 1));

SELECT count(c.brenvik_error) AS invalid, 0 AS inactive, CAST(COALESCE(sum(CASE WHEN c.brenvik_sequence_no % 2 = 0 THEN 1 ELSE 0 END), 0) AS BIGINT) AS derived,
  count(CASE WHEN c.brenvik_error IS NULL THEN 1 END) AS changes, count(CASE WHEN c.brenvik_error IS NULL AND NOT (c."at" > CAST(:high_order_0 AS TIMESTAMP) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 END) AS late, CAST(max(CASE WHEN c.brenvik_error IS NULL AND c."at" > CAST(:high_order_0 AS TIMESTAMP) THEN c."at" END) AS TEXT) AS "brenvik_highest_0", CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective_at END) AS TEXT) AS "brenvik_highest",
  (SELECT count(*) FROM (SELECT DISTINCT c."code" FROM "brenvik_work_accepted" c WHERE c.brenvik_error IS NULL) k) AS changed_keys
FROM "brenvik_work_accepted" c;

CREATE TEMP TABLE "brenvik_work_current_path" AS
SELECT m.brenvik_sequence_no, m.brenvik_effective_at, m.brenvik_row_id,
  CASE WHEN m.brenvik_row_id IS NULL THEN CASE WHEN m.brenvik_delete = 1 THEN 0 ELSE 1 END WHEN m.brenvik_delete = 1 THEN 4 WHEN m.brenvik_type_2_differs = 1 THEN 2 ELSE 6 END AS brenvik_decision_no,
  0 AS brenvik_sets_type_1,
  CASE WHEN m.brenvik_type_2_differs = 1 THEN m.brenvik_before_0 END AS brenvik_before_0
FROM (
  SELECT c.brenvik_sequence_no, c.brenvik_effective_at, c.brenvik_delete, t."rowid" AS brenvik_row_id,
  CASE WHEN (c."colour" IS DISTINCT FROM t."colour") THEN 1 ELSE 0 END AS brenvik_type_2_differs,
  t."colour" AS brenvik_before_0
  FROM "brenvik_work_accepted" c
  LEFT JOIN "buoy" t ON t."code" = c."code" AND t."valid_to" IS NULL
) m;

SELECT brenvik_decision_no, count(*) AS n, 0 AS sets FROM "brenvik_work_current_path" GROUP BY brenvik_decision_no;

UPDATE "buoy" SET "valid_to" = s.brenvik_valid_to, "is_current" = (s.brenvik_valid_to IS NULL), "is_deleted" = (s.brenvik_deleted = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT p.brenvik_row_id, p.brenvik_effective_at AS brenvik_valid_to, CASE WHEN p.brenvik_decision_no = 4 THEN 1 ELSE 0 END AS brenvik_deleted FROM "brenvik_work_current_path" p WHERE p.brenvik_decision_no IN (2, 4)) s WHERE "buoy"."rowid" = s.brenvik_row_id;

INSERT INTO "buoy" ("buoy_key", "code", "colour", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at") SELECT :last_key + row_number() OVER (), s."code", s."colour", s.brenvik_valid_from, CAST(s.brenvik_valid_to AS TIMESTAMP), s.brenvik_current, s.brenvik_deleted, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP) FROM (SELECT c."code", c."colour", c.brenvik_effective_at AS brenvik_valid_from, NULL AS brenvik_valid_to, TRUE AS brenvik_current, FALSE AS brenvik_deleted FROM "brenvik_work_current_path" p JOIN "brenvik_work_accepted" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no IN (1, 2)) s;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "code", "at", "colour") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."code", s."at", s."colour" FROM "brenvik_work_accepted" s;

INSERT INTO "brenvik"."rejects" ("reject", "table_name", "feed", "run", "file", "line", "column_name", "value", "reason", "content", "state", "rejected_at", "decided_by")
SELECT :last_reject + row_number() OVER (ORDER BY r.brenvik_sequence_no), :table_name, :feed, :run, CASE CAST(floor(r.brenvik_sequence_no / 1000000000000) AS BIGINT) WHEN 1 THEN :file_1 END, CASE WHEN r.brenvik_sequence_no % 1000000000000 < 200000000000 THEN CAST(floor((r.brenvik_sequence_no % 1000000000000) / 2) AS BIGINT) END,
  r.brenvik_column, r.brenvik_value, r.brenvik_reason, r.brenvik_row, 'open', CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_rejected" r
WHERE r.brenvik_is_duplicate = 0;

