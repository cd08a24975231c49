"""A client that is signed in, with the token its forms need."""

from __future__ import annotations

import re
from collections.abc import Iterator
from concurrent.futures import CancelledError
from contextlib import contextmanager, suppress
from typing import Any

import pytest
from starlette.testclient import TestClient, WebSocketTestSession

from tests.store.conftest import Scene, scene  # noqa: F401
from uchiwa.store import briefs, links, sessions
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User
from uchiwa.web.app import create_app
from uchiwa.web.requests.browser import COOKIE, Browser

SECRET = "test-key"


class Client(TestClient):
    """Sends the session's token with every form."""

    token = ""

    def send_form(self, path: str, data: dict[str, Any] | None = None, **more: Any):
        """POST a form and stay at the answer."""
        headers = {"x-csrf": self.token} | more.pop("headers", {})
        return self.post(path, data=data or {}, headers=headers, follow_redirects=False, **more)

    @contextmanager
    def listening(self, path: str, **more: Any) -> Iterator[WebSocketTestSession]:
        """A WebSocket, closed at the end; that its other side is cut short by that is no fault."""
        with suppress(CancelledError), self.websocket_connect(path, **more) as socket:
            yield socket

    def learn_token(self) -> None:
        """Take the token from a page."""
        page = self.get("/sign-in").text
        self.token = re.search(r'name="csrf" content="([^"]+)"', page)[1]

    def sign_in(self, email: str, password: str):
        """Sign in as a person would."""
        self.learn_token()
        answer = self.send_form("/sign-in", {"email": email, "password": password})
        self.learn_token()
        return answer

    def be_signed_in(self, user: User) -> None:
        """Go on as somebody who has signed in: as good as `sign_in` for what comes after, and far quicker."""
        session = sessions.begin(user, "a test")
        self.cookies.set(COOKIE, session)
        self.token = Browser(session, "", (SECRET,), secure=False).form_token


@pytest.fixture
def visitor(clean_database) -> Iterator[Client]:
    """Nobody in particular."""
    with Client(create_app(SECRET), raise_server_exceptions=False) as client:
        yield client


@pytest.fixture
def client(visitor: Client, scene: Scene) -> Client:  # noqa: F811
    """The tuner, signed in."""
    visitor.be_signed_in(scene.user)
    return visitor


@pytest.fixture
def path(scene: Scene) -> str:  # noqa: F811
    """Of the scene's first round."""
    return f"/jobs/{scene.job.id}/rounds/1"


@pytest.fixture
def link(scene: Scene) -> str:  # noqa: F811
    """A customer's link to the scene's job, whose brief was sent."""
    with unit_of_work():
        briefs.keep(scene.round, briefs.standard(scene.job, scene.round))
        return f"/c/{links.make(scene.job)}"


@pytest.fixture
def driver(clean_database) -> Iterator[Client]:
    """Somebody with the link and nothing else."""
    with Client(create_app("test-key"), raise_server_exceptions=False) as client:
        yield client
