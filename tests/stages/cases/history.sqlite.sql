SELECT
  COUNT("c"."brenvik_fault") AS "faulty",
  CAST(COALESCE(0, 0) AS INTEGER) AS "derived",
  CAST(COALESCE(
    SUM(
      CASE
        WHEN NOT (
          (
            "c"."at" > :high_order_0_as_0
            OR (
              "c"."at" = :high_order_0_as_1 AND "c"."entry" > :high_order_1_as_2
            )
          )
          AND "c"."brenvik_effective" > :high_effective_as_3
        )
        THEN 1
        ELSE 0
      END
    ),
    0
  ) AS INTEGER) AS "late"
FROM "brenvik_work_screened" AS "c";

CREATE TEMPORARY TABLE "brenvik_work_faulty" AS
SELECT
  "s"."brenvik_arrival" AS "brenvik_arrival",
  "s"."brenvik_fault" ->> '$.column' AS "brenvik_column",
  "s"."brenvik_fault" ->> '$.value' AS "brenvik_value",
  "s"."brenvik_fault" ->> '$.reason' AS "brenvik_reason",
  "s"."brenvik_fault" ->> '$.row' AS "brenvik_row"
FROM "brenvik_work_screened" AS "s"
WHERE
  "s"."brenvik_fault" IS NOT NULL;

DELETE FROM "brenvik_work_screened"
WHERE
  "brenvik_fault" IS NOT NULL;

CREATE TEMPORARY TABLE "brenvik_work_rejected" AS
SELECT
  "f"."brenvik_arrival",
  "f"."brenvik_column",
  "f"."brenvik_value",
  "f"."brenvik_reason",
  "f"."brenvik_row",
  CASE
    WHEN EXISTS(
      SELECT
        1
      FROM "brenvik.rejects" AS "r"
      WHERE
        "r"."table_name" = :table_name
        AND "r"."feed" = :feed
        AND "r"."state" = 'open'
        AND "r"."content" = "f"."brenvik_row"
    )
    OR ROW_NUMBER() OVER (PARTITION BY "f"."brenvik_row" ORDER BY "f"."brenvik_arrival" NULLS LAST) > 1
    THEN 1
    ELSE 0
  END AS "brenvik_again"
FROM "brenvik_work_faulty" AS "f";

SELECT
  COUNT(*) AS "n",
  COALESCE(SUM("brenvik_again"), 0) AS "again"
FROM "brenvik_work_rejected";

SELECT
  COUNT("c"."brenvik_fault") AS "faulty",
  CAST(COALESCE(0, 0) AS INTEGER) AS "derived",
  CAST(COALESCE(
    SUM(
      CASE
        WHEN NOT (
          (
            "c"."at" > :high_order_0_as_0
            OR (
              "c"."at" = :high_order_0_as_1 AND "c"."entry" > :high_order_1_as_2
            )
          )
          AND "c"."brenvik_effective" > :high_effective_as_3
        )
        THEN 1
        ELSE 0
      END
    ),
    0
  ) AS INTEGER) AS "late"
FROM "brenvik_work_screened" AS "c";

CREATE TEMPORARY TABLE "brenvik_work_busy" AS
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
        AND "c"."brenvik_effective" > :high_effective_as_3
      )
      THEN 1
      ELSE 0
    END
  ) AS "brenvik_full"
FROM "brenvik_work_screened" AS "c"
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
        AND "c"."brenvik_effective" > :high_effective_as_7
      )
      THEN 1
      ELSE 0
    END
  ) = 1;

CREATE TEMPORARY TABLE "brenvik_work_plain" AS
SELECT
  "c"."brenvik_arrival",
  "c"."brenvik_effective",
  "t"."rowid" AS "brenvik_locator",
  CASE
    WHEN "t"."rowid" IS NULL AND "c"."brenvik_delete" = 1
    THEN 0
    WHEN "t"."rowid" IS NULL
    THEN 1
    WHEN "c"."brenvik_delete" = 1
    THEN 4
    WHEN (
      (
        "t"."since" IS NULL AND "c"."since" IS NOT NULL
      )
    )
    THEN 0
    WHEN (
      "c"."colour" IS NOT "t"."colour" OR "c"."depth" IS NOT "t"."depth"
    )
    THEN 2
    WHEN (
      "c"."name" IS NOT "t"."name"
    )
    THEN 3
    WHEN (
      "c"."since" IS NOT "t"."since"
    )
    THEN 5
    ELSE 6
  END AS "brenvik_decided",
  CASE
    WHEN "c"."brenvik_delete" = 0
    AND "t"."rowid" IS NOT NULL
    AND (
      "c"."name" IS NOT "t"."name"
    )
    THEN 1
    ELSE 0
  END AS "brenvik_sets",
  CASE
    WHEN (
      "c"."name" IS NOT "t"."name"
      OR "c"."colour" IS NOT "t"."colour"
      OR "c"."depth" IS NOT "t"."depth"
      OR "c"."since" IS NOT "t"."since"
    )
    THEN "t"."name"
  END AS "brenvik_was_0",
  CASE
    WHEN (
      "c"."name" IS NOT "t"."name"
      OR "c"."colour" IS NOT "t"."colour"
      OR "c"."depth" IS NOT "t"."depth"
      OR "c"."since" IS NOT "t"."since"
    )
    THEN "t"."colour"
  END AS "brenvik_was_1",
  CASE
    WHEN (
      "c"."name" IS NOT "t"."name"
      OR "c"."colour" IS NOT "t"."colour"
      OR "c"."depth" IS NOT "t"."depth"
      OR "c"."since" IS NOT "t"."since"
    )
    THEN "t"."depth"
  END AS "brenvik_was_2",
  CASE
    WHEN (
      "c"."name" IS NOT "t"."name"
      OR "c"."colour" IS NOT "t"."colour"
      OR "c"."depth" IS NOT "t"."depth"
      OR "c"."since" IS NOT "t"."since"
    )
    THEN "t"."since"
  END AS "brenvik_was_3"
