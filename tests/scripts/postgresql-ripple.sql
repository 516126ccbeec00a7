-- buoy --where "retired_on < '2020-01-01'" --follow visit
-- For PostgreSQL 12 or newer: psql -d DATABASE -f script.sql
-- Counted on buoys.db.
-- By the rules of PostgreSQL its conditions pick the same of these rows.
-- Rows that go or change: buoy 3, part_used 2, visit 2, sensor 2.
-- Any other count stops the script, and everything is rolled back.
\set ON_ERROR_STOP on
SET client_encoding = 'UTF8';
SET standard_conforming_strings = on;
BEGIN ISOLATION LEVEL REPEATABLE READ;

-- The foreign keys and triggers must be those of the plan.
DO $yeldro$
DECLARE found bigint;
BEGIN
  SELECT (SELECT COUNT(*) FROM (SELECT conrelid, confrelid, confdeltype, unnest(conkey) AS own, unnest(confkey) AS its
FROM pg_catalog.pg_constraint WHERE contype = 'f' AND conparentid = 0
AND NOT (SELECT relispartition FROM pg_catalog.pg_class WHERE oid = conrelid)) AS k
JOIN pg_catalog.pg_attribute AS m ON m.attrelid = k.conrelid AND m.attnum = k.own
JOIN pg_catalog.pg_attribute AS o ON o.attrelid = k.confrelid AND o.attnum = k.its
WHERE k.confrelid IN ('"part_used"'::regclass, '"visit"'::regclass, '"sensor"'::regclass, '"buoy"'::regclass)
 AND NOT (k.conrelid = '"part_used"'::regclass AND m.attname = 'buoy_id' AND k.confrelid = '"visit"'::regclass AND o.attname = 'buoy_id' AND k.confdeltype IN ('c')
 OR k.conrelid = '"part_used"'::regclass AND m.attname = 'visit_no' AND k.confrelid = '"visit"'::regclass AND o.attname = 'visit_no' AND k.confdeltype IN ('c')
 OR k.conrelid = '"buoy"'::regclass AND m.attname = 'replaces_id' AND k.confrelid = '"buoy"'::regclass AND o.attname = 'id' AND k.confdeltype IN ('n')
 OR k.conrelid = '"sensor"'::regclass AND m.attname = 'buoy_id' AND k.confrelid = '"buoy"'::regclass AND o.attname = 'id' AND k.confdeltype IN ('c')
 OR k.conrelid = '"visit"'::regclass AND m.attname = 'buoy_id' AND k.confrelid = '"buoy"'::regclass AND o.attname = 'id' AND k.confdeltype IN ('a','r'))) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'the foreign keys to part_used, visit, sensor, buoy are not those of the plan: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found bigint;
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
DECLARE found bigint;
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

CREATE TEMPORARY TABLE "yeldro_1_1" AS WITH "yeldro_first" ("id") AS (SELECT "buoy"."id" FROM "buoy") SELECT "id" FROM "yeldro_first" WHERE 1 = 0;

INSERT INTO "yeldro_1_1" ("id") SELECT "buoy"."id" FROM "buoy" WHERE ("retired_on" < '2020-01-01');

CREATE TEMPORARY TABLE "yeldro_1_2" AS WITH "yeldro_first" ("buoy_id", "visit_no") AS (SELECT "visit"."buoy_id", "visit"."visit_no" FROM "visit") SELECT "buoy_id", "visit_no" FROM "yeldro_first" WHERE 1 = 0;

INSERT INTO "yeldro_1_2" ("buoy_id", "visit_no") SELECT "visit"."buoy_id", "visit"."visit_no" FROM "visit" WHERE "visit"."buoy_id" IN (SELECT "yeldro_1_1"."id" FROM "yeldro_1_1");

-- step 1: detach buoy, 1 row; buoy.replaces_id → buoy.id (set null)
DO $yeldro$
DECLARE found bigint;
BEGIN
  UPDATE "buoy" SET "replaces_id" = NULL WHERE "buoy"."replaces_id" IN (SELECT "yeldro_1_1"."id" FROM "yeldro_1_1") AND NOT (EXISTS(SELECT 1 AS "anon_1" FROM "yeldro_1_1" WHERE "yeldro_1_1"."id" = "buoy"."id"));
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 1 THEN
    RAISE EXCEPTION '% rows: step 1: detach buoy, and 1 row was expected', found;
  END IF;
