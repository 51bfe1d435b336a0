"""The command-line tool, and scripts, in processes of their own that begin with everything loaded."""

from __future__ import annotations

import functools
import multiprocessing
import os
import runpy
import subprocess
import sys
import tempfile
import traceback
import warnings
from collections.abc import Callable
from multiprocessing import forkserver
from pathlib import Path

PROCESSES = multiprocessing.get_context("forkserver")
PROCESSES.set_forkserver_preload(["warm_libraries"])


@functools.cache
def _started() -> None:
    """Start the server once; it looks for modules where the environment says, and passes over what it does not find."""
    before = os.environ.get("PYTHONPATH")
    os.environ["PYTHONPATH"] = os.pathsep.join(sys.path)
    forkserver.ensure_running()
    del os.environ["PYTHONPATH"]
    if before is not None:
        os.environ["PYTHONPATH"] = before


def _run(work: Callable[[str], None], words: list[str], folder: str, env: dict[str, str], outputs: list[str]) -> None:
    for number, path in enumerate(outputs, start=1):
        os.dup2(os.open(path, os.O_WRONLY), number)
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    os.environ.clear()
    os.environ.update(env)
    os.chdir(folder)
    sys.argv = words
    code = 0
    try:
        work(words[0])
    except SystemExit as left:
        code = left.code if isinstance(left.code, int) else int(left.code is not None)
    except BaseException:
        traceback.print_exc()
        code = 1
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


def _tool(name: str) -> None:
    from heron_command import main

    main()


def _script(path: str) -> None:
    if os.environ.get("PYTHONWARNINGS") == "error":
        warnings.simplefilter("error")
    runpy.run_path(path, run_name="__main__")


def _in_process(
    work: Callable[[str], None], words: list[str], cwd: Path | None, env: dict[str, str] | None
) -> subprocess.CompletedProcess:
    _started()
    with tempfile.TemporaryDirectory() as name:
        paths = Path(name, "out"), Path(name, "err")
        for path in paths:
            path.touch()
        given = (work, words, str(cwd or Path.cwd()), env or dict(os.environ), [*map(str, paths)])
        process = PROCESSES.Process(target=_run, args=given)
        process.start()
        process.join(300)
        if process.exitcode is None:
            process.kill()
            raise subprocess.TimeoutExpired(words, 300)
        out, err = (path.read_text(encoding="utf-8") for path in paths)
    return subprocess.CompletedProcess(words, process.exitcode, out, err)


def heron(*arguments: object, cwd: Path | None = None, env: dict | None = None) -> subprocess.CompletedProcess:
    """Run the tool with these words on its line."""
    return _in_process(_tool, ["heron", *map(str, arguments)], cwd, env or {**os.environ, "COLUMNS": "180"})


def script(path: Path, cwd: Path, **env: str) -> subprocess.CompletedProcess:
    """Run a script."""
    return _in_process(_script, [str(path)], cwd, {**os.environ, **env})
