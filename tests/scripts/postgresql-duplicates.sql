-- sensor --duplicates-by buoy_id,kind --keep lowest:id
-- For PostgreSQL 12 or newer: psql -d DATABASE -f script.sql
-- Counted on buoys.db.
-- Rows that go or change: sensor 1.
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
WHERE k.confrelid IN ('"sensor"'::regclass)) INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'the foreign keys to sensor are not those of the plan: found %', found;
  END IF;
END
$yeldro$;
DO $yeldro$
DECLARE found bigint;
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

CREATE TEMPORARY TABLE "yeldro_1_1" AS WITH "yeldro_first" ("id", "yeldro_kept_0") AS (SELECT "yeldro_grouped"."yeldro_own_0", "yeldro_grouped"."yeldro_kept_0" FROM (SELECT "sensor"."id" AS "yeldro_own_0", FIRST_VALUE("sensor"."id") OVER (PARTITION BY "sensor"."buoy_id", "sensor"."kind" ORDER BY "sensor"."id" ASC NULLS FIRST) AS "yeldro_kept_0" FROM "sensor") AS "yeldro_grouped") SELECT "id", "yeldro_kept_0" FROM "yeldro_first" WHERE 1 = 0;

INSERT INTO "yeldro_1_1" ("id", "yeldro_kept_0") SELECT "yeldro_grouped"."yeldro_own_0", "yeldro_grouped"."yeldro_kept_0" FROM (SELECT "sensor"."id" AS "yeldro_own_0", FIRST_VALUE("sensor"."id") OVER (PARTITION BY "sensor"."buoy_id", "sensor"."kind" ORDER BY "sensor"."id" ASC NULLS FIRST) AS "yeldro_kept_0" FROM "sensor") AS "yeldro_grouped" WHERE "yeldro_grouped"."yeldro_own_0" <> "yeldro_grouped"."yeldro_kept_0" ORDER BY "yeldro_grouped"."yeldro_own_0" NULLS FIRST;

-- step 1: remove sensor, 1 row; matched
DO $yeldro$
DECLARE found bigint;
BEGIN
  DELETE FROM "sensor" WHERE "sensor"."id" IN (SELECT "yeldro_1_1"."id" FROM "yeldro_1_1");
  GET DIAGNOSTICS found = ROW_COUNT;
  IF found <> 1 THEN
    RAISE EXCEPTION '% rows: step 1: remove sensor, and 1 row was expected', found;
  END IF;
END
$yeldro$;

-- There must be no groups that would lose every row
DO $yeldro$
DECLARE found bigint;
BEGIN
  SELECT (SELECT (SELECT COUNT(*) AS "count_1" FROM (SELECT DISTINCT "yeldro_1_1"."yeldro_kept_0" AS "yeldro_kept_0" FROM "yeldro_1_1") AS "anon_1") - (SELECT COUNT(*) AS "count_2" FROM "sensor" WHERE "sensor"."id" IN (SELECT DISTINCT "yeldro_1_1"."yeldro_kept_0" FROM "yeldro_1_1")) AS "yeldro_lost") INTO found;
  IF (found = 0) IS NOT TRUE THEN
    RAISE EXCEPTION 'there are groups that would lose every row: found %', found;
  END IF;
END
$yeldro$;

COMMIT;
