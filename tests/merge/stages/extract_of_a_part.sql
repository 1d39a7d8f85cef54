-- Run 2: full_extract at 2024-05-02 02:00 where region = 'north'

CREATE TEMP TABLE "brenvik_work_approved" AS
SELECT x.run, x.sequence_no FROM (
  SELECT r.run, r.sequence_no FROM "brenvik"."pending_deletes" r
  WHERE r.table_name = :table_name AND ((r.state = 'approved'))) x;

CREATE TEMP VIEW "brenvik_work_active_changes" AS
SELECT k."brenvik_run", k."brenvik_sequence_no", k."brenvik_column_set", k."brenvik_delete", k."brenvik_effective_at", k."no", k."name", k."region" FROM "brenvik"."change_log_buoy" k WHERE (k.brenvik_delete = 0 OR EXISTS (
  SELECT 1 FROM "brenvik_work_approved" r WHERE r.run = k.brenvik_run AND r.sequence_no = k.brenvik_sequence_no));

CREATE TEMP TABLE "brenvik_work_pending_keys" AS
SELECT k."no", h.delete_no, h.from_extract
FROM (
  SELECT r.delete_no, r.feed, r.run, r.sequence_no, r.from_extract, r.pending_since FROM "brenvik"."pending_deletes" r
  WHERE r.table_name = :table_name AND r.state = 'pending' AND NOT EXISTS (SELECT 1 FROM "brenvik"."reverted_runs" w WHERE w.table_name = r.table_name AND w.run = r.run AND w.undone_by IS NULL)) h JOIN "brenvik"."change_log_buoy" k ON k.brenvik_run = h.run AND k.brenvik_sequence_no = h.sequence_no;

SELECT count(*) AS n FROM "brenvik_work_pending_keys";

SELECT count(*) AS n FROM "buoy" t WHERE t."valid_to" IS NULL AND ((t."region" = 'north'));

