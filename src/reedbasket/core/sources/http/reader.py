"""Reading one endpoint page by page."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import jmespath
import orjson

from ...errors import BodyUnreadable, Incomplete, PagesMoved, RecordsNotFound
from ...records.column_records import ColumnRecords, chosen, value_at
from ...shaping.fast_path import ExpectedColumns
from ...spec import template
from ...spec.connector import body_values
from ...spec.http import HttpTable
from ..chunk import Chunk
from ..json_columns import ColumnBodies
from ..required_fields import RequiredFields
from .answers import Answer
from .body import BodyOpener, OpenBody, Part
from .completeness import doubt, missing_of, total_in
from .pagination.pages import Page, Pages, Step
from .prefetch import Ahead
from .request import Request, Requests
from .sender import Sender

_ALWAYS_GOOD = frozenset({200, 204})
# What APIs answer to the page behind the last.
_NO_SUCH_PAGE = frozenset({400, 404, 416, 422})


def _say_nothing(level: Any, code: str, words: str) -> None:
    """Where nobody listens."""


@dataclass(frozen=True)
class CompletenessPolicy:
    """What depends on a pass being complete, and who is told about doubts.

    Attributes:
        removes: rows that do not come are removed from the warehouse.
        moves: a cursor moves past what came.
        accept: somebody accepted that the run goes on all the same.
        fields: what records must have, so that not all of them may lack it: the key, and the cursor's column.
        appends: a record that comes twice is loaded twice.
        told: is called with (level, code, text).
    """

    removes: bool = False
    appends: bool = False
    moves: bool = False
    accept: bool = False
    key: tuple[str, ...] = ()
    cursor: str | None = None
    told: Callable[[Any, str, str], None] = _say_nothing

    @property
    def fields(self) -> list[str]:
        """The fields that a table's records must have: its key and its cursor."""
        return [*self.key, *([self.cursor] if self.cursor is not None else [])]


