"""Which way a cell's own samples allow it to go."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.proposals.fuel.own_samples import direction

factors = st.one_of(st.just(np.nan), st.floats(0.7, 1.4))
grids = st.lists(factors, min_size=6, max_size=6).map(lambda row: np.array(row).reshape(2, 3))


def test_by_hand():
    lean, rich, none, none_other = np.array([[1.04]]), np.array([[0.97]]), np.array([[np.nan]]), np.array([[1.0]])
    wish = np.array([[0.95]])
    assert direction([lean]).held(wish) == 1.0
    assert direction([lean]).held(2 - wish) == pytest.approx(1.05)
    assert direction([rich]).held(wish) == 0.95
    assert direction([rich]).held(2 - wish) == 1.0
    assert direction([none]).held(wish) == 0.95
    assert direction([none_other]).held(wish) == 1.0
    assert direction([lean, rich]).held(wish) == 1.0
    assert direction([lean, rich]).held(2 - wish) == 1.0


@pytest.mark.parametrize(("bias", "mean", "rises", "falls"), [
    (0.02, 0.99, True, False),  # a little rich, and two percent richer wanted: fuel may go in
    (0.02, 0.95, False, True),
    (-0.02, 1.01, False, False),  # leaner wanted, yet its samples call it lean already: it stays
    (-0.02, 0.99, False, True),
])  # fmt: skip
def test_a_bias_enriches_what_is_a_little_rich_and_never_leans_what_is_lean(bias, mean, rises, falls):
    told = direction([np.array([[mean]])], bias)
    assert (told.may_rise.item(), told.may_fall.item()) == (rises, falls)


@given(grids, grids, grids, st.floats(-0.05, 0.05))
def test_what_is_held_is_never_against_and_only_ever_nearer_to_no_change(one, other, wish, bias):
    wish = np.nan_to_num(wish, nan=1.0)
    told = direction([one, other], bias)
    held = told.held(wish)
    assert not told.against(held).any()
    assert np.isin(held, [*wish.ravel(), 1.0]).all()
    assert (held[told.against(wish)] == 1.0).all()
    assert held[~told.against(wish)] == pytest.approx(wish[~told.against(wish)], abs=1e-9)
