SELECT
  "s".*,
  "o"."brenvik_highest_0",
  "o"."brenvik_highest_1"
FROM (
  SELECT
    COUNT("c"."brenvik_error") AS "invalid",
    0 AS "inactive",
    0 AS "derived",
    COUNT(CASE WHEN "c"."brenvik_error" IS NULL THEN 1 END) AS "changes",
    COUNT(
      CASE
        WHEN "c"."brenvik_error" IS NULL
        AND NOT (
          (
            "c"."at" > :high_order_0_as_0
            OR (
              "c"."at" = :high_order_0_as_1 AND "c"."entry" > :high_order_1_as_2
            )
          )
          AND "c"."brenvik_effective_at" > :high_effective_as_3
        )
        THEN 1
      END
    ) AS "late",
    CAST(MAX(
      CASE
        WHEN "c"."brenvik_error" IS NULL AND "c"."brenvik_effective_at" > :high_effective_as_4
        THEN "c"."brenvik_effective_at"
      END
    ) AS TEXT) AS "brenvik_highest",
    (
      SELECT
        COUNT(*)
      FROM (
        SELECT DISTINCT
          "c"."buoy_code"
        FROM "brenvik_work_staged" AS "c"
        WHERE
          "c"."brenvik_error" IS NULL
      ) AS "k"
    ) AS "changed_keys"
  FROM "brenvik_work_staged" AS "c"
) AS "s"
LEFT JOIN (
  SELECT
    CAST("c"."at" AS TEXT) AS "brenvik_highest_0",
    CAST("c"."entry" AS TEXT) AS "brenvik_highest_1"
  FROM "brenvik_work_staged" AS "c"
  WHERE
    "c"."brenvik_error" IS NULL
    AND (
      "c"."at" > :high_order_0_as_5
      OR (
        "c"."at" = :high_order_0_as_6 AND "c"."entry" > :high_order_1_as_7
      )
    )
  ORDER BY
    "c"."at" DESC NULLS FIRST,
    "c"."entry" DESC NULLS FIRST
  LIMIT 1
) AS "o"
  ON TRUE;

CREATE TEMPORARY TABLE "brenvik_work_invalid" AS
SELECT
  "s"."brenvik_sequence_no" AS "brenvik_sequence_no",
  "s"."brenvik_error" ->> '$.column' AS "brenvik_column",
  "s"."brenvik_error" ->> '$.value' AS "brenvik_value",
  "s"."brenvik_error" ->> '$.reason' AS "brenvik_reason",
  "s"."brenvik_error" ->> '$.row' AS "brenvik_row"
FROM "brenvik_work_staged" AS "s"
WHERE
  "s"."brenvik_error" IS NOT NULL;

CREATE TEMPORARY TABLE "brenvik_work_rejected" AS
SELECT
  "f"."brenvik_sequence_no",
  "f"."brenvik_column",
  "f"."brenvik_value",
  "f"."brenvik_reason",
  "f"."brenvik_row",
  CASE
    WHEN EXISTS(
      SELECT
        1
      FROM (
        SELECT
          "r"."reason",
          "r"."content"
        FROM "brenvik.rejects" AS "r"
        WHERE
          "r"."table_name" = :table_name AND "r"."feed" = :feed AND "r"."state" = 'open'
      ) AS "r"
      WHERE
        "r"."content" = "f"."brenvik_row"
    )
    OR ROW_NUMBER() OVER (PARTITION BY "f"."brenvik_row" ORDER BY "f"."brenvik_sequence_no" NULLS LAST) > 1
    THEN 1
    ELSE 0
  END AS "brenvik_is_duplicate"
FROM "brenvik_work_invalid" AS "f";

SELECT
  COUNT(*) AS "n",
  COALESCE(SUM("brenvik_is_duplicate"), 0) AS "again"
FROM "brenvik_work_rejected";

CREATE TEMPORARY VIEW "brenvik_work_accepted" AS
SELECT
  "s".*
FROM "brenvik_work_staged" AS "s"
WHERE
  "s"."brenvik_error" IS NULL;

CREATE TEMPORARY TABLE "brenvik_work_late_or_several" AS
SELECT
  "k"."buoy_code",
  CASE WHEN "t"."buoy_code" IS NULL OR "k"."brenvik_late" = 1 THEN 1 ELSE 0 END AS "brenvik_full_replay",
  "k"."brenvik_changes"
FROM (
  SELECT
    "c"."buoy_code",
    MAX(
      CASE
        WHEN NOT (
          (
            "c"."at" > :high_order_0_as_0
            OR (
              "c"."at" = :high_order_0_as_1 AND "c"."entry" > :high_order_1_as_2
            )
          )
          AND "c"."brenvik_effective_at" > :high_effective_as_3
        )
        THEN 1
        ELSE 0
      END
    ) AS "brenvik_late",
    COUNT(*) AS "brenvik_changes"
  FROM "brenvik_work_accepted" AS "c"
  GROUP BY
    "c"."buoy_code"
  HAVING
    COUNT(*) > 1
    OR MAX(
      CASE
        WHEN NOT (
          (
            "c"."at" > :high_order_0_as_4
            OR (
              "c"."at" = :high_order_0_as_5 AND "c"."entry" > :high_order_1_as_6
            )
          )
          AND "c"."brenvik_effective_at" > :high_effective_as_7
        )
        THEN 1
        ELSE 0
      END
    ) = 1
) AS "k"
LEFT JOIN "buoy" AS "t"
  ON "t"."buoy_code" = "k"."buoy_code"
  AND "t"."valid_to" IS NULL
  AND "t"."since" IS NOT NULL;

SELECT
  COUNT(*) AS "replay_keys",
  CAST(COALESCE(SUM("k"."brenvik_changes"), 0) AS INTEGER) AS "replayed"
FROM "brenvik_work_late_or_several" AS "k";

