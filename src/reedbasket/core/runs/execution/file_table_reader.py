"""Reading a table from files: which files, in which order, and what may be saved so far."""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from dataclasses import replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

from typing_extensions import override

from ...changes.files import Decision, DueFile, as_listed, decide
from ...errors import ReedError, SourceError
from ...kinds import FORMATS
from ...records.position import SavedCursor
from ...shaping.fast_path import ExpectedColumns
from ...sources.chunk import Chunk
from ...sources.files.copy import copied
from ...sources.files.formats.part import FilePart
from ...sources.files.formats.text_columns import Columns
from ...sources.files.formats.text_types import known_columns_of
from ...sources.files.problems import FileMissing, FileProblem, file_problem
from ...sources.files.reader import FileReader
from ...sources.files.store import Body, FileInfo
from ...sources.files.unpack import is_zip
from ...sources.requests_seen import RequestSeen
from ...spec.files import FileFormat
from ...warehouses.loader.file_list import FileLine
from ..planning.file_table_selection import ChosenFiles
from ..planning.known_columns import KnownColumns
from ..planning.matched_tables import LoadedTable
from ..planning.order import ResolvedSource
from .file_chunks import FileValues, chunk_of, plain_value, require_columns
from .file_errors import as_problem, named
from .table_reader import TableReader

if TYPE_CHECKING:
    from .file_session import FileSession

# Of one file, kept back until it has been read to its end: what turns out to be damaged then was never staged.
_HELD_BACK = 8 * 1024 * 1024
# A file that changes while it is read is read once more, this often.
_TRIES = 3


class FileSpoiled(SourceError):
    """A file turned out to be damaged after some of its records were passed on; everything uncommitted has to be discarded."""

    code = "file.discarded"


