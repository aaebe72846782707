"""Regular expressions that people write, on an engine whose time grows only with the text (RE2, as Arrow has it)."""

from __future__ import annotations


def problem_of(expression: str) -> str:
    """Why an expression is not valid, in words; '' if it is. There is no lookaround, and there are no back-references."""
    import pyarrow as pa

    try:
        matches(expression, "")
    except pa.ArrowInvalid as error:
        return str(error).removeprefix("Invalid regular expression: ")
    return ""


def matches(expression: str, text: str) -> bool:
    """Whether the whole text matches."""
    import pyarrow as pa
    import pyarrow.compute as pc

    return bool(pc.match_substring_regex(pa.scalar(text), pattern=rf"\A(?:{expression})\z").as_py())
