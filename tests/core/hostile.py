"""Evaluates generated hostile formulas under guard, and prints what became of them; run in a process of its own.

An audit hook counts everything that leaves the language: files, imports, processes, sockets, code. Each formula has a
second of processor time and the process a gigabyte more than it begins with.
"""

from __future__ import annotations

import json
import random
import resource
import signal
import sys
from pathlib import Path

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.evaluation import Scope, evaluate
from uchiwa.standin.fleet import car_named

ROWS = 360_000
GIGABYTE = 1 << 30
WATCHED = (
    "open",
    "import",
    "exec",
    "os.",
    "subprocess.",
    "socket.",
    "shutil.",
    "ctypes.",
    "code.",
    "marshal.",
    "pickle.",
)
NAMES = [
    "engine_speed",
    "manifold_pressure",
    "barometric_pressure",
    "throttle_position",
    "lambda_measured",
    "fuel_error",
]
ATTACKS = [
    "__import__('os').system('true')", "().__class__.__base__.__subclasses__()", "engine_speed.__class__.__mro__",
    "open('/etc/passwd').read()", "eval('1')", "exec('x=1')", "compile('1','','eval')", "getattr(engine_speed,'tofile')('/tmp/x')",
    "engine_speed.tofile('/tmp/x')", "[x for x in range(10**9)]", "(lambda: 1)()", "{1: engine_speed}", "globals()", "locals()",
    "f'{engine_speed.__class__}'", "'a' * 10**10", "'%s' % engine_speed", "9**9**9**9", "(9**8)**8**8", "1 << 10**9",
    "breakpoint()", "input()", "print(1)", "vars(engine_speed)", "type(engine_speed)", "x := 3", "(x := engine_speed)",
    "smooth(*[engine_speed, 1])", "smooth(x=engine_speed)", "table(engine_speed)", "table('../../etc/passwd')",
    "table('ve_main').__class__", "constant('__class__')", "constant(engine_speed)", "engine_speed[0]", "engine_speed[::-1]",
    "not", "and and", "((((((", "lambda", "import os", "engine_speed; import os", "engine_speed\nimport os", "\x00", "𝑒ngine_speed",
    "smooth(engine_speed, 1e300)", "delayed(engine_speed, -1e300)", "delayed(engine_speed, engine_speed)", "sqrt()", "rate()",
    "max(1)", "engine_speed if engine_speed else 1", "await engine_speed", "yield", "`id`", "$HOME", "${jndi}", "{{7*7}}", "{% x %}",
    "nan", "inf", "1e999", "0x" + "f" * 300, "1_000_000", "0b1", "1j", "...", "None", "True", "b'x'", "'x'", "\"x\"", "# x",
]  # fmt: skip
HEAVY = [
    "smooth(" * 39 + "engine_speed" + ", 600)" * 39,
    "rate(" * 40 + "engine_speed" + ")" * 40,
    "+".join(f"delayed(engine_speed, 0.{number})" for number in range(16)),
    "+".join(f'table("ve_main")*{number}' for number in range(24)),
    "gear_from(engine_speed, manifold_pressure)+gear_from(manifold_pressure, engine_speed)",
    "*".join(["engine_speed"] * 38),
    "(" * 12 + "engine_speed" + ")**8" * 12,
    "max(" * 20 + "engine_speed" + ",manifold_pressure)" * 20,
    "-" * 400 + "engine_speed",
    "not " * 100 + "engine_speed",
    "fuel_error+speed_density_air+fuel_based_air+gear+acceleration",
]


def grown(rng: random.Random, depth: int) -> str:
    """A formula grown at random out of good and bad parts."""
    if depth <= 0 or rng.random() < 0.25:
        return rng.choice([*NAMES, "1", "2.5", "0", "-3", "1e12", rng.choice(ATTACKS)])
    part = lambda: grown(rng, depth - 1)  # noqa: E731
    match rng.randrange(9):
        case 0 | 1 | 2:
            return f"({part()} {rng.choice(['+', '-', '*', '/', '**', '//', '%', '@', '<<', '&', '|', '^'])} {part()})"
        case 3:
            return f"{rng.choice(['abs', 'min', 'max', 'sqrt', 'rate', 'where', 'or_else', 'eval', 'getattr'])}({part()}, {part()})"
        case 4:
            return f"smooth({part()}, {rng.choice(['0.3', '600', '1e9', part()])})"
        case 5:
            return f"{part()} {rng.choice(['<', '>=', '==', 'is', 'in', 'and', 'or'])} {part()}"
        case 6:
            return f"{part()}.{rng.choice(['__class__', 'T', 'dump', '__globals__'])}"
        case 7:
            return f"{rng.choice(['rate', 'abs', 'sqrt', 'table', 'constant', 'not '])}({part()})"
        case _:
            return f"held({part()}, {rng.choice(['0.5', '600'])})"


def formulas(count: int) -> list[str]:
    """Known attacks, heavy ones, and random growths."""
    rng = random.Random(20)
    grown_ones = [grown(rng, rng.randrange(1, 6))[:600] for _ in range(count - len(ATTACKS) - len(HEAVY))]
    return [*ATTACKS, *HEAVY, *grown_ones]


def main() -> None:
    """Print how many were evaluated, refused, and what happened outside of the language."""
    rng = np.random.default_rng(3)
    time = np.arange(ROWS) / 50
    signals = {name: rng.uniform(20, 6000, ROWS) for name in NAMES if name != "fuel_error"}
    signals["lambda_target"] = np.ones(ROWS)
    calibration = car_named("corvid-pike").base()
    outside: list[str] = []
    watching = False

    def watch(event: str, _arguments: object) -> None:
        if watching and event.startswith(WATCHED):
            outside.append(event)

    def too_long(_number: int, _frame: object) -> None:
        raise TimeoutError

    for text in (
        "rate(engine_speed)",
        'smooth(table("ve_main"), 1)',
        "fuel_error",
        "gear_from(engine_speed, engine_speed)",
    ):
        evaluate(text, signals, time, Scope(calibration))
    sys.addaudithook(watch)
    signal.signal(signal.SIGVTALRM, too_long)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    status = Path("/proc/self/status").read_text().splitlines()
    virtual = int(next(line.split()[1] for line in status if line.startswith("VmSize"))) * 1024
    resource.setrlimit(resource.RLIMIT_AS, (virtual + GIGABYTE, virtual + GIGABYTE))
    found = {"evaluated": 0, "refused": 0, "other": [], "late": []}
    for text in formulas(1000):
        signal.setitimer(signal.ITIMER_VIRTUAL, 1.0)
        watching = True
        try:
            result = evaluate(text, signals, time, Scope(calibration))
            kind = "evaluated" if result.shape == time.shape and result.dtype in (np.float64, np.bool_) else "other"
        except BadInput as error:
            kind = "refused" if "\n" not in str(error) else "other"
        except TimeoutError:
            kind = "late"
        except BaseException as error:
            kind, text = "other", f"{type(error).__name__}: {text}"
        finally:
            watching = False
            signal.setitimer(signal.ITIMER_VIRTUAL, 0)
        if isinstance(found[kind], int):
            found[kind] += 1
        else:
            found[kind].append(text)
    found["outside"] = outside
    found["megabytes"] = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    print(json.dumps(found))


if __name__ == "__main__":
    main()