FROM "brenvik_work_screened" AS "c"
LEFT JOIN "buoy" AS "t"
  ON "t"."buoy_code" = "c"."buoy_code" AND "t"."valid_to" IS NULL
WHERE
  NOT EXISTS(
    SELECT
      1
    FROM "brenvik_work_busy" AS "b"
    WHERE
      "b"."buoy_code" = "c"."buoy_code"
  );

UPDATE "brenvik_work_plain" SET "brenvik_decided" = 0
WHERE
  "brenvik_work_plain"."brenvik_decided" IN (1)
  AND EXISTS(
    SELECT
      1
    FROM "brenvik_work_screened" AS "c"
    JOIN "buoy" AS "t"
      ON "t"."buoy_code" = "c"."buoy_code"
    WHERE
      "c"."brenvik_arrival" = "brenvik_work_plain"."brenvik_arrival"
      AND NOT (
        "t"."valid_to" IS NULL
      )
  );

SELECT
  CASE "p"."brenvik_decided"
    WHEN 0
    THEN 'full'
    WHEN 1
    THEN 'inserted'
    WHEN 2
    THEN 'versioned'
    WHEN 3
    THEN 'overwritten'
    WHEN 4
    THEN 'deleted'
    WHEN 5
    THEN 'protected'
    WHEN 6
    THEN 'unchanged'
  END AS "brenvik_decision",
  "n",
  "sets"
FROM (
  SELECT
    "brenvik_decided",
    COUNT(*) AS "n",
    CAST(SUM("brenvik_sets") AS INTEGER) AS "sets"
  FROM "brenvik_work_plain"
  GROUP BY
    "brenvik_decided"
) AS "p";

INSERT INTO "brenvik_work_busy" (
  "buoy_code",
  "brenvik_full"
)
SELECT
  "c"."buoy_code",
  1
FROM "brenvik_work_plain" AS "p"
JOIN "brenvik_work_screened" AS "c"
  ON "c"."brenvik_arrival" = "p"."brenvik_arrival"
WHERE
  "p"."brenvik_decided" IN (0);

DELETE FROM "brenvik_work_plain"
WHERE
  "brenvik_work_plain"."brenvik_decided" IN (0);

CREATE TEMPORARY TABLE "brenvik_work_closes" AS
SELECT
  "p"."brenvik_locator",
  "p"."brenvik_effective" AS "brenvik_until",
  CASE WHEN "p"."brenvik_decided" IN (4) THEN 1 ELSE 0 END AS "brenvik_ended"
FROM "brenvik_work_plain" AS "p"
WHERE
  "p"."brenvik_decided" IN (2, 4);

CREATE TEMPORARY TABLE "brenvik_work_removes" AS
SELECT
  "brenvik_locator"
FROM "brenvik_work_plain"
WHERE
  1 = 0;

CREATE TEMPORARY TABLE "brenvik_work_duplicates" AS
SELECT
  "n"."brenvik_arrival"
FROM (
  SELECT
    "c"."brenvik_arrival",
    ROW_NUMBER() OVER (
      PARTITION BY "c"."buoy_code", "c"."brenvik_effective", "c"."brenvik_delete", "c"."brenvik_shape", "c"."at", "c"."entry", "c"."name", "c"."colour", "c"."depth", "c"."since"
      ORDER BY "c"."brenvik_arrival" NULLS LAST
    ) AS "brenvik_nth"
  FROM "brenvik_work_screened" AS "c"
  WHERE
    EXISTS(
      SELECT
        1
      FROM "brenvik_work_busy" AS "b"
      WHERE
        "b"."buoy_code" = "c"."buoy_code"
    )
) AS "n"
WHERE
  "n"."brenvik_nth" > 1
UNION
SELECT
  "c"."brenvik_arrival"
FROM "brenvik_work_screened" AS "c"
JOIN "brenvik.changes_of_buoy" AS "k"
  ON "k"."buoy_code" = "c"."buoy_code"
  AND "k"."at" = "c"."at"
  AND "k"."entry" = "c"."entry"
  AND "k"."brenvik_effective" = "c"."brenvik_effective"
  AND "k"."brenvik_delete" = "c"."brenvik_delete"
  AND "k"."brenvik_shape" = "c"."brenvik_shape"
  AND "k"."name" IS "c"."name"
  AND "k"."colour" IS "c"."colour"
  AND "k"."depth" IS "c"."depth"
  AND "k"."since" IS "c"."since"
WHERE
  EXISTS(
    SELECT
      1
    FROM "brenvik_work_busy" AS "b"
    WHERE
      "b"."buoy_code" = "c"."buoy_code" AND "b"."brenvik_full" = 1
  );

