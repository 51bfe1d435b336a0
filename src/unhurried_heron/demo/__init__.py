"""The demo problems of Mirror Fen, as the files a user would write."""

from __future__ import annotations

from pathlib import Path

from unhurried_heron.disk import write_whole

NAMES = ("sluice-pond", "culvert", "gate", "tide", "sediment", "food-chain", "carbonate", "bloom")
# The problems whose events act: a latch, doses, a float on its stop, a level along which the solution slides.
ACTING = ("siphon", "settling-basin", "float", "target-level")
# Of many runs and of the long run: seasons that are swept, a pond that is clear or turbid, eddies that may be chaotic.
LONG = ("seasons", "turbid", "eddies")
# With constraints: flows at a junction, a tether, and chemistry in balance.
CONSTRAINED = ("network", "tether", "balance")
# Of thousands of states: a lagoon seen from above.
LARGE = ("lagoon",)
# Further files: the culvert stated by its energies, a file with mistakes, and the measured tide.
BESIDE = ("culvert-energies.toml", "mistakes.toml", "lagoon-gauge.csv")
_FOLDER = Path(__file__).parent


def demo_file(name: str) -> Path:
    """Return the path of a demo problem."""
    return _FOLDER / f"{name}.toml"


def copy_demo_files(folder: Path) -> None:
    """Copy every demo file into a folder, to be read, changed and run.

    Raises
    ------
    OSError
    """
    for name in (*(f"{name}.toml" for name in (*NAMES, *ACTING, *LONG, *CONSTRAINED, *LARGE)), *BESIDE):
        content = (_FOLDER / name).read_bytes()
        write_whole(folder / name, lambda file, content=content: file.write(content))  # type: ignore[misc]  # bound on purpose


def starter(name: str) -> str:
    """Return a commented problem file to begin with."""
    text = (_FOLDER / "starter.toml").read_text(encoding="utf-8")
    return text.replace("{name}", name).replace("{title}", name.replace("-", " ").replace("_", " ").capitalize())
