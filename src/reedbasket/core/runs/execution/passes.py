"""The passes that bring one table's records: one, or one for each value, window or parent, several of them at once."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import datetime
from typing import Any

from ...changes.cursor import CursorTracker
from ...changes.window import position
from ...errors import SourceError
from ...records.position import SavedCursor
from ...shaping.fast_path import Expected
from ...sources.batching import several
from ...sources.chunk import Chunk
from ...sources.http import HttpReader, Sender
from ...sources.http.reader import Care
from ...sources.python.reader import CodePass
from ...spec import template
from ...spec.http import HttpTable
from ...spec.python_runtime import Code
from ...spec.template import names
from ...spec.time_steps import Window
from ..request_context import RequestContext
from .spool import Spool

_ALONE = re.compile(r"{([a-z_.0-9]+)}")
Values = dict[str, Any]
# One group of passes: the cursor to save once they are all read, and the values each of them goes by.
Group = tuple[SavedCursor | None, list[Values]]


class PassReader:
    """Reads one table. base: filled in. values: what templates may name, without windows, parents and lists."""

    def __init__(
        self,
        name: str,
        base: str,
        rule: HttpTable,
        sender: Sender,
        values: Mapping[str, Any],
        expected: Callable[[], Expected | None] | None = None,
        care: Care | None = None,
    ) -> None:
        """expected, care: see HttpReader."""
        self._expected, self._care = expected, care
        self._name = name
        self._base = base
        self._rule = rule
        self._sender = sender
        self._values = dict(values)

    def alone(self, known: str | None = None) -> HttpReader | CodePass:
        """The one pass, or the first of several. known: see HttpReader."""
        return self._reader(each_of(self._rule, self._values)[0], concurrency=None, known=known)

    def over(self, groups: Iterable[Group]) -> Iterator[Chunk]:
        """All passes of all groups; the last chunk of a group carries what it is to be saved as."""

        def passes() -> Iterator[tuple[Any, Iterator[Chunk]]]:
            for mark, members in groups:
                for place, values in enumerate(members, 1):
                    yield (mark if place == len(members) else None), self.one(values).chunks()

        return several(passes(), self._sender.concurrency, self._name)

    def one(self, values: Values) -> HttpReader | CodePass:
        """One of several passes, by itself."""
        return self._reader(values, concurrency=1, known=None)

    def _reader(self, values: Values, *, concurrency: int | None, known: str | None) -> HttpReader | CodePass:
        return HttpReader(
            self._name,
            self._base,
            self._rule,
            self._sender,
            values,
            known=known,
            concurrency=concurrency,
            expected=self._expected,
            care=self._care,
        )

    # What to go over

    def lists(self) -> list[Group]:
        """`for_values`: every value of a list, every one with every other where there are several lists."""
        return [(None, each_of(self._rule, self._values))]

    def windows(self, found: Iterable[Window]) -> Iterator[Group]:
        """One pass for each window; its position is the window's end."""
        for window in found:
            values = {**self._values, "window.from": window[0], "window.until": window[1]}
            yield position(window), each_of(self._rule, values)

    def parents(self, spool: Spool, tracker: CursorTracker | None) -> Iterator[Group]:
        """One pass for each parent record; tracker: those that changed, by the parents' own cursor."""
        fields = self._parent_fields()
        for batch in spool.batches():
            parents = tracker.take(batch).records if tracker else batch
            groups = [each_of(self._rule, {**self._values, **_values_of(parent, fields, self._name)}) for parent in parents]
            safe = tracker.position() if tracker and tracker.in_order else None
            for place, members in enumerate(groups, 1):
                yield (safe if place == len(groups) else None), members

    def _parent_fields(self) -> set[str]:
        rule = self._rule
        body = rule.body.model_dump(by_alias=True) if rule.body else {}
        texts = [rule.path, *rule.query_params.values(), *rule.headers.values(), *rule.add_columns.values()]
        texts += [text for path, text in template.texts_in(body) if path[0] != "graphql"]
        return {name.removeprefix("parent.") for text in texts for name in names(text) if name.startswith("parent.")}


