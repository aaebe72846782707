"""The tables that a feed makes of files. Pure."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from ...changes.files import Changed
from ...records.names import claim
from ...spec.model import Changes, FeedTable, Nesting, TableDefaults, Write
from ...spec.pattern import Pattern
from .order import ResolvedTable

# How long a file has to have been still where it can be seen while somebody writes it.
_SETTLE = timedelta(seconds=5)


@dataclass(frozen=True)
class ChosenFiles:
    """One table of a feed."""

    order: ResolvedTable
    patterns: tuple[Pattern, ...]
    changed: Changed
    changes: Changes

    def stable_for(self, grows: bool) -> timedelta:
        """How long a file must stay unchanged before it is read.

        Args:
            grows: the store shows files that are still being written.
        """
        if self.changes.stable_for is not None:
            return self.changes.stable_for
        return _SETTLE if grows else timedelta(0)


def choose_files(wishes: dict[str, FeedTable | None], defaults: TableDefaults, prefix: str) -> list[ChosenFiles]:
    """The tables that a feed makes of files.

    Raises:
        DefinitionError: the feed does not say enough.
    """
    chosen: list[ChosenFiles] = []
    names: set[str] = set()
    for name, said in wishes.items():
        own = said or FeedTable()
        changes = own.changes or defaults.changes or Changes(by="files")
        copies = own.copy_ is not None
        key = ["path"] if copies else own.primary_key or []
        write: Write = own.write or defaults.write or ("mirror" if changes.by == "compare" else "upsert" if key else "append")
        if write == "append" and changes.by == "full" and own.write is None:
            write = "replace"
        changed: Changed = changes.changed or ("upsert" if write != "append" else "replace")
        target = claim(prefix + name, names, name)
        names.add(target)
        order = ResolvedTable(
            name=name, target=target, by=changes.by, write=write, key=key,
            deletes=own.deletes or defaults.deletes or "hard", nesting=own.nesting or defaults.nesting or Nesting(), shaping=own,
            by_file=changes.by == "files" and not copies and changed in ("replace", "ignore"), checksum=changes.checksum,
        )  # fmt: skip
        chosen.append(ChosenFiles(order, tuple(Pattern(text) for text in own.files or ()), changed, changes))
    return chosen
