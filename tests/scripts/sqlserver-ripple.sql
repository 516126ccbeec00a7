-- buoy --where "retired_on < '2020-01-01'" --follow visit
-- For SQL Server 2016 or newer: sqlcmd -b -x -f 65001 -d DATABASE -i script.sql
-- Counted on buoys.db.
-- By the rules of SQL Server its conditions pick the same of these rows.
-- Rows that go or change: buoy 3, part_used 2, visit 2, sensor 2.
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
WHERE k.referenced_object_id IN (OBJECT_ID(N'[part_used]'), OBJECT_ID(N'[visit]'), OBJECT_ID(N'[sensor]'), OBJECT_ID(N'[buoy]'))
 AND NOT (k.parent_object_id = OBJECT_ID(N'[part_used]') AND m.name = N'buoy_id' AND k.referenced_object_id = OBJECT_ID(N'[visit]') AND o.name = N'buoy_id' AND k.delete_referential_action IN (1)
 OR k.parent_object_id = OBJECT_ID(N'[part_used]') AND m.name = N'visit_no' AND k.referenced_object_id = OBJECT_ID(N'[visit]') AND o.name = N'visit_no' AND k.delete_referential_action IN (1)
 OR k.parent_object_id = OBJECT_ID(N'[buoy]') AND m.name = N'replaces_id' AND k.referenced_object_id = OBJECT_ID(N'[buoy]') AND o.name = N'id' AND k.delete_referential_action IN (2)
 OR k.parent_object_id = OBJECT_ID(N'[sensor]') AND m.name = N'buoy_id' AND k.referenced_object_id = OBJECT_ID(N'[buoy]') AND o.name = N'id' AND k.delete_referential_action IN (1)
 OR k.parent_object_id = OBJECT_ID(N'[visit]') AND m.name = N'buoy_id' AND k.referenced_object_id = OBJECT_ID(N'[buoy]') AND o.name = N'id' AND k.delete_referential_action IN (0))) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'the foreign keys to part_used, visit, sensor, buoy are not those of the plan', 1;
