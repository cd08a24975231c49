"""What can be measured: the quantities, their canonical units, plausible ranges and the names loggers give them."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Quantity:
    """What a channel measures, whatever a logger calls it.

    Attributes:
        id: the identifier used in formulas, conditions and files.
        unit: the canonical unit (see `units`); all stored samples are in it.
        title: the words shown to people.
        low, high: the physical range in the canonical unit; readings outside it are implausible.
        names: other names by which loggers call it, in plain lower case.
    """

    id: str
    unit: str
    title: str
    low: float
    high: float
    names: tuple[str, ...] = ()


_ALL = (
    Quantity("engine_speed", "rpm", "engine speed", 0, 20000, ("rpm", "engine rpm", "revs", "motor speed")),
    Quantity("vehicle_speed", "km/h", "vehicle speed", 0, 450, ("speed", "road speed", "vss", "wheel speed")),
    Quantity("throttle_position", "%", "throttle", -1, 101, ("throttle", "tps", "throttle angle", "throttle opening")),
    Quantity("pedal_position", "%", "pedal", -1, 101, ("pedal", "accelerator", "accelerator pedal", "app")),
    Quantity(
        "manifold_pressure",
        "kPa",
        "intake pressure",
        5,
        500,
        ("map", "intake pressure", "manifold absolute pressure", "intake manifold pressure", "manifold absolute"),
    ),
    Quantity("barometric_pressure", "kPa", "barometric pressure", 50, 110, ("baro", "barometer", "ambient pressure")),
    Quantity("boost_pressure", "kPa", "boost", -105, 400, ("boost", "gauge pressure")),
    Quantity("pressure_ratio", "1", "pressure ratio", 0.05, 5, ("map ratio",)),
    Quantity("airflow", "g/s", "airflow", 0, 1500, ("maf", "air mass", "mass airflow", "mass air flow", "air flow")),
    Quantity("airflow_frequency", "Hz", "airflow frequency", 0, 20000, ("maf frequency", "maf hz")),
    Quantity("airflow_voltage", "V", "airflow voltage", 0, 5.5, ("maf voltage", "maf volts", "airflow volts")),
    Quantity("cylinder_air", "g", "air per cylinder", 0, 10, ("cylinder airmass", "air per cylinder")),
    Quantity("engine_load", "1", "load", 0, 5, ("load", "calculated load")),
    Quantity(
        "coolant_temperature",
        "degC",
        "coolant",
        -50,
        150,
        (
            "coolant",
            "ect",
            "clt",
            "coolant temp",
            "engine temperature",
            "water temperature",
            "engine coolant temperature",
        ),
    ),
    Quantity(
        "intake_air_temperature",
        "degC",
        "intake air",
        -50,
        150,
        ("iat", "intake air", "intake temperature", "intake temp", "charge air temperature", "air temperature"),
    ),
    Quantity("oil_temperature", "degC", "oil", -50, 200, ("oil temp", "engine oil temperature")),
    Quantity("exhaust_temperature", "degC", "exhaust gas", -50, 1300, ("egt", "exhaust gas temperature")),
    Quantity(
        "lambda_measured",
        "1",
        "λ measured",
        0.5,
        9,
        ("lambda", "wideband", "wideband lambda", "measured lambda", "lambda actual", "measured mixture", "λ measured"),
    ),
    Quantity("lambda_measured_2", "1", "λ measured, bank 2", 0.5, 9, ("lambda 2", "lambda bank 2", "wideband 2")),
    Quantity(
        "lambda_target",
        "1",
        "λ target",
        0.5,
        2,
        ("target lambda", "commanded lambda", "lambda command", "lambda setpoint", "commanded mixture", "λ target"),
    ),
    Quantity("mixture_voltage", "V", "mixture voltage", 0, 5.5, ("wideband voltage", "lambda voltage")),
    Quantity(
        "short_term_trim",
        "%",
        "short-term trim",
        -60,
        60,
        ("stft", "short term fuel trim", "short term trim", "stft bank 1", "stft1"),
    ),
    Quantity("short_term_trim_2", "%", "short-term trim, bank 2", -60, 60, ("stft bank 2", "stft2")),
    Quantity(
        "long_term_trim",
        "%",
        "long-term trim",
        -60,
        60,
        ("ltft", "long term fuel trim", "long term trim", "learned trim", "ltft bank 1", "ltft1"),
    ),
    Quantity("long_term_trim_2", "%", "long-term trim, bank 2", -60, 60, ("ltft bank 2", "ltft2")),
    Quantity("loop_state", "1", "loop state", 0, 1, ("closed loop", "loop", "fuel loop")),
    Quantity("injector_pulse", "ms", "injector pulse", 0, 60, ("injector pulse width", "pulse width", "inj pw")),
    Quantity("injector_duty", "%", "injector duty", 0, 130, ("duty", "injector duty cycle", "inj duty")),
    Quantity("fuel_pressure", "kPa", "fuel pressure", 0, 30000, ("rail pressure",)),
    Quantity("ethanol_content", "%", "ethanol", 0, 100, ("ethanol", "ethanol percent", "flex fuel")),
    Quantity(
        "spark_advance", "deg", "spark advance", -40, 70, ("spark", "ignition advance", "timing", "ignition timing")
    ),
    Quantity("knock_retard", "deg", "knock retard", 0, 40, ("retard", "knock correction", "spark retard")),
    Quantity("knock_level", "V", "knock level", 0, 10, ("knock", "knock voltage")),
    Quantity("knock_limit", "V", "knock limit", 0, 10, ("knock threshold",)),
    Quantity("knock_count", "1", "knock count", 0, 1e9, ("knock events",)),
    Quantity("low_octane_flag", "1", "low octane", 0, 1, ("low octane",)),
    Quantity("battery_voltage", "V", "battery", 0, 20, ("battery", "battery volts", "supply voltage", "vbat")),
    Quantity("intake_cam_advance", "deg", "intake cam", -90, 90, ("intake cam", "intake cam angle")),
    Quantity("exhaust_cam_advance", "deg", "exhaust cam", -90, 90, ("exhaust cam", "exhaust cam angle")),
    Quantity("idle_airflow_target", "g/s", "desired idle airflow", 0, 60, ("desired idle airflow", "idle airflow")),
    Quantity("in_gear", "1", "in gear", 0, 1, ("in drive",)),
    Quantity("gear", "1", "gear", -1, 12, ("gear number", "current gear")),
    Quantity("after_start_active", "1", "after-start enrichment", 0, 1, ("after start", "after start active")),
    Quantity("overrun_cut_active", "1", "overrun fuel cut", 0, 1, ("overrun", "fuel cut", "overrun fuel cut")),
    Quantity("wheel_torque", "Nm", "torque at the wheels", -3000, 5000, ("torque",)),
    Quantity("wheel_power", "kW", "power at the wheels", -500, 2000, ("power",)),
    Quantity("marker", "1", "marker", 0, 1, ("mark", "event marker", "driver mark")),
)

QUANTITIES: dict[str, Quantity] = {quantity.id: quantity for quantity in _ALL}
