"""Give the library what nobody foresaw: every call ends in an answer or in an error of our own.

Usage: python tools/fuzz.py [PART ...] [--count 1000] [--seed 1]; python tools/fuzz.py --texts SECONDS needs atheris.
The parts are those of ``fuzz_parts.py``; the tests run each with fixed seeds. What fails is printed with its seed, and
is found again by ``--seed SEED --count 1``.
"""

from __future__ import annotations

import argparse
import random
import sys
import time
import traceback
import warnings
from collections.abc import Callable

from fuzz_parts import PARTS

import unhurried_heron as uh


def tried(part: Callable[[random.Random], object], seed: int) -> str:
    """Run one example; return what was foreign in it, with its traceback, or nothing."""
    given = random.Random(seed)
    with warnings.catch_warnings():
        # whatever a library of others warns of is a fault of ours
        warnings.simplefilter("error")
        warnings.filterwarnings("ignore", "Glyph .* missing from font")
        for ours in (uh.ProblemWarning, uh.IncompleteRunWarning):
            warnings.simplefilter("ignore", ours)
        try:
            part(given)
        except uh.HeronError as error:
            if "this should not happen" in str(error):
                return traceback.format_exc()
        except Exception:
            return traceback.format_exc()
    return ""


def main() -> int:
    """Run the parts; return how many examples failed, at most 99."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("parts", nargs="*", default=list(PARTS))
    parser.add_argument("--count", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--texts", type=int, metavar="SECONDS")
    query = parser.parse_args()
    if query.texts is not None:
        import fuzz_texts

        fuzz_texts.main(query.texts)
        return 0
    failed = 0
    for name in query.parts:
        begun, foreign = time.perf_counter(), 0
        for seed in range(query.seed, query.seed + query.count):
            found = tried(PARTS[name], seed)
            if found:
                foreign += 1
                print(f"{name}, seed {seed}:\n{found}")
        failed += foreign
        print(f"{name}: {foreign} of {query.count} failed, {time.perf_counter() - begun:.1f} s", flush=True)
    return min(failed, 99)


if __name__ == "__main__":
    sys.exit(main())