CREATE TEMPORARY TABLE "brenvik_work_current_path" AS
SELECT
  "m"."brenvik_sequence_no",
  "m"."brenvik_effective_at",
  "m"."brenvik_row_id",
  CASE
    WHEN "m"."brenvik_row_id" IS NULL
    THEN CASE WHEN "m"."brenvik_delete" = 1 THEN 0 ELSE 1 END
    WHEN "m"."brenvik_delete" = 1
    THEN 4
    WHEN "m"."brenvik_is_learned" = 1
    THEN 0
    WHEN "m"."brenvik_type_2_differs" = 1
    THEN 2
    WHEN "m"."brenvik_differs_0" = 1
    THEN 3
    WHEN "m"."brenvik_type_0_differs" = 1
    THEN 5
    ELSE 6
  END AS "brenvik_decision_no",
  CASE
    WHEN "m"."brenvik_delete" = 0
    AND NOT (
      "m"."brenvik_row_id" IS NULL
    )
    AND "m"."brenvik_is_learned" = 0
    AND (
      "m"."brenvik_differs_0" = 1
    )
    THEN 1
    ELSE 0
  END AS "brenvik_sets_type_1",
  "m"."brenvik_differs_0",
  CASE
    WHEN "m"."brenvik_type_2_differs" = 1
    OR "m"."brenvik_differs_0" = 1
    OR "m"."brenvik_type_0_differs" = 1
    THEN "m"."brenvik_before_0"
  END AS "brenvik_before_0",
  CASE
    WHEN "m"."brenvik_type_2_differs" = 1
    OR "m"."brenvik_differs_0" = 1
    OR "m"."brenvik_type_0_differs" = 1
    THEN "m"."brenvik_before_1"
  END AS "brenvik_before_1",
  CASE
    WHEN "m"."brenvik_type_2_differs" = 1
    OR "m"."brenvik_differs_0" = 1
    OR "m"."brenvik_type_0_differs" = 1
    THEN "m"."brenvik_before_2"
  END AS "brenvik_before_2",
  CASE
    WHEN "m"."brenvik_type_2_differs" = 1
    OR "m"."brenvik_differs_0" = 1
    OR "m"."brenvik_type_0_differs" = 1
    THEN "m"."brenvik_before_3"
  END AS "brenvik_before_3"
FROM (
  SELECT
    "c"."brenvik_sequence_no",
    "c"."brenvik_effective_at",
    "c"."brenvik_delete",
    "t"."rowid" AS "brenvik_row_id",
    CASE WHEN "t"."since" IS NULL AND "c"."since" IS NOT NULL THEN 1 ELSE 0 END AS "brenvik_is_learned",
    CASE
      WHEN (
        "c"."colour" IS NOT "t"."colour" OR "c"."depth" IS NOT "t"."depth"
      )
      THEN 1
      ELSE 0
    END AS "brenvik_type_2_differs",
    CASE WHEN (
      "c"."since" IS NOT "t"."since"
    ) THEN 1 ELSE 0 END AS "brenvik_type_0_differs",
    CASE WHEN "c"."name" IS NOT "t"."name" THEN 1 ELSE 0 END AS "brenvik_differs_0",
    "t"."name" AS "brenvik_before_0",
    "t"."colour" AS "brenvik_before_1",
    "t"."depth" AS "brenvik_before_2",
    "t"."since" AS "brenvik_before_3"
  FROM "brenvik_work_accepted" AS "c"
  LEFT JOIN "buoy" AS "t"
    ON "t"."buoy_code" = "c"."buoy_code" AND "t"."valid_to" IS NULL
  WHERE
    NOT EXISTS(
      SELECT
        1
      FROM "brenvik_work_late_or_several" AS "b"
      WHERE
        "b"."buoy_code" = "c"."buoy_code"
    )
) AS "m";

SELECT
  "brenvik_decision_no",
  COUNT(*) AS "n",
  CAST(SUM("brenvik_sets_type_1") AS INTEGER) AS "sets",
  MAX(CASE WHEN "brenvik_sets_type_1" = 1 THEN "brenvik_differs_0" ELSE 0 END) AS "brenvik_differs_0"
FROM "brenvik_work_current_path"
GROUP BY
  "brenvik_decision_no";

CREATE TEMPORARY TABLE "brenvik_work_returning_changes" AS
SELECT
  "p"."brenvik_sequence_no"
FROM "brenvik_work_current_path" AS "p"
JOIN "brenvik_work_accepted" AS "c"
  ON "c"."brenvik_sequence_no" = "p"."brenvik_sequence_no"
WHERE
  "p"."brenvik_decision_no" = 1
  AND EXISTS(
    SELECT
      1
    FROM "buoy" AS "t"
    WHERE
      "t"."buoy_code" = "c"."buoy_code" AND NOT (
        "t"."valid_to" IS NULL
      )
  );

CREATE TEMPORARY TABLE "brenvik_work_replay_keys" AS
SELECT
  "k"."buoy_code",
  "k"."brenvik_full_replay"
FROM "brenvik_work_late_or_several" AS "k"
UNION ALL
SELECT
  "c"."buoy_code",
  1 AS "brenvik_full_replay"
FROM "brenvik_work_current_path" AS "p"
JOIN "brenvik_work_accepted" AS "c"
  ON "c"."brenvik_sequence_no" = "p"."brenvik_sequence_no"
WHERE
  "p"."brenvik_decision_no" = 0
UNION ALL
SELECT
  "c"."buoy_code",
  1 AS "brenvik_full_replay"
FROM "brenvik_work_returning_changes" AS "p"
JOIN "brenvik_work_accepted" AS "c"
  ON "c"."brenvik_sequence_no" = "p"."brenvik_sequence_no";

CREATE TEMPORARY TABLE "brenvik_work_stored_versions" AS
SELECT
  "t"."rowid" AS "brenvik_row_id",
  "t"."buoy_code",
  "t"."valid_from" AS "brenvik_effective_at",
  "t"."valid_to" AS "brenvik_valid_to",
  CASE WHEN "t"."is_deleted" = TRUE THEN 1 ELSE 0 END AS "brenvik_deleted",
  "t"."name",
  "t"."colour",
  "t"."depth",
  "t"."since",
  CASE WHEN "t"."valid_to" IS NULL THEN 1 ELSE 0 END AS "brenvik_is_current",
  "b"."brenvik_full_replay",
  CASE WHEN "t"."is_current" = TRUE THEN 1 ELSE 0 END AS "brenvik_flagged_current"
FROM "buoy" AS "t"
JOIN "brenvik_work_replay_keys" AS "b"
  ON "b"."buoy_code" = "t"."buoy_code"
  AND (
    "b"."brenvik_full_replay" = 1 OR "t"."valid_to" IS NULL
  );

CREATE TEMPORARY TABLE "brenvik_work_duplicates" AS
SELECT
  "n"."brenvik_sequence_no"
