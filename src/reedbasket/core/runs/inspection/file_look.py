"""Inspecting a file store before anything is loaded: each step of connecting, the files there are, and what is in them."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import closing
from datetime import datetime
from fnmatch import fnmatchcase
from typing import Any
from urllib.parse import SplitResult, urlsplit

from ... import errors
from ...check_steps import CheckStep, reach, walked
from ...errors import DefinitionError, NotFound
from ...records.plain_values import as_records
from ...shaping import Shaper, TableShape
from ...sources.files.formats.text_columns import Columns
from ...sources.files.reader import FileReader
from ...sources.files.store import FileInfo
from ...spec.file_source import FileSource
from ...spec.files import FileFormat
from ...spec.model import FeedTable
from ...spec.pattern import Pattern
from ...spec.times import format_time
from ...wording import many, size
from ..execution.file_session import FileSession
from ..planning.file_table_selection import choose_files
from ..planning.order import ResolvedRun, ResolvedSource
from ..request_context import RunContext
from .look import Method, Previewed, SurveyedColumn, SurveyedTable, listed

# Of a survey: files listed, and kinds of them shown.
_MOST_LISTED = 100_000
_MOST_KINDS = 200
_FORMS = (
    (re.compile(r"(?<!\d)(?:19|20)\d{8}(?!\d)"), "<hour:%Y%m%d%H>", "%Y%m%d%H"),
    (re.compile(r"(?<!\d)(?:19|20)\d{6}(?!\d)"), "<day:%Y%m%d>", "%Y%m%d"),
    (re.compile(r"(?<!\d)(?:19|20)\d{2}-\d{2}-\d{2}(?!\d)"), "<day:%Y-%m-%d>", "%Y-%m-%d"),
    (re.compile(r"(?<!\d)(?:19|20)\d{2}-\d{2}(?![\d-])"), "<month:%Y-%m>", "%Y-%m"),
    (re.compile(r"(?<!\d)(?:19|20)\d{4}(?!\d)"), "<month:%Y%m>", "%Y%m"),
)
_DIGITS = re.compile(r"\d+")


def check_files(order: ResolvedSource, context: RunContext, feeds: Sequence[ResolvedRun] = ()) -> list[CheckStep]:
    """Check each step of connecting and reading.

    Args:
        feeds: those that read from the store; checks that their patterns match files.
    """
    assert order.files is not None
    steps = ["list", "read"]
    if order.files.path is None:
        steps = [*(("name", "port") if _server(order.files).hostname else ()), "sign-in", *steps]
    return walked(_steps(order, context, feeds), steps)


def _server(source: FileSource) -> SplitResult:
    """The address of its server. Where a bucket is all that the `url` names, `endpoint` has it."""
    return urlsplit((source.url if source.store.port is not None else source.endpoint) or "")


def _steps(order: ResolvedSource, context: RunContext, feeds: Sequence[ResolvedRun]) -> Iterator[CheckStep]:
    source = order.files
    assert source is not None
    remote = source.path is None
    if remote:
        at = _server(source)
        usual = source.store.port or (80 if at.scheme == "http" else 443)
        if at.hostname:
            yield from reach(at.hostname, at.port or usual, "`url`, or `endpoint`")
    try:
        reading = FileSession(order, context, lambda _: None)
    except errors.ReedError as error:
        yield CheckStep("sign-in" if remote else "list", False, error.found, error.fix)
        return
    try:
        if remote:
            yield CheckStep("sign-in", True, f"as {source.user}" if source.user else "none needed")
        found = [
            pattern
            for feed in feeds
            for chosen in choose_files(feed.wishes, feed.feed_defaults, "")
            for pattern in chosen.patterns
        ]
        if not source.store.lists:
            yield CheckStep("list", True, "files cannot be listed there; each one has to be named")
            first = next((info for pattern in found for info in reading.listed(pattern)), None)
        else:
            files = list(itertools.islice(reading.store.list(""), 1_000))
            more = " or more" if len(files) == 1_000 else ""
            yield CheckStep("list", True, f"{many(len(files), 'file')}{more}")
            unmatched = [p.text for p in found if not any(p.matches(info.path) for info in reading.listed(p))]
            if unmatched:
                yield CheckStep(
                    "read", False, f"no file matches {', '.join(unmatched)}", "fix the pattern, or wait for the first file"
                )
                return
            first = files[0] if files else None
        if first is None:
            yield CheckStep("read", True, "there is no file yet")
            return
        with closing(reading.store.open(first.path)) as content:
            content.read(1)
        yield CheckStep("read", True, f"{first.path} can be read")
    except errors.ReedError as error:
        yield CheckStep("list", False, error.found, error.fix)
    finally:
        reading.close()


def survey_files(
    order: ResolvedSource, context: RunContext, match: Sequence[str], exclude: Sequence[str]
) -> list[SurveyedTable]:
    """The kinds of files, each with the pattern that matches it. Files whose paths differ only in digits and folders are of one kind."""
    reading = FileSession(order, context, lambda _: None)
    try:
        kinds: dict[tuple[int, str], list[FileInfo]] = {}
        for info in itertools.islice(reading.store.list(""), _MOST_LISTED):
            if match and not any(fnmatchcase(info.path, pattern) for pattern in match):
                continue
            if any(fnmatchcase(info.path, pattern) for pattern in exclude):
                continue
            folders, _, name = info.path.rpartition("/")
            kinds.setdefault((folders.count("/") if folders else -1, _DIGITS.sub("0", name)), []).append(info)
        return [_kind(reading, infos) for infos in list(kinds.values())[:_MOST_KINDS]]
    finally:
        reading.close()


def _kind(reading: FileSession, infos: list[FileInfo]) -> SurveyedTable:
    newest = max(infos, key=lambda info: (info.modified is not None, info.modified or datetime.min, info.path))
    held = sum(info.size for info in infos)
    when = f", the newest of {format_time(newest.modified)}" if newest.modified else ""
    table = SurveyedTable(
        suggested([info.path for info in infos]), f"{many(len(infos), 'file')}, {size(held)}{when}", request=newest.path,
        total=len(infos), what="files",
    )  # fmt: skip
    columns = Columns({}, reading.time_zone)
    reader = FileReader(FileFormat(), columns)
    if reader.format_of(newest.path) is None and not newest.path.lower().endswith(".zip"):
        table.what = "files without records"
        table.methods = [Method("files", "nothing; they can be copied as they are (`copy`)")]
        return table
    table.methods = [
        Method("files", "rows that disappear from a file that is upserted; a file that changed within `stable_for` waits"),
        Method("full", "nothing; each run reads every file"),
    ]
    try:
        shaper, records = _sample(reading, newest, reader, 1_000)
    except errors.ReedError as error:
        table.error = error.as_dict()
        return table
    table.records = len(records)
    kinds = {column.name: column.kind for column in shaper.family.root.columns}
    batch = shaper.shape(records, 0).batches[0] if records else None
    for name, (_, data) in batch.columns.items() if batch else ():
        values = listed(data)
        present = [value for value in values if value is not None]
        examples = [str(value)[:40] for value in dict.fromkeys(map(str, present))][:3]
        table.columns.append(
            SurveyedColumn(name, kinds.get(name, "text"), len(values) - len(present), len(set(map(repr, present))), examples)
        )
        if (
            len(present) == len(values) > 1
            and table.columns[-1].distinct == len(values)
            and kinds.get(name) in ("int64", "text")
        ):
            table.keys.append(name)
    table.lists = [child.name.removeprefix(f"{shaper.structure.name}_") for child in shaper.structure.children()]
    return table


def suggested(paths: Sequence[str]) -> str:
    """A pattern that matches all of these paths, which are of one kind."""
    split = [path.split("/") for path in paths]
    parts = []
    for place, names in enumerate(zip(*split)):
        if len(set(names)) == 1 and (place < len(split[0]) - 1 or len(paths) > 1):
            parts.append(names[0])
        elif place < len(split[0]) - 1:
            parts.append("*")
        else:
            parts.append(_of_names(names))
    return "/".join(parts)


def _of_names(names: Sequence[str]) -> str:
    for form, written, letters in _FORMS:
        if all(form.search(name) and _is_time(form.search(name), letters) for name in names):
            made = Counter(form.sub("\0", name) for name in names)
            if len(made) == 1:
                return next(iter(made)).replace("\0", written)
    found = {_DIGITS.sub("*", name) for name in names} if len(names) > 1 else set(names)
    return next(iter(found)) if len(found) == 1 else "*"


def _is_time(found: Any, letters: str) -> bool:
    try:
        datetime.strptime(found[0], letters)
    except ValueError:
        return False
    return True


def preview_files(
    order: ResolvedSource, context: RunContext, text: str, rows: int, feeds: Sequence[ResolvedRun] = ()
) -> Previewed:
    """The first records of the first file that a pattern matches.

    Args:
        text: a pattern, or the name of a feed's table, whose declared format is then used.

    Raises:
        ReedError: there is no such file, or it cannot be read.
    """
    own = next((feed.wishes[text] for feed in feeds if text in feed.wishes), None) or FeedTable()
    reading = FileSession(order, context, lambda _: None)
    try:
        try:
            patterns = [Pattern(one) for one in own.files or [text]]
        except ValueError as error:
            raise DefinitionError("previewing", text, found=str(error), fix="name a file, or a pattern of files") from None
        matching = reading.matching(patterns)
        if not matching:
            raise NotFound(
                "previewing", text, found=f"no file of {reading.store.where} matches",
                fix=f"see which there are with `reed survey {order.source}`", code="file.not_found",
            )  # fmt: skip
        infos = [info for info, _ in matching]
        info = next((info for info in infos if info.size), infos[0])
        reader = FileReader(own.format or FileFormat(), Columns({}, reading.time_zone))
        shaper, records = _sample(reading, info, reader, rows)
        shaped = shaper.shape(records, 0)
        columns = [(column.name, column.kind) for column in shaper.family.root.columns]
        held = shaped.batches[0].columns if shaped.batches else {}
        lists = [listed(held[n][1]) if n in held else [None] * shaped.records for n, _ in columns]
        read_as = reader.format_of(info.path) or "zip"
        how = ", ".join(filter(None, (read_as, reader.described(read_as))))
        note = f"{info.path}, 1 of {many(len(infos), 'file')} that match, {size(info.size)}; read as {how}"
        return Previewed(columns, [list(row) for row in zip(*lists)], [r.message for r in shaped.rejects], [], note)
    finally:
        reading.close()


def _sample(reading: FileSession, info: FileInfo, reader: FileReader, most: int) -> tuple[Shaper, list[dict[str, Any]]]:
    """Raises FileProblem, SourceError."""
    shaper, records = Shaper(TableShape("preview"), [], "row"), list[dict[str, Any]]()
    with closing(reading.store.open(info.path)) as content:
        parts = reader.read(info, content)
        for part in parts:
            if part.columns is not None:
                records += as_records(part.columns.slice(0, most - len(records)))
            else:
                records += part.records[: most - len(records)]
            if len(records) >= most:
                break
        parts.close()  # type: ignore[attr-defined]
    if records:
        shaper.shape(records, 0)
    return shaper, records
