-- buoy --where "retired_on < '2020-01-01'" --follow visit
-- For SQLite 3.25 or newer: sqlite3 FILE < script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: eb4fed1bc9e372b8d80bc5794c0523d56ada827872bf893b6e2d829f56246b27
-- Rows that go or change: buoy 3, part_used 2, visit 2, sensor 2.
-- Rights: to read, change and remove rows of buoy, part_used, visit, sensor, and to read the tables that reference them.
-- Any other count stops the script, and everything is rolled back.
.bail on
PRAGMA foreign_keys = OFF; -- dependent rows go by statements of their own
PRAGMA ignore_check_constraints = OFF; -- CHECK constraints compare the counts
BEGIN IMMEDIATE;
CREATE TEMP TABLE yeldro_check (step INTEGER, found,
  CONSTRAINT "the foreign keys to part_used, visit, sensor, buoy are not those of the plan" CHECK (step <> 1 OR coalesce(found = 0, 0)),
  CONSTRAINT "the foreign keys to part_used, visit, sensor, buoy are not those of the plan" CHECK (step <> 2 OR coalesce(found = 5, 0)),
  CONSTRAINT "there are triggers of buoy, part_used, visit, sensor that the plan does not know" CHECK (step <> 3 OR coalesce(found = 0, 0)),
  CONSTRAINT "step 1: detach buoy, and 1 row was expected" CHECK (step <> 4 OR found IS 1),
  CONSTRAINT "step 2: remove part_used, and 2 rows were expected" CHECK (step <> 5 OR found IS 2),
  CONSTRAINT "step 3: remove visit, and 2 rows were expected" CHECK (step <> 6 OR found IS 2),
  CONSTRAINT "step 4: remove sensor, and 2 rows were expected" CHECK (step <> 7 OR found IS 2),
  CONSTRAINT "step 5: remove buoy, and 2 rows were expected" CHECK (step <> 8 OR found IS 2),
  CONSTRAINT "there are rows without a parent through buoy.replaces_id → buoy.id" CHECK (step <> 9 OR coalesce(found = 0, 0)),
  CONSTRAINT "there are rows without a parent through sensor.buoy_id → buoy.id" CHECK (step <> 10 OR coalesce(found = 0, 0)),
  CONSTRAINT "there are rows without a parent through visit.buoy_id → buoy.id" CHECK (step <> 11 OR coalesce(found = 0, 0)),
  CONSTRAINT "there are rows without a parent through part_used.buoy_id,visit_no → visit.buoy_id,visit_no" CHECK (step <> 12 OR coalesce(found = 0, 0))
);

-- The foreign keys and triggers must be those of the plan.
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 1, (SELECT COUNT(*) FROM sqlite_master AS c, pragma_foreign_key_list(c.name) AS k
WHERE c.type = 'table' AND lower(k."table") IN ('part_used', 'visit', 'sensor', 'buoy')
 AND NOT (lower(c.name) = 'part_used' AND lower(k."from") = 'buoy_id' AND lower(k."table") = 'visit' AND coalesce(lower(k."to"), 'buoy_id') = 'buoy_id' AND k.on_delete IN ('CASCADE')
 OR lower(c.name) = 'part_used' AND lower(k."from") = 'visit_no' AND lower(k."table") = 'visit' AND coalesce(lower(k."to"), 'visit_no') = 'visit_no' AND k.on_delete IN ('CASCADE')
 OR lower(c.name) = 'buoy' AND lower(k."from") = 'replaces_id' AND lower(k."table") = 'buoy' AND coalesce(lower(k."to"), 'id') = 'id' AND k.on_delete IN ('SET NULL')
 OR lower(c.name) = 'sensor' AND lower(k."from") = 'buoy_id' AND lower(k."table") = 'buoy' AND coalesce(lower(k."to"), 'id') = 'id' AND k.on_delete IN ('CASCADE')
 OR lower(c.name) = 'visit' AND lower(k."from") = 'buoy_id' AND lower(k."table") = 'buoy' AND coalesce(lower(k."to"), 'id') = 'id' AND k.on_delete IN ('NO ACTION', 'RESTRICT')));
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 2, (SELECT COUNT(*) FROM sqlite_master AS c, pragma_foreign_key_list(c.name) AS k
WHERE c.type = 'table' AND lower(k."table") IN ('part_used', 'visit', 'sensor', 'buoy'));
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 3, (SELECT COUNT(*) FROM sqlite_master AS t WHERE t.type = 'trigger' AND lower(t.tbl_name) IN ('buoy', 'part_used', 'visit', 'sensor'));