FROM (
  SELECT
    "c"."brenvik_sequence_no",
    ROW_NUMBER() OVER (
      PARTITION BY "c"."buoy_code", "c"."brenvik_effective_at", "c"."at", "c"."entry", "c"."brenvik_delete", "c"."brenvik_column_set", "c"."name", "c"."colour", "c"."depth", "c"."since"
      ORDER BY "c"."brenvik_sequence_no" NULLS LAST
    ) AS "brenvik_nth"
  FROM "brenvik_work_accepted" AS "c"
  JOIN (
    SELECT
      "e"."buoy_code",
      "e"."brenvik_effective_at"
    FROM "brenvik_work_accepted" AS "e"
    GROUP BY
      "e"."buoy_code",
      "e"."brenvik_effective_at"
    HAVING
      COUNT(*) > 1
  ) AS "s"
    ON "s"."buoy_code" = "c"."buoy_code"
    AND "s"."brenvik_effective_at" = "c"."brenvik_effective_at"
) AS "n"
WHERE
  "n"."brenvik_nth" > 1
UNION
SELECT
  "c"."brenvik_sequence_no"
FROM "brenvik_work_accepted" AS "c"
JOIN "brenvik.change_log_buoy" AS "k"
  ON "k"."buoy_code" = "c"."buoy_code"
  AND "k"."brenvik_effective_at" = "c"."brenvik_effective_at"
  AND "k"."at" = "c"."at"
  AND "k"."entry" = "c"."entry"
  AND "k"."brenvik_delete" = "c"."brenvik_delete"
  AND "k"."brenvik_column_set" = "c"."brenvik_column_set"
  AND "k"."name" IS "c"."name"
  AND "k"."colour" IS "c"."colour"
  AND "k"."depth" IS "c"."depth"
  AND "k"."since" IS "c"."since"
WHERE
  EXISTS(
    SELECT
      1
    FROM "brenvik_work_replay_keys" AS "b"
    WHERE
      "b"."buoy_code" = "c"."buoy_code" AND "b"."brenvik_full_replay" = 1
  );

