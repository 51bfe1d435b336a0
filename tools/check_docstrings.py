"""Check that functions say what they take, return and raise, in NumPy style.

Usage: python tools/check_docstrings.py [PACKAGE FOLDER]; exit code 1 with one line for each violation. Every function
of three arguments or more, and every public one that takes any, names each of its parameters with a type, has a section
on what it returns or yields, and one on the errors that it raises itself. Left out are functions within functions,
constructors (their class tells of the attributes), commands (each option has its help) and methods that have no
docstring because a base class describes them.
"""

from __future__ import annotations

import ast
import re
import sys
from collections.abc import Iterator
from pathlib import Path

PACKAGE = "unhurried_heron"
MANY = 3
# options of commands carry their help, which Typer shows
COMMANDS = {"cli/commands.py", "cli/study_commands.py", "cli/sweep_command.py", "cli/dynamics_commands.py"}
SECTION = re.compile(r"^(Parameters|Returns|Yields|Raises|Notes|Examples|Attributes)\n-+\n", re.MULTILINE)


def sections_of(doc: str) -> dict[str, str]:
    """The sections of a docstring, by title."""
    parts = SECTION.split(doc)
    return dict(zip(parts[1::2], parts[2::2], strict=True))


def own_nodes(function: ast.FunctionDef) -> Iterator[ast.AST]:
    """The nodes of a function without those of functions and classes within it."""
    pending: list[ast.AST] = list(function.body)
    while pending:
        node = pending.pop()
        yield node
        if not isinstance(node, ast.FunctionDef | ast.Lambda | ast.ClassDef):
            pending.extend(ast.iter_child_nodes(node))


def parameters_of(function: ast.FunctionDef) -> list[str]:
    """The names of a function's parameters, as a docstring writes them."""
    given = function.args
    names = [each.arg for each in given.posonlyargs + given.args if each.arg not in ("self", "cls")]
    names += [f"*{given.vararg.arg}"] if given.vararg else []
    names += [each.arg for each in given.kwonlyargs]
    return names + ([f"**{given.kwarg.arg}"] if given.kwarg and not shares(function) else [])


def shares(function: ast.FunctionDef) -> bool:
    """Whether a function takes the keywords that a typed dictionary describes."""
    rest = function.args.kwarg
    return rest is not None and rest.annotation is not None and "Unpack" in ast.unparse(rest.annotation)


def described(section: str) -> dict[str, str]:
    """The types of the parameters that a section describes; several may share a line."""
    found: dict[str, str] = {}
    for line in section.splitlines():
        if line and not line.startswith(" "):
            names, _, kind = line.partition(" : ")
            found |= dict.fromkeys((name.strip() for name in names.split(",")), kind.strip())
    return found


def violations_of(function: ast.FunctionDef, public: bool) -> Iterator[str]:
    """What the docstring of a function lacks."""
    names, doc = parameters_of(function), ast.get_docstring(function) or ""
    # what other types a function takes is said by its own docstring
    overload = any(ast.unparse(each) == "overload" for each in function.decorator_list)
    if overload or not names or not (public or len(names) >= MANY):
        return
    sections = sections_of(doc)
    if not doc:
        yield "has no docstring"
        return
    known = described(sections.get("Parameters", ""))
    # several names on one line may have a common description, "As for `…`", in place of a type
    missing = [name for name in names if name not in known]
    unknown = [name for name in known if name and name not in names and not shares(function)]
    if missing:
        yield f"does not describe {', '.join(missing)}"
    if unknown:
        yield f"describes {', '.join(unknown)}, which it does not take"
    nodes = list(own_nodes(function))
    returns = any(isinstance(node, ast.Return) and not is_none(node.value) for node in nodes)
    if returns and "Returns" not in sections:
        yield "does not say what it returns"
    if any(isinstance(node, ast.Yield | ast.YieldFrom) for node in nodes) and "Yields" not in sections:
        yield "does not say what it yields"
    if any(isinstance(node, ast.Raise) and node.exc is not None for node in nodes) and "Raises" not in sections:
        yield "does not say what it raises"


def is_none(value: ast.expr | None) -> bool:
    """Whether a return has no value."""
    return value is None or (isinstance(value, ast.Constant) and value.value is None)


def exported(root: Path) -> set[str]:
    """The names that the package exports."""
    tree = ast.parse((root / "__init__.py").read_text(encoding="utf-8"))
    lists = [
        node.value for node in tree.body if isinstance(node, ast.Assign) and ast.unparse(node.targets[0]) == "__all__"
    ]
    return {each.value for each in lists[0].elts} if lists else set()  # type: ignore[attr-defined]  # a list of texts


def functions_of(
    body: list[ast.stmt], public: set[str], owner: str = ""
) -> Iterator[tuple[str, ast.FunctionDef, bool]]:
    """Every function and method with its name, and whether it is public."""
    for node in body:
        if isinstance(node, ast.FunctionDef):
            is_public = (owner or node.name) in public and not node.name.startswith("_")
            yield (f"{owner}.{node.name}" if owner else node.name), node, is_public
        elif isinstance(node, ast.ClassDef):
            yield from functions_of(node.body, public, node.name)
        elif isinstance(node, ast.If):
            yield from functions_of(node.body, public, owner)


def main() -> int:
    """Check a package folder and print what is wrong."""
    root = Path(sys.argv[1]) if sys.argv[1:] else Path(__file__).parents[1] / "src" / PACKAGE
    public, violations, count = exported(root), [], 0
    for path in sorted(root.rglob("*.py")):
        name = path.relative_to(root).as_posix()
        for label, function, is_public in functions_of(ast.parse(path.read_text(encoding="utf-8")).body, public):
            overrides = "." in label and not ast.get_docstring(function)
            if name in COMMANDS or function.name == "__init__" or overrides:
                continue
            found = list(violations_of(function, is_public))
            count += 1
            violations += [f"{name}: {label} {what}" for what in found]
    print("\n".join(violations) or f"docstrings: {count} functions in order")
    return int(bool(violations))


if __name__ == "__main__":
    sys.exit(main())
