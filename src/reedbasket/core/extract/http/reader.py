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
from .pages import Page, Pages, Step, pages_for, pick_records
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
        return self._url(self._pages().first() if self._rule.next else Step())

    def chunks(self) -> Iterator[Chunk]:
        """Chunks in the source's order. Raises SourceError, RunCancelled; what was yielded before stays good."""
        pages = self._pages() if self._rule.next else None
        step: Step | None = pages.first() if pages else Step()
        while step is not None:
            url = self._url(step)
            answer = self._sender.get(url, self._doing)
            body, suspicious = self._parse(answer.body, url)
            records, misfits = pick_records(self._find, self._rule.records, body, self._doing)
            said = self._total.search(body) if self._total else None
            total = said if type(said) is int else None
            step = None
            if pages:
                last = records[-1] if records else None
                count = len(records) + len(misfits)
                step = pages.after(Page(url, answer.headers, body, answer.body, count, last, total))
            yield Chunk(records, len(answer.body), misfits, total, suspicious)

    def _pages(self) -> Pages:
        assert self._rule.next is not None
        return pages_for(self._rule.next, self._doing)

    def _url(self, step: Step) -> str:
        if step.url is not None:
            return step.url
        path = template.fill(self._rule.get, self._values) or ""
        sent = {name: template.fill(text, self._values) for name, text in self._rule.send.items()}
        query = {name: text for name, text in sent.items() if text is not None} | dict(step.params)
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
