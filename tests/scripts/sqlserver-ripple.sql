-- buoy --where "retired_on < '2020-01-01'" --follow visit
-- For SQL Server 2012 or newer: sqlcmd -b -x -f 65001 -d DATABASE -i script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: 69ba8c6bc727be8e71325bb5a3d8bfec5299e3a5d5c4e2576a5580a6cd1c19cc
-- Rows that go or change: buoy 3, part_used 2, visit 2, sensor 2.
-- Rights: to read, change and remove rows of buoy, part_used, visit, sensor, and to read the tables that reference them; VIEW DEFINITION on the tables.
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
WHERE k.referenced_object_id IN (OBJECT_ID(N'[part_used]'), OBJECT_ID(N'[visit]'), OBJECT_ID(N'[sensor]'), OBJECT_ID(N'[buoy]'))
 AND NOT (k.parent_object_id = OBJECT_ID(N'[buoy]') AND m.name = N'replaces_id' AND k.referenced_object_id = OBJECT_ID(N'[buoy]') AND o.name = N'id'
 OR k.parent_object_id = OBJECT_ID(N'[sensor]') AND m.name = N'buoy_id' AND k.referenced_object_id = OBJECT_ID(N'[buoy]') AND o.name = N'id'
 OR k.parent_object_id = OBJECT_ID(N'[visit]') AND m.name = N'buoy_id' AND k.referenced_object_id = OBJECT_ID(N'[buoy]') AND o.name = N'id'
 OR k.parent_object_id = OBJECT_ID(N'[part_used]') AND m.name = N'buoy_id' AND k.referenced_object_id = OBJECT_ID(N'[visit]') AND o.name = N'buoy_id'
 OR k.parent_object_id = OBJECT_ID(N'[part_used]') AND m.name = N'visit_no' AND k.referenced_object_id = OBJECT_ID(N'[visit]') AND o.name = N'visit_no')) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'the foreign keys to part_used, visit, sensor, buoy are not those of the plan', 1;
IF NOT (CASE WHEN (SELECT COUNT(*) FROM sys.foreign_keys AS k
JOIN sys.foreign_key_columns AS f ON f.constraint_object_id = k.object_id
JOIN sys.columns AS m ON m.object_id = k.parent_object_id AND m.column_id = f.parent_column_id
JOIN sys.columns AS o ON o.object_id = k.referenced_object_id
AND o.column_id = f.referenced_column_id
WHERE k.referenced_object_id IN (OBJECT_ID(N'[part_used]'), OBJECT_ID(N'[visit]'), OBJECT_ID(N'[sensor]'), OBJECT_ID(N'[buoy]'))) = 5 THEN 1 ELSE 0 END = 1) THROW 50001, N'the foreign keys to part_used, visit, sensor, buoy are not those of the plan', 1;
IF NOT (CASE WHEN (SELECT COUNT(*) FROM sys.triggers AS t WHERE t.is_disabled = 0 AND t.parent_id IN (OBJECT_ID(N'[buoy]'), OBJECT_ID(N'[part_used]'), OBJECT_ID(N'[visit]'), OBJECT_ID(N'[sensor]'))) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'there are triggers of buoy, part_used, visit, sensor that the plan does not know', 1;

-- step 1: detach buoy, 1 row; buoy.replaces_id -> buoy.id (set null)
UPDATE [buoy] SET [replaces_id] = NULL WHERE [id] IN (2);
IF @@ROWCOUNT <> 1 THROW 50001, N'step 1: detach buoy, and 1 row was expected', 1;

-- step 2: remove part_used, 2 rows; part_used.buoy_id,visit_no -> visit.buoy_id,visit_no (cascade)
DELETE FROM [part_used] WHERE [buoy_id] = 1 AND [visit_no] = 1 AND [part] = N'bolt'
 OR [buoy_id] = 1 AND [visit_no] = 2 AND [part] = N'nut';
IF @@ROWCOUNT <> 2 THROW 50001, N'step 2: remove part_used, and 2 rows were expected', 1;

-- step 3: remove visit, 2 rows; visit.buoy_id -> buoy.id (--follow visit)
IF NOT (CASE WHEN (SELECT COUNT(*) FROM [part_used] WHERE [buoy_id] = 1 AND [visit_no] = 1
 OR [buoy_id] = 1 AND [visit_no] = 2) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'step 3: remove visit: other rows reference its rows by part_used.buoy_id,visit_no -> visit.buoy_id,visit_no', 1;
DELETE FROM [visit] WHERE [buoy_id] = 1 AND [visit_no] = 1
 OR [buoy_id] = 1 AND [visit_no] = 2;
IF @@ROWCOUNT <> 2 THROW 50001, N'step 3: remove visit, and 2 rows were expected', 1;

-- step 4: remove sensor, 2 rows; sensor.buoy_id -> buoy.id (cascade)
DELETE FROM [sensor] WHERE [id] IN (1, 2);
IF @@ROWCOUNT <> 2 THROW 50001, N'step 4: remove sensor, and 2 rows were expected', 1;

-- step 5: remove buoy, 2 rows; matched
IF NOT (CASE WHEN (SELECT COUNT(*) FROM [buoy] WHERE [replaces_id] IN (1, 4)) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'step 5: remove buoy: other rows reference its rows by buoy.replaces_id -> buoy.id', 1;
IF NOT (CASE WHEN (SELECT COUNT(*) FROM [sensor] WHERE [buoy_id] IN (1, 4)) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'step 5: remove buoy: other rows reference its rows by sensor.buoy_id -> buoy.id', 1;
IF NOT (CASE WHEN (SELECT COUNT(*) FROM [visit] WHERE [buoy_id] IN (1, 4)) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'step 5: remove buoy: other rows reference its rows by visit.buoy_id -> buoy.id', 1;
DELETE FROM [buoy] WHERE [id] IN (1, 4);
IF @@ROWCOUNT <> 2 THROW 50001, N'step 5: remove buoy, and 2 rows were expected', 1;

COMMIT TRANSACTION;
