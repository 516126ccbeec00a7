SET DEFINE OFF
-- buoy --where "retired_on < '2020-01-01'" --follow visit
-- For Oracle 12c or newer: sqlplus USER@DATABASE @script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: 3f63bd1357a612055fc271c25cb050654f2dab8b7bd4472f368486952d620741
-- Rows that go or change: buoy 3, part_used 2, visit 2, sensor 2.
-- Rights: to read, change and remove rows of buoy, part_used, visit, sensor, and to read the tables that reference them; SELECT on the tables, so that ALL_CONSTRAINTS and ALL_TRIGGERS show them.
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
AND p.OWNER = SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA') AND p.TABLE_NAME IN ('PART_USED', 'VISIT', 'SENSOR', 'BUOY')
 AND NOT (k.TABLE_NAME = 'BUOY' AND m.COLUMN_NAME = 'REPLACES_ID' AND p.TABLE_NAME = 'BUOY' AND o.COLUMN_NAME = 'ID'
 OR k.TABLE_NAME = 'SENSOR' AND m.COLUMN_NAME = 'BUOY_ID' AND p.TABLE_NAME = 'BUOY' AND o.COLUMN_NAME = 'ID'
 OR k.TABLE_NAME = 'VISIT' AND m.COLUMN_NAME = 'BUOY_ID' AND p.TABLE_NAME = 'BUOY' AND o.COLUMN_NAME = 'ID'
 OR k.TABLE_NAME = 'PART_USED' AND m.COLUMN_NAME = 'BUOY_ID' AND p.TABLE_NAME = 'VISIT' AND o.COLUMN_NAME = 'BUOY_ID'
 OR k.TABLE_NAME = 'PART_USED' AND m.COLUMN_NAME = 'VISIT_NO' AND p.TABLE_NAME = 'VISIT' AND o.COLUMN_NAME = 'VISIT_NO')) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 0) THEN
    RAISE_APPLICATION_ERROR(-20001, 'the foreign keys to part_used, visit, sensor, buoy are not those of the plan');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/
DECLARE found NUMBER;
BEGIN
  SELECT (SELECT COUNT(*) FROM ALL_CONSTRAINTS k
JOIN ALL_CONSTRAINTS p ON p.OWNER = k.R_OWNER AND p.CONSTRAINT_NAME = k.R_CONSTRAINT_NAME
JOIN ALL_CONS_COLUMNS m ON m.OWNER = k.OWNER AND m.CONSTRAINT_NAME = k.CONSTRAINT_NAME
JOIN ALL_CONS_COLUMNS o ON o.OWNER = p.OWNER AND o.CONSTRAINT_NAME = p.CONSTRAINT_NAME
AND o.POSITION = m.POSITION
WHERE k.CONSTRAINT_TYPE = 'R' AND k.STATUS = 'ENABLED'
AND p.OWNER = SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA') AND p.TABLE_NAME IN ('PART_USED', 'VISIT', 'SENSOR', 'BUOY')) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 5) THEN
    RAISE_APPLICATION_ERROR(-20001, 'the foreign keys to part_used, visit, sensor, buoy are not those of the plan');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/
DECLARE found NUMBER;
BEGIN
  SELECT (SELECT COUNT(*) FROM ALL_TRIGGERS t WHERE t.STATUS = 'ENABLED'
AND t.TABLE_OWNER = SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA') AND t.TABLE_NAME IN ('BUOY', 'PART_USED', 'VISIT', 'SENSOR')) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 0) THEN
    RAISE_APPLICATION_ERROR(-20001, 'there are triggers of buoy, part_used, visit, sensor that the plan does not know');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/

-- step 1: detach buoy, 1 row; buoy.replaces_id -> buoy.id (set null)
BEGIN
  UPDATE "BUOY" SET "REPLACES_ID" = NULL WHERE "ID" IN (2);
  IF SQL%ROWCOUNT <> 1 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 1: detach buoy, and 1 row was expected');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/

-- step 2: remove part_used, 2 rows; part_used.buoy_id,visit_no -> visit.buoy_id,visit_no (cascade)
BEGIN
  DELETE FROM "PART_USED" WHERE "BUOY_ID" = 1 AND "VISIT_NO" = 1 AND "PART" = 'bolt'
 OR "BUOY_ID" = 1 AND "VISIT_NO" = 2 AND "PART" = 'nut';
  IF SQL%ROWCOUNT <> 2 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 2: remove part_used, and 2 rows were expected');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/

-- step 3: remove visit, 2 rows; visit.buoy_id -> buoy.id (--follow visit)
DECLARE found NUMBER;
BEGIN
  SELECT (SELECT COUNT(*) FROM "PART_USED" WHERE "BUOY_ID" = 1 AND "VISIT_NO" = 1
 OR "BUOY_ID" = 1 AND "VISIT_NO" = 2) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 0) THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 3: remove visit: other rows reference its rows by part_used.buoy_id,visit_no -> visit.buoy_id,visit_no');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/
BEGIN
  DELETE FROM "VISIT" WHERE "BUOY_ID" = 1 AND "VISIT_NO" = 1
 OR "BUOY_ID" = 1 AND "VISIT_NO" = 2;
  IF SQL%ROWCOUNT <> 2 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 3: remove visit, and 2 rows were expected');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/

-- step 4: remove sensor, 2 rows; sensor.buoy_id -> buoy.id (cascade)
BEGIN
  DELETE FROM "SENSOR" WHERE "ID" IN (1, 2);
  IF SQL%ROWCOUNT <> 2 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 4: remove sensor, and 2 rows were expected');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/

-- step 5: remove buoy, 2 rows; matched
DECLARE found NUMBER;
BEGIN
  SELECT (SELECT COUNT(*) FROM "BUOY" WHERE "REPLACES_ID" IN (1, 4)) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 0) THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 5: remove buoy: other rows reference its rows by buoy.replaces_id -> buoy.id');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/
DECLARE found NUMBER;
BEGIN
  SELECT (SELECT COUNT(*) FROM "SENSOR" WHERE "BUOY_ID" IN (1, 4)) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 0) THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 5: remove buoy: other rows reference its rows by sensor.buoy_id -> buoy.id');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/
DECLARE found NUMBER;
BEGIN
  SELECT (SELECT COUNT(*) FROM "VISIT" WHERE "BUOY_ID" IN (1, 4)) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 0) THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 5: remove buoy: other rows reference its rows by visit.buoy_id -> buoy.id');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/
BEGIN
  DELETE FROM "BUOY" WHERE "ID" IN (1, 4);
  IF SQL%ROWCOUNT <> 2 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 5: remove buoy, and 2 rows were expected');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/

BEGIN
  IF :yeldro_passed = 12 THEN
    COMMIT;
  ELSE
    ROLLBACK;
    RAISE_APPLICATION_ERROR(-20001, 'A check did not pass; all is rolled back.');
  END IF;
END;
/
