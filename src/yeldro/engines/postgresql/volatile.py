"""The query for what may have side effects although it looks like a plain expression."""

VOLATILE = """
SELECT 'function ' || proname FROM pg_proc WHERE provolatile = 'v'
    AND proname = ANY(%(functions)s::text[]) AND oid >= 16384
UNION ALL
SELECT 'operator ' || oprname FROM pg_operator JOIN pg_proc AS p ON p.oid = oprcode
WHERE p.provolatile = 'v' AND oprname = ANY(%(operators)s::text[])
UNION ALL
SELECT 'cast to ' || typname FROM pg_type JOIN pg_proc AS p ON p.oid IN (typinput, typoutput)
WHERE p.provolatile = 'v' AND typname = ANY(%(types)s::text[])
UNION ALL
SELECT 'cast to ' || typname FROM pg_cast JOIN pg_type AS t ON t.oid = casttarget
    JOIN pg_proc AS p ON p.oid = castfunc
WHERE p.provolatile = 'v' AND (typname = ANY(%(types)s::text[]) OR castcontext = 'i')
LIMIT 1
"""
