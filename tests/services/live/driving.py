"""A stand-in's drive as the batches that a program would send."""

from __future__ import annotations

import json

from tests.store.conftest import Scene
from uchiwa.services.live import passing
from uchiwa.standin.fleet import car_named
from uchiwa.standin.live_drive import LiveDrive
from uchiwa.store.models import LiveSession


def opening_of(drive: LiveDrive) -> bytes:
    """As the protocol has it."""
    channels = [{"name": channel.name, "unit": channel.unit} for channel in drive.channels]
    return json.dumps(
        {"format": "uchiwa.live/1", "channels": channels, "mark": drive.revision, "drive": "cruise"}
    ).encode()


def driven(
    seconds: float, seed: int = 3, each: int = 25, drive_name: str = "steady_cruise"
) -> tuple[LiveDrive, list[bytes]]:
    """A drive and its batches."""
    car = car_named("corvid-pike")
    drive = LiveDrive(car, car.base(), drive_name, seed)
    batches: list[bytes] = []
    while drive.run.time < seconds:
        rows = [drive.next_row() for _ in range(each)]
        batches.append(json.dumps({"batch": len(batches) + 1, "rows": rows}).encode())
    return drive, batches


def begun(scene: Scene, drive: LiveDrive) -> tuple[LiveSession, str]:
    """A session of it."""
    found = passing.begin(scene.job, scene.round, opening_of(drive))
    return found.session, found.key