UPDATE "brenvik_work_busy" SET "brenvik_full" = 1
WHERE
  "brenvik_full" = 0
  AND (
    NOT EXISTS(
      SELECT
        1
      FROM "buoy" AS "t"
      WHERE
        "t"."buoy_code" = "brenvik_work_busy"."buoy_code"
        AND "t"."valid_to" IS NULL
        AND "t"."since" IS NOT NULL
    )
  );

CREATE TEMPORARY TABLE "brenvik_work_judged" AS
WITH "events"("buoy_code", "brenvik_effective", "brenvik_rank", "brenvik_run", "brenvik_arrival", "brenvik_new", "brenvik_delete", "brenvik_shape", "at", "entry", "name", "colour", "depth", "since") AS (
  SELECT
    "c"."buoy_code",
    "c"."brenvik_effective",
    1,
    :run,
    "c"."brenvik_arrival",
    1,
    "c"."brenvik_delete",
    "c"."brenvik_shape",
    "c"."at",
    "c"."entry",
    "c"."name",
    "c"."colour",
    "c"."depth",
    "c"."since"
  FROM "brenvik_work_screened" AS "c"
  WHERE
    EXISTS(
      SELECT
        1
      FROM "brenvik_work_busy" AS "b"
      WHERE
        "b"."buoy_code" = "c"."buoy_code"
    )
    AND NOT EXISTS(
      SELECT
        1
      FROM "brenvik_work_duplicates" AS "d"
      WHERE
        "d"."brenvik_arrival" = "c"."brenvik_arrival"
    )
  UNION ALL
  SELECT
    "t"."buoy_code",
    "t"."valid_from",
    1,
    0,
    0,
    0,
    0,
    0,
    NULL,
    CAST(NULL AS INTEGER),
    "t"."name",
    "t"."colour",
    "t"."depth",
    "t"."since"
  FROM "buoy" AS "t"
  JOIN "brenvik_work_busy" AS "b"
    ON "b"."buoy_code" = "t"."buoy_code"
    AND "b"."brenvik_full" = 0
    AND "t"."valid_to" IS NULL
  UNION ALL
  SELECT
    "k"."buoy_code",
    "k"."brenvik_effective",
    1,
    "k"."brenvik_run",
    "k"."brenvik_arrival",
    0,
    "k"."brenvik_delete",
    "k"."brenvik_shape",
    "k"."at",
    "k"."entry",
    "k"."name",
    "k"."colour",
    "k"."depth",
    "k"."since"
  FROM "brenvik_work_busy" AS "b"
  JOIN "brenvik.changes_of_buoy" AS "k"
    ON "k"."buoy_code" = "b"."buoy_code"
  WHERE
    "b"."brenvik_full" = 1
), "placed" AS (
  SELECT
    "e".*,
    ROW_NUMBER() OVER (
      PARTITION BY "e"."buoy_code"
      ORDER BY "brenvik_effective" NULLS LAST, "brenvik_rank" NULLS LAST, "at" NULLS LAST, "entry" NULLS LAST, "brenvik_run" NULLS LAST, "brenvik_arrival" NULLS LAST
    ) AS "brenvik_at",
    CASE
      WHEN LEAD("brenvik_effective") OVER (
        PARTITION BY "e"."buoy_code"
        ORDER BY "brenvik_effective" NULLS LAST, "brenvik_rank" NULLS LAST, "at" NULLS LAST, "entry" NULLS LAST, "brenvik_run" NULLS LAST, "brenvik_arrival" NULLS LAST
      ) = "brenvik_effective"
      THEN 1
      ELSE 0
    END AS "brenvik_passed",
    FIRST_VALUE("brenvik_delete") OVER (
      PARTITION BY "e"."buoy_code", "brenvik_effective"
      ORDER BY "brenvik_rank" DESC NULLS FIRST, "at" DESC NULLS FIRST, "entry" DESC NULLS FIRST, "brenvik_run" DESC NULLS FIRST, "brenvik_arrival" DESC NULLS FIRST
    ) AS "brenvik_gone"
  FROM "events" AS "e"
), "counted" AS (
  SELECT
    "p".*,
    1 - "p"."brenvik_passed" AS "brenvik_counts",
    MAX(CASE WHEN "p"."brenvik_new" = 0 THEN "p"."brenvik_at" END) OVER (PARTITION BY "p"."buoy_code", "p"."brenvik_effective") AS "brenvik_replaces",
    FIRST_VALUE("p"."brenvik_delete") OVER (
      PARTITION BY "p"."buoy_code", "p"."brenvik_effective"
      ORDER BY "p"."brenvik_new" NULLS LAST, "p"."brenvik_at" DESC NULLS FIRST
    ) AS "brenvik_replaced_delete"
  FROM "placed" AS "p"
), "lived" AS (
  SELECT
    "m".*
  FROM (
    SELECT
      "q".*,
      SUM("q"."brenvik_delete") OVER (
        PARTITION BY "q"."buoy_code"
        ORDER BY "q"."brenvik_at" NULLS LAST
        ROWS BETWEEN UNBOUNDED PRECEDING AND CURRENT ROW
      ) AS "brenvik_life"
    FROM "counted" AS "q"
    WHERE
      "q"."brenvik_counts" = 1
      OR (
        "q"."brenvik_gone" = 0 AND "q"."brenvik_delete" = 0
      )
  ) AS "m"
), "states" AS (
  SELECT
    "l"."buoy_code",
    "l"."brenvik_effective",
    "l"."brenvik_arrival",
    "l"."brenvik_shape",
    "l"."brenvik_delete",
    "l"."brenvik_new",
    "l"."brenvik_at",
    "l"."brenvik_life",
    "l"."brenvik_replaces",
    "l"."brenvik_replaced_delete",
    "l"."brenvik_rank",
    "l"."brenvik_counts",
    MAX(CASE WHEN "l"."brenvik_new" = 0 AND "l"."brenvik_delete" = 0 THEN 1 ELSE 0 END) OVER (PARTITION BY "l"."buoy_code", "l"."brenvik_life") AS "brenvik_lived",
    "l"."name" AS "name",
    "l"."colour" AS "colour",
    "l"."depth" AS "depth",
    FIRST_VALUE("l"."since") OVER (
      PARTITION BY "l"."buoy_code", "l"."brenvik_life", "l"."brenvik_delete"
      ORDER BY CASE WHEN "l"."since" IS NULL THEN 1 ELSE 0 END NULLS LAST, "l"."brenvik_at" NULLS LAST
    ) AS "since",
    MIN(CASE WHEN "l"."since" IS NOT NULL THEN "l"."brenvik_at" END) OVER (PARTITION BY "l"."buoy_code", "l"."brenvik_life", "l"."brenvik_delete") AS "brenvik_known_3",
    FIRST_VALUE(CASE WHEN "l"."brenvik_new" = 0 THEN "l"."since" END) OVER (
      PARTITION BY "l"."buoy_code", "l"."brenvik_life", "l"."brenvik_delete"
      ORDER BY CASE
        WHEN CASE WHEN "l"."brenvik_new" = 0 THEN "l"."since" END IS NULL
        THEN 1
        ELSE 0
      END NULLS LAST, "l"."brenvik_at" NULLS LAST
    ) AS "brenvik_before_3",
    "l"."since" AS "brenvik_said_3"
  FROM "lived" AS "l"
), "compared" AS (
  SELECT
    "s".*,
    CASE
      WHEN "s"."brenvik_new" = 1 AND "s"."brenvik_replaces" IS NOT NULL
      THEN FIRST_VALUE("s"."name") OVER (
        PARTITION BY "s"."buoy_code", "s"."brenvik_effective"
        ORDER BY "s"."brenvik_new" NULLS LAST, "s"."brenvik_at" DESC NULLS FIRST
      )
      ELSE LAG("s"."name") OVER (
        PARTITION BY "s"."buoy_code", "s"."brenvik_counts"
        ORDER BY "s"."brenvik_at" NULLS LAST
      )
    END AS "brenvik_was_0",
    CASE
      WHEN "s"."brenvik_new" = 1 AND "s"."brenvik_replaces" IS NOT NULL
      THEN FIRST_VALUE("s"."colour") OVER (
        PARTITION BY "s"."buoy_code", "s"."brenvik_effective"
        ORDER BY "s"."brenvik_new" NULLS LAST, "s"."brenvik_at" DESC NULLS FIRST
      )
      ELSE LAG("s"."colour") OVER (
        PARTITION BY "s"."buoy_code", "s"."brenvik_counts"
        ORDER BY "s"."brenvik_at" NULLS LAST
      )
    END AS "brenvik_was_1",
    CASE
      WHEN "s"."brenvik_new" = 1 AND "s"."brenvik_replaces" IS NOT NULL
      THEN FIRST_VALUE("s"."depth") OVER (
        PARTITION BY "s"."buoy_code", "s"."brenvik_effective"
        ORDER BY "s"."brenvik_new" NULLS LAST, "s"."brenvik_at" DESC NULLS FIRST
      )
      ELSE LAG("s"."depth") OVER (
        PARTITION BY "s"."buoy_code", "s"."brenvik_counts"
        ORDER BY "s"."brenvik_at" NULLS LAST
      )
    END AS "brenvik_was_2",
    CASE
      WHEN "s"."brenvik_new" = 1 AND "s"."brenvik_replaces" IS NOT NULL
      THEN FIRST_VALUE("s"."since") OVER (
        PARTITION BY "s"."buoy_code", "s"."brenvik_effective"
        ORDER BY "s"."brenvik_new" NULLS LAST, "s"."brenvik_at" DESC NULLS FIRST
      )
      ELSE LAG("s"."since") OVER (
        PARTITION BY "s"."buoy_code", "s"."brenvik_counts"
        ORDER BY "s"."brenvik_at" NULLS LAST
      )
    END AS "brenvik_was_3"
  FROM "states" AS "s"
), "lined" AS (
  SELECT
    "s"."buoy_code",
    "s"."brenvik_effective",
    "s"."brenvik_arrival",
    "s"."brenvik_shape",
    "s"."brenvik_delete",
    "s"."brenvik_new",
    "s"."brenvik_at",
    "s"."brenvik_life",
    "s"."brenvik_replaces",
    "s"."brenvik_replaced_delete",
    "s"."brenvik_rank",
    "s"."brenvik_lived",
    "s"."name",
    "s"."brenvik_was_0",
    "s"."colour",
    "s"."brenvik_was_1",
    "s"."depth",
    "s"."brenvik_was_2",
    "s"."since",
    "s"."brenvik_was_3",
    "s"."brenvik_known_3",
    "s"."brenvik_said_3",
    "s"."brenvik_before_3",
    LAG("s"."colour") OVER "brenvik_line" AS "brenvik_prev_1",
    LAG("s"."depth") OVER "brenvik_line" AS "brenvik_prev_2",
    LAG("s"."brenvik_delete") OVER "brenvik_line" AS "brenvik_prev_delete",
    COALESCE(LAG("s"."brenvik_at") OVER "brenvik_line", 0) AS "brenvik_prev_at",
    MAX(CASE WHEN "s"."brenvik_delete" = 0 THEN "s"."brenvik_life" END) OVER (PARTITION BY "s"."buoy_code") AS "brenvik_last_life",
    MAX("s"."brenvik_life") OVER (PARTITION BY "s"."buoy_code") AS "brenvik_deaths"
  FROM "compared" AS "s"
  WHERE
    "s"."brenvik_counts" = 1
  WINDOW "brenvik_line" AS (PARTITION BY "s"."buoy_code" ORDER BY "s"."brenvik_at" NULLS LAST)
)
SELECT
  "j".*,
  CASE
    WHEN "j"."brenvik_delete" = 0
    AND (
      "j"."brenvik_prev_delete" IS NULL
      OR "j"."brenvik_prev_delete" = 1
      OR (
        "j"."colour" IS NOT "j"."brenvik_prev_1"
        OR "j"."depth" IS NOT "j"."brenvik_prev_2"
      )
    )
    THEN 1
    ELSE 0
  END AS "brenvik_starts",
  CASE
    WHEN 1 = 0
    THEN 'superseded'
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
    THEN CASE WHEN "j"."brenvik_lived" = 0 THEN 'inserted' ELSE 'versioned' END
    WHEN (
      "j"."colour" IS NOT "j"."brenvik_was_1" OR "j"."depth" IS NOT "j"."brenvik_was_2"
    )
    THEN 'versioned'
    WHEN (
      "j"."name" IS NOT "j"."brenvik_was_0"
    )
    OR (
      (
        "j"."brenvik_known_3" > COALESCE("j"."brenvik_replaces", "j"."brenvik_prev_at")
        AND "j"."brenvik_known_3" <= "j"."brenvik_at"
      )
    )
    THEN 'overwritten'
    WHEN (
      (
        "j"."brenvik_known_3" <= "j"."brenvik_at"
        AND "j"."brenvik_said_3" IS NOT "j"."since"
      )
    )
    THEN 'protected'
    ELSE 'unchanged'
  END AS "brenvik_decision"
