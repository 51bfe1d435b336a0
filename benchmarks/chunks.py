"""A march in chunks of the default size against one shot into a buffer that holds everything."""

from __future__ import annotations

import time

from explicit import ATOL, FIRST, LORENZ, RTOL
from pairing import in_turn, prepared, rewind, seconds_of, verdict

from unhurried_heron.driver import layout
from unhurried_heron.driver.recorder import StepRecorder


def report() -> None:
    """Print the ratio of both."""
    default = layout.CHUNK_STEPS
    chunked = prepared(LORENZ, "dormand-prince-54", RTOL, ATOL, FIRST)

    def one_shot() -> float:
        # a new buffer each time: what is kept must be written into new memory either way
        layout.CHUNK_STEPS, layout.CHUNK_BYTES, before = 60_000, 10**9, layout.CHUNK_BYTES
        whole = prepared(LORENZ, "dormand-prince-54", RTOL, ATOL, FIRST)
        layout.CHUNK_STEPS, layout.CHUNK_BYTES = default, before
        begun = time.perf_counter()
        reason = whole.chunk()
        taken = time.perf_counter() - begun
        assert reason == 0
        return taken

    def in_chunks() -> float:
        # as the driver does: full buffers are kept and the march takes new ones
        rewind(chunked, LORENZ, FIRST)
        recorder = StepRecorder()
        begun = time.perf_counter()
        reason = 1
        while reason != 0:
            reason = chunked.chunk()
            if recorder.take(chunked.output, int(chunked.control["n_steps"][0])):
                chunked.renew_output()
        taken = time.perf_counter() - begun
        kept = recorder.trajectory(0.0, chunked.system.state)
        assert kept.starts.size == int(chunked.control["accepted"][0])
        return taken

    def without_copies() -> float:
        return seconds_of(chunked, LORENZ, FIRST)

    one_shot()
    in_chunks()
    found = in_turn(one_shot=one_shot, copied=in_chunks, bare=without_copies)
    steps = int(chunked.control["accepted"][0])
    kept = 8 * 15 * steps / 1e6
    print(f"   {steps:,} steps of 3 states, chunks of {default}; {kept:.0f} MB kept")
    verdict("chunked / one shot, marching", found["bare"] / found["one_shot"], 1.03)
    print(f"   with every chunk kept in memory of its own as well: {found['copied'] / found['one_shot']:.2f}")
