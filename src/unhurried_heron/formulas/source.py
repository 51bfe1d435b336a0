"""The text that a formula stands in, and the formula with its place there."""

from __future__ import annotations

from dataclasses import dataclass, field

from unhurried_heron.formulas.expression import Node


@dataclass(frozen=True)
class Source:
    """A piece of the user's text and where it stands, so that an error can point at it."""

    text: str
    location: str = "the expression"
    line: int = 1
    column: int = 1

    def point(self, offset: int) -> str:
        """Describe the location ``offset`` characters into the text, with the line shown and a caret below it."""
        before = self.text[:offset]
        row = before.count("\n")
        start = before.rfind("\n") + 1
        shown = self.text[start:].split("\n", 1)[0]
        column = offset - start + (self.column if row == 0 else 1)
        # a long line is cut to a window around the location, so that the caret stays in view
        left = max(0, offset - start - 60)
        shown = shown[left : left + 100].replace("\t", " ")
        caret = " " * (offset - start - left) + "^"
        return f"{self.location}, line {self.line + row}, column {column}:\n    {shown}\n    {caret}"


@dataclass(frozen=True)
class Formula:
    """An expression that has been read: its tree, its text, and where names and terms first stand in it.

    ``calls`` tells where functions are called whose names may be those of parameters; ``spans`` the words of the user
    for a part of the tree, as (begin, end) in the text of ``source``.
    """

    node: Node
    source: Source
    mentions: dict[str, int]
    spans: dict[Node, tuple[int, int]] = field(default_factory=dict)
    calls: dict[str, int] = field(default_factory=dict)

    def words(self, node: Node) -> str:
        """Return what the user wrote for a part of the tree, or an empty text."""
        begin, end = self.spans.get(node, (0, 0))
        return " ".join(self.source.text[begin:end].split())
