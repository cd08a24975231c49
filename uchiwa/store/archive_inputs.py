"""What the history's steps were made from, as far as pages and reports show it: checked when it comes from elsewhere."""

from __future__ import annotations

import json
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from uchiwa.core.errors import BadInput

_LONGEST = 4_000_000
Finite = Annotated[float, Field(allow_inf_nan=False, ge=-1e12, le=1e12)]
Count = Annotated[int, Field(ge=0, le=10**12)]
Words = Annotated[str, Field(max_length=2000)]


class _Part(BaseModel):
    model_config = ConfigDict(extra="allow")


class _PolicyPart(_Part):
    estimator: Words | None = None
    strength: Finite = 100.0
    limit_percent: Finite = 0.0
    margin: Finite = 0.0
    most: Finite = 0.0
    knock_margin: Finite = 0.0
    quantile: Finite = 0.0
    margin_percent: Finite = 0.0


class _ClusterPart(_Part):
    counts: bool = False


class _SpeedPart(_Part):
    speed: Finite = 0.0
    reached: Finite = 0.0
    samples: Count = 0


class _StepPart(_Part):
    """Of a proposal that was taken."""

    kind: Words = "spark"
    policy: _PolicyPart = _PolicyPart()
    samples: Count = 0
    samples_used: Count = 0
    samples_left_out: dict[Words, Count] = {}
    logs: list[Words] = []
    log_ids: list[Count] = []
    events: Count = 0
    clusters: list[_ClusterPart] = []
    pulls: list[Any] = []
    points: Finite = 0.0
    degrees_per_point: Finite = 0.0
    speeds: list[_SpeedPart] = []
    table: Words = ""


class _AnswerPart(_Part):
    sentence: Words
    reason: Words
    by: Words


class _FreezePart(_Part):
    """Of a revision that was frozen."""

    steps: list[Count] = []
    logs: list[dict[str, Any]] = []
    answers: list[_AnswerPart] = []
    notes: list[Words] = []
    parent: Count = 0


_KINDS: dict[str, type[_Part]] = {
    "take": _StepPart,
    "spark": _StepPart,
    "idle": _StepPart,
    "clamp": _StepPart,
    "freeze": _FreezePart,
}


def check_inputs(kind: str, inputs: dict[str, Any]) -> None:
    """Refuse inputs of an event that pages could not show.

    Raises:
        BadInput: says which key is wrong.
    """
    try:
        text = json.dumps(inputs, ensure_ascii=False, allow_nan=False)
        text.encode()
    except (ValueError, RecursionError):
        raise BadInput(f"the inputs of a step “{kind}” are not what JSON can carry") from None
    if len(text) > _LONGEST:
        raise BadInput(f"the inputs of a step “{kind}” are longer than {_LONGEST / 1e6:.0f} MB")
    if kind not in _KINDS:
        return
    try:
        _KINDS[kind].model_validate(inputs)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        path = ".".join(str(one) for one in first["loc"])
        raise BadInput(f"the inputs of a step “{kind}” are wrong at {path}: {first['msg'].lower()}") from None
