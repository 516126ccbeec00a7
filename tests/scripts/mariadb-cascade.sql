-- visit --where 'visit_no = 1'
-- For MariaDB 10.6 or newer: mariadb DATABASE < script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: 6096a07e56d6d3b0f188d6de3a322b20441184bee5c55a7e9a4dcf5147a78c3b
-- Rows that go or change: part_used 2, visit 3.
-- Rights: to read, change and remove rows of part_used, visit, and to read the tables that reference them.
-- Any other count stops the script, and everything is rolled back.
SET NAMES utf8mb4;
SET SESSION sql_mode = 'STRICT_TRANS_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
SET SESSION foreign_key_checks = 1;
SET SESSION max_sort_length = 1024, sql_auto_is_null = 0 /*M! , check_constraint_checks = 1 */; -- a CHECK constraint compares the counts
CREATE TEMPORARY TABLE yeldro_check (step TEXT, expected BIGINT, found BIGINT,
  CHECK (expected = found)) CHARACTER SET utf8mb4;
START TRANSACTION;

-- The foreign keys and triggers must be those of the plan.
INSERT INTO yeldro_check
SELECT 'the foreign keys to part_used, visit are not those of the plan', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM information_schema.KEY_COLUMN_USAGE AS k
JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r
ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME
AND r.TABLE_NAME = k.TABLE_NAME
WHERE k.REFERENCED_TABLE_SCHEMA = DATABASE() AND k.REFERENCED_TABLE_NAME IN ('part_used', 'visit')
 AND NOT (k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'part_used' AND k.COLUMN_NAME = 'buoy_id' AND k.REFERENCED_TABLE_NAME = 'visit' AND k.REFERENCED_COLUMN_NAME = 'buoy_id'
 OR k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'part_used' AND k.COLUMN_NAME = 'visit_no' AND k.REFERENCED_TABLE_NAME = 'visit' AND k.REFERENCED_COLUMN_NAME = 'visit_no')) AS yeldro_found) AS yeldro_question;
INSERT INTO yeldro_check
SELECT 'the foreign keys to part_used, visit are not those of the plan', 1, COALESCE(yeldro_found = 2, 0)
FROM (SELECT (SELECT COUNT(*) FROM information_schema.KEY_COLUMN_USAGE AS k
JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r
ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME
AND r.TABLE_NAME = k.TABLE_NAME
WHERE k.REFERENCED_TABLE_SCHEMA = DATABASE() AND k.REFERENCED_TABLE_NAME IN ('part_used', 'visit')) AS yeldro_found) AS yeldro_question;
INSERT INTO yeldro_check
SELECT 'there are triggers of part_used, visit that the plan does not know', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM information_schema.TRIGGERS AS t
WHERE t.EVENT_OBJECT_SCHEMA = DATABASE() AND t.EVENT_OBJECT_TABLE IN ('part_used', 'visit')) AS yeldro_found) AS yeldro_question;

-- step 1: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DELETE FROM `part_used` WHERE `buoy_id` = 1 AND `visit_no` = 1 AND `part` = 'bolt'
 OR `buoy_id` = 3 AND `visit_no` = 1 AND `part` = 'bolt';
INSERT INTO yeldro_check VALUES ('step 1: remove part_used', 2, ROW_COUNT());

-- step 2: remove visit, 3 rows; matched
INSERT INTO yeldro_check
SELECT 'step 2: remove visit: other rows reference its rows by part_used.buoy_id,visit_no → visit.buoy_id,visit_no', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM `part_used` WHERE `buoy_id` = 1 AND `visit_no` = 1
 OR `buoy_id` = 2 AND `visit_no` = 1
 OR `buoy_id` = 3 AND `visit_no` = 1) AS yeldro_found) AS yeldro_question;
DELETE FROM `visit` WHERE `buoy_id` = 1 AND `visit_no` = 1
 OR `buoy_id` = 2 AND `visit_no` = 1
 OR `buoy_id` = 3 AND `visit_no` = 1;
INSERT INTO yeldro_check VALUES ('step 2: remove visit', 3, ROW_COUNT());

SET @yeldro_end = IF((SELECT count(*) FROM yeldro_check WHERE expected = found) = 6, 'COMMIT', 'ROLLBACK');
PREPARE yeldro_end FROM @yeldro_end;
EXECUTE yeldro_end;
DEALLOCATE PREPARE yeldro_end;
DROP TEMPORARY TABLE yeldro_check;
SET SESSION foreign_key_checks = 1;
