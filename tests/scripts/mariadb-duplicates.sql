-- sensor --duplicates-by buoy_id,kind --keep lowest:id
-- For MariaDB/MySQL 10.6/8.0 or newer: mariadb DATABASE < script.sql
-- Counted on buoys.db.
-- Rows that go or change: sensor 1.
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
SELECT 'the foreign keys to sensor are not those of the plan', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM information_schema.KEY_COLUMN_USAGE AS k
JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r
ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME
AND r.TABLE_NAME = k.TABLE_NAME
WHERE k.REFERENCED_TABLE_SCHEMA = DATABASE() AND k.REFERENCED_TABLE_NAME IN ('sensor')) AS yeldro_found) AS yeldro_question;
INSERT INTO yeldro_check
SELECT 'there are triggers of sensor that the plan does not know', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) FROM information_schema.TRIGGERS AS t
WHERE t.EVENT_OBJECT_SCHEMA = DATABASE() AND t.EVENT_OBJECT_TABLE IN ('sensor')) AS yeldro_found) AS yeldro_question;

CREATE TEMPORARY TABLE `yeldro_1_1` AS WITH `yeldro_first` (`id`, `yeldro_kept_0`) AS (SELECT `yeldro_grouped`.`yeldro_own_0`, `yeldro_grouped`.`yeldro_kept_0` FROM (SELECT `sensor`.`id` AS `yeldro_own_0`, FIRST_VALUE(`sensor`.`id`) OVER (PARTITION BY `sensor`.`buoy_id`, `sensor`.`kind` ORDER BY `sensor`.`id` ASC) AS `yeldro_kept_0` FROM `sensor`) AS `yeldro_grouped`) SELECT `id`, `yeldro_kept_0` FROM `yeldro_first` WHERE 1 = 0;

INSERT INTO `yeldro_1_1` (`id`, `yeldro_kept_0`) SELECT `yeldro_grouped`.`yeldro_own_0`, `yeldro_grouped`.`yeldro_kept_0` FROM (SELECT `sensor`.`id` AS `yeldro_own_0`, FIRST_VALUE(`sensor`.`id`) OVER (PARTITION BY `sensor`.`buoy_id`, `sensor`.`kind` ORDER BY `sensor`.`id` ASC) AS `yeldro_kept_0` FROM `sensor`) AS `yeldro_grouped` WHERE `yeldro_grouped`.`yeldro_own_0` <> `yeldro_grouped`.`yeldro_kept_0` ORDER BY `yeldro_grouped`.`yeldro_own_0`;

-- step 1: remove sensor, 1 row; matched
DELETE FROM `sensor` WHERE `sensor`.`id` IN (SELECT `yeldro_1_1`.`id` FROM `yeldro_1_1`);
INSERT INTO yeldro_check VALUES ('step 1: remove sensor', 1, ROW_COUNT());

-- There must be no groups that would lose every row
INSERT INTO yeldro_check
SELECT 'there are groups that would lose every row', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT (SELECT COUNT(*) AS `count_1` FROM (SELECT DISTINCT `yeldro_1_1`.`yeldro_kept_0` AS `yeldro_kept_0` FROM `yeldro_1_1`) AS `anon_1`) - (SELECT COUNT(*) AS `count_2` FROM `sensor` WHERE `sensor`.`id` IN (SELECT DISTINCT `yeldro_1_1`.`yeldro_kept_0` FROM `yeldro_1_1`)) AS `yeldro_lost`) AS yeldro_found) AS yeldro_question;

SET @yeldro_end = IF((SELECT count(*) FROM yeldro_check WHERE expected = found) = 4, 'COMMIT', 'ROLLBACK');
PREPARE yeldro_end FROM @yeldro_end;
EXECUTE yeldro_end;
DEALLOCATE PREPARE yeldro_end;
DROP TEMPORARY TABLE yeldro_check;
SET SESSION foreign_key_checks = 1;
