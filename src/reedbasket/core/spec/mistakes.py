"""One mistake in a definition: where it is, what was found, what is allowed."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, dataclass
from difflib import get_close_matches
from typing import Any


@dataclass(frozen=True)
class Mistake:
    """File, line and column (from 1), the dotted path, a sentence, and a stable code `definition.*`."""

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
    "as": ("param",),
    "at_once": ("concurrency",),
    "base": ("base_url",),
    "bearer": ("type",),
    "besides": ("exclude",),
    "catch_up": ("missed",),
    "clean": ("derived",),
    "codes": ("error_codes",),
    "columns": ("new_column",),
    "commit_every": ("rows_per_commit",),
    "conditional": ("conditional_requests",),
    "count": ("parts",),
    "csv": ("type",),
    "deleted": ("deleted_when",),
    "drift": ("on_drift",),
    "each": ("for_values",),
    "end": ("until",),
    "first": ("first_wait",),
    "fixed": ("type",),
    "for_each": ("parent",),
    "hash_with": ("hash_secret",),
    "keep": ("filter",),
    "key": ("primary_key",),
    "lag": ("delay",),
    "largest": ("max_unpacked",),
    "last": ("by",),
    "leave_out": ("exclude_columns",),
    "link": ("by",),
    "mail": ("email",),
    "marker": ("ready_file",),
    "memory": ("memory_limit",),
    "missing_tables": ("missing_table",),
    "most": ("max_wait",),
    "most_runs": ("max_concurrent_runs",),
    "next": ("pagination",),
    "none_at": ("empty_on_status",),
    "noted": ("file_columns",),
    "nulls": ("null_values",),
    "oauth": ("type",),
    "of": ("column",),
    "offset": ("shift", "by"),
    "on": ("type", "events"),
    "only": ("include_columns",),
    "overlap": ("while_running",),
    "pace": ("rate_limit",),
    "page": ("by",),
    "pages": ("total_pages",),
    "parameters": ("variants",),
    "parents": ("parent",),
    "path": ("get",),
    "pause": ("first_wait",),
    "prefix": ("table_prefix",),
    "ranges": ("parallel_read",),
    "request": ("get", "total"),
    "rest": ("cooldown",),
    "rest_after": ("cooldown_after_failures",),
    "retry": ("retry_runs",),
    "saves": ("own_position",),
    "send": ("query_params",),
    "settle": ("stable_for",),
    "sign": ("type",),
    "silence": ("idle_timeout",),
    "size_as": ("size_param",),
    "skip": ("skip_lines",),
    "sort": ("file_order",),
    "span": ("windows_per_run",),
    "start": ("from", "first_page", "first_offset"),
    "step": ("length",),
    "stop_after": ("max_rejects",),
    "tables": ("new_table",),
    "times": ("attempts",),
    "token": ("by",),
    "token_header": ("by",),
    "types": ("changed_type",),
    "url": ("base_url", "by"),
    "url_header": ("by",),
    "web": ("webhook",),
    "where": ("source_filter",),
    "with": ("add_columns",),
    "xlsx": ("type",),
    "zone": ("time_zone",),
}
# What stands somewhere else now, in words.
_ELSEWHERE = {"defaults": "changes"}


def nearest(word: str, known: Iterable[str]) -> str:
    """'; the key is "x"' or '; did you mean "x"?' if a known word is close, otherwise the allowed words, or nothing."""
    words = [str(k) for k in known]
    if _ELSEWHERE.get(word) in words:
        return "; write its keys on the feed itself"
    meant = next((key for key in OTHER_NAMES.get(word, ()) if key in words), None)
    if meant is not None:
        return f'; the key is "{meant}"'
    close = get_close_matches(word, words, n=1, cutoff=0.6)
    if close:
        return f'; did you mean "{close[0]}"?'
    if words:
        return f"; allowed: {', '.join(sorted(words))}"
    return ""
