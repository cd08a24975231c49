"""Mutated uploads and requests, drawn by a seed."""

from __future__ import annotations

import gzip
import io
import json
import random
import re
import time
import zipfile
from collections import Counter
from typing import Any

import httpx2 as httpx
from fastapi.routing import APIRoute

from bench.drives import drive
from bench.load import wait_for_imports
from bench.zips import zipped
from uchiwa.core.logs.writers import write_log
from uchiwa.core.tables.image.files import write_image
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import image_of, layout_data
from uchiwa.standin.logger import write_delimited
from uchiwa.store import archive_out, jobs, links, uploads
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile, User

PASSWORD = "a long enough password"
LONGEST_S = 10.0
NASTY = (
    "", " ", "0", "-1", "1", "2", "7", "²", "1.2", "٣", "1e308", "-1e308", "nan", "inf", "1e-320", "9" * 40, "x" * 3000,
    "0.0", "1.1 2.2", "3.3 999.999", "-1.-1", "ve_main", "spark_main", "lambda_target", "maf", "constants", "draft",
    "revision:0", "step:1", "file:99", "before:", "x*1.05", "x+", "smooth 40", "fill both", "min(x, 12)", "__import__('os')",
    "engine_speed > 1000", "engine_speed", "1/0", "((((", "or_else(a, b)", "table('ve_main')", "\x00", "\ud83d\ude00", "日本語",
    "<script>", "' OR 1=1 --", "%s%s%s", "../../etc/passwd", "{}", "[]", "null", '{"a": 1}', "true", "on", "AFR", "kPa",
    "fuel", "full_load", "surface", "nearest", "auto", "own", "real", "noise", "error", "relief", "lines", "\t", "1\t2\n3\t4",
)  # fmt: skip


def mutated(data: bytes, rng: random.Random) -> bytes:
    """The same with something wrong in it."""
    buffer = bytearray(data)
    for _ in range(rng.randint(1, 6)):
        at = rng.randrange(len(buffer)) if buffer else 0
        match rng.randrange(9):
            case 0:
                buffer[at : at + 1] = bytes([rng.randrange(256)])
            case 1:
                del buffer[at : at + rng.randint(1, 400)]
            case 2:
                buffer[at:at] = buffer[at : at + rng.randint(1, 2000)]
            case 3:
                buffer[at:at] = bytes(rng.randrange(256) for _ in range(rng.randint(1, 60)))
            case 4:
                buffer[at:at] = rng.choice(NASTY).encode("utf-8", "surrogatepass")
            case 5:
                buffer[at:at] = rng.choice((b" ", b"(", b"#", b'"', b",", b"1", b"\n", b"[", b"{", b":")) * rng.randint(
                    1, 30_000
                )
            case 6:
                del buffer[rng.randrange(len(buffer) + 1) :]
            case 7:
                spoil_a_number(buffer, at, rng)
            case _:
                buffer = buffer[at:] + buffer[:at]
    return bytes(buffer)


def spoil_a_number(buffer: bytearray, at: int, rng: random.Random) -> None:
    """Put what no number holds in place of a digit behind a byte, if there is one."""
    digits = [m.start() for m in re.finditer(rb"[0-9]", bytes(buffer[at : at + 4000]))]
    if digits:
        place = at + rng.choice(digits)
        buffer[place : place + 1] = rng.choice((b"9" * 30, b"-", b"e308", b"NaN", b".", b"1e999"))