FROM "lined" AS "j";

CREATE TEMPORARY TABLE "brenvik_work_desired" AS
WITH "lasts" AS (
  SELECT
    "j"."buoy_code",
    "j"."brenvik_effective",
    "j"."brenvik_delete",
    "j"."brenvik_at",
    "j"."brenvik_life",
    "j"."brenvik_last_life",
    "j"."brenvik_deaths",
    "j"."brenvik_starts",
    "j"."brenvik_prev_delete",
    FIRST_VALUE("j"."name") OVER (
      PARTITION BY "j"."buoy_code"
      ORDER BY "j"."brenvik_delete" NULLS LAST, "j"."brenvik_rank" DESC NULLS FIRST, "j"."brenvik_at" DESC NULLS FIRST
    ) AS "name",
    "j"."since",
    "j"."colour",
    "j"."depth"
  FROM "brenvik_work_judged" AS "j"
), "spans" AS (
  SELECT
    "j".*,
    LEAD("j"."brenvik_effective") OVER (PARTITION BY "j"."buoy_code" ORDER BY "j"."brenvik_at" NULLS LAST) AS "brenvik_until",
    LEAD("j"."brenvik_delete") OVER (PARTITION BY "j"."buoy_code" ORDER BY "j"."brenvik_at" NULLS LAST) AS "brenvik_ended"
  FROM "lasts" AS "j"
  WHERE
    "j"."brenvik_starts" = 1
    OR (
      "j"."brenvik_delete" = 1 AND "j"."brenvik_prev_delete" = 0
    )
)
SELECT
  ROW_NUMBER() OVER (ORDER BY "v"."buoy_code" NULLS LAST, "v"."brenvik_effective" NULLS LAST) AS "brenvik_no",
  "v"."buoy_code",
  "v"."brenvik_effective",
  "v"."brenvik_until",
  COALESCE("v"."brenvik_ended", 0) AS "brenvik_ended",
  "v"."name",
  "v"."colour",
  "v"."depth",
  "v"."since"
