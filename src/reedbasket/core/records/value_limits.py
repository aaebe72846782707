"""Values that not every warehouse can hold."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class ValueLimits:
    """What a warehouse can hold; a record with something else is rejected.

    Attributes:
        nul_in_text: text may contain U+0000.
        not_finite: a double may be NaN or infinite.
    """

    nul_in_text: bool = True
    not_finite: bool = True
