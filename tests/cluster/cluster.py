"""Three nodes of a Galera cluster on loopback, each with a folder of its own, that can be killed and come back."""

from __future__ import annotations

import os
import re
import shutil
import signal
import subprocess
import tempfile
import time
from dataclasses import dataclass, field
from pathlib import Path

import pymysql

from uchiwa.store.place import Place, free_port

PROVIDER = "/usr/lib/galera/libgalera_smm.so"
SCRIPTS = Path(__file__).parent / "scripts"
NAMES = ("one", "two", "three")
PASSWORD, SECRET = "of the cluster's tests", "0" * 64
_PATIENCE_S = 90.0


def _program(name: str) -> str:
    found = shutil.which(name) or shutil.which(name, path="/usr/sbin:/usr/libexec")
    assert found is not None, f"{name} is not installed"
    return found


@dataclass
class Node:
    """One of them."""

    name: str
    folder: Path
    port: int
    group_port: int
    ist_port: int
    process: subprocess.Popen[bytes] | None = None

    @property
    def log(self) -> Path:
        return self.folder / "log"

    def ask(self, statement: str, *, database: str | None = None) -> list[tuple[object, ...]]:
        """Run a statement as root."""
        with (
            pymysql.connect(
                unix_socket=f"{self.folder}/s", user="root", database=database, connect_timeout=5, autocommit=True
            ) as one,
            one.cursor() as cursor,
        ):
            cursor.execute(statement)
            return list(cursor.fetchall())

    def members(self) -> int:
        """How many nodes it sees, if it is one of a cluster that can be worked with; else 0."""
        try:
            status = dict(self.ask("SHOW STATUS WHERE Variable_name IN ('wsrep_cluster_size', 'wsrep_ready')"))
        except (pymysql.MySQLError, OSError):
            return 0
        return int(str(status.get("wsrep_cluster_size", 0))) if status.get("wsrep_ready") == "ON" else 0


