"""connector new, connector try, connector check: without the service."""

from __future__ import annotations

import argparse
import json
import os
import sys
import tempfile
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from . import show
from .complaints import complain

if TYPE_CHECKING:
    from ..core.runs import TableProgress
    from ..core.warehouses import Warehouse
    from ..kit.connector_check import PromiseResult
    from ..kit.standalone import StandaloneRun

_LOOK_SECONDS = 0.5
ANSWERS, TRIAL = "answers", ".trial"


def new(options: argparse.Namespace) -> int:
    """`reed connector new`: a folder to begin with."""
    from ..kit.new import examples, like, written

    if options.like and options.like not in examples():
        print(
            f"reed: there is no shipped connector {options.like}; there are {', '.join(examples())}  [connector.no_example]",
            file=sys.stderr,
        )
        return 1
    folder = Path(options.folder or options.name)
    if folder.exists() and any(folder.iterdir()):
        print(
            f"reed: cannot create the connector in {folder}: the folder is not empty. "
            "Choose another --folder  [connector.folder_not_empty]",
            file=sys.stderr,
        )
        return 1
    folder.mkdir(parents=True, exist_ok=True)
    files = like(options.like, options.name) if options.like else written(options.name, python=options.python)
    for name, text in files.items():
        (folder / name).parent.mkdir(exist_ok=True)
        (folder / name).write_text(text, "utf-8")
    print(f"Made {folder}: {', '.join(sorted(p.name for p in folder.iterdir()))}.")
    print(f"Describe your source in source.yaml and complete the connector, then run: reed connector try {folder}")
    return 0


def attempt(options: argparse.Namespace) -> int:
    """`reed connector try`; `try` is a keyword of Python."""
    folder = Path(options.folder)
    if not options.watch:
        return _try(options, folder)
    seen = -1.0
    while True:
        latest = max((p.stat().st_mtime for p in folder.glob("*") if p.suffix in (".yaml", ".yml", ".py")), default=0.0)
        if latest != seen:
            seen = latest
            print(show.heading(f"{time.strftime('%H:%M:%S')}  {folder}"))
            try:
                _try(options, folder)
            except Exception as error:
                if not isinstance(getattr(error, "code", None), str):
                    raise
                complain(error)
            print("Waiting for the next save; Ctrl-C ends it.", flush=True)
        time.sleep(_LOOK_SECONDS)


def _try(options: argparse.Namespace, folder: Path) -> int:
    from ..kit.standalone import FEED, RecordingListener, opened, well

    trial = folder / TRIAL
    if options.from_start and trial.exists():
        for old in trial.glob("scratch.*"):
            old.unlink()
    alone = opened(
        folder,
        trial,
        _made_up if options.replay else _reveal,
        source=options.source,
        tables=options.tables,
        file=f"scratch.{options.into}",
        tape=_tape(options, folder),
    )
    kept = RecordingListener()
    result = alone.run(kept)
    for level, code, message, of in kept.lines:
        if level != "info" or code.startswith("connector."):
            print(f"{'!' if level == 'warning' else '✗' if level == 'error' else ' '} {of or '':<12} {message}  [{code}]")
    warehouse = alone.warehouse()
    positions: dict[str, Any] = {}
    try:
        for table in result.tables:
            state = warehouse.state(FEED, table.table)
            cursor = state.cursor if state else None
            positions[table.table] = {"kind": cursor.kind, "value": cursor.shown} if cursor else None
            _show_tried(table, f"; saved position: {cursor.shown}" if cursor else "", warehouse, options.rows)
    finally:
        warehouse.close()
    (trial / "positions.json").write_text(json.dumps(positions, indent=1, ensure_ascii=False) + "\n", "utf-8")
    print(
        f"\nRows in {trial / f'scratch.{options.into}'}, positions in {trial / 'positions.json'}; use --from-start to start over."
    )
    if result.error:
        error = result.error
        print(f"reed: {error['doing']} {error['on']}: {error['found']}. {error['fix']}  [{error['code']}]", file=sys.stderr)
    return 0 if well(result) else 1


