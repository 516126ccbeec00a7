' visit --where 'visit_no = 1'
' For Access 2007 or newer: cscript //nologo script.vbs FILE.accdb
' Made on a day, counted on buoys.db.
' SHA-256 of what follows its first lines: 8e384572059428a627f54f3d598b4381e2681a45ca1b4e5080738f10ea675558
' Rows that go or change: part_used 2, visit 3.
' Rights: to read, change and remove rows of part_used, visit, and to read the tables that reference them.
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

' step 1: remove part_used, 2 rows; part_used.buoy_id,visit_no -> visit.buoy_id,visit_no (cascade)
sql = "DELETE FROM [part_used] WHERE [buoy_id] = 1 AND [visit_no] = 1 AND [part] = 'bolt' OR [buoy_id] = 3 AND [visit_no] = 1 AND [part] = 'bolt'"
Change 2, "step 1: remove part_used, and 2 rows were expected"

' step 2: remove visit, 3 rows; matched
sql = "SELECT COUNT(*) FROM [part_used] WHERE [buoy_id] = 1 AND [visit_no] = 1 OR [buoy_id] = 2 AND [visit_no] = 1 OR [buoy_id] = 3 AND [visit_no] = 1"
Ask 0, 0, "step 2: remove visit: other rows reference its rows by part_used.buoy_id,visit_no -> visit.buoy_id,visit_no"
sql = "DELETE FROM [visit] WHERE [buoy_id] = 1 AND [visit_no] = 1 OR [buoy_id] = 2 AND [visit_no] = 1 OR [buoy_id] = 3 AND [visit_no] = 1"
Change 3, "step 2: remove visit, and 3 rows were expected"

space.CommitTrans
base.Close
