"""The cells [i, j] that a person names: pinned, or the only ones that may change."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import Field

from uchiwa.core.logs.log import BoolArray

Cell = tuple[Annotated[int, Field(ge=0)], Annotated[int, Field(ge=0)]]


def cells_mask(cells: tuple[Cell, ...] | None, shape: tuple[int, int], default: bool) -> BoolArray:
    """A mask of the cells [i, j] (column, row); cells beyond the table are ignored; None gives `default`."""
    if cells is None:
        return np.full(shape, default)
    mask = np.zeros(shape, dtype=np.bool_)
    for i, j in cells:
        if j < shape[0] and i < shape[1]:
            mask[j, i] = True
    return mask
