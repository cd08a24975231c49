import gc
import json
import subprocess
import sys
import threading
import time

from uchiwa.core.formulas.language import parse


def test_of_a_thousand_hostile_formulas_none_leaves_the_language_or_takes_a_second_or_a_gigabyte():
    run = subprocess.run([sys.executable, "-m", "tests.core.hostile"], capture_output=True, text=True, timeout=300)
    assert run.returncode == 0, run.stderr[-2000:]
    found = json.loads(run.stdout)
    assert found["other"] == []
    assert found["late"] == []
    assert found["outside"] == []
    assert found["megabytes"] < 1024
    assert found["evaluated"] + found["refused"] == 1000
    assert found["evaluated"] > 100
    assert found["refused"] > 100


def test_threads_may_parse_beside_each_other():
    """A collection of garbage lets another thread in while a syntax tree is built, and the depth is counted for both."""
    wrong: list[BaseException] = []

    def read(who: int) -> None:
        for number in range(60):
            text = f"engine_speed > {number} and manifold_pressure < {who} and rate(throttle_position) + smooth(lambda_measured - 1, 0.3) > {number}"
            try:
                parse(text)
            except BaseException as error:
                wrong.append(error)

    def let_others_in(*_given: object) -> None:
        time.sleep(0)

    before = gc.get_threshold()
    gc.set_threshold(5)
    gc.callbacks.append(let_others_in)
    try:
        threads = [threading.Thread(target=read, args=(who,)) for who in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    finally:
        gc.callbacks.remove(let_others_in)
        gc.set_threshold(*before)
    assert wrong == []
