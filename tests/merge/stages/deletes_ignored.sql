-- Run 2: upserts

CREATE TEMP TABLE "brenvik_work_approved" AS
SELECT x.run, x.sequence_no FROM (
  SELECT r.run, r.sequence_no FROM "brenvik"."pending_deletes" r
  WHERE r.table_name = :table_name AND ((r.state = 'approved'))) x;

CREATE TEMP VIEW "brenvik_work_active_changes" AS
SELECT k."brenvik_run", k."brenvik_sequence_no", k."brenvik_column_set", k."brenvik_delete", k."brenvik_effective_at", k."code", k."no", k."colour" FROM "brenvik"."change_log_buoy" k WHERE (k.brenvik_delete = 0 OR EXISTS (
  SELECT 1 FROM "brenvik_work_approved" r WHERE r.run = k.brenvik_run AND r.sequence_no = k.brenvik_sequence_no));

CREATE TEMP TABLE "brenvik_work_staged" AS -- in DuckDB, as the rows come
SELECT
  brenvik_sequence_no, CAST(1 AS INTEGER) AS brenvik_column_set,
  brenvik_is_delete AS brenvik_delete,
  "brenvik_integer_of_no" AS brenvik_effective_at,
  "code", "brenvik_integer_of_no" AS "no", "colour",
  CASE WHEN brenvik_is_invalid THEN CAST(json_object('column', CASE WHEN brenvik_error_0 THEN 'code' WHEN brenvik_error_1 THEN 'no' WHEN brenvik_error_2 THEN 'no' END, 'value', CASE WHEN brenvik_error_0 THEN CAST("code" AS VARCHAR) WHEN brenvik_error_1 THEN CAST("no" AS VARCHAR) WHEN brenvik_error_2 THEN CAST("no" AS VARCHAR) END, 'reason', concat_ws('; ', CASE WHEN brenvik_error_0 THEN 'code is empty' END, CASE WHEN brenvik_error_1 THEN 'no is empty' END, CASE WHEN brenvik_error_2 THEN 'no: ''' || CAST("no" AS VARCHAR) || ''' is not a valid integer' END), 'row', CAST(json_object('code', CAST("code" AS VARCHAR), 'no', CAST("no" AS VARCHAR), 'colour', CAST("colour" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_error
FROM (SELECT tested_rows.*, brenvik_error_0 OR brenvik_error_1 OR brenvik_error_2 AS brenvik_is_invalid FROM (SELECT typed_rows.*, CASE WHEN "code" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_0, CASE WHEN "no" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_1, CASE WHEN ("no" IS NOT NULL AND ("brenvik_integer_of_no" IS NULL OR NOT regexp_full_match("no", '\s*[+-]?\d+(\.0*)?\s*'))) THEN TRUE ELSE FALSE END AS brenvik_error_2 FROM (SELECT cast_rows.*, CASE WHEN (((("colour") = 'gone'))) THEN 1 ELSE 0 END AS brenvik_is_delete FROM (SELECT rows_as_read.*, TRY_CAST("no" AS BIGINT) AS "brenvik_integer_of_no" FROM brenvik_stream AS rows_as_read) AS cast_rows) AS typed_rows) AS tested_rows) AS checked_rows;

SELECT count(c.brenvik_error) AS invalid, count(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 1 THEN 1 END) AS inactive, 0 AS derived,
  count(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 0 THEN 1 END) AS changes, count(CASE WHEN c.brenvik_error IS NULL AND NOT (c."no" > CAST(:high_order_0 AS BIGINT) AND c.brenvik_effective_at > CAST(:high_effective AS BIGINT)) THEN 1 END) AS late, CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 0 AND c."no" > CAST(:high_order_0 AS BIGINT) THEN c."no" END) AS TEXT) AS "brenvik_highest_0", CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 0 AND c.brenvik_effective_at > CAST(:high_effective AS BIGINT) THEN c.brenvik_effective_at END) AS TEXT) AS "brenvik_highest",
  (SELECT count(*) FROM (SELECT DISTINCT c."code" FROM "brenvik_work_staged" c WHERE c.brenvik_error IS NULL AND c.brenvik_delete = 0) k) AS changed_keys
FROM "brenvik_work_staged" c;

CREATE TEMP TABLE "brenvik_work_inactive_deletes" AS
SELECT c."brenvik_sequence_no", c."brenvik_column_set", c."brenvik_delete", c."brenvik_effective_at", c."code", c."no", c."colour" FROM "brenvik_work_staged" c WHERE c.brenvik_delete = 1;

CREATE TEMP VIEW "brenvik_work_changes" AS
SELECT c."brenvik_sequence_no", c."brenvik_column_set", c."brenvik_delete", c."brenvik_effective_at", c."code", c."no", c."colour" FROM "brenvik_work_staged" c WHERE c.brenvik_delete = 0;

CREATE TEMP TABLE "brenvik_work_current_path" AS
SELECT m.brenvik_sequence_no, m.brenvik_effective_at, m.brenvik_row_id,
  CASE WHEN m.brenvik_row_id IS NULL THEN CASE WHEN m.brenvik_delete = 1 THEN 0 ELSE 1 END WHEN m.brenvik_delete = 1 THEN 4 WHEN m.brenvik_type_2_differs = 1 THEN 2 ELSE 6 END AS brenvik_decision_no,
  0 AS brenvik_sets_type_1,
  CASE WHEN m.brenvik_type_2_differs = 1 THEN m.brenvik_before_0 END AS brenvik_before_0
FROM (
  SELECT c.brenvik_sequence_no, c.brenvik_effective_at, c.brenvik_delete, t."rowid" AS brenvik_row_id,
  CASE WHEN (c."colour" IS DISTINCT FROM t."colour") THEN 1 ELSE 0 END AS brenvik_type_2_differs,
  t."colour" AS brenvik_before_0
  FROM "brenvik_work_changes" c
  LEFT JOIN "buoy" t ON t."code" = c."code" AND t."valid_to" IS NULL
) m;

SELECT brenvik_decision_no, count(*) AS n, 0 AS sets FROM "brenvik_work_current_path" GROUP BY brenvik_decision_no;

CREATE TEMP TABLE "brenvik_work_decided_deletes" AS
SELECT c.*, CASE WHEN EXISTS (SELECT 1 FROM "brenvik_work_inactive_deletes" o WHERE o.brenvik_sequence_no < c.brenvik_sequence_no AND o."code" = c."code" AND o."brenvik_effective_at" = c."brenvik_effective_at" AND o."no" = c."no" AND o."brenvik_delete" = c."brenvik_delete" AND o."brenvik_column_set" = c."brenvik_column_set" AND o."colour" IS NOT DISTINCT FROM c."colour") OR EXISTS (SELECT 1 FROM "brenvik"."change_log_buoy" o WHERE o."code" = c."code" AND o."brenvik_effective_at" = c."brenvik_effective_at" AND o."no" = c."no" AND o."brenvik_delete" = c."brenvik_delete" AND o."brenvik_column_set" = c."brenvik_column_set" AND o."colour" IS NOT DISTINCT FROM c."colour") THEN 'duplicate' ELSE 'ignored' END AS brenvik_decision FROM "brenvik_work_inactive_deletes" c;

SELECT c.brenvik_decision, count(*) AS n, CAST(sum(0) AS BIGINT) AS late FROM "brenvik_work_decided_deletes" c GROUP BY c.brenvik_decision;

UPDATE "buoy" SET "valid_to" = s.brenvik_valid_to, "is_current" = (s.brenvik_valid_to IS NULL), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT p.brenvik_row_id, p.brenvik_effective_at AS brenvik_valid_to, CASE WHEN p.brenvik_decision_no = 4 THEN 1 ELSE 0 END AS brenvik_deleted FROM "brenvik_work_current_path" p WHERE p.brenvik_decision_no = 2) s WHERE "buoy"."rowid" = s.brenvik_row_id;

INSERT INTO "buoy" ("buoy_key", "code", "colour", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at") SELECT :last_key + row_number() OVER (), s."code", s."colour", s.brenvik_valid_from, CAST(s.brenvik_valid_to AS BIGINT), s.brenvik_current, s.brenvik_deleted, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP) FROM (SELECT c."code", c."colour", c.brenvik_effective_at AS brenvik_valid_from, NULL AS brenvik_valid_to, TRUE AS brenvik_current, FALSE AS brenvik_deleted FROM "brenvik_work_current_path" p JOIN "brenvik_work_changes" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no IN (1, 2)) s;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "code", "no", "colour") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."code", s."no", s."colour" FROM "brenvik_work_changes" s;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "code", "no", "colour") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."code", s."no", s."colour" FROM (SELECT c.* FROM "brenvik_work_decided_deletes" c WHERE c.brenvik_decision <> 'duplicate') s;

