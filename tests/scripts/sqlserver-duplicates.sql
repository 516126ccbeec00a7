-- sensor --duplicates-by buoy_id,kind --keep lowest:id
-- For SQL Server 2016 or newer: sqlcmd -b -x -f 65001 -d DATABASE -i script.sql
-- Counted on buoys.db.
-- Rows that go or change: sensor 1.
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
WHERE k.referenced_object_id IN (OBJECT_ID(N'[sensor]'))) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'the foreign keys to sensor are not those of the plan', 1;
IF NOT (CASE WHEN (SELECT COUNT(*) FROM sys.triggers AS t WHERE t.is_disabled = 0 AND t.parent_id IN (OBJECT_ID(N'[sensor]'))) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'there are triggers of sensor that the plan does not know', 1;

DROP TABLE IF EXISTS [#yeldro_1_1];

SELECT [id], [yeldro_kept_0] INTO [#yeldro_1_1] FROM (SELECT [yeldro_grouped].[yeldro_own_0], [yeldro_grouped].[yeldro_kept_0] FROM (SELECT [sensor].[id] AS [yeldro_own_0], FIRST_VALUE([sensor].[id]) OVER (PARTITION BY [sensor].[buoy_id], [sensor].[kind] ORDER BY [sensor].[id] ASC) AS [yeldro_kept_0] FROM [sensor]) AS [yeldro_grouped]) AS [yeldro_first] ([id], [yeldro_kept_0]) WHERE 1 = 0 UNION ALL SELECT [id], [yeldro_kept_0] FROM (SELECT [yeldro_grouped].[yeldro_own_0], [yeldro_grouped].[yeldro_kept_0] FROM (SELECT [sensor].[id] AS [yeldro_own_0], FIRST_VALUE([sensor].[id]) OVER (PARTITION BY [sensor].[buoy_id], [sensor].[kind] ORDER BY [sensor].[id] ASC) AS [yeldro_kept_0] FROM [sensor]) AS [yeldro_grouped]) AS [yeldro_first] ([id], [yeldro_kept_0]) WHERE 1 = 0;

INSERT INTO [#yeldro_1_1] ([id], [yeldro_kept_0]) SELECT [yeldro_grouped].[yeldro_own_0], [yeldro_grouped].[yeldro_kept_0] FROM (SELECT [sensor].[id] AS [yeldro_own_0], FIRST_VALUE([sensor].[id]) OVER (PARTITION BY [sensor].[buoy_id], [sensor].[kind] ORDER BY [sensor].[id] ASC) AS [yeldro_kept_0] FROM [sensor]) AS [yeldro_grouped] WHERE [yeldro_grouped].[yeldro_own_0] <> [yeldro_grouped].[yeldro_kept_0] ORDER BY [yeldro_grouped].[yeldro_own_0];

-- step 1: remove sensor, 1 row; matched
DELETE FROM [sensor] WHERE [sensor].[id] IN (SELECT [#yeldro_1_1].[id] FROM [#yeldro_1_1]);
IF @@ROWCOUNT <> 1 THROW 50001, N'step 1: remove sensor, and 1 row was expected', 1;

-- There must be no groups that would lose every row
IF NOT (CASE WHEN (SELECT (SELECT COUNT_BIG(*) AS [count_1] FROM (SELECT DISTINCT [#yeldro_1_1].[yeldro_kept_0] AS [yeldro_kept_0] FROM [#yeldro_1_1]) AS [anon_1]) - (SELECT COUNT_BIG(*) AS [count_2] FROM [sensor] WHERE [sensor].[id] IN (SELECT DISTINCT [#yeldro_1_1].[yeldro_kept_0] FROM [#yeldro_1_1])) AS [yeldro_lost]) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'there are groups that would lose every row', 1;

COMMIT TRANSACTION;
