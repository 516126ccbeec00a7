-- buoy --where "retired_on < '2020-01-01'" --follow visit
-- For PostgreSQL 12 or newer: psql -d DATABASE -f script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: bc7ecc77a982ba6dfbb67f7508c636bc94a2a4dbab1c4e248001ab9162806a27
-- Rows that go or change: buoy 3, part_used 2, visit 2, sensor 2.
-- Rights: to read, change and remove rows of buoy, part_used, visit, sensor, and to read the tables that reference them.
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
WHERE k.confrelid IN ('"part_used"'::regclass, '"visit"'::regclass, '"sensor"'::regclass, '"buoy"'::regclass)
 AND NOT (k.conrelid = '"buoy"'::regclass AND m.attname = 'replaces_id' AND k.confrelid = '"buoy"'::regclass AND o.attname = 'id'
 OR k.conrelid = '"sensor"'::regclass AND m.attname = 'buoy_id' AND k.confrelid = '"buoy"'::regclass AND o.attname = 'id'
 OR k.conrelid = '"visit"'::regclass AND m.attname = 'buoy_id' AND k.confrelid = '"buoy"'::regclass AND o.attname = 'id'
 OR k.conrelid = '"part_used"'::regclass AND m.attname = 'buoy_id' AND k.confrelid = '"visit"'::regclass AND o.attname = 'buoy_id'
 OR k.conrelid = '"part_used"'::regclass AND m.attname = 'visit_no' AND k.confrelid = '"visit"'::regclass AND o.attname = 'visit_no')) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'the foreign keys to part_used, visit, sensor, buoy are not those of the plan: found %', found;
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
WHERE k.confrelid IN ('"part_used"'::regclass, '"visit"'::regclass, '"sensor"'::regclass, '"buoy"'::regclass)) INTO found;
  IF (found = 5) IS NOT TRUE THEN
    RAISE EXCEPTION 'the foreign keys to part_used, visit, sensor, buoy are not those of the plan: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found numeric;
BEGIN
  SELECT (SELECT COUNT(*) FROM (SELECT tgrelid AS relation, tgname AS name FROM pg_catalog.pg_trigger
WHERE NOT tgisinternal AND tgenabled IN ('O', 'A') AND tgtype & 28 > 0
UNION ALL SELECT ev_class, rulename FROM pg_catalog.pg_rewrite
WHERE rulename <> '_RETURN' AND ev_enabled IN ('O', 'A')) AS t WHERE t.relation IN ('"buoy"'::regclass, '"part_used"'::regclass, '"visit"'::regclass, '"sensor"'::regclass)) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'there are triggers of buoy, part_used, visit, sensor that the plan does not know: found %', found;
  END IF;
END
$yeldro$;

-- step 1: detach buoy, 1 row; buoy.replaces_id → buoy.id (set null)
DO $yeldro$
DECLARE found numeric;
BEGIN
  UPDATE "buoy" SET "replaces_id" = NULL WHERE "id" IN (2);
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 1 THEN
    RAISE EXCEPTION '% rows: step 1: detach buoy, and 1 row was expected', found;
  END IF;
END
$yeldro$;

-- step 2: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DO $yeldro$
DECLARE found numeric;
BEGIN
  DELETE FROM "part_used" WHERE "buoy_id" = 1 AND "visit_no" = 1 AND "part" = 'bolt'
 OR "buoy_id" = 1 AND "visit_no" = 2 AND "part" = 'nut';
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 2 THEN
    RAISE EXCEPTION '% rows: step 2: remove part_used, and 2 rows were expected', found;
  END IF;
END
$yeldro$;

-- step 3: remove visit, 2 rows; visit.buoy_id → buoy.id (--follow visit)
DO $yeldro$
DECLARE found numeric;
BEGIN
  SELECT (SELECT COUNT(*) FROM "part_used" WHERE "buoy_id" = 1 AND "visit_no" = 1
 OR "buoy_id" = 1 AND "visit_no" = 2) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'step 3: remove visit: other rows reference its rows by part_used.buoy_id,visit_no → visit.buoy_id,visit_no: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found numeric;
BEGIN
  DELETE FROM "visit" WHERE "buoy_id" = 1 AND "visit_no" = 1
 OR "buoy_id" = 1 AND "visit_no" = 2;
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 2 THEN
    RAISE EXCEPTION '% rows: step 3: remove visit, and 2 rows were expected', found;
  END IF;
END
$yeldro$;

-- step 4: remove sensor, 2 rows; sensor.buoy_id → buoy.id (cascade)
DO $yeldro$
DECLARE found numeric;
BEGIN
  DELETE FROM "sensor" WHERE "id" IN (1, 2);
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 2 THEN
    RAISE EXCEPTION '% rows: step 4: remove sensor, and 2 rows were expected', found;
  END IF;
END
$yeldro$;

-- step 5: remove buoy, 2 rows; matched
DO $yeldro$
DECLARE found numeric;
BEGIN
  SELECT (SELECT COUNT(*) FROM "buoy" WHERE "replaces_id" IN (1, 4)) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'step 5: remove buoy: other rows reference its rows by buoy.replaces_id → buoy.id: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found numeric;
BEGIN
  SELECT (SELECT COUNT(*) FROM "sensor" WHERE "buoy_id" IN (1, 4)) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'step 5: remove buoy: other rows reference its rows by sensor.buoy_id → buoy.id: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found numeric;
BEGIN
  SELECT (SELECT COUNT(*) FROM "visit" WHERE "buoy_id" IN (1, 4)) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'step 5: remove buoy: other rows reference its rows by visit.buoy_id → buoy.id: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found numeric;
BEGIN
  DELETE FROM "buoy" WHERE "id" IN (1, 4);
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 2 THEN
    RAISE EXCEPTION '% rows: step 5: remove buoy, and 2 rows were expected', found;
  END IF;
END
$yeldro$;

COMMIT;
