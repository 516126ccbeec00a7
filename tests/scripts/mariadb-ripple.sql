-- buoy --where "retired_on < '2020-01-01'" --follow visit
-- For MariaDB 10.6 or newer: mariadb DATABASE < script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: 2b9e1ff7e2c12577b6e573b1045e17fd51a01099d42eec15ef76289a0a2256e6
-- Rows that go or change: buoy 3, part_used 2, visit 2, sensor 2.
-- Rights: to read, change and remove rows of buoy, part_used, visit, sensor, and to read the tables that reference them.
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
SELECT 'the foreign keys to part_used, visit, sensor, buoy are not those of the plan', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM information_schema.KEY_COLUMN_USAGE AS k
JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r
ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME
AND r.TABLE_NAME = k.TABLE_NAME
WHERE k.REFERENCED_TABLE_SCHEMA = DATABASE() AND k.REFERENCED_TABLE_NAME IN ('part_used', 'visit', 'sensor', 'buoy')
 AND NOT (k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'buoy' AND k.COLUMN_NAME = 'replaces_id' AND k.REFERENCED_TABLE_NAME = 'buoy' AND k.REFERENCED_COLUMN_NAME = 'id'
 OR k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'sensor' AND k.COLUMN_NAME = 'buoy_id' AND k.REFERENCED_TABLE_NAME = 'buoy' AND k.REFERENCED_COLUMN_NAME = 'id'
 OR k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'visit' AND k.COLUMN_NAME = 'buoy_id' AND k.REFERENCED_TABLE_NAME = 'buoy' AND k.REFERENCED_COLUMN_NAME = 'id'
 OR k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'part_used' AND k.COLUMN_NAME = 'buoy_id' AND k.REFERENCED_TABLE_NAME = 'visit' AND k.REFERENCED_COLUMN_NAME = 'buoy_id'
 OR k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'part_used' AND k.COLUMN_NAME = 'visit_no' AND k.REFERENCED_TABLE_NAME = 'visit' AND k.REFERENCED_COLUMN_NAME = 'visit_no')) AS yeldro_found) AS yeldro_question;
INSERT INTO yeldro_check
SELECT 'the foreign keys to part_used, visit, sensor, buoy are not those of the plan', 1, COALESCE(yeldro_found = 5, 0)
FROM (SELECT (SELECT COUNT(*) FROM information_schema.KEY_COLUMN_USAGE AS k
JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r
ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME
AND r.TABLE_NAME = k.TABLE_NAME
WHERE k.REFERENCED_TABLE_SCHEMA = DATABASE() AND k.REFERENCED_TABLE_NAME IN ('part_used', 'visit', 'sensor', 'buoy')) AS yeldro_found) AS yeldro_question;
INSERT INTO yeldro_check
SELECT 'there are triggers of buoy, part_used, visit, sensor that the plan does not know', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM information_schema.TRIGGERS AS t
WHERE t.EVENT_OBJECT_SCHEMA = DATABASE() AND t.EVENT_OBJECT_TABLE IN ('buoy', 'part_used', 'visit', 'sensor')) AS yeldro_found) AS yeldro_question;

-- step 1: detach buoy, 1 row; buoy.replaces_id → buoy.id (set null)
UPDATE `buoy` SET `replaces_id` = NULL WHERE `id` IN (2);
INSERT INTO yeldro_check VALUES ('step 1: detach buoy', 1, ROW_COUNT());

-- step 2: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DELETE FROM `part_used` WHERE `buoy_id` = 1 AND `visit_no` = 1 AND `part` = 'bolt'
 OR `buoy_id` = 1 AND `visit_no` = 2 AND `part` = 'nut';
INSERT INTO yeldro_check VALUES ('step 2: remove part_used', 2, ROW_COUNT());

-- step 3: remove visit, 2 rows; visit.buoy_id → buoy.id (--follow visit)
INSERT INTO yeldro_check
SELECT 'step 3: remove visit: other rows reference its rows by part_used.buoy_id,visit_no → visit.buoy_id,visit_no', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM `part_used` WHERE `buoy_id` = 1 AND `visit_no` = 1
 OR `buoy_id` = 1 AND `visit_no` = 2) AS yeldro_found) AS yeldro_question;
DELETE FROM `visit` WHERE `buoy_id` = 1 AND `visit_no` = 1
 OR `buoy_id` = 1 AND `visit_no` = 2;
INSERT INTO yeldro_check VALUES ('step 3: remove visit', 2, ROW_COUNT());

-- step 4: remove sensor, 2 rows; sensor.buoy_id → buoy.id (cascade)
DELETE FROM `sensor` WHERE `id` IN (1, 2);
INSERT INTO yeldro_check VALUES ('step 4: remove sensor', 2, ROW_COUNT());

-- step 5: remove buoy, 2 rows; matched
INSERT INTO yeldro_check
SELECT 'step 5: remove buoy: other rows reference its rows by buoy.replaces_id → buoy.id', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM `buoy` WHERE `replaces_id` IN (1, 4)) AS yeldro_found) AS yeldro_question;
INSERT INTO yeldro_check
SELECT 'step 5: remove buoy: other rows reference its rows by sensor.buoy_id → buoy.id', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM `sensor` WHERE `buoy_id` IN (1, 4)) AS yeldro_found) AS yeldro_question;
INSERT INTO yeldro_check
SELECT 'step 5: remove buoy: other rows reference its rows by visit.buoy_id → buoy.id', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM `visit` WHERE `buoy_id` IN (1, 4)) AS yeldro_found) AS yeldro_question;
DELETE FROM `buoy` WHERE `id` IN (1, 4);
INSERT INTO yeldro_check VALUES ('step 5: remove buoy', 2, ROW_COUNT());

SET @yeldro_end = IF((SELECT count(*) FROM yeldro_check WHERE expected = found) = 12, 'COMMIT', 'ROLLBACK');
PREPARE yeldro_end FROM @yeldro_end;
EXECUTE yeldro_end;
DEALLOCATE PREPARE yeldro_end;
DROP TEMPORARY TABLE yeldro_check;
SET SESSION foreign_key_checks = 1;
