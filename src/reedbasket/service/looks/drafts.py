"""Definitions that are being written, as if they were in force."""

from __future__ import annotations

from ...core.extract.code.described import described
from ...core.spec import Basket, load_texts
from ...core.spec.model import KINDS
from ...store import Store, definitions

DRAFT_FILE = "draft.yaml"


def basket_of(store: Store, draft: str) -> Basket:
    """What is in force, with a draft over it: YAML of any definitions; '' for none. Raises DefinitionError."""
    known = definitions.basket(store)
    if not draft:
        return known
    new = load_texts({DRAFT_FILE: draft}, known, describe=described)
    together = Basket(documents=new.documents)
    for kind in KINDS:
        together.of_kind(kind).update({**known.of_kind(kind), **new.of_kind(kind)})
    return together
