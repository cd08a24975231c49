"""The operator's page, readiness, figures, cookies over TLS, and the installation's secret changed."""

from __future__ import annotations

import urllib.request

import pytest
from prometheus_client.parser import text_string_to_metric_families

from tests.ports import own
from tests.store.conftest import log_text, ready, sweep
from tests.web.conftest import Client
from uchiwa.figures import gather_in, serve_figures
from uchiwa.settings import Settings
from uchiwa.store import keys, mails, second_factor, shops, uploads
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import LogFile, Mail, Shop, User
from uchiwa.store.place import Place, free_port
from uchiwa.web.app import create_app


@pytest.fixture
def operator(client, scene):
    with unit_of_work():
        User.update(operator=True, second_factor=keys.sealed(second_factor.new_secret())).execute()
    return client


def test_who_looks_after_it_is_known_by_more_than_a_password(client, operator):
    with unit_of_work():
        User.update(second_factor="").execute()
    refused = client.get("/operation")
    assert refused.status_code == 403
    assert "second factor" in refused.text


def test_ready_with_this_versions_schema_only(visitor):
    assert visitor.get("/readyz").status_code == 200
    with unit_of_work():
        database.execute_sql("INSERT INTO schema_migration (name, applied) VALUES ('0099_later', NOW())")
    try:
        assert visitor.get("/readyz").status_code == 503
    finally:
        with unit_of_work():
            database.execute_sql("DELETE FROM schema_migration WHERE name = '0099_later'")


def test_what_failed_is_shown_and_tried_again(operator, scene, monkeypatch):
    log, _ = scene.receive("no log at all\n", "secret-name.csv")
    sweep()
    monkeypatch.setenv("UCHIWA_MAIL_HOST", "localhost")
    monkeypatch.setenv("UCHIWA_MAIL_SECURITY", "none")
    with unit_of_work():
        mails.post("reminder", "driver@example.org", "x", shop_id=scene.user.shop_id, job=scene.job)
        Mail.update(state=mails.FAILED, problem="the mail server answered 550").execute()
        mail_id = Mail.get().id
    page = operator.get("/operation").text
    assert "the mail server answered 550" in page
    assert f"log {log.id}" in page
    assert "secret-name" not in page, "other shops' names are not the operator's"
    assert operator.send_form(f"/operation/mails/{mail_id}/again").status_code == 303
    assert operator.send_form(f"/operation/mails/{mail_id}/again").status_code == 404
    assert operator.send_form(f"/operation/logs/{log.id}/again").status_code == 303
    with unit_of_work():
        assert Mail.get().state == mails.WAITING
        assert LogFile.get_by_id(log.id).state == "stored"


def test_a_shop_without_room_takes_no_log_and_says_so(operator, scene):
    here = f"/jobs/{scene.job.id}/rounds/1/logs"
    ready(scene.receive(log_text(size=300), "one.csv")[0])
    assert (
        operator.send_form(f"/operation/shops/{scene.user.shop_id}/room", {"gigabytes": "0,000001"}).status_code == 303
    )
    assert operator.send_form(f"/operation/shops/{scene.user.shop_id}/room", {"gigabytes": "much"}).status_code == 400
    piece = operator.post(f"{here}/pieces", params={"name": "a.csv", "size": 100_000, "start": 0}, content=b"x" * 10,
                          headers={"x-csrf": operator.token, "x-fragment": "yes"})  # fmt: skip
    assert piece.status_code == 400
    assert "does not fit" in piece.json()["said"]
    whole = operator.post(
        f"{here}/upload", files={"files": ("b.csv", b"time,rpm\n0,1\n")}, headers={"x-csrf": operator.token}
    )
    assert "does not fit" in whole.text
    with unit_of_work():
        assert LogFile.select().count() == 1
    operator.send_form(f"/operation/shops/{scene.user.shop_id}/room", {"gigabytes": ""})
    with unit_of_work():
        assert Shop.get().quota_bytes is None
        assert shops.room_of(scene.user.shop).taken > 0
        assert uploads.received(scene.round, "none") == 0