class Fuzzer:
    """Sends what no person would."""

    def __init__(self, address: str, email: str, seed: int, scene: dict[str, Any]) -> None:
        self.rng = random.Random(seed)
        self.client = httpx.Client(base_url=address, timeout=120, trust_env=False)
        self.email, self.scene = email, scene
        self.took: list[tuple[float, str]] = []
        self.wrong: Counter[str] = Counter()
        self.answers: Counter[int] = Counter()
        self.sign_in()

    def sign_in(self) -> None:
        """As the person whose shop is to suffer."""
        page = self.client.get("/sign-in").text
        token = re.search(r'name="csrf" content="([^"]+)"', page)[1]
        self.client.post("/sign-in", data={"csrf": token, "email": self.email, "password": PASSWORD})
        self.token = re.search(r'name="csrf" content="([^"]+)"', self.client.get("/").text)[1]

    def send(self, method: str, path: str, what: str, **more: Any) -> None:
        """One request, measured."""
        headers = (
            {"x-csrf": self.token} | ({"x-fragment": "yes"} if self.rng.random() < 0.5 else {}) | self.odd_headers()
        )
        start = time.perf_counter()
        try:
            with self.client.stream(method, path, headers=headers, **more) as answer:
                next(answer.iter_raw(), b"")  # what comes in pieces may take its time, as long as it begins
                self.took.append((time.perf_counter() - start, what))
        except (httpx.InvalidURL, httpx.LocalProtocolError, UnicodeError, ValueError):
            return
        self.answers[answer.status_code] += 1
        if answer.status_code >= 500:
            self.wrong[f"{answer.status_code} {what} {str(more)[:300]}"] += 1
        if answer.status_code == 401 or "/sign-in" in answer.headers.get("location", ""):
            self.sign_in()

    def upload(self) -> None:
        """A mutated file to somewhere that takes files."""
        job = f"/jobs/{self.scene['job']}"
        name, data = self.rng.choice(self.scene["logs"])
        kind = self.rng.random()
        if kind < 0.6:
            where = (
                f"/c/{self.scene['token']}/logs/upload" if self.rng.random() < 0.05 else f"{job}/rounds/1/logs/upload"
            )
            self.send("POST", where, "upload a log", files={"files": (name, mutated(data, self.rng))})
        elif kind < 0.75:
            form = {"customer": "C", "car": "D", "details": ""}
            files = {"calibration": ("c.json", mutated(self.scene["calibration"], self.rng))}
            if self.rng.random() < 0.4:
                files = {
                    "calibration": ("i.hex", self.scene["image"]),
                    "layout": ("l.json", mutated(self.scene["layout"], self.rng)),
                }
            self.send("POST", "/jobs/new", "a new car", data=form, files=files)
        elif kind < 0.85:
            files = {
                "layout": ("l.json", self.scene["layout"]),
                "image": ("i.hex", mutated(self.scene["image"], self.rng)),
            }
            self.send("POST", f"{job}/image", "an image", files=files)
        elif kind < 0.92:
            data = self.scene["archive"]
            data = self.changed_archive() if self.rng.random() < 0.7 else mutated(data, self.rng)
            self.send("POST", "/jobs/import", "an archive", files={"archive_file": ("job.zip", data)})
        else:
            files = {"file": ("f.json", mutated(self.scene["calibration"], self.rng))}
            self.send("POST", f"{job}/rounds/1/compare/file", "a file to compare", files=files)

    def changed_archive(self) -> bytes:
        """An archive whose description has values that no export writes."""
        with zipfile.ZipFile(io.BytesIO(self.scene["archive"])) as archive:
            members = {one: archive.read(one) for one in archive.namelist()}
        job = json.loads(members["job.json"])
        for _ in range(self.rng.randint(1, 3)):
            self.change(job)
        members["job.json"] = json.dumps(job).encode()
        return zipped(members)

    def change(self, part: Any) -> None:
        """Something somewhere within plain data."""
        while True:
            keys = list(part) if isinstance(part, dict) else list(range(len(part)))
            if not keys:
                return
            key = self.rng.choice(keys)
            if isinstance(part[key], (dict, list)) and part[key] and self.rng.random() < 0.85:
                part = part[key]
                continue
            part[key] = self.rng.choice(
                (
                    None,
                    -1,
                    0,
                    2**40,
                    1e308,
                    "x",
                    "\ud800",
                    [],
                    {},
                    True,
                    "9999-12-31T00:00:00",
                    "0001-01-01T00:00:00",
                    *NASTY,
                )
            )
            return

    def odd_headers(self) -> dict[str, str]:
        """Now and then a header, a cookie or a form's token that no browser sends."""
        if self.rng.random() < 0.93:
            return {}
        name = self.rng.choice(
            ("x-csrf", "cookie", "x-fragment", "x-forwarded-for", "host", "accept", "referer", "user-agent", "range", "content-type",
             "x-request-id", "if-none-match", "content-length-x", "accept-encoding", "origin"),
        )  # fmt: skip
        plain = [one for one in NASTY if one.isascii() and one.isprintable() and one == one.strip()]
        value = self.rng.choice(plain)
        return {name: f"uchiwa={value}; uchiwa-device={value}" if name == "cookie" else value}

    def value(self, name: str) -> str:
        """Something for a field or a parameter."""
        if name in ("job_id",):
            return str(self.scene["job"]) if self.rng.random() < 0.95 else self.rng.choice(NASTY)
        if name == "number":
            return "1" if self.rng.random() < 0.9 else self.rng.choice(NASTY)
        if name in ("log_id", "log"):
            return str(self.rng.choice(self.scene["ready"])) if self.rng.random() < 0.85 else self.rng.choice(NASTY)
        if name == "token":
            return str(self.scene["token"]) if self.rng.random() < 0.9 else self.rng.choice(NASTY)
        if name == "version" and self.rng.random() < 0.7:
            return str(self.scene["version"]())
        if name == "table" and self.rng.random() < 0.7:
            return self.rng.choice(("ve_main", "spark_main", "lambda_target"))
        if name == "sheet" and self.rng.random() < 0.8:
            return self.rng.choice(("knock", "torque", "limit"))
        return self.rng.choice(NASTY)

    def request(self) -> None:
        """A route with parameters and fields that its page would not send."""
        route = self.rng.choice(self.scene["routes"])
        path = re.sub(
            r"\{(\w+)(?::\w+)?\}",
            lambda found: httpx.URL("/").join("/" + _quoted(self.value(found[1]))).raw_path.decode()[1:],
            route.path,
        )
        names = [param.alias for param in (*route.dependant.query_params, *route.dependant.body_params)]
        for inner in route.dependant.dependencies:
            names += [param.alias for param in (*inner.query_params, *inner.body_params)]
        names += self.rng.sample(
            ("where", "note", "channel", "drive", "seen", "formula", "margin", "i", "j", "cell", "show", "from", "to"),
            3,
        )
        fields: dict[str, Any] = {name: self.value(name) for name in names if self.rng.random() < 0.85}
        for name in list(fields):
            if self.rng.random() < 0.04:
                fields[name] = [fields[name], self.value(name)]
        method = next(iter(route.methods - {"HEAD"}))
        what = f"{method} {route.path}"
        try:
            if method == "GET":
                self.send("GET", path, what, params=fields)
            else:
                self.send("POST", path, what, data=fields)
        except UnicodeEncodeError:
            return