@dataclass
class Cluster:
    """All three."""

    folder: Path = field(default_factory=lambda: Path(tempfile.mkdtemp(prefix="ugc-")))
    nodes: list[Node] = field(default_factory=list)

    def __post_init__(self) -> None:
        port = 8400
        for name in NAMES:
            taken = []
            for _ in range(3):
                port = free_port(port)
                taken.append(port)
                port += 1
            self.nodes.append(Node(name, self.folder / name, *taken))

    def start(self) -> None:
        """Make the first node's data, and let the others join, who get theirs from it."""
        first = self.nodes[0]
        first.folder.mkdir(parents=True)
        user = ["--user=root"] if os.geteuid() == 0 else []
        subprocess.run(
            [_program("mariadb-install-db"), "--no-defaults", f"--datadir={first.folder}/data", "--skip-test-db",
             "--auth-root-authentication-method=socket", "--auth-root-socket-user=root", *user],
            check=True, capture_output=True,
        )  # fmt: skip
        self.run(first, new=True)
        self.wait(first, 1)
        first.ask("DROP USER IF EXISTS ''@'localhost'")
        first.ask(f"CREATE USER 'uchiwa'@'127.0.0.1' IDENTIFIED BY \"{PASSWORD}\"")
        first.ask("GRANT ALL ON `uchiwa%`.* TO 'uchiwa'@'127.0.0.1'")
        for number, node in enumerate(self.nodes[1:], 2):
            (node.folder / "data").mkdir(parents=True)
            self.run(node)
            self.wait(node, number)

    def run(self, node: Node, *, new: bool = False, position: str = "") -> None:
        """Start a node's process."""
        others = ",".join(f"127.0.0.1:{one.group_port}" for one in self.nodes)
        command = [
            _program("mariadbd"), "--no-defaults", f"--datadir={node.folder}/data", f"--port={node.port}", "--bind-address=127.0.0.1",
            f"--socket={node.folder}/s", f"--pid-file={node.folder}/pid", "--skip-name-resolve", "--character-set-server=utf8mb4",
            "--collation-server=utf8mb4_unicode_ci", "--max-allowed-packet=64M", "--innodb-buffer-pool-size=256M",
            "--innodb-flush-log-at-trx-commit=0", "--innodb-autoinc-lock-mode=2", "--binlog-format=ROW", "--wsrep-on=ON",
            f"--wsrep-provider={PROVIDER}", "--wsrep-cluster-name=uchiwa-test", f"--wsrep-node-name={node.name}",
            f"--wsrep-node-address=127.0.0.1:{node.group_port}", f"--wsrep-cluster-address=gcomm://{'' if new else others}",
            "--wsrep-sst-method=copy", "--wsrep-slave-threads=2",
            f"--wsrep-provider-options=gmcast.listen_addr=tcp://127.0.0.1:{node.group_port};ist.recv_addr=127.0.0.1:{node.ist_port};"
            "gcache.size=512M;evs.suspect_timeout=PT2S;evs.inactive_timeout=PT4S;evs.keepalive_period=PT0.5S",
            *(["--wsrep-new-cluster"] if new else []), *([f"--wsrep-start-position={position}"] if position else []),
            *(["--user=root"] if os.geteuid() == 0 else []),
        ]  # fmt: skip
        environment = os.environ | {"PATH": f"{SCRIPTS}:{os.environ['PATH']}:/usr/sbin"}
        with node.log.open("ab") as log:
            node.process = subprocess.Popen(
                command, env=environment, stdout=log, stderr=log, stdin=subprocess.DEVNULL, start_new_session=True
            )

    def wait(self, node: Node, members: int) -> None:
        """Until it sees so many."""
        deadline = time.monotonic() + _PATIENCE_S
        while node.members() < members:
            assert node.process is not None
            assert node.process.poll() is None, node.log.read_text(errors="replace")[-9000:]
            assert time.monotonic() < deadline, node.log.read_text(errors="replace")[-9000:]
            time.sleep(0.2)

    def kill(self, node: Node) -> None:
        """As when its machine loses power."""
        assert node.process is not None
        node.process.send_signal(signal.SIGKILL)
        node.process.wait()

    def position(self, node: Node) -> str:
        """How far a node's own data are, which its process is not running on."""
        command = [_program("mariadbd"), "--no-defaults", f"--datadir={node.folder}/data", "--wsrep-recover", "--wsrep-on=ON",
                   f"--wsrep-provider={PROVIDER}", "--wsrep-cluster-address=gcomm://", "--binlog-format=ROW", "--innodb-autoinc-lock-mode=2", f"--socket={node.folder}/r", "--skip-networking",
                   *(["--user=root"] if os.geteuid() == 0 else [])]  # fmt: skip
        told = subprocess.run(command, capture_output=True, text=True, timeout=120, check=False)
        found = re.findall(r"Recovered position:\s*(\S+)", told.stderr + told.stdout)
        assert found, (told.stderr + told.stdout)[-2000:]
        return str(found[-1])

    def come_back(self, node: Node) -> None:
        """Start a killed node where it was; what it missed is sent to it."""
        self.run(node, position=self.position(node))
        self.wait(node, 2)

    def stop_node(self, node: Node) -> None:
        """In good order."""
        assert node.process is not None
        node.process.terminate()
        node.process.wait(90)

    def place(self, database: str = "uchiwa", first: int = 0) -> Place:
        """How to reach it, beginning with one of the nodes."""
        ordered = self.nodes[first:] + self.nodes[:first]
        others = tuple(f"127.0.0.1:{node.port}" for node in ordered[1:])
        return Place("127.0.0.1", ordered[0].port, "uchiwa", PASSWORD, database, SECRET, (), others, ours=False)

    def make_database(self, name: str) -> None:
        """On all of them."""
        self.nodes[0].ask(f"CREATE DATABASE IF NOT EXISTS `{name}` CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci")

    def stop(self) -> None:
        """All of them, and their folders."""
        for node in self.nodes[::-1]:
            if node.process is not None and node.process.poll() is None:
                node.process.kill()
                node.process.wait()
        shutil.rmtree(self.folder, ignore_errors=True)
