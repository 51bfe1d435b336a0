"""Fuzz the formulation: any text ends in a problem or in an exception of our own, soon and in little memory.

Begun by ``python tools/fuzz.py --texts SECONDS``; needs atheris. Not part of the checks of a change: see CONTRIBUTING.
"""

from __future__ import annotations

import ctypes
import mmap
import resource
import sys
import time
import tomllib

import atheris
import numpy as np

with atheris.instrument_imports(include=["unhurried_heron.problem", "unhurried_heron.formulas"]):
    import unhurried_heron as uh
    from unhurried_heron.checks.check import check_input
    from unhurried_heron.codegen.evaluate_many import evaluate_rows
    from unhurried_heron.codegen.jacobians import with_jacobian
    from unhurried_heron.codegen.system import native_derived, native_system
    from unhurried_heron.input.file_reader import parse_document

MAX_SECONDS, MAX_BYTES = 2.0, 500e6
GRAMMAR = """
    x x' x'' x''' y y' z'' u[i] u[i]' u[i-1] u[n] u[1]' c[i,j] for in 1..n 2..n-1 i j n k t + - * / ^ ( ) , < > == <=
    and or not sin( cos( where( max( abs( floor( step( pulse( sum( sqrt( exp( 0 1 2 0.5 1e300 1e-300 -1 9 pi e kinetic =
    potential = lagrangian hamiltonian [ ] ' ' # . .. | ** // @ : ; _ __x é ² ′ ″ lambda if else import open 3m 5% m^2
"""
PLACES = "x x' y y' x'' y'' z k t 2 0.5 n 0 1e300 u[n] u[1] v u[i] u[i-1]"
FORMS = """
({} + {})
({} - {})
({}*{})
({}/{})
({})^{}
({})^4
sin({})
exp({})
sqrt({})
-({})
abs({})
floor({})
max({}, {})
pulse({}, {}, {})
where({} < {}, {}, 1)
sum(u[i]*{} for i in 1..n)
"""
STATEMENTS = """
x'' = {}
y' = {}
x' = {}
z = {}
v = z + {}
0 = {}
{} = {}
y'' - {} = {}
{}*x'' + {}*y'' = {}
u[i]' = {} for i in 1..n
u[i]'' = {} for i in 1..n
u[i]' = u[i-1] + {} for i in 2..n-1
u[1]' = {}
u[0] = {}
u[n+1] = {}
total = sum(u[k]*{} for k in 1..9)
u[i]' = u[i-1] + sum(u[k] for k in 0..n) for i in 1..n
u[i]' = sum(sum(u[j]*u[k] for j in 1..n) for k in {}..n) for i in 1..n
v[i] = {}*u[i] for i in 1..n
kinetic = {}*x'^2 + {}*y'^2
potential = {}
"""
WORDS, LEAVES = [*GRAMMAR.split(), " ", "\n"], PLACES.split()
SHAPES, LINES = FORMS.strip().splitlines(), STATEMENTS.strip().splitlines()
NAMES = ("x", "x'", "x''", "y", "y'", "z", "z'", "u", "c", "u[i]", "v")
slowest = [0.0]


def formula(data: atheris.FuzzedDataProvider, depth: int) -> str:
    """Make a formula that can be read."""
    if depth == 0 or data.ConsumeProbability() < 0.3:
        return data.PickValueInList(LEAVES)
    shape = data.PickValueInList(SHAPES)
    return shape.format(*(formula(data, depth - 1) for _ in range(shape.count("{}"))))


def text_of(data: atheris.FuzzedDataProvider) -> str:
    """Make equations, mix words of the grammar, or take bytes of any kind."""
    kind = data.ConsumeIntInRange(0, 9)
    if kind == 0:
        return data.ConsumeUnicode(200)
    if kind < 4:
        return " ".join(data.PickValueInList(WORDS) for _ in range(data.ConsumeIntInRange(0, 60)))
    lines = [data.PickValueInList(LINES) for _ in range(data.ConsumeIntInRange(1, 8))]
    return "\n".join(line.format(*(formula(data, 4) for _ in range(line.count("{}")))) for line in lines)


