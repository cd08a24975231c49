"""Requests that no page sends: every answer is a page or a sentence."""

from __future__ import annotations

import random
from collections import Counter
from typing import Any

import pytest

from bench.fuzzer import Fuzzer, mutated, routes, scene_of
from tests.seeds import seeds
from tests.store.conftest import sweep
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile

COUNT = 120
"""`python -m bench.fuzz` sends thousands, to the whole application."""


class InProcess(Fuzzer):
    """Sends to the application in this process."""

    def __init__(self, client: Any, seed: int, scene: dict[str, Any]) -> None:
        self.rng = random.Random(seed)
        self.client, self.scene, self.token = client, scene, client.token
        self.took: list[tuple[float, str]] = []
        self.wrong: Counter[str] = Counter()
        self.answers: Counter[int] = Counter()

    def sign_in(self) -> None:
        self.client.sign_in("tuner@example.org", "a long enough password")
        self.token = self.client.token


@pytest.mark.parametrize("seed", [1, 2][: seeds(1, 2)])
def test_no_request_fails_at_our_side(client, scene, seed, monkeypatch):
    monkeypatch.setattr("bench.fuzzer.wait_for_imports", sweep)
    fuzzer = InProcess(client, seed, scene_of(scene.user))
    for _ in range(COUNT):
        fuzzer.request()
    for _ in range(COUNT // 3):
        fuzzer.upload()
    assert not fuzzer.wrong, fuzzer.wrong.most_common(3)
    assert fuzzer.answers[200] + fuzzer.answers[303] > COUNT / 8
    with unit_of_work():
        kept = LogFile.select().where(LogFile.state == "stored").count()
    assert kept > 5


def test_mutations_are_repeated_by_their_seed():
    data = b"Time [s],Engine speed [rpm]\n0,1000\n1,1100\n" * 20
    one, two = (mutated(data, random.Random(5)) for _ in range(2))
    assert one == two != data
    assert len(routes()) > 90
