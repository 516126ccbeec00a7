-- sensor --duplicates-by buoy_id,kind --keep lowest:id
-- For SQLite 3.25 or newer: sqlite3 FILE < script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: 23461c8786841dd9994ddef56530b0da037d7e511bca001bb23c16ff876254c6
-- Rows that go or change: sensor 1.
-- Rights: to read, change and remove rows of sensor, and to read the tables that reference them.
-- Any other count stops the script, and everything is rolled back.
.bail on
PRAGMA foreign_keys = ON;
PRAGMA ignore_check_constraints = OFF; -- CHECK constraints compare the counts
BEGIN IMMEDIATE;
CREATE TEMP TABLE yeldro_check (step INTEGER, found,
  CONSTRAINT "the foreign keys to sensor are not those of the plan" CHECK (step <> 1 OR coalesce(found = 0, 0)),
  CONSTRAINT "there are triggers of sensor that the plan does not know" CHECK (step <> 2 OR coalesce(found = 0, 0)),
  CONSTRAINT "step 1: remove sensor, and 1 row was expected" CHECK (step <> 3 OR found IS 1)
);

-- The foreign keys and triggers must be those of the plan.
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 1, (SELECT COUNT(*) FROM sqlite_master AS c, pragma_foreign_key_list(c.name) AS k
WHERE c.type = 'table' AND lower(k."table") IN ('sensor'));
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 2, (SELECT COUNT(*) FROM sqlite_master AS t WHERE t.type = 'trigger' AND lower(t.tbl_name) IN ('sensor'));

-- step 1: remove sensor, 1 row; matched
DELETE FROM "sensor" WHERE "id" IN (5);
SELECT changes() || ' rows: step 1: remove sensor, and 1 row was expected' WHERE changes() IS NOT 1;
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 3, changes();

COMMIT;
DROP TABLE temp.yeldro_check;
