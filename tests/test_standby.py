"""A server that follows another one: rows can be looked at there, and nothing else."""

from __future__ import annotations

from pathlib import Path

import psycopg
from conftest import Yeldro, need
from servers import free_port, make_postgresql, postgresql_started, program


def test_a_standby_shows_rows_and_names_the_primary_for_the_rest(
    yeldro: Yeldro, server_folder: Path
) -> None:
    need("postgresql")
    make_postgresql(server_folder, "first")
    with postgresql_started(server_folder, "first", free_port()) as url:
        with psycopg.connect(url) as connection:
            connection.execute("CREATE TABLE mast (id int PRIMARY KEY, g int)")
            connection.execute("CREATE TABLE lamp (mast_id int REFERENCES mast ON DELETE CASCADE)")
            connection.execute("INSERT INTO mast VALUES (1, 1), (2, 1), (3, 2)")
            connection.execute("INSERT INTO lamp VALUES (1), (1), (2)")
        program(server_folder, "pg_basebackup", "-d", url, "-D", "second", "-R", "-c", "fast")
        with postgresql_started(server_folder, "second", free_port()) as standby:
            for look in (
                ("preview", "lamp", "--where", "mast_id = 1", "--json"),
                ("duplicates", "mast", "--by", "g", "--json"),
                ("plan", "lamp", "--where", "mast_id = 1", "--json"),
                ("survey", "--json"),
            ):
                assert yeldro(*look, db=standby).json() == yeldro(*look, db=url).json()
            words = ("mast", "--where", "id = 1", "--expect", "total=3")
            for command in (("plan", *words), ("rehearse", *words), ("run", *words, "--yes")):
                refused = yeldro(*command, db=standby, code=5).err
                assert refused.startswith("Nothing was changed.")
                assert "a standby" in refused
                assert "Name the primary" in refused
        assert not list(yeldro.folder.rglob("*.receipt"))
        yeldro("run", *words, "--yes", db=url)
