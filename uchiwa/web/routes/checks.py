"""The shop's thresholds: when each check of a log finds something."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.checks.thresholds import Thresholds
from uchiwa.core.errors import BadInput
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Shop
from uchiwa.web.pages import render, say
from uchiwa.web.session import Fields, FromOurForm, Person

router = APIRouter()

GROUPS = {
    "The recording": ("short_log", "gap_steps", "gap_seconds", "rate_steady", "rate_quick", "out_of_range", "flat_top"),
    "Mixture": ("idle_mixture", "rich_rail", "lean_rail", "rail_seconds", "wideband_warm", "lean_at_load", "lean_tip_in"),
    "Temperature": ("warm_coolant", "cold_share", "soaked_above", "soaked_seconds"),
    "Air and fuel": ("meter_volts", "duty_warn", "duty_critical", "trim_limit", "trim_left", "bank_limit", "fuel_pressure_drop"),
    "Knock and electrics": ("knock_degrees", "knock_events", "knock_severe", "battery_jitter"),
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


@router.get("/shop/checks")
def checks(request: Request, user: Person) -> Response:
    """All thresholds on one page."""
    limits = Thresholds.loads(user.shop.thresholds)
    return render(request, "checks.html", user, groups=_fields(limits, {}), problem=None)


@router.post("/shop/checks", dependencies=[FromOurForm])
def keep(request: Request, user: Person, form: Fields) -> Response:
    """Keep them; logs that come from now on are checked by them."""
    typed = {key: str(form.get(key, "")).strip().replace(",", ".") for key in Thresholds.model_fields}
    given = {key: value for key, value in typed.items() if value} if form.get("what") != "standard" else {}
    try:
        limits = Thresholds.read(given)
    except BadInput as error:
        groups = _fields(Thresholds.loads(user.shop.thresholds), typed)
        return render(request, "checks.html", user, status=400, groups=groups, problem=str(error))
    with unit_of_work():
        Shop.update(thresholds=limits.model_dump_json()).where(Shop.id == user.shop_id).execute()
    say(request, "Kept. Logs that come from now on are checked by these; use “check again” on a log for the others.")
    return RedirectResponse("/shop/checks", 303)
