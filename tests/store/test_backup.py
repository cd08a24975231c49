"""A backup is whole or not there, and a database made from it equals the one it was made of."""

from __future__ import annotations

import threading
import zipfile
from dataclasses import replace

import pytest

from tests.store.conftest import log_text, ready
from uchiwa.core.errors import BadInput
from uchiwa.store import backup, jobs, messages
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import ALL, LogFile, LogRawChunk, Message
from uchiwa.store.place import Place


def everything() -> dict[str, int]:
    with unit_of_work():
        return {
            model._meta.table_name: database.execute_sql(f"CHECKSUM TABLE `{model._meta.table_name}`").fetchone()[1]
            for model in ALL
        }


def place() -> Place:
    found = Place.load()
    assert found is not None
    return found


def test_backed_up_while_people_work_and_restored_equal(scene, tmp_path):
    ready(scene.receive(log_text(), "drive.csv")[0])
    before = everything()
    over = threading.Event()

    def work() -> None:
        number = 0
        while not over.is_set():
            with unit_of_work():
                messages.write(scene.job, f"{number}", scene.user)
                messages.write(scene.job, f"{number} again", scene.user)
            number += 1

    writer = threading.Thread(target=work)
    writer.start()
    try:
        manifest = backup.back_up(place(), tmp_path / "shop.backup")
    finally:
        over.set()
        writer.join()
    assert backup.read_manifest(tmp_path / "shop.backup") == manifest
    with pytest.raises(BadInput, match="not empty"):
        backup.restore(place(), tmp_path / "shop.backup")
    backup.restore(place(), tmp_path / "shop.backup", replace=True)
    after = everything()
    assert {name: value for name, value in after.items() if name != "message"} == {
        name: value for name, value in before.items() if name != "message"
    }
    with unit_of_work():
        assert Message.select().count() % 2 == 0, "one moment: never half of what was written together"
        assert jobs.find(scene.user.shop_id, scene.job.id) is not None
    assert backup.damaged_uploads() == (1, [])


def test_a_damaged_backup_is_refused_before_anything_is_touched(scene, tmp_path):
    path = tmp_path / "shop.backup"
    backup.back_up(place(), path)
    whole = path.read_bytes()
    before = everything()
    for spoiled in (whole[:-200], whole[:300] + bytes([whole[300] ^ 1]) + whole[301:], b"", b"no zip at all"):
        path.write_bytes(spoiled)
        with pytest.raises(BadInput, match="backup"):
            backup.restore(place(), path, replace=True)
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("manifest.json", "{}")
    with pytest.raises(BadInput, match="backup"):
        backup.read_manifest(path)
    assert everything() == before


def test_a_backup_that_fails_leaves_nothing(scene, tmp_path, monkeypatch):
    wrong = Place(**{**place().__dict__, "password": "wrong"})
    with pytest.raises(backup.BackupError, match="mariadb-dump"):
        backup.back_up(wrong, tmp_path / "shop.backup")
    assert list(tmp_path.iterdir()) == []
    (tmp_path / "there").write_text("x")
    with pytest.raises(BadInput, match="there already"):
        backup.back_up(place(), tmp_path / "there")
    with pytest.raises(BadInput, match="no such folder"):
        backup.back_up(place(), tmp_path / "nowhere" / "x")


def test_a_raw_upload_that_was_changed_is_found(scene):
    ready(scene.receive(log_text(size=300), "drive.csv")[0])
    with unit_of_work():
        data = bytes(LogRawChunk.get().data)
        LogRawChunk.delete().execute()
        other, _ = scene.receive("something else\n", "other.csv")
        chunk = LogRawChunk.get(LogRawChunk.log == other)
        LogRawChunk.create(log=LogFile.select().order_by(LogFile.id).get(), position=0, data=chunk.data)
    number, bad = backup.damaged_uploads()
    assert (number, len(bad)) == (2, 1)
    assert data


@pytest.mark.parametrize("command", ["\\! touch {file}", "system touch {file}", "source {file}", "tee {file}"])
def test_what_stands_in_a_dump_runs_no_commands(scene, tmp_path, command):
    opened = tmp_path / "opened"
    with pytest.raises(backup.BackupError):
        backup._feed(place(), iter([f"SELECT 1;\n{command.format(file=opened)}\nSELECT 2;\n".encode()]))
    assert not opened.exists()


def test_a_backup_tells_whether_it_was_made_here(scene, tmp_path):
    manifest = backup.back_up(place(), tmp_path / "shop.backup")
    assert manifest.made_here(place())
    assert manifest.made_here(place().rotated()), "older secrets still know what they sealed"
    assert not manifest.made_here(replace(place(), secret_key="another", older_secret_keys=()))
    assert not replace(manifest, sha256="0" * 64).made_here(place())
    assert not replace(manifest, seal="").made_here(place())
