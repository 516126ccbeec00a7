"""Addresses of databases as people may see them: without what lets somebody in."""

from __future__ import annotations

import re

import sqlalchemy as sa

# Parameters of a URL that hold a secret: password, passwd, sslpassword, ssl_key_password, …
_SECRET = re.compile(r"pass(?!file$)|pwd|secret|token", re.IGNORECASE)


def without_secrets(url: sa.URL) -> sa.URL:
    """Return an address without its password, wherever in it one may stand."""
    query = {name: value for name, value in url.query.items() if not _SECRET.search(name)}
    return url._replace(password=None).set(query=query)


def shown(text: str) -> str | None:
    """Return a URL without secrets, as text; None if it cannot be read."""
    try:
        return without_secrets(sa.make_url(text)).render_as_string(hide_password=False)
    except (sa.exc.ArgumentError, ValueError):
        return None
