-- visit --where 'visit_no = 1'
-- For SQL Server 2012 or newer: sqlcmd -b -x -f 65001 -d DATABASE -i script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: bff2b6a4c7f37ce748b7fe873188c22581e50e183865856b5b993692fdcef531
-- Rows that go or change: part_used 2, visit 3.
-- Rights: to read, change and remove rows of part_used, visit, and to read the tables that reference them; VIEW DEFINITION on the tables.
-- Any other count stops the script, and everything is rolled back.
SET XACT_ABORT ON;
SET NOCOUNT ON;
SET QUOTED_IDENTIFIER ON;
SET IMPLICIT_TRANSACTIONS OFF;
SET LOCK_TIMEOUT 60000;
SET DATEFORMAT ymd;
SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;
IF @@TRANCOUNT > 0 THROW 50001, N'A transaction is open. Nothing was changed.', 1;
BEGIN TRANSACTION;

-- The foreign keys and triggers must be those of the plan.
IF NOT (CASE WHEN (SELECT COUNT(*) FROM sys.foreign_keys AS k
JOIN sys.foreign_key_columns AS f ON f.constraint_object_id = k.object_id
JOIN sys.columns AS m ON m.object_id = k.parent_object_id AND m.column_id = f.parent_column_id
JOIN sys.columns AS o ON o.object_id = k.referenced_object_id
AND o.column_id = f.referenced_column_id
WHERE k.referenced_object_id IN (OBJECT_ID(N'[part_used]'), OBJECT_ID(N'[visit]'))
 AND NOT (k.parent_object_id = OBJECT_ID(N'[part_used]') AND m.name = N'buoy_id' AND k.referenced_object_id = OBJECT_ID(N'[visit]') AND o.name = N'buoy_id'
 OR k.parent_object_id = OBJECT_ID(N'[part_used]') AND m.name = N'visit_no' AND k.referenced_object_id = OBJECT_ID(N'[visit]') AND o.name = N'visit_no')) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'the foreign keys to part_used, visit are not those of the plan', 1;
IF NOT (CASE WHEN (SELECT COUNT(*) FROM sys.foreign_keys AS k
JOIN sys.foreign_key_columns AS f ON f.constraint_object_id = k.object_id
JOIN sys.columns AS m ON m.object_id = k.parent_object_id AND m.column_id = f.parent_column_id
JOIN sys.columns AS o ON o.object_id = k.referenced_object_id
AND o.column_id = f.referenced_column_id
WHERE k.referenced_object_id IN (OBJECT_ID(N'[part_used]'), OBJECT_ID(N'[visit]'))) = 2 THEN 1 ELSE 0 END = 1) THROW 50001, N'the foreign keys to part_used, visit are not those of the plan', 1;
IF NOT (CASE WHEN (SELECT COUNT(*) FROM sys.triggers AS t WHERE t.is_disabled = 0 AND t.parent_id IN (OBJECT_ID(N'[part_used]'), OBJECT_ID(N'[visit]'))) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'there are triggers of part_used, visit that the plan does not know', 1;

-- step 1: remove part_used, 2 rows; part_used.buoy_id,visit_no -> visit.buoy_id,visit_no (cascade)
DELETE FROM [part_used] WHERE [buoy_id] = 1 AND [visit_no] = 1 AND [part] = N'bolt'
 OR [buoy_id] = 3 AND [visit_no] = 1 AND [part] = N'bolt';
IF @@ROWCOUNT <> 2 THROW 50001, N'step 1: remove part_used, and 2 rows were expected', 1;

-- step 2: remove visit, 3 rows; matched
IF NOT (CASE WHEN (SELECT COUNT(*) FROM [part_used] WHERE [buoy_id] = 1 AND [visit_no] = 1
 OR [buoy_id] = 2 AND [visit_no] = 1
 OR [buoy_id] = 3 AND [visit_no] = 1) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'step 2: remove visit: other rows reference its rows by part_used.buoy_id,visit_no -> visit.buoy_id,visit_no', 1;
DELETE FROM [visit] WHERE [buoy_id] = 1 AND [visit_no] = 1
 OR [buoy_id] = 2 AND [visit_no] = 1
 OR [buoy_id] = 3 AND [visit_no] = 1;
IF @@ROWCOUNT <> 3 THROW 50001, N'step 2: remove visit, and 3 rows were expected', 1;

COMMIT TRANSACTION;
