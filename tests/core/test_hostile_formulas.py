import json
import subprocess
import sys


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
