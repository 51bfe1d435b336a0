"""Check the house rules: imports run one way, files and argument lists are short, numbers say what they bound.

Usage: python tools/check_layout.py [PACKAGE FOLDER]; exit code 1 with one line for each violation.
"""

from __future__ import annotations

import ast
import re
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path

PACKAGE = "unhurried_heron"
# from the top of the house to its foot: a room imports only rooms above it (or itself)
ROOMS = [
    "version",
    "arrays",
    "equality",
    "errors",
    "deadline",
    "quiet",
    "disk",
    "methods",
    "kernels",
    "formulas",
    "input",
    "units",
    "model",
    "problem",
    "codegen",
]
ROOMS += ["text", "run", "families", "driver", "study", "sweeps", "stability", "accuracy"]
ROOMS += ["dynamics", "diagnosis"]
ROOMS += ["checks", "figures", "files", "demo", "cli"]
# rooms beside the line: what they may import
BESIDE = {
    "testing": {"arrays", "codegen", "kernels", "driver", "quiet", "methods", "problem", "run", "input"},
    "__init__": set(ROOMS) - {"cli", "demo"},
}
# rooms that compute: what is said of their results stands in `text`
COMPUTE = {"run", "families", "driver", "study", "sweeps", "stability", "dynamics", "accuracy"}
# words from which a text that ends with a full stop is a sentence
MIN_WORDS = 4
# members of tuples with names, which are public though they begin with an underscore
TUPLE_MEMBERS = {"_replace", "_fields", "_asdict", "_make"}
FORBIDDEN_ROOMS = {"utils", "core", "common", "helpers"}
HEAVY = {"matplotlib", "xarray", "pandas", "sympy", "numba", "scipy", "pydantic", "pint", "tomli_w"}
# modules that are themselves loaded late, and so may import heavy libraries at their top
NUMBA_LATE = ("memory/call", "memory/decoding", "machine_code/compiling")
LATE = {
    "formulas/algebra.py",
    "families/elimination_order.py",
    "families/factorisations.py",
    "families/krylov.py",
    "families/large_linear.py",
    "families/preconditioned.py",
    "input/file_entries.py",
    "input/file_reader.py",
    "input/file_writer.py",
    "units/unit.py",
}
LATE |= {f"kernels/{name}" for name in NUMBA_LATE}
MAX_LINES, MAX_ARGUMENTS = 400, 8
_PROJECT = tomllib.loads((Path(__file__).parents[1] / "pyproject.toml").read_text(encoding="utf-8"))["project"]
# what may be imported: this package, the standard library, and what is declared
DECLARED = {re.split(r"[<>=]", each)[0].replace("-", "_") for each in _PROJECT["dependencies"]}
# pillow is imported as PIL
DECLARED = DECLARED - {"pillow"} | ({"PIL"} if "pillow" in DECLARED else set()) | set(sys.stdlib_module_names)


def imports_of(tree: ast.AST) -> Iterator[tuple[str, bool]]:
    """Every imported module, and whether it is imported when the file is (not in a function, not for types only)."""

    def visit(node: ast.AST, top: bool) -> Iterator[tuple[str, bool]]:
        for child in ast.iter_child_nodes(node):
            if isinstance(child, ast.Import):
                yield from ((alias.name, top) for alias in child.names)
            elif isinstance(child, ast.ImportFrom) and child.module:
                yield child.module, top
            elif isinstance(child, ast.If) and "TYPE_CHECKING" in ast.unparse(child.test):
                continue
            else:
                yield from visit(child, top and not isinstance(child, ast.FunctionDef | ast.AsyncFunctionDef))

    return visit(tree, True)


def allowed(room: str) -> set[str]:
    """Rooms that a room may import."""
    if room in BESIDE:
        return BESIDE[room] | {room, "errors", "version"}
    return set(ROOMS[: ROOMS.index(room) + 1]) if room in ROOMS else set()


def is_number(node: ast.expr) -> bool:
    """Whether an expression is a number, or arithmetic with one."""
    if isinstance(node, ast.Constant):
        return isinstance(node.value, int | float) and not isinstance(node.value, bool)
    if isinstance(node, ast.UnaryOp):
        return is_number(node.operand)
    return isinstance(node, ast.BinOp) and (is_number(node.left) or is_number(node.right))


def silent_constants(tree: ast.Module, lines: list[str]) -> Iterator[str]:
    """Numbers of a module without a comment that says what they bound, or several on one line."""
    for node in tree.body:
        if isinstance(node, ast.Assign | ast.AnnAssign) and node.value is not None:
            target = node.targets[0] if isinstance(node, ast.Assign) else node.target
            several = isinstance(node.value, ast.Tuple) and isinstance(target, ast.Tuple)
            if several and all(map(is_number, node.value.elts)):
                yield f"{ast.unparse(target)}: each number has a line of its own"
            explained = "#" in lines[node.lineno - 1] or lines[node.lineno - 2].startswith("#")
            if is_number(node.value) and not explained:
                yield f"{ast.unparse(target)}: no comment says what it bounds"