CREATE TEMPORARY TABLE "brenvik_work_decided" AS
WITH "events"("buoy_code", "brenvik_effective_at", "brenvik_rank", "brenvik_run", "brenvik_sequence_no", "brenvik_is_new", "brenvik_delete", "brenvik_column_set", "at", "entry", "name", "colour", "depth", "since") AS (
  SELECT
    "c"."buoy_code",
    "c"."brenvik_effective_at",
    1,
    :run,
    "c"."brenvik_sequence_no",
    1,
    "c"."brenvik_delete",
    "c"."brenvik_column_set",
    "c"."at",
    "c"."entry",
    "c"."name",
    "c"."colour",
    "c"."depth",
    "c"."since"
  FROM "brenvik_work_accepted" AS "c"
  WHERE
    EXISTS(
      SELECT
        1
      FROM "brenvik_work_replay_keys" AS "b"
      WHERE
        "b"."buoy_code" = "c"."buoy_code"
    )
    AND NOT EXISTS(
      SELECT
        1
      FROM "brenvik_work_duplicates" AS "d"
      WHERE
        "d"."brenvik_sequence_no" = "c"."brenvik_sequence_no"
    )
  UNION ALL
  SELECT
    "s"."buoy_code",
    "s"."brenvik_effective_at",
    1,
    0,
    0,
    0,
    0,
    0,
    NULL,
    CAST(NULL AS INTEGER),
    "s"."name",
    "s"."colour",
    "s"."depth",
    "s"."since"
  FROM "brenvik_work_stored_versions" AS "s"
  WHERE
    "s"."brenvik_full_replay" = 0 AND "s"."brenvik_is_current" = 1
  UNION ALL
  SELECT
    "k"."buoy_code",
    "k"."brenvik_effective_at",
    1,
    "k"."brenvik_run",
    "k"."brenvik_sequence_no",
    0,
    "k"."brenvik_delete",
    "k"."brenvik_column_set",
    "k"."at",
    "k"."entry",
    "k"."name",
    "k"."colour",
    "k"."depth",
    "k"."since"
  FROM "brenvik_work_replay_keys" AS "b"
  JOIN "brenvik.change_log_buoy" AS "k"
    ON "k"."buoy_code" = "b"."buoy_code"
  WHERE
    "b"."brenvik_full_replay" = 1
), "placed" AS (
  SELECT
    "e".*,
    ROW_NUMBER() OVER "brenvik_line" AS "brenvik_position",
    CASE
      WHEN LEAD("brenvik_effective_at") OVER "brenvik_line" = "brenvik_effective_at"
      THEN 1
      ELSE 0
    END AS "brenvik_is_superseded",
    FIRST_VALUE("brenvik_delete") OVER (
      PARTITION BY "e"."buoy_code", "brenvik_effective_at"
      ORDER BY "brenvik_rank" DESC NULLS FIRST, "at" DESC NULLS FIRST, "entry" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_sequence_no" DESC NULLS FIRST
    ) AS "brenvik_ends_deleted"
  FROM "events" AS "e"
  WINDOW "brenvik_line" AS (
    PARTITION BY "e"."buoy_code"
    ORDER BY "brenvik_effective_at" NULLS LAST, "brenvik_rank" NULLS LAST, "at" NULLS LAST, "entry" NULLS LAST, "brenvik_run" NULLS LAST, "brenvik_sequence_no" NULLS LAST
  )
), "base" AS (
  SELECT
    "p"."buoy_code",
    "p"."brenvik_effective_at",
    MAX("p"."brenvik_position") AS "brenvik_position",
    MAX(2 * "p"."brenvik_position" + "p"."brenvik_delete") AS "brenvik_end",
    MAX(CASE WHEN "p"."brenvik_delete" = 0 THEN 1 ELSE 0 END) AS "brenvik_some_upsert"
  FROM "placed" AS "p"
  WHERE
    "p"."brenvik_is_new" = 0
  GROUP BY
    "p"."buoy_code",
    "p"."brenvik_effective_at"
), "lived" AS (
  SELECT
    "p".*,
    1 - "p"."brenvik_is_superseded" AS "brenvik_is_last",
    SUM(CASE WHEN "p"."brenvik_is_superseded" = 0 THEN "p"."brenvik_delete" ELSE 0 END) OVER (
      PARTITION BY "p"."buoy_code"
      ORDER BY "p"."brenvik_position" NULLS LAST
      ROWS BETWEEN UNBOUNDED PRECEDING AND CURRENT ROW
    ) AS "brenvik_lifetime",
    "b"."brenvik_position" AS "brenvik_replaces",
    "b"."brenvik_end" - 2 * "b"."brenvik_position" AS "brenvik_replaced_delete",
    CASE
      WHEN "p"."brenvik_is_superseded" = 0
      AND "p"."brenvik_delete" = 0
      AND "b"."brenvik_some_upsert" = 1
      THEN 1
      ELSE 0
    END AS "brenvik_was_known"
  FROM "placed" AS "p"
  LEFT JOIN "base" AS "b"
    ON "b"."buoy_code" = "p"."buoy_code"
    AND "b"."brenvik_effective_at" = "p"."brenvik_effective_at"
  WHERE
    "p"."brenvik_is_superseded" = 0
    OR (
      "p"."brenvik_ends_deleted" = 0 AND "p"."brenvik_delete" = 0
    )
), "states" AS (
  SELECT
    "l"."buoy_code",
    "l"."brenvik_effective_at",
    "l"."brenvik_sequence_no",
    "l"."brenvik_column_set",
    "l"."brenvik_delete",
    "l"."brenvik_is_new",
    "l"."brenvik_position",
    "l"."brenvik_lifetime",
    "l"."brenvik_replaces",
    "l"."brenvik_replaced_delete",
    "l"."brenvik_was_known",
    "l"."brenvik_rank",
    "l"."brenvik_is_last",
    "l"."name",
    "l"."colour",
    "l"."depth",
    FIRST_VALUE("l"."since") OVER (
      PARTITION BY "l"."buoy_code", "l"."brenvik_lifetime", "l"."brenvik_delete"
      ORDER BY CASE WHEN "l"."since" IS NULL THEN 1 ELSE 0 END NULLS LAST, "l"."brenvik_position" NULLS LAST
    ) AS "since",
    MIN(CASE WHEN "l"."since" IS NOT NULL THEN "l"."brenvik_position" END) OVER (PARTITION BY "l"."buoy_code", "l"."brenvik_lifetime", "l"."brenvik_delete") AS "brenvik_known_at_3",
    FIRST_VALUE(CASE WHEN "l"."brenvik_is_new" = 0 THEN "l"."since" END) OVER (
      PARTITION BY "l"."buoy_code", "l"."brenvik_lifetime", "l"."brenvik_delete"
      ORDER BY CASE
        WHEN CASE WHEN "l"."brenvik_is_new" = 0 THEN "l"."since" END IS NULL
        THEN 1
        ELSE 0
      END NULLS LAST, "l"."brenvik_position" NULLS LAST
    ) AS "brenvik_prior_3",
    "l"."since" AS "brenvik_source_3"
  FROM "lived" AS "l"
), "compared" AS (
  SELECT
    "s".*,
    "r"."name" AS "brenvik_replaced_0",
    "r"."colour" AS "brenvik_replaced_1",
    "r"."depth" AS "brenvik_replaced_2",
    "r"."since" AS "brenvik_replaced_3"
  FROM "states" AS "s"
  LEFT JOIN "states" AS "r"
    ON "r"."brenvik_is_new" = 0
    AND "r"."buoy_code" = "s"."buoy_code"
    AND "r"."brenvik_position" = CASE WHEN "s"."brenvik_is_new" = 1 THEN "s"."brenvik_replaces" END
), "lined" AS (
  SELECT
    "s"."buoy_code",
    "s"."brenvik_effective_at",
    "s"."brenvik_sequence_no",
    "s"."brenvik_column_set",
    "s"."brenvik_delete",
    "s"."brenvik_is_new",
    "s"."brenvik_position",
    "s"."brenvik_lifetime",
    "s"."brenvik_replaces",
    "s"."brenvik_replaced_delete",
    "s"."brenvik_was_known",
    "s"."brenvik_rank",
    "s"."name",
    CASE
      WHEN "s"."brenvik_is_new" = 1 AND "s"."brenvik_replaces" IS NOT NULL
      THEN "s"."brenvik_replaced_0"
      ELSE LAG("s"."name") OVER "brenvik_line"
    END AS "brenvik_before_0",
    "s"."colour",
    CASE
      WHEN "s"."brenvik_is_new" = 1 AND "s"."brenvik_replaces" IS NOT NULL
      THEN "s"."brenvik_replaced_1"
      ELSE LAG("s"."colour") OVER "brenvik_line"
    END AS "brenvik_before_1",
    LAG("s"."colour") OVER "brenvik_line" AS "brenvik_prev_1",
    "s"."depth",
    CASE
      WHEN "s"."brenvik_is_new" = 1 AND "s"."brenvik_replaces" IS NOT NULL
      THEN "s"."brenvik_replaced_2"
      ELSE LAG("s"."depth") OVER "brenvik_line"
    END AS "brenvik_before_2",
    LAG("s"."depth") OVER "brenvik_line" AS "brenvik_prev_2",
    "s"."since",
    CASE
      WHEN "s"."brenvik_is_new" = 1 AND "s"."brenvik_replaces" IS NOT NULL
      THEN "s"."brenvik_replaced_3"
      ELSE LAG("s"."since") OVER "brenvik_line"
    END AS "brenvik_before_3",
    "s"."brenvik_known_at_3",
    "s"."brenvik_source_3",
    "s"."brenvik_prior_3",
    LAG("s"."brenvik_delete") OVER "brenvik_line" AS "brenvik_prev_delete",
    COALESCE(LAG("s"."brenvik_position") OVER "brenvik_line", 0) AS "brenvik_prev_position"
  FROM "compared" AS "s"
  WHERE
    "s"."brenvik_is_last" = 1
  WINDOW "brenvik_line" AS (PARTITION BY "s"."buoy_code" ORDER BY "s"."brenvik_position" NULLS LAST)
)
SELECT
  "j".*,
  CASE
    WHEN "j"."brenvik_delete" = 0
    AND (
      "j"."brenvik_prev_delete" IS NULL
      OR "j"."brenvik_prev_delete" = 1
      OR "j"."colour" IS NOT "j"."brenvik_prev_1"
      OR "j"."depth" IS NOT "j"."brenvik_prev_2"
    )
    THEN 1
    ELSE 0
  END AS "brenvik_starts_version",
  CASE
    WHEN "j"."brenvik_delete" = 1
    AND "j"."brenvik_replaces" IS NOT NULL
    AND "j"."brenvik_replaced_delete" = 0
    THEN 'deleted'
    WHEN "j"."brenvik_delete" = 1 AND "j"."brenvik_replaces" IS NOT NULL
    THEN 'unchanged'
    WHEN "j"."brenvik_delete" = 1 AND "j"."brenvik_prev_delete" IS NULL
    THEN 'ignored'
    WHEN "j"."brenvik_delete" = 1 AND "j"."brenvik_prev_delete" = 0
    THEN 'deleted'
    WHEN "j"."brenvik_delete" = 1
    THEN 'unchanged'
    WHEN "j"."brenvik_replaces" IS NOT NULL
    AND "j"."brenvik_replaced_delete" = 1
    AND "j"."brenvik_prev_delete" = 0
    THEN 'versioned'
    WHEN (
      "j"."brenvik_replaces" IS NULL OR "j"."brenvik_replaced_delete" = 1
    )
    AND (
      "j"."brenvik_prev_delete" IS NULL OR "j"."brenvik_prev_delete" = 1
    )
    THEN CASE
      WHEN MAX("j"."brenvik_was_known") OVER (PARTITION BY "j"."buoy_code", "j"."brenvik_lifetime") = 0
      THEN 'inserted'
      ELSE 'versioned'
    END
    WHEN "j"."colour" IS NOT "j"."brenvik_before_1"
    OR "j"."depth" IS NOT "j"."brenvik_before_2"
    THEN 'versioned'
    WHEN "j"."name" IS NOT "j"."brenvik_before_0"
    OR (
      "j"."brenvik_known_at_3" > COALESCE("j"."brenvik_replaces", "j"."brenvik_prev_position")
      AND "j"."brenvik_known_at_3" <= "j"."brenvik_position"
    )
    THEN 'overwritten'
    WHEN (
      (
        "j"."brenvik_source_3" IS NOT NULL
        OR "j"."brenvik_known_at_3" <= "j"."brenvik_position"
      )
      AND "j"."brenvik_source_3" IS NOT "j"."since"
    )
    THEN 'protected'
    ELSE 'unchanged'
  END AS "brenvik_decision"
