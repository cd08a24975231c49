"""`python -m tests.cluster [PYTEST'S ARGUMENTS]`: the tests of store and web on a Galera cluster of three nodes, and the cluster's own."""

from __future__ import annotations

import json
import os
import subprocess
import sys

from tests.cluster.cluster import PASSWORD, Cluster

WORKERS = 3
# What starts and stops a server of its own, or runs another whole application, says nothing about a cluster.
_NOT_OF_A_CLUSTER = ("tests/store/test_server.py", "tests/web/test_operating.py", "tests/web/test_fuzz.py")
_ALL = ("tests/store", "tests/services", "tests/web")


def main() -> int:
    """Start it, run them, stop it."""
    cluster = Cluster()
    try:
        cluster.start()
        for number in range(WORKERS):
            cluster.make_database(f"uchiwa_test_{number}")
        told = {
            "ports": [node.port for node in cluster.nodes],
            "user": "uchiwa",
            "password": PASSWORD,
            "database": "uchiwa_test",
        }
        environment = os.environ | {"UCHIWA_TEST_CLUSTER": json.dumps(told)}
        left_out = [f"--ignore={path}" for path in _NOT_OF_A_CLUSTER]
        asked = sys.argv[1:] or [*_ALL, *left_out]
        command = [sys.executable, "-m", "pytest", "-n", str(WORKERS), "--dist", "worksteal", *asked]
        shared = subprocess.run(command, env=environment, check=False).returncode
    finally:
        cluster.stop()
    own = subprocess.run(
        [sys.executable, "-m", "pytest", "-s", "tests/cluster/check_cluster.py"], check=False
    ).returncode
    return shared or own


if __name__ == "__main__":
    sys.exit(main())
