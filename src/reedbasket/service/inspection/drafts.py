"""Definitions that are being written, as if they were in force."""

from __future__ import annotations

from ...core.spec import Basket, load_texts
from ...store import Store, definitions
from ..whose_code import describing

DRAFT_FILE = "draft.yaml"


def basket_of(store: Store, draft: str) -> Basket:
    """The definitions in force, overridden by a draft.

    Args:
        draft: YAML of any definitions; '' for none.

    Raises:
        DefinitionError: the draft has mistakes.
    """
    known = definitions.basket(store)
    if not draft:
        return known
    new = load_texts(
        {DRAFT_FILE: draft}, known, describe=describing("somebody who tries a draft", "editor", known), places=store.places
    )
    return new.over(known)
