"""Benchmarks as ratios, both sides measured in turn within one run.

Usage: python benchmarks/run.py [--part PART ...]; needs gcc. Parts: see PARTS below.
Trust the ratios, not the times: machines differ and drift.
"""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable

import budgets
import calls
import chunks
import events
import explicit
import formulation
import implicit
import large
import linear
import methods
import rates
import refusals
import start
import studies
import sweeps

PARTS: dict[str, Callable[[], None]] = {
    "explicit": explicit.report,
    "python": rates.report,
    "collocation": implicit.report,
    "linear": linear.report,
    "chunks": chunks.report,
    "formulation": formulation.report,
    "calls": calls.report,
    "sweeps": sweeps.report,
    "large": large.report,
    "events": events.report,
    "start": start.report,
    "budgets": budgets.report,
    "refusals": refusals.report,
    "methods": methods.report,
    "studies": studies.report,
}


def main() -> None:
    """Run the parts that are asked for."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--part", choices=PARTS, action="append")
    for name in parser.parse_args().part or PARTS:
        print(f"== {name}")
        begun = time.perf_counter()
        PARTS[name]()
        print(f"   ({time.perf_counter() - begun:.0f} s)\n")


if __name__ == "__main__":
    main()
