"""The command-line tool in a process of its own, begun with the libraries loaded that it would spend its time on."""

from __future__ import annotations

import multiprocessing
import os
import subprocess
import sys
import tempfile
import traceback
from pathlib import Path

LIBRARIES = [
    "matplotlib.pyplot",
    "pandas",
    "pint",
    "pydantic",
    "rich.table",
    "sympy",
    "typer",
    "unhurried_heron.cli.app",
]
PROCESSES = multiprocessing.get_context("forkserver")
PROCESSES.set_forkserver_preload(LIBRARIES)


def _run(words: list[str], folder: str, env: dict[str, str], outputs: tuple[str, str]) -> None:
    for number, path in enumerate(outputs, start=1):
        os.dup2(os.open(path, os.O_WRONLY), number)
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    os.environ.clear()
    os.environ.update(env)
    os.chdir(folder)
    sys.argv = ["heron", *words]
    code = 0
    try:
        from heron_command import main

        main()
    except SystemExit as left:
        code = left.code if isinstance(left.code, int) else int(left.code is not None)
    except BaseException:
        traceback.print_exc()
        code = 1
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


def heron(*arguments: object, cwd: Path | None = None, env: dict | None = None) -> subprocess.CompletedProcess:
    """Run the tool with these words on its line."""
    words = [*map(str, arguments)]
    env = {**os.environ, "COLUMNS": "180"} if env is None else env
    with tempfile.TemporaryDirectory() as name:
        paths = Path(name, "out"), Path(name, "err")
        for path in paths:
            path.touch()
        process = PROCESSES.Process(target=_run, args=(words, str(cwd or Path.cwd()), env, tuple(map(str, paths))))
        process.start()
        process.join(300)
        if process.exitcode is None:
            process.kill()
            raise subprocess.TimeoutExpired(words, 300)
        out, err = (path.read_text(encoding="utf-8") for path in paths)
    return subprocess.CompletedProcess(words, process.exitcode, out, err)
