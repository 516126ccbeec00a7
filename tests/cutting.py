"""A server's address that loses the answer to a commit."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from urllib.parse import urlsplit

import psycopg
from systems import mariadb_url, postgresql_url

_PART = 65_536


@contextmanager
def postgresql_through(url: str, folder: Path, which: set[int]) -> Iterator[str]:
    """A PostgreSQL database's URL under which the answer to some COMMITs is lost."""
    name = url.rpartition("/")[2]
    with psycopg.connect(postgresql_url()) as connection:
        host, port = connection.info.host, connection.info.port
    at_socket = host.startswith("/")
    server = f"{host}/.s.PGSQL.{port}" if at_socket else (host, port)
    with losing_the_answer(server, folder, which) as entrance:
        yield (
            f"postgresql:///{name}?host={entrance}&port={port}"
            if at_socket
            else f"{postgresql_url().replace(str(port), str(entrance)).rpartition('/')[0]}/{name}"
        )


@contextmanager
def mariadb_through(url: str, folder: Path, which: set[int]) -> Iterator[str]:
    """A MariaDB database's URL under which the answer to some COMMITs is lost."""
    parts = urlsplit(mariadb_url())
    server = (parts.hostname or "127.0.0.1", parts.port or 3306)
    with losing_the_answer(server, folder, which) as port:
        user = parts.netloc.rpartition("@")[0]
        yield f"mariadb://{user}@127.0.0.1:{port}/{url.rpartition('/')[2]}"


@contextmanager
def losing_the_answer(
    server: tuple[str, int] | str, folder: Path, which: set[int]
) -> Iterator[int | str]:
    """Passes everything on, but ends the connection when the answer to some COMMITs comes.

    Args:
        which: their numbers, the first being 1.
        server: host and port, or the path of a socket.
        folder: where a socket of the same name is made, if it is one.

    Yields:
        The port or folder to connect to.
    """
    at_port = isinstance(server, tuple)
    entrance = socket.socket(socket.AF_INET if at_port else socket.AF_UNIX)
    entrance.bind(("127.0.0.1", 0) if at_port else str(folder / Path(str(server)).name))
    entrance.listen()
    seen = [0]
    threading.Thread(target=_serve, args=(entrance, server, which, seen), daemon=True).start()
    try:
        yield entrance.getsockname()[1] if at_port else str(folder)
    finally:
        entrance.close()
    assert seen[0] >= max(which)


def _serve(
    entrance: socket.socket, server: tuple[str, int] | str, which: set[int], seen: list[int]
) -> None:
    with suppress(OSError):
        while True:
            client, _ = entrance.accept()
            onward = socket.socket(socket.AF_UNIX if isinstance(server, str) else socket.AF_INET)
            onward.connect(server)
            both = (client, onward, which, seen)
            threading.Thread(target=_pass_on, args=both, daemon=True).start()


def _pass_on(
    client: socket.socket, onward: socket.socket, which: set[int], seen: list[int]
) -> None:
    """Serve one connection; both sockets are closed when nobody reads them any more.

    A number that is free too early is the next connection's, and its bytes would be read here.
    """
    lost = threading.Event()
    with client, onward:
        answers = threading.Thread(target=_answers, args=(onward, client, lost), daemon=True)
        answers.start()
        _asks(client, onward, which, seen, lost)
        answers.join()


def _asks(
    client: socket.socket,
    onward: socket.socket,
    which: set[int],
    seen: list[int],
    lost: threading.Event,
) -> None:
    reads = False
    with suppress(OSError):
        while part := client.recv(_PART):
            if b"START TRANSACTION" in part:
                reads = b"READ ONLY" in part
            if reads:
                pass  # what ends a transaction that reads says nothing of a row
            elif b"COMMIT\0" in part or part.endswith(b"\x03COMMIT"):  # as either driver says it
                seen[0] += 1
                if seen[0] in which:
                    lost.set()
            onward.sendall(part)
        onward.shutdown(socket.SHUT_WR)


def _answers(onward: socket.socket, client: socket.socket, lost: threading.Event) -> None:
    with suppress(OSError):
        while part := onward.recv(_PART):
            if lost.is_set():
                break
            client.sendall(part)
    for each in (client, onward):
        with suppress(OSError):
            each.shutdown(socket.SHUT_RDWR)
