"""Pulls: weather, curves, dyno files, road logs, repeatability and what a degree is worth."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from tests.conftest import make_log
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.student import half_width
from uchiwa.core.logs.readers import read_log
from uchiwa.core.pulls.curve import over_speed, raggedness, speed_grid
from uchiwa.core.pulls.gain import Method, distinct, gains
from uchiwa.core.pulls.pull import Source
from uchiwa.core.pulls.recognised import pulls_of
from uchiwa.core.pulls.repeat import repeatability
from uchiwa.core.pulls.road import RoadLoad, air_density, road_power, turns_per_metre
from uchiwa.core.pulls.runs import band_edges, bands_of, even_bands, friction
from uchiwa.core.pulls.trade import boost_slope, trades
from uchiwa.core.pulls.weather import Weather, sae_factor, trusted, vapour_pressure

CENTRES = np.arange(2250.0, 5751.0, 500.0)


@pytest.mark.parametrize(
    ("pressure", "temperature", "humidity", "factor"),
    [
        (99.0, 25.0, None, 1.0),
        (95.0, 35.0, None, 1.0701),  # 1.18 · 1.042105 · √(308/298) − 0.18
        (101.3, 10.0, None, 0.9438),  # 1.18 · 0.977295 · √(283/298) − 0.18
        (100.0, 30.0, 50.0, 1.0235),  # dry 97.879: 1.18 · 1.011453 · √(303/298) − 0.18
    ],
)
def test_the_weather_factor_is_that_of_sae_j1349(pressure, temperature, humidity, factor):
    assert sae_factor(Weather(pressure, temperature, humidity)) == pytest.approx(factor, abs=1e-4)


def test_water_vapour_and_the_range_in_which_the_standard_holds():
    assert vapour_pressure(25.0, 100.0) == pytest.approx(3.167, abs=0.01)
    assert trusted(1.06)
    assert not trusted(1.08)
    with pytest.raises(ValueError, match="no such air"):
        sae_factor(Weather(1.0, 40.0, 100.0))


def test_few_runs_give_wide_intervals():
    assert [half_width(one) for one in (1, 2, 4, 1000)] == pytest.approx([12.706, 4.303, 2.776, 1.962], rel=0.01)


def test_local_regression_keeps_a_parabola_and_draws_nothing_beyond_the_run():
    speed = np.linspace(2000, 6000, 200)
    curve = 200 + 50 * np.sin(speed / 2000)
    grid = speed_grid(1500, 6500)
    drawn = over_speed(speed, curve, grid)
    assert np.isnan(drawn[grid < 1950]).all()
    assert np.isnan(drawn[grid > 6050]).all()
    inside = (grid > 2200) & (grid < 5800)
    assert drawn[inside] == pytest.approx(200 + 50 * np.sin(grid[inside] / 2000), abs=0.3)
    plain = over_speed(speed, curve, grid, 0)
    assert plain[20] == pytest.approx(np.interp(grid[20], speed, curve))
    assert np.isnan(over_speed(speed[:3], curve[:3], grid)).all()


def test_raggedness_is_the_scatter_and_not_the_shape_of_the_curve():
    rng = np.random.default_rng(2)
    shape = np.linspace(150, 250, 4000)
    assert raggedness(shape) < 0.0002
    assert raggedness(shape * (1 + 0.02 * rng.normal(size=4000))) == pytest.approx(0.02, rel=0.06)
    assert math.isnan(raggedness(np.array([1.0, 2.0])))


def road(*, mass=1200.0, force=3000.0, seconds=12.0, ratio=40.0, rate=25.0, **changes):
    """A car pushed by a constant force against its drag and rolling resistance, 16 m/s at first."""
    load = RoadLoad(mass, 0.7, 0.012, engine_inertia=0.0, wheel_inertia=0.0)
    density = air_density(99.0, 20.0)
    fine, v = [], 16.0
    for _ in range(int(seconds * 1000)):
        fine.append(v)
        v += 0.001 * (force - 0.5 * density * 0.7 * v * v - 0.012 * mass * 9.80665) / mass
    velocity = np.array(fine)[:: int(1000 / rate)]
    signals = {
        "engine_speed": velocity * 3.6 * ratio,
        "vehicle_speed": velocity * 3.6,
        "throttle_position": np.full(velocity.size, 100.0),
        "barometric_pressure": 99.0,
        "intake_air_temperature": 20.0,
        "gear": 4.0,
    }
    return make_log(rate, **(signals | changes)), load, force, velocity


def test_road_power_is_force_times_speed():
    log, load, force, velocity = road()
    (pull,) = pulls_of(log, load)
    assert pull.source is Source.ROAD
    middle = slice(30, -30)
    assert pull.power[middle] == pytest.approx(force * velocity[middle] / 1000, rel=0.01)
    assert pull.torque[middle] == pytest.approx(force / 3.6 / 40.0 * 60 / (2 * math.pi), rel=0.01)
    assert pull.gear == 4
    assert pull.factor == pytest.approx(sae_factor(Weather(99.0, 20.0)))


def test_a_slope_is_climbed_with_power():
    time, still = np.arange(0, 3, 0.05), np.full(60, 20.0)
    flat = road_power(time, still, RoadLoad(1000.0, 0.6, 0.01))
    steep = road_power(time, still, RoadLoad(1000.0, 0.6, 0.01, slope=0.1))
    assert steep - flat == pytest.approx(1000 * 9.80665 * 0.0995 * 20 / 1000, rel=0.001)


def pulled(torque: float, overall: float, engine: float, wheels: float, mass: float = 1250.0, radius: float = 0.3):
    """A pull in one gear by an engine of constant torque, whose own and whose wheels' turning parts are sped up too."""
    step, v, fine = 0.001, 9.0, []
    whole = mass + wheels / radius**2 + engine * (overall / radius) ** 2
    while v * overall / radius < 6200 * 2 * math.pi / 60:
        fine.append(v)
        v += step * (torque * overall / radius - 0.5 * 1.2 * 0.65 * v * v - 0.013 * mass * 9.80665) / whole
    velocity = np.array(fine)[::40]
    return make_log(
        25.0, engine_speed=velocity * overall / radius * 60 / (2 * math.pi), vehicle_speed=velocity * 3.6,
        throttle_position=np.full(velocity.size, 100.0), gear=3.0,
    )  # fmt: skip


