"""The corpus: log files made by generators, each with what must be read from it."""

from __future__ import annotations

import gzip
import io
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
import polars as pl
from asammdf import MDF, Signal

from bench.zips import zipped
from uchiwa.core.cars.fuels import FUELS
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.logs.recognition.knowledge import Knowledge
from uchiwa.core.logs.writers.delimited import Dialect, write_text
from uchiwa.core.logs.writers.mdf import write_mdf

ROWS = 160
RATE = 20.0


def known_log() -> Log:
    """Eight seconds of a road, with numbers that decimal text carries exactly."""
    time = np.arange(ROWS) / RATE
    wave = np.sin(time)
    channels = (
        ("RPM", "rpm", np.round(1800 + 900 * wave), "engine_speed"),
        ("MAP", "kPa", np.round(60 + 30 * wave, 1), "manifold_pressure"),
        ("Baro", "kPa", np.full(ROWS, 99.5), "barometric_pressure"),
        ("ECT", "°C", np.round(84 + time / 4, 2), "coolant_temperature"),
        ("Lambda", "", np.round(1 + 0.05 * wave, 3), "lambda_measured"),
        ("Lambda target", "", np.full(ROWS, 1.0), "lambda_target"),
        ("STFT", "%", np.round(3 * wave, 2), "short_term_trim"),
        ("Closed loop", "", (time > 3).astype(float), "loop_state"),
        ("Vehicle speed", "km/h", np.round(60 + 20 * wave, 1), "vehicle_speed"),
        ("MAF", "g/s", np.round(20 + 9 * wave, 2), "airflow"),
    )
    return Log("known", (Raster(time, tuple(Channel(n, u, v, q, u) for n, u, v, q in channels)),))


TRUTH = {channel.quantity: channel.values for channel in known_log().rasters[0].channels}


@dataclass(frozen=True)
class Case:
    """A file of the corpus.

    Attributes:
        name: what it shows.
        data: its bytes.
        truth: quantities and the canonical readings that must come out.
        tolerance: relative, where units round.
        rasters, recordings: how many there must be.
        repairs: kinds of repair that must be said.
        knowledge: what is known of the car.
        doubted: quantities whose label must be doubted.
        start: time of the first row.
    """

    name: str
    data: bytes
    truth: dict[str, np.ndarray] = field(default_factory=lambda: dict(TRUTH))
    tolerance: float = 1e-9
    rasters: int = 1
    recordings: int = 1
    repairs: tuple[str, ...] = ()
    knowledge: Knowledge = field(default_factory=Knowledge)
    doubted: tuple[str, ...] = ()
    time: np.ndarray | None = field(default_factory=lambda: np.arange(ROWS) / RATE)


def text(**changes: object) -> bytes:
    """The known log in a dialect."""
    return write_text(known_log(), Dialect(**changes))  # type: ignore[arg-type]


def with_channel(name: str, unit: str, values: np.ndarray, *, instead_of: str) -> Log:
    """The known log with one channel written otherwise."""
    raster = known_log().rasters[0]
    channels = tuple(Channel(name, unit, values) if one.quantity == instead_of else one for one in raster.channels)
    return Log("known", (Raster(raster.time, channels),))


