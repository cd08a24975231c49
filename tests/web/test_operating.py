"""The units and the proxy's example of setup/operating, checked by their own programs and run once end to end."""

from __future__ import annotations

import datetime
import json
import re
import shutil
import ssl
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import httpx2 as httpx
import pytest
import uvicorn
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from websockets.sync.client import connect

from tests.ports import own
from tests.services.live.driving import driven, opening_of
from uchiwa.settings import Settings, read_settings
from uchiwa.store import links
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Attempt
from uchiwa.store.place import free_port
from uchiwa.web.app import create_app
from uchiwa.web.requests.protocol import PunctualProtocol

OPERATING = Path(__file__).parents[2] / "setup" / "operating"
NGINX = shutil.which("nginx") or "/usr/sbin/nginx"
NAME = "tune.example"


@pytest.mark.parametrize("unit", ["uchiwa.service", "uchiwa-backup.service", "uchiwa-backup.timer"])
def test_the_units_are_ones(unit, tmp_path):
    for path in OPERATING.glob("uchiwa*"):
        text = path.read_text().replace("/opt/uchiwa/.venv/bin/uchiwa", shutil.which("true") or "/bin/true")
        (tmp_path / path.name).write_text(text.replace("file:/opt/uchiwa/docs/operating.md", "https://tune.example"))
    done = subprocess.run(
        ["systemd-analyze", "verify", "--man=no", tmp_path / unit], capture_output=True, text=True, check=False
    )
    ours = [line for line in done.stderr.splitlines() if "uchiwa" in line]
    assert (done.returncode, ours) == (0, [])


def test_the_settings_file_can_be_read(monkeypatch):
    for line in (OPERATING / "settings").read_text().splitlines():
        if line and not line.startswith("#"):
            name, _, value = line.partition("=")
            monkeypatch.setenv(name, value)
    found = read_settings()
    assert found.https
    assert found.metrics == "127.0.0.1:9460"


