"""The home queue: jobs by whose move it is and since when."""

from __future__ import annotations

from fastapi import Request
from fastapi.responses import Response

from uchiwa.core.rounds.progress import Move
from uchiwa.store import jobs as store
from uchiwa.store.database import unit_of_work
from uchiwa.web.pages import render
from uchiwa.web.requests.session import Person
from uchiwa.web.routing import router as new_router
from uchiwa.web.shop.queue import QueueRow, queue_rows

router = new_router()


@router.get("/")
def home(request: Request, user: Person, q: str = "", show: int | None = None) -> Response:
    """The queue; the margin shows one job of it."""
    with unit_of_work():
        rows = queue_rows(store.queue(user.shop_id, q[:100]))
    groups = [(move, [row for row in rows if row.entry.move is move]) for move in Move]
    ordered = [row for _, members in groups for row in members]
    shown = next((row for row in ordered if row.entry.job.id == show), ordered[0] if ordered else None)
    return render(request, "home.html", user, groups=groups, shown=shown, q=q, top=top_of(rows))


def top_of(rows: list[QueueRow]) -> float:
    """Upper end of the small error paths' axis, shared by all of them, in %."""
    return max([4.0, *(value for row in rows for value in row.entry.path)])
