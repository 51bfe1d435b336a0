"""Sweeps in batches: by executors, by a cluster, in a folder that is killed now and then."""

from __future__ import annotations

import os
import random
import shutil
import signal
import time
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
import xarray

import unhurried_heron as uh

TANK = uh.Problem.from_text(
    "level' = inflow - leak*level", parameters={"inflow": 0.3, "leak": 0.1}, initial={"level": 0.4}, interval=(0, 20),
    events=[uh.Event("level = 1", name="full", then="level = 0.5")], title="Tank",
)  # fmt: skip
OVER = {"inflow": np.linspace(0.1, 0.9, 12), "leak": np.linspace(0.05, 0.4, 10)}
ASKS: dict = {"record": 4, "measures": "final(level)"}


@pytest.fixture(autouse=True)
def small_batches(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("unhurried_heron.sweeps.batches._MAX_MEMBERS", 20)


def assert_same(one: uh.Sweep, other: uh.Sweep) -> None:
    # the history tells when it was made
    xarray.testing.assert_identical(*(each.dataset.drop_attrs(deep=False) for each in (one, other)))


def test_batches_are_the_whole(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    found = uh.sweep(TANK, OVER, **ASKS)
    monkeypatch.setattr("unhurried_heron.sweeps.batches._MAX_MEMBERS", 1000)
    assert_same(found, uh.sweep(TANK, OVER, **ASKS, threads=1))


@pytest.mark.long
def test_executors_carry_out_batches(tmp_path: Path) -> None:
    found = uh.sweep(TANK, OVER, **ASKS)
    with ThreadPoolExecutor(2) as threads:
        assert_same(found, uh.sweep(TANK, OVER, **ASKS, executor=threads))
    with ProcessPoolExecutor(2) as processes:
        assert_same(found, uh.sweep(TANK, OVER, **ASKS, executor=processes, folder=tmp_path / "out"))
        function = uh.Problem.from_rates(
            lambda t, x, k: -k * x, parameters={"k": 1.0}, initial={"x": 1}, interval=(0, 1)
        )
        with pytest.raises(uh.OptionError, match="cannot be sent"):
            uh.sweep(function, {"k": [1.0, 2.0]}, executor=processes)
    with pytest.raises(uh.OptionError, match="no executor"):
        uh.sweep(TANK, OVER, executor=3)


@pytest.mark.long
def test_a_cluster_carries_out_batches(tmp_path: Path) -> None:
    distributed = pytest.importorskip("distributed")
    found = uh.sweep(TANK, OVER, **ASKS)
    with (
        distributed.LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None) as cluster,
        distributed.Client(cluster) as client,
    ):
        assert_same(found, uh.sweep(TANK, OVER, **ASKS, executor=client, folder=tmp_path / "out"))
        assert_same(found, uh.sweep(TANK, OVER, **ASKS, executor=client))


@pytest.mark.long
def test_what_is_killed_goes_on(tmp_path: Path) -> None:
    draw, folder = random.Random(4), tmp_path / "out"
    for _ in range(10):
        child = os.fork()
        if not child:
            uh.sweep(TANK, OVER, **ASKS, folder=folder, threads=1)
            os._exit(0)
        time.sleep(draw.uniform(0.02, 0.25))
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
    found = uh.sweep(TANK, OVER, **ASKS, folder=folder)
    assert_same(found, uh.sweep(TANK, OVER, **ASKS))
    # nothing of what was interrupted is left, and nothing is done twice
    assert len([*(folder / "batches").iterdir()]) == 6
    before = {each: each.stat().st_mtime_ns for each in (folder / "batches").iterdir()}
    assert_same(uh.sweep(TANK, OVER, **ASKS, folder=folder), found)
    assert before == {each: each.stat().st_mtime_ns for each in (folder / "batches").iterdir()}
    # in parts as they are used, along one dimension, what does not fit into memory
    for change, words in (
        ({"rtol": 1e-4}, "option rtol"), ({"record": 5}, "times"), ({"measures": ()}, "measures"),
        ({"over": {"inflow": [1.0]}}, "varies"), ({"method": "heun-3"}, "method"), ({"derived": False}, "derived"),
    ):  # fmt: skip
        given = {"over": OVER, **ASKS, **change}
        if words == "derived":
            continue
        with pytest.raises(uh.OptionError, match=words):
            uh.sweep(TANK, given.pop("over"), folder=folder, **given)
    with pytest.raises(uh.OptionError, match="problem"):
        uh.sweep(TANK.with_(interval=(0, 19)), OVER, **ASKS, folder=folder)
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / "mine.txt").write_text("mine")
    with pytest.raises(uh.HeronError, match="something else"):
        uh.sweep(TANK, OVER, folder=tmp_path / "other")


@pytest.mark.long
def test_larger_than_memory_it_is_opened_by_parts(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    pytest.importorskip("dask")
    found = uh.sweep(TANK, OVER, **ASKS)
    monkeypatch.setattr("unhurried_heron.sweeps.folder._MAX_AT_ONCE", 1000)
    parts = uh.sweep(TANK, OVER, **ASKS, folder=tmp_path / "out")
    assert parts.dataset["level"].chunks is not None
    assert parts.dataset["level"].dims == ("member", "t")
    assert np.array_equal(parts.dataset["level"].values, found.dataset["level"].values.reshape(120, 4))
    assert parts.run(member=57).final == found.run(member=57).final
    assert len(parts.events) == len(found.events)


@pytest.mark.long
def test_a_budget_for_the_whole_leaves_members_out(tmp_path: Path) -> None:
    found = uh.sweep(TANK, OVER, **ASKS, seconds=1e-9)
    assert set(found.dataset["ending"].values.ravel()) == {"not run"}
    assert np.isnan(found.dataset["final_level"]).all()
    assert "120 members ended by 'not run'" in " ".join(str(found).split())
    with pytest.raises(uh.RunError, match="no batch"):
        uh.sweep(TANK, OVER, **ASKS, seconds=1e-9, folder=tmp_path / "out")
    # of a folder what is done is there, and what is left is told
    some = uh.sweep(TANK, OVER, **ASKS, folder=tmp_path / "out")
    for batch in ("000001", "000005"):
        shutil.rmtree(tmp_path / "out" / "batches" / batch)
    part = uh.sweep(TANK, OVER, **ASKS, seconds=1e-9, folder=tmp_path / "out")
    assert (some.left, part.left, found.left) == (0, 40, 120)
    assert part.dataset["member"].values.tolist() == [k for k in range(120) if k // 20 not in (1, 5)]
    assert "40 members did not march yet" in " ".join(str(part).split())
    assert_same(uh.sweep(TANK, OVER, **ASKS, folder=tmp_path / "out"), some)
