-- buoy --where "retired_on < '2020-01-01'" --follow visit
-- For MariaDB/MySQL 10.6/8.0 or newer: mariadb DATABASE < script.sql
-- Counted on buoys.db.
-- Rows that go or change: buoy 3, part_used 2, visit 2, sensor 2.
-- Any other count stops the script, and everything is rolled back.
SET NAMES utf8mb4;
SET SESSION sql_mode = 'STRICT_TRANS_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
SET SESSION foreign_key_checks = 0; -- dependent rows are removed by separate statements
SET SESSION max_sort_length = 1024, sql_auto_is_null = 0 /*M! , check_constraint_checks = 1 */; -- a CHECK constraint compares the counts
CREATE TEMPORARY TABLE yeldro_check (step TEXT, expected BIGINT, found BIGINT,
  CHECK (expected = found));
START TRANSACTION;

CREATE TEMPORARY TABLE yeldro_1_1 AS WITH yeldro_first (id) AS (SELECT buoy.id FROM buoy) SELECT id FROM yeldro_first WHERE 1 = 0;

INSERT INTO yeldro_1_1 (id) SELECT buoy.id FROM buoy WHERE (retired_on < '2020-01-01');

CREATE TEMPORARY TABLE yeldro_1_2 AS WITH yeldro_first (buoy_id, visit_no) AS (SELECT visit.buoy_id, visit.visit_no FROM visit) SELECT buoy_id, visit_no FROM yeldro_first WHERE 1 = 0;

INSERT INTO yeldro_1_2 (buoy_id, visit_no) SELECT visit.buoy_id, visit.visit_no FROM visit WHERE visit.buoy_id IN (SELECT yeldro_1_1.id FROM yeldro_1_1);

-- step 1: detach buoy, 1 row; buoy.replaces_id → buoy.id (set null)
UPDATE buoy SET replaces_id = NULL WHERE buoy.replaces_id IN (SELECT yeldro_1_1.id FROM yeldro_1_1) AND NOT (EXISTS(SELECT 1 AS anon_1 FROM yeldro_1_1 WHERE yeldro_1_1.id = buoy.id));
INSERT INTO yeldro_check VALUES ('step 1: detach buoy', 1, ROW_COUNT());

-- step 2: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DELETE FROM part_used WHERE EXISTS(SELECT 1 FROM (SELECT yeldro_1_2.buoy_id AS yeldro_c0, yeldro_1_2.visit_no AS yeldro_c1 FROM yeldro_1_2) AS yeldro_row WHERE yeldro_row.yeldro_c0 = part_used.buoy_id AND yeldro_row.yeldro_c1 = part_used.visit_no);
INSERT INTO yeldro_check VALUES ('step 2: remove part_used', 2, ROW_COUNT());

-- step 3: remove visit, 2 rows; visit.buoy_id → buoy.id (--follow visit)
DELETE FROM visit WHERE EXISTS(SELECT 1 FROM (SELECT yeldro_1_2.buoy_id AS yeldro_c0, yeldro_1_2.visit_no AS yeldro_c1 FROM yeldro_1_2) AS yeldro_row WHERE yeldro_row.yeldro_c0 = visit.buoy_id AND yeldro_row.yeldro_c1 = visit.visit_no);
INSERT INTO yeldro_check VALUES ('step 3: remove visit', 2, ROW_COUNT());

-- step 4: remove sensor, 2 rows; sensor.buoy_id → buoy.id (cascade)
DELETE FROM sensor WHERE sensor.buoy_id IN (SELECT yeldro_1_1.id FROM yeldro_1_1);
INSERT INTO yeldro_check VALUES ('step 4: remove sensor', 2, ROW_COUNT());

-- step 5: remove buoy, 2 rows; matched
DELETE FROM buoy WHERE buoy.id IN (SELECT yeldro_1_1.id FROM yeldro_1_1);
INSERT INTO yeldro_check VALUES ('step 5: remove buoy', 2, ROW_COUNT());

-- There must be no rows without a parent through buoy.replaces_id → buoy.id
INSERT INTO yeldro_check
SELECT 'there are rows without a parent through buoy.replaces_id → buoy.id', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) AS count_1 FROM buoy WHERE buoy.replaces_id IN (SELECT yeldro_1_1.id FROM yeldro_1_1)) AS yeldro_found) AS yeldro_question;

-- There must be no rows without a parent through sensor.buoy_id → buoy.id
INSERT INTO yeldro_check
SELECT 'there are rows without a parent through sensor.buoy_id → buoy.id', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) AS count_1 FROM sensor WHERE sensor.buoy_id IN (SELECT yeldro_1_1.id FROM yeldro_1_1)) AS yeldro_found) AS yeldro_question;

-- There must be no rows without a parent through visit.buoy_id → buoy.id
INSERT INTO yeldro_check
SELECT 'there are rows without a parent through visit.buoy_id → buoy.id', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) AS count_1 FROM visit WHERE visit.buoy_id IN (SELECT yeldro_1_1.id FROM yeldro_1_1)) AS yeldro_found) AS yeldro_question;

-- There must be no rows without a parent through part_used.buoy_id,visit_no → visit.buoy_id,visit_no
INSERT INTO yeldro_check
SELECT 'there are rows without a parent through part_used.buoy_id,visit_no → visit.buoy_id,visit_no', 1, COALESCE(yeldro_found = 0, 0)
FROM (SELECT (SELECT COUNT(*) AS count_1 FROM part_used WHERE EXISTS(SELECT 1 FROM (SELECT yeldro_1_2.buoy_id AS yeldro_c0, yeldro_1_2.visit_no AS yeldro_c1 FROM yeldro_1_2) AS yeldro_row WHERE yeldro_row.yeldro_c0 = part_used.buoy_id AND yeldro_row.yeldro_c1 = part_used.visit_no)) AS yeldro_found) AS yeldro_question;

SET @yeldro_end = IF((SELECT count(*) FROM yeldro_check WHERE expected = found) = 9, 'COMMIT', 'ROLLBACK');
PREPARE yeldro_end FROM @yeldro_end;
EXECUTE yeldro_end;
DEALLOCATE PREPARE yeldro_end;
DROP TEMPORARY TABLE yeldro_check;
SET SESSION foreign_key_checks = 1;
