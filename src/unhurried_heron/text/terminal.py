"""Documents as text: the one renderer, for terminals and for `print`."""

from __future__ import annotations

import io
import shutil
import sys
import textwrap
from collections.abc import Iterator
from typing import Any, Final

from rich.box import SIMPLE_HEAD
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, RenderableType, RenderResult
from rich.table import Table as RichTable
from rich.text import Text

from unhurried_heron.text.document import Column, Document, Statement, Table, Tone
from unhurried_heron.text.numbers import number

# Columns of text that is not written to a terminal,
_PLAIN_WIDTH: Final = 180
# and columns below which no text is squeezed.
_MIN_WIDTH: Final = 40
_STYLES: Final = {
    Tone.PLAIN: "",
    Tone.HEADING: "bold",
    Tone.GOOD: "bold green",
    Tone.DOUBTFUL: "yellow",
    Tone.WRONG: "bold red",
    Tone.QUIET: "dim",
}


def console(*, error: bool = False) -> Console:
    """Return a console as wide as the terminal, or as ``COLUMNS`` says; else wide enough for every table."""
    width = None if (sys.stderr if error else sys.stdout).isatty() else shutil.get_terminal_size((_PLAIN_WIDTH, 50))[0]
    # names are shown as they are, whatever they would mean to a terminal's markup
    return Console(stderr=error, highlight=False, markup=False, emoji=False, width=width)


def show(document: Document) -> None:
    """Print a document on standard output, with colours where the terminal has them."""
    page = console()
    for part in renderables(document, page.width):
        page.print(part)


def as_text(document: Document) -> str:
    """Return what a terminal would show, without colours, as wide as the terminal is; wide enough without one."""
    width = max(_MIN_WIDTH, shutil.get_terminal_size((_PLAIN_WIDTH, 50)).columns)
    written = io.StringIO()
    page = Console(file=written, width=width, highlight=False, color_system=None, markup=False, emoji=False)
    for part in renderables(document, width):
        page.print(part)
    return "\n".join(line.rstrip() for line in written.getvalue().splitlines()).strip("\n")


def renderables(document: Document, width: int) -> Iterator[RenderableType]:
    """Yield the title and the parts of a document, but for its pictures, as a terminal library takes them.

    Parameters
    ----------
    document : Document
    width : int
        Columns of the page, by which the points of a list are wrapped.
    """
    if document.title:
        yield Text(document.title, style=_STYLES[Tone.HEADING])
    piles: dict[str, list[Table]] = {}
    for table in document.tables:
        piles.setdefault(table.pile or str(id(table)), []).append(table)
    page = textwrap.TextWrapper(width, subsequent_indent="  ", break_on_hyphens=False, break_long_words=False)
    for part in document.parts:
        if isinstance(part, Statement):
            text = page.fill(f"- {part.text}") if document.listed else part.text
            yield Text(text, style=_STYLES[part.tone])
        elif isinstance(part, Table):
            yield _Sheet(part, piles[part.pile or str(id(part))]) if part.headed else _grid(part)


def _written(table: Table, row: tuple[Any, ...]) -> list[str]:
    """Return the cells of a row as text."""
    pairs = zip(row, table.columns, strict=True)
    return [cell if isinstance(cell, str) else number(cell, column.digits) for cell, column in pairs]


def _grid(table: Table) -> RichTable:
    """Return a table without a head, whose last column wraps; what is wrong stands apart."""
    grid = RichTable.grid(padding=(0, 2))
    for column in table.columns:
        grid.add_column(no_wrap=column.kind != "words", overflow="fold" if column.kind == "words" else "ellipsis")
    for row, tone in zip(table.rows, table.tones or [Tone.PLAIN] * len(table.rows), strict=True):
        first, *rest = _written(table, row)
        grid.add_row(Text(first, style=_STYLES[tone]), Text(rest[0], style=_STYLES[Tone.HEADING]), *map(Text, rest[1:]))
        if tone is Tone.WRONG:
            grid.add_row("")
    return grid


class _Sheet:
    """A table that leaves out its last columns where the page is too narrow, says so, and never cuts a number.

    Tables of a pile have columns of the same widths, leave out the same ones, and say so below the last.
    """

    def __init__(self, table: Table, pile: list[Table]) -> None:
        self.table, self.pile = table, pile

    def _widths(self) -> list[int]:
        """Return how many characters wide each column must be; a column of words may wrap."""
        widths = []
        for index, column in enumerate(self.table.columns):
            cells = [_written(table, row)[index] for table in self.pile for row in table.rows]
            texts = [column.head, *cells]
            if column.kind == "words":
                texts = [word for text in texts for word in text.split()]
            widths.append(max((cell_len(text) for text in texts), default=0))
        return widths

    def _columns_that_fit(self, widths: list[int], width: int) -> tuple[Column, ...]:
        # A column stands between single spaces and a gap.
        fitting, used = 0, -1
        for each in widths:
            used += each + 3
            if used > width and fitting > 0:
                break
            fitting += 1
        return self.table.columns[:fitting]

    def __rich_console__(self, page: Console, options: ConsoleOptions) -> RenderResult:
        table, widths = self.table, self._widths()
        columns = self._columns_that_fit(widths, options.max_width)
        sheet = RichTable(box=SIMPLE_HEAD, title_justify="left", pad_edge=False)
        sheet.title = Text(table.title, style=_STYLES[Tone.HEADING]) if table.title else None
        for column, width in zip(columns, widths, strict=False):
            justify: Any = "right" if column.kind == "number" else "left"
            sheet.add_column(Text(column.head), justify=justify, no_wrap=column.kind != "words", min_width=width)
        for row in table.rows:
            sheet.add_row(*map(Text, _written(table, row)[: len(columns)]))
        yield sheet
        if table.caption:
            yield Text(table.caption, style="italic")
        left_out = [column.name for column in table.columns[len(columns) :]]
        if left_out and table is self.pile[-1]:
            yield Text("left out on a page as narrow as this: " + ", ".join(left_out), style=_STYLES[Tone.QUIET])
