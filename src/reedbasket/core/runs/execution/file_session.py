"""A run's session with a file store: its listing, the tables that its files belong to, and a reader for each."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from typing_extensions import override

from ...errors import ReedError
from ...masking import Mask
from ...sources.files.problems import FileMissing
from ...sources.files.store import FileInfo, Store, with_checksum
from ...sources.files.stores.open import open_store
from ...sources.requests_seen import RequestSeen
from ...spec.pattern import Pattern
from ..planning.file_table_selection import ChosenFiles, choose_files
from ..planning.matched_tables import LoadedTable, MatchedTables
from ..planning.order import ResolvedRun, ResolvedSource, ResolvedTable
from ..request_context import RunContext
from .file_table_reader import FileTableReader
from .source_session import ReadStart, SourceSession


class FileSession(SourceSession):
    """See source_session.SourceSession.

    Attributes:
        widens: columns widen if the source's values do.
    """

    def __init__(self, order: ResolvedSource, context: RunContext, seen: Callable[[RequestSeen], None]) -> None:
        """Open the store.

        Raises:
            SecretMissing: a secret is not set.
            SourceError: the store cannot be opened.
        """
        assert order.files is not None
        self._order = order
        self._context = context
        self._seen = seen
        self.mask = Mask([context.reveal(name) for name in order.secrets.values()])
        self.time_zone = order.files.time_zone
        self.store: Store = open_store(order.files, context.reveal, context.places)
        self.widens = True
        self._listed: dict[str, list[FileInfo]] = {}
        self._matching: dict[tuple[str, ...], list[tuple[FileInfo, Pattern]]] = {}
        self._chosen: dict[str, ChosenFiles] = {}
        self._stores: dict[str, Store] = {}
        self._told: dict[str, FileInfo | None] = {}

    @override
    def match_tables(self, order: ResolvedRun) -> MatchedTables:
        self.widens = order.on_drift.changed_type != "reject"
        chosen = choose_files(order.wishes, order.feed_defaults, order.table_prefix)
        self._chosen = {one.order.name: one for one in chosen}
        matched = {info.path for one in chosen for info, _ in self.matching(one.patterns)}
        markers = {one.changes.ready_file for one in chosen if one.changes.ready_file}
        ignored = [] if markers else sorted(
            {info.path for listed in self._listed.values() for info in listed} - matched
        )  # fmt: skip
        notes: list[tuple[Any, str, str]] = []
        if ignored:
            named = ", ".join(ignored[:3]) + (f" and {len(ignored) - 3} more" if len(ignored) > 3 else "")
            notes.append(("info", "file.ignored", f"files in these folders that are not part of this feed: {named}"))
        problems: dict[str, ReedError] = {}
        return MatchedTables(order.model_copy(update={"tables": [one.order for one in chosen]}), problems, notes)

    def listed(self, pattern: Pattern) -> list[FileInfo]:
        """The files below the pattern's folder; listed once in a run."""
        key = pattern.text if pattern.plain else f"{pattern.under}/"
        if key not in self._listed:
            if pattern.plain:
                found = self.store.info(pattern.text)
                self._listed[key] = [found] if found else []
            else:
                self._listed[key] = list(self.store.list(pattern.under))
        return self._listed[key]

    def matching(self, patterns: Sequence[Pattern]) -> list[tuple[FileInfo, Pattern]]:
        """The files that match, each once, with the first pattern that it matches; searched once in a run."""
        key = tuple(pattern.text for pattern in patterns)
        if key in self._matching:
            return self._matching[key]
        found: dict[str, tuple[FileInfo, Pattern]] = {}
        for pattern in patterns:
            matches = pattern.matches
            for info in self.listed(pattern):
                if matches(info.path) and info.path not in found:
                    found[info.path] = (info, pattern)
        self._matching[key] = list(found.values())
        return self._matching[key]

    def with_checksum(self, info: FileInfo) -> FileInfo | None:
        """The file with a checksum of its content, which is read once in a run; None if the file has disappeared.

        Raises:
            SourceError: the file cannot be read.
        """
        if info.path not in self._told:
            try:
                self._told[info.path] = with_checksum(self.store, info)
            except FileMissing:
                self._told[info.path] = None
        return self._told[info.path]

    def there(self) -> set[str]:
        """The paths of all files that were listed."""
        return {info.path for listed in self._listed.values() for info in listed}

    @override
    def open_reader(self, table: ResolvedTable, start: ReadStart) -> FileTableReader:
        return FileTableReader(
            self,
            self._order,
            self._chosen[table.name],
            start.saved,
            start.held or LoadedTable(None, ()),
            self._seen,
            start.expected or (lambda: None),
        )

    def store_of(self, name: str) -> Store:
        """The store that files are copied to."""
        if name not in self._stores:
            source = self._order.stores[name]
            self._stores[name] = open_store(source, self._context.reveal, self._context.places)
        return self._stores[name]

    @property
    def stop(self) -> Any:
        """An event that is set when the run has to stop."""
        return self._context.stop

    @override
    def close(self) -> None:
        for store in self._stores.values():
            store.close()
        self.store.close()