CREATE TEMP TABLE "brenvik_work_staged" AS -- in DuckDB, as the rows come
SELECT
  brenvik_sequence_no, CAST(1 AS INTEGER) AS brenvik_column_set,
  0 AS brenvik_delete,
  CAST($extract_at AS TIMESTAMP) AS brenvik_effective_at,
  "brenvik_integer_of_no" AS "no", "name", "region",
  CASE WHEN brenvik_is_invalid THEN CAST(json_object('column', CASE WHEN brenvik_error_0 THEN 'no' WHEN brenvik_error_1 THEN 'no' WHEN brenvik_error_2 THEN 'region' END, 'value', CASE WHEN brenvik_error_0 THEN CAST("no" AS VARCHAR) WHEN brenvik_error_1 THEN CAST("no" AS VARCHAR) WHEN brenvik_error_2 THEN CAST("region" AS VARCHAR) END, 'reason', concat_ws('; ', CASE WHEN brenvik_error_0 THEN 'no is empty' END, CASE WHEN brenvik_error_1 THEN 'no: ''' || CAST("no" AS VARCHAR) || ''' is not a valid integer' END, CASE WHEN brenvik_error_2 THEN 'is outside extract_scope: region = ''north''' END), 'row', CAST(json_object('no', CAST("no" AS VARCHAR), 'name', CAST("name" AS VARCHAR), 'region', CAST("region" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_error
FROM (SELECT tested_rows.*, brenvik_error_0 OR brenvik_error_1 OR brenvik_error_2 AS brenvik_is_invalid FROM (SELECT typed_rows.*, CASE WHEN "no" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_0, CASE WHEN ("no" IS NOT NULL AND ("brenvik_integer_of_no" IS NULL OR NOT regexp_full_match("no", '\s*[+-]?\d+(\.0*)?\s*'))) THEN TRUE ELSE FALSE END AS brenvik_error_1, CASE WHEN ((NOT ((("region") = 'north') IS TRUE))) THEN TRUE ELSE FALSE END AS brenvik_error_2 FROM (SELECT rows_as_read.*, TRY_CAST("no" AS BIGINT) AS "brenvik_integer_of_no" FROM brenvik_stream AS rows_as_read) AS typed_rows) AS tested_rows) AS checked_rows;

SELECT count(e.brenvik_error) AS invalid, CAST(min(e.brenvik_effective_at) AS TEXT) AS earliest, CAST(max(e.brenvik_effective_at) AS TEXT) AS latest FROM "brenvik_work_staged" e;

CREATE TEMP TABLE "brenvik_work_rejected_keys" AS
SELECT DISTINCT e."no" FROM "brenvik_work_staged" e
WHERE e.brenvik_error IS NOT NULL AND e."no" IS NOT NULL
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_staged" g WHERE g.brenvik_sequence_no IS NOT NULL AND g.brenvik_error IS NULL AND g."no" = e."no");

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

CREATE TEMP VIEW "brenvik_work_extract_rows" AS
SELECT s.* FROM "brenvik_work_staged" s WHERE s.brenvik_error IS NULL;

CREATE TEMP TABLE "brenvik_work_extract_diff" AS
SELECT COALESCE(c."no", t."no") AS "no", c."brenvik_sequence_no", c."brenvik_column_set", c."brenvik_delete", c."brenvik_effective_at", c."name", c."region", c."brenvik_error", t.brenvik_row_id, t."name" AS brenvik_before_0, t."region" AS brenvik_before_1, CASE WHEN t."no" IS NOT NULL THEN 1 ELSE 0 END AS brenvik_matched
FROM "brenvik_work_extract_rows" c
FULL JOIN (
  SELECT v."rowid" AS brenvik_row_id, v."no", v."name", v."region"
  FROM "buoy" v
  WHERE v."valid_to" IS NULL
) t ON t."no" = c."no"
WHERE c.brenvik_error IS NOT NULL OR CASE WHEN c.brenvik_sequence_no IS NULL THEN (t."region" = 'north') ELSE (t."no" IS NULL OR c.brenvik_sequence_no IS NULL OR CASE WHEN c."name" = t."name" THEN FALSE ELSE (c."name" IS DISTINCT FROM t."name") END OR CASE WHEN c."region" = t."region" THEN FALSE ELSE (c."region" IS DISTINCT FROM t."region") END) END;

SELECT count(d.brenvik_error) AS invalid,
  count(CASE WHEN d.brenvik_error IS NOT NULL AND d.brenvik_matched = 1 THEN 1 END) AS invalid_matched,
  count(CASE WHEN d.brenvik_sequence_no IS NOT NULL AND d.brenvik_error IS NULL AND d.brenvik_matched = 0 THEN 1 END) AS new,
  count(*) - count(d.brenvik_sequence_no) AS absent,
  (SELECT count(*) AS n FROM "buoy" t WHERE t."valid_to" IS NULL) AS current_keys,
  CAST(CAST(:extract_at AS TIMESTAMP) AS TEXT) AS at,
  CASE WHEN CAST(:extract_at AS TIMESTAMP) <= CAST(:high_effective AS TIMESTAMP) THEN 1 ELSE 0 END AS late
FROM "brenvik_work_extract_diff" d;

CREATE TEMP TABLE "brenvik_work_duplicated_rows" AS
SELECT c."brenvik_sequence_no", c."brenvik_column_set", c."brenvik_delete", c."brenvik_effective_at", c."no", c."name", c."region", c."brenvik_error" FROM "brenvik_work_extract_rows" c
JOIN (
  SELECT e."no" FROM "brenvik_work_extract_rows" e GROUP BY e."no" HAVING count(*) > 1
) w ON w."no" = c."no"
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_extract_diff" d WHERE d.brenvik_sequence_no = c.brenvik_sequence_no);

CREATE TEMP TABLE "brenvik_work_absent_keys" AS
SELECT CAST(:absent_from AS BIGINT) + 2 * row_number() OVER (ORDER BY d."no") AS "brenvik_sequence_no",
  1 AS "brenvik_column_set",
  1 AS "brenvik_delete",
  CAST(:extract_at AS TIMESTAMP) AS "brenvik_effective_at",
  d."no",
  CAST(NULL AS TEXT) AS "name",
  CAST(NULL AS TEXT) AS "region",
  CAST(NULL AS TEXT) AS "brenvik_error"
FROM "brenvik_work_extract_diff" d
WHERE d.brenvik_sequence_no IS NULL
  AND NOT EXISTS (SELECT 1 FROM "brenvik_work_rejected_keys" r WHERE r."no" = d."no");

CREATE TEMP TABLE "brenvik_work_extract_changes" AS
SELECT d."brenvik_sequence_no", d."brenvik_column_set", d."brenvik_delete", d."brenvik_effective_at", d."no", d."name", d."region", d."brenvik_error" FROM "brenvik_work_extract_diff" d WHERE d.brenvik_sequence_no IS NOT NULL UNION ALL SELECT d."brenvik_sequence_no", d."brenvik_column_set", d."brenvik_delete", d."brenvik_effective_at", d."no", d."name", d."region", d."brenvik_error" FROM "brenvik_work_duplicated_rows" d UNION ALL SELECT d."brenvik_sequence_no", d."brenvik_column_set", d."brenvik_delete", d."brenvik_effective_at", d."no", d."name", d."region", d."brenvik_error" FROM "brenvik_work_absent_keys" d;

SELECT count(c.brenvik_error) AS invalid, count(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 1 THEN 1 END) AS inactive, 0 AS derived,
  count(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 0 THEN 1 END) AS changes, count(CASE WHEN c.brenvik_error IS NULL AND NOT (c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 END) AS late, CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 0 AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective_at END) AS TEXT) AS "brenvik_highest",
  (SELECT count(*) FROM (SELECT DISTINCT c."no" FROM "brenvik_work_extract_changes" c WHERE c.brenvik_error IS NULL AND c.brenvik_delete = 0) k) AS changed_keys
FROM "brenvik_work_extract_changes" c;

CREATE TEMP TABLE "brenvik_work_inactive_deletes" AS
SELECT c."brenvik_sequence_no", c."brenvik_column_set", c."brenvik_delete", c."brenvik_effective_at", c."no", c."name", c."region" FROM "brenvik_work_extract_changes" c WHERE c.brenvik_delete = 1;

CREATE TEMP VIEW "brenvik_work_changes" AS
SELECT c."brenvik_sequence_no", c."brenvik_column_set", c."brenvik_delete", c."brenvik_effective_at", c."no", c."name", c."region" FROM "brenvik_work_extract_changes" c WHERE c.brenvik_delete = 0;

CREATE TEMP TABLE "brenvik_work_current_path" AS
SELECT m.brenvik_sequence_no, m.brenvik_effective_at, m.brenvik_row_id,
  CASE WHEN m.brenvik_row_id IS NULL THEN CASE WHEN m.brenvik_delete = 1 THEN 0 ELSE 1 END WHEN m.brenvik_delete = 1 THEN 4 WHEN m.brenvik_type_2_differs = 1 THEN 2 ELSE 6 END AS brenvik_decision_no,
  0 AS brenvik_sets_type_1,
  CASE WHEN m.brenvik_type_2_differs = 1 THEN m.brenvik_before_0 END AS brenvik_before_0,
  CASE WHEN m.brenvik_type_2_differs = 1 THEN m.brenvik_before_1 END AS brenvik_before_1
FROM (
  SELECT c.brenvik_sequence_no, c.brenvik_effective_at, c.brenvik_delete, t."rowid" AS brenvik_row_id,
  CASE WHEN (c."name" IS DISTINCT FROM t."name" OR c."region" IS DISTINCT FROM t."region") THEN 1 ELSE 0 END AS brenvik_type_2_differs,
  t."name" AS brenvik_before_0,
  t."region" AS brenvik_before_1
  FROM "brenvik_work_changes" c
  LEFT JOIN "buoy" t ON t."no" = c."no" AND t."valid_to" IS NULL
) m;

SELECT brenvik_decision_no, count(*) AS n, 0 AS sets FROM "brenvik_work_current_path" GROUP BY brenvik_decision_no;

CREATE TEMP TABLE "brenvik_work_decided_deletes" AS
SELECT c.*, CASE WHEN NOT ((EXISTS (SELECT 1 FROM "buoy" t WHERE t."no" = c."no" AND t."valid_to" IS NULL) OR EXISTS (SELECT 1 FROM "brenvik_work_changes" s WHERE s."no" = c."no"))) AND NOT (EXISTS (SELECT 1 FROM "buoy" t WHERE t."no" = c."no") OR EXISTS (SELECT 1 FROM "brenvik_work_changes" s WHERE s."no" = c."no")) THEN 'ignored' WHEN NOT ((EXISTS (SELECT 1 FROM "buoy" t WHERE t."no" = c."no" AND t."valid_to" IS NULL) OR EXISTS (SELECT 1 FROM "brenvik_work_changes" s WHERE s."no" = c."no"))) OR (EXISTS (SELECT 1 FROM "brenvik_work_inactive_deletes" o WHERE o.brenvik_sequence_no < c.brenvik_sequence_no AND o."no" = c."no")) THEN 'unchanged' ELSE 'pending' END AS brenvik_decision FROM "brenvik_work_inactive_deletes" c;

SELECT c.brenvik_decision, count(*) AS n, CAST(sum(0) AS BIGINT) AS late FROM "brenvik_work_decided_deletes" c GROUP BY c.brenvik_decision;

UPDATE "buoy" SET "valid_to" = s.brenvik_valid_to, "is_current" = (s.brenvik_valid_to IS NULL), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT p.brenvik_row_id, p.brenvik_effective_at AS brenvik_valid_to, CASE WHEN p.brenvik_decision_no = 4 THEN 1 ELSE 0 END AS brenvik_deleted FROM "brenvik_work_current_path" p WHERE p.brenvik_decision_no = 2) s WHERE "buoy"."rowid" = s.brenvik_row_id;

INSERT INTO "buoy" ("buoy_key", "no", "name", "region", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at") SELECT :last_key + row_number() OVER (), s."no", s."name", s."region", s.brenvik_valid_from, CAST(s.brenvik_valid_to AS TIMESTAMP), s.brenvik_current, s.brenvik_deleted, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP) FROM (SELECT c."no", c."name", c."region", c.brenvik_effective_at AS brenvik_valid_from, NULL AS brenvik_valid_to, TRUE AS brenvik_current, FALSE AS brenvik_deleted FROM "brenvik_work_current_path" p JOIN "brenvik_work_changes" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no IN (1, 2)) s;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "no", "name", "region") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."no", s."name", s."region" FROM "brenvik_work_changes" s;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "no", "name", "region") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."no", s."name", s."region" FROM (SELECT c.* FROM "brenvik_work_decided_deletes" c WHERE c.brenvik_decision <> 'duplicate') s;

INSERT INTO "brenvik"."pending_deletes" ("table_name", "delete_no", "feed", "run", "sequence_no", "from_extract", "state", "pending_since", "decided_by")
SELECT :table_name, :last_delete_no + row_number() OVER (ORDER BY a.brenvik_sequence_no), :feed, :run, a.brenvik_sequence_no,
  :from_extract, 'pending', CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_decided_deletes" a
WHERE a.brenvik_decision = 'pending';

INSERT INTO "brenvik"."rejects" ("reject", "table_name", "feed", "run", "file", "line", "column_name", "value", "reason", "content", "state", "rejected_at", "decided_by")
SELECT :last_reject + row_number() OVER (ORDER BY r.brenvik_sequence_no), :table_name, :feed, :run, NULL, CASE WHEN r.brenvik_sequence_no % 1000000000000 < 200000000000 THEN CAST(floor((r.brenvik_sequence_no % 1000000000000) / 2) AS BIGINT) END,
  r.brenvik_column, r.brenvik_value, r.brenvik_reason, r.brenvik_row, 'open', CAST(:loaded_at AS TIMESTAMP), NULL
FROM "brenvik_work_rejected" r
WHERE r.brenvik_is_duplicate = 0;

INSERT INTO "brenvik"."rejected_keys" ("table_name", "run", "key")
SELECT :table_name, :run, CAST(r."no" AS TEXT) FROM "brenvik_work_rejected_keys" r;