def _show_tried(table: TableProgress, position: str, warehouse: Warehouse, rows: int) -> None:
    """What came of one table: how many, the first of them, and what its columns hold."""
    from ..core.warehouses.profile import profile

    came = f"{show.count(table.read)} read, {show.count(table.inserted)} inserted, {show.plural(table.requests, 'request')}"
    print(show.heading(f"\n{table.table}: {came}{position}"))
    if not warehouse.existing(table.target):
        return
    found = warehouse.rows(table.target, limit=rows)
    columns = [n for n, _ in found.columns if not n.startswith("_rb_")]
    places = [n for n, (name, _) in enumerate(found.columns) if name in columns]
    show.table(columns, [[_cell(row[n]) for n in places] for row in found.rows], empty="no rows")
    _, profiled = profile(warehouse, table.target)
    print()
    lines = [(c.name, c.type, c.nulls, c.distinct, c.min or "", c.max or "") for c in profiled if not c.name.startswith("_rb_")]
    show.table(["column", "type", "nulls", "distinct", "min", "max"], lines, empty="", right=["nulls", "distinct"])


def check(options: argparse.Namespace) -> int:
    """`reed connector check`."""
    from ..kit.connector_check import prove
    from ..kit.standalone import opened

    folder = Path(options.folder)
    with tempfile.TemporaryDirectory(prefix="reed-check-") as scratch:
        alone: StandaloneRun = opened(
            folder,
            Path(scratch),
            _made_up if options.replay else _reveal,
            source=options.source,
            tables=options.tables,
            tape=_tape(options, folder),
        )
        proofs = prove(alone, _told if options.format == "text" and not options.to_file else lambda proof: None)
    failed = sum(proof.ok is False for proof in proofs)
    text = {"json": _as_json, "junit": _as_junit, "text": _as_text}[options.format](alone.source, proofs)
    if options.to_file:
        Path(options.to_file).write_text(text, "utf-8")
    elif options.format != "text":
        print(text, end="")
    if options.format == "text" or options.to_file:
        tried = sum(proof.ok is not None for proof in proofs)
        print(
            f"{show.plural(tried, 'promise')} tried, {failed} broken."
            + (f" Report in {options.to_file}." if options.to_file else "")
        )
    return 1 if failed else 0


def _told(proof: PromiseResult) -> None:
    print(_line(proof), flush=True)


def _line(proof: PromiseResult) -> str:
    mark = {True: "✓", False: "✗", None: "·"}[proof.ok]
    colour = {True: "green", False: "red", None: ""}[proof.ok]
    line = f"{show.coloured(mark, colour)} {proof.table + ': ' if proof.table else ''}{proof.promise} — {proof.found}"
    return line + (f"\n    {proof.fix}" if proof.ok is False and proof.fix else "")


def _as_text(source: str, proofs: list[PromiseResult]) -> str:
    return "".join(_line(proof) + "\n" for proof in proofs)


def _as_json(source: str, proofs: list[PromiseResult]) -> str:
    return json.dumps({"source": source, "proofs": [proof.as_dict() for proof in proofs]}, indent=1, ensure_ascii=False) + "\n"


def _as_junit(source: str, proofs: list[PromiseResult]) -> str:
    """JUnit's XML, as build servers read it."""
    from xml.etree import ElementTree as xml

    suite = xml.Element("testsuite", name=f"connector check {source}", tests=str(len(proofs)))
    suite.set("failures", str(sum(proof.ok is False for proof in proofs)))
    suite.set("skipped", str(sum(proof.ok is None for proof in proofs)))
    for proof in proofs:
        case = xml.SubElement(
            suite, "testcase", classname=proof.table or source, name=proof.promise, time=f"{proof.seconds:.3f}"
        )
        if proof.ok is False:
            xml.SubElement(case, "failure", message=proof.found).text = proof.fix
        elif proof.ok is None:
            xml.SubElement(case, "skipped", message=proof.found)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + xml.tostring(suite, encoding="unicode") + "\n"


def _tape(options: argparse.Namespace, folder: Path) -> Any:
    if not (options.record or options.replay):
        return None
    from ..core.sources.http.recording import Recording

    return Recording(folder / ANSWERS, "record" if options.record else "replay")


def _made_up(name: str) -> str:
    """What was recorded is as good with any."""
    return f"recorded-{name}"


def _reveal(name: str) -> str:
    from ..core.errors import SecretMissing

    value = os.environ.get(f"REED_SECRET_{name.upper()}")
    if value is None:
        raise SecretMissing(
            "decrypting the secret", name, found="it is not set", fix=f"set the environment variable REED_SECRET_{name.upper()}"
        )
    return value


def _cell(value: Any) -> str:
    text = "" if value is None else str(value)
    return text if len(text) <= 32 else text[:31] + "…"