FROM "lined" AS "j";

CREATE TEMPORARY TABLE "brenvik_work_target_versions" AS
WITH "lasts" AS (
  SELECT
    "j"."buoy_code",
    "j"."brenvik_effective_at",
    "j"."brenvik_delete",
    "j"."brenvik_position",
    "j"."brenvik_starts_version",
    "j"."brenvik_prev_delete",
    FIRST_VALUE("j"."name") OVER "brenvik_latest" AS "name",
    "j"."since",
    "j"."colour",
    "j"."depth"
  FROM "brenvik_work_decided" AS "j"
  WINDOW "brenvik_latest" AS (
    PARTITION BY "j"."buoy_code"
    ORDER BY "j"."brenvik_delete" NULLS LAST, "j"."brenvik_rank" DESC NULLS FIRST, "j"."brenvik_position" DESC NULLS FIRST
  )
), "spans" AS (
  SELECT
    "j".*,
    LEAD("j"."brenvik_effective_at") OVER "brenvik_line" AS "brenvik_valid_to",
    LEAD("j"."brenvik_delete") OVER "brenvik_line" AS "brenvik_deleted"
  FROM "lasts" AS "j"
  WHERE
    "j"."brenvik_starts_version" = 1
    OR (
      "j"."brenvik_delete" = 1 AND "j"."brenvik_prev_delete" = 0
    )
  WINDOW "brenvik_line" AS (PARTITION BY "j"."buoy_code" ORDER BY "j"."brenvik_position" NULLS LAST)
)
SELECT
  ROW_NUMBER() OVER (ORDER BY "v"."buoy_code" NULLS LAST, "v"."brenvik_effective_at" NULLS LAST) AS "brenvik_version_no",
  "v"."buoy_code",
  "v"."brenvik_effective_at",
  "v"."brenvik_valid_to",
  COALESCE("v"."brenvik_deleted", 0) AS "brenvik_deleted",
  "v"."name",
  "v"."colour",
  "v"."depth",
  "v"."since"
FROM "spans" AS "v"
WHERE
  "v"."brenvik_delete" = 0;

