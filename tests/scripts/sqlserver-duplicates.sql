-- sensor --duplicates-by buoy_id,kind --keep lowest:id
-- For SQL Server 2012 or newer: sqlcmd -b -x -f 65001 -d DATABASE -i script.sql
-- Made on a day, counted on buoys.db.
-- SHA-256 of what follows its first lines: 4d747caa45266d483bf9003a0655025324c692db06198dc103d16ac1e68336f5
-- Rows that go or change: sensor 1.
-- Rights: to read, change and remove rows of sensor, and to read the tables that reference them; VIEW DEFINITION on the tables.
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
WHERE k.referenced_object_id IN (OBJECT_ID(N'[sensor]'))) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'the foreign keys to sensor are not those of the plan', 1;
IF NOT (CASE WHEN (SELECT COUNT(*) FROM sys.triggers AS t WHERE t.is_disabled = 0 AND t.parent_id IN (OBJECT_ID(N'[sensor]'))) = 0 THEN 1 ELSE 0 END = 1) THROW 50001, N'there are triggers of sensor that the plan does not know', 1;

-- step 1: remove sensor, 1 row; matched
DELETE FROM [sensor] WHERE [id] IN (5);
IF @@ROWCOUNT <> 1 THROW 50001, N'step 1: remove sensor, and 1 row was expected', 1;

COMMIT TRANSACTION;
