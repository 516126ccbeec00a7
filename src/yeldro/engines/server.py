"""What databases on a server share: an address, a limit for statements, and connections."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cached_property

import sqlalchemy as sa

from yeldro.core.model.messages.errors import YeldroError
from yeldro.engines.address import without_secrets


class ServerDatabase(ABC):
    """A database on a server.

    Args:
        url: its address, as given.
        scheme: the first word of the address as it is shown.
        driver: the first word by which the library knows dialect and driver.
    """

    def __init__(self, url: sa.URL, scheme: str, driver: str) -> None:
        self.shown = without_secrets(url.set(drivername=scheme)).render_as_string()
        self._url = url.set(drivername=driver)
        self._statement_limit: float | None = None  # seconds

    def limit_statements(self, seconds: float) -> None:
        self._statement_limit = seconds

    def keep_connection(self) -> None:  # noqa: B027  # some keep it, and need not
        """Do nothing: settings and temporary tables of a session last as long as its connection."""

    def close(self) -> None:
        """Close the connection that is kept, if any."""
        self._engine.dispose()

    @contextmanager
    def create(self) -> Iterator[sa.Connection]:
        """Open a plain connection in one transaction; some systems commit each new table in it."""
        with self._connection() as connection, connection.begin():
            yield connection

    @contextmanager
    def _connection(self) -> Iterator[sa.Connection]:
        """Connect; what the driver reports meanwhile is raised as an error of Yeldro's."""
        connected = False
        try:
            with self._engine.connect() as connection:
                connected = True
                yield connection
        except sa.exc.DBAPIError as error:
            raise self._explained(error, connected=connected) from error

    @cached_property
    @abstractmethod
    def _engine(self) -> sa.Engine:
        """What connects; one for all sessions, as it keeps the statements that it has compiled."""

    @abstractmethod
    def _explained(self, error: sa.exc.DBAPIError, *, connected: bool) -> YeldroError:
        """Return the error as it is told; without a connection the server let nobody in."""

    def _lock_wait(self, seconds: float) -> float:
        """Return how long a lock is waited for, in seconds: never longer than a statement takes."""
        return seconds if self._statement_limit is None else min(seconds, self._statement_limit)
