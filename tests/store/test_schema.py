import contextlib
import socket

import pymysql

from uchiwa.store import server
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import ALL, Base
from uchiwa.store.place import Place
from uchiwa.store.schema import migrate


def test_migrations_make_what_the_models_say(database_home):
    with unit_of_work():
        for model in ALL:
            there = {column.name: column for column in database.get_columns(model._meta.table_name)}
            wanted = {field.column_name: field for field in model._meta.sorted_fields}
            assert set(there) == set(wanted), model
            for name, field in wanted.items():
                assert there[name].null == field.null, f"{model.__name__}.{name}"
            indexes = {tuple(index.columns): index.unique for index in database.get_indexes(model._meta.table_name)}
            for fields, unique in model._meta.indexes:
                columns = tuple(model._meta.fields[one].column_name for one in fields)
                assert indexes[columns] == unique


def test_every_model_is_among_all():
    assert set(Base.__subclasses__()) == set(ALL)


def test_migrating_again_does_nothing(database_home):
    assert migrate() == []


def test_all_text_is_utf8mb4(database_home):
    with unit_of_work():
        rows = database.execute_sql(
            "SELECT table_name, table_collation FROM information_schema.tables WHERE table_schema = DATABASE()"
        ).fetchall()
    assert rows
    assert {collation for _, collation in rows} == {"utf8mb4_unicode_ci"}


def test_the_server_is_on_loopback_with_a_password(database_home):
    place = Place.load()
    assert place is not None
    assert place.file().stat().st_mode & 0o077 == 0
    for user, password in (("root", ""), (place.user, ""), (place.user, "wrong"), ("", "")):
        with contextlib.suppress(pymysql.MySQLError):
            pymysql.connect(host="127.0.0.1", port=place.port, user=user, password=password).close()
            raise AssertionError(f"{user!r} came in with {password!r}")
    others = [one[4][0] for one in socket.getaddrinfo(socket.gethostname(), None, socket.AF_INET)]
    for address in (one for one in others if not one.startswith("127.")):
        with socket.socket() as probe:
            probe.settimeout(1)
            assert probe.connect_ex((address, place.port)) != 0


def test_starting_a_running_server_is_quick_and_changes_nothing(database_home):
    before = Place.load()
    assert server.start() == before
    assert server.running()
