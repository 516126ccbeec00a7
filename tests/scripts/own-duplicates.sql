-- sensor --duplicates-by buoy_id,kind --keep lowest:id
-- For SQLite 3.25 or newer: sqlite3 FILE < script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: 761d873eacbc5bb790f58d0eb453b2f08a5625a27f1a5fb06e8b32d74c6ace5d
-- Rows that go or change: sensor 1.
-- Rights: to read, change and remove rows of sensor, and to read the tables that reference them.
-- Any other count stops the script, and everything is rolled back.
.bail on
PRAGMA foreign_keys = OFF; -- dependent rows go by statements of their own
PRAGMA ignore_check_constraints = OFF; -- CHECK constraints compare the counts
BEGIN IMMEDIATE;
CREATE TEMP TABLE yeldro_check (step INTEGER, found,
  CONSTRAINT "the foreign keys to sensor are not those of the plan" CHECK (step <> 1 OR coalesce(found = 0, 0)),
  CONSTRAINT "there are triggers of sensor that the plan does not know" CHECK (step <> 2 OR coalesce(found = 0, 0)),
  CONSTRAINT "these are not the rows it was made for: sensor.id differs" CHECK (step <> 3 OR coalesce(found = 1, 0)),
  CONSTRAINT "step 1: remove sensor, and 1 row was expected" CHECK (step <> 4 OR found IS 1),
  CONSTRAINT "there are groups that would lose every row" CHECK (step <> 5 OR coalesce(found = 0, 0))
);

-- The foreign keys and triggers must be those of the plan.
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 1, (SELECT COUNT(*) FROM sqlite_master AS c, pragma_foreign_key_list(c.name) AS k
WHERE c.type = 'table' AND lower(k."table") IN ('sensor'));
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 2, (SELECT COUNT(*) FROM sqlite_master AS t WHERE t.type = 'trigger' AND lower(t.tbl_name) IN ('sensor'));

CREATE TEMP TABLE yeldro_1_1 ("id" INTEGER PRIMARY KEY, "yeldro_kept_0" INTEGER);

INSERT INTO "temp".yeldro_1_1 ("id", "yeldro_kept_0") SELECT yeldro_grouped.yeldro_own_0, yeldro_grouped.yeldro_kept_0 
FROM (SELECT "sensor"."id" AS yeldro_own_0, first_value("sensor"."id") OVER (PARTITION BY "sensor"."buoy_id", "sensor"."kind" ORDER BY "sensor"."id" ASC) AS yeldro_kept_0 
FROM "sensor") AS yeldro_grouped 
WHERE yeldro_grouped.yeldro_own_0 != yeldro_grouped.yeldro_kept_0 ORDER BY yeldro_grouped.yeldro_own_0;

-- step 1: remove sensor, 1 row; matched
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 3, (SELECT count(*) AS count_1 
FROM (SELECT sum(yeldro_picked.k) AS k 
FROM (SELECT "sensor"."id" AS k 
FROM "sensor" 
WHERE "sensor"."id" IN (SELECT "temp".yeldro_1_1."id" 
FROM "temp".yeldro_1_1)) AS yeldro_picked) AS yeldro_same 
WHERE yeldro_same.k = 5);
DELETE FROM "sensor" WHERE "sensor"."id" IN (SELECT "temp".yeldro_1_1."id" 
FROM "temp".yeldro_1_1);
SELECT changes() || ' rows: step 1: remove sensor, and 1 row was expected' WHERE changes() IS NOT 1;
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 4, changes();

-- There must be no groups that would lose every row
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 5, (SELECT (SELECT count(*) AS count_1 
FROM (SELECT DISTINCT "temp".yeldro_1_1."yeldro_kept_0" AS "yeldro_kept_0" 
FROM "temp".yeldro_1_1) AS anon_1) - (SELECT count(*) AS count_2 
FROM "sensor" 
WHERE "sensor"."id" IN (SELECT DISTINCT "temp".yeldro_1_1."yeldro_kept_0" 
FROM "temp".yeldro_1_1)) AS yeldro_lost);

COMMIT;
DROP TABLE temp.yeldro_check;
