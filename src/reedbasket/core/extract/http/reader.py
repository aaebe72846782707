"""Reads one endpoint page by page."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import urlencode

import jmespath

from ...errors import BodyUnreadable
from ...spec import template
from ...spec.model import HttpTable
from ..chunk import Chunk
from . import json_body
from .pages import TokenPages, pick_records
from .send import Sender


class HttpReader:
    """One pass over one table: request, pick the records, find the next page, until there is none.

    values: what templates may name, flat: {"settings.url": ..., "cursor.from": datetime | None, ...}.
    """

    def __init__(self, name: str, base: str, rule: HttpTable, sender: Sender, values: Mapping[str, Any]) -> None:
        self._doing = f"reading {name}"
        self._base = base
        self._rule = rule
        self._sender = sender
        self._values = values
        self._find = jmespath.compile(rule.records)
        self._total = jmespath.compile(rule.total) if rule.total else None

    def first_url(self) -> str:
        """The first request's address. A parameter whose name has no value yet (no cursor) is left out."""
        return self._url({})

    def chunks(self) -> Iterator[Chunk]:
        """Chunks in the source's order. Raises SourceError, RunCancelled; what was yielded before stays good."""
        pages = TokenPages(self._rule.next, self._doing) if self._rule.next else None
        more: dict[str, str] | None = {}
        while more is not None:
            url = self._url(more)
            raw = self._sender.get(url, self._doing)
            body, suspicious = self._parse(raw, url)
            records, misfits = pick_records(self._find, self._rule.records, body, self._doing)
            more = pages.after(body) if pages else None
            total = self._total.search(body) if self._total else None
            yield Chunk(records, len(raw), misfits, total if type(total) is int else None, suspicious)

    def _url(self, more: Mapping[str, str]) -> str:
        path = template.fill(self._rule.get, self._values) or ""
        sent = {name: template.fill(text, self._values) for name, text in self._rule.send.items()}
        query = {name: text for name, text in sent.items() if text is not None} | dict(more)
        return self._base.rstrip("/") + "/" + path.lstrip("/") + ("?" + urlencode(query, safe=":") if query else "")

    def _parse(self, raw: bytes, url: str) -> tuple[Any, bool]:
        try:
            return json_body.parse(raw)
        except (ValueError, RecursionError) as error:
            start = raw[:80].decode("utf-8", "replace")
            raise BodyUnreadable(
                self._doing,
                url,
                found=f"a page of {len(raw)} bytes that is not JSON ({error}); it starts {start!r}",
                mend="check path and headers; some sources answer errors as HTML with status 200",
            ) from error
