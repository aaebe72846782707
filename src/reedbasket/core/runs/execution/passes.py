"""The passes that bring one table's records: a single one, or one for each value, window or parent, several at once."""

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
from ...shaping.fast_path import ExpectedColumns
from ...sources.batching import several
from ...sources.chunk import Chunk
from ...sources.http import HttpReader, Sender
from ...sources.http.reader import CompletenessPolicy
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
    """Reads one table of an API.

    Args:
        base: the base URL, filled in.
        values: what templates may name, without windows, parents and lists.
    """

    def __init__(
        self,
        name: str,
        base: str,
        rule: HttpTable,
        sender: Sender,
        values: Mapping[str, Any],
        expected: Callable[[], ExpectedColumns | None] | None = None,
        care: CompletenessPolicy | None = None,
    ) -> None:
        """Prepare to read.

        Args:
            expected: see HttpReader.
            care: see HttpReader.
        """
        self._expected, self._care = expected, care
        self._name = name
        self._base = base
        self._rule = rule
        self._sender = sender
        self._values = dict(values)

    def alone(self, known: str | None = None) -> HttpReader | CodePass:
        """The only pass, or the first of several.

        Args:
            known: see HttpReader.
        """
        return self._reader(each_of(self._rule, self._values)[0], concurrency=None, known=known)

    def over(self, groups: Iterable[Group]) -> Iterator[Chunk]:
        """The records of all passes of all groups. The last chunk of a group carries the position to save."""

        def passes() -> Iterator[tuple[Any, Iterator[Chunk]]]:
            for mark, members in groups:
                for place, values in enumerate(members, 1):
                    yield (mark if place == len(members) else None), self.one(values).chunks()

        return several(passes(), self._sender.concurrency, self._name)

    def one(self, values: Values) -> HttpReader | CodePass:
        """One of several passes."""
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
        """The passes for `for_values`: every value of a list, or every combination of several lists."""
        return [(None, each_of(self._rule, self._values))]

    def windows(self, found: Iterable[Window]) -> Iterator[Group]:
        """One pass for each window. Its position is the end of the window."""
        for window in found:
            values = {**self._values, "window.from": window[0], "window.until": window[1]}
            yield position(window), each_of(self._rule, values)

    def parents(self, spool: Spool, tracker: CursorTracker | None) -> Iterator[Group]:
        """One pass for each parent record.

        Args:
            tracker: the parents' own cursor, to read only the children of parents that changed.
        """
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
    """Reads one table of a connector in Python.

    Args:
        saved: the position that the connector reported last.
        told: is told what the connector logs.
    """

    def __init__(  # noqa: PLR0913 - what a reader is made of
        self,
        name: str,
        code: Code,
        asking: RequestContext,
        rule: HttpTable,
        sender: Sender,
        values: Mapping[str, Any],
        saved: Any,
        expected: Callable[[], ExpectedColumns | None] | None,
        told: Callable[[Any, str, str], None],
        care: CompletenessPolicy | None = None,
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
    """The template values of every pass over the lists of `for_values`; only the given values if there are no lists."""
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
    """{"parent.sailing_id": ...} of a parent record; a field may lie inside objects.

    Raises:
        SourceError: the parent lacks the field.
    """
    found: Values = {}
    for field in fields:
        value: Any = parent
        for step in field.split("."):
            value = value.get(step) if isinstance(value, dict) else None
        if value is None or isinstance(value, dict | list):
            raise SourceError(
                f"reading {name}",
                found=f"a parent record has no single value in `{field}`, which the request needs; it has {', '.join(parent)}",
                fix="name a field in {parent.…} that every record of the parent table has",
                code="source.parent_field_missing",
            )
        found[f"parent.{field}"] = value
    return found


class Parents:
    """The records of parent tables, read once in a run for all their children. Used by one thread of one run."""

    def __init__(self, rules: Mapping[str, HttpTable], reader: Callable[[str, Values], PassReader]) -> None:
        """Prepare; nothing is read yet.

        Args:
            rules: of every table that is a parent.
            reader: makes a reader of one of them, with the values for its cursor.
        """
        self._rules = rules
        self.reader = reader
        self._read: dict[tuple[str, str], Spool] = {}

    def is_parent(self, name: str) -> bool:
        """Whether the table is a parent, so that its records are kept for its children."""
        return name in self._rules

    def keep(self, name: str, since: Any, spool: Spool) -> None:
        """Keep what a run of the table has read to its end, from `since` on ({cursor.from}; None for everything)."""
        before = self._read.pop((name, _mark(since)), None)
        if before is not None:
            before.close()  # another warehouse's run of the table came to the same
        self._read[name, _mark(since)] = spool

    def records(self, name: str, since: Any) -> Spool:
        """The records of a parent table.

        Raises:
            SourceError: the table cannot be read.
            RunCancelled: the run was cancelled.
        """
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
        """Remove the records that were kept."""
        for spool in self._read.values():
            spool.close()


def _mark(since: Any) -> str:
    return since.isoformat() if isinstance(since, datetime) else repr(since)
