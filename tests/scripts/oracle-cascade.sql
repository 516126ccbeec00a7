-- visit --where 'visit_no = 1'
-- For Oracle 18c or newer: sqlplus USER@DATABASE @script.sql
-- Counted on buoys.db.
-- Rows that go or change: part_used 2, visit 3.
-- Any other count stops the script, and everything is rolled back.
WHENEVER SQLERROR EXIT FAILURE ROLLBACK
SET AUTOCOMMIT OFF
SET DEFINE OFF
SET SQLBLANKLINES ON
ALTER SESSION SET NLS_DATE_FORMAT = 'YYYY-MM-DD';
ALTER SESSION SET NLS_TIMESTAMP_FORMAT = 'YYYY-MM-DD HH24:MI:SS';
SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;

CREATE PRIVATE TEMPORARY TABLE ORA$PTT_yeldro_1_1 ON COMMIT DROP DEFINITION AS WITH yeldro_first (buoy_id, visit_no) AS (SELECT visit.buoy_id, visit.visit_no FROM visit) SELECT buoy_id, visit_no FROM yeldro_first WHERE 1 = 0;

INSERT INTO ORA$PTT_yeldro_1_1 (buoy_id, visit_no) SELECT visit.buoy_id, visit.visit_no FROM visit WHERE (visit_no = 1);

-- step 1: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
BEGIN
  DELETE FROM part_used WHERE EXISTS(SELECT 1 FROM (SELECT ORA$PTT_yeldro_1_1.buoy_id AS yeldro_c0, ORA$PTT_yeldro_1_1.visit_no AS yeldro_c1 FROM ORA$PTT_yeldro_1_1) yeldro_row WHERE yeldro_row.yeldro_c0 = part_used.buoy_id AND yeldro_row.yeldro_c1 = part_used.visit_no);
  IF SQL%ROWCOUNT <> 2 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 1: remove part_used, and 2 rows were expected');
  END IF;
END;
/

-- step 2: remove visit, 3 rows; matched
BEGIN
  DELETE FROM visit WHERE EXISTS(SELECT 1 FROM (SELECT ORA$PTT_yeldro_1_1.buoy_id AS yeldro_c0, ORA$PTT_yeldro_1_1.visit_no AS yeldro_c1 FROM ORA$PTT_yeldro_1_1) yeldro_row WHERE yeldro_row.yeldro_c0 = visit.buoy_id AND yeldro_row.yeldro_c1 = visit.visit_no);
  IF SQL%ROWCOUNT <> 3 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 2: remove visit, and 3 rows were expected');
  END IF;
END;
/

COMMIT;
