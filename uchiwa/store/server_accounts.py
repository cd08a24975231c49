"""The accounts of our own database server: the application's, and one that only its folder's owner can be."""

from __future__ import annotations

import pymysql

from uchiwa.store.place import Place

APPLICATION_HOST = "127.0.0.1"
RIGHTS = "SELECT, INSERT, UPDATE, DELETE, CREATE, ALTER, DROP, INDEX, REFERENCES"
"""What the application does with its database: work with rows, and change the schema when it is migrated."""
_SYSTEM = ("mariadb.sys", "PUBLIC")


def secure_accounts(socket_path: str, place: Place, owner: str) -> bool:
    """Make the application's account and drop every account that nobody needs; whether the server could be reached.

    Done at each start, so that a data folder from before is put right too.

    Args:
        socket_path: the server's Unix socket.
        place: host, password and database of the application.
        owner: name of the operating system's user that runs the server; only they come in with all rights, over the
            socket.
    """
    try:
        connection = _as_keeper(socket_path, place, owner)
    except pymysql.MySQLError:
        return False
    with connection, connection.cursor() as cursor:
        cursor.execute(
            f"CREATE DATABASE IF NOT EXISTS `{place.database}` CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci"
        )
        application, keeper = (place.user, APPLICATION_HOST), (owner, "localhost")
        if _has_its_rights_alone(cursor, application, place.database):
            cursor.execute("ALTER USER %s@%s IDENTIFIED BY %s", (*application, place.password))
        else:
            cursor.execute("CREATE OR REPLACE USER %s@%s IDENTIFIED BY %s", (*application, place.password))
            cursor.execute(f"GRANT {RIGHTS} ON `{place.database}`.* TO %s@%s", application)
        cursor.execute("CREATE USER IF NOT EXISTS %s@%s IDENTIFIED VIA unix_socket", keeper)
        cursor.execute("ALTER USER %s@%s IDENTIFIED VIA unix_socket", keeper)
        cursor.execute("GRANT ALL PRIVILEGES ON *.* TO %s@%s WITH GRANT OPTION", keeper)
        cursor.execute("SELECT User, Host FROM mysql.global_priv")
        for user, host in cursor.fetchall():
            if (user, host) not in (application, keeper) and user not in _SYSTEM:
                cursor.execute("DROP USER %s@%s", (user, host))
    return True


def _has_its_rights_alone(cursor: pymysql.cursors.Cursor, account: tuple[str, str], database: str) -> bool:
    """Whether an account has what it needs and no more: made anew, it would have no rights for a moment, in which others come."""
    try:
        cursor.execute("SHOW GRANTS FOR %s@%s", account)
    except pymysql.err.OperationalError:  # there is no such account
        return False
    found: dict[str, set[str]] = {}
    for (line,) in cursor.fetchall():
        rights, _, rest = line.removeprefix("GRANT ").partition(" ON ")
        where = rest.partition(" TO ")[0]
        found[where] = set(rights.split(", "))
    return found == {"*.*": {"USAGE"}, f"`{database}`.*": set(RIGHTS.split(", "))}


def _as_keeper(socket_path: str, place: Place, owner: str) -> pymysql.Connection[pymysql.cursors.Cursor]:
    """In over the socket; in data folders from before, root@localhost had the application's password."""
    try:
        return pymysql.connect(unix_socket=socket_path, user=owner, password="")
    except pymysql.err.OperationalError:
        return pymysql.connect(unix_socket=socket_path, user="root", password=place.password)
