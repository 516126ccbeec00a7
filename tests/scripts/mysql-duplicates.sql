-- sensor --duplicates-by buoy_id,kind --keep lowest:id
-- For MySQL 8.0 or newer: mysql DATABASE < script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: 9b32dd6dae68865acee1bbe15943e15757065f0234315d34c58220f5abaa8250
-- Rows that go or change: sensor 1.
-- Rights: to read, change and remove rows of sensor, and to read the tables that reference them.
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

-- step 1: remove sensor, 1 row; matched
DELETE FROM `sensor` WHERE `id` IN (5);
INSERT INTO yeldro_check VALUES ('step 1: remove sensor', 1, ROW_COUNT());

SET @yeldro_end = IF((SELECT count(*) FROM yeldro_check WHERE expected = found) = 3, 'COMMIT', 'ROLLBACK');
PREPARE yeldro_end FROM @yeldro_end;
EXECUTE yeldro_end;
DEALLOCATE PREPARE yeldro_end;
DROP TEMPORARY TABLE yeldro_check;
SET SESSION foreign_key_checks = 1;
