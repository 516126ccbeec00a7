"""SQL Server's dialect of SQL, and its functions without side effects."""

from __future__ import annotations

from yeldro.core.database.facts import SqlDialect

DIALECT = SqlDialect("tsql")
# Built-in functions that compute; sequences, random numbers and whatever reaches out are left out.
FREE_OF_SIDE_EFFECTS = """
    abs acos ascii asin atan atn2 avg cast ceiling char charindex checksum choose coalesce concat
    concat_ws convert cos cot count current_timestamp current_timezone datalength dateadd datediff
    datediff_big datefromparts datename datepart datetime2fromparts datetimefromparts
    datetimeoffsetfromparts day degrees difference eomonth exp floor format getdate getutcdate
    hashbytes iif isdate isjson isnull isnumeric json_modify json_query json_value left len log
    log10 lower ltrim max min month nchar nullif parse patindex pi power quotename radians replace
    replicate reverse right round rtrim sign sin smalldatetimefromparts soundex space sqrt square
    stdev stdevp str string_agg string_escape stuff substring sum switchoffset sysdatetime
    sysdatetimeoffset sysutcdatetime tan timefromparts todatetimeoffset translate trim try_cast
    try_convert try_parse unicode upper var varp year
"""