@pytest.mark.parametrize("seed", range(6))
def test_what_turns_in_the_car_is_counted(seed):
    rng = np.random.default_rng([seed, 88])
    torque, engine, wheels = rng.uniform(150, 400), rng.uniform(0.1, 0.35), rng.uniform(3, 6)
    load = RoadLoad(1250.0, tyre_radius=0.3)
    told, usual = [], []
    for overall in (8.2, 5.4):
        log = pulled(torque, overall, engine, wheels)
        (pull,) = pulls_of(log, replace(load, engine_inertia=engine, wheel_inertia=wheels))
        told.append(np.median(pull.torque[pull.known]) / torque)
        assert not any("turning parts" in note for note in pull.notes)
        (pull,) = pulls_of(log, load)
        usual.append(np.median(pull.torque[pull.known]) / torque)
        assert any("turning parts count as" in note for note in pull.notes)
    assert told == pytest.approx([1.0, 1.0], abs=0.01)
    assert usual == pytest.approx([1.0, 1.0], abs=0.12)
    apart = [np.median(one.torque[one.known]) for overall in (8.2, 5.4) for one in pulls_of(
        pulled(torque, overall, engine, wheels), replace(load, engine_inertia=0.0, wheel_inertia=0.0)
    )]  # fmt: skip
    assert abs(usual[0] / usual[1] - 1.0) < 1.0 - apart[0] / apart[1] + 0.02, "gears tell the same torque"


def test_the_turning_parts_of_a_car_as_the_book_has_them():
    # Overall ratio 10 on 0.3 m: 0.04 + 0.0025·100 = 29 % of the mass; an inertia of 0.2 kg·m² is worth 0.2·(10/0.3)².
    turns = turns_per_metre(np.array([3000.0]), np.array([3000 * 2 * math.pi / 60 / 10 * 0.3]))
    assert turns == pytest.approx(10 / 0.3)
    assert RoadLoad(1000.0, tyre_radius=0.3).turning_mass(turns) == pytest.approx(290.0)
    assert RoadLoad(1000.0, tyre_radius=0.3, engine_inertia=0.2).turning_mass(turns) == pytest.approx(
        40 + 222.22, rel=1e-4
    )
    assert RoadLoad(1000.0, tyre_radius=0.3, engine_inertia=0.0, wheel_inertia=4.5).turning_mass(
        turns
    ) == pytest.approx(50.0)
    assert math.isnan(turns_per_metre(np.array([3000.0]), np.array([0.0])))


