"""The servers of this machine, for tests that speak with them; tests skip where one is not there, unless it must be."""

from __future__ import annotations

import functools
import os
import socket
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy

PORTS = {"postgresql": 5432, "mysql": 3306}
URLS = {"postgresql": "postgresql://postgres@127.0.0.1/test", "mysql": "mysql://root@127.0.0.1/test"}
DRIVERS = {"postgresql": "postgresql+psycopg", "mysql": "mysql+pymysql", "sqlite": "sqlite"}


def is_there(kind: str) -> bool:
    try:
        with socket.create_connection(("127.0.0.1", PORTS[kind]), timeout=2):
            return True
    except OSError:
        return False


def needs(kind: str) -> pytest.MarkDecorator:
    skips = kind in PORTS and os.environ.get("LOMRIX_REQUIRE_SERVERS") != "1" and not is_there(kind)
    return pytest.mark.skipif(skips, reason=f"no {kind} server on this machine")


SERVERS = [pytest.param(kind, marks=needs(kind)) for kind in ("sqlite", "postgresql", "mysql")]
REAL_SERVERS = [pytest.param(kind, marks=needs(kind)) for kind in ("postgresql", "mysql")]


@functools.cache
def engine_of(kind: str, url: str) -> sqlalchemy.Engine:
    """Connections that are not the program's; without certificates, which take longest, and kept to be used again."""
    made = sqlalchemy.make_url(url).set(drivername=DRIVERS[kind])
    how: dict[str, Any] = {"ssl_disabled": True} if kind == "mysql" else {}
    return sqlalchemy.create_engine(made, connect_args=how, poolclass=sqlalchemy.NullPool if kind == "sqlite" else None)


class Place:
    """A table of its own on a server, and a connection that is not the program's."""

    def __init__(self, kind: str, folder: Path) -> None:
        self.kind = kind
        self.url = URLS.get(kind, f"sqlite:///{folder / 'study.db'}")
        self.table = f"t{uuid.uuid4().hex[:12]}"
        self.engine = engine_of(kind, self.url)

    @property
    def reference(self) -> str:
        return f"{self.url}#{self.table}"

    def execute(self, words: str) -> list[tuple[Any, ...]]:
        with self.engine.begin() as connection:
            done = connection.exec_driver_sql(words)
            return [tuple(row) for row in done] if done.returns_rows else []

    def rows(self, order: str = "1") -> list[tuple[Any, ...]]:
        return self.execute(f"SELECT * FROM {self.table} ORDER BY {order}")

    def tables(self) -> list[str]:
        with self.engine.connect() as connection:
            return [name for name in sqlalchemy.inspect(connection).get_table_names() if self.table in name]


@contextmanager
def place_on(kind: str, folder: Path) -> Iterator[Place]:
    place = Place(kind, folder)
    try:
        yield place
    finally:
        quote = "`" if kind == "mysql" else '"'
        for name in place.tables():
            with place.engine.begin() as connection:
                words = f"DROP TABLE {quote}{name.replace(quote, quote * 2)}{quote}"
                connection.exec_driver_sql(words, execution_options={"no_parameters": True})
