"""Symmetric systems that are banded but for a few last rows and columns, as a surface with further terms gives."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.linalg import cholesky_banded, lapack

from uchiwa.core.logs.log import FloatArray


def band_of(matrix: FloatArray, width: int) -> FloatArray:
    """The band of a symmetric matrix: `band[j, k]` is its element at row j + k, column j; shape (n, width + 1)."""
    n = matrix.shape[0]
    band = np.zeros((n, width + 1))
    for k in range(min(width, n - 1) + 1):
        band[: n - k, k] = np.diagonal(matrix, -k)
    return band


@dataclass(frozen=True, eq=False)
class Factor:
    """The Cholesky factor of a positive definite matrix [[B, C], [C', D]] with B banded.

    Attributes:
        band: factor L of B, its diagonals as rows; shape (width + 1, n).
        half: C divided by L; shape (n, m).
        corner: factor of what is left of D; shape (m, m).
    """

    band: FloatArray
    half: FloatArray
    corner: FloatArray

    @property
    def log_determinant(self) -> float:
        """Of the matrix."""
        return 2 * float(np.log(self.band[0]).sum() + np.log(np.diag(self.corner)).sum())

    def divided(self, right: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Columns divided by the factor: the first n rows and the last m; `right` has shape (n + m, columns)."""
        n, m = self.half.shape
        first = _divided(self.band, right[:n])
        last: FloatArray = right[n:] - self.half.T @ first
        return first, _solved(self.corner, last) if m else last

    def squared(self, right: FloatArray) -> float:
        """right' · inverse · right for one column; shape (n + m,)."""
        first, last = self.divided(right[:, None])
        return float((first**2).sum() + (last**2).sum())

    def solve(self, right: FloatArray) -> FloatArray:
        """inverse · right; shape (n + m, columns)."""
        first, last = self.divided(right)
        if self.half.shape[1]:
            last = _solved(self.corner.T, last)
            first = first - self.half @ last
        whole: FloatArray = np.concatenate((_divided(self.band, first, transposed=True), last))
        return whole


def _divided(lower: FloatArray, right: FloatArray, *, transposed: bool = False) -> FloatArray:
    """L⁻¹·right, or L'⁻¹·right, for a factor in bands, by LAPACK; `right` of shape (n, columns)."""
    if not right.size:
        return np.zeros(right.shape)
    found, _ = lapack.dtbtrs(lower, right, uplo="L", trans="T" if transposed else "N")
    return np.asarray(found, dtype=np.float64)


def _solved(matrix: FloatArray, right: FloatArray) -> FloatArray:
    return np.asarray(np.linalg.solve(matrix, right), dtype=np.float64)


def factored(band: FloatArray, border: FloatArray, corner: FloatArray) -> Factor:
    """Factor [[B, C], [C', D]].

    Args:
        band: B, see `band_of`; left as it is.
        border: C; shape (n, m).
        corner: D; shape (m, m).
    """
    lower = np.asfortranarray(cholesky_banded(band.T, lower=True, check_finite=False))
    half = _divided(lower, border)
    return Factor(lower, half, np.asarray(np.linalg.cholesky(corner - half.T @ half), dtype=np.float64))
