"""Simulated drives kept on disk: the same drive of the same car by the same sources is not simulated twice."""

from __future__ import annotations

import ast
import fcntl
import hashlib
import inspect
import io
import os
import pickle
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from types import CodeType, FunctionType, MappingProxyType
from typing import Any

import numpy as np
from pydantic import BaseModel

from uchiwa.core.logs.log import Log
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.core.tables.table import Calibration
from uchiwa.standin import simulate as simulation

_HERE = Path(__file__).parents[2]
_MOST_DRIVES = 400


def kept(folder: Path, name: str, make: Callable[[], Any]) -> Any:
    """What `make()` gives, taken from a file of our own folder where it was made before; one process makes it, others wait."""
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    if folder.stat().st_uid != os.getuid():
        return make()
    path = folder / name
    with (folder / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if path.exists():
            return pickle.loads(path.read_bytes())  # noqa: S301 - the folder is ours, as was just asked
        made = make()
        unfinished = path.with_suffix(".new")
        unfinished.write_bytes(pickle.dumps(made))
        unfinished.replace(path)
    return made


def _imported(path: Path) -> Iterator[Path]:
    """The modules of ours that a module imports."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module:
            names = [node.module, *(f"{node.module}.{one.name}" for one in node.names)]
        else:
            names = [one.name for one in node.names] if isinstance(node, ast.Import) else []
        for name in names:
            found = _HERE.joinpath(*name.split(".")).with_suffix(".py")
            if name.startswith("uchiwa.") and found.exists():
                yield found


@cache
def _sources() -> str:
    """A hash of every module that a simulated drive follows from."""
    known, left = set[Path](), [Path(simulation.__file__)]
    while left:
        path = left.pop()
        if path not in known:
            known.add(path)
            left += _imported(path)
    found = hashlib.sha256(np.__version__.encode())
    for path in sorted(known):
        found.update(path.read_bytes())
    return found.hexdigest()[:16]


class _Telling(pickle.Pickler):
    """Tells arguments apart: functions by their code and what they hold, which is enough for a name and cannot be read back."""

    def reducer_override(self, obj: Any) -> Any:
        if isinstance(obj, FunctionType):
            held = [cell.cell_contents for cell in obj.__closure__ or ()]
            code = obj.__code__
            return tuple, ([obj.__module__, obj.__qualname__, code.co_code, _constants(code), obj.__defaults__, held],)
        if isinstance(obj, BaseModel):
            return str, (obj.model_dump_json(),)
        if isinstance(obj, Calibration):
            return str, (calibration_json.dumps(obj),)
        if isinstance(obj, MappingProxyType):
            return dict, (dict(obj),)
        return NotImplemented


def _constants(code: CodeType) -> str:
    return repr([_constants(const) if isinstance(const, CodeType) else const for const in code.co_consts])


def _told(*asked: Any) -> str:
    file = io.BytesIO()
    _Telling(file).dump(asked)
    return hashlib.sha256(file.getvalue()).hexdigest()[:32]


def keeping(simulate: Callable[..., Log], folder: Path) -> Callable[..., Log]:
    """`simulate` with its drives kept in a folder, by what they follow from: arguments and sources.

    The mark of a revision is all that makes some of them differ; it is written in afterwards.
    """
    form = inspect.signature(simulate)

    def simulated(*args: Any, **named: Any) -> Log:
        of_sources = folder / _sources()
        if not of_sources.exists():
            _forget(folder)
        asked = form.bind(*args, **named).arguments
        mark = asked.pop("revision", None) or asked["calibration"].id
        name, rasters, notes = kept(of_sources, _told(sorted(asked.items())), lambda: _plain(simulate(**asked)))
        return Log(name, rasters, MappingProxyType({**notes, "revision": mark}))

    return simulated


def _plain(log: Log) -> tuple[str, Any, dict[str, str]]:
    return log.name, log.rasters, dict(log.notes)


def _forget(folder: Path) -> None:
    """Drives by other sources go once there are many."""
    every = list(folder.glob("*/*")) if folder.exists() else []
    if len(every) > 2 * _MOST_DRIVES:
        for path in every:
            path.unlink(missing_ok=True)
