"""Products with the mass matrix M, which is the identity where ``system.n_mass`` is 0."""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner


@inner
def subtract_mass(system, factor, x, out):
    """Subtract ``factor`` times M x.

    Parameters
    ----------
    system : System
    factor : float
    x : float pointer, (n,)
    out : float pointer, (n,)
        Changed in place; not ``x``.
    """
    if system.n_mass == 0:
        for k in range(system.n):
            out[k] -= factor * x[k]
    else:
        for e in range(system.n_mass):
            out[system.mass_rows[e]] -= factor * system.mass[e] * x[system.mass_columns[e]]


@inner
def multiply_by_mass(system, values, scratch):
    """Replace values by M times them.

    Parameters
    ----------
    system : System
    values : float pointer, (n,)
        Changed in place.
    scratch : float pointer, (n,)
        Written over.
    """
    if system.n_mass > 0:
        for k in range(system.n):
            scratch[k] = values[k]
            values[k] = 0.0
        subtract_mass(system, -1.0, scratch, values)


@inner
def worst_missed(system, work, missed, shift):
    """Return by how much the worst equation is missed, in the tolerance of its state.

    Constraints do not count: they are in no unit of a state, and what they miss is in the correction.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    missed : float pointer, (n,)
        What the equations miss.
    shift : float
        The shift in shift*M - J, one over a time.

    Returns
    -------
    float
    """
    worst = 0.0
    if system.n_mass == 0:
        for k in range(system.n):
            worst = max(worst, abs(missed[k]) / work.scale[k])
    else:
        for k in range(system.n):
            if system.mass_sizes[k] > 0.0:
                worst = max(worst, abs(missed[k]) / (system.mass_sizes[k] * work.scale[k]))
    return worst / abs(shift)


@inner
def sign_of_short_steps(system, control, h):
    """Return the sign of the determinant of M/(h c) - J for steps towards 0.

    Parameters
    ----------
    system : System
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    int
    """
    if system.n_mass > 0:
        return control.reference_sign
    return -1 if h < 0.0 and system.n % 2 == 1 else 1
