SET DEFINE OFF
-- visit --where 'visit_no = 1'
-- For Oracle 12c or newer: sqlplus USER@DATABASE @script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: e4506c7d3da3bbc9df447bd6fdb08ec772663b8a4315b1e7dc0240cac1b444d6
-- Rows that go or change: part_used 2, visit 3.
-- Rights: to read, change and remove rows of part_used, visit, and to read the tables that reference them; SELECT on the tables, so that ALL_CONSTRAINTS and ALL_TRIGGERS show them.
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
AND p.OWNER = SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA') AND p.TABLE_NAME IN ('PART_USED', 'VISIT')
 AND NOT (k.TABLE_NAME = 'PART_USED' AND m.COLUMN_NAME = 'BUOY_ID' AND p.TABLE_NAME = 'VISIT' AND o.COLUMN_NAME = 'BUOY_ID'
 OR k.TABLE_NAME = 'PART_USED' AND m.COLUMN_NAME = 'VISIT_NO' AND p.TABLE_NAME = 'VISIT' AND o.COLUMN_NAME = 'VISIT_NO')) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 0) THEN
    RAISE_APPLICATION_ERROR(-20001, 'the foreign keys to part_used, visit are not those of the plan');
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
AND p.OWNER = SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA') AND p.TABLE_NAME IN ('PART_USED', 'VISIT')) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 2) THEN
    RAISE_APPLICATION_ERROR(-20001, 'the foreign keys to part_used, visit are not those of the plan');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/
DECLARE found NUMBER;
BEGIN
  SELECT (SELECT COUNT(*) FROM ALL_TRIGGERS t WHERE t.STATUS = 'ENABLED'
AND t.TABLE_OWNER = SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA') AND t.TABLE_NAME IN ('PART_USED', 'VISIT')) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 0) THEN
    RAISE_APPLICATION_ERROR(-20001, 'there are triggers of part_used, visit that the plan does not know');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/

-- step 1: remove part_used, 2 rows; part_used.buoy_id,visit_no -> visit.buoy_id,visit_no (cascade)
BEGIN
  DELETE FROM "PART_USED" WHERE "BUOY_ID" = 1 AND "VISIT_NO" = 1 AND "PART" = 'bolt'
 OR "BUOY_ID" = 3 AND "VISIT_NO" = 1 AND "PART" = 'bolt';
  IF SQL%ROWCOUNT <> 2 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 1: remove part_used, and 2 rows were expected');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/

-- step 2: remove visit, 3 rows; matched
DECLARE found NUMBER;
BEGIN
  SELECT (SELECT COUNT(*) FROM "PART_USED" WHERE "BUOY_ID" = 1 AND "VISIT_NO" = 1
 OR "BUOY_ID" = 2 AND "VISIT_NO" = 1
 OR "BUOY_ID" = 3 AND "VISIT_NO" = 1) INTO found FROM DUAL;
  IF found IS NULL OR NOT (found = 0) THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 2: remove visit: other rows reference its rows by part_used.buoy_id,visit_no -> visit.buoy_id,visit_no');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/
BEGIN
  DELETE FROM "VISIT" WHERE "BUOY_ID" = 1 AND "VISIT_NO" = 1
 OR "BUOY_ID" = 2 AND "VISIT_NO" = 1
 OR "BUOY_ID" = 3 AND "VISIT_NO" = 1;
  IF SQL%ROWCOUNT <> 3 THEN
    RAISE_APPLICATION_ERROR(-20001, 'step 2: remove visit, and 3 rows were expected');
  END IF;
  :yeldro_passed := :yeldro_passed + 1;
END;
/

BEGIN
  IF :yeldro_passed = 6 THEN
    COMMIT;
  ELSE
    ROLLBACK;
    RAISE_APPLICATION_ERROR(-20001, 'A check did not pass; all is rolled back.');
  END IF;
END;
/
