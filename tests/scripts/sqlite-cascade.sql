-- visit --where 'visit_no = 1'
-- For SQLite 3.25 or newer: sqlite3 FILE < script.sql
-- Counted on buoys.db.
-- Rows that go or change: part_used 2, visit 3.
-- Any other count stops the script, and everything is rolled back.
.bail on
PRAGMA foreign_keys = OFF; -- dependent rows are removed by separate statements
PRAGMA ignore_check_constraints = OFF; -- a CHECK constraint compares the counts
BEGIN IMMEDIATE;
CREATE TEMP TABLE yeldro_check (step, expected, found, CHECK (expected = found));

-- The foreign keys and triggers must be those of the plan.
INSERT OR ROLLBACK INTO temp.yeldro_check
SELECT 'the foreign keys to part_used, visit are not those of the plan', 1, coalesce(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM sqlite_master AS c, pragma_foreign_key_list(c.name) AS k
WHERE c.type = 'table' AND lower(k."table") IN ('part_used', 'visit')
 AND NOT (lower(c.name) = 'part_used' AND lower(k."from") = 'buoy_id' AND lower(k."table") = 'visit' AND coalesce(lower(k."to"), 'buoy_id') = 'buoy_id' AND k.on_delete IN ('CASCADE')
 OR lower(c.name) = 'part_used' AND lower(k."from") = 'visit_no' AND lower(k."table") = 'visit' AND coalesce(lower(k."to"), 'visit_no') = 'visit_no' AND k.on_delete IN ('CASCADE'))) AS yeldro_found);
INSERT OR ROLLBACK INTO temp.yeldro_check
SELECT 'the foreign keys to part_used, visit are not those of the plan', 1, coalesce(yeldro_found = 2, 0)
FROM (SELECT (SELECT COUNT(*) FROM sqlite_master AS c, pragma_foreign_key_list(c.name) AS k
WHERE c.type = 'table' AND lower(k."table") IN ('part_used', 'visit')) AS yeldro_found);
INSERT OR ROLLBACK INTO temp.yeldro_check
SELECT 'there are triggers of part_used, visit that the plan does not know', 1, coalesce(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM sqlite_master AS t WHERE t.type = 'trigger' AND lower(t.tbl_name) IN ('part_used', 'visit')) AS yeldro_found);

CREATE TEMP TABLE yeldro_1_1 ("buoy_id" INTEGER COLLATE BINARY, "visit_no" INTEGER COLLATE BINARY, PRIMARY KEY ("buoy_id", "visit_no")) WITHOUT ROWID;

INSERT INTO "temp".yeldro_1_1 ("buoy_id", "visit_no") SELECT "visit"."buoy_id", "visit"."visit_no" 
FROM "visit" 
WHERE (visit_no = 1);

-- step 1: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DELETE FROM "part_used" WHERE ("part_used"."buoy_id", "part_used"."visit_no") IN (SELECT "temp".yeldro_1_1."buoy_id", "temp".yeldro_1_1."visit_no" 
FROM "temp".yeldro_1_1);
INSERT OR ROLLBACK INTO temp.yeldro_check
SELECT 'step 1: remove part_used', 2, changes();

-- step 2: remove visit, 3 rows; matched
DELETE FROM "visit" WHERE ("visit"."buoy_id", "visit"."visit_no") IN (SELECT "temp".yeldro_1_1."buoy_id", "temp".yeldro_1_1."visit_no" 
FROM "temp".yeldro_1_1);
INSERT OR ROLLBACK INTO temp.yeldro_check
SELECT 'step 2: remove visit', 3, changes();

-- There must be no rows without a parent through part_used.buoy_id,visit_no → visit.buoy_id,visit_no
INSERT OR ROLLBACK INTO temp.yeldro_check
SELECT 'there are rows without a parent through part_used.buoy_id,visit_no → visit.buoy_id,visit_no', 1, coalesce(yeldro_found = 0, 0)
FROM (SELECT (SELECT count(*) AS count_1 
FROM "part_used" 
WHERE ("part_used"."buoy_id", "part_used"."visit_no") IN (SELECT "temp".yeldro_1_1."buoy_id", "temp".yeldro_1_1."visit_no" 
FROM "temp".yeldro_1_1)) AS yeldro_found);

COMMIT;
DROP TABLE temp.yeldro_check;
