"""`python -m bench.statements`: how many SQL statements each main page of the demo takes.

Run against a home whose demo data are loaded (`UCHIWA_HOME`), with its database running.
"""

from __future__ import annotations

import re
from typing import Any

from starlette.testclient import TestClient

from uchiwa import demo
from uchiwa.store.database import connect_to, database
from uchiwa.store.place import Place
from uchiwa.web.app import create_app

_SHOP = ("/", "/shop/channels", "/shop/checks", "/jobs/new")
_JOB = ("", "/car", "/image", "/setups")
_ROUND = (
    "brief", "logs", "read", "fuel", "fuel/cell?table=ve_main&i=4&j=4", "fuel/moments?table=ve_main&i=4&j=4", "airflow",
    "bins", "bins/cell?table=ve_main&i=4&j=4", "idle/warm-up", "spark/knock", "spark/pulls", "spark/torque", "spark/limit", "tables", "tables/cell?table=ve_main&i=4&j=4",
    "compare", "review", "return",
)  # fmt: skip

_IDLE = ("air", "air/cell?i=4&j=0", "air/moments?i=4&j=0", "warm-up", "quality")


class Counter:
    """Counts the statements that go to the database, but for the control of transactions."""

    def __init__(self) -> None:
        self.statements: list[str] = []
        original = database.execute_sql

        def counted(sql: str, *rest: Any, **named: Any) -> Any:
            if not re.match(r"\s*(BEGIN|COMMIT|ROLLBACK|SET|START)", sql, re.IGNORECASE):
                self.statements.append(sql)
            return original(sql, *rest, **named)

        database.execute_sql = counted  # type: ignore[method-assign]


def main() -> None:
    """Print the table."""
    place = Place.load()
    if place is None:
        raise SystemExit("there is no database here: run make demo first")
    connect_to(place)
    client = TestClient(create_app(place.secret_key, demo=True), base_url="http://127.0.0.1:8460")
    form = client.get("/sign-in").text
    token = re.search(r'name="csrf" content="([^"]+)"', form)
    assert token is not None
    client.post("/sign-in", data={"csrf": token[1], "email": demo.EMAIL, "password": demo.PASSWORD})
    found = re.search(r'href="/jobs/(\d+)/rounds/(\d+)/review"', client.get("/").text)
    assert found is not None, "the demo's job with a draft to review is not there"
    job, number = found.groups()
    idle = re.search(r'href="/jobs/(\d+)/rounds/(\d+)/idle"', client.get("/").text)
    clamp = client.get("/?q=Larkspur Tern S").text
    other = re.search(r'href="/jobs/(\d+)/rounds/1/fuel', clamp)
    more = [f"/jobs/{idle[1]}/rounds/{idle[2]}/idle/{one}" for one in _IDLE] if idle else []
    more += [f"/jobs/{other[1]}/rounds/1/fuel/clamp"] if other else []
    counter = Counter()
    pages = [
        *_SHOP,
        *(f"/jobs/{job}{one}" for one in _JOB),
        *(f"/jobs/{job}/rounds/{number}/{one}" for one in _ROUND),
        *more,
    ]
    print("| page | statements, first | again | answer |\n|---|---|---|---|")
    for page in pages:
        counts = []
        for _ in range(2):
            counter.statements.clear()
            answer = client.get(page)
            counts.append(len(counter.statements))
        print(f"| `{page}` | {counts[0]} | {counts[1]} | {answer.status_code} |")


if __name__ == "__main__":
    main()
