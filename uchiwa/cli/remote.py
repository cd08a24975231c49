"""`uchiwa remote`: talk to a server with a personal token, through its programming interface."""

from __future__ import annotations

import json
import os
import urllib.error
import urllib.request
import uuid
from pathlib import Path
from typing import Any
from urllib.parse import urlencode, urlsplit

import click

from uchiwa.cli.files import read_bytes, say_json, write_bytes
from uchiwa.cli.root import uchiwa
from uchiwa.core.errors import BadInput

_PATH, _SECONDS = "/api/v1", 120


class Server:
    """A server and the token that opens it."""

    def __init__(self, url: str, token: str) -> None:
        parts = urlsplit(url)
        if parts.scheme not in ("http", "https") or not parts.netloc:
            raise BadInput(
                f"“{url[:80]}” is not an address", where="--url", advice="write one such as https://tune.example"
            )
        if not token:
            raise BadInput("there is no token", where="--token", advice="make one on your account’s page")
        self.address, self.token = url.rstrip("/") + _PATH, token

    def ask(self, path: str, **query: Any) -> Any:
        """Plain data of an address."""
        told = {key: value for key, value in query.items() if value is not None}
        return json.loads(self.fetch(f"{path}?{urlencode(told, doseq=True)}" if told else path))

    def fetch(self, path: str, data: bytes | None = None, kind: str = "") -> bytes:
        """The bytes of an address; with data they are sent.

        Raises:
            BadInput: the server refuses; says why.
        """
        head = {"authorization": f"Bearer {self.token}"} | ({"content-type": kind} if kind else {})
        request = urllib.request.Request(self.address + path, data=data, headers=head)  # noqa: S310 - http or https
        try:
            with urllib.request.urlopen(request, timeout=_SECONDS) as answer:  # noqa: S310
                found: bytes = answer.read()
                return found
        except urllib.error.HTTPError as error:
            raise BadInput(_said(error), where=self.address) from None
        except (urllib.error.URLError, TimeoutError, OSError) as error:
            why = getattr(error, "reason", error)
            raise BadInput(
                f"the server cannot be reached ({why})", where=self.address, advice="check address and network"
            ) from None


def _said(error: urllib.error.HTTPError) -> str:
    try:
        told = json.loads(error.read(100_000))
        return str(told["detail"]).rstrip(".")
    except (ValueError, KeyError, TypeError):
        return f"the server refuses with {error.code}"


@uchiwa.group()
@click.option("--url", default=lambda: os.environ.get("UCHIWA_URL", ""), help="Of the server; else UCHIWA_URL.")
@click.option("--token", default=lambda: os.environ.get("UCHIWA_TOKEN", ""), help="Of yours; else UCHIWA_TOKEN.")
@click.pass_context
def remote(context: click.Context, url: str, token: str) -> None:
    """Jobs, logs, proposals and revisions of a server."""
    context.obj = (url, token)


def _server() -> Server:
    return Server(*click.get_current_context().obj)


_json = click.option("--json", "as_json", is_flag=True, help="Machine-readable output.")


@remote.command()
@click.option("--closed", is_flag=True, help="Those at rest.")
@_json
def jobs(closed: bool, as_json: bool) -> None:
    """The shop's jobs, and whose move each is."""
    server, found, after = _server(), [], 0
    while after is not None:
        page = server.ask("/jobs", closed=str(closed).lower(), after=after)
        found += page["jobs"]
        after = page["next"]
    if as_json:
        say_json(found)
        return
    for one in found:
        click.echo(f"  {one['id']:>5}  {one['car']}, {one['customer']}: round {one['round']}, {one['sentence']}")


@remote.command()
@click.argument("job", type=int)
@click.argument("files", nargs=-1, required=True)
def send(job: int, files: tuple[str, ...]) -> None:
    """Send logs to a JOB's round under work."""
    server = _server()
    for path in files:
        name = Path(path).name.replace('"', "_")
        border = uuid.uuid4().hex
        head = f'--{border}\r\ncontent-disposition: form-data; name="file"; filename="{name}"\r\n\r\n'
        body = head.encode() + read_bytes(path) + f"\r\n--{border}--\r\n".encode()
        told = json.loads(server.fetch(f"/jobs/{job}/logs", body, f"multipart/form-data; boundary={border}"))
        click.echo(f"{path}: log {told['id']}, {told['state']}")


@remote.command()
@click.argument("log", type=int)
@_json
def findings(log: int, as_json: bool) -> None:
    """What became of a LOG, and what the checks found in it."""
    server = _server()
    told, found = server.ask(f"/logs/{log}"), server.ask(f"/logs/{log}/findings")["findings"]
    if as_json:
        say_json({"log": told, "findings": found})
        return
    click.echo(f"{told['name']}: {told['state']}{'' if told['accepted'] else ', not used'} {told['message']}".rstrip())
    for one in found:
        click.echo(f"  {one['severity']}: {one['tuner']}")


@remote.command()
@click.argument("job", type=int)
@click.argument("kind", type=click.Choice(["fuel", "knock", "torque", "idle", "warmup", "clamp"]))
@click.option("--round", "number", type=int, help="By default the one under work.")
@click.option("--table", help="Id of the table.")
def propose(job: int, kind: str, number: int | None, table: str | None) -> None:
    """The proposal of a JOB's round, as JSON; nothing is taken by asking."""
    server = _server()
    number = number or int(server.ask(f"/jobs/{job}")["round"])
    say_json(server.ask(f"/jobs/{job}/rounds/{number}/proposals/{kind}", table=table)["report"])


@remote.command()
@click.argument("job", type=int)
@click.option("--revision", type=int, help="By default the newest that is not withdrawn.")
@click.option("--out", required=True, help="Where it goes: .json, .cdfx, or .bin, .hex, .s19 of its image.")
def fetch(job: int, revision: int | None, out: str) -> None:
    """A JOB's revision, as calibration or as image."""
    server = _server()
    if revision is None:
        stand = [one["number"] for one in server.ask(f"/jobs/{job}/revisions")["revisions"] if not one["withdrawn"]]
        revision = max(stand)
    form = {".bin": "raw", ".hex": "hex", ".s19": "srec"}.get(Path(out).suffix.lower())
    if form is not None:
        data = server.fetch(f"/jobs/{job}/revisions/{revision}/image?format={form}")
    else:
        cdf = "?cdf=true" if Path(out).suffix.lower() in (".cdfx", ".xml") else ""
        data = server.fetch(f"/jobs/{job}/revisions/{revision}/calibration{cdf}")
    write_bytes(out, data)
    click.echo(f"{out}: revision {revision} of job {job}")


@remote.command(name="bin")
@click.argument("job", type=int)
@click.option("--table", required=True, help="Id of the table that gives the axes.")
@click.option("--value", required=True, help="Formula of what is gathered.")
@click.option("--where", multiple=True, help="Condition; may be repeated.")
@click.option("--round", "number", type=int, help="By default the one under work.")
def bin_(job: int, table: str, value: str, where: tuple[str, ...], number: int | None) -> None:
    """A formula gathered on a table's axes over a JOB's round, as JSON."""
    server = _server()
    number = number or int(server.ask(f"/jobs/{job}")["round"])
    say_json(server.ask(f"/jobs/{job}/rounds/{number}/bins", table=table, value=value, where=list(where) or None))
