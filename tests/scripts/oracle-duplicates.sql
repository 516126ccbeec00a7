-- sensor --duplicates-by buoy_id,kind --keep lowest:id
-- For Oracle 18c or newer: sqlplus USER@DATABASE @script.sql
-- Counted on buoys.db.
-- Rows that go or change: sensor 1.
-- Any other count stops the script, and everything is rolled back.
WHENEVER SQLERROR EXIT FAILURE ROLLBACK
SET AUTOCOMMIT OFF
SET DEFINE OFF
SET SQLBLANKLINES ON
ALTER SESSION SET NLS_DATE_FORMAT = 'YYYY-MM-DD';
ALTER SESSION SET NLS_TIMESTAMP_FORMAT = 'YYYY-MM-DD HH24:MI:SS';
SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;

CREATE PRIVATE TEMPORARY TABLE ORA$PTT_yeldro_1_1 ON COMMIT DROP DEFINITION AS WITH yeldro_first (id, yeldro_kept_0) AS (SELECT yeldro_grouped.yeldro_own_0, yeldro_grouped.yeldro_kept_0 FROM (SELECT sensor.id AS yeldro_own_0, FIRST_VALUE(sensor.id) OVER (PARTITION BY sensor.buoy_id, sensor.kind ORDER BY sensor.id ASC NULLS FIRST) AS yeldro_kept_0 FROM sensor) yeldro_grouped) SELECT id, yeldro_kept_0 FROM yeldro_first WHERE 1 = 0;

INSERT INTO ORA$PTT_yeldro_1_1 (id, yeldro_kept_0) SELECT yeldro_grouped.yeldro_own_0, yeldro_grouped.yeldro_kept_0 FROM (SELECT sensor.id AS yeldro_own_0, FIRST_VALUE(sensor.id) OVER (PARTITION BY sensor.buoy_id, sensor.kind ORDER BY sensor.id ASC NULLS FIRST) AS yeldro_kept_0 FROM sensor) yeldro_grouped WHERE yeldro_grouped.yeldro_own_0 <> yeldro_grouped.yeldro_kept_0 ORDER BY yeldro_grouped.yeldro_own_0 NULLS FIRST;

-- step 1: remove sensor, 1 row; matched
BEGIN
  DELETE FROM sensor WHERE sensor.id IN (SELECT ORA$PTT_yeldro_1_1.id FROM ORA$PTT_yeldro_1_1);
  IF SQL%ROWCOUNT <> 1 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 1: remove sensor, and 1 rows were expected');
  END IF;
END;
/

-- There must be no groups that would lose every row
DECLARE found NUMBER;
BEGIN
  SELECT (SELECT (SELECT COUNT(*) AS count_1 FROM (SELECT DISTINCT ORA$PTT_yeldro_1_1.yeldro_kept_0 AS yeldro_kept_0 FROM ORA$PTT_yeldro_1_1) anon_1) - (SELECT COUNT(*) AS count_2 FROM sensor WHERE sensor.id IN (SELECT DISTINCT ORA$PTT_yeldro_1_1.yeldro_kept_0 FROM ORA$PTT_yeldro_1_1)) AS yeldro_lost FROM DUAL) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 0) THEN
    RAISE_APPLICATION_ERROR(-20001, 'there are groups that would lose every row');
  END IF;
END;
/

COMMIT;
