"""A march in chunks of the default size against one shot into a buffer that holds everything."""

from __future__ import annotations

import time

from explicit import ATOL, FIRST, LORENZ, RTOL
from pairing import in_turn, prepared, rewind, verdict

from unhurried_heron.march import families


def report() -> None:
    """Print the ratio of both."""
    default = families.CHUNK_STEPS
    chunked = prepared(LORENZ, "dormand-prince-54", RTOL, ATOL, FIRST)
    families.CHUNK_STEPS, families.CHUNK_BYTES = 60_000, 10**9
    whole = prepared(LORENZ, "dormand-prince-54", RTOL, ATOL, FIRST)
    families.CHUNK_STEPS = default

    def one_shot() -> float:
        rewind(whole, LORENZ, FIRST)
        begun = time.perf_counter()
        reason = whole.chunk()
        taken = time.perf_counter() - begun
        assert reason == 0
        return taken

    def in_chunks() -> float:
        rewind(chunked, LORENZ, FIRST)
        output = chunked.output
        begun = time.perf_counter()
        kept = []
        while True:
            reason = chunked.chunk()
            count = int(chunked.control["n_steps"][0])
            # what the recorder does with a chunk
            kept.append((output.starts[:count].copy(), output.steps[:count].copy(), output.coefficients[:count].copy()))
            if reason == 0:
                break
        taken = time.perf_counter() - begun
        assert sum(part[0].size for part in kept) == int(chunked.control["accepted"][0])
        return taken

    def without_copies() -> float:
        rewind(chunked, LORENZ, FIRST)
        begun = time.perf_counter()
        while chunked.chunk() != 0:
            pass
        return time.perf_counter() - begun

    one_shot()
    in_chunks()
    found = in_turn(one_shot=one_shot, copied=in_chunks, bare=without_copies)
    steps = int(chunked.control["accepted"][0])
    kept = 8 * 15 * steps / 1e6
    print(f"   {steps:,} steps of 3 states, chunks of {default}; {kept:.0f} MB kept")
    verdict("chunked / one shot, marching", found["bare"] / found["one_shot"], 1.03)
    print(f"   chunked / one shot, chunks copied out for keeping as well: {found['copied'] / found['one_shot']:.2f}")