FROM "spans" AS "v"
WHERE
  "v"."brenvik_delete" = 0 AND 1 = 1;

CREATE TEMPORARY TABLE "brenvik_work_stored" AS
SELECT
  "t"."rowid" AS "brenvik_locator",
  "t"."buoy_code",
  "t"."valid_from" AS "brenvik_effective",
  CASE WHEN "t"."valid_to" IS NULL THEN NULL ELSE "t"."valid_to" END AS "brenvik_until",
  CASE WHEN "t"."is_deleted" = TRUE THEN 1 ELSE 0 END AS "brenvik_ended",
  "t"."name",
  "t"."colour",
  "t"."depth",
  "t"."since",
  "b"."brenvik_full",
  CASE WHEN "t"."is_current" = TRUE THEN 1 ELSE 0 END AS "brenvik_flagged"
FROM "buoy" AS "t"
JOIN "brenvik_work_busy" AS "b"
  ON "b"."buoy_code" = "t"."buoy_code"
  AND (
    "b"."brenvik_full" = 1 OR "t"."valid_to" IS NULL
  );

SELECT
  COUNT(DISTINCT "q"."brenvik_key") AS "n",
  MIN("q"."brenvik_key") AS "key"
FROM (
  SELECT
    CAST("s"."buoy_code" AS TEXT) AS "brenvik_key"
  FROM (
    SELECT
      *
    FROM "brenvik_work_stored" AS "a"
    WHERE
      "a"."brenvik_full" = 1
  ) AS "s"
  WHERE
    NOT EXISTS(
      SELECT
        1
      FROM (
        SELECT
          *
        FROM "brenvik_work_judged" AS "j"
        WHERE
          "j"."brenvik_new" = 0 OR "j"."brenvik_replaces" IS NOT NULL
      ) AS "e"
      WHERE
        "e"."buoy_code" = "s"."buoy_code"
        AND "e"."brenvik_effective" = "s"."brenvik_effective"
    )
  UNION ALL
  SELECT
    CAST("s"."buoy_code" AS TEXT) AS "brenvik_key"
  FROM (
    SELECT
      *
    FROM "brenvik_work_stored" AS "a"
    WHERE
      "a"."brenvik_full" = 1
  ) AS "s"
  WHERE
    "s"."brenvik_until" IS NOT NULL
    AND NOT EXISTS(
      SELECT
        1
      FROM (
        SELECT
          *
        FROM "brenvik_work_judged" AS "j"
        WHERE
          "j"."brenvik_new" = 0 OR "j"."brenvik_replaces" IS NOT NULL
      ) AS "e"
      WHERE
        "e"."buoy_code" = "s"."buoy_code"
        AND "e"."brenvik_effective" = "s"."brenvik_until"
    )
) AS "q";

