"""Electrics, cams, idle, states, torque and marks, and the names loggers give them."""

from __future__ import annotations

from uchiwa.core.quantities.quantity import Quantity

QUANTITIES = (
    Quantity(
        "battery_voltage",
        "V",
        "battery",
        0,
        20,
        (
            "battery",
            "battery volts",
            "supply voltage",
            "vbat",
            "battery voltage",
            "system voltage",
            "batteriespannung",
            "bordspannung",
            "tension batterie",
        ),
    ),
    Quantity(
        "intake_cam_advance",
        "deg",
        "intake cam",
        -90,
        90,
        ("intake cam", "intake cam angle", "inlet cam", "inlet cam advance", "intake cam advance"),
    ),
    Quantity(
        "exhaust_cam_advance",
        "deg",
        "exhaust cam",
        -90,
        90,
        ("exhaust cam", "exhaust cam angle", "exhaust cam advance"),
    ),
    Quantity("idle_airflow_target", "g/s", "desired idle airflow", 0, 60, ("desired idle airflow", "idle airflow")),
    Quantity("in_gear", "1", "in gear", 0, 1, ("in drive",)),
    Quantity("gear", "1", "gear", -1, 12, ("gear number", "current gear", "gear position", "selected gear", "gang")),
    Quantity(
        "after_start_active",
        "1",
        "after-start enrichment",
        0,
        1,
        ("after start", "after start active", "after start enrichment", "afterstart"),
    ),
    Quantity(
        "overrun_cut_active",
        "1",
        "overrun fuel cut",
        0,
        1,
        ("overrun", "fuel cut", "overrun fuel cut", "deceleration fuel cut", "overrun cut", "schubabschaltung"),
    ),
    Quantity("wheel_torque", "Nm", "torque at the wheels", -3000, 5000, ("torque",)),
    Quantity("wheel_power", "kW", "power at the wheels", -500, 2000, ("power",)),
    Quantity("marker", "1", "marker", 0, 1, ("mark", "event marker", "driver mark")),
)
