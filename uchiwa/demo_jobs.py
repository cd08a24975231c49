"""The jobs of the demo: each car stands at another point of the cycle."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.core.briefs.brief import Purpose

SPRINT = "corvid-pike-sprint"


@dataclass(frozen=True)
class DemoJob:
    """One job of the scenario.

    Attributes:
        drives: of each round, as (name, seed); the last round may have none.
        taken: whether the last round's proposal has been taken into the draft.
        spoiled: whether the last round's log is one that cannot be used.
        closed: whether the job is at rest.
        hours: how long it has waited where it stands.
        car: id of the stand-in car.
        purpose: of the last round's brief.
        briefed: whether the last round's brief has been sent.
        way: how the last round's logs are spoiled, if they are: by a cold engine.
        words: messages, each from the tuner (True) or the customer.
        image: whether revisions go out as an image of the car's controller.
        edits: made by hand in the last round: table, cells, cell line, reason.
        carried: how far the last revision has come with the customer.
        runs: on the dyno in the last round, as degrees that the operator added, and what was noted.
        colleagues: whether the tuner's colleague has it in hand.
        notes: among the shop's people.
    """

    customer: str
    title: str
    details: str
    drives: tuple[tuple[tuple[str, int], ...], ...]
    hours: float
    taken: bool = False
    spoiled: bool = False
    closed: bool = False
    car: str = "corvid-pike"
    purpose: Purpose = "fuel"
    briefed: bool = True
    way: str = ""
    words: tuple[tuple[bool, str], ...] = ()
    image: bool = False
    edits: tuple[tuple[str, tuple[tuple[int, int], ...], str, str], ...] = ()
    carried: str = "flashed"
    runs: tuple[tuple[float, str], ...] = ()
    colleagues: bool = False
    notes: tuple[str, ...] = ()


def _block(columns: range, rows: range) -> tuple[tuple[int, int], ...]:
    return tuple((i, j) for j in rows for i in columns)


JOBS = (
    DemoJob(
        "Ines Halloran",
        "Corvid Pike",
        "2.0 turbo four, 2011",
        (
            (("steady_cruise", 11),),
            (("mixed_road", 12),),
            (("mixed_road", 13), ("roll_on", 14)),
        ),
        hours=3,
    ),
    DemoJob(
        "Adaeze Onu",
        "Corvid Pike, hill car",
        "2.0 turbo four, caged",
        ((("mixed_road", 21),), (("mixed_road", 22), ("full_load_pull", 23))),
        hours=26,
        taken=True,
        image=True,
        edits=(
            ("ve_main", _block(range(2, 7), range(9, 12)), "smooth 40", "the pull left a kink above 120 kPa"),
            (
                "spark_main",
                _block(range(5, 9), range(9, 13)),
                "x-2",
                "hot days on the hill; more when the knock logs are in",
            ),
            ("lambda_target", _block(range(15), range(10, 13)), "min(x, 0.82)", "a shade richer at full boost"),
        ),
        notes=("Knocks in third only, on the long climb. Look at the charge temperature before giving spark.",),
    ),
    DemoJob(
        "Petra Lindqvist",
        "Corvid Pike, long tail",
        "2.0 turbo four, 2010",
        ((("mixed_road", 61), ("steady_cruise", 62)),),
        hours=5,
    ),
    DemoJob(
        "Tomasz Wilk", "Corvid Pike estate", "2.0 turbo four, 2013", ((("warm_idle", 31),),), hours=7, spoiled=True
    ),
    DemoJob(
        "Jun Abara",
        "Corvid Pike",
        "2.0 turbo four, 2009",
        ((("mixed_road", 41),), ()),
        hours=49,
        image=True,
        carried="downloaded",
    ),
    DemoJob("Hill Club North", "Corvid Pike, club car", "2.0 turbo four", ((),), hours=2, briefed=False),
    DemoJob(
        "Lior Banerjee",
        "Corvid Pike, sprint car",
        "2.0 turbo four, pump fuel",
        ((("roll_on", 91), ("full_load_pull", 92)),),
        hours=4,
        car="corvid-pike-sprint",
        purpose="full_load",
        runs=(
            (0.0, "as flashed"),
            (-3.0, "three degrees out"),
            (-6.0, "six degrees out"),
            (0.0, "as flashed again"),
            (0.5, "half a degree in"),
            (1.0, "one degree in"),
            (1.5, "one and a half in"),
        ),
    ),
    DemoJob(
        "Noor Haddad",
        "Bramble Wren",
        "1.4 supercharged kit car",
        ((("steady_cruise", 71),), (("warm_idle", 72), ("steady_cruise", 73))),
        hours=9,
        car="bramble-wren",
        purpose="full_load",
        way="cold",
        words=(
            (True, "Round 2: the same again, please, and one pull at the club's day if the fuel logs are good."),
            (False, "Did the cruise this morning on the way to work, is that enough?"),
        ),
        colleagues=True,
    ),
    DemoJob(
        "Emil Castellan",
        "Larkspur Tern",
        "3.2 six, 2004",
        ((("warm_idle", 81), ("steady_cruise", 82)),),
        hours=12,
        car="larkspur-tern",
    ),
    DemoJob(
        "Maren Oyelaran",
        "Corvid Pike automatic",
        "2.0 turbo four, stalls at the lights",
        (
            (("cold_morning", 101), ("in_gear_warm_up", 102)),
            (("cold_morning", 103), ("in_gear_warm_up", 104)),
        ),
        hours=6,
        car="corvid-pike-automatic",
        purpose="idle",
        words=((False, "It started on the first turn this morning and did not die when I put it in D."),),
        colleagues=True,
        notes=("She drives short trips in winter: the cold mornings matter more than the last per cent.",),
    ),
    DemoJob(
        "Teodor Vance",
        "Larkspur Tern S",
        "3.2 six, a supercharger is on its way",
        ((("full_load_pull", 111), ("full_load_pull", 112), ("roll_on", 113)),),
        hours=14,
        car="larkspur-tern-s",
        purpose="clamp",
    ),
    DemoJob(
        "Sam Okafor",
        "Corvid Pike",
        "2.0 turbo four, 2012",
        ((("mixed_road", 51),), (("steady_cruise", 52), ("roll_on", 53)), ()),
        hours=21 * 24,
        closed=True,
    ),
)
