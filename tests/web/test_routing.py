"""What runs again after a deadlock runs with the same uploads, however a route takes them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

import pytest
from fastapi import Depends, FastAPI, File, Form, UploadFile
from peewee import OperationalError
from starlette.testclient import TestClient

from uchiwa.store import database
from uchiwa.web.requests.sent_file import sent_file
from uchiwa.web.requests.session import Fields
from uchiwa.web.routing import router

DEADLOCK = OperationalError(1213, "Deadlock found when trying to get lock; try restarting transaction")


@dataclass(frozen=True)
class Typed:
    """A form with a file."""

    file: Annotated[UploadFile, File()]
    name: Annotated[str, Form()] = ""


def application(runs: list[bytes]) -> FastAPI:
    """Routes that take a file in each of the ways there are, and meet a deadlock the first time."""
    routes, app = router(), FastAPI()

    def take(data: bytes) -> dict[str, int]:
        runs.append(data)
        if len(runs) == 1:
            raise DEADLOCK
        return {"bytes": len(data)}

    @routes.post("/fields")
    def as_fields(form: Fields) -> dict[str, int]:
        return take(sent_file(form, "file", 1000)[0])

    @routes.post("/file")
    def as_file(file: UploadFile) -> dict[str, int]:
        return take(file.file.read())

    @routes.post("/files")
    def as_files(file: list[UploadFile]) -> dict[str, int]:
        return take(file[0].file.read())

    @routes.post("/dataclass")
    def as_dataclass(form: Annotated[Typed, Depends()]) -> dict[str, int]:
        return take(form.file.file.read())

    app.include_router(routes)
    return app


@pytest.mark.parametrize("way", ["fields", "file", "files", "dataclass"])
def test_a_file_is_there_again_after_a_deadlock(way, monkeypatch):
    monkeypatch.setattr(database, "_pause", lambda *_: None, raising=False)
    runs: list[bytes] = []
    answer = TestClient(application(runs)).post(f"/{way}", files={"file": ("a.json", b"{}" * 50)}, data={"name": "x"})
    assert answer.status_code == 200, answer.text
    assert runs == [b"{}" * 50] * 2


def test_fields_are_cleaned_and_files_are_not():
    routes, app, seen = router(), FastAPI(), []

    @routes.post("/")
    def all_of_it(form: Fields) -> None:
        seen.append((form["name"], form["password"], form["file"].filename, form["file"].file.read()))

    app.include_router(routes)
    bytes_ = "\u202ea\x00".encode()
    TestClient(app).post(
        "/",
        files={"file": ("b\u202ex.csv", bytes_)},
        data={"name": "A\u030a\u202e\x07\r\nb", "password": "A\u030a\x07"},
    )
    assert seen == [("\u00c5\nb", "A\u030a\x07", "bx.csv", bytes_)]
