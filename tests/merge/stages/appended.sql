-- Run 2: append

CREATE TEMP TABLE "brenvik_work_staged" AS -- in DuckDB, as the rows come
SELECT
  brenvik_sequence_no, CAST(1 AS INTEGER) AS brenvik_column_set,
  0 AS brenvik_delete,
  CAST($changed_at AS TIMESTAMP) AS brenvik_effective_at,
  "buoy_code", "brenvik_integer_of_depth" AS "depth", "seen_by",
  CASE WHEN brenvik_is_invalid THEN CAST(json_object('column', CASE WHEN brenvik_error_0 THEN 'depth' END, 'value', CASE WHEN brenvik_error_0 THEN CAST("depth" AS VARCHAR) END, 'reason', concat_ws('; ', CASE WHEN brenvik_error_0 THEN 'depth: ''' || CAST("depth" AS VARCHAR) || ''' is not a valid integer' END), 'row', CAST(json_object('buoy_code', CAST("buoy_code" AS VARCHAR), 'depth', CAST("depth" AS VARCHAR), 'seen_by', CAST("seen_by" AS VARCHAR)) AS VARCHAR)) AS VARCHAR) END AS brenvik_error
FROM (SELECT tested_rows.*, brenvik_error_0 AS brenvik_is_invalid FROM (SELECT typed_rows.*, CASE WHEN ("depth" IS NOT NULL AND ("brenvik_integer_of_depth" IS NULL OR NOT regexp_full_match("depth", '\s*[+-]?\d+(\.0*)?\s*'))) THEN TRUE ELSE FALSE END AS brenvik_error_0 FROM (SELECT rows_as_read.*, TRY_CAST("depth" AS BIGINT) AS "brenvik_integer_of_depth" FROM brenvik_stream AS rows_as_read) AS typed_rows) AS tested_rows) AS checked_rows;

SELECT count(c.brenvik_error) AS invalid, count(*) - count(c.brenvik_error) AS changes FROM "brenvik_work_staged" c;

CREATE TEMP TABLE "brenvik_work_duplicates" AS
WITH stored_before AS (
  SELECT c.brenvik_sequence_no, min(t."first_run") AS brenvik_of_run
  FROM "brenvik_work_staged" c JOIN "buoy" t ON c."buoy_code" IS NOT DISTINCT FROM t."buoy_code" AND c."depth" IS NOT DISTINCT FROM t."depth" AND c."seen_by" IS NOT DISTINCT FROM t."seen_by"
  GROUP BY c.brenvik_sequence_no
), numbered AS (
  SELECT c.brenvik_sequence_no, CASE WHEN row_number() OVER (PARTITION BY c."buoy_code", c."depth", c."seen_by" ORDER BY c.brenvik_sequence_no) > 1 THEN 1 ELSE 0 END AS brenvik_is_repeated FROM "brenvik_work_staged" c
)
SELECT n.brenvik_sequence_no, b.brenvik_of_run
FROM numbered n LEFT JOIN stored_before b ON b.brenvik_sequence_no = n.brenvik_sequence_no
WHERE n.brenvik_is_repeated = 1 OR b.brenvik_sequence_no IS NOT NULL;

CREATE TEMP VIEW "brenvik_work_changes" AS
SELECT c."brenvik_sequence_no", c."brenvik_column_set", c."brenvik_delete", c."brenvik_effective_at", c."buoy_code", c."depth", c."seen_by" FROM "brenvik_work_staged" c
WHERE NOT EXISTS (SELECT 1 FROM "brenvik_work_duplicates" d WHERE d.brenvik_sequence_no = c.brenvik_sequence_no);

INSERT INTO "buoy" ("buoy_key", "buoy_code", "depth", "seen_by", "brought_by", "first_run", "first_loaded_at") SELECT :last_key + row_number() OVER (ORDER BY s.brenvik_sequence_no), s."buoy_code", s."depth", s."seen_by", CAST(CAST(CAST(:feed AS TEXT) AS TEXT) AS TEXT), :run, CAST(:loaded_at AS TIMESTAMP) FROM "brenvik_work_changes" s;

SELECT d.brenvik_of_run AS of_run, count(*) AS n FROM "brenvik_work_duplicates" d WHERE d.brenvik_of_run IS NOT NULL GROUP BY d.brenvik_of_run;

-- Run 3: revert 1

CREATE TEMP TABLE "brenvik_work_removed_rows" AS
SELECT t."rowid" AS brenvik_row_id FROM "buoy" t WHERE t."first_run" IN (1);

DELETE FROM "buoy" WHERE "buoy"."rowid" IN (SELECT s.brenvik_row_id FROM (SELECT r.brenvik_row_id FROM "brenvik_work_removed_rows" r) s);

