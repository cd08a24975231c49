import pytest

from uchiwa.store import accounts, jobs
from uchiwa.store.database import unit_of_work


@pytest.mark.parametrize("path", ["/", "/jobs/1", "/jobs/1/rounds/1/fuel", "/jobs/new", "/jobs/1/revisions/0.json"])
def test_pages_need_a_person(visitor, path):
    answer = visitor.get(path, follow_redirects=False)
    assert (answer.status_code, answer.headers["location"]) == (303, "/sign-in")


def test_a_wrong_password_says_no_more_than_it_must(visitor, scene):
    one = visitor.sign_in("tuner@example.org", "wrong")
    other = visitor.sign_in("nobody@example.org", "wrong")
    assert one.status_code == other.status_code == 401
    assert "do not belong together" in one.text
    assert "do not belong together" in other.text


def test_too_many_tries_have_to_wait(visitor, scene):
    for _ in range(accounts.ATTEMPTS):
        visitor.sign_in("tuner@example.org", "wrong")
    answer = visitor.sign_in("tuner@example.org", "a long enough password")
    assert answer.status_code == 429
    assert "Wait ten minutes" in answer.text


def test_a_form_without_the_token_is_refused(client, scene):
    answer = client.post(f"/jobs/{scene.job.id}/close", data={"closed": "true"})
    assert answer.status_code == 403
    answer = client.post(f"/jobs/{scene.job.id}/close", data={"closed": "true", "csrf": "guess"})
    assert answer.status_code == 403
    with unit_of_work():
        assert not jobs.find(scene.user.shop_id, scene.job.id).closed


def test_a_changed_session_cookie_is_worth_nothing(client):
    value = client.cookies["uchiwa"]
    client.cookies.clear()
    client.cookies.set("uchiwa", value[:-4] + "AAAA")
    assert client.get("/", follow_redirects=False).status_code == 303


def test_signing_out(client):
    assert client.get("/").status_code == 200
    client.send_form("/sign-out")
    assert client.get("/", follow_redirects=False).status_code == 303


def test_every_answer_carries_the_security_headers(client):
    for path in ("/", "/sign-in", "/static/js/logs.js", "/nowhere", "/healthz"):
        headers = client.get(path).headers
        assert "default-src 'none'" in headers["content-security-policy"]
        assert "unsafe" not in headers["content-security-policy"]
        assert headers["x-content-type-options"] == "nosniff"


def test_no_page_has_inline_script_or_style(client, scene):
    for path in ("/", f"/jobs/{scene.job.id}", f"/jobs/{scene.job.id}/rounds/1/logs", "/jobs/new", "/sign-in"):
        answer = client.get(path)
        assert answer.status_code == 200, path
        text = answer.text
        assert " style=" not in text
        assert "<style" not in text
        assert "<script>" not in text
        assert " onclick" not in text


def test_another_shop_sees_nothing(client, scene):
    with unit_of_work():
        other = accounts.create_shop("Other")
        accounts.create_user(other, "other@example.org", "Other", "another long password")
    job = f"/jobs/{scene.job.id}"
    assert client.get(job).status_code == 200
    client.sign_in("other@example.org", "another long password")
    for path in (
        job,
        f"{job}/rounds/1/logs",
        f"{job}/rounds/1/fuel",
        f"{job}/rounds/1/review",
        f"{job}/revisions/0.json",
    ):
        assert client.get(path).status_code == 404, path
    for path in (f"{job}/close", f"{job}/rounds/1/fuel/take", f"{job}/rounds/1/return"):
        answer = client.send_form(path, {"closed": "true", "version": "1", "event": "1"})
        assert answer.status_code == 404, path
    upload = client.send_form(f"{job}/rounds/1/logs/upload", files={"files": ("a.csv", b"x")})
    assert upload.status_code == 404
    assert "Corvid Pike" not in client.get("/").text


def test_the_theme_is_kept_and_leads_nowhere_else(client):
    answer = client.send_form("/settings/theme", {"theme": "night", "back": "https://elsewhere.example/"})
    assert answer.headers["location"] == "/"
    assert (
        client.send_form("/settings/theme", {"theme": "night", "back": "//elsewhere.example"}).headers["location"]
        == "/"
    )
    assert 'data-theme="night"' in client.get("/").text


def test_health_says_which_is_not_well(client):
    answer = client.get("/healthz")
    assert answer.status_code == 503
    assert answer.json() == {"database": "ok", "worker": "silent"}
