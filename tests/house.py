"""Measures the house: how large its parts are, and what a stranger would stumble over. `make house`.

Prints lines a package, the longest file and function, the worst complexity, import cycles, names that may not stand and public
definitions without a docstring; exits 1 where a bound is passed.
"""

from __future__ import annotations

import ast
import json
import re
import subprocess
import sys
from collections import Counter, defaultdict
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1] / "src" / "reedbasket"
CORE_LINES, FILE_LINES, FUNCTION_LINES, COMPLEXITY, PARAMETERS = 22_000, 400, 60, 12, 7
# Words of everyday English that were used for technical things, and said nothing to whoever came new.
FORBIDDEN = {
    "along",
    "apart",
    "asked",
    "asking",
    "beside",
    "choosing",
    "hand",
    "heard",
    "kept",
    "lane",
    "looks",
    "midst",
    "mingled",
    "offered",
    "once",
    "picking",
    "said",
    "seldom",
    "settle",
    "spare",
    "straight",
    "sweeps",
    "takeup",
    "taking",
    "trouble",
    "trying",
    "unmatched",
    "wanted",
}
_GENERATED = ("static",)

Function = ast.FunctionDef | ast.AsyncFunctionDef


def modules() -> dict[str, Path]:
    """{dotted name below reedbasket: file}"""
    found = {}
    for path in sorted(ROOT.rglob("*.py")):
        parts = path.relative_to(ROOT).with_suffix("").parts
        if not set(parts) & set(_GENERATED):
            found[".".join(parts).removesuffix(".__init__")] = path
    return found


def imports(name: str, path: Path, known: dict[str, Path]) -> Iterator[str]:
    """Modules of ours that a module imports, wherever in it, but for those that only types need."""
    package = name.split(".") if path.stem == "__init__" else name.split(".")[:-1]
    tree = ast.parse(path.read_text())
    only_types = {
        id(inner)
        for node in ast.walk(tree)
        if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.unparse(node.test)
        for inner in ast.walk(node)
    }
    for node in ast.walk(tree):
        if not isinstance(node, ast.ImportFrom) or not node.level or id(node) in only_types:
            continue
        base = [*package[: len(package) - node.level + 1], *(node.module or "").split(".")]
        module = ".".join(part for part in base if part)
        for alias in node.names:
            target = f"{module}.{alias.name}" if f"{module}.{alias.name}" in known else module
            # A package's own __init__ only collects: what it imports is looked at there.
            if target in known and known[target].stem != "__init__":
                yield target


def cycles(known: dict[str, Path]) -> list[list[str]]:
    """Groups of modules that need one another (Tarjan's strongly connected components)."""
    edges = {name: set(imports(name, path, known)) for name, path in known.items()}
    index: dict[str, int] = {}
    low: dict[str, int] = {}
    stack: list[str] = []
    found: list[list[str]] = []

    def visit(name: str) -> None:
        index[name] = low[name] = len(index)
        stack.append(name)
        for other in edges[name]:
            if other not in index:
                visit(other)
                low[name] = min(low[name], low[other])
            elif other in stack:
                low[name] = min(low[name], index[other])
        if low[name] == index[name]:
            group = stack[stack.index(name) :]
            del stack[stack.index(name) :]
            if len(group) > 1:
                found.append(sorted(group))

    for name in edges:
        if name not in index:
            visit(name)
    return found


def functions(path: Path) -> Iterator[Function]:
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, Function):
            yield node


def forbidden(known: dict[str, Path]) -> list[str]:
    """Modules, classes and public functions of which a word says nothing."""
    found = []
    for name, path in known.items():
        names = {name.split(".")[-1]}
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ClassDef) or (isinstance(node, Function) and not node.name.startswith(("_", "test_"))):
                names.add(node.name)
        for one in sorted(names):
            words = {word.lower() for word in re.findall(r"[A-Z]?[a-z]+", one)}
            if words & FORBIDDEN:
                found.append(f"{name}: {one}")
    return found


def ruff(*rules: str) -> Counter[str]:
    """How often each rule is broken."""
    command = [
        sys.executable,
        "-m",
        "ruff",
        "check",
        str(ROOT),
        "--select",
        ",".join(rules),
        "--output-format",
        "json",
        "--exit-zero",
    ]
    command += ["--config", f"lint.mccabe.max-complexity={COMPLEXITY}", "--config", f"lint.pylint.max-args={PARAMETERS}"]
    told = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
    return Counter(one["code"] for one in told)


def main() -> int:
    known = modules()
    lines = {name: len(path.read_text().splitlines()) for name, path in known.items()}
    parts: dict[str, int] = defaultdict(int)
    for name, count in lines.items():
        first, *rest = name.split(".")
        parts[first] += count
        if first == "core" and len(rest) > 1:
            parts[f"core/{rest[0]}"] += count
    for part, count in sorted(parts.items()):
        print(f"{count:7} {part}")
    broken = ruff("C901", "PLR0913", "D100", "D101", "D102", "D103")
    long_files = sorted(((count, name) for name, count in lines.items() if count > FILE_LINES), reverse=True)
    lengths = [
        ((node.end_lineno or node.lineno) - node.lineno + 1, f"{name}.{node.name}")
        for name, path in known.items()
        for node in functions(path)
    ]
    long_functions = sorted((one for one in lengths if one[0] > FUNCTION_LINES), reverse=True)
    circles, names = cycles(known), forbidden(known)
    undocumented = sum(count for code, count in broken.items() if code.startswith("D"))
    figures = [
        ("lines of core", parts["core"], CORE_LINES, ""),
        (f"files of more than {FILE_LINES} lines", len(long_files), 0, long_files[:3]),
        (f"functions of more than {FUNCTION_LINES} lines", len(long_functions), 0, long_functions[:3]),
        (f"functions more complex than {COMPLEXITY}", broken["C901"], 0, ""),
        (f"functions of more than {PARAMETERS} parameters", broken["PLR0913"], 0, ""),
        ("import cycles", len(circles), 0, circles[:3]),
        ("names that may not stand", len(names), 0, names[:5]),
        ("public definitions without a docstring", undocumented, 0, ""),
    ]
    for what, found, bound, shown in figures:
        print(
            f"{'ok  ' if found <= bound else 'over'} {found:6}  {what}, at most {bound}"
            + (f": {shown}" if found > bound and shown else "")
        )
    return 1 if any(found > bound for _, found, bound, _ in figures) else 0


if __name__ == "__main__":
    sys.exit(main())
