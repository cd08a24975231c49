"""A connection that remembers how columns are described: with every answer come the same few hundred descriptions again."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from peewee import MySQLDatabase
from pymysql.connections import Connection
from pymysql.protocol import FieldDescriptorPacket, MysqlPacket


@lru_cache(maxsize=4096)
def _description(data: bytes, encoding: str) -> FieldDescriptorPacket:
    """A column's description out of its bytes; nothing changes it later, so that threads may share it."""
    return FieldDescriptorPacket(data, encoding)


class DescribedConnection(Connection):
    """Takes descriptions apart once: two hundred come with a page, and to take each apart anew is a fourteenth of its time."""

    def _read_packet(self, packet_type: Any = MysqlPacket) -> Any:
        wanted = _description if packet_type is FieldDescriptorPacket else packet_type
        return super()._read_packet(wanted)  # type: ignore[no-untyped-call]


class DescribedDatabase(MySQLDatabase):
    """A database that is spoken to over such connections."""

    def _connect(self) -> Any:
        return DescribedConnection(database=self.database, autocommit=True, **self.connect_params)
