"""Reads one endpoint page by page."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator, Mapping
from dataclasses import replace
from typing import Any

import jmespath

from ...errors import BodyUnreadable
from ...shape.lane import Expected
from ...spec import template
from ...spec.http import HttpTable
from ..chunk import Chunk
from .ahead import Ahead
from .answers import Answer
from .body import Opened, Opener, Part
from .column_body import ColumnBodies
from .pages import Page, Pages, Step, pages_for
from .request import Request, Requests
from .send import Sender

_ALWAYS_GOOD = frozenset({200, 204})
# What APIs answer to the page behind the last.
_NO_SUCH_PAGE = frozenset({400, 404, 416, 422})


class HttpReader:
    """One pass over one table: request, pick the records, find the next page, until there is none.

    values: what templates may name, flat: {"settings.url": ..., "cursor.from": datetime | None, ...}. known: what `tag` was after
    the last pass, for a table that asks with If-None-Match. After a pass, `unchanged` says whether the source answered that
    nothing did, and `tag` is what to ask with next time.
    """

    def __init__(
        self,
        name: str,
        base: str,
        rule: HttpTable,
        sender: Sender,
        values: Mapping[str, Any],
        *,
        known: str | None = None,
        at_once: int | None = None,
        expected: Callable[[], Expected | None] | None = None,
    ) -> None:
        """expected: what the records are expected to be by now, so that they may be read as columns."""
        self._name = name
        self._doing = f"reading {name}"
        self._rule = rule
        self._sender = sender
        self._values = values
        self._at_once = at_once or sender.at_once
        self._requests = Requests(base, rule)
        self._opener = Opener(rule, self._doing, _columns(rule, expected) if expected else None)
        self._total = jmespath.compile(rule.total).search if rule.total else None
        self._known = known if rule.conditional else None
        self._good = _ALWAYS_GOOD | set(rule.none_at) | ({304} if self._known else set())
        self.unchanged = False
        self.tag: str | None = None

    def first_request(self) -> Request:
        """The first request. A parameter whose name has no value yet (no cursor) is left out."""
        return self._make(self._pages().first() if self._rule.next else Step())

    def chunks(self) -> Iterator[Chunk]:
        """Chunks in the source's order. Raises SourceError, RunCancelled; what was yielded before stays good."""
        pages = self._pages() if self._rule.next else None
        step: Step | None = pages.first() if pages else Step()
        ahead = Ahead(self._send, self._make, self._at_once, self._name)
        try:
            while step is not None:
                request = self._make(step)
                url, answer = request.url, ahead.get(step, request)
                if answer.status != 200:
                    self.unchanged, self.tag = answer.status == 304, self._known
                    yield Chunk([], len(answer.body), [])
                    return
                self.tag = answer.headers.get("etag") or answer.headers.get("last-modified")
                step = yield from self._one(answer, url, pages)
                if step is not None and pages is not None and self._at_once > 1:
                    ahead.early(pages.ahead(self._at_once), len(answer.body))
        finally:
            ahead.close(wait=not self._sender.stop.is_set())

    def _one(self, answer: Answer, url: str, pages: Pages | None) -> Generator[Chunk, None, Step | None]:
        """The chunks of one page. The last is held back until it is known what comes next, so that a page which runs in a circle
        is not taken."""
        opened = self._open(answer, url)
        said = self._total(opened.envelope) if self._total else None
        total = said if type(said) is int else None
        held: Part | None = None
        count, last = 0, None
        for part in self._guarded(opened, answer, url):
            if held is not None:
                yield _chunk(held, total)
            held = part
            count += len(part.records) + len(part.misfits)
            if self._rule.next is not None and self._rule.next.last is not None and part.records:
                last = part.records[-1]
        step = None
        if pages is not None:
            step = pages.after(Page(answer.url or url, answer.headers, opened.envelope, answer.body, count, last, total))
        yield _chunk(held or Part([], [], False, len(answer.body)), total)
        return step

    def _pages(self) -> Pages:
        assert self._rule.next is not None
        return pages_for(self._rule.next, self._doing)

    def _make(self, step: Step) -> Request:
        request = self._requests.make(self._values, step)
        if self._known:
            how = "if-none-match" if self._known.startswith(('"', "W/")) else "if-modified-since"
            request = replace(request, headers={**request.headers, how: self._known})
        return request

    def _send(self, request: Request) -> Answer:
        good = self._good | _NO_SUCH_PAGE if request.beyond else self._good
        return self._sender.send(request, self._doing, good)

    def _open(self, answer: Answer, url: str) -> Opened:
        try:
            return self._opener.open(answer.body, answer.headers)
        except (ValueError, RecursionError) as error:
            raise self._unreadable(answer, url, error) from error

    def _guarded(self, opened: Opened, answer: Answer, url: str) -> Iterator[Part]:
        """The parts, with the columns copied in. Those that cannot be read raise as the whole would."""
        copied = {f: template.value_of(text, self._values) for f, text in self._rule.copied.items()}
        try:
            for part in opened.parts:
                for record in part.records if copied else ():
                    record.update(copied)
                yield part
        except (ValueError, RecursionError) as error:
            raise self._unreadable(answer, url, error) from error

    def _unreadable(self, answer: Answer, url: str, error: Exception) -> BodyUnreadable:
        start = answer.body[:80].decode("utf-8", "replace")
        name = {"json": "JSON", "ndjson": "NDJSON", "csv": "CSV", "xml": "XML"}[self._rule.format.name]
        return BodyUnreadable(
            self._doing,
            url,
            found=f"a page of {len(answer.body)} bytes that is not {name} ({error}); it starts {start!r}",
            mend="check path and headers; some sources answer errors as HTML with status 200",
        )


def _columns(rule: HttpTable, expected: Callable[[], Expected | None]) -> ColumnBodies | None:
    """None where records are looked at one by one anyway: for the columns copied into them, or the last of a page."""
    following = rule.next
    if rule.copied or rule.format.name != "json" or (following is not None and following.last is not None):
        return None
    paths = [rule.total, *([following.token, following.url, following.pages] if following is not None else [])]
    return ColumnBodies(expected, rule.records, [path for path in paths if path is not None])


def _chunk(part: Part, total: int | None) -> Chunk:
    return Chunk(part.records, part.body_bytes, part.misfits, total, part.suspicious)
