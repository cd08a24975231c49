"""A database on another machine: spoken to by TLS or not at all, and only after it has proved who it is."""

from __future__ import annotations

import datetime
import ipaddress
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pymysql
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from tests.ports import own
from tests.store.listening import until_listening
from uchiwa.store import database_tls, server
from uchiwa.store.place import Place, free_port

BEGINS = datetime.datetime(2020, 1, 1, tzinfo=datetime.UTC)
ENDS = datetime.datetime(2090, 1, 1, tzinfo=datetime.UTC)


class Authority:
    """One that signs certificates."""

    def __init__(self, folder: Path, name: str) -> None:
        self.folder, self.key = folder, ec.generate_private_key(ec.SECP256R1())
        self.name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
        self.file = folder / f"{name}.pem"
        self._write(self.file, self.name, self.key, x509.BasicConstraints(ca=True, path_length=0))

    def sign(self, address: str) -> tuple[Path, Path]:
        """A certificate for a server at an address, and its key."""
        key = ec.generate_private_key(ec.SECP256R1())
        names = x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address(address))])
        certificate, private = self.folder / f"{address}.pem", self.folder / f"{address}.key"
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, address)])
        self._write(certificate, subject, key, names)
        private.write_bytes(
            key.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            )
        )
        return certificate, private

    def _write(self, file: Path, subject: x509.Name, key: ec.EllipticCurvePrivateKey, more: x509.ExtensionType) -> None:
        made = x509.CertificateBuilder(
            self.name, subject, key.public_key(), x509.random_serial_number(), BEGINS, ENDS
        ).add_extension(more, critical=isinstance(more, x509.BasicConstraints))
        file.write_bytes(made.sign(self.key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM))


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    """A server's folder with its accounts; the server is stopped."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("UCHIWA_HOME", str(tmp_path_factory.mktemp("tls") / "home"))
        patch.setenv("UCHIWA_DB_PORT", str(free_port(own(8581))))
        found = server.start()
        server.stop()
        yield found


@contextmanager
def elsewhere(place: Place, *tls: str) -> Iterator[None]:
    """The server run as by somebody else, with certificates or without."""
    process = subprocess.Popen(
        [server._program("mariadbd"), "--no-defaults", f"--datadir={server._data()}", f"--port={place.port}",
         "--bind-address=127.0.0.1", f"--socket={server.home()}/s", *tls, *server._as_user()],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        until_listening(server.home() / "s", process)
        yield
    finally:
        process.terminate()
        process.wait(60)


def test_it_is_encrypted_and_verified_or_refused(place, tmp_path, monkeypatch):
    ours, theirs = Authority(tmp_path, "ours"), Authority(tmp_path, "theirs")
    monkeypatch.setattr(database_tls, "_is_here", lambda _: False)
    monkeypatch.setenv("UCHIWA_DB_AUTHORITY", str(ours.file))
    certificate, key = ours.sign("127.0.0.1")
    with elsewhere(place, f"--ssl-cert={certificate}", f"--ssl-key={key}", f"--ssl-ca={ours.file}"):
        assert server._refusal(place) is None
        connection = pymysql.connect(
            host=place.host, port=place.port, user=place.user, password=place.password, **database_tls.encryption(place)
        )
        with connection, connection.cursor() as cursor:
            cursor.execute("SHOW STATUS LIKE 'Ssl_version'")
            assert cursor.fetchone()[1].startswith("TLSv1.")
        monkeypatch.setenv("UCHIWA_DB_AUTHORITY", str(theirs.file))
        assert "certificate verify failed" in str(server._refusal(place))
        monkeypatch.setenv("UCHIWA_DB_VERIFIED", "0")
        assert server._refusal(place) is None
        monkeypatch.delenv("UCHIWA_DB_VERIFIED")
    certificate, key = ours.sign("192.0.2.77")
    monkeypatch.setenv("UCHIWA_DB_AUTHORITY", str(ours.file))
    with elsewhere(place, f"--ssl-cert={certificate}", f"--ssl-key={key}", f"--ssl-ca={ours.file}"):
        assert "not valid for '127.0.0.1'" in str(server._refusal(place))
    with elsewhere(place):
        assert server._refusal(place) is not None
        monkeypatch.setenv("UCHIWA_DB_VERIFIED", "0")
        assert server._refusal(place) is not None
