"""Draw the picture of `docs/architecture.md`: from the user's text to a run, and to what is said of it.

Usage: python tools/draw_architecture.py
"""

from __future__ import annotations

from pathlib import Path

from matplotlib.figure import Figure
from matplotlib.patches import FancyArrowPatch, FancyBboxPatch

BOXES = {
    "input": (0, 2, "input, units", "the user's words"),
    "model": (1, 2, "model", "what the equations mean"),
    "problem": (2, 2, "problem", "with values, immutable"),
    "codegen": (3, 2, "codegen", "machine code of formulas"),
    "methods": (0, 1, "methods", "coefficients"),
    "families": (1, 1, "families", "one record for each"),
    "driver": (2, 1, "driver", "sets up, drives, builds"),
    "kernels": (3, 1, "kernels", "march, families, algebra"),
    "shown": (1, 0, "figures, text, files", "what is shown and kept"),
    "studies": (2, 0, "studies", "accuracy, stability, diagnosis"),
    "run": (3, 0, "run", "the solution and its log"),
}
# from, to, and what travels
ARROWS = [
    ("input", "model", ""), ("model", "problem", ""), ("problem", "codegen", "formulas"), ("methods", "families", ""),
    ("families", "driver", ""), ("driver", "kernels", "march"), ("problem", "driver", "request"),
    ("codegen", "kernels", "addresses"), ("kernels", "run", "steps, events"), ("run", "studies", ""),
    ("studies", "shown", "records"),
]  # fmt: skip
WIDTH, HEIGHT = 0.74, 0.5


def main() -> None:
    """Draw it."""
    figure = Figure(figsize=(12.8, 5.6), dpi=100)
    ax = figure.add_axes((0, 0, 1, 1), xlim=(-0.15, 3.9), ylim=(-0.2, 2.7))
    ax.axis("off")
    for x, y, title, text in BOXES.values():
        ax.add_patch(FancyBboxPatch((x, y), WIDTH, HEIGHT, boxstyle="round,pad=0.02", fc="#eef3f8", ec="#44546a"))
        ax.text(x + WIDTH / 2, y + 0.33, title, ha="center", va="center", weight="bold", size=13)
        ax.text(x + WIDTH / 2, y + 0.14, text, ha="center", va="center", size=11)
    for first, last, label in ARROWS:
        (x, y, *_), (u, v, *_) = BOXES[first], BOXES[last]
        across = y == v
        begin = (x + (WIDTH + 0.03 if u > x else -0.03), y + HEIGHT / 2) if across else (x + WIDTH / 2, y - 0.03)
        end = (u + (-0.03 if u > x else WIDTH + 0.03), v + HEIGHT / 2) if across else (u + WIDTH / 2, v + HEIGHT + 0.03)
        ax.add_patch(FancyArrowPatch(begin, end, arrowstyle="-|>", mutation_scale=15, color="#44546a"))
        middle = ((begin[0] + end[0]) / 2, (begin[1] + end[1]) / 2)
        away = (0, 0.07) if across else (0.05, 0)
        ax.text(middle[0] + away[0], middle[1] + away[1], label, size=10, color="#44546a", va="center",
                ha="center" if across else "left")  # fmt: skip
    figure.savefig(Path(__file__).parents[1] / "docs" / "architecture.png")


if __name__ == "__main__":
    main()
