"""The house rules that a machine can hold."""

from __future__ import annotations

import ast
import importlib
import pickle
import pkgutil
from pathlib import Path
from typing import Any

import pytest

import reedbasket
from reedbasket.core import errors, kinds
from tests import house

ROOT = Path(reedbasket.__file__).parent

# "imports point downwards only: cli -> client; service -> store, core; core -> nothing of ours"
MAY_IMPORT = {
    "core": {"core"},
    "store": {"store", "core", "wire"},
    "service": {"service", "store", "core", "wire", "__version__"},
    "client": {"client", "wire"},
    "kit": {"kit", "core"},
    "contracts": {"contracts", "core"},
    "demo": {"demo", "service", "client", "core"},
    "cli": {"cli", "client", "wire", "service", "demo", "core", "kit"},
}
INTERFACE = {"flask", "argparse", "waitress", "werkzeug", "rich"}


def imports_of(path: Path) -> set[str]:
    """Absolute dotted names of what a module imports."""
    package = ["reedbasket", *path.relative_to(ROOT).parts[:-1]]
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            base = package[: len(package) - node.level + 1] if node.level else []
            module = ".".join([*base, *(node.module.split(".") if node.module else [])])
            found |= {f"{module}.{alias.name}" for alias in node.names} if module == "reedbasket" else {module}
    return found


@pytest.mark.slow
@pytest.mark.parametrize("part", sorted(MAY_IMPORT))
def test_imports_point_downwards(part: str) -> None:
    for path in (ROOT / part).rglob("*.py"):
        for name in imports_of(path):
            if name.startswith("reedbasket."):
                assert name.split(".")[1] in MAY_IMPORT[part], f"{path.relative_to(ROOT)} imports {name}"
            if part in ("core", "store"):
                assert name.split(".")[0] not in INTERFACE, f"{path.relative_to(ROOT)} imports {name}"


# Within core. What stands on one line may not import one another; every part may import the modules of core itself.
LEVELS = (("records",), ("spec", "shaping"), ("sources", "warehouses"), ("changes",), ("runs",))
RUN_LEVELS = ("planning", "checkpoints", "execution", "inspection")
# Kinds of source know nothing of each other, but for a connector in Python, which asks over HTTP and hands on files' records.
KINDS = {"sources": {"http", "postgres", "mysql", "sqlite", "files"}, "warehouses": {"postgres", "sqlite", "duckdb"}}


@pytest.mark.slow
def test_the_parts_of_core_import_downwards_only() -> None:
    rank = {part: number for number, line in enumerate(LEVELS) for part in line}
    for path in sorted((ROOT / "core").rglob("*.py")):
        here = path.relative_to(ROOT / "core").as_posix()
        part, kind = [*here.split("/"), ""][:2]
        for name in sorted(imports_of(path)):
            target = [*name.removeprefix("reedbasket.core").strip(".").split("."), ""]
            if not name.startswith("reedbasket.core") or target[0] not in rank:
                continue
            about = f"{here} imports {name}"
            if part not in rank:  # a module of core itself: of definitions only where a database is
                assert target[:2] == ["spec", "database_address"], about
            elif part != target[0]:
                assert rank[target[0]] < rank[part], about
            elif part in KINDS and kind in KINDS[part]:
                assert target[1] not in KINDS[part] - {kind}, about
            elif part == "runs" and kind in RUN_LEVELS and target[1] in RUN_LEVELS:
                assert RUN_LEVELS.index(target[1]) <= RUN_LEVELS.index(kind), about


def packages_of_kinds() -> dict[str, set[str]]:
    """{kind of a database or a store: the packages that are its own}."""
    found: dict[str, set[str]] = {}
    for registry in (kinds.SOURCES, kinds.WAREHOUSES, kinds.STORES):
        for name, at in registry._shipped.items():
            module = at.partition(":")[0].removesuffix(".definition")
            found.setdefault(name, set()).add(module)
    return {name: modules for name, modules in found.items() if name not in ("files", kinds.FOLDER, "http", "https")}


# A file of its own making, which an extract is loaded into.
SCRATCH = {"runs/execution/extract.py"}


