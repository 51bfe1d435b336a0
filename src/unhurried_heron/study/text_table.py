"""Tables of what was learnt, as text as wide as the page."""

from __future__ import annotations

import io
import math
import shutil
from collections.abc import Iterable
from typing import Any

from rich.box import SIMPLE_HEAD
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, RenderableType, RenderResult
from rich.table import Table
from rich.text import Text

# columns of names, which do not wrap
_NAMES = ("method", "event", "worst state", "at the end", "setting", "state")


class TextTable:
    """A table that leaves out its last columns where the page is too narrow, says so, and never cuts a number.

    Tables of a `pile` have columns of the same widths, leave out the same ones, and say so below the last.
    """

    def __init__(
        self, columns: Iterable[tuple[str, str]], title: str = "", pile: list[TextTable] | None = None
    ) -> None:
        self.columns, self.title = list(columns), title
        self.rows: list[tuple[str, ...]] = []
        self.caption = ""
        self.pile = [] if pile is None else pile
        self.pile.append(self)

    def add_row(self, *cells: str) -> None:
        """Add a row, one text for each column."""
        self.rows.append(cells)

    def _widths(self) -> list[int]:
        """How wide each column must be; a column of words may wrap."""
        widths = []
        for index, (name, justify) in enumerate(self.columns):
            texts = [name, *(row[index] for sheet in self.pile for row in sheet.rows)]
            if not self._whole(name, justify):
                texts = [word for text in texts for word in text.split()]
            widths.append(max((cell_len(text) for text in texts), default=0))
        return widths

    @staticmethod
    def _whole(name: str, justify: str) -> bool:
        return justify == "right" or name in _NAMES

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        # a column stands between single spaces, and a gap
        kept, used, widths = 0, -1, self._widths()
        for width in widths:
            used += width + 3
            if used > options.max_width and kept > 0:
                break
            kept += 1
        table = Table(box=SIMPLE_HEAD, title_justify="left", title_style="bold", pad_edge=False)
        table.title = self.title or None
        for (name, justify), width in zip(self.columns[:kept], widths, strict=False):
            whole = self._whole(name, justify)
            table.add_column(name, justify=justify, no_wrap=whole, min_width=width)  # type: ignore[arg-type]  # left or right
        for row in self.rows:
            table.add_row(*row[:kept])
        yield table
        if self.caption:
            yield Text(self.caption, style="italic")
        if kept < len(self.columns) and self is self.pile[-1]:
            yield Text(
                "left out on so narrow a page: " + ", ".join(name for name, _ in self.columns[kept:]), style="dim"
            )


def number(value: Any, digits: int = 3) -> str:
    """Write a number shortly, and nothing for None or NaN."""
    if value is None or (isinstance(value, float) and math.isnan(value)):
        return "–"
    return f"{value:,}" if isinstance(value, int) else f"{value:.{digits}g}"


def as_text(*parts: RenderableType) -> str:
    """Return what a terminal would show, without colours, as wide as the terminal is; wide enough without one."""
    width = max(40, shutil.get_terminal_size((180, 50)).columns)
    page = Console(file=io.StringIO(), width=width, highlight=False, color_system=None, markup=False,
                   emoji=False)  # fmt: skip
    for part in parts:
        page.print(part)
    written: Any = page.file
    return "\n".join(line.rstrip() for line in written.getvalue().splitlines()).strip("\n")
