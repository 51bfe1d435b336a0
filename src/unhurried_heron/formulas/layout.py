"""Where each state stands in the state vector, and loops over indexed states."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.formulas.binding import in_normal_form, normal_loops, with_names
from unhurried_heron.formulas.expression import BOUND, Node, walk
from unhurried_heron.formulas.notation import in_one_spelling

Box = tuple[tuple[int, int], ...]
_MEMBER = re.compile(r"(?P<name>[^\[\]\s]+)\s*\[(?P<indices>[\d\s,-]+)\]$")


@dataclass(frozen=True)
class Group:
    """A state (``box`` empty) or an indexed state: its name and the first and last value of each index."""

    name: str
    box: Box = ()

    @property
    def shape(self) -> tuple[int, ...]:
        """How many values each index has."""
        return tuple(last - first + 1 for first, last in self.box)

    @property
    def size(self) -> int:
        """How many members there are."""
        return int(np.prod(self.shape, dtype=np.int64)) if self.box else 1

    @property
    def strides(self) -> tuple[int, ...]:
        """How far apart neighbours stand, for each index; the last index runs fastest."""
        shape = self.shape
        return tuple(int(np.prod(shape[d + 1 :], dtype=np.int64)) for d in range(len(shape)))

    def members(self) -> Iterator[str]:
        """Names of all members, in order."""
        if not self.box:
            yield self.name
        elif len(self.box) == 1:
            yield from (f"{self.name}[{i}]" for i in range(self.box[0][0], self.box[0][1] + 1))
        else:
            ranges = [range(first, last + 1) for first, last in self.box]
            yield from (f"{self.name}[{','.join(map(str, index))}]" for index in itertools.product(*ranges))


@dataclass(frozen=True)
class Layout:
    """The order of states, or of derived quantities: one group after the other."""

    groups: tuple[Group, ...]

    @cached_property
    def offsets(self) -> dict[str, int]:
        """Where each group begins."""
        ends = itertools.accumulate((group.size for group in self.groups), initial=0)
        return {group.name: begin for group, begin in zip(self.groups, ends, strict=False)}

    @cached_property
    def size(self) -> int:
        """How many numbers there are."""
        return sum(group.size for group in self.groups)

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The name of each number."""
        return tuple(itertools.chain.from_iterable(group.members() for group in self.groups))

    def name_of(self, index: int) -> str:
        """Return the name of one number, without making those of all."""
        return self.words(index, {}, {})

    @cached_property
    def by_name(self) -> dict[str, Group]:
        """The groups by name."""
        return {group.name: group for group in self.groups}

    @cached_property
    def indexed(self) -> tuple[Group, ...]:
        """The groups that are indexed states."""
        return tuple(group for group in self.groups if group.box)

    @cached_property
    def scalars(self) -> dict[str, int]:
        """Places of the states that are no indexed state, by name."""
        return {group.name: self.offsets[group.name] for group in self.groups if not group.box}

    def slot(self, name: str) -> int | None:
        """Return the index of a state or a member of an indexed state, or None."""
        name = in_one_spelling(name)
        index = self.scalars.get(name)
        if index is not None:
            return index
        match = _MEMBER.match(name)
        group = self.by_name.get(match["name"]) if match else None
        if group is None or match is None:
            return None
        try:
            indices = [int(part) for part in match["indices"].split(",")]
        except ValueError:
            return None
        if len(indices) != len(group.box) or any(
            not first <= i <= last for i, (first, last) in zip(indices, group.box, strict=True)
        ):
            return None
        steps = [(i - first) * s for i, (first, _), s in zip(indices, group.box, group.strides, strict=True)]
        return self.offsets[group.name] + sum(steps)

    def states_in(self, root: Node) -> dict[int, str]:
        """Return the indices, and the names, of the states that a formula without loops depends on."""
        found: dict[int, str] = {}
        for node in walk(root):
            if node.op == "name" and node.args[0] in self.scalars:
                found[self.scalars[str(node.args[0])]] = str(node.args[0])
            elif node.op == "slot" and not node.args[1:]:
                found[int(node.args[0])] = ""
        return found

    def words(self, position: int, moves: Mapping[str, int], firsts: Mapping[str, int]) -> str:
        """Write a reference to a member as a person does: ``u[i+1]``.

        Parameters
        ----------
        position : int
        moves : mapping of str to int
            By how much it moves for each index.
        firsts : mapping of str to int
            The first value of each index.

        Returns
        -------
        str
        """
        begin = position + sum(step * firsts[index] for index, step in moves.items())
        # of pieces of sums that share an index the first may lie before all groups
        groups = (group for group in reversed(self.groups) if self.offsets[group.name] <= begin)
        group = next(groups, self.groups[0])
        rest, left, parts = begin - self.offsets[group.name], dict(moves), []
        for stride, (first, _) in zip(group.strides, group.box, strict=True):
            steps = {index: round(step / stride) for index, step in left.items()}
            fixed = first + rest // stride - sum(step * firsts[index] for index, step in steps.items())
            terms = [f"{'-' if step < 0 else '+'}{'' if abs(step) == 1 else f'{abs(step)}*'}{index.partition(BOUND)[0]}"
                     for index, step in steps.items() if step]  # fmt: skip
            parts.append(("".join(terms) + (f"{fixed:+d}" if fixed or not terms else "")).removeprefix("+"))
            left = {index: step - steps[index] * stride for index, step in left.items()}
            rest %= stride
        return f"{group.name}[{','.join(parts)}]" if parts else group.name

    def slice_of(self, name: str) -> slice | None:
        """Return the indices of a whole group, or None."""
        name = in_one_spelling(name)
        if name not in self.by_name:
            return None
        begin = self.offsets[name]
        return slice(begin, begin + self.by_name[name].size)