CREATE TEMPORARY TABLE "brenvik_work_pairs" AS
WITH "exact" AS (
  SELECT
    "d"."brenvik_no",
    "s"."brenvik_locator"
  FROM "brenvik_work_desired" AS "d"
  JOIN "brenvik_work_stored" AS "s"
    ON "d"."buoy_code" = "s"."buoy_code"
    AND "d"."brenvik_effective" = "s"."brenvik_effective"
), "new_left" AS (
  SELECT
    "d"."buoy_code",
    "d"."brenvik_no",
    ROW_NUMBER() OVER (PARTITION BY "d"."buoy_code" ORDER BY "d"."brenvik_effective" NULLS LAST) AS "brenvik_nth"
  FROM "brenvik_work_desired" AS "d"
  WHERE
    NOT EXISTS(
      SELECT
        1
      FROM "exact" AS "e"
      WHERE
        "e"."brenvik_no" = "d"."brenvik_no"
    )
), "old_left" AS (
  SELECT
    "s"."buoy_code",
    "s"."brenvik_locator",
    ROW_NUMBER() OVER (PARTITION BY "s"."buoy_code" ORDER BY "s"."brenvik_effective" NULLS LAST) AS "brenvik_nth"
  FROM "brenvik_work_stored" AS "s"
  WHERE
    NOT EXISTS(
      SELECT
        1
      FROM "exact" AS "e"
      WHERE
        "e"."brenvik_locator" = "s"."brenvik_locator"
    )
)
SELECT
  "brenvik_no",
  "brenvik_locator"
FROM "exact"
UNION ALL
SELECT
  "d"."brenvik_no",
  "s"."brenvik_locator"
FROM "new_left" AS "d"
JOIN "old_left" AS "s"
  ON "d"."buoy_code" = "s"."buoy_code" AND "d"."brenvik_nth" = "s"."brenvik_nth";

INSERT INTO "brenvik_work_closes"
SELECT
  "s"."brenvik_locator",
  "d"."brenvik_until",
  "d"."brenvik_ended"
FROM "brenvik_work_pairs" AS "p"
JOIN "brenvik_work_desired" AS "d"
  ON "d"."brenvik_no" = "p"."brenvik_no"
JOIN "brenvik_work_stored" AS "s"
  ON "s"."brenvik_locator" = "p"."brenvik_locator"
WHERE
  NOT (
    (
      "d"."brenvik_effective" IS NOT "s"."brenvik_effective"
      OR "d"."name" IS NOT "s"."name"
      OR "d"."colour" IS NOT "s"."colour"
      OR "d"."depth" IS NOT "s"."depth"
      OR "d"."since" IS NOT "s"."since"
    )
  )
  AND (
    (
      "d"."brenvik_until" IS NOT "s"."brenvik_until"
      OR "d"."brenvik_ended" IS NOT "s"."brenvik_ended"
    )
    OR "s"."brenvik_flagged" <> CASE WHEN "d"."brenvik_until" IS NULL THEN 1 ELSE 0 END
  );

CREATE TEMPORARY TABLE "brenvik_work_sets" AS
SELECT
  "s"."brenvik_locator",
  "d"."brenvik_effective",
  "d"."brenvik_until",
  "d"."brenvik_ended",
  "d"."name",
  "d"."colour",
  "d"."depth",
  "d"."since"
FROM "brenvik_work_pairs" AS "p"
JOIN "brenvik_work_desired" AS "d"
  ON "d"."brenvik_no" = "p"."brenvik_no"
JOIN "brenvik_work_stored" AS "s"
  ON "s"."brenvik_locator" = "p"."brenvik_locator"