class HttpReader:
    """One pass over one table: send a request, pick the records, find the next page, until there is none.

    After a pass, `unchanged` tells whether the source answered that nothing has changed, and `tag` is what to send next time.

    Args:
        values: what templates may name, flat: {"settings.url": ..., "cursor.from": datetime | None, ...}.
        known: the `tag` after the last pass, for tables that send If-None-Match.
    """

    def __init__(  # noqa: PLR0913 - what a reader is made of
        self,
        name: str,
        base: str,
        rule: HttpTable,
        sender: Sender,
        values: Mapping[str, Any],
        *,
        known: str | None = None,
        concurrency: int | None = None,
        expected: Callable[[], ExpectedColumns | None] | None = None,
        care: CompletenessPolicy | None = None,
    ) -> None:
        """Prepare to read.

        Args:
            expected: the columns that records are expected to have by now, so that they can be read as columns.
        """
        self._care = care or CompletenessPolicy()
        self._name = name
        self._doing = f"reading {name}"
        self._rule = rule
        self._sender = sender
        self._values = values
        self._at_once = concurrency or sender.concurrency
        self._requests = Requests(base, rule)
        # What is copied into records does not come with them.
        self._fields = [field for field in self._care.fields if field not in rule.add_columns]
        self._opener = BodyOpener(rule, self._doing, _columns(rule, expected) if expected else None, self._fields)
        self._total = jmespath.compile(rule.total).search if isinstance(rule.total, str) else None
        self._count = 0
        self._required = RequiredFields(self._fields, self._care.key, self._doing)
        # The page before: its keys, and its records.
        self._before: tuple[set[Any], Sequence[Any]] = set(), ()
        self._sizes: set[int] = set()
        self._fullest = 0
        self._known = known if rule.conditional_requests else None
        self._good = _ALWAYS_GOOD | set(rule.empty_on_status) | ({304} if self._known else set())
        self.unchanged = False
        self.tag: str | None = None

    def first_request(self) -> Request:
        """The first request. A parameter whose value does not exist yet (no cursor) is left out."""
        return self._make(self._pages().first() if self._rule.pagination else Step())

    def chunks(self) -> Iterator[Chunk]:
        """Chunks in the source's order. What was yielded before an error stays valid.

        Raises:
            SourceError: a request failed, or the pass is not complete.
            RunCancelled: the run was cancelled.
        """
        pages = self._pages() if self._rule.pagination else None
        step: Step | None = pages.first() if pages else Step()
        self._sizes = _sizes(self._rule, self._values)
        ahead = Ahead(self._send, self._make, self._at_once, self._name)
        fired = False
        try:
            while step is not None:
                request = self._make(step)
                answer, opened = self._ask(step, request, ahead)
                if opened is None:
                    self.unchanged, self.tag = answer.status == 304, self._known
                    yield Chunk([], len(answer.body), [])
                    return
                self.tag = answer.headers.get("etag") or answer.headers.get("last-modified")
                step = yield from self._one(answer, request.url, opened, pages, fired)
                fired = True
                if step is not None and pages is not None and self._at_once > 1:
                    ahead.prefetch(pages.ahead(self._at_once), len(answer.body))
        finally:
            ahead.close(wait=not self._sender.stop.is_set())

    def _ask(self, step: Step, request: Request, ahead: Ahead) -> tuple[Answer, OpenBody | None]:
        """The answer, and its parsed body; None for a status without a body. A body that cannot be read is requested again, like one that
        was cut off: something in front of the source may answer 200 with a page of its own.
        """
        answer, attempt = ahead.get(step, request), 1
        while answer.status == 200:
            try:
                return answer, self._open(answer, request.url)
            except (BodyUnreadable, Incomplete) as problem:
                good = self._good_for(request)
                answer = self._sender.again(request, self._doing, good, problem, attempt)
                attempt += 1
        return answer, None

    def _one(
        self, answer: Answer, url: str, opened: OpenBody, pages: Pages | None, fired: bool
    ) -> Generator[Chunk, None, Step | None]:
        """The chunks of one page. The last one is held back until it is known what comes next, so that a page in a loop, or a pass that is
        not complete, is not loaded.
        """
        total = total_in(self._rule.total, self._total, opened.envelope, answer.headers)
        held: Part | None = None
        count, misfits, last = 0, 0, None
        for part in self._guarded(opened, answer, url):
            if held is not None:
                yield _chunk(held, total)
            held = part
            count += len(part.records) + len(part.misfits)
            misfits += len(part.misfits)
            if self._rule.pagination is not None and self._rule.pagination.needs_last_record and part.records:
                last = part.records[-1]
        self._count += count
        self._fullest = max(self._fullest, count)
        page = Page(answer.url or url, answer.headers, opened.envelope, answer.body, count, last, total, misfits)
        step = pages.after(page) if pages is not None else None
        if step is None:
            self._require_whole(page, pages, url, fired=fired)
        held, repeated = held or Part([], [], False, len(answer.body)), 0
        if self._care.appends and self._rule.pagination is not None and self._rule.pagination.counted:
            held, repeated = self._without_repeats(held)
        yield replace(_chunk(held, total), repeated=repeated)
        return step

    def _require_whole(self, page: Page, pages: Pages | None, url: str, *, fired: bool) -> None:
        """At the end of a pass. Raises Incomplete, PagesMoved."""
        care, rule = self._care, self._rule
        missing = missing_of(page.total, self._count) or (pages.expected() if pages is not None else None)
        if missing is not None:
            raise Incomplete(
                self._doing,
                url,
                found=missing,
                fix="run again; if it persists, pagination ends too early, or `total` or `total_pages` counts something other than "
                "the records of this request: remove it then",
                code="source.total_not_reached",
            )
        if pages is not None and pages.moved is not None and rule.pagination is not None and rule.pagination.counted:
            raise PagesMoved(
                self._doing,
                url,
                found=f"{pages.moved}: records shifted while pages were read by {rule.pagination.parameter}, and some "
                "may have been skipped",
                fix="it is read again automatically; if it persists, paginate by token, or in an order that does not change",
            )
        doubted = doubt(page, rule, asked_sizes=self._sizes, fullest=self._fullest, fired=fired)
        if doubted is None:
            return
        if not care.accept and not doubted.rare and (care.removes or (care.moves and doubted.said)):
            raise Incomplete(
                self._doing,
                url,
                found=f"{doubted.words}; so there may be more than the {self._count} records that came",
                fix="describe in the connector's `pagination` how pages continue"
                + ("" if doubted.said else ", or `single_page: true` if one page may be all")
                + "; to go on all the same, run with `--allow-loss`",
                code="source.pages_may_continue",
            )
        care.told(
            "warning",
            "pages.end_unknown" if doubted.rare else "pages.may_continue",
            f"{doubted.words}; there may be more: "
            + ("a `total` would tell" if doubted.rare else "describe in the connector's `pagination` how pages continue"),
        )

    def _without_repeats(self, part: Part) -> tuple[Part, int]:
        """(the other records, how many were repeated): if a list grew at its front, the end of one page appears again at the beginning of
        the next. With a key, the load recognises them instead.
        """
        if not self._care.key or not part.records:
            return part, 0
        records, (known, before) = part.records, self._before
        keys = list(zip(*(_values_of(records, name) for name in self._care.key)))
        try:
            self._before = set(keys), records
        except TypeError:  # no single values: such a record is rejected anyway
            self._before = set(), ()
            return part, 0
        again = 0
        if keys[0] in known:
            contents = {_content(record) for record in before}
            again = next((n for n, record in enumerate(records) if _content(record) not in contents), len(records))
        if not again:
            return part, 0
        return replace(part, records=chosen(records, [n >= again for n in range(len(records))])), again

    def _pages(self) -> Pages:
        assert self._rule.pagination is not None
        pages: Pages = self._rule.pagination.begin(self._doing)
        return pages

    def _make(self, step: Step) -> Request:
        request = self._requests.make(self._values, step)
        if self._known:
            how = "if-none-match" if self._known.startswith(('"', "W/")) else "if-modified-since"
            request = replace(request, headers={**request.headers, how: self._known})
        return request

    def _good_for(self, request: Request) -> frozenset[int]:
        return self._good | _NO_SUCH_PAGE if request.beyond else self._good

    def _send(self, request: Request) -> Answer:
        return self._sender.send(request, self._doing, self._good_for(request))

    def _open(self, answer: Answer, url: str) -> OpenBody:
        """Raises BodyUnreadable, Incomplete, RecordsNotFound."""
        try:
            opened = self._opener.open(answer.body, answer.headers)
        except (ValueError, RecursionError) as error:
            raise self._unreadable(answer, url, error) from error
        except RecordsNotFound as error:
            error.on = error.on or url
            raise
        return opened

    def _guarded(self, opened: OpenBody, answer: Answer, url: str) -> Iterator[Part]:
        """The parts, with the copied columns. Errors while reading them are raised as for the whole body."""
        copied = {f: template.value_of(text, self._values) for f, text in self._rule.add_columns.items()}
        try:
            for part in opened.parts:
                for record in part.records if copied else ():
                    record.update(copied)
                self._required.check(part.records, url)
                yield part
        except (ValueError, RecursionError) as error:
            raise self._unreadable(answer, url, error) from error

    def _unreadable(self, answer: Answer, url: str, error: Exception) -> BodyUnreadable:
        start = answer.body[:80].decode("utf-8", "replace")
        name = {"json": "JSON", "ndjson": "NDJSON", "csv": "CSV", "xml": "XML"}[self._rule.format.type]
        return BodyUnreadable(
            self._doing,
            url,
            found=f"a page of {len(answer.body)} bytes that is not {name} ({error}); it starts {start!r}",
            fix="it is retried automatically; if it persists, check path and headers: some sources answer errors as HTML with "
            "status 200",
        )