CREATE TEMPORARY TABLE "brenvik_work_actions" AS
WITH "matched" AS (
  SELECT
    COALESCE("d"."buoy_code", "s"."buoy_code") AS "buoy_code",
    COALESCE("d"."brenvik_effective_at", "s"."brenvik_effective_at") AS "brenvik_effective_at",
    "d"."brenvik_version_no" AS "brenvik_version_no",
    "s"."brenvik_row_id"
  FROM "brenvik_work_target_versions" AS "d"
  FULL JOIN "brenvik_work_stored_versions" AS "s"
    ON "d"."buoy_code" = "s"."buoy_code"
    AND "d"."brenvik_effective_at" = "s"."brenvik_effective_at"
), "unmatched" AS (
  SELECT
    "m"."buoy_code",
    "m"."brenvik_version_no",
    "m"."brenvik_row_id",
    ROW_NUMBER() OVER (
      PARTITION BY "m"."buoy_code", CASE WHEN "m"."brenvik_version_no" IS NULL THEN 1 ELSE 0 END
      ORDER BY "m"."brenvik_effective_at" NULLS LAST
    ) AS "brenvik_nth"
  FROM "matched" AS "m"
  WHERE
    "m"."brenvik_version_no" IS NULL OR "m"."brenvik_row_id" IS NULL
), "pairs" AS (
  SELECT
    "m"."brenvik_version_no",
    "m"."brenvik_row_id"
  FROM "matched" AS "m"
  WHERE
    NOT (
      "m"."brenvik_version_no" IS NULL OR "m"."brenvik_row_id" IS NULL
    )
  UNION ALL
  SELECT
    MAX("r"."brenvik_version_no") AS "brenvik_version_no",
    MAX("r"."brenvik_row_id") AS "brenvik_row_id"
  FROM "unmatched" AS "r"
  GROUP BY
    "r"."buoy_code",
    "r"."brenvik_nth"
), "compared" AS (
  SELECT
    CASE
      WHEN "p"."brenvik_version_no" IS NULL
      THEN 'delete'
      WHEN "p"."brenvik_row_id" IS NULL
      THEN 'insert'
      WHEN (
        "d"."brenvik_effective_at" IS NOT "s"."brenvik_effective_at"
        OR "d"."name" IS NOT "s"."name"
        OR "d"."colour" IS NOT "s"."colour"
        OR "d"."depth" IS NOT "s"."depth"
        OR "d"."since" IS NOT "s"."since"
      )
      THEN 'update'
      WHEN (
        (
          "d"."brenvik_valid_to" IS NOT "s"."brenvik_valid_to"
          OR "d"."brenvik_deleted" IS NOT "s"."brenvik_deleted"
        )
        OR "s"."brenvik_flagged_current" <> CASE WHEN "d"."brenvik_valid_to" IS NULL THEN 1 ELSE 0 END
      )
      THEN 'close'
      ELSE 'keep'
    END AS "brenvik_action",
    "p"."brenvik_row_id",
    COALESCE("d"."buoy_code", "s"."buoy_code") AS "buoy_code",
    "d"."brenvik_effective_at",
    "d"."brenvik_valid_to",
    "d"."brenvik_deleted",
    "d"."name",
    "d"."colour",
    "d"."depth",
    "d"."since",
    COALESCE(
      CASE
        WHEN "s"."brenvik_valid_to" IS NULL AND "s"."brenvik_deleted" = 0
        THEN 1
        ELSE 0
      END,
      0
    ) AS "brenvik_was_current",
    COALESCE(
      CASE
        WHEN "d"."brenvik_valid_to" IS NULL AND "d"."brenvik_deleted" = 0
        THEN 1
        ELSE 0
      END,
      0
    ) AS "brenvik_is_current",
    CASE
      WHEN "d"."brenvik_effective_at" IS NOT "s"."brenvik_effective_at"
      THEN 1
      ELSE 0
    END AS "brenvik_differs_effective_at",
    CASE WHEN "d"."brenvik_valid_to" IS NOT "s"."brenvik_valid_to" THEN 1 ELSE 0 END AS "brenvik_differs_valid_to",
    CASE WHEN "d"."brenvik_deleted" IS NOT "s"."brenvik_deleted" THEN 1 ELSE 0 END AS "brenvik_differs_deleted",
    CASE WHEN "d"."name" IS NOT "s"."name" THEN 1 ELSE 0 END AS "brenvik_differs_0",
    CASE WHEN "d"."colour" IS NOT "s"."colour" THEN 1 ELSE 0 END AS "brenvik_differs_1",
    CASE WHEN "d"."depth" IS NOT "s"."depth" THEN 1 ELSE 0 END AS "brenvik_differs_2",
    CASE WHEN "d"."since" IS NOT "s"."since" THEN 1 ELSE 0 END AS "brenvik_differs_3",
    CASE
      WHEN "s"."brenvik_full_replay" = 1
      AND (
        (
          NOT EXISTS(
            SELECT
              1
            FROM "brenvik_work_decided" AS "e"
            WHERE
              "e"."buoy_code" = "s"."buoy_code"
              AND "e"."brenvik_effective_at" = "s"."brenvik_effective_at"
              AND (
                "e"."brenvik_is_new" = 0 OR "e"."brenvik_replaces" IS NOT NULL
              )
          )
        )
        OR (
          "s"."brenvik_valid_to" IS NOT NULL
          AND NOT EXISTS(
            SELECT
              1
            FROM "brenvik_work_decided" AS "e"
            WHERE
              "e"."buoy_code" = "s"."buoy_code"
              AND "e"."brenvik_effective_at" = "s"."brenvik_valid_to"
              AND (
                "e"."brenvik_is_new" = 0 OR "e"."brenvik_replaces" IS NOT NULL
              )
          )
        )
      )
      THEN 1
      ELSE 0
    END AS "brenvik_is_unlogged"
  FROM "pairs" AS "p"
  LEFT JOIN "brenvik_work_target_versions" AS "d"
    ON "d"."brenvik_version_no" = "p"."brenvik_version_no"
  LEFT JOIN "brenvik_work_stored_versions" AS "s"
    ON "s"."brenvik_row_id" = "p"."brenvik_row_id"
  UNION ALL
  SELECT
    'update',
    "t"."rowid" AS "brenvik_row_id",
    "t"."buoy_code",
    "t"."valid_from",
    "t"."valid_to",
    CASE WHEN "t"."is_deleted" = TRUE THEN 1 ELSE 0 END,
    "x"."name",
    "t"."colour",
    "t"."depth",
    "t"."since",
    0,
    0,
    0,
    0,
    0,
    CASE WHEN "x"."name" IS NOT "t"."name" THEN 1 ELSE 0 END,
    0,
    0,
    0,
    0
  FROM (
    SELECT DISTINCT
      "d"."buoy_code",
      "d"."name"
    FROM "brenvik_work_target_versions" AS "d"
  ) AS "x"
  JOIN "brenvik_work_replay_keys" AS "b"
    ON "b"."buoy_code" = "x"."buoy_code" AND "b"."brenvik_full_replay" = 0
  JOIN "buoy" AS "t"
    ON "t"."buoy_code" = "x"."buoy_code"
  WHERE
    NOT (
      "t"."valid_to" IS NULL
    ) AND (
      "x"."name" IS NOT "t"."name"
    )
)
SELECT
  "a".*
FROM "compared" AS "a"
WHERE
  "a"."brenvik_action" <> 'keep' OR "a"."brenvik_is_unlogged" = 1;

SELECT
  "a".*,
  "e"."ended",
  "j".*,
  "d".*,
  "t".*
