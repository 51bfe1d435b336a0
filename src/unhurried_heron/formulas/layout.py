"""Where each state stands in the state vector, and loops over indexed states."""

from __future__ import annotations

import itertools
import math
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.formulas.binding import in_normal_form, normal_loops, with_names
from unhurried_heron.formulas.expression import BOUND, Node, walk
from unhurried_heron.formulas.notation import in_one_spelling

Box = tuple[tuple[int, int], ...]
_PARTS = ("re({})", "im({})")
PART = re.compile(r"(?P<part>re|im)\((?P<inside>.+)\)$")
_MEMBER = re.compile(r"(?P<name>[^\[\]\s]+)\s*\[(?P<indices>[\d\s,-]+)\]$")


@dataclass(frozen=True)
class Group:
    """A state (``box`` empty) or an indexed state: its name and the first and last value of each index.

    A complex one has a last index besides: 1 of the real parts, 2 of the imaginary ones.
    """

    name: str
    box: Box = ()
    complex: bool = False

    @property
    def shape(self) -> tuple[int, ...]:
        """How many values each index has."""
        return tuple(last - first + 1 for first, last in self.box)

    @property
    def dtype(self) -> Any:
        """The type of the values."""
        return np.complex128 if self.complex else np.float64

    @property
    def value_box(self) -> Box:
        """The first and last value of each index that the user knows of."""
        return self.box[:-1] if self.complex else self.box

    @property
    def value_shape(self) -> tuple[int, ...]:
        """The shape of the values, complex ones where it is complex."""
        return self.shape[:-1] if self.complex else self.shape

    @property
    def size(self) -> int:
        """How many numbers there are."""
        return int(np.prod(self.shape, dtype=np.int64)) if self.box else 1

    @property
    def strides(self) -> tuple[int, ...]:
        """How far apart neighbours stand, for each index; the last index runs fastest."""
        shape = self.shape
        return tuple(int(np.prod(shape[d + 1 :], dtype=np.int64)) for d in range(len(shape)))

    def members(self) -> Iterator[str]:
        """Names of all numbers, in order: of complex members ``re(z)`` and ``im(z)``."""
        if self.complex:
            for member in self.values():
                yield from (part.format(member) for part in _PARTS)
        else:
            yield from self.values()

    def values(self) -> Iterator[str]:
        """Names of all members, in order."""
        box = self.value_box
        if not box:
            yield self.name
        elif len(box) == 1:
            yield from (f"{self.name}[{i}]" for i in range(box[0][0], box[0][1] + 1))
        else:
            ranges = [range(first, last + 1) for first, last in box]
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
        """Return the index of a number: a state, a member of an indexed state, or a part of a complex one; or None."""
        name = in_one_spelling(name)
        index = self.scalars.get(name)
        if index is not None:
            return index
        part = PART.match(name) if self.has_complex else None
        if part is not None:
            pair = self.pair(part["inside"])
            return None if pair is None else pair + (part["part"] == "im")
        found = self._member(name)
        return None if found is None or found[0].complex else found[1]

    def pair(self, name: str) -> int | None:
        """Return the index of the real part of a complex state or member, which that of the imaginary one follows."""
        name = in_one_spelling(name)
        group = self.by_name.get(name)
        if group is not None:
            return self.offsets[name] if group.complex and not group.value_box else None
        found = self._member(name) if self.has_complex else None
        return found[1] if found is not None and found[0].complex else None

    def _member(self, name: str) -> tuple[Group, int] | None:
        """Return the group of a member by its name, and the index of its first number; None where there is none."""
        match = _MEMBER.match(name)
        group = self.by_name.get(match["name"]) if match else None
        if group is None or match is None:
            return None
        try:
            indices = [int(part) for part in match["indices"].split(",")]
        except ValueError:
            return None
        box = group.value_box
        if len(indices) != len(box) or any(
            not first <= i <= last for i, (first, last) in zip(indices, box, strict=True)
        ):
            return None
        steps = [(i - first) * s for i, (first, _), s in zip(indices, box, group.strides, strict=False)]
        return group, self.offsets[group.name] + sum(steps)

    def indices_of(self, name: str) -> list[int]:
        """Return the index of a number, or those of the two of a complex one; none where there is no such name."""
        index, pair = self.slot(name), self.pair(name)
        return [index] if index is not None else [] if pair is None else [pair, pair + 1]

    def take(self, name: str, numbers: Any) -> Any:
        """Return the values of a state, a member, a part or a whole indexed state; None where there is no such name.

        Parameters
        ----------
        name : str
        numbers : ndarray, shape (…, size)

        Returns
        -------
        ndarray or None
            Of shape (…) or, of a whole indexed state, (…, *shape); complex where it is complex.
        """
        index = self.slot(name)
        if index is not None:
            return numbers[..., index]
        pair = self.pair(name)
        members = self.slice_of(name) if pair is None else slice(pair, pair + 2)
        if members is None:
            return None
        found = numbers[..., members]
        shape = () if pair is not None else self.by_name[in_one_spelling(name)].value_shape
        if pair is not None or self.by_name[in_one_spelling(name)].complex:
            found = np.ascontiguousarray(found).view(np.complex128)
        return np.reshape(found, (*numbers.shape[:-1], *shape))

    @cached_property
    def has_complex(self) -> bool:
        """Whether a state is complex."""
        return any(group.complex for group in self.groups)

    @cached_property
    def value_names(self) -> tuple[str, ...]:
        """The name of each value: of each number, or of two where they are one complex number."""
        if not self.has_complex:
            return self.names
        return tuple(itertools.chain.from_iterable(group.values() for group in self.groups))

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
        if not group.complex:
            return f"{group.name}[{','.join(parts)}]" if parts else group.name
        member = f"{group.name}[{','.join(parts[:-1])}]" if parts[:-1] else group.name
        return _PARTS[int(parts[-1]) - 1].format(member) if parts[-1] in ("1", "2") else member

    def slice_of(self, name: str) -> slice | None:
        """Return the indices of a whole group, or None."""
        name = in_one_spelling(name)
        if name not in self.by_name:
            return None
        begin = self.offsets[name]
        return slice(begin, begin + self.by_name[name].size)

    def indices_of_all(self, names: Iterable[str]) -> IntArray:
        """Return the indices of whole groups and of single members, in the order of their names."""
        indices = np.arange(self.size)
        return np.concatenate([np.atleast_1d(indices[self.slice_of(name) or self.slot(name)]) for name in names])


class Values(Mapping[str, Any]):
    """Values by the names of a layout: a mapping that keeps an array and makes names only where they are asked for.

    Complex states have complex values; their parts are found by name, too.
    """

    def __init__(self, layout: Layout, array: Any) -> None:
        self.layout = layout
        self.array = np.array(array, dtype=np.float64)
        self.array.setflags(write=False)

    def __getitem__(self, name: str) -> Any:
        found = self.layout.take(name, self.array)
        if found is None or np.ndim(found):
            raise KeyError(name)
        return found.item()

    def __iter__(self) -> Iterator[str]:
        return iter(self.layout.value_names)

    def __len__(self) -> int:
        return len(self.layout.value_names) if self.layout.has_complex else self.layout.size

    def __repr__(self) -> str:
        shown = {name: self[name] for name in self.layout.value_names[:12]}
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

    @property
    def turns(self) -> int:
        """How many values it has."""
        return math.prod(loop.last - loop.first + 1 for loop in self.loops)

    @property
    def first(self) -> int:
        """Where the first of them goes."""
        return self.base + sum(step * loop.first for step, loop in zip(self.strides, self.loops, strict=True))

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
