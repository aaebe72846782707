"""explain: what a code means."""

from __future__ import annotations

import argparse
import json
import sys
from difflib import get_close_matches
from importlib.resources import files


def codes() -> dict[str, str]:
    """{code: what it means}."""
    import yaml

    groups = yaml.safe_load(files("reedbasket").joinpath("codes.yaml").read_text("utf-8"))
    return {f"{group}.{name}": means for group, of_it in groups.items() for name, means in of_it.items()}


def explain(options: argparse.Namespace) -> int:
    """`reed explain`: one code, a group of them, or all."""
    known = codes()
    asked = options.code.rstrip(".") if options.code else ""
    found = {code: means for code, means in known.items() if not asked or code == asked or code.startswith(asked + ".")}
    if not found:
        near = get_close_matches(asked, known, n=3, cutoff=0.5)
        print(f"reed: there is no code {asked}" + (f"; did you mean {' or '.join(near)}?" if near else ""), file=sys.stderr)
        return 1
    if options.json:
        print(json.dumps(found, indent=1, ensure_ascii=False))
    elif asked in found:
        print(found[asked])
    else:
        wide = max(map(len, found))
        print("\n".join(f"{code:{wide}}  {means}" for code, means in found.items()))
    return 0
