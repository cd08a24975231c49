"""All rules, in the order in which they are told."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from uchiwa.core.review.concern import Concern, Weight
from uchiwa.core.review.engine import injectors, lean_above_load, lean_at_load, spark_where_knock
from uchiwa.core.review.idle import clamp_below_signal, gear_left_behind, rises_with_temperature, warm_factor
from uchiwa.core.review.provenance import image, never_logged, temporary_setup, unseen
from uchiwa.core.review.reviewed import ReviewedDraft
from uchiwa.core.review.values import ledges, limits

RULES: tuple[Callable[[ReviewedDraft], Iterator[Concern]], ...] = (
    limits,
    image,
    spark_where_knock,
    lean_at_load,
    lean_above_load,
    injectors,
    warm_factor,
    rises_with_temperature,
    gear_left_behind,
    clamp_below_signal,
    temporary_setup,
    ledges,
    never_logged,
    unseen,
)
_ORDER = list(Weight)


def review(it: ReviewedDraft) -> tuple[Concern, ...]:
    """Everything that the rules have to say, the gravest first."""
    found = [concern for rule in RULES for concern in rule(it)]
    return tuple(sorted(found, key=lambda concern: _ORDER.index(concern.weight)))
