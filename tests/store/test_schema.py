import contextlib
import importlib
import socket

import pymysql
import pytest

from uchiwa.store import schema, server
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import ALL, Answer, Base, Car, ChannelMemory, Customer, LogFile, LogNote
from uchiwa.store.place import Place
from uchiwa.store.schema import MIGRATIONS, migrate


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


def test_a_migration_that_was_interrupted_goes_on(database_home):
    """Whichever of its statements was the last one done: all of them can be run again, in order."""
    with database.connection_context():
        for path in sorted(MIGRATIONS.glob("0*.py"))[1:]:
            module = importlib.import_module(f"uchiwa.store.migrations.{path.stem}")
            for done in range(len(module.STATEMENTS) + 1):
                for statement in module.STATEMENTS[:done]:
                    database.execute_sql(statement)
                if done % 7 == 0:
                    module.up(None, database)
    test_migrations_make_what_the_models_say(database_home)
    with database.connection_context():
        database.execute_sql("DELETE FROM schema_migration WHERE name = '0007_sound'")
    assert migrate() == ["0007_sound"]


def test_older_code_refuses_a_newer_schema(database_home):
    with database.connection_context():
        database.execute_sql("INSERT INTO schema_migration (name, applied) VALUES ('0099_later', NOW())")
    try:
        for act in (migrate, schema.check):
            with pytest.raises(schema.SchemaError, match="a newer version of Uchiwa"):
                act()
        with database.connection_context():
            database.execute_sql("DELETE FROM schema_migration WHERE name IN ('0099_later', '0007_sound')")
        with pytest.raises(schema.SchemaError, match="older than this version"):
            schema.check()
    finally:
        with database.connection_context():
            database.execute_sql("DELETE FROM schema_migration WHERE name = '0099_later'")
        migrate()
    schema.check()


def test_twins_from_before_are_merged(scene):
    """A database in which twins could arise: the first of each stays, with what was said of the others."""
    log, _ = scene.receive("time,rpm\n0,1\n1,2\n")
    shop, job = scene.user.shop_id, scene.job.id
    with database.connection_context():
        run = database.execute_sql
        run("CREATE INDEX answer_job_id ON answer (job_id)")
        for index in (
            "log_file_job_id_content ON log_file",
            "customer_shop_id_name ON customer",
            "answer_job_id_once ON answer",
        ):
            run(f"DROP INDEX {index}")
        run("DROP INDEX channel_memory_shop_id_scope_channel ON channel_memory")
        run("INSERT INTO customer (shop_id, name) SELECT shop_id, name FROM customer")
        run("INSERT INTO car (customer_id, title, details, file) SELECT MAX(id), 'second', '', '{}' FROM customer")
        columns = "job_id, round_id, name, size, content_hash, codec, state, accepted, message, notes, uploaded_at"
        run(f"INSERT INTO log_file ({columns}) SELECT {columns} FROM log_file")
        run(
            "INSERT INTO log_note (log_id, author_id, start_s, end_s, text, shown, at) "
            "SELECT MAX(id), %s, 0, 0, 'here', 0, NOW() FROM log_file",
            (scene.user.id,),
        )
        for word in ("first", "second"):
            run(
                "INSERT INTO channel_memory (shop_id, car_id, header, scope, channel, quantity, unit) "
                "VALUES (%s, NULL, 'h', '', 'rpm []', 'engine_speed', %s)",
                (shop, word),
            )
            run(
                "INSERT INTO answer (job_id, round_id, concern, rule, sentence, reason, author_id, at) "
                "VALUES (%s, %s, 'c', 'r', 's', %s, %s, NOW())",
                (job, scene.round.id, word, scene.user.id),
            )
        run("DELETE FROM schema_migration WHERE name = '0007_sound'")
    assert migrate() == ["0007_sound"]
    with unit_of_work():
        assert [one.id for one in LogFile.select()] == [log.id]
        assert [(note.log_id, note.text) for note in LogNote.select()] == [(log.id, "here")]
        assert Customer.select().count() == 1
        assert {car.customer_id for car in Car.select()} == {Customer.get().id}
        assert [memory.unit for memory in ChannelMemory.select()] == ["second"]
        assert [answer.reason for answer in Answer.select()] == ["second"]


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
    for address in (other for other in others if not other.startswith("127.")):
        with socket.socket() as probe:
            probe.settimeout(1)
            assert probe.connect_ex((address, place.port)) != 0


def test_starting_a_running_server_is_quick_and_changes_nothing(database_home):
    before = Place.load()
    assert server.start() == before
    assert server.running()