def sentences_in(node: ast.AST) -> Iterator[str]:
    """Yield texts that are sentences, but for docstrings and what errors say."""
    for child in ast.iter_child_nodes(node):
        name = ast.unparse(child.func).rpartition(".")[2] if isinstance(child, ast.Call) else ""
        if isinstance(child, ast.Raise) or name.endswith("Error") or name in ("unforeseen", "warn"):
            continue
        if isinstance(child, ast.Expr) and isinstance(child.value, ast.Constant):
            continue
        parts = child.values if isinstance(child, ast.JoinedStr) else [child]
        text = "".join(str(each.value) for each in parts if isinstance(each, ast.Constant))
        texts = all(
            isinstance(each, ast.FormattedValue) or isinstance(getattr(each, "value", None), str) for each in parts
        )
        if texts and text.rstrip().endswith(".") and len(text.split()) >= MIN_WORDS:
            yield text
        if not isinstance(child, ast.JoinedStr):
            yield from sentences_in(child)


def foreign_fields(tree: ast.AST) -> Iterator[str]:
    """Yield private fields that are read of another object than one's own."""
    for node in ast.walk(tree):
        private = isinstance(node, ast.Attribute) and node.attr.startswith("_") and not node.attr.startswith("__")
        if private and node.attr not in TUPLE_MEMBERS and node.attr != node.attr.upper():
            own = isinstance(node.value, ast.Name) and node.value.id in ("self", "cls")
            if not own:
                yield ast.unparse(node)


def check_file(path: Path, root: Path) -> Iterator[str]:
    """Violations of one file."""
    name = path.relative_to(root).as_posix()
    room = name.split("/")[0].removesuffix(".py")
    text = path.read_text(encoding="utf-8")
    if "catch_warnings" in text:
        # filters of warnings belong to the whole process, threads and all
        yield f"{name}: catch_warnings; `quiet.quietly` is for this"
    if room in FORBIDDEN_ROOMS or path.stem in FORBIDDEN_ROOMS:
        yield f"{name}: no room may be called '{room if room in FORBIDDEN_ROOMS else path.stem}'"
        return
    if len(text.splitlines()) > MAX_LINES:
        yield f"{name}: {len(text.splitlines())} lines, at most {MAX_LINES}"
    if not allowed(room):
        yield f"{name}: the room '{room}' is not on the plan (ROOMS in tools/check_layout.py)"
    tree = ast.parse(text)
    if any(isinstance(node, ast.Assert) for node in ast.walk(tree)):
        # who meets one is told nothing, and under -O nobody is
        yield f"{name}: an assertion; raise `errors.unforeseen`"
    yield from (f"{name}: {text}" for text in silent_constants(tree, text.splitlines()))
    if room in COMPUTE:
        yield from (f"{name}: a sentence, {text[:40]!r}: it belongs into `text`" for text in sentences_in(tree))
        yield from (
            f"{name}: imports a terminal library" for module, _ in imports_of(tree) if module.startswith("rich")
        )
    yield from (f"{name}: reads the private field {field}" for field in foreign_fields(tree))
    late = any(name.startswith(index) for index in LATE)
    for module, at_top in imports_of(tree):
        parts = module.split(".")
        if parts[0] == PACKAGE:
            target = parts[1] if len(parts) > 1 else "__init__"
            if target not in allowed(room):
                yield f"{name}: imports {target}, which does not stand above {room}"
        elif parts[0] not in DECLARED:
            yield f"{name}: imports {parts[0]}, which is not among the dependencies of pyproject.toml"
        if parts[0] in HEAVY and at_top and (not late or (room == "kernels" and parts[0] != "numba")):
            yield f"{name}: imports {parts[0]} when it is imported itself"
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef) and room == "kernels":
            count = len(node.args.args) + len(node.args.kwonlyargs)
            intrinsic = any(getattr(d, "id", "") == "typed_intrinsic" for d in node.decorator_list)
            if count > MAX_ARGUMENTS and not intrinsic:
                yield f"{name}: {node.name} has {count} arguments, at most {MAX_ARGUMENTS}"


def main() -> int:
    """Check a package folder and print what is wrong."""
    given = sys.argv[1:]
    root = Path(given[0]) if given else Path(__file__).parents[1] / "src" / PACKAGE
    violations = [line for path in sorted(root.rglob("*.py")) for line in check_file(path, root)]
    print("\n".join(violations) or f"layout: {len(list(root.rglob('*.py')))} files in order")
    return int(bool(violations))


if __name__ == "__main__":
    sys.exit(main())
