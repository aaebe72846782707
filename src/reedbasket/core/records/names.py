"""Names in the warehouse: snake_case, plain ASCII if a letter has an ASCII form, never longer than the limit, never twice.

The same source name always becomes the same column, whatever arrived before it: the name is recorded with the table's structure, and the
later of two names that would become the same gets a suffix made from its own spelling.
"""

from __future__ import annotations

import hashlib
import re
import unicodedata
from collections.abc import Container

# The shortest limit of the engines we load into (PostgreSQL: 63 bytes).
LONGEST_NAME_BYTES = 63

_WORD_EDGE = re.compile(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])")


def fold(name: str) -> str:
    """'userName' -> 'user_name', 'Größe (cm)' -> 'grosse_cm', '24h' -> 'x24h', '_rb_ledger_line' -> 'x_rb_ledger_line', '' -> 'x'.

    Letters without an ASCII form stay as they are, so that names in other scripts remain readable.
    """
    text = name.replace("ß", "ss").replace("ẞ", "SS").replace("æ", "ae").replace("ø", "o").replace("ł", "l")
    text = "".join(c for c in unicodedata.normalize("NFKD", text) if not unicodedata.combining(c))
    text = _WORD_EDGE.sub("_", unicodedata.normalize("NFKC", text))
    text = re.sub(r"\W+", "_", text).lower()
    text = re.sub(r"__+", "_", text)
    own = text.startswith("_rb_")
    text = text.rstrip("_") if own else text.strip("_")
    if not text or text[0].isdigit() or own:
        text = "x" + text
    return text


def claim(name: str, taken: Container[str], source: str) -> str:
    """A free column name for a source name: folded, cut to the limit, with a suffix from its spelling if it is taken."""
    plain = fold(name)
    if len(plain.encode()) <= LONGEST_NAME_BYTES and plain not in taken:
        return plain
    suffix = "_" + hashlib.sha256(source.encode("utf-8", "surrogatepass")).hexdigest()[:6]
    cut = plain.encode()[: LONGEST_NAME_BYTES - len(suffix)].decode("utf-8", "ignore")
    return cut + suffix