def test_what_is_not_known_is_said_and_nothing_is_invented():
    log, load, *_ = road()
    (pull,) = pulls_of(log)
    assert np.isnan(pull.torque).all()
    assert "mass" in " ".join(pull.notes)
    without, *_ = road(vehicle_speed=None)
    (pull,) = pulls_of(without, load)
    assert np.isnan(pull.torque).all()
    assert "road speed was not recorded" in " ".join(pull.notes)
    geared = replace(load, tyre_radius=0.3, ratios=(13.0, 8.0, 5.5, 40.0 * 3.6 * 0.3 * 2 * math.pi / 60.0))
    (pull,) = pulls_of(without, geared)
    assert pull.torque[30:-30] == pytest.approx(pulls_of(log, load)[0].torque[30:-30], rel=0.01)
    unknown, *_ = road(vehicle_speed=None, gear=None)
    (pull,) = pulls_of(unknown, geared)
    assert "gear is not known" in " ".join(pull.notes)
    plain, *_ = road(barometric_pressure=None)
    assert math.isnan(pulls_of(plain, load)[0].factor)


def test_wheel_spin_and_shifts_are_cut_out_and_said():
    log, load, _, velocity = road()
    spinning = velocity * 3.6 * 40.0
    spinning[80:110] *= 1.12
    spun, *_ = road(engine_speed=spinning)
    (pull,) = pulls_of(spun, load)
    assert [flaw.kind for flaw in pull.flaws] == ["spin"]
    assert not pull.known[80:110].any()
    clean = pulls_of(log, load)[0].torque
    assert pull.torque[pull.known] == pytest.approx(clean[pull.known], rel=0.05)
    geared = np.where(np.arange(velocity.size) < 100, 3.0, 4.0)
    flat_shift = velocity * 3.6 * np.where(geared == 3, 40.0, 30.0)
    shifted, *_ = road(engine_speed=flat_shift, gear=geared)
    (pull,) = pulls_of(shifted, load)
    assert [flaw.kind for flaw in pull.flaws] == ["shift"]
    assert not pull.known[:100].any() or not pull.known[110:].any()


def dyno(text: str):
    return pulls_of(read_log(text.encode(), "dyno.csv"))


SPEEDS = np.arange(2000.0, 6001.0, 50.0)
KW = 2 * math.pi / 60e3


def test_power_alone_gives_torque_and_units_are_converted():
    rows = "\n".join(f"{n:.0f},{200 * n * KW / 0.7457:.3f}" for n in SPEEDS)
    (pull,) = dyno(f"RPM,Power (hp)\n{rows}")
    assert pull.torque == pytest.approx(200, rel=1e-3)
    assert "power divided by engine speed" in pull.notes[0]
    rows = "\n".join(f"{n:.0f};{200 / 1.3558:.4f};{200 * n * KW:.3f}" for n in SPEEDS)
    (pull,) = dyno(f"Engine speed;Torque;Power\nrpm;lb-ft;kW\n{rows}")
    assert pull.torque == pytest.approx(200, rel=1e-3)


def test_two_columns_of_torque_and_torque_that_power_contradicts():
    rows = "\n".join(f"{n:.0f},200,{200 / 1.3558:.2f}" for n in SPEEDS)
    (pull,) = dyno(f"RPM,Torque (Nm),Torque (lb-ft)\n{rows}")
    assert pull.torque == pytest.approx(200)
    assert "stands in more than one column" in pull.notes[0]
    rows = "\n".join(f"{n:.0f},{200 * 4.1:.1f},{200 * n * KW:.3f}" for n in SPEEDS)
    (pull,) = dyno(f"RPM,Torque (Nm),Power (kW)\n{rows}")
    assert pull.torque == pytest.approx(200, rel=1e-3)
    assert pull.flaws[0].kind == "disagree"


def test_runs_that_follow_each_other_in_a_file_are_told_apart():
    rows = "\n".join(f"{n:.0f},{t + n / 1000:.2f}" for t in (200, 210, 220) for n in SPEEDS)
    found = dyno(f"RPM,Torque (Nm)\n{rows}")
    assert [(one.number, round(float(one.torque[0]))) for one in found] == [(1, 202), (2, 212), (3, 222)]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("Power (kW),Torque (Nm)\n" + "\n".join(f"{t},{t * 2}" for t in range(50, 90)), "neither engine speed"),
        ("RPM,Lambda\n" + "\n".join("3000,0.9" for _ in range(60)), "no time column"),
    ],
)
def test_a_file_without_engine_speed_or_order_is_refused_in_a_sentence(text, said):
    with pytest.raises(BadInput, match=said):
        read_log(text.encode(), "dyno.csv")


