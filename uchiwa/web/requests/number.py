"""The one type of a number in a form."""

from __future__ import annotations

from typing import Annotated

from pydantic import BeforeValidator

from uchiwa.core.typed_number import plain_number

TypedNumber = Annotated[float, BeforeValidator(lambda value: plain_number(value) if isinstance(value, str) else value)]
"""A number as people type it, with a decimal comma or point."""
