"""What tests of a draft do over HTTP."""

from __future__ import annotations

import json
import re

from uchiwa.core.tables.image.files import write_image
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import image_of, layout_data
from uchiwa.store import calibrations, drafts
from uchiwa.store.database import unit_of_work

PIKE = car_named("corvid-pike")
FRAGMENT = {"x-fragment": "yes"}


def draft(scene):
    with unit_of_work():
        return drafts.current(scene.job)


def content(scene):
    with unit_of_work():
        return calibrations.content(drafts.current(scene.job).calibration)


def edit(client, path, scene, line, cells="4.4", table="spark_main", **more):
    fields = {"table": table, "cells": cells, "line": line, "version": draft(scene).version} | more
    return client.send_form(f"{path}/tables/edit", fields, headers=FRAGMENT)


def answer_all(client, path):
    page = client.get(f"{path}/review").text
    for key in re.findall(r'name="concern" value="([0-9a-f]+)"><input name="reason"', page):
        assert client.send_form(f"{path}/review/answer", {"concern": key, "reason": "as intended"}).status_code == 303


def give_image(client, scene, kind="hex"):
    layout = json.dumps(layout_data(PIKE))
    return client.send_form(
        f"/jobs/{scene.job.id}/image",
        files={"layout": ("pike.layout.json", layout), "image": ("pike.hex", write_image(image_of(PIKE), kind))},
    )
