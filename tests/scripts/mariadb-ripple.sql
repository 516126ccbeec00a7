-- buoy --where "retired_on < '2020-01-01'" --follow visit
-- For MariaDB/MySQL 10.6/8.0 or newer: mariadb DATABASE < script.sql
-- Counted on buoys.db.
-- By the rules of MariaDB/MySQL its conditions pick the same of these rows.
-- Rows that go or change: buoy 3, part_used 2, visit 2, sensor 2.
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
SELECT 'the foreign keys to part_used, visit, sensor, buoy are not those of the plan', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM information_schema.KEY_COLUMN_USAGE AS k
JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r
ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME
AND r.TABLE_NAME = k.TABLE_NAME
WHERE k.REFERENCED_TABLE_SCHEMA = DATABASE() AND k.REFERENCED_TABLE_NAME IN ('part_used', 'visit', 'sensor', 'buoy')
 AND NOT (k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'part_used' AND k.COLUMN_NAME = 'buoy_id' AND k.REFERENCED_TABLE_NAME = 'visit' AND k.REFERENCED_COLUMN_NAME = 'buoy_id' AND r.DELETE_RULE IN ('CASCADE')
 OR k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'part_used' AND k.COLUMN_NAME = 'visit_no' AND k.REFERENCED_TABLE_NAME = 'visit' AND k.REFERENCED_COLUMN_NAME = 'visit_no' AND r.DELETE_RULE IN ('CASCADE')
 OR k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'buoy' AND k.COLUMN_NAME = 'replaces_id' AND k.REFERENCED_TABLE_NAME = 'buoy' AND k.REFERENCED_COLUMN_NAME = 'id' AND r.DELETE_RULE IN ('SET NULL')
 OR k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'sensor' AND k.COLUMN_NAME = 'buoy_id' AND k.REFERENCED_TABLE_NAME = 'buoy' AND k.REFERENCED_COLUMN_NAME = 'id' AND r.DELETE_RULE IN ('CASCADE')
 OR k.TABLE_SCHEMA = DATABASE() AND k.TABLE_NAME = 'visit' AND k.COLUMN_NAME = 'buoy_id' AND k.REFERENCED_TABLE_NAME = 'buoy' AND k.REFERENCED_COLUMN_NAME = 'id' AND r.DELETE_RULE IN ('NO ACTION', 'RESTRICT'))) AS yeldro_found) AS yeldro_question;
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

CREATE TEMPORARY TABLE `yeldro_1_1` AS WITH `yeldro_first` (`id`) AS (SELECT `buoy`.`id` FROM `buoy`) SELECT `id` FROM `yeldro_first` WHERE 1 = 0;

INSERT INTO `yeldro_1_1` (`id`) SELECT `buoy`.`id` FROM `buoy` WHERE (`retired_on` < '2020-01-01');

CREATE TEMPORARY TABLE `yeldro_1_2` AS WITH `yeldro_first` (`buoy_id`, `visit_no`) AS (SELECT `visit`.`buoy_id`, `visit`.`visit_no` FROM `visit`) SELECT `buoy_id`, `visit_no` FROM `yeldro_first` WHERE 1 = 0;

INSERT INTO `yeldro_1_2` (`buoy_id`, `visit_no`) SELECT `visit`.`buoy_id`, `visit`.`visit_no` FROM `visit` WHERE `visit`.`buoy_id` IN (SELECT `yeldro_1_1`.`id` FROM `yeldro_1_1`);

-- step 1: detach buoy, 1 row; buoy.replaces_id → buoy.id (set null)
UPDATE `buoy` SET `replaces_id` = NULL WHERE `buoy`.`replaces_id` IN (SELECT `yeldro_1_1`.`id` FROM `yeldro_1_1`) AND NOT (EXISTS(SELECT 1 AS `anon_1` FROM `yeldro_1_1` WHERE `yeldro_1_1`.`id` = `buoy`.`id`));
INSERT INTO yeldro_check VALUES ('step 1: detach buoy', 1, ROW_COUNT());