WHERE
  (
    "d"."brenvik_effective" IS NOT "s"."brenvik_effective"
    OR "d"."name" IS NOT "s"."name"
    OR "d"."colour" IS NOT "s"."colour"
    OR "d"."depth" IS NOT "s"."depth"
    OR "d"."since" IS NOT "s"."since"
  );

CREATE TEMPORARY TABLE "brenvik_work_adds" AS
SELECT
  "d"."brenvik_no"
FROM "brenvik_work_desired" AS "d"
WHERE
  NOT EXISTS(
    SELECT
      1
    FROM "brenvik_work_pairs" AS "p"
    WHERE
      "p"."brenvik_no" = "d"."brenvik_no"
  );

INSERT INTO "brenvik_work_removes"
SELECT
  "s"."brenvik_locator"
FROM "brenvik_work_stored" AS "s"
WHERE
  NOT EXISTS(
    SELECT
      1
    FROM "brenvik_work_pairs" AS "p"
    WHERE
      "p"."brenvik_locator" = "s"."brenvik_locator"
  );

INSERT INTO "brenvik_work_sets"
SELECT
  "t"."rowid",
  "t"."valid_from",
  "t"."valid_to",
  CASE WHEN "t"."is_deleted" THEN 1 ELSE 0 END,
  "x"."name",
  "t"."colour",
  "t"."depth",
  "t"."since"
FROM (
  SELECT DISTINCT
    "d"."buoy_code",
    "d"."name"
  FROM "brenvik_work_desired" AS "d"
) AS "x"
JOIN "brenvik_work_busy" AS "b"
  ON "b"."buoy_code" = "x"."buoy_code" AND "b"."brenvik_full" = 0
JOIN "buoy" AS "t"
  ON "t"."buoy_code" = "x"."buoy_code"
WHERE
  NOT (
    "t"."valid_to" IS NULL
  ) AND (
    "x"."name" IS NOT "t"."name"
  );

SELECT
  (
    SELECT
      COUNT(*)
    FROM "brenvik_work_stored" AS "s"
    WHERE
      "s"."brenvik_until" IS NULL AND "s"."brenvik_ended" = 0
  ) AS "before",
  (
    SELECT
      COUNT(*)
    FROM "brenvik_work_stored" AS "s"
    WHERE
      "s"."brenvik_until" IS NULL
      AND "s"."brenvik_ended" = 0
      AND NOT EXISTS(
        SELECT
          1
        FROM "brenvik_work_desired" AS "d"
        WHERE
          "d"."buoy_code" = "s"."buoy_code" AND "d"."brenvik_until" IS NULL
      )
  ) AS "lost",
  (
    SELECT
      COUNT(*)
    FROM "brenvik_work_desired" AS "d"
    WHERE
      "d"."brenvik_until" IS NULL
  ) AS "after";

SELECT
  "brenvik_decision",
  COUNT(*) AS "n"
FROM "brenvik_work_judged"
WHERE
  "brenvik_new" = 1
GROUP BY
  "brenvik_decision";

SELECT
  (
    SELECT
      COUNT(*)
    FROM "brenvik_work_screened"
  ) AS "screened",
  (
    SELECT
      COUNT(*)
    FROM "brenvik_work_plain"
  ) AS "plain",
  (
    SELECT
      COUNT(*)
    FROM "brenvik_work_duplicates"
  ) AS "duplicates";

SELECT
  COUNT(*) AS "n"
FROM "brenvik_work_duplicates" AS "d"
JOIN "brenvik_work_screened" AS "c"
  ON "c"."brenvik_arrival" = "d"."brenvik_arrival"
WHERE
  NOT (
    (
      "c"."at" > :high_order_0_as_0
      OR (
        "c"."at" = :high_order_0_as_1 AND "c"."entry" > :high_order_1_as_2
      )
    )
    AND "c"."brenvik_effective" > :high_effective_as_3
  );

UPDATE "buoy" SET "valid_to" = "s"."brenvik_until", "is_current" = (
  "s"."brenvik_until" IS NULL
), "is_deleted" = (
  "s"."brenvik_ended" = 1
), "last_run" = :run, "last_loaded_at" = :loaded_at_as_0
FROM "brenvik_work_closes" AS "s"
WHERE
  "buoy"."rowid" = "s"."brenvik_locator";

SELECT
  MAX(CASE WHEN "t"."valid_from" IS NOT "s"."brenvik_effective" THEN 1 ELSE 0 END) AS "brenvik_effective",
  MAX(
    CASE
      WHEN "t"."valid_to" IS NOT COALESCE("s"."brenvik_until", NULL)
      THEN 1
      ELSE 0
    END
  ) AS "brenvik_until",
  MAX(
    CASE WHEN "t"."is_deleted" IS NOT (
      "s"."brenvik_ended" = 1
    ) THEN 1 ELSE 0 END
  ) AS "brenvik_ended",
  MAX(CASE WHEN "t"."name" IS NOT "s"."name" THEN 1 ELSE 0 END) AS "name",
  MAX(CASE WHEN "t"."colour" IS NOT "s"."colour" THEN 1 ELSE 0 END) AS "colour",
  MAX(CASE WHEN "t"."depth" IS NOT "s"."depth" THEN 1 ELSE 0 END) AS "depth",
  MAX(CASE WHEN "t"."since" IS NOT "s"."since" THEN 1 ELSE 0 END) AS "since"
