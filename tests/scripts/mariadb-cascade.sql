-- visit --where 'visit_no = 1'
-- For MariaDB/MySQL 10.6/8.0 or newer: mariadb DATABASE < script.sql
-- Counted on buoys.db.
-- By the rules of MariaDB/MySQL its conditions pick the same of these rows.
-- Rows that go or change: part_used 2, visit 3.
-- Any other count stops the script, and everything is rolled back.
SET NAMES utf8mb4;
SET SESSION sql_mode = 'STRICT_TRANS_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
SET SESSION foreign_key_checks = 0; -- dependent rows are removed by separate statements
SET SESSION max_sort_length = 1024, sql_auto_is_null = 0 /*M! , check_constraint_checks = 1 */; -- a CHECK constraint compares the counts
CREATE TEMPORARY TABLE yeldro_check (step TEXT, expected BIGINT, found BIGINT,
  CHECK (expected = found));
START TRANSACTION;

-- The foreign keys and triggers must be those of the plan.
INSERT INTO yeldro_check
SELECT 'the foreign keys to part_used, visit are not those of the plan', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM information_schema.KEY_COLUMN_USAGE AS k
JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r
ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME
AND r.TABLE_NAME = k.TABLE_NAME
WHERE k.REFERENCED_TABLE_SCHEMA = DATABASE() AND k.REFERENCED_TABLE_NAME IN ('part_used', 'visit')
 AND NOT (k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'part_used' AND k.COLUMN_NAME = 'buoy_id' AND k.REFERENCED_TABLE_NAME = 'visit' AND k.REFERENCED_COLUMN_NAME = 'buoy_id' AND r.DELETE_RULE IN ('CASCADE')
 OR k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'part_used' AND k.COLUMN_NAME = 'visit_no' AND k.REFERENCED_TABLE_NAME = 'visit' AND k.REFERENCED_COLUMN_NAME = 'visit_no' AND r.DELETE_RULE IN ('CASCADE'))) AS yeldro_found) AS yeldro_question;
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

CREATE TEMPORARY TABLE `yeldro_1_1` AS WITH `yeldro_first` (`buoy_id`, `visit_no`) AS (SELECT `visit`.`buoy_id`, `visit`.`visit_no` FROM `visit`) SELECT `buoy_id`, `visit_no` FROM `yeldro_first` WHERE 1 = 0;

INSERT INTO `yeldro_1_1` (`buoy_id`, `visit_no`) SELECT `visit`.`buoy_id`, `visit`.`visit_no` FROM `visit` WHERE (`visit_no` = 1);

-- step 1: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DELETE FROM `part_used` WHERE EXISTS(SELECT 1 FROM (SELECT `yeldro_1_1`.`buoy_id` AS `yeldro_c0`, `yeldro_1_1`.`visit_no` AS `yeldro_c1` FROM `yeldro_1_1`) AS `yeldro_row` WHERE `yeldro_row`.`yeldro_c0` = `part_used`.`buoy_id` AND `yeldro_row`.`yeldro_c1` = `part_used`.`visit_no`);
INSERT INTO yeldro_check VALUES ('step 1: remove part_used', 2, ROW_COUNT());

-- step 2: remove visit, 3 rows; matched
DELETE FROM `visit` WHERE EXISTS(SELECT 1 FROM (SELECT `yeldro_1_1`.`buoy_id` AS `yeldro_c0`, `yeldro_1_1`.`visit_no` AS `yeldro_c1` FROM `yeldro_1_1`) AS `yeldro_row` WHERE `yeldro_row`.`yeldro_c0` = `visit`.`buoy_id` AND `yeldro_row`.`yeldro_c1` = `visit`.`visit_no`);
INSERT INTO yeldro_check VALUES ('step 2: remove visit', 3, ROW_COUNT());

-- There must be no rows without a parent through part_used.buoy_id,visit_no → visit.buoy_id,visit_no
INSERT INTO yeldro_check
SELECT 'there are rows without a parent through part_used.buoy_id,visit_no → visit.buoy_id,visit_no', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) AS `count_1` FROM `part_used` WHERE EXISTS(SELECT 1 FROM (SELECT `yeldro_1_1`.`buoy_id` AS `yeldro_c0`, `yeldro_1_1`.`visit_no` AS `yeldro_c1` FROM `yeldro_1_1`) AS `yeldro_row` WHERE `yeldro_row`.`yeldro_c0` = `part_used`.`buoy_id` AND `yeldro_row`.`yeldro_c1` = `part_used`.`visit_no`)) AS yeldro_found) AS yeldro_question;

SET @yeldro_end = IF((SELECT count(*) FROM yeldro_check WHERE expected = found) = 6, 'COMMIT', 'ROLLBACK');
PREPARE yeldro_end FROM @yeldro_end;
EXECUTE yeldro_end;
DEALLOCATE PREPARE yeldro_end;
DROP TEMPORARY TABLE yeldro_check;
SET SESSION foreign_key_checks = 1;