-- step 2: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DELETE FROM `part_used` WHERE EXISTS(SELECT 1 FROM (SELECT `yeldro_1_2`.`buoy_id` AS `yeldro_c0`, `yeldro_1_2`.`visit_no` AS `yeldro_c1` FROM `yeldro_1_2`) AS `yeldro_row` WHERE `yeldro_row`.`yeldro_c0` = `part_used`.`buoy_id` AND `yeldro_row`.`yeldro_c1` = `part_used`.`visit_no`);
INSERT INTO yeldro_check VALUES ('step 2: remove part_used', 2, ROW_COUNT());

-- step 3: remove visit, 2 rows; visit.buoy_id → buoy.id (--follow visit)
DELETE FROM `visit` WHERE EXISTS(SELECT 1 FROM (SELECT `yeldro_1_2`.`buoy_id` AS `yeldro_c0`, `yeldro_1_2`.`visit_no` AS `yeldro_c1` FROM `yeldro_1_2`) AS `yeldro_row` WHERE `yeldro_row`.`yeldro_c0` = `visit`.`buoy_id` AND `yeldro_row`.`yeldro_c1` = `visit`.`visit_no`);
INSERT INTO yeldro_check VALUES ('step 3: remove visit', 2, ROW_COUNT());

-- step 4: remove sensor, 2 rows; sensor.buoy_id → buoy.id (cascade)
DELETE FROM `sensor` WHERE `sensor`.`buoy_id` IN (SELECT `yeldro_1_1`.`id` FROM `yeldro_1_1`);
INSERT INTO yeldro_check VALUES ('step 4: remove sensor', 2, ROW_COUNT());

-- step 5: remove buoy, 2 rows; matched
DELETE FROM `buoy` WHERE `buoy`.`id` IN (SELECT `yeldro_1_1`.`id` FROM `yeldro_1_1`);
INSERT INTO yeldro_check VALUES ('step 5: remove buoy', 2, ROW_COUNT());

-- There must be no rows without a parent through buoy.replaces_id → buoy.id
INSERT INTO yeldro_check
SELECT 'there are rows without a parent through buoy.replaces_id → buoy.id', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) AS `count_1` FROM `buoy` WHERE `buoy`.`replaces_id` IN (SELECT `yeldro_1_1`.`id` FROM `yeldro_1_1`)) AS yeldro_found) AS yeldro_question;

-- There must be no rows without a parent through sensor.buoy_id → buoy.id
INSERT INTO yeldro_check
SELECT 'there are rows without a parent through sensor.buoy_id → buoy.id', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) AS `count_1` FROM `sensor` WHERE `sensor`.`buoy_id` IN (SELECT `yeldro_1_1`.`id` FROM `yeldro_1_1`)) AS yeldro_found) AS yeldro_question;

-- There must be no rows without a parent through visit.buoy_id → buoy.id
INSERT INTO yeldro_check
SELECT 'there are rows without a parent through visit.buoy_id → buoy.id', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) AS `count_1` FROM `visit` WHERE `visit`.`buoy_id` IN (SELECT `yeldro_1_1`.`id` FROM `yeldro_1_1`)) AS yeldro_found) AS yeldro_question;

-- There must be no rows without a parent through part_used.buoy_id,visit_no → visit.buoy_id,visit_no
INSERT INTO yeldro_check
SELECT 'there are rows without a parent through part_used.buoy_id,visit_no → visit.buoy_id,visit_no', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) AS `count_1` FROM `part_used` WHERE EXISTS(SELECT 1 FROM (SELECT `yeldro_1_2`.`buoy_id` AS `yeldro_c0`, `yeldro_1_2`.`visit_no` AS `yeldro_c1` FROM `yeldro_1_2`) AS `yeldro_row` WHERE `yeldro_row`.`yeldro_c0` = `part_used`.`buoy_id` AND `yeldro_row`.`yeldro_c1` = `part_used`.`visit_no`)) AS yeldro_found) AS yeldro_question;

SET @yeldro_end = IF((SELECT count(*) FROM yeldro_check WHERE expected = found) = 12, 'COMMIT', 'ROLLBACK');
PREPARE yeldro_end FROM @yeldro_end;
EXECUTE yeldro_end;
DEALLOCATE PREPARE yeldro_end;
DROP TEMPORARY TABLE yeldro_check;
SET SESSION foreign_key_checks = 1;