def _unit_cases() -> list[Case]:
    t = TRUTH
    made: list[tuple[str, str, str, str, np.ndarray, dict[str, object]]] = [
        ("Fahrenheit", "ECT", "°F", "coolant_temperature", t["coolant_temperature"] * 1.8 + 32, {}),
        ("Kelvin", "ECT", "K", "coolant_temperature", t["coolant_temperature"] + 273.15, {}),
        ("psi absolute", "MAP", "psi", "manifold_pressure", t["manifold_pressure"] / 6.894757293168361, {}),
        ("psia", "MAP", "psia", "manifold_pressure", t["manifold_pressure"] / 6.894757293168361, {}),
        ("psi gauge", "MAP", "psi(g)", "manifold_pressure", (t["manifold_pressure"] - 99.5) / 6.894757293168361, {}),
        ("psig", "MAP", "psig", "manifold_pressure", (t["manifold_pressure"] - 99.5) / 6.894757293168361, {}),
        ("bar gauge", "MAP", "bar gauge", "manifold_pressure", (t["manifold_pressure"] - 99.5) / 100, {}),
        ("inHg", "MAP", "inHg", "manifold_pressure", t["manifold_pressure"] / 3.386389, {}),
        ("bar", "MAP", "bar", "manifold_pressure", t["manifold_pressure"] / 100, {}),
        ("mbar", "MAP", "mbar", "manifold_pressure", t["manifold_pressure"] * 10, {}),
        ("mph", "Vehicle speed", "mph", "vehicle_speed", t["vehicle_speed"] / 1.609344, {}),
        ("kg/h", "MAF", "kg/h", "airflow", t["airflow"] * 3.6, {}),
        ("lb/min", "MAF", "lb/min", "airflow", t["airflow"] / 7.559872833333333, {}),
        ("AFR of petrol", "AFR", "AFR", "lambda_measured", t["lambda_measured"] * 14.7, {}),
        ("AFR by its name", "Wideband AFR", "", "lambda_measured", t["lambda_measured"] * 14.7, {}),
        ("AFR of E85", "AFR", "AFR", "lambda_measured", t["lambda_measured"] * FUELS["e85"].stoichiometric, {"knowledge": Knowledge(FUELS["e85"])}),
        ("AFR of a gauge fixed at 14.7 on E85", "AFR", "AFR", "lambda_measured", t["lambda_measured"] * 14.7, {"knowledge": Knowledge(FUELS["e85"], 14.7)}),
        ("trim as a factor", "STFT", "factor", "short_term_trim", t["short_term_trim"] / 100 + 1, {}),
        ("λ in a channel named AFR", "AFR", "AFR", "lambda_measured", t["lambda_measured"], {"doubted": ("lambda_measured",)}),
        ("AFR in a channel named lambda", "Lambda", "", "lambda_measured", t["lambda_measured"] * 14.7, {"doubted": ("lambda_measured",)}),
        ("psi labelled kPa", "MAP", "kPa", "manifold_pressure", t["manifold_pressure"] / 6.894757293168361, {"doubted": ("manifold_pressure",)}),
        ("bar labelled kPa", "MAP", "kPa", "manifold_pressure", t["manifold_pressure"] / 100, {"doubted": ("manifold_pressure",)}),
        ("kPa labelled psi", "MAP", "psi", "manifold_pressure", t["manifold_pressure"], {"doubted": ("manifold_pressure",)}),
        ("Fahrenheit labelled Celsius", "ECT", "°C", "coolant_temperature", t["coolant_temperature"] * 1.8 + 32, {"doubted": ("coolant_temperature",)}),
        ("gauge pressure labelled kPa", "MAP", "kPa", "manifold_pressure", t["manifold_pressure"] - 99.5, {"doubted": ("manifold_pressure",)}),
        ("inHg labelled kPa as barometer", "Baro", "kPa", "barometric_pressure", t["barometric_pressure"] / 3.386389, {"doubted": ("barometric_pressure",)}),
        ("factor labelled %", "STFT", "%", "short_term_trim", t["short_term_trim"] / 100 + 1, {"doubted": ("short_term_trim",)}),
    ]  # fmt: skip
    cases = [
        Case(
            f"unit: {title}",
            write_text(with_channel(name, unit, values, instead_of=quantity), Dialect()),
            tolerance=1e-6,
            **more,
        )  # type: ignore[arg-type]
        for title, name, unit, quantity, values, more in made
    ]
    stroke = {key: value for key, value in t.items() if key != "airflow"} | {"cylinder_air": t["airflow"] / 100}
    log = with_channel("Air mass", "mg/stroke", t["airflow"] * 10, instead_of="airflow")
    cases.append(Case("unit: mg/stroke is air per cylinder", write_text(log, Dialect()), truth=stroke, tolerance=1e-6))
    for title, unit, quantity, values in (
        ("Hz", "Hz", "airflow_frequency", t["airflow"] * 100),
        ("volts", "V", "airflow_voltage", t["airflow"] / 10),
    ):
        other = {key: value for key, value in t.items() if key != "airflow"} | {quantity: values}
        cases.append(
            Case(
                f"unit: an airflow meter in {title}",
                write_text(with_channel("MAF", unit, values, instead_of="airflow"), Dialect()),
                truth=other,
                tolerance=1e-6,
            )
        )
    cases.append(_flex())
    return cases


