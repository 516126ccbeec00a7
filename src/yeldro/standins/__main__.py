"""Start a stand-in, or try on a real server what it refuses."""

from __future__ import annotations

import argparse
import sys
from typing import Any

import sqlalchemy as sa


def main() -> None:
    """Carry out the command line."""
    words = argparse.ArgumentParser(prog="python -m yeldro.standins", description=__doc__)
    commands = words.add_subparsers(required=True)
    serving = commands.add_parser("sqlserver", help="Serve; the port is printed first.")
    serving.add_argument("--port", type=int, default=0, help="A port of this machine; any, if 0.")
    serving.add_argument("--user", default="sa")
    serving.add_argument("--password", default="", help="Whoever logs in must give it.")
    serving.set_defaults(carry_out=_serve)
    trying = commands.add_parser("replay", help="Try what the stand-in refuses on a server.")
    trying.add_argument("--db", required=True, help="Its URL; t, u, v and w must not exist.")
    trying.set_defaults(carry_out=_replay)
    given = words.parse_args()
    given.carry_out(given)


def _serve(given: Any) -> None:
    from yeldro.standins.sqlserver.server import serve

    serve(given.user, given.password, given.port)


def _replay(given: Any) -> None:
    try:
        import pymssql
    except ImportError:
        sys.exit("The driver pymssql is not installed: pip install pymssql")

    from yeldro.standins.sqlserver.refusals import REFUSALS
    from yeldro.standins.sqlserver.replay import replay

    try:
        url = sa.make_url(given.db)
        connection = pymssql.connect(
            server=url.host or "127.0.0.1", port=str(url.port or 1433), user=url.username,
            password=url.password, database=url.database or "",
        )  # fmt: skip
        different = list(replay(connection))
    except (sa.exc.ArgumentError, pymssql.Error) as error:
        sys.exit(f"The server could not be tried: {error}")
    for line in different:
        print(line)
    print(f"{len(REFUSALS)} refusals tried, {len(different)} differences.")
    sys.exit(1 if different else 0)


if __name__ == "__main__":
    main()
