"""Rules that name something that no record has: a misspelling that would load a column unhashed, or at all."""

from __future__ import annotations

from collections.abc import Iterator

from ..records.names import fold
from ..records.structure import ColumnShape, ObjectShape, TableShape
from .rules import ShapeRules, dotted


def unused_rules(rules: ShapeRules, structure: TableShape) -> list[str]:
    """`rule: name` for each name in `include_columns`, `exclude_columns`, `rename`, `cast` and `hash` that the structure does not have.

    Call it after records were shaped; fields that were left out are known too.
    """
    known = set(_names(structure.root, (), ""))
    later = known | set(rules.compute)
    for old, new in rules.rename.items():
        later.add(dotted(old.rpartition(".")[0], new))
    named = {
        "only": (rules.only or (), known),
        "exclude_columns": (rules.exclude_columns, known),
        "rename": (rules.rename, known),
        "cast": (rules.cast, known),
        "hash": (rules.hash, later),
    }
    return [f"{rule}: {name}" for rule, (names, there) in named.items() for name in sorted(names) if name not in there]


def _names(shape: ObjectShape, path: tuple[str, ...], within: str) -> Iterator[str]:
    for name, node in shape.fields.items():
        yield dotted(within, node.name if isinstance(node, ColumnShape) else fold("_".join((*path, name))))
        if isinstance(node, ObjectShape):
            yield from _names(node, (*path, name), within)
        elif isinstance(node, TableShape):
            yield from _names(node.root, (), dotted(within, node.within))
