"""Checks of what every connector promises, on its live source or on recorded answers."""

from __future__ import annotations

import secrets
import shutil
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

from ..core.records.names import fold
from ..core.runs.events import TableProgress
from ..core.runs.inspection.look import check_source
from ..core.runs.planning.order import ResolvedTable
from ..core.spec.times import parse_time, read_time, write_like
from ..core.wording import many
from .standalone import FEED, RecordingListener, StandaloneRun, well

_FAR_FUTURE, _FAR_PAST = "2999-01-01T00:00:00Z", "1970-01-01T00:00:00Z"


@dataclass
class PromiseResult:
    """The result of one check, of one table or of all.

    Attributes:
        ok: None if there was nothing to check it on.
    """

    promise: str
    table: str
    ok: bool | None
    found: str
    fix: str = ""
    seconds: float = 0.0

    def as_dict(self) -> dict[str, Any]:
        """{field: value}, for JSON."""
        return asdict(self)


@dataclass
class ConnectorCheck:
    """Checks one connector.

    Args:
        alone: writes into its own SQLite files below its scratch folder.
    """

    alone: StandaloneRun
    told: Callable[[PromiseResult], None] = lambda proof: None
    proofs: list[PromiseResult] = field(default_factory=list)
    _texts: list[str] = field(default_factory=list)
    _revealed: set[str] = field(default_factory=set)

    def prove(self) -> list[PromiseResult]:
        """Run every check, in order; a later one may need what an earlier one loaded."""
        reveal = self.alone.reveal

        def watched(name: str) -> str:
            value = reveal(name)
            self._revealed.add(value)
            return value

        self.alone.reveal = watched
        self._each(self._wrong_credential)
        whole = self._place("whole")
        self._each(lambda: self._reads(whole))
        tables = {table.name: table for table in self.alone.order.tables}
        for name in [name for name, count in self._counts(whole).items() if count]:
            table = tables[name]
            self._each(lambda table=table: self._key(whole, table))  # type: ignore[misc]
            if table.by == "cursor" and table.cursor is not None:
                self._each(lambda table=table: self._cursor(whole, table))  # type: ignore[misc]
        self._each(lambda: self._again(whole))
        self._each(lambda: self._cancelled(whole))
        self._each(self._log)
        return self.proofs

    def _each(self, promise: Callable[[], Iterator[PromiseResult]]) -> None:
        began = time.monotonic()
        for proof in promise():
            proof = replace(proof, seconds=round(time.monotonic() - began, 3))
            self.proofs.append(proof)
            self._texts += [proof.found, proof.fix]
            self.told(proof)
            began = time.monotonic()

    # One after the other

    def _wrong_credential(self) -> Iterator[PromiseResult]:
        what = "a wrong credential fails its check"
        order = self.alone.order
        if not order.secrets:
            yield PromiseResult(what, "", None, "it needs none")
            return
        made_up = {name: f"made-up-{secrets.token_hex(6)}" for name in order.secrets.values()}
        context = replace(self.alone.context(order), reveal=lambda name: made_up[name])
        if self.alone.tape:
            self.alone.tape.scope = "wrong credential"
        try:
            connector = self.alone.basket.connectors[order.connector]
            if connector.discover_tables:
                order = order.model_copy(update={"asked": connector.tables})
            steps = check_source(order, context, connector.tables)
        finally:
            if self.alone.tape:
                self.alone.tape.scope = ""
        failed = next((step for step in steps if step.ok is False), None)
        if failed is None:
            fix = "let the check include a request that needs it: in `check`, or for the first table"
            yield PromiseResult(what, "", False, "made-up secrets were accepted", fix)
        elif failed.step in ("secrets", "name", "port", "TLS", "code"):
            yield PromiseResult(what, "", False, f"its check failed at {failed.step}: {failed.found}", failed.fix)
        elif any(value in failed.found + failed.fix for value in made_up.values()):
            yield PromiseResult(what, "", False, "its message contains the secret", "describe the error without it")
        else:
            useful = len(failed.found) > 5 and failed.fix != ""
            yield PromiseResult(
                what,
                "",
                useful,
                f"{failed.step}: {failed.found}",
                "" if useful else "say what was found, and how to fix it",
            )

    def _reads(self, whole: Path) -> Iterator[PromiseResult]:
        result, kept = self._run(whole)
        for table in result.tables:
            error = table.error
            if error is not None:
                yield PromiseResult(
                    "every table reads", table.table, False, f"{error['found']} [{error['code']}]", error["fix"]
                )
            elif table.phase != "done":
                why = result.error["found"] if result.error else table.phase
                yield PromiseResult(
                    "every table reads", table.table, False, f"it was not reached: {why}", "fix the failure above"
                )
            else:
                found = f"{many(table.read, 'record')} in {many(table.requests, 'request')}"
                yield PromiseResult(
                    "every table reads",
                    table.table,
                    True if table.read else None,
                    found if table.read else "it has no records",
                )
        for level, code, message, name in kept.lines:
            if (level, code) == ("warning", "pages.may_continue"):
                yield PromiseResult(
                    "every page is read",
                    name or "",
                    False,
                    message,
                    "describe in `pagination` how pages continue, or set `single_page: true`",
                )
        if result.error is not None and not result.tables:
            yield PromiseResult("every table reads", "", False, result.error["found"], result.error["fix"])
        rejects = [f"{reject.field or 'record'}: {reject.message}" for reject in kept.rejected]
        words = "no record was rejected" if not rejects else f"rejected records: {len(rejects)}; the first: {rejects[0]}"
        fix = "" if not rejects else "check that the records have the declared key and cursor, in the declared types"
        yield PromiseResult("types are as declared", "", not rejects, words, fix)

    def _key(self, whole: Path, table: ResolvedTable) -> Iterator[PromiseResult]:
        if not table.key:
            yield PromiseResult("keys are present and unique", table.name, None, "it declares none")
            return
        lines = [line for line in self._ledger(whole) if line["source_table"] == table.name and line["table"] == table.target]
        twice = sum(line["superseded"] for line in lines)
        key = ", ".join(table.key)
        words = f"{key} is present and unique" if not twice else f"records with the {key} of another one: {twice}"
        fix = "" if not twice else "name all fields of the key, or fix the pagination: a page may come twice"
        yield PromiseResult("keys are present and unique", table.name, not twice, words, fix)

    def _cursor(self, whole: Path, table: ResolvedTable) -> Iterator[PromiseResult]:
        assert table.cursor is not None
        column = fold(table.cursor.column)
        column = table.shaping.rename.get(column, column)
        count, lacking = self._ask(whole, f'select count(*), sum("{column}" is null) from "{table.target}"')[0]
        fix = "accept it, or choose another cursor: records without it are loaded again and again" if lacking else ""
        yield PromiseResult(
            "the cursor is in every record", table.name, not lacking, f"{lacking or 0} of {count} lack {column}", fix
        )
        ordered = self._ask(whole, f'select "{column}" from "{table.target}" where "{column}" is not null order by 1')
        if not ordered:
            return
        middle = ordered[len(ordered) // 2][0]
        newer = sum(value >= middle for (value,) in ordered)
        yield from self._incremental(whole, table, column, middle, newer)
        yield from self._beyond(whole, table, count, ordered[0][0], ordered[-1][0])

    def _incremental(self, whole: Path, table: ResolvedTable, column: str, middle: Any, newer: int) -> Iterator[PromiseResult]:
        what = "a full read and an incremental one agree"
        part = self._copy(whole, "part")
        with closing(sqlite3.connect(part / "scratch.db")) as db:
            db.execute(f'delete from "{table.target}" where "{column}" >= ?', (middle,))
            db.commit()
        self._move(part, table, middle)
        result, _ = self._run(part)
        if not well(result):
            error = result.error or {}
            yield PromiseResult(what, table.name, False, str(error.get("found")), str(error.get("fix")))
            return
        lost = self._lost(whole, part, table)
        words = (
            f"from {middle} on it brought all {newer} records"
            if not lost
            else f"of {newer} records from {middle} on, {lost} did not come"
        )
        fix = (
            ""
            if not lost
            else "the answer must include records equal to the cursor: check `bound`, and the format of `{cursor.from}`"
        )
        yield PromiseResult(what, table.name, not lost, words, fix)

    def _beyond(self, whole: Path, table: ResolvedTable, count: int, lowest: Any, highest: Any) -> Iterator[PromiseResult]:
        assert table.cursor is not None
        kind = table.cursor.type
        if kind == "text":
            return
        # Numbers are no farther from those that came than these are from each other: some APIs mean a time by them.
        future = _FAR_FUTURE if kind == "time" else highest + max(1, abs(highest))
        past = _FAR_PAST if kind == "time" else min(lowest - 1, 0)
        for what, value, expected in (
            ("a cursor in the far future brings nothing", future, 0),
            ("a cursor in the past brings all again", past, count),
        ):
            place = self._copy(whole, "beyond")
            self._move(place, table, value)
            result, kept = self._run(place)
            if not well(result):
                error = result.error or {}
                yield PromiseResult(
                    what, table.name, False, f"{error.get('found')} [{error.get('code')}]", str(error.get("fix"))
                )
                continue
            progress = next(one for one in result.tables if one.table == table.name)
            written = sum(line.inserted + line.updated for line in kept.ledger if line.source_table == table.name)
            came = progress.read + progress.repeated + progress.unchanged
            if expected == 0:
                ok = progress.read == 0 and written == 0
                fix = "" if ok else "set `bound: none` if the API has no lower bound"
            else:
                ok = came >= expected and written == 0
                fix = "" if ok else "a read from the past must bring the same records as a full one, each time"
            yield PromiseResult(what, table.name, ok, f"{came} came, {written} were written", fix)

    def _again(self, whole: Path) -> Iterator[PromiseResult]:
        what = "pages end, and end alike"
        other = self._place("other")
        result, _ = self._run(other)
        if not well(result):
            yield PromiseResult(what, "", False, str((result.error or {}).get("found")), "fix the failure above")
            return
        first, second = self._counts(whole), self._counts(other)
        differ = {name: (first.get(name), second.get(name)) for name in second if first.get(name) != second.get(name)}
        words = (
            ", ".join(f"{name}: {a} rows, then {b}" for name, (a, b) in differ.items())
            or "a second full read brought as many rows"
        )
        fix = "request pages in a stable order, or by a token" if differ else ""
        yield PromiseResult(what, "", not differ, words, fix)

    def _cancelled(self, whole: Path) -> Iterator[PromiseResult]:
        what = "cancelled in the middle, it continues"
        place, stop = self._place("cancelled"), threading.Event()

        def on_progress(progress: TableProgress) -> None:
            if progress.phase == "reading" and progress.read:
                stop.set()

        result, _ = self._run(place, on_progress, stop)
        if well(result):
            yield PromiseResult(what, "", None, "it was over before it could be cancelled")
            return
        result, _ = self._run(place)
        first, second = self._counts(whole), self._counts(place)
        same = well(result) and first == second
        words = "the next run brought the rest" if same else f"rows then: {second}, of a full read: {first}"
        yield PromiseResult(
            what,
            "",
            same,
            words,
            "" if same else "what is saved on the way must not be ahead of what was read: `sorted`, `Saved`",
        )

    def _log(self) -> Iterator[PromiseResult]:
        met = [value for value in self._revealed if len(value) > 3 and any(value in text for text in self._texts)]
        words = f"{len(self._texts)} lines, none with a secret" if not met else "the log contains a secret"
        yield PromiseResult("no secret in the log", "", not met, words, "keep credentials out of messages" if met else "")

    # What they share

    def _run(
        self, place: Path, on_progress: Any = lambda progress: None, stop: threading.Event | None = None
    ) -> tuple[Any, RecordingListener]:
        kept = RecordingListener(on_progress)
        try:
            result = replace(self.alone, scratch=place).run(kept, stop)
        finally:
            self.alone.runs += 1
            self._texts += [message for _, _, message, _ in kept.lines]
            self._texts += [f"{seen.url} {seen.problem}" for seen in kept.requests] + [repr(result.error)]
        return result, kept

    def _place(self, name: str) -> Path:
        place = self.alone.scratch / name
        shutil.rmtree(place, ignore_errors=True)
        place.mkdir(parents=True)
        return place

    def _copy(self, whole: Path, name: str) -> Path:
        place = self._place(name)
        for file in whole.iterdir():
            shutil.copy(file, place / file.name)
        return place

    def _move(self, place: Path, table: ResolvedTable, value: Any) -> None:
        """value: of the cursor's column as the warehouse has it, or a time as we write it."""
        warehouse = replace(self.alone, scratch=place).warehouse()
        rule = table.cursor
        assert rule is not None
        try:
            state = warehouse.state(FEED, table.name)
            text = str(value)
            if rule.type == "time":
                own = rule.format is not None and value not in (_FAR_FUTURE, _FAR_PAST)
                at = read_time(value, rule.format) if own else parse_time(value)
                # As the source writes it: what is saved says how.
                text = write_like(at, state.cursor.value if state is not None and state.cursor is not None else "")
            warehouse.rewind(FEED, table.name, text)
        finally:
            warehouse.close()

    def _counts(self, place: Path) -> dict[str, int]:
        """{table of the source: its rows}"""
        there = {name for (name,) in self._ask(place, "select name from sqlite_master where type = 'table'")}
        targets = {table.name: table.target for table in self.alone.order.tables}
        return {
            name: self._ask(place, f'select count(*) from "{target}"')[0][0]
            for name, target in targets.items()
            if target in there
        }

    def _lost(self, whole: Path, part: Path, table: ResolvedTable) -> int:
        columns = ", ".join(f'"{fold(name)}"' for name in table.key) or "*"
        with closing(sqlite3.connect(part / "scratch.db")) as db:
            db.execute("attach ? as whole", (str(whole / "scratch.db"),))
            whole_keys, keys = (f'select {columns} from {place}."{table.target}"' for place in ("whole", "main"))
            statement = f"select count(*) from ({whole_keys} except {keys})"
            return int(db.execute(statement).fetchone()[0])

    def _ledger(self, place: Path) -> list[dict[str, Any]]:
        with closing(sqlite3.connect(place / "scratch.db")) as db:
            db.row_factory = sqlite3.Row
            return [dict(row) for row in db.execute("select * from _rb_ledger")]

    def _ask(self, place: Path, statement: str) -> list[tuple[Any, ...]]:
        with closing(sqlite3.connect(place / "scratch.db")) as db:
            return db.execute(statement).fetchall()


def prove(alone: StandaloneRun, told: Callable[[PromiseResult], None] = lambda proof: None) -> list[PromiseResult]:
    """Run all checks of a connector.

    Args:
        told: is called with each result as it is known.
    """
    return ConnectorCheck(alone, told).prove()