@pytest.mark.slow
def test_a_kind_is_named_in_its_own_package_alone() -> None:
    """Neither imported nor told apart elsewhere: the registry (`core/kinds.py`) names the modules as text."""
    own = packages_of_kinds()
    found = set()
    for path in sorted((ROOT / "core").rglob("*.py")):
        here = path.relative_to(ROOT / "core").as_posix()
        module = "reedbasket.core." + here.removesuffix(".py").replace("/", ".")
        imported = imports_of(path)
        texts = {node.value for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.Constant)}
        for kind, packages in own.items():
            if any(module.startswith(package) for package in packages) or here == "kinds.py":
                continue
            if kind in texts or any(f"{name}.".startswith(f"{package}.") for name in imported for package in packages):
                found.add(here)
    assert found == SCRATCH


@pytest.mark.slow
def test_no_module_needs_itself_and_no_name_is_a_riddle() -> None:
    known = house.modules()
    assert house.cycles(known) == []
    assert house.forbidden(known) == []


def test_the_services_own_process_opens_no_secret() -> None:
    """Only workers, and the processes that look for people, do: by name nothing else of the service can reveal or unseal one, and no view
    calls a look itself."""
    service = ROOT / "service"
    may = {service / "worker.py", service / "run_context.py", *(service / "inspection").glob("*.py")}
    for path in service.rglob("*.py"):
        tree = ast.parse(path.read_text())
        if path not in may:
            names = {node.attr for node in ast.walk(tree) if isinstance(node, ast.Attribute)}
            assert not names & {"reveal", "reveal_secret", "unseal", "take_errand", "StoreVault"}, path
            assert "reedbasket.service.run_context" not in imports_of(path), path
        for node in ast.walk(tree):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
                assert ast.unparse(node.func.value) != "inspection", f"{path.name}: {ast.unparse(node)}"


def test_each_part_states_its_import_rule() -> None:
    for part in MAY_IMPORT:
        assert "May import:" in (importlib.import_module(f"reedbasket.{part}").__doc__ or "")


def error_classes() -> list[type[errors.ReedError]]:
    for module in pkgutil.walk_packages(reedbasket.__path__, "reedbasket."):
        if not module.name.endswith(("__main__", ".main")) and ".demo.standins" not in module.name:
            importlib.import_module(module.name)
    found: list[type[errors.ReedError]] = []
    waiting: list[type[errors.ReedError]] = [errors.ReedError]
    while waiting:
        kind = waiting.pop()
        found.append(kind)
        waiting += kind.__subclasses__()
    return found


def test_every_error_survives_pickling_and_has_a_code_of_its_own() -> None:
    kinds = error_classes()
    assert len(kinds) > 20
    for kind in kinds:
        error = kind("doing", "on it", found="this", fix="do that", wait_seconds=3.0, details={"a": 1})
        back = pickle.loads(pickle.dumps(error))
        assert type(back) is kind
        assert back.as_dict() == error.as_dict()
        assert str(back) == "doing on it: this. Do that"
    codes = [kind.code for kind in kinds]
    assert len(set(codes)) == len(codes)


def test_the_public_surface_is_short_and_sorted() -> None:
    for name in ("client", "core.spec", "core.runs", "core.warehouses", "core.shaping"):
        listed = importlib.import_module(f"reedbasket.{name}").__all__
        assert listed == sorted(listed)
        assert len(listed) <= 10


@pytest.mark.slow
def test_no_file_and_no_function_is_longer_than_one_idea() -> None:
    known = house.modules()
    long = [
        f"{name}: {count} lines"
        for name, path in known.items()
        if (count := len(path.read_text().splitlines())) > house.FILE_LINES
    ]
    long += [
        f"{name}.{one.name}: {count} lines"
        for name, path in known.items()
        for one in house.functions(path)
        if (count := house.lines_of(one)) > house.FUNCTION_LINES
    ]
    assert not long


def test_every_view_says_what_it_answers() -> None:
    """The document, the console's types and mypy go by the view's own return type."""
    importlib.import_module("reedbasket.service.app")
    from reedbasket.service.views.shared import operations

    assert len(operations.all) > 60
    assert [one.name for one in operations.all if one.answer is Any] == []