FROM (
  SELECT
    COUNT(CASE WHEN "a"."brenvik_action" = 'close' THEN 1 END) AS "close",
    COUNT(CASE WHEN "a"."brenvik_action" = 'update' THEN 1 END) AS "update",
    COUNT(CASE WHEN "a"."brenvik_action" = 'insert' THEN 1 END) AS "insert",
    COUNT(CASE WHEN "a"."brenvik_action" = 'delete' THEN 1 END) AS "delete",
    CAST(COALESCE(SUM("a"."brenvik_is_current" - "a"."brenvik_was_current"), 0) AS INTEGER) AS "current_change",
    COUNT(
      DISTINCT CASE WHEN "a"."brenvik_is_unlogged" = 1 THEN CAST("a"."buoy_code" AS TEXT) END
    ) AS "unlogged",
    MIN(CASE WHEN "a"."brenvik_is_unlogged" = 1 THEN CAST("a"."buoy_code" AS TEXT) END) AS "unlogged_key",
    MAX(
      CASE
        WHEN "a"."brenvik_action" = 'update'
        THEN "a"."brenvik_differs_effective_at"
        ELSE 0
      END
    ) AS "brenvik_differs_effective_at",
    MAX(
      CASE
        WHEN "a"."brenvik_action" = 'update'
        THEN "a"."brenvik_differs_valid_to"
        ELSE 0
      END
    ) AS "brenvik_differs_valid_to",
    MAX(
      CASE
        WHEN "a"."brenvik_action" = 'update'
        THEN "a"."brenvik_differs_deleted"
        ELSE 0
      END
    ) AS "brenvik_differs_deleted",
    MAX(
      CASE WHEN "a"."brenvik_action" = 'update' THEN "a"."brenvik_differs_0" ELSE 0 END
    ) AS "brenvik_differs_0",
    MAX(
      CASE WHEN "a"."brenvik_action" = 'update' THEN "a"."brenvik_differs_1" ELSE 0 END
    ) AS "brenvik_differs_1",
    MAX(
      CASE WHEN "a"."brenvik_action" = 'update' THEN "a"."brenvik_differs_2" ELSE 0 END
    ) AS "brenvik_differs_2",
    MAX(
      CASE WHEN "a"."brenvik_action" = 'update' THEN "a"."brenvik_differs_3" ELSE 0 END
    ) AS "brenvik_differs_3"
  FROM "brenvik_work_actions" AS "a"
) AS "a"
CROSS JOIN (
  SELECT
    COUNT(*) AS "ended"
  FROM (
    SELECT
      "a"."buoy_code"
    FROM "brenvik_work_actions" AS "a"
    GROUP BY
      "a"."buoy_code"
    HAVING
      MAX("a"."brenvik_was_current") = 1 AND MAX("a"."brenvik_is_current") = 0
  ) AS "k"
) AS "e"
CROSS JOIN (
  SELECT
    COUNT(CASE WHEN "j"."brenvik_decision" = 'inserted' THEN 1 END) AS "inserted",
    COUNT(CASE WHEN "j"."brenvik_decision" = 'versioned' THEN 1 END) AS "versioned",
    COUNT(CASE WHEN "j"."brenvik_decision" = 'overwritten' THEN 1 END) AS "overwritten",
    COUNT(CASE WHEN "j"."brenvik_decision" = 'deleted' THEN 1 END) AS "deleted",
    COUNT(CASE WHEN "j"."brenvik_decision" = 'protected' THEN 1 END) AS "protected",
    COUNT(CASE WHEN "j"."brenvik_decision" = 'unchanged' THEN 1 END) AS "unchanged",
    COUNT(CASE WHEN "j"."brenvik_decision" = 'superseded' THEN 1 END) AS "superseded",
    COUNT(CASE WHEN "j"."brenvik_decision" = 'ignored' THEN 1 END) AS "ignored"
  FROM "brenvik_work_decided" AS "j"
  WHERE
    "j"."brenvik_is_new" = 1
) AS "j"
CROSS JOIN (
  SELECT
    COUNT(*) AS "duplicates",
    COUNT(
      CASE
        WHEN NOT (
          (
            "c"."at" > :high_order_0_as_0
            OR (
              "c"."at" = :high_order_0_as_1 AND "c"."entry" > :high_order_1_as_2
            )
          )
          AND "c"."brenvik_effective_at" > :high_effective_as_3
        )
        THEN 1
      END
    ) AS "late_duplicates"
  FROM "brenvik_work_duplicates" AS "d"
  JOIN "brenvik_work_accepted" AS "c"
    ON "d"."brenvik_sequence_no" = "c"."brenvik_sequence_no"
) AS "d"
CROSS JOIN (
  SELECT
    COUNT(*) AS "tied",
    MIN(CAST("k"."buoy_code" AS TEXT)) AS "tied_key"
  FROM (
    SELECT DISTINCT
      "p"."buoy_code"
    FROM (
      SELECT
        "n"."buoy_code",
        "n"."brenvik_effective_at",
        "n"."at",
        "n"."entry",
        COUNT(*) AS "brenvik_contents"
      FROM (
        SELECT DISTINCT
          "c"."buoy_code",
          "c"."brenvik_effective_at",
          "c"."at",
          "c"."entry",
          "c"."brenvik_delete",
          "c"."brenvik_column_set",
          "c"."name" AS "brenvik_content_0",
          "c"."colour" AS "brenvik_content_1",
          "c"."depth" AS "brenvik_content_2",
          "c"."since" AS "brenvik_content_3"
        FROM "brenvik_work_accepted" AS "c"
        WHERE
          NOT EXISTS(
            SELECT
              1
            FROM "brenvik_work_duplicates" AS "d"
            WHERE
              "d"."brenvik_sequence_no" = "c"."brenvik_sequence_no"
          )
          AND NOT EXISTS(
            SELECT
              1
            FROM "brenvik.change_log_buoy" AS "k"
            WHERE
              "k"."buoy_code" = "c"."buoy_code"
              AND "k"."brenvik_effective_at" = "c"."brenvik_effective_at"
              AND "k"."at" = "c"."at"
              AND "k"."entry" = "c"."entry"
              AND "k"."brenvik_delete" = "c"."brenvik_delete"
              AND "k"."brenvik_column_set" = "c"."brenvik_column_set"
              AND "k"."name" IS "c"."name"
              AND "k"."colour" IS "c"."colour"
              AND "k"."depth" IS "c"."depth"
              AND "k"."since" IS "c"."since"
          )
      ) AS "n"
      GROUP BY
        "n"."buoy_code",
        "n"."brenvik_effective_at",
        "n"."at",
        "n"."entry"
    ) AS "p"
    WHERE
      "p"."brenvik_contents" > 1
      OR EXISTS(
        SELECT
          1
        FROM "brenvik.change_log_buoy" AS "k"
        WHERE
          "k"."buoy_code" = "p"."buoy_code"
          AND "k"."brenvik_effective_at" = "p"."brenvik_effective_at"
          AND "k"."at" = "p"."at"
          AND "k"."entry" = "p"."entry"
      )
  ) AS "k"
) AS "t";

