-- sensor --duplicates-by buoy_id,kind --keep lowest:id
-- For PostgreSQL 12 or newer: psql -d DATABASE -f script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: c9c0cc97440788d7850b883ca11f3874b868f7a1e637b5809821af39d576149b
-- Rows that go or change: sensor 1.
-- Rights: to read, change and remove rows of sensor, and to read the tables that reference them.
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
WHERE k.confrelid IN ('"sensor"'::regclass)) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'the foreign keys to sensor are not those of the plan: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found numeric;
BEGIN
  SELECT (SELECT COUNT(*) FROM (SELECT tgrelid AS relation, tgname AS name FROM pg_catalog.pg_trigger
WHERE NOT tgisinternal AND tgenabled IN ('O', 'A') AND tgtype & 28 > 0
UNION ALL SELECT ev_class, rulename FROM pg_catalog.pg_rewrite
WHERE rulename <> '_RETURN' AND ev_enabled IN ('O', 'A')) AS t WHERE t.relation IN ('"sensor"'::regclass)) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'there are triggers of sensor that the plan does not know: found %', found;
  END IF;
END
$yeldro$;

-- step 1: remove sensor, 1 row; matched
DO $yeldro$
DECLARE found numeric;
BEGIN
  DELETE FROM "sensor" WHERE "id" IN (5);
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 1 THEN
    RAISE EXCEPTION '% rows: step 1: remove sensor, and 1 row was expected', found;
  END IF;
END
$yeldro$;

COMMIT;
