"""Whether database and worker are well."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import JSONResponse
from peewee import PeeweeException

from uchiwa.store import schema, worker_beats

# Not run again: that the database does not answer is what is asked here.
router = APIRouter()


@router.api_route("/healthz", methods=["GET", "HEAD"])
def healthz() -> JSONResponse:
    """200 when both are well, 503 otherwise, saying which is not."""
    try:
        working = worker_beats.alive()
        database = True
    except PeeweeException:
        working = database = False
    states = {"database": "ok" if database else "unreachable", "worker": "ok" if working else "silent"}
    return JSONResponse(states, 200 if database and working else 503)


@router.api_route("/readyz", methods=["GET", "HEAD"])
def readyz() -> JSONResponse:
    """200 when requests can be answered: the database answers and has the schema of this version; 503 otherwise."""
    try:
        schema.check()
    except schema.SchemaError:
        return JSONResponse({"database": "ok", "schema": "of another version"}, 503)
    except PeeweeException:
        return JSONResponse({"database": "unreachable", "schema": "unknown"}, 503)
    return JSONResponse({"database": "ok", "schema": "ok"}, 200)
