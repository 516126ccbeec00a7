-- visit --where 'visit_no = 1'
-- For SQL Server 2016 or newer: sqlcmd -b -x -f 65001 -d DATABASE -i script.sql
-- Counted on buoys.db.
-- By the rules of SQL Server its conditions pick the same of these rows.
-- Rows that go or change: part_used 2, visit 3.
-- Any other count stops the script, and everything is rolled back.
SET XACT_ABORT ON;
SET NOCOUNT ON;
SET QUOTED_IDENTIFIER ON;
SET DATEFORMAT ymd;
SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;
BEGIN TRANSACTION;

-- The foreign keys and triggers must be those of the plan.
IF NOT (CASE WHEN (SELECT COUNT(*) FROM sys.foreign_keys AS k
JOIN sys.foreign_key_columns AS f ON f.constraint_object_id = k.object_id
JOIN sys.columns AS m ON m.object_id = k.parent_object_id AND m.column_id = f.parent_column_id
JOIN sys.columns AS o ON o.object_id = k.referenced_object_id
AND o.column_id = f.referenced_column_id
WHERE k.referenced_object_id IN (OBJECT_ID(N'[part_used]'), OBJECT_ID(N'[visit]'))
 AND NOT (k.parent_object_id = OBJECT_ID(N'[part_used]') AND m.name = N'buoy_id' AND k.referenced_object_id = OBJECT_ID(N'[visit]') AND o.name = N'buoy_id' AND k.delete_referential_action IN (1)
 OR k.parent_object_id = OBJECT_ID(N'[part_used]') AND m.name = N'visit_no' AND k.referenced_object_id = OBJECT_ID(N'[visit]') AND o.name = N'visit_no' AND k.delete_referential_action IN (1))) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'the foreign keys to part_used, visit are not those of the plan', 1;
IF NOT (CASE WHEN (SELECT COUNT(*) FROM sys.foreign_keys AS k
JOIN sys.foreign_key_columns AS f ON f.constraint_object_id = k.object_id
JOIN sys.columns AS m ON m.object_id = k.parent_object_id AND m.column_id = f.parent_column_id
JOIN sys.columns AS o ON o.object_id = k.referenced_object_id
AND o.column_id = f.referenced_column_id
WHERE k.referenced_object_id IN (OBJECT_ID(N'[part_used]'), OBJECT_ID(N'[visit]'))) = 2 THEN 1 ELSE 0 END = 1) THROW 50001, N'the foreign keys to part_used, visit are not those of the plan', 1;
IF NOT (CASE WHEN (SELECT COUNT(*) FROM sys.triggers AS t WHERE t.is_disabled = 0 AND t.parent_id IN (OBJECT_ID(N'[part_used]'), OBJECT_ID(N'[visit]'))) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'there are triggers of part_used, visit that the plan does not know', 1;

DROP TABLE IF EXISTS [#yeldro_1_1];

SELECT [buoy_id], [visit_no] INTO [#yeldro_1_1] FROM (SELECT [visit].[buoy_id], [visit].[visit_no] FROM [visit]) AS [yeldro_first] ([buoy_id], [visit_no]) WHERE 1 = 0 UNION ALL SELECT [buoy_id], [visit_no] FROM (SELECT [visit].[buoy_id], [visit].[visit_no] FROM [visit]) AS [yeldro_first] ([buoy_id], [visit_no]) WHERE 1 = 0;

INSERT INTO [#yeldro_1_1] ([buoy_id], [visit_no]) SELECT [visit].[buoy_id], [visit].[visit_no] FROM [visit] WHERE ([visit_no] = 1);

-- step 1: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DELETE FROM [part_used] WHERE EXISTS(SELECT 1 FROM (SELECT [#yeldro_1_1].[buoy_id] AS [yeldro_c0], [#yeldro_1_1].[visit_no] AS [yeldro_c1] FROM [#yeldro_1_1]) AS [yeldro_row] WHERE [yeldro_row].[yeldro_c0] = [part_used].[buoy_id] AND [yeldro_row].[yeldro_c1] = [part_used].[visit_no]);
IF @@ROWCOUNT <> 2 THROW 50001, N'step 1: remove part_used, and 2 rows were expected', 1;

-- step 2: remove visit, 3 rows; matched
IF NOT (CASE WHEN (SELECT COUNT_BIG(*) AS [count_1] FROM [part_used] WHERE EXISTS(SELECT 1 FROM (SELECT [#yeldro_1_1].[buoy_id] AS [yeldro_c0], [#yeldro_1_1].[visit_no] AS [yeldro_c1] FROM [#yeldro_1_1]) AS [yeldro_row] WHERE [yeldro_row].[yeldro_c0] = [part_used].[buoy_id] AND [yeldro_row].[yeldro_c1] = [part_used].[visit_no])) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'there are rows that would go or change by part_used.buoy_id,visit_no → visit.buoy_id,visit_no', 1;
DELETE FROM [visit] WHERE EXISTS(SELECT 1 FROM (SELECT [#yeldro_1_1].[buoy_id] AS [yeldro_c0], [#yeldro_1_1].[visit_no] AS [yeldro_c1] FROM [#yeldro_1_1]) AS [yeldro_row] WHERE [yeldro_row].[yeldro_c0] = [visit].[buoy_id] AND [yeldro_row].[yeldro_c1] = [visit].[visit_no]);
IF @@ROWCOUNT <> 3 THROW 50001, N'step 2: remove visit, and 3 rows were expected', 1;

COMMIT TRANSACTION;