END
$yeldro$;

-- step 2: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DO $yeldro$
DECLARE found bigint;
BEGIN
  DELETE FROM "part_used" WHERE EXISTS(SELECT 1 FROM (SELECT "yeldro_1_2"."buoy_id" AS "yeldro_c0", "yeldro_1_2"."visit_no" AS "yeldro_c1" FROM "yeldro_1_2") AS "yeldro_row" WHERE "yeldro_row"."yeldro_c0" = "part_used"."buoy_id" AND "yeldro_row"."yeldro_c1" = "part_used"."visit_no");
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 2 THEN
    RAISE EXCEPTION '% rows: step 2: remove part_used, and 2 rows were expected', found;
  END IF;
END
$yeldro$;

-- step 3: remove visit, 2 rows; visit.buoy_id → buoy.id (--follow visit)
DO $yeldro$
DECLARE found bigint;
BEGIN
  SELECT (SELECT COUNT(*) AS "count_1" FROM "part_used" WHERE EXISTS(SELECT 1 FROM (SELECT "yeldro_1_2"."buoy_id" AS "yeldro_c0", "yeldro_1_2"."visit_no" AS "yeldro_c1" FROM "yeldro_1_2") AS "yeldro_row" WHERE "yeldro_row"."yeldro_c0" = "part_used"."buoy_id" AND "yeldro_row"."yeldro_c1" = "part_used"."visit_no")) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'there are rows that would go or change by part_used.buoy_id,visit_no → visit.buoy_id,visit_no: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found bigint;
BEGIN
  DELETE FROM "visit" WHERE EXISTS(SELECT 1 FROM (SELECT "yeldro_1_2"."buoy_id" AS "yeldro_c0", "yeldro_1_2"."visit_no" AS "yeldro_c1" FROM "yeldro_1_2") AS "yeldro_row" WHERE "yeldro_row"."yeldro_c0" = "visit"."buoy_id" AND "yeldro_row"."yeldro_c1" = "visit"."visit_no");
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 2 THEN
    RAISE EXCEPTION '% rows: step 3: remove visit, and 2 rows were expected', found;
  END IF;
END
$yeldro$;

-- step 4: remove sensor, 2 rows; sensor.buoy_id → buoy.id (cascade)
DO $yeldro$
DECLARE found bigint;
BEGIN
  DELETE FROM "sensor" WHERE "sensor"."buoy_id" IN (SELECT "yeldro_1_1"."id" FROM "yeldro_1_1");
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 2 THEN
    RAISE EXCEPTION '% rows: step 4: remove sensor, and 2 rows were expected', found;
  END IF;
END
$yeldro$;

-- step 5: remove buoy, 2 rows; matched
DO $yeldro$
DECLARE found bigint;
BEGIN
  SELECT (SELECT COUNT(*) AS "count_1" FROM "buoy" WHERE "buoy"."replaces_id" IN (SELECT "yeldro_1_1"."id" FROM "yeldro_1_1") AND NOT (EXISTS(SELECT 1 AS "anon_1" FROM "yeldro_1_1" WHERE "yeldro_1_1"."id" = "buoy"."id"))) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'there are rows that would go or change by buoy.replaces_id → buoy.id: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found bigint;
BEGIN
  SELECT (SELECT COUNT(*) AS "count_1" FROM "sensor" WHERE "sensor"."buoy_id" IN (SELECT "yeldro_1_1"."id" FROM "yeldro_1_1")) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'there are rows that would go or change by sensor.buoy_id → buoy.id: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found bigint;
BEGIN
  DELETE FROM "buoy" WHERE "buoy"."id" IN (SELECT "yeldro_1_1"."id" FROM "yeldro_1_1");
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 2 THEN
    RAISE EXCEPTION '% rows: step 5: remove buoy, and 2 rows were expected', found;
  END IF;
END
$yeldro$;

COMMIT;
