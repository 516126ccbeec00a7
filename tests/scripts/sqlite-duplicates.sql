-- sensor --duplicates-by buoy_id,kind --keep lowest:id
-- For SQLite 3.25 or newer: sqlite3 FILE < script.sql
-- Counted on buoys.db.
-- Rows that go or change: sensor 1.
-- Any other count stops the script, and everything is rolled back.
.bail on
PRAGMA foreign_keys = OFF; -- dependent rows are removed by separate statements
PRAGMA ignore_check_constraints = OFF; -- a CHECK constraint compares the counts
BEGIN IMMEDIATE;
CREATE TEMP TABLE yeldro_check (step, expected, found, CHECK (expected = found));

-- The foreign keys and triggers must be those of the plan.
INSERT OR ROLLBACK INTO temp.yeldro_check
SELECT 'the foreign keys to sensor are not those of the plan', 1, coalesce(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM sqlite_master AS c, pragma_foreign_key_list(c.name) AS k
WHERE c.type = 'table' AND lower(k."table") IN ('sensor')) AS yeldro_found);
INSERT OR ROLLBACK INTO temp.yeldro_check
SELECT 'there are triggers of sensor that the plan does not know', 1, coalesce(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM sqlite_master AS t WHERE t.type = 'trigger' AND lower(t.tbl_name) IN ('sensor')) AS yeldro_found);

CREATE TEMP TABLE yeldro_1_1 ("id" INTEGER PRIMARY KEY, "yeldro_kept_0" INTEGER);

INSERT INTO "temp".yeldro_1_1 ("id", "yeldro_kept_0") SELECT yeldro_grouped.yeldro_own_0, yeldro_grouped.yeldro_kept_0 
FROM (SELECT "sensor"."id" AS yeldro_own_0, first_value("sensor"."id") OVER (PARTITION BY "sensor"."buoy_id", "sensor"."kind" ORDER BY "sensor"."id" ASC) AS yeldro_kept_0 
FROM "sensor") AS yeldro_grouped 
WHERE yeldro_grouped.yeldro_own_0 != yeldro_grouped.yeldro_kept_0 ORDER BY yeldro_grouped.yeldro_own_0;

-- step 1: remove sensor, 1 row; matched
DELETE FROM "sensor" WHERE "sensor"."id" IN (SELECT "temp".yeldro_1_1."id" 
FROM "temp".yeldro_1_1);
INSERT OR ROLLBACK INTO temp.yeldro_check
SELECT 'step 1: remove sensor', 1, changes();

-- There must be no groups that would lose every row
INSERT OR ROLLBACK INTO temp.yeldro_check
SELECT 'there are groups that would lose every row', 1, coalesce(yeldro_found = 0, 0)
FROM (SELECT (SELECT (SELECT count(*) AS count_1 
FROM (SELECT DISTINCT "temp".yeldro_1_1."yeldro_kept_0" AS "yeldro_kept_0" 
FROM "temp".yeldro_1_1) AS anon_1) - (SELECT count(*) AS count_2 
FROM "sensor" 
WHERE "sensor"."id" IN (SELECT DISTINCT "temp".yeldro_1_1."yeldro_kept_0" 
FROM "temp".yeldro_1_1)) AS yeldro_lost) AS yeldro_found);

COMMIT;
DROP TABLE temp.yeldro_check;
