' sensor --duplicates-by buoy_id,kind --keep lowest:id
' For Access 2007 or newer: cscript //nologo script.vbs FILE.accdb
' Made on a day, counted on buoys.db.
' SHA-256 of what follows its first lines: 10ca5171bf717d9e82e9e477ff68326fd606b0c1752d27e8d5048501e73e454d
' Rows that go or change: sensor 1.
' Rights: to read, change and remove rows of sensor, and to read the tables that reference them.
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

' step 1: remove sensor, 1 row; matched
sql = "DELETE FROM [sensor] WHERE [id] IN (5)"
Change 1, "step 1: remove sensor, and 1 row was expected"

space.CommitTrans
base.Close