class Values(Mapping[str, float]):
    """Numbers by the names of a layout: a mapping that keeps an array and makes names only where they are asked for."""

    def __init__(self, layout: Layout, array: Any) -> None:
        self.layout = layout
        self.array = np.array(array, dtype=np.float64)
        self.array.setflags(write=False)

    def __getitem__(self, name: str) -> float:
        index = self.layout.slot(name)
        if index is None:
            raise KeyError(name)
        return float(self.array[index])

    def __iter__(self) -> Iterator[str]:
        return iter(self.layout.names)

    def __len__(self) -> int:
        return self.layout.size

    def __repr__(self) -> str:
        shown = {name: float(value) for name, value in zip(self.layout.names[:12], self.array[:12], strict=True)}
        return f"{str(shown)[:-1]}{', …' if len(self) > 12 else ''}}}"


@dataclass(frozen=True)
class Loop:
    """An index that runs over whole numbers, both ends included."""

    index: str
    first: int
    last: int


@dataclass(frozen=True)
class IndexedFormula:
    """A formula and where its values go: index ``base + sum(stride*index)`` for all values of the loops' indices.

    ``adds`` tells that the values are added to what is there, because several formulas may write to one element. Bound
    indices are in normal form (`formulas.binding`), whoever makes a block of whatever formulas.
    """

    loops: tuple[Loop, ...]
    base: int
    strides: tuple[int, ...]
    node: Node
    adds: bool = False

    def __post_init__(self) -> None:
        node = self.node
        if self.loops:
            # Before the sums are numbered, a loop that was a sum still has its name.
            new = normal_loops([loop.index for loop in self.loops])
            changed = {index: other for index, other in new.items() if index != other}
            node = with_names(node, changed) if changed else node
            loops = tuple(Loop(new[loop.index], loop.first, loop.last) for loop in self.loops)
            object.__setattr__(self, "loops", loops)
        object.__setattr__(self, "node", in_normal_form(node))


def single(node: Node, index: int) -> IndexedFormula:
    """Return one formula with loops for one index."""
    return IndexedFormula((), index, (), node)


def flat_indices(loops: tuple[Loop, ...], base: int, strides: Mapping[str, int]) -> IntArray:
    """Return the indices that loops run through, in their order, shape (n_turns,).

    Parameters
    ----------
    loops : tuple of Loop
        The loops around it.
    base : int
        The index where all loop indices are zero.
    strides : mapping of str to int
        How far each loop index moves it.

    Returns
    -------
    ndarray of int64
    """
    found = np.array([base], dtype=np.int64)
    for loop in loops:
        steps = strides.get(loop.index, 0) * np.arange(loop.first, loop.last + 1, dtype=np.int64)
        found = (found[:, None] + steps[None, :]).ravel()
    return found
