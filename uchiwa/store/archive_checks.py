"""What the description of an archived job must be before anything of it is brought in."""

from __future__ import annotations

import json
from typing import Any

from uchiwa.core.briefs.brief import Brief
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.cars.temporary_setups import from_data
from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.store import archive_format as form
from uchiwa.store.archive_inputs import check_inputs
from uchiwa.store.jobs import STEPS


def check_description(part: form.JobPart, name: str) -> None:
    """Raises BadInput if parts refer to what is not there, or texts are not what they should be."""
    try:
        _check_numbers(part)
        _check_texts(part)
        _check_steps(part)
    except BadInput as error:
        raise BadInput(error.what, where=f"{name}, job.json", advice="export the job again") from None


def _check_numbers(part: form.JobPart) -> None:
    """Rounds and revisions are all there, once, and what refers to them finds them."""
    rounds = [round_.number for round_ in part.rounds]
    numbers = [revision.number for revision in part.revisions]
    if sorted(rounds) != list(range(1, len(rounds) + 1)):
        raise BadInput("rounds are missing or there twice")
    if len(set(numbers)) != len(numbers) or 0 not in numbers or part.draft.base not in numbers:
        raise BadInput("revisions are missing or there twice")
    told = [piece.round for group in (part.logs, part.answers, part.decisions) for piece in group]
    told += [piece.round for group in (part.revisions, part.events) for piece in group if piece.round is not None]
    if any(one not in rounds for one in told):
        raise BadInput("something belongs to a round that is not there")
    parents = [(revision.parent, revision.number) for revision in part.revisions if revision.parent is not None]
    if any(parent not in numbers or parent >= number for parent, number in parents):
        raise BadInput("a revision was made from one that is not there")
    if [round_.number for round_ in part.rounds if round_.returned_at is None] != [len(rounds)]:
        raise BadInput("the last round is not the one that is open")
    if any(revision.number == 0 and revision.withdrawn_at for revision in part.revisions):
        raise BadInput("what the car came with cannot have been withdrawn")
    if not all(revision.withdrawn_at or revision.number <= part.draft.base for revision in part.revisions):
        raise BadInput("the draft does not stand on the revision that was sent last")


def _check_texts(part: form.JobPart) -> None:
    """Car file, policies, briefs, setup and pins can be read."""
    try:
        CarFile.loads(part.car_file)
        for round_ in part.rounds:
            Policy.read(json.loads(round_.policy))
            if not isinstance(json.loads(round_.spark), dict):
                raise TypeError
            if round_.brief:
                Brief.loads(round_.brief)
        if part.setup:
            from_data(json.loads(part.setup))
        for cells in json.loads(part.draft.pins).values():
            if not isinstance(cells, list) or not all(_is_cell(cell) for cell in cells):
                raise TypeError
    except BadInput:
        raise
    except (ValueError, TypeError, KeyError, AttributeError):
        raise BadInput("car file, policies, briefs, pins or setup cannot be read") from None


def _is_cell(pair: Any) -> bool:
    return len(pair) == 2 and all(type(number) is int for number in pair)


def _check_steps(part: form.JobPart) -> None:
    """Each step of the draft says what it was computed from and what it changed."""
    try:
        for step in part.events:
            check_inputs(step.kind, step.inputs)
            if step.kind in STEPS and not (step.before and step.after):
                raise BadInput(f"a step “{step.kind}” does not say what it changed")
    except BadInput:
        raise
    except (ValueError, TypeError, KeyError, AttributeError):
        raise BadInput("the inputs of a step cannot be read") from None
