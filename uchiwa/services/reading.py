"""Logs opened for reading: recorded channels from the store, computed ones worked out from them and remembered."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass

import numpy as np

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import Book
from uchiwa.core.formulas.evaluation import Scope, Workings
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.signal import spans
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Calibration, Table
from uchiwa.core.viewing.alignment import marker_times
from uchiwa.core.viewing.digits import digits
from uchiwa.core.viewing.pyramid import InMemory, Source
from uchiwa.services.live.growing_log import GrowingLog, GrowingSignal, growing_log
from uchiwa.store import calibrations, channels, revisions, samples
from uchiwa.store.log_states import READY
from uchiwa.store.models import Job, LogFile, Round
from uchiwa.store.remembered import Remembered
from uchiwa.store.stored_log import StoredLog, StoredSignal

_whole: Remembered[FloatArray] = Remembered(64_000_000)
_computed: Remembered[InMemory] = Remembered(64_000_000)
_spans: Remembered[list[tuple[float, float]]] = Remembered(16_000_000)


def forget() -> None:
    """Drop everything that is remembered; for measurements."""
    for one in (_whole, _computed, _spans):
        one.clear()


@dataclass(frozen=True)
class Trace:
    """Something that can be drawn.

    Attributes:
        key: a quantity's id, a computed channel's, or `:` and a logger's own name.
        title, unit: as shown.
        decimals: digits after the point.
        computed: whether it is worked out from others.
        low, high, mean: over the whole log, where that is known without working it out.
    """

    key: str
    title: str
    unit: str
    decimals: int
    computed: bool
    low: float | None = None
    high: float | None = None
    mean: float | None = None


class _Recorded(Mapping[str, FloatArray]):
    """The quantities of a log on the time base of engine speed, each fetched when it is first asked for."""

    def __init__(self, stored: StoredLog | GrowingLog) -> None:
        self._stored = stored

    def __contains__(self, name: object) -> bool:
        return name in self._stored.signals and not str(name).startswith(":")

    def __iter__(self) -> Iterator[str]:
        return (key for key in self._stored.signals if not key.startswith(":"))

    def __len__(self) -> int:
        return sum(1 for _ in self)

    def __getitem__(self, name: str) -> FloatArray:
        if name not in self:
            raise KeyError(name)
        return self._stored_on_main(name)

    def _stored_on_main(self, key: str) -> FloatArray:
        signal = self._stored.signals[key]
        base = self._stored.main_time
        self.fetch([key])
        values = _whole_of(signal)
        if signal.raster == base.raster:
            return values
        time = _whole_of(self._stored.times[signal.raster])
        return np.interp(_whole_of(base), time, values, left=np.nan, right=np.nan)

    def free(self, key: str) -> FloatArray:
        """A channel whose quantity is not known."""
        return self._stored_on_main(key)

    def fetch(self, names: Collection[str]) -> None:
        """Fetch several channels, and the time bases they stand on, in one query."""
        if isinstance(self._stored, GrowingLog):
            return
        known = [self._stored.signals[name] for name in names if name in self._stored.signals]
        known += [self._stored.main_time, *(self._stored.times[signal.raster] for signal in known)]
        missing = {signal.id: signal for signal in known if _whole.get(("whole", signal.id)) is None}
        for number, values in samples.values_of(list(missing)).items():
            _whole.put(("whole", number), values, values.nbytes)


def _whole_of(signal: StoredSignal | GrowingSignal) -> FloatArray:
    if isinstance(signal, GrowingSignal):
        return signal.values
    found = _whole.get(("whole", signal.id))
    if found is None:
        found = samples.values_of([signal.id])[signal.id]
        _whole.put(("whole", signal.id), found, found.nbytes)
    return found


class OpenLog:
    """A log being read.

    Args:
        log: ready, or being recorded.
        book: the shop's computed channels.
        calibration: the one it was recorded with.
        car: the car file.
        keys: of the channels that matter; None for all.
    """

    def __init__(
        self,
        log: LogFile,
        book: Book,
        calibration: Calibration | None,
        car: CarFile,
        keys: Collection[str] | None = None,
    ) -> None:
        self.log, self.book, self.calibration, self.car = log, book, calibration, car
        wanted = None if keys is None else {key for one in keys for key in self._sources(one)}
        self.stored: StoredLog | GrowingLog = StoredLog(log, wanted) if log.state == READY else growing_log(log)
        self.recorded = _Recorded(self.stored)

    def _sources(self, key: str) -> Collection[str]:
        if key not in self.book:
            return [key]
        return [key, *self.book.needs(self.book[key].formula, self.calibration)]

    @property
    def start(self) -> float:
        """First moment, s."""
        return self.stored.start

    @property
    def end(self) -> float:
        """Last moment, s."""
        return self.stored.end

    def traces(self) -> dict[str, Trace]:
        """Everything that can be drawn of it, by key: recorded channels, then computed ones that it has the data for."""
        found = {key: self.trace(key) for key in self.stored.signals}
        for computed in self.book:
            if computed.id not in found and not self.problem(computed.id):
                found[computed.id] = self.trace(computed.id)
        return found

    def trace(self, key: str) -> Trace:
        """One thing that can be drawn of it."""
        signal = self.stored.signals.get(key)
        if signal is None:
            unit = self.book.meaning(key, self.calibration, self.car).unit
            return Trace(key, self.book[key].title, unit, digits(key, unit, None, None), True)
        known = QUANTITIES.get(signal.quantity or "")
        low, high = (None, None) if signal.mean is None else signal.extent
        unit = known.unit if known else signal.unit
        title = known.title if known else signal.name
        return Trace(key, title, unit, digits(key, unit, low, high), False, low, high, signal.mean)

    def problem(self, key: str) -> str:
        """Why a trace cannot be drawn of this log, or nothing."""
        if key in self.stored.signals:
            return ""
        if key.startswith(":") or (key not in self.book and key not in QUANTITIES):
            return f"This log has no channel “{key.removeprefix(':')}”."
        if key not in self.book:
            return f"This log has no {QUANTITIES[key].title}."
        lacking = self.book.lacking(key, self.recorded, self.calibration, self.car)
        return f"This log has no {lacking}, from which {self.book[key].title} is computed." if lacking else ""

    def source(self, key: str) -> tuple[Source, Source]:
        """Time and values of a trace.

        Raises:
            BadInput: the log lacks it, or what it is computed from.
        """
        if key in self.stored.signals:
            return self.stored.time_of(key), self.stored.signals[key]
        if key not in self.book:
            raise BadInput(self.problem(key).rstrip("."), where=self.log.name, advice="leave it out, or record it")
        return self.stored.main_time, self._worked_out(key)

    def _worked_out(self, key: str) -> InMemory:
        name = ("computed", self.stored.version, key, self._surroundings(key))
        found = _computed.get(name)
        if found is None:
            found = InMemory(self.workings(self.book[key].formula).channel(key))
            _computed.put(name, found, 2 * found.values.nbytes)
        return found

    def _surroundings(self, text: str) -> tuple[object, ...]:
        """All that the value of a formula depends on besides the log."""
        formula = self.book[text].formula if text in self.book else text
        return (self.book.written_out(formula), self.calibration, self.car)

    def workings(self, text: str) -> Workings:
        """What a formula is evaluated with, the channels that it needs already fetched."""
        self.recorded.fetch(self.book.needs(text, self.calibration))
        return Workings(self.time, self.recorded, Scope(self.calibration, self.car, self.book))

    @property
    def time(self) -> FloatArray:
        """The time base of engine speed; s."""
        return _whole_of(self.stored.main_time)

    def whole(self, key: str) -> FloatArray:
        """All values of a trace on the time base of engine speed.

        Raises:
            BadInput: the log lacks it.
        """
        if key in self.stored.signals:
            return self.recorded.free(key)
        _, values = self.source(key)
        return values.samples(0, values.size)

    def condition_spans(self, text: str) -> list[tuple[float, float]]:
        """Stretches in which a condition holds.

        Raises:
            BadInput: it is no condition, or the log lacks a channel.
        """
        name = ("where", self.stored.version, text, self._surroundings(text))
        found = _spans.get(name)
        if found is None:
            found = spans(self.time, self.workings(text).condition(text))
            _spans.put(name, found, 100 + 100 * len(found))
        return found

    def markers(self) -> tuple[float, ...]:
        """Moments that the driver marked; s."""
        if "marker" not in self.stored.signals:
            return ()
        name = ("markers", self.stored.version)
        found = _spans.get(name)
        if found is None:
            signal = self.stored.signals["marker"]
            at = marker_times(_whole_of(self.stored.times[signal.raster]), _whole_of(signal))
            found = _spans.put(name, [(one, one) for one in at], 100 + 100 * len(at))
        return tuple(one for one, _ in found)

    def along(self, table: Table, first: int, last: int) -> tuple[FloatArray, FloatArray | None]:
        """Samples first … last − 1 of a table's axes, in the axes' units.

        Raises:
            BadInput: the log lacks an axis.
        """
        found: list[FloatArray] = []
        for axis in (table.x, table.y):
            if axis is None:
                continue
            time, values = self.source(axis.quantity)
            if time is not self.stored.main_time and time.size != self.stored.main_time.size:
                part = self.whole(axis.quantity)[first:last]
            else:
                part = values.samples(first, last)
            found.append(convert(part, QUANTITIES[axis.quantity].unit, axis.unit))
        return found[0], found[1] if len(found) > 1 else None


class Reader:
    """Opens the logs of a job, each with the calibration it was recorded with.

    Args:
        job: with its car.
        shop_id: whose computed channels are used.
    """

    def __init__(self, job: Job, shop_id: int) -> None:
        self.job = job
        self.book = channels.book_of(shop_id)
        self.car = CarFile.loads(job.car.file)
        self._calibrations: dict[int, Calibration | None] = {}

    def calibration_of(self, round_: Round) -> Calibration | None:
        """The revision that a round's logs are recorded with."""
        if round_.id not in self._calibrations:
            revision = revisions.running(self.job, round_)
            self._calibrations[round_.id] = calibrations.content(revision.calibration) if revision else None
        return self._calibrations[round_.id]

    def open(self, log: LogFile, keys: Collection[str] | None = None) -> OpenLog:
        """A log of the job."""
        return OpenLog(log, self.book, self.calibration_of(log.round), self.car, keys)
