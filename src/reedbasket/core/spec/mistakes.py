"""One mistake in a definition: where it stands, what was found, what is allowed."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, dataclass
from difflib import get_close_matches
from typing import Any


@dataclass(frozen=True)
class Mistake:
    """file, line and column (from 1), the dotted path, a sentence, and a stable code `definition.*`."""

    file: str
    line: int
    column: int
    path: str
    message: str
    code: str

    def as_dict(self) -> dict[str, Any]:
        """{field: value}, for JSON."""
        return asdict(self)

    def __str__(self) -> str:
        return f"{self.file}:{self.line}:{self.column}  {self.path}\n  {self.message}  [{self.code}]"


# Keys by the names they had, or that people may try: {word: the keys it may mean}.
OTHER_NAMES = {
    "about": ("description",),
    "at_once": ("concurrency",),
    "base": ("base_url",),
    "besides": ("exclude",),
    "catch_up": ("missed",),
    "codes": ("error_codes",),
    "commit_every": ("rows_per_commit",),
    "conditional": ("conditional_requests",),
    "count": ("parts",),
    "deleted": ("deleted_when",),
    "end": ("until",),
    "first": ("first_wait",),
    "hash_with": ("hash_secret",),
    "keep": ("filter",),
    "key": ("primary_key",),
    "lag": ("delay",),
    "largest": ("max_unpacked",),
    "leave_out": ("exclude_columns",),
    "mail": ("email",),
    "marker": ("ready_file",),
    "memory": ("memory_limit",),
    "most": ("max_wait",),
    "most_runs": ("max_concurrent_runs",),
    "none_at": ("empty_on_status",),
    "noted": ("file_columns",),
    "nulls": ("null_values",),
    "of": ("column",),
    "offset": ("shift",),
    "on": ("type", "events"),
    "only": ("include_columns",),
    "overlap": ("while_running",),
    "pace": ("rate_limit",),
    "pause": ("first_wait",),
    "prefix": ("table_prefix",),
    "ranges": ("parallel_read",),
    "request": ("total",),
    "rest": ("cooldown",),
    "rest_after": ("cooldown_after_failures",),
    "retry": ("retry_runs",),
    "saves": ("own_position",),
    "send": ("query_params",),
    "settle": ("stable_for",),
    "silence": ("idle_timeout",),
    "skip": ("skip_lines",),
    "sort": ("file_order",),
    "span": ("windows_per_run",),
    "start": ("from",),
    "step": ("length",),
    "stop_after": ("max_rejects",),
    "times": ("attempts",),
    "web": ("webhook",),
    "where": ("source_filter",),
    "with": ("add_columns",),
    "zone": ("time_zone",),
}


def nearest(word: str, known: Iterable[str]) -> str:
    """'; the key is "x"' or '; did you mean "x"?' where a known word is meant, else the words allowed, else nothing."""
    words = [str(k) for k in known]
    meant = next((key for key in OTHER_NAMES.get(word, ()) if key in words), None)
    if meant is not None:
        return f'; the key is "{meant}"'
    close = get_close_matches(word, words, n=1, cutoff=0.6)
    if close:
        return f'; did you mean "{close[0]}"?'
    if words:
        return f"; allowed: {', '.join(sorted(words))}"
    return ""
