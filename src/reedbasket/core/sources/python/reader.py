"""One table as a connector's process reads it, in the passes that a run needs, instead of execution.passes.PassReader."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator, Mapping
from datetime import datetime
from typing import Any

import orjson
import pyarrow as pa

from ...errors import BodyUnreadable
from ...masking import Mask
from ...records.column_records import ColumnRecords
from ...records.plain_values import as_records
from ...records.position import SavedCursor
from ...shaping.fast_path import ExpectedColumns
from ...spec.http import HttpTable
from ...spec.python_runtime import Code
from ...spec.times import plain_time
from ..batching import BackgroundReader
from ..chunk import Chunk
from ..files.formats.arrow_files import read_arrow
from ..files.formats.part import FilePart
from ..http.body import BodyOpener
from ..http.reader import CompletenessPolicy
from ..http.request import Request
from ..http.sender import Sender
from ..json_columns import ColumnBodies
from ..required_fields import RequiredFields
from .host import CodeHost


class CodePass:
    """One pass.

    Args:
        values: see HttpReader.
        saved: the position that the connector reported last.
    """

    unchanged = False
    tag: str | None = None

    def __init__(  # noqa: PLR0913 - what a reader is made of
        self,
        name: str,
        code: Code,
        base: str,
        rule: HttpTable,
        sender: Sender,
        mask: Mask,
        values: Mapping[str, Any],
        saved: Any = None,
        expected: Callable[[], ExpectedColumns | None] | None = None,
        told: Callable[[Any, str, str], None] = lambda level, code, words: None,
        care: CompletenessPolicy | None = None,
    ) -> None:
        self._name = name
        self._rule = rule
        self._values = values
        self._saved = saved
        self._entry = code.entry
        doing = f"reading {name}"
        care = care or CompletenessPolicy()
        self._required = RequiredFields(care.fields, care.key, doing)
        self._opener = BodyOpener(rule, doing, ColumnBodies(expected, "@", []) if expected else None)
        self._host = CodeHost(
            code,
            doing=doing,
            mask=mask,
            stop=sender.stop,
            base=base,
            send=lambda request, good: sender.send(request, doing, good),
            told=told,
        )

    def first_request(self) -> Request:
        """For people: a connector does not say in advance what it will request."""
        return Request(f"{self._entry}, read({self._name!r}, …)", "PYTHON")

    def chunks(self) -> Iterator[Chunk]:
        """The records. What was yielded before an error stays valid.

        Raises:
            SourceError: the connector failed.
            RunCancelled: the run was cancelled.
        """
        # Its process goes on while what it told is made into records here.
        with BackgroundReader(
            self._host.read(settings_in(self._values), self._name, self._position()), f"{self._name} of {self._entry}"
        ) as heard:
            try:
                for found in heard:
                    if found.letter == b"p":
                        yield Chunk([], 0, [], mark=SavedCursor("saved", found.payload.decode(), None, "saved"))
                    elif found.letter == b"a":
                        for part in read_arrow(io.BytesIO(found.payload), self._name, "UTC"):
                            chunk = _chunk(part)
                            self._required.check(chunk.records, self._entry)
                            yield chunk
                    else:
                        yield from self._of_json(found.payload)
            finally:
                self._host.end()

    def _of_json(self, payload: bytes) -> Iterator[Chunk]:
        try:
            for part in self._opener.open(payload, {}).parts:
                self._required.check(part.records, self._entry)
                yield Chunk(part.records, part.body_bytes, part.misfits, None, part.suspicious)
        except (ValueError, RecursionError) as error:
            raise BodyUnreadable(
                f"reading {self._name}",
                self._entry,
                found=f"records that are not JSON ({error})",
                fix="yield dicts with JSON values",
            ) from error

    def _position(self) -> dict[str, Any]:
        begin, window = self._values.get("cursor.from"), (self._values.get("window.from"), self._values.get("window.until"))
        return {
            "from": {"time": plain_time(begin)} if isinstance(begin, datetime) else begin,
            "until": plain_time(self._values.get("cursor.until")) or self._values["run.started"],
            "window": list(window) if window[0] is not None else None,
            "saved": self._saved,
        }


def settings_in(values: Mapping[str, Any]) -> dict[str, Any]:
    """The source's settings, with secrets filled in."""
    return {name.removeprefix("settings."): value for name, value in values.items() if name.startswith("settings.")}


def saved_in(saved: SavedCursor | None) -> Any:
    """The position that a connector saved; None if it saved none."""
    return orjson.loads(saved.value) if saved is not None and saved.kind == "saved" else None


def _chunk(part: FilePart) -> Chunk:
    if part.columns is None:
        return Chunk(part.records, part.size, [])
    table: pa.Table = part.columns
    return Chunk(ColumnRecords(table, lambda: as_records(table), table.nbytes), table.nbytes, [])