CREATE TEMP TABLE yeldro_1_1 ("id" INTEGER PRIMARY KEY);

INSERT INTO "temp".yeldro_1_1 ("id") SELECT "buoy"."id" 
FROM "buoy" 
WHERE (retired_on < '2020-01-01');

CREATE TEMP TABLE yeldro_1_2 ("buoy_id" INTEGER COLLATE BINARY, "visit_no" INTEGER COLLATE BINARY, PRIMARY KEY ("buoy_id", "visit_no")) WITHOUT ROWID;

INSERT INTO "temp".yeldro_1_2 ("buoy_id", "visit_no") SELECT "visit"."buoy_id", "visit"."visit_no" 
FROM "visit" 
WHERE "visit"."buoy_id" IN (SELECT "temp".yeldro_1_1."id" 
FROM "temp".yeldro_1_1);

-- step 1: detach buoy, 1 row; buoy.replaces_id → buoy.id (set null)
UPDATE "buoy" SET "replaces_id"=NULL WHERE "buoy"."replaces_id" IN (SELECT "temp".yeldro_1_1."id" 
FROM "temp".yeldro_1_1) AND NOT (EXISTS (SELECT 1 AS anon_1 
FROM "temp".yeldro_1_1 
WHERE "temp".yeldro_1_1."id" = "buoy"."id"));
SELECT changes() || ' rows: step 1: detach buoy, and 1 row was expected' WHERE changes() IS NOT 1;
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 4, changes();

-- step 2: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DELETE FROM "part_used" WHERE ("part_used"."buoy_id", "part_used"."visit_no") IN (SELECT "temp".yeldro_1_2."buoy_id", "temp".yeldro_1_2."visit_no" 
FROM "temp".yeldro_1_2);
SELECT changes() || ' rows: step 2: remove part_used, and 2 rows were expected' WHERE changes() IS NOT 2;
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 5, changes();

-- step 3: remove visit, 2 rows; visit.buoy_id → buoy.id (--follow visit)
DELETE FROM "visit" WHERE ("visit"."buoy_id", "visit"."visit_no") IN (SELECT "temp".yeldro_1_2."buoy_id", "temp".yeldro_1_2."visit_no" 
FROM "temp".yeldro_1_2);
SELECT changes() || ' rows: step 3: remove visit, and 2 rows were expected' WHERE changes() IS NOT 2;
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 6, changes();

-- step 4: remove sensor, 2 rows; sensor.buoy_id → buoy.id (cascade)
DELETE FROM "sensor" WHERE "sensor"."buoy_id" IN (SELECT "temp".yeldro_1_1."id" 
FROM "temp".yeldro_1_1);
SELECT changes() || ' rows: step 4: remove sensor, and 2 rows were expected' WHERE changes() IS NOT 2;
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 7, changes();

-- step 5: remove buoy, 2 rows; matched
DELETE FROM "buoy" WHERE "buoy"."id" IN (SELECT "temp".yeldro_1_1."id" 
FROM "temp".yeldro_1_1);
SELECT changes() || ' rows: step 5: remove buoy, and 2 rows were expected' WHERE changes() IS NOT 2;
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 8, changes();

-- There must be no rows without a parent through buoy.replaces_id → buoy.id
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 9, (SELECT count(*) AS count_1 
FROM "buoy" 
WHERE "buoy"."replaces_id" IN (SELECT "temp".yeldro_1_1."id" 
FROM "temp".yeldro_1_1));

-- There must be no rows without a parent through sensor.buoy_id → buoy.id
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 10, (SELECT count(*) AS count_1 
FROM "sensor" 
WHERE "sensor"."buoy_id" IN (SELECT "temp".yeldro_1_1."id" 
FROM "temp".yeldro_1_1));

-- There must be no rows without a parent through visit.buoy_id → buoy.id
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 11, (SELECT count(*) AS count_1 
FROM "visit" 
WHERE "visit"."buoy_id" IN (SELECT "temp".yeldro_1_1."id" 
FROM "temp".yeldro_1_1));

-- There must be no rows without a parent through part_used.buoy_id,visit_no → visit.buoy_id,visit_no
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 12, (SELECT count(*) AS count_1 
FROM "part_used" 
WHERE ("part_used"."buoy_id", "part_used"."visit_no") IN (SELECT "temp".yeldro_1_2."buoy_id", "temp".yeldro_1_2."visit_no" 
FROM "temp".yeldro_1_2));

COMMIT;
DROP TABLE temp.yeldro_check;
