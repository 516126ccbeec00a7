-- visit --where 'visit_no = 1'
-- For PostgreSQL 12 or newer: psql -d DATABASE -f script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: acc404611cbd7431003a2e96518700f405a5b6006a9c7035d1fa057577e7681d
-- Rows that go or change: part_used 2, visit 3.
-- Rights: to read, change and remove rows of part_used, visit, and to read the tables that reference them.
-- Any other count stops the script, and everything is rolled back.
\set ON_ERROR_STOP on
SET client_encoding = 'UTF8';
SET standard_conforming_strings = on;
BEGIN ISOLATION LEVEL REPEATABLE READ;

-- The foreign keys and triggers must be those of the plan.
DO $yeldro$
DECLARE found numeric;
BEGIN
  SELECT (SELECT COUNT(*) FROM (SELECT conrelid, confrelid, confdeltype, unnest(conkey) AS own, unnest(confkey) AS its
FROM pg_catalog.pg_constraint WHERE contype = 'f' AND conparentid = 0
AND NOT (SELECT relispartition FROM pg_catalog.pg_class WHERE oid = conrelid)) AS k
JOIN pg_catalog.pg_attribute AS m ON m.attrelid = k.conrelid AND m.attnum = k.own
JOIN pg_catalog.pg_attribute AS o ON o.attrelid = k.confrelid AND o.attnum = k.its
WHERE k.confrelid IN ('"part_used"'::regclass, '"visit"'::regclass)
 AND NOT (k.conrelid = '"part_used"'::regclass AND m.attname = 'buoy_id' AND k.confrelid = '"visit"'::regclass AND o.attname = 'buoy_id'
 OR k.conrelid = '"part_used"'::regclass AND m.attname = 'visit_no' AND k.confrelid = '"visit"'::regclass AND o.attname = 'visit_no')) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'the foreign keys to part_used, visit are not those of the plan: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found numeric;
BEGIN
  SELECT (SELECT COUNT(*) FROM (SELECT conrelid, confrelid, confdeltype, unnest(conkey) AS own, unnest(confkey) AS its
FROM pg_catalog.pg_constraint WHERE contype = 'f' AND conparentid = 0
AND NOT (SELECT relispartition FROM pg_catalog.pg_class WHERE oid = conrelid)) AS k
JOIN pg_catalog.pg_attribute AS m ON m.attrelid = k.conrelid AND m.attnum = k.own
JOIN pg_catalog.pg_attribute AS o ON o.attrelid = k.confrelid AND o.attnum = k.its
WHERE k.confrelid IN ('"part_used"'::regclass, '"visit"'::regclass)) INTO found;
  IF (found = 2) IS NOT TRUE THEN
    RAISE EXCEPTION 'the foreign keys to part_used, visit are not those of the plan: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found numeric;
BEGIN
  SELECT (SELECT COUNT(*) FROM (SELECT tgrelid AS relation, tgname AS name FROM pg_catalog.pg_trigger
WHERE NOT tgisinternal AND tgenabled IN ('O', 'A') AND tgtype & 28 > 0
UNION ALL SELECT ev_class, rulename FROM pg_catalog.pg_rewrite
WHERE rulename <> '_RETURN' AND ev_enabled IN ('O', 'A')) AS t WHERE t.relation IN ('"part_used"'::regclass, '"visit"'::regclass)) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'there are triggers of part_used, visit that the plan does not know: found %', found;
  END IF;
END
$yeldro$;

-- step 1: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DO $yeldro$
DECLARE found numeric;
BEGIN
  DELETE FROM "part_used" WHERE "buoy_id" = 1 AND "visit_no" = 1 AND "part" = 'bolt'
 OR "buoy_id" = 3 AND "visit_no" = 1 AND "part" = 'bolt';
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 2 THEN
    RAISE EXCEPTION '% rows: step 1: remove part_used, and 2 rows were expected', found;
  END IF;
END
$yeldro$;

-- step 2: remove visit, 3 rows; matched
DO $yeldro$
DECLARE found numeric;
BEGIN
  SELECT (SELECT COUNT(*) FROM "part_used" WHERE "buoy_id" = 1 AND "visit_no" = 1
 OR "buoy_id" = 2 AND "visit_no" = 1
 OR "buoy_id" = 3 AND "visit_no" = 1) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'step 2: remove visit: other rows reference its rows by part_used.buoy_id,visit_no → visit.buoy_id,visit_no: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found numeric;
BEGIN
  DELETE FROM "visit" WHERE "buoy_id" = 1 AND "visit_no" = 1
 OR "buoy_id" = 2 AND "visit_no" = 1
 OR "buoy_id" = 3 AND "visit_no" = 1;
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 3 THEN
    RAISE EXCEPTION '% rows: step 2: remove visit, and 3 rows were expected', found;
  END IF;
END
$yeldro$;

COMMIT;
