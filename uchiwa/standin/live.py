"""A stand-in car at the other end of a live session: drives in real time or quicker, obeys overlays, takes advice."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection
from dataclasses import dataclass, field
from typing import Any

from uchiwa.core.live.opening import FORMAT
from uchiwa.core.live.overlay import SILENCE_S
from uchiwa.core.tables.table import Calibration
from uchiwa.standin.cars import StandInCar
from uchiwa.standin.live_drive import LiveDrive
from uchiwa.standin.live_link import LiveLink

BATCH_S = 0.12


@dataclass
class Outcome:
    """What became of a session.

    Attributes:
        rows: that were recorded, as they were passed on.
        kept: whether all of them were acknowledged.
        breaks: of the link.
        refused: why the other side said no; empty if it did not.
        said: what it said at the beginning.
        overlays: what was driven: session seconds, number of the overlay (0: own calibration), and why.
    """

    rows: list[list[float]]
    kept: bool = False
    breaks: int = 0
    refused: str = ""
    said: str = ""
    overlays: list[tuple[float, int, str]] = field(default_factory=list)


class LiveCar:
    """Drives and passes on.

    Args:
        drive: the car under way.
        link: the customer's page.
        speed: how much quicker than real time.
        cuts: moments of the drive, s, at which the link breaks, each with how long it stays so in real time, s.
        plain: whether to go over plain HTTP.
        log: called with what happens, in words.
    """

    def __init__(
        self,
        drive: LiveDrive,
        link: str,
        *,
        speed: float = 1.0,
        cuts: Collection[tuple[float, float]] = (),
        plain: bool = False,
        log: Callable[[str], None] = lambda _: None,
    ) -> None:
        self.drive, self.speed, self.cuts, self.log = drive, speed, sorted(cuts), log
        self._told: list[dict[str, Any]] = []
        self.outcome = Outcome([])
        opening = {
            "format": FORMAT,
            "channels": [
                {"name": channel.name, "unit": channel.unit, "rate": 25.0 / drive.every} for channel in drive.channels
            ],
            "mark": drive.revision,
            "program": f"stand-in {drive.car.title}",
            "drive": drive.drive_name.replace("_", " "),
        }
        self.link = LiveLink(link, opening, self._told.append, plain=plain, advised=drive.advised)
        self.outcome.said = self.link.said
        self.began = 0.0
        self._dropped = self._passed_over = 0

    def run(self, until: Callable[[], bool] = lambda: False) -> Outcome:
        """Drive to the end, or until told to stop."""
        self.began = time.monotonic()
        rows: list[list[float]] = []
        sent = self.began
        try:
            while not self.drive.done and not self.link.refused and not until():
                row = self.drive.next_row()
                self.outcome.rows.append(row)
                rows.append(row)
                self._wait(row[0])
                self._obey(row[0])
                if time.monotonic() - sent >= BATCH_S:
                    self.link.send(rows)
                    rows, sent = [], time.monotonic()
                if self.cuts and row[0] >= self.cuts[0][0]:
                    self.link.cut(self.cuts.pop(0)[1])
        finally:
            if rows and not self.link.refused:
                self.link.send(rows)
            self.outcome.kept = self.link.end()
        self.outcome.breaks, self.outcome.refused = self.link.breaks, self.link.refused
        return self.outcome

    def _wait(self, at: float) -> None:
        ahead = at / self.speed - (time.monotonic() - self.began)
        if ahead > 0:
            time.sleep(ahead)

    def _obey(self, at: float) -> None:
        """Do what was told, and go by the car's own calibration when nothing was heard for too long."""
        if self.drive.overlay_number and self.link.silent_s > SILENCE_S:
            self._own(at, "silence")
        while self._told:
            told = self._told.pop(0)
            if "refused" in told:
                self.log(f"refused: {told['refused']}")
            if "overlay" in told:
                self._lay(told["overlay"], at)
            advice = told.get("advice")
            if advice and self.drive.advised:
                self._go(advice)

    def _lay(self, overlay: dict[str, Any], at: float) -> None:
        number = int(overlay.get("number", 0))
        if number == self.drive.overlay_number or 0 < number <= self._dropped:
            return
        if not number:
            self._own(at, "asked")
            return
        if int(overlay.get("from", 0)) != self.drive.overlay_number:
            # A step from something that is not driven any more would be more than a step.
            if number != self._passed_over:
                self._passed_over = number
                self.link.say({"dropped": "another was driven"})
            return
        self.drive.lay_over(overlay["factors"], overlay["table"], number)
        self.outcome.overlays.append((at, number, "driven"))
        self.link.say({"driven": number})
        self.log(f"{at:.0f} s: driving by overlay {number}")

    def _own(self, at: float, why: str) -> None:
        self._dropped = max(self._dropped, self.drive.overlay_number)
        self.drive.lay_over(None)
        self.outcome.overlays.append((at, 0, why))
        self.link.say({"dropped": why})
        self.log(f"{at:.0f} s: back to the car’s own calibration ({why})")

    def _go(self, advice: dict[str, Any]) -> None:
        if advice["ask"] == "idle":
            self.drive.told(None, 0.3)
        elif advice.get("place"):
            self.drive.told(*advice["place"])


def live_car(
    car: StandInCar,
    calibration: Calibration,
    link: str,
    *,
    drive_name: str = "steady_cruise",
    seed: int = 1,
    speed: float = 1.0,
    drop_s: float = 0.0,
    advised: bool = True,
    plain: bool = False,
    revision: str = "",
    longest_s: float = 7200.0,
    log: Callable[[str], None] = lambda _: None,
) -> LiveCar:
    """A stand-in car about to drive.

    Args:
        car, calibration: the car and what its controller runs.
        link: the customer's page.
        drive_name: see `drives.DRIVES`.
        seed: of road, driver and noise.
        speed: how much quicker than real time.
        drop_s: the link breaks for so long, a minute into the drive and every two minutes after.
        advised: whether the driver goes where the phone says.
        plain: whether to pass on over plain HTTP.
        revision: mark of the calibration.
        longest_s: the drive ends after so long at the latest.
        log: called with what happens, in words.
    """
    drive = LiveDrive(car, calibration, drive_name, seed, revision=revision, advised=advised, longest_s=longest_s)
    cuts = [(at, drop_s) for at in range(60, 7200, 120)] if drop_s > 0 else []
    return LiveCar(drive, link, speed=speed, cuts=cuts, plain=plain, log=log)
