"""Measures the house: how large its parts are, and what a stranger would stumble over. `make house`.

Prints lines a package, the longest file and function, the worst complexity, import cycles, names that may not stand and public
definitions without a docstring; exits 1 where a bound is passed.
"""

from __future__ import annotations

import ast
import io
import json
import re
import subprocess
import sys
import tokenize
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[1] / "src" / "reedbasket"
# Of core: lines of code, without docstrings, comments and empty lines.
CODE_LINES = 26_200
FILE_LINES, FUNCTION_LINES, COMPLEXITY, PARAMETERS = 400, 60, 12, 7
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
_NO_CODE = {
    tokenize.COMMENT, tokenize.NL, tokenize.NEWLINE, tokenize.INDENT, tokenize.DEDENT, tokenize.ENDMARKER,
}  # fmt: skip

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


def lines_of(function: Function) -> int:
    """Without its docstring: arguments that are described cost nothing."""
    lines = (function.end_lineno or function.lineno) - function.lineno + 1
    first = function.body[0]
    if ast.get_docstring(function) is None:
        return lines
    return lines - ((first.end_lineno or first.lineno) - first.lineno + 1)


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


def code_lines(path: Path) -> int:
    """Lines of code of a file: no docstrings, no comments, no empty lines."""
    text = path.read_text()
    told: set[int] = set()
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant) and isinstance(node.value.value, str):
            told.update(range(node.lineno, (node.end_lineno or node.lineno) + 1))
    code: set[int] = set()
    for token in tokenize.generate_tokens(io.StringIO(text).readline):
        if token.type not in _NO_CODE:
            code.update(range(token.start[0], token.end[0] + 1))
    return len(code - told)


def ruff(*rules: str) -> list[dict[str, Any]]:
    """What breaks the rules, but where a reason stands beside it."""
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
    # Of complexity all is told, so that the worst can be shown.
    command += ["--config", "lint.mccabe.max-complexity=1", "--config", f"lint.pylint.max-args={PARAMETERS}"]
    told: list[dict[str, Any]] = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
    return told


def worst_complexity(told: list[dict[str, Any]]) -> tuple[int, str]:
    """(how complex, which function)"""
    found = [re.search(r"`(.+)` is too complex \((\d+) ", one["message"]) for one in told if one["code"] == "C901"]
    return max(((int(match[2]), match[1]) for match in found if match), default=(0, ""))


def main() -> int:
    known = modules()
    lines = {name: len(path.read_text().splitlines()) for name, path in known.items()}
    parts: dict[str, int] = defaultdict(int)
    code = 0
    for name, count in lines.items():
        first, *rest = name.split(".")
        parts[first] += count
        if first == "core":
            code += code_lines(known[name])
            if len(rest) > 1:
                parts[f"core/{rest[0]}"] += count
    for part, count in sorted(parts.items()):
        if count:
            print(f"{count:7} {part}")
    told = ruff("C901", "PLR0913", "D100", "D101", "D102", "D103")
    long_file, file = max((count, name) for name, count in lines.items())
    long_function, function = max(
        (lines_of(node), f"{name}.{node.name}") for name, path in known.items() for node in functions(path)
    )
    complexity, complex_function = worst_complexity(told)
    circles, names = cycles(known), forbidden(known)
    figures = [
        ("lines of code in core", code, CODE_LINES, ""),
        ("lines of the longest file", long_file, FILE_LINES, file),
        ("lines of the longest function", long_function, FUNCTION_LINES, function),
        ("complexity of the most complex function", complexity, COMPLEXITY, complex_function),
        (f"functions of more than {PARAMETERS} parameters", sum(one["code"] == "PLR0913" for one in told), 0, ""),
        ("import cycles", len(circles), 0, circles[:3] or ""),
        ("names that may not stand", len(names), 0, names[:5] or ""),
        ("public definitions without a docstring", sum(one["code"].startswith("D") for one in told), 0, ""),
    ]
    for what, found, bound, shown in figures:
        print(f"{'ok  ' if found <= bound else 'over'} {found:6}  {what}, at most {bound}" + (f": {shown}" if shown else ""))
    return 1 if any(found > bound for _, found, bound, _ in figures) else 0


if __name__ == "__main__":
    sys.exit(main())