class FileTableReader(TableReader):
    """Reads a table from files; see TableReader."""

    def __init__(
        self,
        reading: FileSession,
        order: ResolvedSource,
        chosen: ChosenFiles,
        saved: SavedCursor | None,
        held: LoadedTable,
        seen: Callable[[RequestSeen], None],
        expected: Callable[[], ExpectedColumns | None],
    ) -> None:
        super().__init__(saved)
        self._reading = reading
        self._order = order
        self._chosen = chosen
        self._seen = seen
        # Where the table is read from its start, files that were taken are taken once more.
        self._files = held.files if saved is not None else [line._replace(state="requeued") for line in held.files]
        self.from_text = saved.shown if saved else None
        kept = json.loads(saved.value) if saved is not None else {}
        own = chosen.order.shaping
        found_out = kept.get("found_out") if kept.get("said") == self._said else None
        known = known_columns_of(held.structure)
        # A column that the feed holds to is read as what it is, and what does not fit is told value by value.
        follow = held.structure is None or reading.widens
        self._columns = Columns(KnownColumns(known, own.cast), reading.time_zone, follow)
        self._reader = FileReader(own.format or FileFormat(), self._columns, found_out, expected)
        self._definition_changed = saved is not None and kept.get("definition") != self._definition
        self._decision: Decision | None = None
        self._bad: dict[str, FileProblem] = {}
        self._passed: set[str] = set()
        self._changing: list[str] = []
        self._finished: list[FileLine] = []
        self._taken = self._committed = 0
        self._last = str(kept.get("last", ""))
        self._nested = False
        self._structure = held.structure

    @property
    def _said(self) -> Any:
        """The format as the definition declares it. Whatever was detected beyond that is only valid for the same declaration."""
        form = self._chosen.order.shaping.format
        return form.model_dump(mode="json", exclude_none=True) if form else None

    @property
    def _definition(self) -> str:
        """What stands for all that the feed says of the table, and the source of its files."""
        said = self._chosen.order.shaping.model_dump_json(exclude_none=True)
        place = self._order.files.model_dump_json(exclude_none=True) if self._order.files is not None else ""
        return hashlib.sha256(f"{said}\n{place}".encode()).hexdigest()[:32]

    @override
    def begin(self) -> None:
        found = self._decided
        if self._chosen.order.by != "files":
            return
        words = [f"{len(found.due)} to load"]
        words += [f"{found.changed} of them changed"] if found.changed else []
        words += [f"{found.known} already loaded"] if found.known else []
        self.notes.append(("info", "file.listed", f"files: {', '.join(words)}"))
        for what, paths, level in (
            ("changed too recently, or without a ready file; the next run looks again", found.unsettled, "info"),
            ("could not be read before, and have not changed", [line.path for line in found.still_bad], "warning"),
            ("changed, but what is loaded stays, as the feed says", _of(found.lines, "ignored"), "warning"),
            ("no longer exist; their rows stay", _of(found.lines, "missing"), "warning"),
        ):
            if paths:
                self.notes.append((level, "file.skipped", f"{named(paths)} {what}"))

    @property
    def _decided(self) -> Decision:
        if self._decision is None:
            chosen, reading = self._chosen, self._reading
            matching = reading.matching(chosen.patterns)
            if chosen.changes.checksum:
                matching = [(told, pattern) for info, pattern in matching if (told := reading.with_checksum(info)) is not None]
            self._patterns = {info.path: pattern for info, pattern in matching}
            grows = reading.store.grows
            self._decision = decide(
                [info for info, _ in matching],
                self._files if chosen.order.by == "files" else (),
                changed=chosen.changed,
                settle=chosen.stable_for(grows),
                now=self._order.started,
                marker=chosen.changes.ready_file,
                there=reading.there() if chosen.changes.ready_file else (),
                sort=chosen.order.shaping.file_order,
                definition_changed=self._definition_changed,
            )
        return self._decision

    @property
    @override
    def flat(self) -> bool:
        """As far as the formats tell. If a file turns out otherwise, what was read before is read again."""
        if self._chosen.order.shaping.copy_ is not None:
            return True
        formats = {None if is_zip(due.info.path) else self._reader.format_of(due.info.path) for due in self._decided.due}
        return not self._nested and all(name is not None and FORMATS.get(name).flat for name in formats)

    @override
    def chunks(self) -> Iterator[Chunk]:
        """All records of the files that are due. After FileSpoiled it may be called again; what was committed is not read again.

        Raises:
            FileSpoiled: a file turned out to be damaged.
            SourceError: the store failed.
        """
        if self._committed < len(self._finished):
            self._finished = self._finished[: self._committed]  # a list of its own: others may follow the one there was
        if not self._committed:
            self._finished += self._decided.lines
        self._taken = self._committed
        taken = {line.path for line in self._finished}
        due = [one for one in self._decided.due if one.info.path not in taken and one.info.path not in self._passed]
        if self._chosen.order.shaping.copy_ is not None:
            yield from self._copies(due)
            return
        for one in due:
            yield from self._one(one)

    def _one(self, due: DueFile) -> Iterator[Chunk]:
        began, size, problem = time.monotonic(), 0, ""
        path = due.info.path
        try:
            if path in self._bad:
                yield self._ended(due.line, bad=self._bad[path])
                return
            for chunk in self._whole(due):
                size += chunk.body_bytes
                yield chunk
        except FileMissing:
            self._passed.add(path)
            self.ended_notes.append(("warning", "file.skipped", f"{path} disappeared before it was read"))
        except ReedError as error:
            problem = error.found
            raise
        finally:
            self._seen(RequestSeen("FILE", path, None, time.monotonic() - began, size, 1, 0.0, problem))

    def _whole(self, due: DueFile) -> Iterator[Chunk]:
        """The records of one file, with a mark on the last chunk. As far as memory allows, none are passed on before the whole file was
        read.
        """
        path = due.info.path
        for attempt in range(_TRIES):
            held: list[Chunk] = []
            size = rows = rejected = 0
            passed_on = False
            looked_at: set[str] = set()  # members of an archive; '' of a file that is none
            info, stopped = due.info, None
            try:
                values = self._values_of(path)
                with closing(self._reading.store.open(path)) as content:
                    if isinstance(content, Body) and content.info is not None and not content.info.same_as(info):
                        # Another was put in its place since it was listed: that one is taken, and noted.
                        info = content.info
                        due = DueFile(info, as_listed(due.line, info))
                    for part in self._reader.read(info, content):
                        self._look_inside(part, info)
                        if len(part) and part.member not in looked_at:
                            looked_at.add(part.member)
                            require_columns(part, values, self._chosen.order.key, self._structure)
                        chunk = chunk_of(part, values, due.line.number)
                        rows, rejected = rows + len(part) + len(part.unread), rejected + len(part.unread)
                        held.append(chunk)
                        size += chunk.body_bytes
                        if size > _HELD_BACK:
                            passed_on = True
                            yield from held
                            held.clear()
            except FileProblem as problem:
                stopped = problem
            now = self._reading.store.info(path) if self._reading.store.grows else info
            if now is None or not now.same_as(info):
                if not passed_on and now is not None and attempt + 1 < _TRIES:
                    due = DueFile(now, as_listed(due.line, now))
                    continue
                # The next run finds it still, or gone.
                self._passed.add(path)
                self._changing.append(path)
                self.ended_notes.append(("warning", "file.skipped", f"{path} changed while it was read; the next run loads it"))
                if passed_on:
                    raise FileSpoiled("reading", path, found="it changed while it was read")
                return
            if stopped is not None:
                self._bad[path] = stopped
                if passed_on:
                    raise FileSpoiled("reading", path, found=stopped.found)
                yield self._ended(due.line, bad=stopped)
                return
            last = held.pop() if held else Chunk([], 0, [])
            yield from held
            yield replace(last, mark=self._ended(due.line._replace(rows=rows, rejected=rejected)).mark)
            return

    def _look_inside(self, part: FilePart, info: FileInfo) -> None:
        """Raises FileSpoiled where records hold others, and nobody thought so."""
        if part.columns is None and self.flat and any(map(_holds_others, part.records)):
            self._nested = True
            raise FileSpoiled("reading", info.path, found="its records contain lists or objects")

    def _ended(self, line: FileLine, bad: FileProblem | None = None) -> Chunk:
        """An empty chunk with the mark of a file that is through."""
        if bad is not None:
            # The rows of a version that could be read stay, until there is another one that can be.
            line = line._replace(state="failed", problem=bad.found, replaces=False)
        self._finished.append(line)
        return Chunk([], 0, [], mark=len(self._finished))

    def _values_of(self, path: str) -> FileValues:
        pattern = self._patterns[path]
        values = pattern.values(path)
        if values is None:
            words = f"{path} matches {pattern.text}, but a part of it is not a valid time"
            raise file_problem("file.unreadable", words, "rename the file, or fix the pattern")
        named: dict[str, tuple[str, Any]] = {n: (pattern.names[n].kind, value) for n, value in values.items()}
        return FileValues(path, named, self._chosen.order.shaping.file_columns)

    def _copies(self, due: Sequence[DueFile]) -> Iterator[Chunk]:
        rule = self._chosen.order.shaping.copy_
        assert rule is not None
        target = self._reading.store_of(rule.to)
        lines = {one.info.path: one.line for one in due}
        for one, made in copied(self._reading.store, target, [one.info for one in due], rule.under, self._reading.stop):
            line = lines[one.path]
            if isinstance(made, FileMissing):
                self._passed.add(one.path)
                self.ended_notes.append(("warning", "file.skipped", f"{one.path} disappeared before it was copied"))
                continue
            self._seen(RequestSeen("COPY", one.path, None, 0.0, one.size, 1, 0.0, "" if isinstance(made, dict) else made.found))
            if not isinstance(made, dict):
                self._bad[one.path] = made
                yield self._ended(line, bad=made)
                continue
            values = self._patterns[one.path].values(one.path) or {}
            named = {name: plain_value(value) for name, value in values.items() if name not in made}
            yield Chunk([{**made, **named}], one.size, [], mark=self._ended(line._replace(rows=1)).mark)

    @override
    def sample(self) -> tuple[str, Iterator[Chunk]]:
        """(the first file that is due, its first chunks)."""
        due = self._decided.due
        if not due:
            return "nothing is due", iter(())
        if self._chosen.order.shaping.copy_ is not None:
            return f"copy {due[0].info.path}", iter(())
        return due[0].info.path, self._first(due[0])

    def _first(self, due: DueFile) -> Iterator[Chunk]:
        values = self._values_of(due.info.path)
        with closing(self._reading.store.open(due.info.path)) as content:
            for part in self._reader.read(due.info, content):
                yield chunk_of(part, values, due.line.number)

    @override
    def cost(self, chunk: Chunk, repeated: int) -> tuple[int | None, int | None]:
        return None, len(self._decided.due)

    @override
    def handed_on(self, mark: Any) -> None:
        self._taken = max(self._taken, int(mark))

    @override
    def committed(self, cursor: SavedCursor | None) -> None:
        self._committed = max(self._committed, self._taken)

    @override
    def file_lines(self) -> Sequence[FileLine]:
        """The file lines that are committed with the next load."""
        if self._chosen.order.by != "files":
            return ()
        return self._finished[self._committed : max(self._taken, len(self._decided.lines))]

    @property
    @override
    def can_commit(self) -> bool:
        return self._chosen.order.by == "files" and self._taken > self._committed

    @override
    def position(self, *, ended: bool) -> SavedCursor | None:
        if self._chosen.order.by != "files":
            return None
        taken = [line.path for line in self._finished[: self._taken] if line.state == "loaded"]
        self._last = taken[-1] if taken else self._last
        kept = {"last": self._last, "found_out": self._reader.found_out, "said": self._said}
        kept["definition"] = self._definition
        return SavedCursor("files", json.dumps(kept, ensure_ascii=False), None, "files")

    @property
    @override
    def has_progress(self) -> bool:
        return bool(self.file_lines())

    @cached_property
    @override
    def begins(self) -> Any:
        """The known columns count too, because they decide how text is read."""
        structure = self._structure.to_data() if self._structure is not None else None
        return self._saved.value if self._saved else None, structure, [line._replace(load=None, at="") for line in self._files]

    @override
    def share_chunks_of(self, leader: FileTableReader) -> None:
        self._decision, self._reader = leader._decided, leader._reader
        self._finished, self._bad, self._passed = leader._finished, leader._bad, leader._passed
        self._changing = leader._changing
        self.ended_notes = leader.ended_notes

    @override
    def problem(self) -> FileProblem | None:
        """The error to report once everything else is committed: files that could not be read, now or in an earlier run."""
        found = list(self._bad.items())
        again = "fix the file or the definition, or exclude the file from the pattern"
        found += [(line.path, file_problem("file.unreadable", line.problem, again)) for line in self._decided.still_bad]
        order = self._chosen.order
        if order.by != "files":  # by files the next run takes them
            just_now = f"changed less than {self._chosen.stable_for(True).seconds} s ago, and may still be being written"
            moving = [(path, "changed while it was read, again and again") for path in self._changing]
            for path, words in moving + [(path, just_now) for path in self._decided.moving]:
                found.append((path, file_problem("file.changed", f"{path} {words}", "run again once it no longer changes")))
        return as_problem(found, written=not order.whole)


def _of(lines: Sequence[FileLine], state: str) -> list[str]:
    return [line.path for line in lines if line.state == state]


def _holds_others(record: dict[str, Any]) -> bool:
    return any(isinstance(value, dict | list) for value in record.values())