def _flex() -> Case:
    """AFR by an ethanol content that moves while it is logged."""
    log = known_log()
    ethanol = np.linspace(10, 80, ROWS).round(2)
    fuel = ethanol / 100 * 0.789, (1 - ethanol / 100) * 0.745
    ratio = (fuel[0] * 9.0 + fuel[1] * 14.7) / (fuel[0] + fuel[1])
    channels = tuple(
        Channel("AFR", "AFR", TRUTH["lambda_measured"] * ratio) if one.quantity == "lambda_measured" else one
        for one in log.rasters[0].channels
    )
    made = Log("known", (Raster(log.rasters[0].time, (*channels, Channel("Ethanol", "%", ethanol))),))
    truth = TRUTH | {"ethanol_content": ethanol}
    return Case(
        "unit: AFR by logged ethanol",
        write_text(made, Dialect()),
        truth=truth,
        tolerance=1e-6,
        knowledge=Knowledge(FUELS["flex"]),
    )


LOOP = {"Closed loop": {0.0: "OL", 1.0: "CL"}}


def _dialect_cases() -> list[Case]:
    """Delimiters, decimals, encodings, units, preambles, clocks and words for states."""
    cases = [
        Case(f"delimiter {name}", text(delimiter=mark))
        for name, mark in (("comma", ","), ("semicolon", ";"), ("tab", "\t"), ("pipe", "|"))
    ]
    cases += [
        Case(f"decimal comma with {name}", text(delimiter=mark, comma=True))
        for name, mark in (("semicolon", ";"), ("tab", "\t"), ("pipe", "|"))
    ]
    cases += [
        Case("decimal comma within quotes and commas", text(comma=True, quote=True)),
        Case("all quoted", text(quote=True)),
    ]
    cases += [Case(f"encoding {name}", text(encoding=name)) for name in ("utf-8", "utf-8-sig", "utf-16", "latin-1")]
    cases += [
        Case("UTF-16 without a mark", text(encoding="utf-16-le")),
        Case("UTF-16 big-endian", b"\xfe\xff" + text(encoding="utf-16-be")),
    ]
    cases += [
        Case("CRLF", text(newline="\r\n")),
        Case("CR only", text(newline="\r")),
        Case("doubled CR", text(newline="\r\r\n")),
    ]
    cases += [
        Case(f"units in {where}", text(units=where)) for where in ("brackets", "parentheses", "row", "name", "none")
    ]
    notes = ("Data export", "Vehicle: Corvid Pike", "Session;7", '"Driver","I. Halloran"', "")
    cases += [
        Case("preamble lines", text(preamble=notes)),
        Case("preamble and units in a row", text(preamble=notes, units="row", delimiter=";")),
    ]
    cases += [Case(f"time as {how}", text(time=how), tolerance=1e-6) for how in ("ms", "us", "h:m:s", "date")]
    cases += [
        Case("time in ms without its unit", text(time="ms", units="none")),
        Case("time in µs without its unit", text(time="us", units="none"), tolerance=1e-6),
    ]
    cases.append(Case("clock time past midnight", text(time="clock", starts=86_396.0), tolerance=1e-6))
    cases.append(Case("only a sample rate", text(time="rate"), repairs=("guess",)))
    cases.append(
        Case(
            "only an interval in ms", b"Interval [ms]: 50\n" + text(time="rate").split(b"\n", 1)[1], repairs=("guess",)
        )
    )
    cases += [
        Case(f"states {off}/{on}", text(words={"Closed loop": {0.0: off, 1.0: on}}))
        for off, on in (("OL", "CL"), ("Open", "Closed"), ("Off", "On"), ("OL-Drive", "CL-Normal"), ("false", "true"))
    ]
    return cases


