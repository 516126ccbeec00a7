-- visit --where 'visit_no = 1'
-- For SQL Server 2016 or newer: sqlcmd -b -d DATABASE -i script.sql
-- Counted on buoys.db.
-- Rows that go or change: part_used 2, visit 3.
-- Any other count stops the script, and everything is rolled back.
SET XACT_ABORT ON;
SET NOCOUNT ON;
SET QUOTED_IDENTIFIER ON;
SET DATEFORMAT ymd;
SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;
BEGIN TRANSACTION;

DROP TABLE IF EXISTS #yeldro_1_1;

SELECT buoy_id, visit_no INTO #yeldro_1_1 FROM (SELECT visit.buoy_id, visit.visit_no FROM visit) AS yeldro_first (buoy_id, visit_no) WHERE 1 = 0 UNION ALL SELECT buoy_id, visit_no FROM (SELECT visit.buoy_id, visit.visit_no FROM visit) AS yeldro_first (buoy_id, visit_no) WHERE 1 = 0;

INSERT INTO #yeldro_1_1 (buoy_id, visit_no) SELECT visit.buoy_id, visit.visit_no FROM visit WHERE (visit_no = 1);

-- step 1: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DELETE FROM part_used WHERE EXISTS(SELECT 1 FROM (SELECT #yeldro_1_1.buoy_id AS yeldro_c0, #yeldro_1_1.visit_no AS yeldro_c1 FROM #yeldro_1_1) AS yeldro_row WHERE yeldro_row.yeldro_c0 = part_used.buoy_id AND yeldro_row.yeldro_c1 = part_used.visit_no);
IF @@ROWCOUNT <> 2 THROW 50001, N'step 1: remove part_used, and 2 rows were expected', 1;

-- step 2: remove visit, 3 rows; matched
DELETE FROM visit WHERE EXISTS(SELECT 1 FROM (SELECT #yeldro_1_1.buoy_id AS yeldro_c0, #yeldro_1_1.visit_no AS yeldro_c1 FROM #yeldro_1_1) AS yeldro_row WHERE yeldro_row.yeldro_c0 = visit.buoy_id AND yeldro_row.yeldro_c1 = visit.visit_no);
IF @@ROWCOUNT <> 3 THROW 50001, N'step 2: remove visit, and 3 rows were expected', 1;

COMMIT TRANSACTION;