def _quoted(text: str) -> str:
    from urllib.parse import quote

    return quote(text.encode("utf-8", "replace"), safe="") or "0"


def routes() -> list[APIRoute]:
    """Every route of the application but those that sign in and out, or upload."""
    from uchiwa.web.app import _ROUTES

    found = [route for module in _ROUTES for route in module.router.routes if isinstance(route, APIRoute)]
    return [
        one
        for one in found
        if not one.path.startswith(("/sign", "/healthz")) and not one.path.endswith(("upload", "/import", "revoke"))
    ]


def scene_of(user: User) -> dict[str, Any]:
    """A job with logs, and good files of every kind."""
    car = car_named("corvid-pike")
    base = car.base()
    with unit_of_work():
        job = jobs.create(user, "Customer", "Corvid Pike", "", base, car.file)
        round_ = jobs.rounds(job)[0]
        token = links.make(job)
    text = write_delimited(drive(1)).encode()
    uploads.receive(job, round_, "good.csv", io.BytesIO(text))
    uploads.receive(job, round_, "good2.csv", io.BytesIO(write_delimited(drive(2)).encode()))
    wait_for_imports()
    archive = io.BytesIO()
    with unit_of_work():
        archive_out.export(job, archive)
        ready = [log.id for log in LogFile.select().where(LogFile.job == job)]
    log = drive(3, 300)

    def version() -> int:
        from uchiwa.store.models import Draft

        with unit_of_work():
            return Draft.get(Draft.job == job).version

    return {
        "job": job.id,
        "token": token,
        "ready": ready,
        "version": version,
        "archive": archive.getvalue(),
        "calibration": calibration_json.dumps(base).encode(),
        "layout": json.dumps(layout_data(car)).encode(),
        "image": write_image(image_of(car), "hex"),
        "routes": routes(),
        "logs": [
            ("a.csv", text),
            ("b.csv.gz", gzip.compress(text)),
            ("c.zip", zipped({"a.csv": text, "b.csv": text[:3000]})),
            ("d.parquet", write_log(log, "parquet")),
            ("e.mf4", write_log(log, "mf4")),
            ("f.txt", text.replace(b",", b";").replace(b".", b",")),
        ],
    }
