SET DEFINE OFF
-- sensor --duplicates-by buoy_id,kind --keep lowest:id
-- For Oracle 12c or newer: sqlplus USER@DATABASE @script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: 1477d2a15ed97e35ac971deca2f32aa7c9d9d75d170e0f542cb9435c5fa6f53c
-- Rows that go or change: sensor 1.
-- Rights: to read, change and remove rows of sensor, and to read the tables that reference them; SELECT on the tables, so that ALL_CONSTRAINTS and ALL_TRIGGERS show them.
-- Any other count stops the script, and everything is rolled back.
WHENEVER SQLERROR EXIT FAILURE ROLLBACK
WHENEVER OSERROR EXIT FAILURE ROLLBACK
SET EXITCOMMIT OFF
SET AUTOCOMMIT OFF
SET SQLBLANKLINES ON
VARIABLE yeldro_passed NUMBER
EXECUTE :yeldro_passed := 0
ALTER SESSION SET NLS_COMP = BINARY;
ALTER SESSION SET NLS_SORT = BINARY;
SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;

-- The foreign keys and triggers must be those of the plan.
DECLARE found NUMBER;
BEGIN
  SELECT (SELECT COUNT(*) FROM ALL_CONSTRAINTS k
JOIN ALL_CONSTRAINTS p ON p.OWNER = k.R_OWNER AND p.CONSTRAINT_NAME = k.R_CONSTRAINT_NAME
JOIN ALL_CONS_COLUMNS m ON m.OWNER = k.OWNER AND m.CONSTRAINT_NAME = k.CONSTRAINT_NAME
JOIN ALL_CONS_COLUMNS o ON o.OWNER = p.OWNER AND o.CONSTRAINT_NAME = p.CONSTRAINT_NAME
AND o.POSITION = m.POSITION
WHERE k.CONSTRAINT_TYPE = 'R' AND k.STATUS = 'ENABLED'
AND p.OWNER = SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA') AND p.TABLE_NAME IN ('SENSOR')) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 0) THEN
    RAISE_APPLICATION_ERROR(-20001, 'the foreign keys to sensor are not those of the plan');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/
DECLARE found NUMBER;
BEGIN
  SELECT (SELECT COUNT(*) FROM ALL_TRIGGERS t WHERE t.STATUS = 'ENABLED'
AND t.TABLE_OWNER = SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA') AND t.TABLE_NAME IN ('SENSOR')) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 0) THEN
    RAISE_APPLICATION_ERROR(-20001, 'there are triggers of sensor that the plan does not know');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/

-- step 1: remove sensor, 1 row; matched
BEGIN
  DELETE FROM "SENSOR" WHERE "ID" IN (5);
  IF SQL%ROWCOUNT <> 1 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 1: remove sensor, and 1 row was expected');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/

BEGIN
  IF :yeldro_passed = 3 THEN
    COMMIT;
  ELSE
    ROLLBACK;
    RAISE_APPLICATION_ERROR(-20001, 'A check did not pass; all is rolled back.');
  END IF;
END;
/
