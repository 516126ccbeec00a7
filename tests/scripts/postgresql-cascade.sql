-- visit --where 'visit_no = 1'
-- For PostgreSQL 12 or newer: psql -d DATABASE -f script.sql
-- Counted on buoys.db.
-- Rows that go or change: part_used 2, visit 3.
-- Any other count stops the script, and everything is rolled back.
\set ON_ERROR_STOP on
SET client_encoding = 'UTF8';
SET standard_conforming_strings = on;
BEGIN ISOLATION LEVEL REPEATABLE READ;

CREATE TEMPORARY TABLE yeldro_1_1 AS WITH yeldro_first (buoy_id, visit_no) AS (SELECT visit.buoy_id, visit.visit_no FROM visit) SELECT buoy_id, visit_no FROM yeldro_first WHERE 1 = 0;

INSERT INTO yeldro_1_1 (buoy_id, visit_no) SELECT visit.buoy_id, visit.visit_no FROM visit WHERE (visit_no = 1);

-- step 1: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DO $yeldro$
DECLARE found bigint;
BEGIN
  DELETE FROM part_used WHERE EXISTS(SELECT 1 FROM (SELECT yeldro_1_1.buoy_id AS yeldro_c0, yeldro_1_1.visit_no AS yeldro_c1 FROM yeldro_1_1) AS yeldro_row WHERE yeldro_row.yeldro_c0 = part_used.buoy_id AND yeldro_row.yeldro_c1 = part_used.visit_no);
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 2 THEN
    RAISE EXCEPTION '% rows: step 1: remove part_used, and 2 were expected', found;
  END IF;
END
$yeldro$;

-- step 2: remove visit, 3 rows; matched
DO $yeldro$
DECLARE found bigint;
BEGIN
  DELETE FROM visit WHERE EXISTS(SELECT 1 FROM (SELECT yeldro_1_1.buoy_id AS yeldro_c0, yeldro_1_1.visit_no AS yeldro_c1 FROM yeldro_1_1) AS yeldro_row WHERE yeldro_row.yeldro_c0 = visit.buoy_id AND yeldro_row.yeldro_c1 = visit.visit_no);
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 3 THEN
    RAISE EXCEPTION '% rows: step 2: remove visit, and 3 were expected', found;
  END IF;
END
$yeldro$;

COMMIT;