def _shape_cases() -> list[Case]:
    """Headers that come again, lines that break off, several recordings, archives."""
    plain = text()
    half = ROWS // 2
    lines = plain.splitlines(keepends=True)
    header = lines[0]
    cases = [Case("repeated header", text(header_every=50))]
    cases.append(Case("repeated header and units", text(header_every=50, units="row")))
    cases.append(Case("trailing empty column", text(trailing=True)))
    cases.append(Case("no newline at the end", text(last_line_end=False)))
    short = {key: value[: ROWS - 1] for key, value in TRUTH.items()}
    cases.append(
        Case(
            "last line broken off",
            plain[: -len(lines[-1]) // 2],
            truth=short,
            repairs=("truncated",),
            time=np.arange(ROWS - 1) / RATE,
        )
    )
    seconds, coolant = np.arange(ROWS) / RATE, TRUTH["coolant_temperature"]
    held = TRUTH | {"coolant_temperature": np.interp(seconds, seconds[::10], coolant[::10])}
    cases.append(Case("slow channel with empty cells", text(slow={"ECT": 10}), truth=held))
    double = plain.replace(b"Vehicle speed [km/h]", b"MAF [g/s]", 1)
    cases.append(
        Case(
            "duplicate names",
            double,
            truth={key: value for key, value in TRUTH.items() if key not in ("vehicle_speed", "airflow")},
        )
    )
    jump = b"".join([*lines[: half + 1], lines[half], lines[half - 3], *lines[half + 1 :]])
    cases.append(Case("duplicated and reversed times", jump, repairs=("time",)))
    cases.append(Case("two recordings, header between", plain + plain, recordings=2))
    cases.append(Case("two recordings, blank line and notes", plain + b"\nSession: 2\n" + plain, recordings=2))
    cases.append(Case("two recordings, time starts over", plain + b"".join(lines[1:]), recordings=2))
    cases.append(Case("three recordings", plain + b"\n" + plain + b"\n" + plain, recordings=3))
    cases.append(Case("footer below a blank line", plain + b"\nEnd of export, 160 rows\n"))
    cases.append(Case("blanks around cells", plain.replace(b",", b" , ")))
    cases.append(
        Case(
            "German names",
            _german(),
            truth={
                key: TRUTH[key] for key in ("engine_speed", "manifold_pressure", "coolant_temperature", "vehicle_speed")
            },
        )
    )
    cases.append(
        Case(
            "absent readings as words",
            plain.replace(header, header[:-1] + b",EGT [degC]\n")
            .replace(b"\n", b",N/A\n")
            .replace(b"EGT [degC],N/A", b"EGT [degC]"),
        )
    )
    cases += [
        Case("gzip", gzip.compress(plain)),
        Case("zip", zipped({"a.csv": plain})),
        Case("gzip in zip", zipped({"a.csv.gz": gzip.compress(plain)})),
    ]
    cases.append(
        Case(
            "zip of two logs and a note",
            zipped({"a.csv": plain, "b.csv": plain, "read me.txt": b"two drives"}),
            recordings=2,
        )
    )
    return cases


def _german() -> bytes:
    log = known_log()
    names = {
        "engine_speed": ("Motordrehzahl", "1/min"),
        "manifold_pressure": ("Saugrohrdruck", "kPa"),
        "coolant_temperature": ("Kühlmitteltemperatur", "°C"),
        "vehicle_speed": ("Geschwindigkeit", "km/h"),
    }
    channels = tuple(
        Channel(*names[one.quantity], one.values) for one in log.rasters[0].channels if one.quantity in names
    )
    made = Log("known", (Raster(log.rasters[0].time, channels),))
    return write_text(made, Dialect(delimiter=";", comma=True, encoding="latin-1", units="parentheses")).replace(
        b"Time (s)", b"Zeit (s)"
    )


def three_rasters(version: str = "4.10") -> bytes:
    """MDF by asammdf with rasters of 50, 10 and 1 Hz; linear, rational, table and text conversions."""
    with MDF(version=version) as mdf:
        fast, slow, slowest = (np.arange(0, 20, step) for step in (0.02, 0.1, 1.0))
        raw = (1800 + 600 * np.sin(fast)).astype(np.uint16)
        mdf.append(
            [
                Signal(raw * np.uint16(4), fast, unit="rpm", name="RPM", conversion={"a": 0.25, "b": 0.0}),
                Signal((raw // 20).astype(np.uint8), fast, unit="kPa", name="MAP", conversion={"a": 0.5, "b": 10.0}),
                Signal(
                    np.linspace(0.2, 4.8, fast.size),
                    fast,
                    unit="",
                    name="Lambda",
                    conversion={"raw_0": 0.0, "phys_0": 0.7, "raw_1": 5.0, "phys_1": 1.3},
                ),
            ],
            common_timebase=True,
        )
        mdf.append(
            [Signal((slow * 4).astype(np.uint8), slow, unit="degC", name="ECT", conversion={"a": 1.0, "b": -40.0})],
            common_timebase=True,
        )
        loop = (slowest > 5).astype(np.uint8)
        mdf.append(
            [
                Signal(
                    loop,
                    slowest,
                    unit="",
                    name="Closed loop",
                    conversion={"val_0": 0, "text_0": b"OL", "val_1": 1, "text_1": b"CL"},
                )
            ],
            common_timebase=True,
        )
        with tempfile.TemporaryDirectory() as folder:
            return Path(mdf.save(Path(folder) / ("a.dat" if version < "4" else "a.mf4"))).read_bytes()


def _binary_cases() -> list[Case]:
    log = known_log()
    frame = {"Time [s]": log.rasters[0].time} | {
        f"{one.name} [{one.unit}]": one.values for one in log.rasters[0].channels
    }
    parquet, arrow, dated = io.BytesIO(), io.BytesIO(), io.BytesIO()
    pl.DataFrame(frame).write_parquet(parquet)
    pl.DataFrame(frame).write_ipc(arrow)
    stamps = np.datetime64("2026-11-23T20:00:00", "us") + (log.rasters[0].time * 1e6).astype("timedelta64[us]")
    pl.DataFrame(frame | {"Time [s]": stamps}).rename({"Time [s]": "timestamp"}).write_parquet(dated)
    twice = Log(
        "known",
        (
            Raster(log.rasters[0].time, log.rasters[0].channels[:4]),
            Raster(
                log.rasters[0].time[::4],
                tuple(replace(one, values=one.values[::4]) for one in log.rasters[0].channels[4:]),
            ),
        ),
    )
    slow = {key: (value if number < 4 else value[::4]) for number, (key, value) in enumerate(TRUTH.items())}
    return [
        Case("MDF 4", write_mdf(log)),
        Case("MDF 4, two rasters", write_mdf(twice), truth=slow, rasters=2),
        Case("MDF 4, three rasters with conversions", three_rasters(), truth={}, rasters=3, time=None),
        Case("MDF 3, three rasters with conversions", three_rasters("3.30"), truth={}, rasters=3, time=None),
        Case("MDF 4 in gzip", gzip.compress(write_mdf(log))),
        Case("Parquet", parquet.getvalue()),
        Case("Arrow", arrow.getvalue()),
        Case("Parquet with dates", dated.getvalue()),
        Case("Parquet in zip", zipped({"a.parquet": parquet.getvalue()})),
    ]  # fmt: skip


GENERATORS: tuple[Callable[[], list[Case]], ...] = (
    _dialect_cases,
    _shape_cases,
    _unit_cases,
    _binary_cases,
)


def corpus() -> list[Case]:
    """Every file."""
    return [case for make in GENERATORS for case in make()]
