-- Run 2: full_extract at 2024-05-02 02:00

CREATE TEMP TABLE "brenvik_work_approved" AS
SELECT x.run, x.sequence_no FROM (
  SELECT r.run, r.sequence_no FROM "brenvik"."pending_deletes" r
  WHERE r.table_name = :table_name AND ((r.state = 'approved'))) x;

CREATE TEMP VIEW "brenvik_work_active_changes" AS
SELECT k."brenvik_run", k."brenvik_sequence_no", k."brenvik_column_set", k."brenvik_delete", k."brenvik_effective_at", k."no", k."name", k."phone" FROM "brenvik"."change_log_buoy" k WHERE (k.brenvik_delete = 0 OR EXISTS (
  SELECT 1 FROM "brenvik_work_approved" r WHERE r.run = k.brenvik_run AND r.sequence_no = k.brenvik_sequence_no));

CREATE TEMP TABLE "brenvik_work_staged" AS -- in DuckDB, as the rows come
SELECT
  brenvik_sequence_no, CAST(1 AS INTEGER) AS brenvik_column_set,
  0 AS brenvik_delete,
  CAST($extract_at AS TIMESTAMP) AS brenvik_effective_at,
  "no", "name", "phone",
  CASE WHEN brenvik_is_invalid THEN CAST(json_object('column', CASE WHEN brenvik_error_0 THEN 'no' END, 'value', CASE WHEN brenvik_error_0 THEN CAST("no" AS VARCHAR) END, 'reason', concat_ws('; ', CASE WHEN brenvik_error_0 THEN 'no is empty' END), 'row', CAST(json_object('no', CAST("no" AS VARCHAR), 'name', CAST("name" AS VARCHAR), 'phone', CAST("phone" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_error
FROM (SELECT tested_rows.*, brenvik_error_0 AS brenvik_is_invalid FROM (SELECT typed_rows.*, CASE WHEN "no" IS NULL THEN TRUE ELSE FALSE END AS brenvik_error_0 FROM brenvik_stream AS typed_rows) AS tested_rows) AS checked_rows;

SELECT count(e.brenvik_error) AS invalid, CAST(min(e.brenvik_effective_at) AS TEXT) AS earliest, CAST(max(e.brenvik_effective_at) AS TEXT) AS latest FROM "brenvik_work_staged" e;

CREATE TEMP TABLE "brenvik_work_extract_diff" AS
SELECT COALESCE(c."no", t."no") AS "no", c."brenvik_sequence_no", c."brenvik_column_set", c."brenvik_delete", c."brenvik_effective_at", c."name", c."phone", c."brenvik_error", t.brenvik_row_id, t."name" AS brenvik_before_0, t."phone" AS brenvik_before_1, CASE WHEN t."no" IS NOT NULL THEN 1 ELSE 0 END AS brenvik_matched
FROM "brenvik_work_staged" c
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
FROM "brenvik_work_extract_diff" d;

CREATE TEMP TABLE "brenvik_work_extract_changes" AS
SELECT d."brenvik_sequence_no", d."brenvik_column_set", d."brenvik_delete", d."brenvik_effective_at", d."no", d."name", d."phone", d."brenvik_error" FROM "brenvik_work_extract_diff" d WHERE d.brenvik_sequence_no IS NOT NULL;

SELECT count(c.brenvik_error) AS invalid, count(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 1 THEN 1 END) AS inactive, 0 AS derived,
  count(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 0 THEN 1 END) AS changes, count(CASE WHEN c.brenvik_error IS NULL AND NOT (c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP)) THEN 1 END) AS late, CAST(max(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 0 AND c.brenvik_effective_at > CAST(:high_effective AS TIMESTAMP) THEN c.brenvik_effective_at END) AS TEXT) AS "brenvik_highest",
  (SELECT count(*) FROM (SELECT DISTINCT c."no" FROM "brenvik_work_extract_changes" c WHERE c.brenvik_error IS NULL AND c.brenvik_delete = 0) k) AS changed_keys
FROM "brenvik_work_extract_changes" c;

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
) m;

SELECT brenvik_decision_no, count(*) AS n, CAST(sum(brenvik_sets_type_1) AS BIGINT) AS sets, max(CASE WHEN brenvik_sets_type_1 = 1 THEN brenvik_differs_1 ELSE 0 END) AS brenvik_differs_1 FROM "brenvik_work_current_path" GROUP BY brenvik_decision_no;

CREATE TEMP TABLE "brenvik_work_closed_versions" AS
SELECT t."rowid" AS brenvik_row_id, p.brenvik_sequence_no
FROM "brenvik_work_current_path" p
JOIN "brenvik_work_extract_changes" c ON c.brenvik_sequence_no = p.brenvik_sequence_no
JOIN "buoy" t ON t."no" = c."no"
WHERE p.brenvik_sets_type_1 = 1 AND NOT (t."valid_to" IS NULL) AND (c."phone" IS DISTINCT FROM t."phone");

CREATE TEMP TABLE "brenvik_work_marks" AS
SELECT r."no", r.brenvik_row_id, 1 - r.brenvik_is_marked AS brenvik_is_missing
FROM (
  SELECT t."no", t."rowid" AS brenvik_row_id, CASE WHEN (t."note" IS NOT NULL) THEN 1 ELSE 0 END AS brenvik_is_marked,
    CASE WHEN EXISTS (SELECT 1 FROM "brenvik_work_staged" s WHERE s."no" = t."no") THEN 1 ELSE 0 END AS brenvik_is_present
  FROM "buoy" t WHERE t."valid_to" IS NULL
) r
WHERE (r.brenvik_is_marked = 0 AND r.brenvik_is_present = 0)
  OR (r.brenvik_is_marked = 1 AND r.brenvik_is_present = 1 AND NOT EXISTS (SELECT 1 FROM "brenvik_work_current_path" p WHERE p.brenvik_row_id = r.brenvik_row_id AND p.brenvik_decision_no IN (2, 3, 4)));

SELECT CAST(COALESCE(sum(m.brenvik_is_missing), 0) AS BIGINT) AS missing, count(*) - CAST(COALESCE(sum(m.brenvik_is_missing), 0) AS BIGINT) AS back FROM "brenvik_work_marks" m;

UPDATE "buoy" SET "phone" = s."phone", "note" = CAST(NULL AS TEXT), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT r.brenvik_row_id, c."phone" FROM (SELECT p.brenvik_row_id, p.brenvik_sequence_no FROM "brenvik_work_current_path" p WHERE p.brenvik_sets_type_1 = 1 AND p.brenvik_decision_no IN (3, 5, 6)) r JOIN "brenvik_work_extract_changes" c ON c.brenvik_sequence_no = r.brenvik_sequence_no) s WHERE "buoy"."rowid" = s.brenvik_row_id;

UPDATE "buoy" SET "note" = CASE WHEN s.brenvik_is_missing = 1 THEN CAST(CAST('not in the register' AS TEXT) AS TEXT) END, "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_marks" s WHERE "buoy"."rowid" = s.brenvik_row_id;

INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "no", "name", "phone") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."no", s."name", s."phone" FROM "brenvik_work_extract_changes" s;

-- Run 3: full_extract at 2024-05-03 02:00

-- as before: CREATE TEMP TABLE "brenvik_work_approved" AS

-- as before: CREATE TEMP VIEW "brenvik_work_active_changes" AS

-- as before: CREATE TEMP TABLE "brenvik_work_staged" AS -- in DuckDB, as the rows come

-- as before: SELECT count(e.brenvik_error) AS invalid, CAST(min(e.brenvik_effective_at) AS TEXT) AS earliest, CAST(max(e.brenvik_effective_at) AS TEXT) AS latest FROM "brenvik_work_staged" e;

-- as before: CREATE TEMP TABLE "brenvik_work_extract_diff" AS

-- as before: SELECT count(d.brenvik_error) AS invalid,

-- as before: CREATE TEMP TABLE "brenvik_work_extract_changes" AS

-- as before: SELECT count(c.brenvik_error) AS invalid, count(CASE WHEN c.brenvik_error IS NULL AND c.brenvik_delete = 1 THEN 1 END) AS inactive, 0 AS derived,

-- as before: CREATE TEMP TABLE "brenvik_work_current_path" AS

-- as before: SELECT brenvik_decision_no, count(*) AS n, CAST(sum(brenvik_sets_type_1) AS BIGINT) AS sets, max(CASE WHEN brenvik_sets_type_1 = 1 THEN brenvik_differs_1 ELSE 0 END) AS brenvik_differs_1 FROM "brenvik_work_current_path" GROUP BY brenvik_decision_no;

-- as before: CREATE TEMP TABLE "brenvik_work_closed_versions" AS

-- as before: CREATE TEMP TABLE "brenvik_work_marks" AS

-- as before: SELECT CAST(COALESCE(sum(m.brenvik_is_missing), 0) AS BIGINT) AS missing, count(*) - CAST(COALESCE(sum(m.brenvik_is_missing), 0) AS BIGINT) AS back FROM "brenvik_work_marks" m;

UPDATE "buoy" SET "valid_to" = s.brenvik_valid_to, "is_current" = (s.brenvik_valid_to IS NULL), "note" = CASE WHEN s.brenvik_ends_differ = 1 THEN CASE WHEN s.brenvik_is_current = 0 THEN CAST(NULL AS TEXT) END ELSE "note" END, "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT p.brenvik_row_id, p.brenvik_effective_at AS brenvik_valid_to, CASE WHEN p.brenvik_decision_no = 4 THEN 1 ELSE 0 END AS brenvik_deleted, 1 AS brenvik_ends_differ, 0 AS brenvik_is_current FROM "brenvik_work_current_path" p WHERE p.brenvik_decision_no = 2) s WHERE "buoy"."rowid" = s.brenvik_row_id;

-- as before: UPDATE "buoy" SET "phone" = s."phone", "note" = CAST(NULL AS TEXT), "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM (SELECT r.brenvik_row_id, c."phone" FROM (SELECT p.brenvik_row_id, p.brenvik_sequence_no FROM "brenvik_work_current_path" p WHERE p.brenvik_sets_type_1 = 1 AND p.brenvik_decision_no IN (3, 5, 6)) r JOIN "brenvik_work_extract_changes" c ON c.brenvik_sequence_no = r.brenvik_sequence_no) s WHERE "buoy"."rowid" = s.brenvik_row_id;

INSERT INTO "buoy" ("buoy_key", "no", "name", "phone", "note", "valid_from", "valid_to", "is_current", "is_deleted", "first_run", "last_run", "first_loaded_at", "last_loaded_at") SELECT :last_key + row_number() OVER (), s."no", s."name", s."phone", CASE WHEN s.brenvik_current THEN CAST(NULL AS TEXT) ELSE CAST(NULL AS TEXT) END, s.brenvik_valid_from, CAST(s.brenvik_valid_to AS TIMESTAMP), s.brenvik_current, s.brenvik_deleted, :run, :run, CAST(:loaded_at AS TIMESTAMP), CAST(:loaded_at AS TIMESTAMP) FROM (SELECT c."no", c."name", c."phone", c.brenvik_effective_at AS brenvik_valid_from, NULL AS brenvik_valid_to, TRUE AS brenvik_current, FALSE AS brenvik_deleted FROM "brenvik_work_current_path" p JOIN "brenvik_work_extract_changes" c ON c.brenvik_sequence_no = p.brenvik_sequence_no WHERE p.brenvik_decision_no IN (1, 2)) s;

-- as before: UPDATE "buoy" SET "note" = CASE WHEN s.brenvik_is_missing = 1 THEN CAST(CAST('not in the register' AS TEXT) AS TEXT) END, "last_run" = :run, "last_loaded_at" = CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_marks" s WHERE "buoy"."rowid" = s.brenvik_row_id;

-- as before: INSERT INTO "brenvik"."change_log_buoy" ("brenvik_run", "brenvik_sequence_no", "brenvik_column_set", "brenvik_delete", "brenvik_effective_at", "no", "name", "phone") SELECT :run, s."brenvik_sequence_no", s."brenvik_column_set", s."brenvik_delete", s."brenvik_effective_at", s."no", s."name", s."phone" FROM "brenvik_work_extract_changes" s;

