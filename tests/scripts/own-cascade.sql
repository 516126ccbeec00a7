-- visit --where 'visit_no = 1'
-- For SQLite 3.25 or newer: sqlite3 FILE < script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: 49a2c42ddc3e382250705e12decbf0265b46fe0c552b9ad2bf16030f1e666a55
-- Rows that go or change: part_used 2, visit 3.
-- Rights: to read, change and remove rows of part_used, visit, and to read the tables that reference them.
-- Any other count stops the script, and everything is rolled back.
.bail on
PRAGMA foreign_keys = OFF; -- dependent rows go by statements of their own
PRAGMA ignore_check_constraints = OFF; -- CHECK constraints compare the counts
BEGIN IMMEDIATE;
CREATE TEMP TABLE yeldro_check (step INTEGER, found,
  CONSTRAINT "the foreign keys to part_used, visit are not those of the plan" CHECK (step <> 1 OR coalesce(found = 0, 0)),
  CONSTRAINT "the foreign keys to part_used, visit are not those of the plan" CHECK (step <> 2 OR coalesce(found = 2, 0)),
  CONSTRAINT "there are triggers of part_used, visit that the plan does not know" CHECK (step <> 3 OR coalesce(found = 0, 0)),
  CONSTRAINT "step 1: remove part_used, and 2 rows were expected" CHECK (step <> 4 OR found IS 2),
  CONSTRAINT "step 2: remove visit, and 3 rows were expected" CHECK (step <> 5 OR found IS 3),
  CONSTRAINT "there are rows without a parent through part_used.buoy_id,visit_no → visit.buoy_id,visit_no" CHECK (step <> 6 OR coalesce(found = 0, 0))
);

-- The foreign keys and triggers must be those of the plan.
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 1, (SELECT COUNT(*) FROM sqlite_master AS c, pragma_foreign_key_list(c.name) AS k
WHERE c.type = 'table' AND lower(k."table") IN ('part_used', 'visit')
 AND NOT (lower(c.name) = 'part_used' AND lower(k."from") = 'buoy_id' AND lower(k."table") = 'visit' AND coalesce(lower(k."to"), 'buoy_id') = 'buoy_id' AND k.on_delete IN ('CASCADE')
 OR lower(c.name) = 'part_used' AND lower(k."from") = 'visit_no' AND lower(k."table") = 'visit' AND coalesce(lower(k."to"), 'visit_no') = 'visit_no' AND k.on_delete IN ('CASCADE')));
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 2, (SELECT COUNT(*) FROM sqlite_master AS c, pragma_foreign_key_list(c.name) AS k
WHERE c.type = 'table' AND lower(k."table") IN ('part_used', 'visit'));
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 3, (SELECT COUNT(*) FROM sqlite_master AS t WHERE t.type = 'trigger' AND lower(t.tbl_name) IN ('part_used', 'visit'));

CREATE TEMP TABLE yeldro_1_1 ("buoy_id" INTEGER COLLATE BINARY, "visit_no" INTEGER COLLATE BINARY, PRIMARY KEY ("buoy_id", "visit_no")) WITHOUT ROWID;

INSERT INTO "temp".yeldro_1_1 ("buoy_id", "visit_no") SELECT "visit"."buoy_id", "visit"."visit_no" 
FROM "visit" 
WHERE (visit_no = 1);

-- step 1: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DELETE FROM "part_used" WHERE ("part_used"."buoy_id", "part_used"."visit_no") IN (SELECT "temp".yeldro_1_1."buoy_id", "temp".yeldro_1_1."visit_no" 
FROM "temp".yeldro_1_1);
SELECT changes() || ' rows: step 1: remove part_used, and 2 rows were expected' WHERE changes() IS NOT 2;
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 4, changes();

-- step 2: remove visit, 3 rows; matched
DELETE FROM "visit" WHERE ("visit"."buoy_id", "visit"."visit_no") IN (SELECT "temp".yeldro_1_1."buoy_id", "temp".yeldro_1_1."visit_no" 
FROM "temp".yeldro_1_1);
SELECT changes() || ' rows: step 2: remove visit, and 3 rows were expected' WHERE changes() IS NOT 3;
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 5, changes();

-- There must be no rows without a parent through part_used.buoy_id,visit_no → visit.buoy_id,visit_no
INSERT OR ROLLBACK INTO temp.yeldro_check SELECT 6, (SELECT count(*) AS count_1 
FROM "part_used" 
WHERE ("part_used"."buoy_id", "part_used"."visit_no") IN (SELECT "temp".yeldro_1_1."buoy_id", "temp".yeldro_1_1."visit_no" 
FROM "temp".yeldro_1_1));

COMMIT;
DROP TABLE temp.yeldro_check;