def runs(offsets, *, loss=0.0006, best=24.0, scatter=0.0, pressure=170.0, seed=1, boost=0.0, air=25.0):
    """Dyno runs whose torque is a parabola of spark, `best` everywhere."""
    rng = np.random.default_rng(seed)
    speed = np.linspace(2000, 6000, 320)
    logs = []
    for offset in offsets:
        spark = 20.0 + offset + 0 * speed
        at = pressure + boost * offset
        torque = 250 * (1 - loss * (spark - best) ** 2) * (at / pressure) * (1 + scatter * rng.normal())
        logs.append(
            make_log(
                25, engine_speed=speed, wheel_torque=torque, spark_advance=spark, manifold_pressure=at,
                intake_air_temperature=air, barometric_pressure=99.0, knock_retard=0.0,
            )
        )  # fmt: skip
    return [pulls_of(log)[0] for log in logs]


def test_bands_are_means_and_torque_is_brought_to_one_pressure():
    found = bands_of(runs([0, 0], boost=0.0), CENTRES)
    assert found.torque[0] == pytest.approx(250 * (1 - 0.0006 * 16), rel=1e-6)
    assert list(band_edges(CENTRES)) == list(np.arange(2000.0, 6001.0, 500.0))
    denser = [runs([0], pressure=170.0)[0], runs([0], pressure=178.5)[0]]
    both = bands_of(denser, CENTRES)
    assert both.level[0] == pytest.approx(both.torque[0] * 174.25 / 170, rel=1e-6)
    assert both.normalised == "pressure and intake temperature"
    assert friction(np.array([3000.0]), 2.0)[0] == pytest.approx(1.87e5 * 2e-3 / (4 * math.pi), rel=1e-6)
    assert even_bands(denser)[[0, -1]].tolist() == [2250.0, 5750.0]


def test_like_runs_tell_how_well_the_dyno_repeats():
    found = bands_of(runs([0, 0, 0, 0, -4, -4, -4], scatter=0.01, seed=5), CENTRES)
    repeats = repeatability(found)
    assert repeats.groups == ((0, 1, 2, 3), (4, 5, 6))
    assert repeats.freedom == 5
    assert 0.004 < repeats.share < 0.018
    assert repeats.interval(2, 2) == pytest.approx(half_width(5) * repeats.share)
    lonely = repeatability(bands_of(runs([0, -4]), CENTRES))
    assert lonely.assumed
    assert lonely.share == 0.007


def test_a_parabola_through_three_sparks_gives_its_top_and_its_slope():
    found = bands_of(runs([-8, -4, 0, 2, 0, -4], scatter=1e-5), CENTRES)
    told = gains(found, repeatability(found), np.full(CENTRES.shape, 20.0))
    assert told.loss == pytest.approx(0.0006, rel=0.1)
    for band in told.bands:
        assert band.method is Method.FIT
        assert band.sparks == 4
        assert band.best == pytest.approx(24.0, abs=0.2)
        assert band.gain == pytest.approx(250 * 2 * 0.0006 * 4, rel=0.05)
        assert band.low < band.gain < band.high


def test_two_sparks_give_a_slope_and_one_gives_nothing():
    pair = bands_of(runs([-4, 0, -4, 0], scatter=1e-4), CENTRES)
    told = gains(pair, repeatability(pair))
    assert {band.method for band in told.bands} == {Method.PAIR}
    assert math.isnan(told.bands[0].best)
    single = bands_of(runs([0, 0]), CENTRES)
    assert {band.method for band in gains(single, repeatability(single)).bands} == {Method.NONE}
    assert distinct(np.array([20.0, 20.3, 21.0, np.nan])) == 2


def test_runs_with_another_mixture_or_with_knock_do_not_count():
    found = bands_of(runs([-4, 0, 0, 2]), CENTRES)
    mixed = replace(found, mixture=np.array([[0.85], [0.85], [0.80], [0.85]]) + np.zeros(found.torque.shape))
    assert gains(mixed, repeatability(found)).left_out == (2,)
    knocked = replace(found, retard=np.where(np.arange(4)[:, None] == 3, 2.0, 0.0) + np.zeros(found.torque.shape))
    assert gains(knocked, repeatability(found)).bands[0].runs == (0, 1, 2)


def test_boost_against_spark():
    found = bands_of(runs([-8, -6, -4, -2, 0], boost=-0.5, scatter=1e-5), CENTRES)
    told = gains(found, repeatability(found), np.full(CENTRES.shape, 16.0))
    trade = trades(found, told)[0]
    assert trade.boost_per_degree == pytest.approx(-0.5, abs=0.02)
    assert trade.per_degree == pytest.approx(250 * 2 * 0.0006 * 8, rel=0.1)
    assert trade.kpa_per_degree == pytest.approx(trade.per_degree / trade.per_kpa)
    assert not trade.measured
    assert math.isnan(boost_slope(np.array([1.0, 1.1, 1.2, 1.3]), np.ones(4)))
