' buoy --where "retired_on < '2020-01-01'" --follow visit
' For Access 2007 or newer: cscript //nologo script.vbs FILE.accdb
' Made on a day, counted on buoys.db.
' SHA-256 of what follows its first lines: b93f20c0010a8f4bd14bbe45bbf1a8642cadd70a810c4a9e296b976ab299f4c9
' Rows that go or change: buoy 3, part_used 2, visit 2, sensor 2.
' Rights: to read, change and remove rows of buoy, part_used, visit, sensor, and to read the tables that reference them.
' Any other count stops the script, and everything is rolled back.
' Not checked: whether other relations of these tables would take rows along. Look at them first.
Option Explicit
Dim engine, space, base, sql
Set engine = CreateObject("DAO.DBEngine.120")
Set space = engine.Workspaces(0)
Set base = space.OpenDatabase(WScript.Arguments(0))

Sub Change(rows, what)
    base.Execute sql, 128  ' dbFailOnError
    Dim found
    found = base.RecordsAffected
    If found <> rows Then
        Err.Raise vbObjectError + 1, "yeldro", found & " rows: " & what
    End If
End Sub

Sub Ask(low, high, what)
    Dim found
    found = base.OpenRecordset(sql).Fields(0).Value
    If IsNull(found) Then Err.Raise vbObjectError + 1, "yeldro", what
    If found < low Or found > high Then
        Err.Raise vbObjectError + 1, "yeldro", what & ": found " & found
    End If
End Sub

space.BeginTrans

' step 1: detach buoy, 1 row; buoy.replaces_id -> buoy.id (set null)
sql = "UPDATE [buoy] SET [replaces_id] = NULL WHERE [id] IN (2)"
Change 1, "step 1: detach buoy, and 1 row was expected"

' step 2: remove part_used, 2 rows; part_used.buoy_id,visit_no -> visit.buoy_id,visit_no (cascade)
sql = "DELETE FROM [part_used] WHERE [buoy_id] = 1 AND [visit_no] = 1 AND [part] = 'bolt' OR [buoy_id] = 1 AND [visit_no] = 2 AND [part] = 'nut'"
Change 2, "step 2: remove part_used, and 2 rows were expected"

' step 3: remove visit, 2 rows; visit.buoy_id -> buoy.id (--follow visit)
sql = "SELECT COUNT(*) FROM [part_used] WHERE [buoy_id] = 1 AND [visit_no] = 1 OR [buoy_id] = 1 AND [visit_no] = 2"
Ask 0, 0, "step 3: remove visit: other rows reference its rows by part_used.buoy_id,visit_no -> visit.buoy_id,visit_no"
sql = "DELETE FROM [visit] WHERE [buoy_id] = 1 AND [visit_no] = 1 OR [buoy_id] = 1 AND [visit_no] = 2"
Change 2, "step 3: remove visit, and 2 rows were expected"

' step 4: remove sensor, 2 rows; sensor.buoy_id -> buoy.id (cascade)
sql = "DELETE FROM [sensor] WHERE [id] IN (1, 2)"
Change 2, "step 4: remove sensor, and 2 rows were expected"

' step 5: remove buoy, 2 rows; matched
sql = "SELECT COUNT(*) FROM [buoy] WHERE [replaces_id] IN (1, 4)"
Ask 0, 0, "step 5: remove buoy: other rows reference its rows by buoy.replaces_id -> buoy.id"
sql = "SELECT COUNT(*) FROM [sensor] WHERE [buoy_id] IN (1, 4)"
Ask 0, 0, "step 5: remove buoy: other rows reference its rows by sensor.buoy_id -> buoy.id"
sql = "SELECT COUNT(*) FROM [visit] WHERE [buoy_id] IN (1, 4)"
Ask 0, 0, "step 5: remove buoy: other rows reference its rows by visit.buoy_id -> buoy.id"
sql = "DELETE FROM [buoy] WHERE [id] IN (1, 4)"
Change 2, "step 5: remove buoy, and 2 rows were expected"

space.CommitTrans
base.Close