def _values_of(records: Any, name: str) -> list[Any]:
    column = records.column(name) if isinstance(records, ColumnRecords) else None
    return [value_at(record, name) for record in records] if column is None else column.to_pylist()


def _content(record: Any) -> bytes:
    return orjson.dumps(record, default=str, option=orjson.OPT_SORT_KEYS | orjson.OPT_NON_STR_KEYS)


def _sizes(rule: HttpTable, values: Mapping[str, Any]) -> set[int]:
    """Whole numbers from 2 on that the request sends."""
    texts = (
        [*rule.query_params.values(), *(text for _, text in template.texts_in(body_values(rule.body)))]
        if rule.body
        else rule.query_params.values()
    )
    filled = [template.fill(text, values) for text in texts]
    numbers = {int(text) for text in filled if text is not None and text.isdigit() and len(text) < 8}
    if rule.body is not None:
        numbers |= set(_numbers_in(rule.body.as_json)) | set(_numbers_in(rule.body.variables))
    if rule.pagination is not None and rule.pagination.page_size is not None:
        numbers.add(rule.pagination.page_size)
    return {number for number in numbers if number > 1}


def _numbers_in(value: Any) -> Iterator[int]:
    if isinstance(value, dict | list):
        for inner in value.values() if isinstance(value, dict) else value:
            yield from _numbers_in(inner)
    elif type(value) is int:
        yield value


def _columns(rule: HttpTable, expected: Callable[[], ExpectedColumns | None]) -> ColumnBodies | None:
    """None if records are looked at one by one anyway, for copied columns or for the last record of a page."""
    following = rule.pagination
    custom_errors = rule.errors not in (None, HttpTable.model_fields["errors"].default)
    if (
        rule.add_columns
        or rule.format.type != "json"
        or (following is not None and following.needs_last_record)
        or custom_errors
    ):
        return None
    paths = [rule.total] if isinstance(rule.total, str) else []
    return ColumnBodies(expected, rule.records, [*paths, *(following.body_paths if following is not None else ())])


def _chunk(part: Part, total: int | None) -> Chunk:
    return Chunk(part.records, part.body_bytes, part.misfits, total, part.suspicious)
