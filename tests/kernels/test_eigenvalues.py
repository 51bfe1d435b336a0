"""The eigenvalue that grows fastest, against those of LAPACK."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.linalg import eigvals

from unhurried_heron.kernels.machine_code.loading import load_kernel


def fastest(matrix: np.ndarray, shift: float = 0.0, sign: float = 1.0) -> tuple[float, float]:
    values = np.concatenate([[len(matrix), shift, sign], matrix.ravel()])
    load_kernel("linear_algebra.eigenvalues.growth")(values)
    return float(values[0]), float(values[1])


def matrices(n: int) -> list[np.ndarray]:
    dice = np.random.default_rng(n)
    full, skew = dice.standard_normal((2, n, n))
    ring = np.roll(np.eye(n), 1, axis=1)
    scaled = full * 10.0 ** dice.integers(-6, 7, n)[:, None]
    # its eigenvalues lie on a circle, where the usual shifts stand still
    return [full, skew - skew.T + 0.1 * np.eye(n), ring, scaled, -full @ full.T, np.triu(full), np.zeros((n, n))]


@pytest.mark.parametrize("n", [1, 2, 3, 4, 5, 8, 13, 33])
def test_the_fastest_growth(n: int) -> None:
    for matrix in matrices(n):
        values = np.linalg.eigvals(matrix)
        wanted = values[np.argmax(values.real)]
        growth, modulus = fastest(matrix)
        if wanted.real <= 1e-9 * np.abs(matrix).max():
            assert (growth, modulus) == (0.0, 0.0)
            continue
        assert growth == pytest.approx(wanted.real, rel=1e-9)
        same = np.abs(values.real - wanted.real) < 1e-9 * abs(wanted)
        assert np.abs(np.abs(values[same]) / modulus - 1.0).min() < 1e-9


@pytest.mark.parametrize("sign", [1.0, -1.0])
@pytest.mark.parametrize("n", [1, 2, 3, 5, 13])
def test_the_fastest_growth_with_a_mass_matrix(n: int, sign: float) -> None:
    dice, shift = np.random.default_rng(n), 7.5 * sign
    for held in range(n):
        mass, jacobian = dice.standard_normal((2, n, n))
        mass[:held] = 0.0
        values = eigvals(jacobian, mass)
        values = values[np.isfinite(values) & (np.abs(values) < 1e8)]
        wanted = values[np.argmax(sign * values.real)] if values.size else -1.0
        growth, modulus = fastest(np.linalg.solve(shift * mass - jacobian, mass), shift, sign)
        if sign * wanted.real <= 0.0:
            assert growth < 1e-6
            continue
        assert growth == pytest.approx(sign * wanted.real, rel=1e-6)
        assert modulus == pytest.approx(abs(wanted), rel=1e-6)