IF NOT (CASE WHEN (SELECT COUNT(*) FROM sys.foreign_keys AS k
JOIN sys.foreign_key_columns AS f ON f.constraint_object_id = k.object_id
JOIN sys.columns AS m ON m.object_id = k.parent_object_id AND m.column_id = f.parent_column_id
JOIN sys.columns AS o ON o.object_id = k.referenced_object_id
AND o.column_id = f.referenced_column_id
WHERE k.referenced_object_id IN (OBJECT_ID(N'[part_used]'), OBJECT_ID(N'[visit]'), OBJECT_ID(N'[sensor]'), OBJECT_ID(N'[buoy]'))) = 5 THEN 1 ELSE 0 END = 1) THROW 50001, N'the foreign keys to part_used, visit, sensor, buoy are not those of the plan', 1;
IF NOT (CASE WHEN (SELECT COUNT(*) FROM sys.triggers AS t WHERE t.is_disabled = 0 AND t.parent_id IN (OBJECT_ID(N'[buoy]'), OBJECT_ID(N'[part_used]'), OBJECT_ID(N'[visit]'), OBJECT_ID(N'[sensor]'))) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'there are triggers of buoy, part_used, visit, sensor that the plan does not know', 1;

DROP TABLE IF EXISTS [#yeldro_1_1];

SELECT [id] INTO [#yeldro_1_1] FROM (SELECT [buoy].[id] FROM [buoy]) AS [yeldro_first] ([id]) WHERE 1 = 0 UNION ALL SELECT [id] FROM (SELECT [buoy].[id] FROM [buoy]) AS [yeldro_first] ([id]) WHERE 1 = 0;

INSERT INTO [#yeldro_1_1] ([id]) SELECT [buoy].[id] FROM [buoy] WHERE ([retired_on] < '2020-01-01');

DROP TABLE IF EXISTS [#yeldro_1_2];

SELECT [buoy_id], [visit_no] INTO [#yeldro_1_2] FROM (SELECT [visit].[buoy_id], [visit].[visit_no] FROM [visit]) AS [yeldro_first] ([buoy_id], [visit_no]) WHERE 1 = 0 UNION ALL SELECT [buoy_id], [visit_no] FROM (SELECT [visit].[buoy_id], [visit].[visit_no] FROM [visit]) AS [yeldro_first] ([buoy_id], [visit_no]) WHERE 1 = 0;

INSERT INTO [#yeldro_1_2] ([buoy_id], [visit_no]) SELECT [visit].[buoy_id], [visit].[visit_no] FROM [visit] WHERE [visit].[buoy_id] IN (SELECT [#yeldro_1_1].[id] FROM [#yeldro_1_1]);

-- step 1: detach buoy, 1 row; buoy.replaces_id → buoy.id (set null)
UPDATE [buoy] SET [replaces_id] = NULL WHERE [buoy].[replaces_id] IN (SELECT [#yeldro_1_1].[id] FROM [#yeldro_1_1]) AND NOT (EXISTS(SELECT 1 AS [anon_1] FROM [#yeldro_1_1] WHERE [#yeldro_1_1].[id] = [buoy].[id]));
IF @@ROWCOUNT <> 1 THROW 50001, N'step 1: detach buoy, and 1 row was expected', 1;

-- step 2: remove part_used, 2 rows; part_used.buoy_id,visit_no → visit.buoy_id,visit_no (cascade)
DELETE FROM [part_used] WHERE EXISTS(SELECT 1 FROM (SELECT [#yeldro_1_2].[buoy_id] AS [yeldro_c0], [#yeldro_1_2].[visit_no] AS [yeldro_c1] FROM [#yeldro_1_2]) AS [yeldro_row] WHERE [yeldro_row].[yeldro_c0] = [part_used].[buoy_id] AND [yeldro_row].[yeldro_c1] = [part_used].[visit_no]);
IF @@ROWCOUNT <> 2 THROW 50001, N'step 2: remove part_used, and 2 rows were expected', 1;

-- step 3: remove visit, 2 rows; visit.buoy_id → buoy.id (--follow visit)
IF NOT (CASE WHEN (SELECT COUNT_BIG(*) AS [count_1] FROM [part_used] WHERE EXISTS(SELECT 1 FROM (SELECT [#yeldro_1_2].[buoy_id] AS [yeldro_c0], [#yeldro_1_2].[visit_no] AS [yeldro_c1] FROM [#yeldro_1_2]) AS [yeldro_row] WHERE [yeldro_row].[yeldro_c0] = [part_used].[buoy_id] AND [yeldro_row].[yeldro_c1] = [part_used].[visit_no])) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'there are rows that would go or change by part_used.buoy_id,visit_no → visit.buoy_id,visit_no', 1;
DELETE FROM [visit] WHERE EXISTS(SELECT 1 FROM (SELECT [#yeldro_1_2].[buoy_id] AS [yeldro_c0], [#yeldro_1_2].[visit_no] AS [yeldro_c1] FROM [#yeldro_1_2]) AS [yeldro_row] WHERE [yeldro_row].[yeldro_c0] = [visit].[buoy_id] AND [yeldro_row].[yeldro_c1] = [visit].[visit_no]);
IF @@ROWCOUNT <> 2 THROW 50001, N'step 3: remove visit, and 2 rows were expected', 1;

-- step 4: remove sensor, 2 rows; sensor.buoy_id → buoy.id (cascade)
DELETE FROM [sensor] WHERE [sensor].[buoy_id] IN (SELECT [#yeldro_1_1].[id] FROM [#yeldro_1_1]);
IF @@ROWCOUNT <> 2 THROW 50001, N'step 4: remove sensor, and 2 rows were expected', 1;

-- step 5: remove buoy, 2 rows; matched
IF NOT (CASE WHEN (SELECT COUNT_BIG(*) AS [count_1] FROM [buoy] WHERE [buoy].[replaces_id] IN (SELECT [#yeldro_1_1].[id] FROM [#yeldro_1_1]) AND NOT (EXISTS(SELECT 1 AS [anon_1] FROM [#yeldro_1_1] WHERE [#yeldro_1_1].[id] = [buoy].[id]))) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'there are rows that would go or change by buoy.replaces_id → buoy.id', 1;
IF NOT (CASE WHEN (SELECT COUNT_BIG(*) AS [count_1] FROM [sensor] WHERE [sensor].[buoy_id] IN (SELECT [#yeldro_1_1].[id] FROM [#yeldro_1_1])) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'there are rows that would go or change by sensor.buoy_id → buoy.id', 1;
DELETE FROM [buoy] WHERE [buoy].[id] IN (SELECT [#yeldro_1_1].[id] FROM [#yeldro_1_1]);
IF @@ROWCOUNT <> 2 THROW 50001, N'step 5: remove buoy, and 2 rows were expected', 1;

COMMIT TRANSACTION;
