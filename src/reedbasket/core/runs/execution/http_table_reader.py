"""Reading a table of an API: from where, in which passes, and what may be saved so far."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from datetime import datetime
from typing import Any

from typing_extensions import override

from ...changes.cursor import CursorTracker
from ...changes.window import windows, within
from ...records.position import SavedCursor
from ...shaping.fast_path import ExpectedColumns
from ...sources.chunk import Chunk
from ...sources.http import HttpReader, Sender
from ...sources.http.reader import CompletenessPolicy
from ...sources.python.reader import CodePass, saved_in
from ...spec import template
from ...spec.connector import request_templates
from ...spec.http import CursorRule, WindowRule
from ...spec.time_steps import Window
from ...spec.times import format_time, parse_time
from ..planning.order import ResolvedSource, ResolvedTable
from ..request_context import RequestContext
from .passes import CodePassReader, Parents, PassReader
from .spool import Spool
from .table_reader import TableReader

_MOST_SAID = 100


class HttpTableReader(TableReader):
    """One pass over one table; see TableReader.

    Attributes:
        tracker: follows the table's own records by cursor; None if the position is known in another way.
    """

    def __init__(  # noqa: PLR0913 - what a reader is made of
        self,
        order: ResolvedSource,
        table: ResolvedTable,
        asking: RequestContext,
        sender: Sender,
        saved: SavedCursor | None,
        parents: Parents,
        *,
        until: datetime | None = None,
        latest: bool = False,
        expected: Callable[[], ExpectedColumns | None] | None = None,
    ) -> None:
        """Prepare to read; nothing is sent yet.

        Args:
            expected: see HttpReader.
            until: read windows up to here; None for the start of the run.
            latest: read only the last window.
        """
        super().__init__(saved)
        self._order = order
        self._table = table
        self._parents = parents
        self._values = dict(asking.values)
        self._reader: HttpReader | CodePass | None = None
        self._windows: list[Window] = []
        self._of_parents: CursorTracker | None = None
        assert table.rule is not None
        rule = self._rule = table.rule
        self._mask = asking.mask
        by_parents = rule.by_changed_parents
        spread = bool(rule.for_values or rule.parent_table) and not by_parents
        if table.by == "cursor" and table.cursor is not None:
            cursor = table.cursor.model_copy(update={"sorted": False}) if spread else table.cursor
            followed = self._tracker(cursor)
            self._values |= {"cursor.from": followed.request_from, "cursor.until": followed.request_until or order.started}
            self.from_text = followed.from_text
            if by_parents:
                self._of_parents = followed
            else:
                self.tracker = followed
        elif table.window is not None:
            self._windows = self._windows_of(table.window, until or order.started)
            self._windows = self._windows[-1:] if latest else self._windows
            if self._windows:
                self.from_text = format_time(self._windows[0][0])
        care = self._care()
        self.reader: PassReader = PassReader(table.name, asking.base_url, rule, sender, self._values, expected, care)
        if order.code is not None:
            known = saved_in(saved)
            self.reader = CodePassReader(
                table.name, order.code, asking, rule, sender, self._values, known, expected, self._said, care
            )

    def _care(self) -> CompletenessPolicy:
        """What a read that falls short would do here."""
        table = self._table
        return CompletenessPolicy(
            removes=table.removes,
            appends=table.write == "append",
            moves=table.by == "cursor",
            accept=self._order.accept,
            key=tuple(table.key),
            cursor=self.tracker.column if self.tracker is not None else None,
            told=self._said,
        )

    def _windows_of(self, rule: WindowRule, until: datetime) -> list[Window]:
        """Those of the window that the run was given, or all that are due."""
        if self._order.window:
            return within(rule, self._order.window)
        start = parse_time(template.fill(rule.start, self._values))
        return list(windows(rule, start, self._saved, until))

    def _said(self, level: Any, code: str, words: str) -> None:
        """Keep a line that a connector in Python logged, or a note on what arrived. Lines beyond the first hundred are only counted."""
        if len(self.ended_notes) < _MOST_SAID:
            self.ended_notes.append((level, code, words))
        elif len(self.ended_notes) == _MOST_SAID:
            self.ended_notes.append(("warning", "connector.log_cut", f"the connector logged more than {_MOST_SAID} lines"))

    @property
    @override
    def cursor_from(self) -> Any:
        """The value of {cursor.from}: the records that are read are complete from there on."""
        return self._values["cursor.from"]

    @property
    def passes(self) -> int | None:
        """The number of passes, if it is known in advance."""
        return len(self._windows) if self._table.window is not None else None

    @override
    def chunks(self) -> Iterator[Chunk]:
        """All records of all passes.

        Raises:
            SourceError: a request failed, or what arrived is not complete.
            RunCancelled: the run was cancelled.
        """
        rule = self._rule
        if self._table.window is not None:
            return self.reader.over(self.reader.windows(self._windows))
        if rule.parent_table:
            since = self._of_parents.request_from if self._of_parents else None
            return self.reader.over(self._over_parents(rule.parent_table, since))
        if rule.for_values:
            return self.reader.over(self.reader.lists())
        tagged = self._order.code is None and self._saved is not None and self._saved.column == self._mark_of_tag
        known = self._saved.value if tagged and self._saved else None
        self._reader = self.reader.alone(known)
        return self._reader.chunks()

    @override
    def sample(self) -> tuple[str, Iterator[Chunk]]:
        """(the first request, masked; its first chunks), of the first window, parent or value."""
        rule = self._rule
        groups: Any = self.reader.lists()
        if self._table.window is not None:
            groups = self.reader.windows(self._windows[:1])
        elif rule.parent_table:
            groups = self.reader.parents(self._some_parents(rule.parent_table), None)
        first = next(iter(groups), None)
        if first is None:
            return "nothing is due", iter(())
        reader = self.reader.one(first[1][0])
        request = reader.first_request()
        return f"{request.method} {self._mask.text(request.url)}", reader.chunks()

    @override
    def cost(self, chunk: Chunk, repeated: int) -> tuple[int | None, int | None]:
        """(records, requests) of the whole pass, as far as the first chunk tells.

        Args:
            repeated: how many records of the chunk were loaded before.
        """
        rule, page = self._rule, len(chunk.records)
        if self.passes is not None:
            return None, self.passes
        if self._order.code is not None:
            return None, None
        if rule.parent_table or rule.for_values:
            return None, None  # as many as there are parents or values, which only the run goes through
        if not rule.pagination or page == 0:
            return page - repeated, 1
        if chunk.total is not None:
            return max(0, chunk.total - repeated), max(1, -(-chunk.total // page))
        return None, None

    @property
    @override
    def unchanged(self) -> bool:
        """Whether the source answered that nothing has changed."""
        reader = self._leader._reader
        return reader is not None and reader.unchanged

    @property
    @override
    def places_shift(self) -> bool:
        """Pages are identified by positions in a list, which change when a record changes its place."""
        return self._rule.pagination is not None and self._rule.pagination.counted

    @override
    def position(self, *, ended: bool) -> SavedCursor | None:
        """The position to save with everything handed on so far.

        Args:
            ended: the pass has ended.
        """
        if self.tracker is not None:
            return self.tracker.position()
        of_parents, reader = self._leader._of_parents, self._leader._reader
        if ended and of_parents is not None:
            return of_parents.position()
        if ended and reader is not None and reader.tag and self._rule.conditional_requests:
            return SavedCursor("tag", reader.tag, None, self._mark_of_tag)
        return self._done

    def _over_parents(self, name: str, since: Any) -> Iterator[Any]:
        yield from self.reader.parents(self._parents.records(name, since), self._of_parents)

    def _some_parents(self, name: str) -> Spool:
        """A few, of the parents' first page."""
        spool = Spool()
        rule, values = self._order.parents[name], {"cursor.from": None}
        reader = self._parents.reader(name, values)
        if rule.parent_table:
            first = next(iter(reader.parents(self._some_parents(rule.parent_table), None)), None)
            one = reader.one(first[1][0]) if first else None
        else:
            one = reader.alone()
        for chunk in one.chunks() if one else ():
            spool.add(chunk.records[:5])
            if spool.count:
                break
        return spool

    def _tracker(self, rule: CursorRule) -> CursorTracker:
        values = self._values
        given = self._order.window if rule.type == "time" else None
        start, end = map(format_time, given) if given else (rule.start, rule.until)
        sent = [form for text in self._sent_texts() for _, name, form in template.parse(text) if name == "cursor.from"]
        return CursorTracker(
            rule,
            self._saved,
            template.fill(start, values) if start else None,
            self._order.started,
            keep_all_seen=self._table.write == "append",
            end=template.fill(end, values) if end else None,
            forms=sent,
        )

    def _sent_texts(self) -> Iterator[str]:
        rule = self._rule
        if rule.parent_table in self._order.parents and rule.by_changed_parents:
            rule = self._order.parents[rule.parent_table]
        for _, text in request_templates(rule):
            yield text

    @property
    def _mark_of_tag(self) -> str:
        """A fingerprint of the request and of how its answer is loaded. If the definition has changed, the tag is not sent."""
        table = self._table
        facts = [self._rule, table.shaping, table.nesting]
        text = "".join(part.model_dump_json(by_alias=True) for part in facts) + table.by + table.write + repr(table.key)
        return hashlib.sha256(text.encode()).hexdigest()[:32]


def parents_of(order: ResolvedSource, asking: RequestContext, sender: Sender) -> Parents:
    """The parent tables of a run, read by this sender unless a run of their own has read them already."""

    def reader(name: str, values: dict[str, Any]) -> PassReader:
        return PassReader(name, asking.base_url, order.parents[name], sender, asking.values | values)

    return Parents(order.parents, reader)