FROM "brenvik_work_sets" AS "s"
JOIN "buoy" AS "t"
  ON "t"."rowid" = "s"."brenvik_locator";

UPDATE "buoy" SET "name" = "s"."name", "valid_to" = COALESCE("s"."brenvik_until", NULL), "is_deleted" = (
  "s"."brenvik_ended" = 1
), "is_current" = (
  "s"."brenvik_until" IS NULL
), "last_run" = :run, "last_loaded_at" = :loaded_at_as_0
FROM "brenvik_work_sets" AS "s"
WHERE
  "buoy"."rowid" = "s"."brenvik_locator";

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
  "n"."buoy_code",
  "n"."name",
  "n"."colour",
  "n"."depth",
  "n"."since",
  "n"."brenvik_start",
  "n"."brenvik_end",
  "n"."brenvik_open",
  "n"."brenvik_ended",
  :run,
  :run,
  :loaded_at_as_0,
  :loaded_at_as_1
FROM (
  SELECT
    "c"."buoy_code",
    "c"."name" AS "name",
    "c"."colour" AS "colour",
    "c"."depth" AS "depth",
    COALESCE("p"."brenvik_was_3", "c"."since") AS "since",
    "c"."brenvik_effective" AS "brenvik_start",
    NULL AS "brenvik_end",
    TRUE AS "brenvik_open",
    FALSE AS "brenvik_ended"
  FROM "brenvik_work_plain" AS "p"
  JOIN "brenvik_work_screened" AS "c"
    ON "c"."brenvik_arrival" = "p"."brenvik_arrival"
  WHERE
    "p"."brenvik_decided" IN (1, 2)
  UNION ALL
  SELECT
    "d"."buoy_code",
    "d"."name",
    "d"."colour",
    "d"."depth",
    "d"."since",
    "d"."brenvik_effective" AS "brenvik_start",
    "d"."brenvik_until" AS "brenvik_end",
    (
      "d"."brenvik_until" IS NULL
    ) AS "brenvik_open",
    (
      "d"."brenvik_ended" = 1
    ) AS "brenvik_ended"
  FROM "brenvik_work_adds" AS "a"
  JOIN "brenvik_work_desired" AS "d"
    ON "d"."brenvik_no" = "a"."brenvik_no"
) AS "n";

INSERT INTO "brenvik.changes_of_buoy" (
  "brenvik_run",
  "brenvik_arrival",
  "brenvik_shape",
  "brenvik_delete",
  "brenvik_effective",
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
  "c"."brenvik_arrival",
  "c"."brenvik_shape",
  "c"."brenvik_delete",
  "c"."brenvik_effective",
  "c"."buoy_code",
  "c"."at",
  "c"."entry",
  "c"."name",
  "c"."colour",
  "c"."depth",
  "c"."since"
FROM "brenvik_work_screened" AS "c"
WHERE
  NOT EXISTS(
    SELECT
      1
    FROM "brenvik_work_duplicates" AS "d"
    WHERE
      "d"."brenvik_arrival" = "c"."brenvik_arrival"
  );

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
  :last_reject + ROW_NUMBER() OVER (ORDER BY "r"."brenvik_arrival" NULLS LAST),
  :table_name,
  :feed,
  :run,
  NULL,
  CASE
    WHEN "r"."brenvik_arrival" % 1000000000000 < 200000000000
    THEN CAST(FLOOR((
      "r"."brenvik_arrival" % 1000000000000
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
  "r"."brenvik_again" = 0;

SELECT
  "k"."brenvik_run" AS "of_run",
  COUNT(DISTINCT "c"."brenvik_arrival") AS "n"
FROM "brenvik_work_duplicates" AS "d"
JOIN "brenvik_work_screened" AS "c"
  ON "c"."brenvik_arrival" = "d"."brenvik_arrival"
JOIN "brenvik.changes_of_buoy" AS "k"
  ON "k"."buoy_code" = "c"."buoy_code"
  AND "k"."at" = "c"."at"
  AND "k"."entry" = "c"."entry"
  AND "k"."brenvik_effective" = "c"."brenvik_effective"
  AND "k"."brenvik_delete" = "c"."brenvik_delete"
  AND "k"."brenvik_shape" = "c"."brenvik_shape"
  AND "k"."name" IS "c"."name"
  AND "k"."colour" IS "c"."colour"
  AND "k"."depth" IS "c"."depth"
  AND "k"."since" IS "c"."since"
GROUP BY
  "k"."brenvik_run";

SELECT
  "o"."at",
  "o"."entry",
  "e"."brenvik_high"
FROM (
  SELECT
    CAST(MAX("c"."brenvik_effective") AS TEXT) AS "brenvik_high"
  FROM "brenvik_work_screened" AS "c"
  WHERE
    "c"."brenvik_effective" > :high_effective_as_0
) AS "e"
LEFT JOIN (
  SELECT
    CAST("c"."at" AS TEXT) AS "at",
    CAST("c"."entry" AS TEXT) AS "entry"
  FROM "brenvik_work_screened" AS "c"
  WHERE
    (
      "c"."at" > :high_order_0_as_1
      OR (
        "c"."at" = :high_order_0_as_2 AND "c"."entry" > :high_order_1_as_3
      )
    )
  ORDER BY
    "c"."at" DESC NULLS FIRST,
    "c"."entry" DESC NULLS FIRST
  LIMIT 1
) AS "o"
  ON 1 = 1;