def said_of(data: atheris.FuzzedDataProvider) -> dict:
    """Make values for some of the names that a text may use."""
    initial = {name: data.PickValueInList([1.0, 0.0, "k", "3 m", "i/n", -2]) for name in NAMES if data.ConsumeBool()}
    parameters = {name: data.PickValueInList([1, 3, 2.5, None, "2*k", "7 h", 1e6]) for name in ("n", "k", "e1")}
    units = {name: data.PickValueInList(["m", "h", "", "m^2/h"]) for name in ("x", "t", "k") if data.ConsumeBool()}
    return {"initial": initial, "parameters": parameters, "interval": (0, 1), "units": units}


def guarded_page() -> np.ndarray:
    """Return numbers before and behind which nothing can be read without a fault."""
    page = mmap.PAGESIZE
    memory = mmap.mmap(-1, 3 * page)
    numbers = np.frombuffer(memory, dtype=np.float64)
    numbers[:] = 0.5
    protect = ctypes.CDLL(None, use_errno=True).mprotect
    base = numbers.ctypes.data
    for index in (base, base + 2 * page):
        if protect(ctypes.c_void_p(index), page, 0) != 0:
            raise OSError(ctypes.get_errno(), "mprotect")
    return numbers[page // 8 : 2 * page // 8]


def evaluate_guarded(problem: uh.Problem) -> None:
    """Evaluate rates and derived quantities with the state against a forbidden page, on either side."""
    n = len(problem.states)
    if problem.open or not 0 < n <= PAGE.size:
        return
    system = native_system(problem, (), held=False)
    if n <= 50:
        system = with_jacobian(system, problem, held=False)
    functions = [system.rates, native_derived(problem), *([system.jacobian] if system.jacobian else [])]
    for function in functions:
        for state in (PAGE[PAGE.size - n :], PAGE[:n]):
            # a read outside ends the process, which the fuzzer reports with the text
            evaluate_rows(function, np.array([0.0]), state[None, :])


def one(raw: bytes) -> None:
    """Try one input."""
    data = atheris.FuzzedDataProvider(raw)
    way = data.ConsumeIntInRange(0, 3)
    user_input, text = said_of(data), text_of(data)
    before, begun = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, time.perf_counter()
    refused = False
    try:
        if way == 0:
            uh.Problem.from_lagrangian(text, ["x", "y"][: data.ConsumeIntInRange(1, 2)], **user_input)
        elif way == 1:
            document = tomllib.loads(
                f"equations = '''{text}'''\n[interval]\nfrom = 0\nto = 1\n[initial]\nx = 1\n" + text
            )
            check_input(parse_document(document, "fuzz"))
        else:
            problem = uh.Problem.from_text(text, **user_input)
            problem.first_order()
            uh.check(problem)
            evaluate_guarded(problem)
    except (uh.HeronError, tomllib.TOMLDecodeError):
        refused = True
    except (UnicodeEncodeError, RecursionError) as error:
        raise AssertionError(text) from error
    taken = time.perf_counter() - begun
    grown = 1024 * (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before)
    slowest[0] = max(slowest[0], taken if refused else 0.0)
    if refused and (taken > MAX_SECONDS or grown > MAX_BYTES):
        raise AssertionError(f"{taken:.1f} s, {grown / 1e6:.0f} MB: {text!r} {user_input!r}")


PAGE = guarded_page()


def main(seconds: int) -> None:
    """Fuzz for so many seconds."""
    atheris.Setup(
        [sys.argv[0], f"-max_total_time={seconds}", "-max_len=2000", "-timeout=20", "-rss_limit_mb=4000"], one
    )
    atheris.Fuzz()