UPDATE "buoy" SET "valid_to" = "s"."brenvik_valid_to", "is_current" = (
  "s"."brenvik_valid_to" IS NULL
), "is_deleted" = (
  "s"."brenvik_deleted" = 1
), "last_run" = :run, "last_loaded_at" = :loaded_at_as_0
FROM (
  SELECT
    "a"."brenvik_row_id",
    "a"."brenvik_valid_to",
    "a"."brenvik_deleted"
  FROM "brenvik_work_actions" AS "a"
  WHERE
    "a"."brenvik_action" = 'close'
) AS "s"
WHERE
  "buoy"."rowid" = "s"."brenvik_row_id";

UPDATE "buoy" SET "name" = "s"."name", "valid_to" = "s"."brenvik_valid_to", "is_current" = (
  "s"."brenvik_valid_to" IS NULL
), "is_deleted" = (
  "s"."brenvik_deleted" = 1
), "last_run" = :run, "last_loaded_at" = :loaded_at_as_0
FROM (
  SELECT
    "a".*
  FROM "brenvik_work_actions" AS "a"
  WHERE
    "a"."brenvik_action" = 'update'
) AS "s"
WHERE
  "buoy"."rowid" = "s"."brenvik_row_id";

INSERT INTO "buoy" (
  "buoy_key",
  "buoy_code",
  "name",
  "colour",
  "depth",
  "since",
  "valid_from",
  "valid_to",
  "is_current",
  "is_deleted",
  "first_run",
  "last_run",
  "first_loaded_at",
  "last_loaded_at"
)
SELECT
  :last_key + ROW_NUMBER() OVER (),
  "s"."buoy_code",
  "s"."name",
  "s"."colour",
  "s"."depth",
  "s"."since",
  "s"."brenvik_valid_from",
  "s"."brenvik_valid_to",
  "s"."brenvik_current",
  "s"."brenvik_deleted",
  :run,
  :run,
  :loaded_at_as_0,
  :loaded_at_as_1
FROM (
  SELECT
    "c"."buoy_code",
    "c"."name",
    "c"."colour",
    "c"."depth",
    COALESCE("p"."brenvik_before_3", "c"."since") AS "since",
    "c"."brenvik_effective_at" AS "brenvik_valid_from",
    NULL AS "brenvik_valid_to",
    TRUE AS "brenvik_current",
    FALSE AS "brenvik_deleted"
  FROM "brenvik_work_current_path" AS "p"
  JOIN "brenvik_work_accepted" AS "c"
    ON "c"."brenvik_sequence_no" = "p"."brenvik_sequence_no"
  WHERE
    "p"."brenvik_decision_no" IN (1, 2)
    AND NOT EXISTS(
      SELECT
        1
      FROM "brenvik_work_returning_changes" AS "r"
      WHERE
        "r"."brenvik_sequence_no" = "p"."brenvik_sequence_no"
    )
  UNION ALL
  SELECT
    "s"."buoy_code",
    "s"."name",
    "s"."colour",
    "s"."depth",
    "s"."since",
    "s"."brenvik_effective_at" AS "brenvik_valid_from",
    "s"."brenvik_valid_to" AS "brenvik_valid_to",
    (
      "s"."brenvik_valid_to" IS NULL
    ) AS "brenvik_current",
    (
      "s"."brenvik_deleted" = 1
    ) AS "brenvik_deleted"
  FROM "brenvik_work_actions" AS "s"
  WHERE
    "s"."brenvik_action" = 'insert'
) AS "s";

INSERT INTO "brenvik.change_log_buoy" (
  "brenvik_run",
  "brenvik_sequence_no",
  "brenvik_column_set",
  "brenvik_delete",
  "brenvik_effective_at",
  "buoy_code",
  "at",
  "entry",
  "name",
  "colour",
  "depth",
  "since"
)
SELECT
  :run,
  "s"."brenvik_sequence_no",
  "s"."brenvik_column_set",
  "s"."brenvik_delete",
  "s"."brenvik_effective_at",
  "s"."buoy_code",
  "s"."at",
  "s"."entry",
  "s"."name",
  "s"."colour",
  "s"."depth",
  "s"."since"
FROM (
  SELECT
    "c".*
  FROM "brenvik_work_accepted" AS "c"
  WHERE
    NOT EXISTS(
      SELECT
        1
      FROM "brenvik_work_duplicates" AS "d"
      WHERE
        "d"."brenvik_sequence_no" = "c"."brenvik_sequence_no"
    )
) AS "s";

INSERT INTO "brenvik.rejects" (
  "reject",
  "table_name",
  "feed",
  "run",
  "file",
  "line",
  "column_name",
  "value",
  "reason",
  "content",
  "state",
  "rejected_at",
  "decided_by"
)
SELECT
  :last_reject + ROW_NUMBER() OVER (ORDER BY "r"."brenvik_sequence_no" NULLS LAST),
  :table_name,
  :feed,
  :run,
  NULL,
  CASE
    WHEN "r"."brenvik_sequence_no" % 1000000000000 < 200000000000
    THEN CAST(FLOOR((
      "r"."brenvik_sequence_no" % 1000000000000
    ) / 2) AS INTEGER)
  END,
  "r"."brenvik_column",
  "r"."brenvik_value",
  "r"."brenvik_reason",
  "r"."brenvik_row",
  'open',
  :loaded_at_as_0,
  NULL
FROM "brenvik_work_rejected" AS "r"
WHERE
  "r"."brenvik_is_duplicate" = 0;

SELECT
  "k"."brenvik_run" AS "of_run",
  COUNT(DISTINCT "c"."brenvik_sequence_no") AS "n"
FROM "brenvik_work_duplicates" AS "d"
JOIN "brenvik_work_accepted" AS "c"
  ON "c"."brenvik_sequence_no" = "d"."brenvik_sequence_no"
JOIN "brenvik.change_log_buoy" AS "k"
  ON "k"."buoy_code" = "c"."buoy_code"
  AND "k"."brenvik_effective_at" = "c"."brenvik_effective_at"
  AND "k"."at" = "c"."at"
  AND "k"."entry" = "c"."entry"
  AND "k"."brenvik_delete" = "c"."brenvik_delete"
  AND "k"."brenvik_column_set" = "c"."brenvik_column_set"
  AND "k"."name" IS "c"."name"
  AND "k"."colour" IS "c"."colour"
  AND "k"."depth" IS "c"."depth"
  AND "k"."since" IS "c"."since"
GROUP BY
  "k"."brenvik_run";
