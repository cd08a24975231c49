"""The shop's thresholds: when each check of a log finds something."""

from __future__ import annotations

from typing import Any

from fastapi import Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.checks import own
from uchiwa.core.checks.finding import Severity
from uchiwa.core.checks.thresholds import Thresholds
from uchiwa.core.errors import BadInput
from uchiwa.core.typed_number import plain_number
from uchiwa.store import channels, shop_settings
from uchiwa.store.database import unit_of_work
from uchiwa.store.locks import lock_shop
from uchiwa.store.models import User
from uchiwa.store.three_way import merge, read_seen
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import Fields, FromOurForm, Person
from uchiwa.web.routing import router as new_router

router = new_router()

GROUPS = {
    "The recording": ("short_log", "gap_steps", "gap_seconds", "rate_steady", "rate_quick", "out_of_range", "flat_top"),
    "Mixture": ("idle_mixture", "rich_rail", "lean_rail", "rail_seconds", "wideband_warm", "lean_at_load", "lean_tip_in"),
    "Knock and electrics": ("knock_degrees", "knock_events", "knock_severe", "battery_jitter"),
    "Air and fuel": ("meter_volts", "duty_warn", "duty_critical", "trim_limit", "trim_left", "bank_limit", "fuel_pressure_drop"),
    "Temperature": ("warm_coolant", "cold_share", "soaked_above", "soaked_seconds", "exhaust_hot", "exhaust_seconds"),
    "Revision": ("lookup_lambda", "lookup_spark", "lookup_airflow"),
}  # fmt: skip


def _fields(limits: Thresholds, typed: dict[str, str]) -> list[tuple[str, list[dict[str, Any]]]]:
    standard = Thresholds()
    groups: list[tuple[str, list[dict[str, Any]]]] = []
    for title, keys in GROUPS.items():
        rows = []
        for key in keys:
            known = Thresholds.model_fields[key]
            extra = known.json_schema_extra
            rows.append(
                {
                    "key": key,
                    "words": known.title,
                    "unit": extra["unit"] if isinstance(extra, dict) else "",
                    "value": typed.get(key, f"{getattr(limits, key):g}"),
                    "standard": getattr(standard, key),
                    "changed": getattr(limits, key) != getattr(standard, key),
                }
            )
        groups.append((title, rows))
    return groups


def _page(
    request: Request,
    user: User,
    groups: list[tuple[str, list[dict[str, Any]]]],
    *,
    problem: str = "",
    typed: Any = None,
) -> Response:
    return render(
        request,
        "checks.html",
        user,
        status=400 if problem else 200,
        groups=groups,
        problem=problem,
        seen=Thresholds.loads(user.shop.thresholds).model_dump_json(),
        own_checks=own.loads(user.shop.own_checks),
        severities=list(Severity),
        typed=typed or {},
    )


@router.get("/shop/checks")
def checks(request: Request, user: Person) -> Response:
    """All thresholds on one page."""
    limits = Thresholds.loads(user.shop.thresholds)
    return _page(request, user, _fields(limits, {}))


@router.post("/shop/checks", dependencies=[FromOurForm])
def keep(request: Request, user: Person, form: Fields) -> Response:
    """Keep them; logs that come from now on are checked by them."""
    typed = {key: plain_number(str(form.get(key, ""))) for key in Thresholds.model_fields}
    given = {key: value for key, value in typed.items() if value} if form.get("what") != "standard" else {}
    try:
        limits = Thresholds.read(given)
        seen = read_seen(str(form.get("seen", "")))
    except BadInput as error:
        groups = _fields(Thresholds.loads(user.shop.thresholds), typed)
        return _page(request, user, groups, problem=str(error))
    with unit_of_work():
        now = Thresholds.loads(lock_shop(user.shop_id).thresholds).model_dump(mode="json")
        if form.get("what") != "standard":
            limits = Thresholds.read(merge(seen, limits.model_dump(mode="json"), now, "The page of thresholds"))
        shop_settings.keep_thresholds(user.shop_id, limits)
    say(request, "Kept. Logs that come from now on are checked by these; use “check again” on a log for the others.")
    return RedirectResponse("/shop/checks", 303)


@router.post("/shop/checks/own", dependencies=[FromOurForm])
def keep_own(request: Request, user: Person, form: Fields) -> Response:
    """Keep a check of the shop's own, in place of one of the same name, or drop it."""
    typed = {key: " ".join(str(form.get(key, "")).split()) for key in own.OwnCheck.model_fields}
    try:
        with unit_of_work():
            shop = lock_shop(user.shop_id)
            left = [check for check in own.loads(shop.own_checks) if check.name != typed["name"]]
            if not form.get("drop"):
                typed["seconds"] = plain_number(typed["seconds"]) or "0"
                left.append(own.OwnCheck.read(typed, channels.book_of(user.shop_id)))
                if len(left) > own.MOST:
                    raise BadInput(f"a shop has at most {own.MOST} checks of its own", advice="drop one first")
            shop_settings.keep_own_checks(user.shop_id, own.dumps(left))
    except BadInput as error:
        limits = Thresholds.loads(user.shop.thresholds)
        return _page(request, user, _fields(limits, {}), problem=str(error), typed=typed)
    say(request, "Kept. Logs that come from now on are checked by it; use “check again” on a log for the others.")
    return RedirectResponse("/shop/checks", 303)
