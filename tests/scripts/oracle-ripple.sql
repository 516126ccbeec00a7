-- buoy --where "retired_on < '2020-01-01'" --follow visit
-- For Oracle 18c or newer: sqlplus USER@DATABASE @script.sql
-- Counted on buoys.db.
-- Rows that go or change: buoy 3, part_used 2, visit 2, sensor 2.
-- Any other count stops the script, and everything is rolled back.
WHENEVER SQLERROR EXIT FAILURE ROLLBACK
SET AUTOCOMMIT OFF
SET DEFINE OFF
SET SQLBLANKLINES ON
ALTER SESSION SET NLS_DATE_FORMAT = 'YYYY-MM-DD';
ALTER SESSION SET NLS_TIMESTAMP_FORMAT = 'YYYY-MM-DD HH24:MI:SS';
SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;

CREATE PRIVATE TEMPORARY TABLE ORA$PTT_yeldro_1_1 ON COMMIT DROP DEFINITION AS WITH yeldro_first (id) AS (SELECT buoy.id FROM buoy) SELECT id FROM yeldro_first WHERE 1 = 0;

INSERT INTO ORA$PTT_yeldro_1_1 (id) SELECT buoy.id FROM buoy WHERE (retired_on < '2020-01-01');

CREATE PRIVATE TEMPORARY TABLE ORA$PTT_yeldro_1_2 ON COMMIT DROP DEFINITION AS WITH yeldro_first (buoy_id, visit_no) AS (SELECT visit.buoy_id, visit.visit_no FROM visit) SELECT buoy_id, visit_no FROM yeldro_first WHERE 1 = 0;

INSERT INTO ORA$PTT_yeldro_1_2 (buoy_id, visit_no) SELECT visit.buoy_id, visit.visit_no FROM visit WHERE visit.buoy_id IN (SELECT ORA$PTT_yeldro_1_1.id FROM ORA$PTT_yeldro_1_1);

-- step 1: detach buoy, 1 row; buoy.replaces_id → buoy.id (set null)
BEGIN
  UPDATE buoy SET replaces_id = NULL WHERE buoy.replaces_id IN (SELECT ORA$PTT_yeldro_1_1.id FROM ORA$PTT_yeldro_1_1) AND NOT (EXISTS(SELECT 1 AS anon_1 FROM ORA$PTT_yeldro_1_1 WHERE ORA$PTT_yeldro_1_1.id = buoy.id));
  IF SQL%ROWCOUNT <> 1 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 1: detach buoy, and 1 rows were expected');
  END IF;
END;
/

-- step 2: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
BEGIN
  DELETE FROM part_used WHERE EXISTS(SELECT 1 FROM (SELECT ORA$PTT_yeldro_1_2.buoy_id AS yeldro_c0, ORA$PTT_yeldro_1_2.visit_no AS yeldro_c1 FROM ORA$PTT_yeldro_1_2) yeldro_row WHERE yeldro_row.yeldro_c0 = part_used.buoy_id AND yeldro_row.yeldro_c1 = part_used.visit_no);
  IF SQL%ROWCOUNT <> 2 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 2: remove part_used, and 2 rows were expected');
  END IF;
END;
/

-- step 3: remove visit, 2 rows; visit.buoy_id → buoy.id (--follow visit)
BEGIN
  DELETE FROM visit WHERE EXISTS(SELECT 1 FROM (SELECT ORA$PTT_yeldro_1_2.buoy_id AS yeldro_c0, ORA$PTT_yeldro_1_2.visit_no AS yeldro_c1 FROM ORA$PTT_yeldro_1_2) yeldro_row WHERE yeldro_row.yeldro_c0 = visit.buoy_id AND yeldro_row.yeldro_c1 = visit.visit_no);
  IF SQL%ROWCOUNT <> 2 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 3: remove visit, and 2 rows were expected');
  END IF;
END;
/

-- step 4: remove sensor, 2 rows; sensor.buoy_id → buoy.id (cascade)
BEGIN
  DELETE FROM sensor WHERE sensor.buoy_id IN (SELECT ORA$PTT_yeldro_1_1.id FROM ORA$PTT_yeldro_1_1);
  IF SQL%ROWCOUNT <> 2 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 4: remove sensor, and 2 rows were expected');
  END IF;
END;
/

-- step 5: remove buoy, 2 rows; matched
BEGIN
  DELETE FROM buoy WHERE buoy.id IN (SELECT ORA$PTT_yeldro_1_1.id FROM ORA$PTT_yeldro_1_1);
  IF SQL%ROWCOUNT <> 2 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 5: remove buoy, and 2 rows were expected');
  END IF;
END;
/

COMMIT;