class CodePassReader(PassReader):
    """One table of a connector in Python. saved: what it said last of how far it is. told: hears what it says on the way."""

    def __init__(  # noqa: PLR0913 - what a reader is made of
        self,
        name: str,
        code: Code,
        asking: RequestContext,
        rule: HttpTable,
        sender: Sender,
        values: Mapping[str, Any],
        saved: Any,
        expected: Callable[[], Expected | None] | None,
        told: Callable[[Any, str, str], None],
        care: Care | None = None,
    ) -> None:
        super().__init__(name, asking.base_url, rule, sender, values, expected, care)
        self._code, self._saved, self._mask, self._told = code, saved, asking.mask, told

    def _reader(self, values: Values, *, concurrency: int | None, known: str | None) -> CodePass:
        return CodePass(
            self._name,
            self._code,
            self._base,
            self._rule,
            self._sender,
            self._mask,
            values,
            self._saved,
            self._expected,
            self._told,
            self._care,
        )


def each_of(rule: HttpTable, values: Values) -> list[Values]:
    """The values of every pass over the lists of `for_values`; the values alone where there is none."""
    if not rule.for_values:
        return [values]
    lists = [
        [(f"value.{name}", one) for text in texts for one in _expanded(text, values)] for name, texts in rule.for_values.items()
    ]
    return [{**values, **dict(chosen)} for chosen in itertools.product(*lists)]


def _expanded(text: str, values: Values) -> list[Any]:
    """A text that is one name of a list stands for all its members."""
    alone = _ALONE.fullmatch(text)
    found = values.get(alone[1]) if alone else None
    return [str(one) for one in found] if isinstance(found, list) else [template.fill(text, values)]


def _values_of(parent: Mapping[str, Any], fields: Iterable[str], name: str) -> Values:
    """{"parent.sailing_id": ...}; a field may lie inside objects. Raises SourceError for a parent without it."""
    found: Values = {}
    for field in fields:
        value: Any = parent
        for step in field.split("."):
            value = value.get(step) if isinstance(value, dict) else None
        if value is None or isinstance(value, dict | list):
            raise SourceError(
                f"reading {name}",
                found=f"a parent record has no single value at `{field}`, which the request needs; it has {', '.join(parent)}",
                fix="name a field in {parent.…} that every record of the parent table has",
                code="source.parent_unusable",
            )
        found[f"parent.{field}"] = value
    return found


class Parents:
    """The records of parent tables, read once in a run for all their children. One run's thread."""

    def __init__(self, rules: Mapping[str, HttpTable], reader: Callable[[str, Values], PassReader]) -> None:
        """rules: of every table that is somebody's parent. reader: of one of them, with values for its cursor."""
        self._rules = rules
        self.reader = reader
        self._read: dict[tuple[str, str], Spool] = {}

    def is_parent(self, name: str) -> bool:
        """Whether a table is somebody's parent, so that what its own run reads is put aside."""
        return name in self._rules

    def keep(self, name: str, since: Any, spool: Spool) -> None:
        """What a run of the table read to its end, from `since` on ({cursor.from}, None for everything)."""
        before = self._read.pop((name, _mark(since)), None)
        if before is not None:
            before.close()  # another warehouse's run of the table came to the same
        self._read[name, _mark(since)] = spool

    def records(self, name: str, since: Any) -> Spool:
        """Raises SourceError, RunCancelled."""
        found = self._read.get((name, _mark(since)))
        if found is not None:
            return found
        rule = self._rules[name]
        reader = self.reader(name, {"cursor.from": since})
        if rule.parent_table:
            chunks = reader.over(reader.parents(self.records(rule.parent_table, None), None))
        else:
            chunks = reader.over(reader.lists()) if rule.for_values else reader.alone().chunks()
        spool = Spool()
        for chunk in chunks:
            spool.add(chunk.records)
        self._read[name, _mark(since)] = spool
        return spool

    def close(self) -> None:
        """Let go of what was put aside."""
        for spool in self._read.values():
            spool.close()


def _mark(since: Any) -> str:
    return since.isoformat() if isinstance(since, datetime) else repr(since)
