"""Check that one thing has one word: retired words are no names, and what is public stands on a page.

Usage: python tools/check_words.py [ROOT]; exit code 1 with one line for each violation. The retired words are those of
the last table of `docs/glossary.md`. They may be no identifier, file name or option of the package, nor
stand as a name in its texts. Every public name,
verb and option of the tool must stand on a page of `docs/` or in the README.
"""

from __future__ import annotations

import io
import re
import sys
import tokenize
from collections.abc import Iterator
from pathlib import Path

PACKAGE = Path("src/unhurried_heron")
BESIDE = ("benchmarks", "examples", "tests", "tools")
# words that are retired in one sense only: as options of `integrate`, or as rooms
OPTIONS, ROOMS = {"starting", "control"}, {"words", "native", "show"}
_OPTION = re.compile(r"^    (\w+): .* = .*,$", re.M)
_KEYWORD = re.compile(r"[(, ](\w+)=")
_VERB = re.compile(r"`?heron ([a-z-]+)")


def retired(root: Path) -> set[str]:
    """Return the words of the first column of the glossary's last table."""
    table = (root / "docs" / "glossary.md").read_text(encoding="utf-8").rpartition("## Retired words")[2]
    rows = [line.split("|")[1] for line in table.splitlines() if line.startswith("| `")]
    return {word for row in rows for word in re.findall(r"`(\w+)`", row)}


def names_of(path: Path) -> Iterator[tuple[int, str]]:
    """Every identifier of a file, with its line; also those that its texts and comments mention."""
    for token in tokenize.generate_tokens(io.StringIO(path.read_text(encoding="utf-8")).readline):
        if token.type == tokenize.NAME:
            yield token.start[0], token.string
        elif token.type in (tokenize.STRING, tokenize.COMMENT):
            # an ordinary word may be used in a sentence; what is no word of English is a name
            for word in re.findall(r"\w+", token.string):
                if "_" in word or re.search(r"[a-z][A-Z]", word):
                    yield token.start[0], word
            # in the lists of attributes and parameters each word is a name or a type
            for line in re.findall(r"^ +\w+(?:, \w+)* : .*$", token.string, re.M):
                yield from ((token.start[0], word) for word in re.findall(r"\w+", line))


def misnamed(root: Path) -> Iterator[str]:
    """Retired words among identifiers, files, rooms and options."""
    words = retired(root)
    everywhere = words - OPTIONS - ROOMS
    for path in sorted((root / PACKAGE).rglob("*.py")):
        name = path.relative_to(root / PACKAGE).as_posix()
        parts = {path.stem, *path.relative_to(root / PACKAGE).parts[:-1]}
        for word in sorted(parts & (everywhere | ROOMS & words)):
            yield f"{name}: '{word}' is retired as the name of a file or room"
    # what stands beside the package uses its names, and no tool looks at their types
    beside = [path for folder in BESIDE for path in sorted((root / folder).rglob("*.py"))]
    for path in [*sorted((root / PACKAGE).rglob("*.py")), *beside]:
        for line, word in names_of(path):
            if word in everywhere:
                yield f"{path.relative_to(root).as_posix()}:{line}: '{word}' is retired"
    for path in beside:
        for word in sorted(set(_KEYWORD.findall(path.read_text(encoding="utf-8"))) & OPTIONS & words):
            yield f"{path.relative_to(root).as_posix()}: the option '{word}' is retired"
    call = (root / PACKAGE / "driver" / "integrate.py").read_text(encoding="utf-8")
    for word in sorted(set(_OPTION.findall(call)) & OPTIONS & words):
        yield f"driver/integrate.py: the option '{word}' is retired"


def unexplained(root: Path) -> Iterator[str]:
    """Public names, verbs and options of the tool that stand on no page."""
    paths = [path for path in (root / "docs").glob("*.md") if path.name != "api.md"]
    pages = "\n".join(path.read_text(encoding="utf-8") for path in [root / "README.md", *paths])
    reference = (root / "docs" / "api.md").read_text(encoding="utf-8")
    shown = re.findall(r"^::: unhurried_heron\.(\w+)\n\n```python$", reference, re.M)
    names = re.findall(r'^    "(\w+)",$', (root / PACKAGE / "__init__.py").read_text(encoding="utf-8"), re.M)
    for name in names:
        if name != "__version__" and not re.search(rf"\b{name}\b", pages):
            yield f"docs: '{name}' is public and on no page"
        if name != "__version__" and name not in shown:
            yield f"docs: '{name}' is public and without an example in docs/api.md"
    app = (root / PACKAGE / "cli" / "app.py").read_text(encoding="utf-8")
    verbs = re.search(r"^for verb in \(([^)]*)\)", app, re.M)
    for verb in re.findall(r"\w+", verbs[1] if verbs else ""):
        if verb.replace("_", "-") not in _VERB.findall(pages):
            yield f"docs: 'heron {verb.replace('_', '-')}' is on no page"
    for path in sorted((root / PACKAGE / "cli").glob("*.py")):
        for option in re.findall(r'"(--[a-z-]+)"', path.read_text(encoding="utf-8")):
            if option not in pages:
                yield f"docs: the option {option} is on no page"


def main() -> int:
    """Check a checkout and print what is wrong."""
    root = Path(sys.argv[1]) if sys.argv[1:] else Path(__file__).parents[1]
    violations = [*misnamed(root), *unexplained(root)]
    print("\n".join(dict.fromkeys(violations)) or f"words: {len(retired(root))} retired ones are gone")
    return int(bool(violations))


if __name__ == "__main__":
    sys.exit(main())
