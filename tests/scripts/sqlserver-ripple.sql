-- buoy --where "retired_on < '2020-01-01'" --follow visit
-- For SQL Server 2016 or newer: sqlcmd -b -d DATABASE -i script.sql
-- Counted on buoys.db.
-- Rows that go or change: buoy 3, part_used 2, visit 2, sensor 2.
-- Any other count stops the script, and everything is rolled back.
SET XACT_ABORT ON;
SET NOCOUNT ON;
SET QUOTED_IDENTIFIER ON;
SET DATEFORMAT ymd;
SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;
BEGIN TRANSACTION;

DROP TABLE IF EXISTS #yeldro_1_1;

SELECT id INTO #yeldro_1_1 FROM (SELECT buoy.id FROM buoy) AS yeldro_first (id) WHERE 1 = 0 UNION ALL SELECT id FROM (SELECT buoy.id FROM buoy) AS yeldro_first (id) WHERE 1 = 0;

INSERT INTO #yeldro_1_1 (id) SELECT buoy.id FROM buoy WHERE (retired_on < '2020-01-01');

DROP TABLE IF EXISTS #yeldro_1_2;

SELECT buoy_id, visit_no INTO #yeldro_1_2 FROM (SELECT visit.buoy_id, visit.visit_no FROM visit) AS yeldro_first (buoy_id, visit_no) WHERE 1 = 0 UNION ALL SELECT buoy_id, visit_no FROM (SELECT visit.buoy_id, visit.visit_no FROM visit) AS yeldro_first (buoy_id, visit_no) WHERE 1 = 0;

INSERT INTO #yeldro_1_2 (buoy_id, visit_no) SELECT visit.buoy_id, visit.visit_no FROM visit WHERE visit.buoy_id IN (SELECT #yeldro_1_1.id FROM #yeldro_1_1);

-- step 1: detach buoy, 1 row; buoy.replaces_id → buoy.id (set null)
UPDATE buoy SET replaces_id = NULL WHERE buoy.replaces_id IN (SELECT #yeldro_1_1.id FROM #yeldro_1_1) AND NOT (EXISTS(SELECT 1 AS anon_1 FROM #yeldro_1_1 WHERE #yeldro_1_1.id = buoy.id));
IF @@ROWCOUNT <> 1 THROW 50001, N'step 1: detach buoy, and 1 rows were expected', 1;

-- step 2: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DELETE FROM part_used WHERE EXISTS(SELECT 1 FROM (SELECT #yeldro_1_2.buoy_id AS yeldro_c0, #yeldro_1_2.visit_no AS yeldro_c1 FROM #yeldro_1_2) AS yeldro_row WHERE yeldro_row.yeldro_c0 = part_used.buoy_id AND yeldro_row.yeldro_c1 = part_used.visit_no);
IF @@ROWCOUNT <> 2 THROW 50001, N'step 2: remove part_used, and 2 rows were expected', 1;

-- step 3: remove visit, 2 rows; visit.buoy_id → buoy.id (--follow visit)
DELETE FROM visit WHERE EXISTS(SELECT 1 FROM (SELECT #yeldro_1_2.buoy_id AS yeldro_c0, #yeldro_1_2.visit_no AS yeldro_c1 FROM #yeldro_1_2) AS yeldro_row WHERE yeldro_row.yeldro_c0 = visit.buoy_id AND yeldro_row.yeldro_c1 = visit.visit_no);
IF @@ROWCOUNT <> 2 THROW 50001, N'step 3: remove visit, and 2 rows were expected', 1;

-- step 4: remove sensor, 2 rows; sensor.buoy_id → buoy.id (cascade)
DELETE FROM sensor WHERE sensor.buoy_id IN (SELECT #yeldro_1_1.id FROM #yeldro_1_1);
IF @@ROWCOUNT <> 2 THROW 50001, N'step 4: remove sensor, and 2 rows were expected', 1;

-- step 5: remove buoy, 2 rows; matched
DELETE FROM buoy WHERE buoy.id IN (SELECT #yeldro_1_1.id FROM #yeldro_1_1);
IF @@ROWCOUNT <> 2 THROW 50001, N'step 5: remove buoy, and 2 rows were expected', 1;

COMMIT TRANSACTION;