def test_figures_are_served_where_the_settings_say(client, scene, tmp_path, monkeypatch):
    client.get("/")
    monkeypatch.delenv("PROMETHEUS_MULTIPROC_DIR", raising=False)
    port = free_port(own(8760))
    settings = Settings(home=tmp_path, metrics=f"127.0.0.1:{port}")
    assert serve_figures(Settings()) is None
    gather_in(settings)
    server = serve_figures(settings)
    try:
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/metrics", timeout=20) as answer:
            found = {family.name: family for family in text_string_to_metric_families(answer.read().decode())}
    finally:
        server.shutdown()
        server.server_close()
        monkeypatch.delenv("PROMETHEUS_MULTIPROC_DIR")
    assert found["uchiwa_database_up"].samples[0].value == 1
    waiting = {sample.labels["what"]: sample.value for sample in found["uchiwa_waiting"].samples}
    assert waiting == {"logs": 0, "rounds": 0, "mails": 0}
    assert any(sample.labels["table"] == "log_raw_chunk" for sample in found["uchiwa_table_bytes"].samples)


def test_requests_are_counted_by_route_and_never_by_path(client, scene):
    from prometheus_client import REGISTRY, generate_latest

    client.get(f"/jobs/{scene.job.id}")
    client.get("/c/some-secret-token")
    client.get("/nowhere/at/all")
    text = generate_latest(REGISTRY).decode()
    assert 'route="/jobs/{job_id}"' in text
    assert "some-secret-token" not in text
    assert "/nowhere" not in text


def test_over_tls_cookies_are_bound_to_the_host_and_browsers_told_to_stay(scene):
    app = create_app("test-key", settings=Settings(public_address="https://tune.example"))
    client = Client(app, base_url="https://tune.example", raise_server_exceptions=False)
    answer = client.get("/sign-in")
    cookie = answer.headers["set-cookie"]
    assert cookie.startswith("__Host-uchiwa=")
    assert "Secure" in cookie
    assert "Path=/;" in cookie
    assert "Domain" not in cookie
    assert answer.headers["strict-transport-security"].startswith("max-age=63072000")
    assert client.sign_in("tuner@example.org", "a long enough password").headers["location"] == "/"
    assert client.get("/").status_code == 200
    assert {one.name for one in client.cookies.jar} == {"__Host-uchiwa", "__Secure-uchiwa-device"}
    plain = Client(create_app("test-key"), raise_server_exceptions=False).get("/sign-in")
    assert "strict-transport-security" not in plain.headers
    assert plain.headers["set-cookie"].startswith("uchiwa=")


def test_a_new_secret_signs_nobody_out_and_loses_no_second_factor(client, scene):
    """Forms that are open, devices that are known and generators go on; then the older secret is taken away."""
    before = keys.ring()
    secret = second_factor.new_secret()
    with unit_of_work():
        second_factor.turn_on(scene.user, secret, 0)
    place = Place("127.0.0.1", 1, "u", "p", "d", before[0])
    rotated = place.rotated()
    assert rotated.secrets == (rotated.secret_key, before[0])
    try:
        keys.use(*rotated.secrets)
        later = Client(create_app(rotated.secret_key, "test-key"), raise_server_exceptions=False)
        later.cookies.update(client.cookies)
        later.token = client.token
        assert later.send_form("/settings/theme", {"theme": "night"}).status_code == 303
        second_factor.seal_all_anew()
        keys.use(rotated.secret_key)
        with unit_of_work():
            assert keys.opened(User.get().second_factor) == secret
        latest = Client(create_app(rotated.secret_key), raise_server_exceptions=False)
        latest.cookies.update(client.cookies)
        latest.token = client.token
        assert latest.send_form("/settings/theme", {"theme": "day"}).status_code == 403
        assert latest.get("/").status_code == 200
    finally:
        keys.use(*before)


def test_the_settings_refuse_what_cannot_be(monkeypatch):
    from uchiwa.core.errors import BadInput
    from uchiwa.settings import read_settings

    for name, value in (("METRICS", "9460"), ("METRICS", "x:y"), ("MAIL_SECURITY", "perhaps"), ("SHOP_GIGABYTES", "0")):
        monkeypatch.setenv(f"UCHIWA_{name}", value)
        with pytest.raises(BadInput, match=f"UCHIWA_{name}"):
            read_settings()
        monkeypatch.delenv(f"UCHIWA_{name}")
    monkeypatch.setenv("UCHIWA_MAIL_HOST", "mail.example")
    monkeypatch.setenv("UCHIWA_MAIL_SECURITY", "none")
    with pytest.raises(BadInput, match="only for a mail server on this machine"):
        read_settings()