def certificate(folder: Path) -> None:
    """One that we have signed ourselves."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, NAME)])
    at = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(x509.random_serial_number()).not_valid_before(at - datetime.timedelta(days=1))
        .not_valid_after(at + datetime.timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(NAME)]), critical=False).sign(key, hashes.SHA256())
    )  # fmt: skip
    (folder / "fullchain.pem").write_bytes(made.public_bytes(serialization.Encoding.PEM))
    plain = serialization.NoEncryption()
    form = serialization.PrivateFormat.PKCS8
    (folder / "privkey.pem").write_bytes(key.private_bytes(serialization.Encoding.PEM, form, plain))


@pytest.fixture
def behind_nginx(scene, tmp_path) -> Iterator[str]:
    """The application behind the proxy of the example, on ports of the test's own; the proxy's address."""
    settings = Settings(public_address=f"https://{NAME}", trusted_proxies="127.0.0.1")
    config = uvicorn.Config(
        create_app("test-key", settings=settings), port=0, http=PunctualProtocol, log_level="critical", lifespan="off"
    )
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    port = server.servers[0].sockets[0].getsockname()[1]
    certificate(tmp_path)
    tls = free_port(own(8780))
    plain = free_port(tls + 1)
    example = (OPERATING / "nginx.conf").read_text()
    for pattern, value in (
        (r"listen \[::\]:\d+[^;]*;", ""), (r"listen 80;", f"listen 127.0.0.1:{plain};"), (r"listen 443", f"listen 127.0.0.1:{tls}"),
        (r"127\.0\.0\.1:8460", f"127.0.0.1:{port}"), (r"/etc/ssl/uchiwa", str(tmp_path)),
    ):  # fmt: skip
        example, number = re.subn(pattern, value, example)
        assert number, pattern
    spare = "".join(
        f"{kind}_temp_path {tmp_path}/{kind};" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    (tmp_path / "nginx.conf").write_text(
        f"daemon off; pid {tmp_path}/pid; error_log {tmp_path}/error.log; events {{}}\n"
        f"http {{ access_log off; {spare}\n{example}\n}}\n"
    )
    command = [NGINX, "-p", str(tmp_path), "-e", str(tmp_path / "error.log"), "-c", str(tmp_path / "nginx.conf")]
    checked = subprocess.run([*command, "-t"], capture_output=True, text=True, check=False)
    assert checked.returncode == 0, checked.stderr
    proxy = subprocess.Popen(command, stderr=subprocess.DEVNULL)
    try:
        yield f"https://127.0.0.1:{tls}"
    finally:
        proxy.terminate()
        proxy.wait(20)
        server.should_exit = True
        thread.join(20)


def a_session_passes(address: str, trust: ssl.SSLContext, scene) -> None:
    """A live session is begun and fed through the proxy, which has to pass WebSockets on."""
    with unit_of_work():
        link = f"/c/{links.make(scene.job)}/live"
    drive, batches = driven(1)
    with httpx.Client(base_url=address, verify=trust, trust_env=False, timeout=30) as client:
        begun = client.post(link, content=opening_of(drive), headers={"content-type": "application/json"}).json()
    with connect(address.replace("https", "wss") + begun["address"] + "/passing", ssl=trust) as socket:
        socket.send(json.dumps({"key": begun["key"]}))
        assert json.loads(socket.recv(timeout=20))["next"] == 1
        socket.send(batches[0].decode())
        while "kept" not in (told := json.loads(socket.recv(timeout=20))):
            pass
    assert told == {"kept": 1}


def test_signing_in_and_sending_a_log_through_the_proxy(behind_nginx, scene):
    trust = ssl.create_default_context()
    trust.check_hostname = False
    trust.verify_mode = ssl.CERT_NONE
    transport = httpx.HTTPTransport(verify=trust, retries=20)
    with httpx.Client(
        base_url=behind_nginx, transport=transport, headers={"host": NAME}, timeout=60, trust_env=False
    ) as client:
        deadline = time.monotonic() + 20
        while True:
            try:
                page = client.get("/sign-in")
                break
            except httpx.TransportError:
                assert time.monotonic() < deadline
                time.sleep(0.1)
        session = re.search(r"(__Host-uchiwa=[\w-]+); Path=/; [^,]*Secure", page.headers["set-cookie"])[1]
        token = re.search(r'name="csrf" content="(\w+)"', page.text)[1]
        form = {"email": "tuner@example.org", "password": "a long enough password", "csrf": token}
        answer = client.post("/sign-in", data=form, headers={"cookie": session, "x-forwarded-for": "203.0.113.9"})
        assert answer.status_code == 303
        session = re.search(r"__Host-uchiwa=[\w-]+", answer.headers["set-cookie"])[0]
        here = {"cookie": session}
        page = client.get("/", headers=here)
        assert page.status_code == 200
        assert page.headers["strict-transport-security"]
        token = re.search(r'name="csrf" content="(\w+)"', page.text)[1]
        path = f"/jobs/{scene.job.id}/rounds/1/logs/upload"
        big = b"time,rpm\n" + b"0.1,1000\n" * 200_000
        sent = client.post(path, files={"files": ("big.csv", big)}, headers=here | {"x-csrf": token})
        assert sent.status_code == 303
        assert client.get("/healthz", headers=here).status_code in (200, 503)
        for _ in range(3):
            client.post(
                "/sign-in",
                data=form | {"password": "wrong", "csrf": token},
                headers=here | {"x-forwarded-for": "198.51.100.7"},
            )
    a_session_passes(behind_nginx, trust, scene)
    with unit_of_work():
        from uchiwa.store import attempts

        # What a stranger writes into the header is not believed: only the proxy's own word for who asks.
        assert Attempt.get(Attempt.mark == attempts.mark("place", "127.0.0.1")).count == 3
        assert Attempt.get_or_none(Attempt.mark == attempts.mark("place", "198.51.100.7")) is None
