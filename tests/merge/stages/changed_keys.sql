-- Run 2: changes of keys

CREATE TEMP TABLE "brenvik_work_changes" AS -- in DuckDB, as the rows come
SELECT
  brenvik_sequence_no, brenvik_column_set, brenvik_delete, "at" AS brenvik_effective_at,
  "code", "at", "colour",
  brenvik_error
FROM (
  SELECT
    brenvik_sequence_no, CAST(1 AS INTEGER) AS brenvik_column_set, CASE WHEN ((lower(trim(CAST("op" AS VARCHAR))) IN ('d', 'delete'))) THEN 1 ELSE 0 END AS brenvik_delete,
    "code" AS "code", CASE WHEN brenvik_first IS NULL THEN "brenvik_timestamp_of_at" END AS "at", "colour" AS "colour",
    CASE WHEN brenvik_first IS NOT NULL THEN CAST(json_object('column', CASE brenvik_first WHEN 1 THEN 'op' WHEN 2 THEN 'code' WHEN 3 THEN 'at' WHEN 4 THEN 'at' END, 'value', CASE brenvik_first WHEN 1 THEN CAST("op" AS VARCHAR) WHEN 2 THEN CAST("code" AS VARCHAR) WHEN 3 THEN CAST("at" AS VARCHAR) WHEN 4 THEN CAST("at" AS VARCHAR) END, 'reason', substr(COALESCE('; ' || CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN 'op: ' || COALESCE(chr(39) || CAST("op" AS VARCHAR) || chr(39), 'nothing') || ' is not a valid operation; valid codes are i, insert, u, update, d, delete' END, '') || COALESCE('; ' || CASE WHEN "code" IS NULL THEN 'code is empty' END, '') || COALESCE('; ' || CASE WHEN "at" IS NULL THEN 'at is empty' END, '') || COALESCE('; ' || CASE WHEN ("at" IS NOT NULL AND ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) IS NOT TRUE) THEN CASE WHEN isfinite("brenvik_timestamp_of_at") AND NOT ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) THEN 'at: ' || COALESCE(chr(39) || CAST("at" AS VARCHAR) || chr(39), 'nothing') || ' is outside the years 1 to 9999' ELSE 'at: ' || COALESCE(chr(39) || CAST("at" AS VARCHAR) || chr(39), 'nothing') || ' is not a valid timestamp' END END, ''), 3), 'row', COALESCE(brenvik_raw, CAST(json_object('at', CAST("at" AS VARCHAR), 'code', CAST("code" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR), 'op', CAST("op" AS VARCHAR)) AS VARCHAR))) AS VARCHAR) END AS brenvik_error
  FROM (
    SELECT all_rows.*, CASE WHEN lower(trim(CAST("op" AS VARCHAR))) IS NULL OR lower(trim(CAST("op" AS VARCHAR))) NOT IN ('i', 'insert', 'u', 'update', 'd', 'delete') THEN 1 WHEN "code" IS NULL THEN 2 WHEN "at" IS NULL THEN 3 WHEN ("at" IS NOT NULL AND ("brenvik_timestamp_of_at" BETWEEN CAST('0001-01-01' AS TIMESTAMP) AND CAST('9999-12-31 23:59:59.999999' AS TIMESTAMP)) IS NOT TRUE) THEN 4 END AS brenvik_first FROM (SELECT rows_as_read.*, CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?)?\s*') THEN TRY_CAST("at" AS TIMESTAMP) ELSE timezone('UTC', CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}([ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*(Z|[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?|[A-Za-z][A-Za-z0-9_+/-]+)?)?\s*') AND NOT (regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL AND timezone(CASE WHEN regexp_full_match("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?\s*[A-Za-z][A-Za-z0-9_+/-]+\s*') AND COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) IS NOT NULL THEN regexp_extract("at", ':[0-9.:]*\s*([A-Za-z][A-Za-z0-9_+/-]+)\s*$', 1) ELSE 'UTC' END, COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE))) IS DISTINCT FROM TRY_CAST(regexp_extract("at", '\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}[ T]\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?') AS TIMESTAMP)) THEN COALESCE(TRY_CAST("at" AS TIMESTAMP WITH TIME ZONE), TRY_CAST(regexp_replace(regexp_replace("at", '\s+([+-]\d|Z\s*$)', '\1'), '(\d)([A-Za-z][A-Za-z0-9_+/-]+\s*)$', '\1 \2') AS TIMESTAMP WITH TIME ZONE)) END) END AS "brenvik_timestamp_of_at" FROM brenvik_stream AS rows_as_read) AS all_rows
  ) AS tested_rows
) AS cast_rows;

SELECT count(c.brenvik_error) AS faulty, CAST(COALESCE(sum(CASE WHEN c.brenvik_sequence_no % 2 = 0 THEN 1 ELSE 0 END), 0) AS BIGINT) AS derived, CAST(COALESCE(sum(CASE WHEN NOT (c."at" > CAST(:high_order_0 AS TIMESTAMP) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END), 0) AS BIGINT) AS late, CAST(max(CASE WHEN c."at" > CAST(:high_order_0 AS TIMESTAMP) THEN c."at" END) AS TEXT) AS "at", CAST(max(CASE WHEN c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective_at END) AS TEXT) AS brenvik_highest FROM "brenvik_work_changes" c;

CREATE TEMP TABLE "brenvik_work_invalid" AS SELECT (s.brenvik_sequence_no - s.brenvik_sequence_no % 2 + 1) AS brenvik_sequence_no, CAST(s.brenvik_error AS JSON) ->> 'column' AS brenvik_column, CAST(s.brenvik_error AS JSON) ->> 'value' AS brenvik_value, CAST(s.brenvik_error AS JSON) ->> 'reason' AS brenvik_reason, CAST(s.brenvik_error AS JSON) ->> 'row' AS brenvik_row FROM "brenvik_work_changes" s WHERE s.brenvik_error IS NOT NULL AND NOT (s.brenvik_sequence_no <> (s.brenvik_sequence_no - s.brenvik_sequence_no % 2 + 1) AND EXISTS (
  SELECT 1 FROM "brenvik_work_changes" o WHERE o.brenvik_sequence_no = (s.brenvik_sequence_no - s.brenvik_sequence_no % 2 + 1) AND o.brenvik_error IS NOT NULL));

DELETE FROM "brenvik_work_changes" WHERE brenvik_error IS NOT NULL OR EXISTS (
  SELECT 1 FROM "brenvik_work_invalid" f WHERE f.brenvik_sequence_no = ("brenvik_work_changes".brenvik_sequence_no - "brenvik_work_changes".brenvik_sequence_no % 2 + 1));

CREATE TEMP TABLE "brenvik_work_rejected" AS
SELECT f.brenvik_sequence_no, f.brenvik_column, f.brenvik_value, f.brenvik_reason, f.brenvik_row,
  CASE WHEN EXISTS (
      SELECT 1 FROM "brenvik"."rejects" r
      WHERE r.table_name = :table_name AND r.feed = :feed AND r.state = 'open' AND r.content = f.brenvik_row) OR
    row_number() OVER (PARTITION BY f.brenvik_row ORDER BY f.brenvik_sequence_no) > 1
  THEN 1 ELSE 0 END AS brenvik_is_duplicate
FROM "brenvik_work_invalid" f;

SELECT count(*) AS n, COALESCE(sum(brenvik_is_duplicate), 0) AS again FROM "brenvik_work_rejected";

SELECT count(c.brenvik_error) AS faulty, CAST(COALESCE(sum(CASE WHEN c.brenvik_sequence_no % 2 = 0 THEN 1 ELSE 0 END), 0) AS BIGINT) AS derived, CAST(COALESCE(sum(CASE WHEN NOT (c."at" > CAST(:high_order_0 AS TIMESTAMP) AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 ELSE 0 END), 0) AS BIGINT) AS late, CAST(max(CASE WHEN c."at" > CAST(:high_order_0 AS TIMESTAMP) THEN c."at" END) AS TEXT) AS "at", CAST(max(CASE WHEN c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective_at END) AS TEXT) AS brenvik_highest FROM "brenvik_work_changes" c;

CREATE TEMP TABLE "brenvik_work_replay_keys" AS
SELECT c."code", 0 AS brenvik_full_replay
FROM "brenvik_work_changes" c
GROUP BY c."code"
HAVING count(*) > 1;

CREATE TEMP TABLE "brenvik_work_current_path" AS
SELECT
  c.brenvik_sequence_no, c.brenvik_effective_at, t."rowid" AS brenvik_row_id,
  CASE WHEN t."rowid" IS NULL AND c.brenvik_delete = 1 THEN 0 WHEN t."rowid" IS NULL THEN 1 WHEN c.brenvik_delete = 1 THEN 4 WHEN (c."colour" IS DISTINCT FROM t."colour") THEN 2 ELSE 6 END AS brenvik_decision_no,
  CASE WHEN c.brenvik_delete = 0 AND t."rowid" IS NOT NULL AND 1 = 0 THEN 1 ELSE 0 END AS brenvik_sets_type_1,
  CASE WHEN (c."colour" IS DISTINCT FROM t."colour") THEN t."colour" END AS brenvik_before_0
FROM "brenvik_work_changes" c
LEFT JOIN "buoy" t ON t."code" = c."code" AND t."valid_to" IS NULL;

SELECT CASE p.brenvik_decision_no WHEN 0 THEN 'full' WHEN 1 THEN 'inserted' WHEN 2 THEN 'versioned' WHEN 3 THEN 'overwritten' WHEN 4 THEN 'deleted' WHEN 5 THEN 'protected' WHEN 6 THEN 'unchanged' END AS brenvik_decision, n, sets FROM (SELECT brenvik_decision_no, count(*) AS n, CAST(sum(brenvik_sets_type_1) AS BIGINT) AS sets FROM "brenvik_work_current_path" GROUP BY brenvik_decision_no) p;

CREATE TEMP VIEW "brenvik_work_to_close" AS
SELECT p.brenvik_row_id, p.brenvik_effective_at AS brenvik_valid_to, CASE WHEN p.brenvik_decision_no IN (4) THEN 1 ELSE 0 END AS brenvik_deleted
FROM "brenvik_work_current_path" p
WHERE p.brenvik_decision_no IN (2, 4);

UPDATE "buoy" SET "valid_to" = s.brenvik_valid_to, "is_current" = (s.brenvik_valid_to IS NULL), "is_deleted" = (s.brenvik_deleted = 1), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_to_close" s WHERE "buoy"."rowid" = s.brenvik_row_id;

INSERT INTO "buoy" ("buoy_key", "code", "colour", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at")
SELECT :last_key + row_number() OVER (), n."code", n."colour", n.brenvik_valid_from, CAST(n.brenvik_valid_to AS TIMESTAMP), n.brenvik_current, n.brenvik_deleted, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP)
FROM (
SELECT c."code", c."colour" AS "colour", c.brenvik_effective_at AS brenvik_valid_from, NULL AS brenvik_valid_to,
  TRUE AS brenvik_current, FALSE AS brenvik_deleted
FROM "brenvik_work_current_path" p JOIN "brenvik_work_changes" c ON c.brenvik_sequence_no = p.brenvik_sequence_no
WHERE p.brenvik_decision_no IN (1, 2)) n;

INSERT INTO "brenvik"."change_log_buoy" (brenvik_run, "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "code", "at", "colour")
SELECT :run, c."brenvik_sequence_no", c."brenvik_column_set", c."brenvik_delete", c."brenvik_effective_at", c."code", c."at", c."colour"
FROM "brenvik_work_changes" c;

INSERT INTO "brenvik"."rejects" ("reject", "table_name", "feed", "run", "file", "line", "column_name", "value", "reason", "content", "state", "rejected_at", "decided_by")
SELECT :last_reject + row_number() OVER (ORDER BY r.brenvik_sequence_no), :table_name, :feed, :run, CASE CAST(floor(r.brenvik_sequence_no / 1000000000000) AS BIGINT) WHEN 1 THEN :file_1 END,
  CASE WHEN r.brenvik_sequence_no % 1000000000000 < 200000000000 THEN CAST(floor((r.brenvik_sequence_no % 1000000000000) / 2) AS BIGINT) END, r.brenvik_column, r.brenvik_value, r.brenvik_reason, r.brenvik_row, 'open',
  CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_rejected" r
WHERE r.brenvik_is_duplicate = 0;

