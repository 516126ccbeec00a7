"""The stand-in as a server: a process of its own, on a port of this machine alone."""

from __future__ import annotations

import secrets
import signal
import socketserver
import sys
import tempfile
from pathlib import Path
from typing import Any

from yeldro.standins.sqlserver import wire
from yeldro.standins.sqlserver.databases import Databases
from yeldro.standins.sqlserver.refusals import ReadError
from yeldro.standins.sqlserver.session import Session

DATABASE = "buoys"


class Server(socketserver.ThreadingTCPServer):
    """Serves databases to whoever has the password.

    Args:
        folder: where the files with the databases are.
        user, password: who may log in.
    """

    daemon_threads = True
    allow_reuse_address = True

    def __init__(self, folder: Path, user: str, password: str, port: int = 0) -> None:
        self.user, self.password = user, password
        self.databases = Databases(folder)
        self.databases.make(DATABASE)
        super().__init__(("127.0.0.1", port), _Served)


class _Served(socketserver.BaseRequestHandler):
    server: Server

    def handle(self) -> None:
        connection = wire.Connection(self.request)
        session: Session | None = None
        try:
            while message := connection.receive():
                kind, body = message
                if kind is wire.Kind.PRELOGIN:
                    connection.send(wire.prelogin())
                elif kind is wire.Kind.LOGIN:
                    session = self._log_in(connection, wire.read_login(body))
                    if session is None:
                        return
                elif kind is wire.Kind.ATTENTION:
                    connection.send(wire.done(status=wire.ATTENTION))
                elif session is not None and (answer := _answered(session, kind, body)):
                    connection.send(answer)
        except ConnectionError:
            return
        finally:
            if session is not None:
                session.close()

    def _log_in(self, connection: wire.Connection, login: wire.Login) -> Session | None:
        database = login.database or DATABASE
        allowed = secrets.compare_digest(login.password.encode(), self.server.password.encode())
        try:
            if login.user != self.server.user or not allowed:
                raise ReadError(18456, f"Login failed for user '{login.user}'.")
            session = Session(self.server.databases, database)
        except ReadError as error:
            text = wire.said(error.number, error.text, 14)
            connection.send(text + wire.done(status=wire.ERROR))
            return None
        connection.send(wire.logged_in("Yeldro stand-in", database))
        session.stop_when(connection.has_more)
        return session


def _answered(session: Session, kind: wire.Kind, body: bytes) -> bytes:
    if kind is wire.Kind.BATCH:
        return session.batch(wire.read_batch(body))
    text = wire.said(2812, "Could not find stored procedure: the stand-in has none.", 16)
    return text + wire.done(status=wire.ERROR)


def serve(user: str, password: str, port: int = 0) -> None:
    """Serve until the process is ended; the port is printed first."""
    signal.signal(signal.SIGTERM, lambda *_: sys.exit())  # which deletes the folder
    with (
        tempfile.TemporaryDirectory(prefix="yeldro") as folder,
        Server(Path(folder), user, password, port) as server,
    ):
        address: Any = server.server_address
        print(address[1], flush=True)
        server.serve_forever()
