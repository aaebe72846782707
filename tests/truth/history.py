"""Histories: a world that changes, runs with faults, and the promises that must hold after each of them."""

from __future__ import annotations

from copy import deepcopy
from datetime import UTC, datetime, timedelta
from typing import Any

from reedbasket.core.runs import ResolvedRun, RunResult, plan_feed, run_feed, verify_feed
from reedbasket.core.runs.execution.replay import Replayed
from reedbasket.core.runs.inspection.plan import PlannedTable
from tests.support.feeds import SECRETS, Heard
from tests.truth.below import shown_below
from tests.truth.houses import Houses
from tests.truth.oracle import Expected, Rows
from tests.truth.running import STARTED, Listening, Rejects, order_of, processes, run_context_of, run_to_be_killed
from tests.truth.scene import History, Round, Scene


class Wrong(AssertionError):
    """A promise that was not kept."""


class Player:
    """Plays one history in a folder of its own."""

    def __init__(self, history: History, scene: Scene, houses: Houses) -> None:
        self.history, self.declared, self.scene, self.houses = history, history.declared, scene, houses
        self.world, self.folder = scene.world, houses.folder
        d = self.declared
        self.expected = Expected(d.by, d.write, d.deletes)
        self.run = 0
        self.rejects: Rejects = {}

    @property
    def text(self) -> str:
        """The definitions as the next run reads them."""
        return self.scene.text() + self.houses.text()

    def play(self) -> None:
        """Raises Wrong."""
        self.world.insert(self.history.first)
        self.scene.moved()
        for round_ in self.history.rounds:
            self.scene.quiet()
            for what, place in round_.mutations:
                self._mutate(what, place)
                self.scene.moved()
            self._round(round_)
        # After the faults, all ends right; and where nothing happened since, nothing comes.
        self._round(Round())
        lines = self._round(Round())
        if self.declared.by != "full" and any(line.inserted or line.updated or line.deleted for line in lines):
            raise Wrong(f"nothing happened, and yet: {lines}")
        self._verify()
        self._replay()

    def _mutate(self, what: str, place: int) -> None:
        world = self.world
        if what == "insert":
            world.insert(1 + place % 3)
        elif what in ("equal", "late"):
            world.insert(1, equal=what == "equal", late=what == "late")
        elif what == "change":
            world.change(place)
        else:
            world.delete(place)

    def _round(self, round_: Round) -> list[Any]:
        self.run += 1
        scene, world = self.scene, self.world
        scene.quiet()
        look = order_of(self.text, self.run)
        planned = plan_feed(look, run_context_of(look, self.folder))
        problems = [p.error for p in planned if p.error]
        self.doubtful = any(scene.doubts(problem["code"]) for problem in problems)
        if problems and not self.doubtful:
            raise Wrong(f"plan failed on a source without a fault: {problems}; {self.declared}")
        foreseen = {warning["code"] for p in planned for warning in p.warnings}
        scene.quiet()
        order = order_of(self.text, self.run)
        scene.strike(round_.faults, order.started + timedelta(seconds=1))
        began = world.moment
        if round_.killed is not None and self._killed(round_.killed):
            self._judge_what_stays(f"{self.declared}; run {self.run} was killed, struck by {scene.struck()}")
            return []
        heard = Listening(scene, self.rejects, self.run)
        result = run_feed(order, run_context_of(order, self.folder), listener=heard, clock=lambda: datetime.now(UTC))
        self._judge(result, heard, order, began, foreseen, round_)
        if result.outcome == "succeeded" and not scene.struck():
            self._judge_columns(planned)
        return heard.ledger

    def _judge_columns(self, planned: list[PlannedTable]) -> None:
        """The columns that a plan speaks of are those that are there then."""
        for table in planned:
            said = {column["name"] for column in [*table.columns, *table.new_columns]} - set(table.only_nulls)
            held = self.houses.rows(table.warehouse.removeprefix("in_") or self.declared.warehouses[0], table.table)
            if held and (missing := said - set(held[0])):
                raise Wrong(f"plan told of columns of {table.table} that did not come: {missing}; {self.declared}")

    def _replay(self) -> None:
        """What was rejected is given once more: nothing that is there changes, and nothing is doubled."""
        again = {
            (name or f"in_{self.declared.warehouses[0]}", "things"): Replayed(*map(list, zip(*held, strict=True)))
            for name, held in self.rejects.items()
            if held
        }
        if not again:
            return
        self.run += 1
        order = order_of(self.text, self.run)
        before = {engine: self._rows(engine) for engine in self.declared.warehouses}
        run_feed(order, run_context_of(order, self.folder), listener=Heard(), clock=lambda: datetime.now(UTC), again=again)
        replayed = {str(record.get("id", record.get("ref"))) for held in self.rejects.values() for record, _, _ in held}
        for engine, rows in before.items():
            after = self._rows(engine)
            told = set(map(repr, after)), set(map(repr, rows))  # as NaN is not equal to itself
            if missing := [row for row in rows if repr(row) not in told[0]]:
                raise Wrong(f"in {engine}: {missing} changed by a replay of {again}; {self.declared}")
            more = [row for row in after if repr(row) not in told[1]]
            if others := [row for row in more if str(row["id"]) not in replayed]:
                raise Wrong(f"in {engine}: {others} came by a replay of {again}; {self.declared}")
            sees_all = self.declared.by in ("compare", "cdc") or self.declared.write in ("mirror", "replace")
            gone = [row for row in more if row["id"] is not None and int(row["id"]) not in self.world.rows]
            if sees_all and gone:
                raise Wrong(f"in {engine}: {gone} had gone, and came by a replay of {again}; {self.declared}")
            if self.declared.write != "append" and {row["id"] for row in more} & {row["id"] for row in rows}:
                raise Wrong(f"in {engine}: {more} doubled by a replay of {again}; {self.declared}")

    def _killed(self, after: float) -> bool:
        """Whether it was; else it ended by itself, and this run goes once more."""
        process = processes.Process(target=run_to_be_killed, args=(self.text, self.run, str(self.folder), SECRETS))
        process.start()
        process.join(after)
        alive = process.is_alive()
        process.kill()
        process.join()
        if not alive:
            self.run += 1
        return alive

    def _judge_what_stays(self, about: str) -> None:
        """What was committed before it broke off is whole."""
        self.expected.excused |= self.scene.altered
        lines = [line for engine in self.declared.warehouses for line in self.houses.rows(engine, "_rb_ledger") or []]
        if any(line["run"] == self.run and line["rejected"] for line in lines):
            # A table was committed, with what it rejected told: it comes again when it changes, and not before.
            self.expected.rows |= {n: self.world.rows[n] for n in self.scene.altered if n in self.world.rows}
        for engine in self.declared.warehouses:
            wrong = self.expected.broken(self._rows(engine), self.world)
            if self.scene.below is not None:
                wrong += self.scene.below.broken(self.houses.rows(engine, "places"), self.world)
            if wrong:
                raise Wrong(f"in {engine}: {'; '.join(wrong[:4])}; {about}")
        self.expected.committed([self._rows(engine) for engine in self.declared.warehouses], self.world)

    def _judge(
        self, result: RunResult, heard: Heard, order: ResolvedRun, began: int, foreseen: set[str], round_: Round
    ) -> None:
        scene, world, declared = self.scene, self.world, self.declared
        struck = scene.struck()
        about = f"{declared}; run {self.run}, struck by {struck}, {result.outcome}, {result.error}; log {heard.lines[-6:]}"
        if too_much := scene.require_bounds():
            raise Wrong(f"{too_much}; {about}")
        for line in heard.ledger:
            if line.read != line.inserted + line.updated + line.deleted + line.unchanged + line.superseded + line.rejected:
                raise Wrong(f"a line of the ledger does not add up: {line}; {about}")
        if result.error is not None and (not result.error["code"] or result.error["code"].startswith("reed.")):
            raise Wrong(f"no code of its own: {about}")
        if self.doubtful and result.outcome == "failed":
            return
        harmless = all(fault.harmless for fault in struck) and world.moment == began
        if harmless and result.outcome != "succeeded":
            raise Wrong(f"nothing was wrong; {about}")
        if result.outcome != "succeeded":
            self._judge_what_stays(about)
            return
        served = scene.served()
        # On a busy machine an answer may come too late, and is asked for again; a run that was to be killed may have ended first.
        counts = round_.killed is None and all(seen.attempt == 1 for seen in heard.requests)
        if counts and not struck and world.moment == began and served is not None:
            first = result.tables[0]
            told = first.read + first.repeated + first.held_back + first.filtered
            if told != served:
                raise Wrong(f"{served} records came, and the run tells of {told}; {about}")
        if scene.altered and not heard.rejected and not self._there(scene.altered):
            raise Wrong(f"a record came, and is neither a row nor a reject; {about}")
        for engine in declared.warehouses:
            held = self._rows(engine)
            wrong = self._after_success(engine, held, order, began)
            codes = {fault.told for fault in struck if fault.told}
            strict = declared.write in ("mirror", "replace", "versions") or declared.by == "compare"
            # Behind the first page it goes by another code, for it may as well be the end.
            codes |= {"pages.end_unknown"} if "pages.may_continue" in codes else set()
            # That pages may move is said by the plan alone; what else was met, a run that removes nothing may say itself.
            told = codes & foreseen
            if not strict:
                told |= (codes - {"not_detected.moved_pages"}) & set(heard.codes())
            if wrong and told:
                self._excuse_difference(held)
                wrong = []
            if wrong:
                raise Wrong(f"in {engine}: {'; '.join(wrong[:4])}; {about}")
        self.expected = self._next
        if scene.below is not None:
            scene.below.after(world, self.expected.excused | self._beyond())
        scene.loaded = scene.loaded or bool(self.expected.rows or self.expected.appended)

    def _after_success(self, engine: str, held: Rows, order: ResolvedRun, began: int) -> list[str]:
        world, before, children = self.world, self.expected, self.houses.rows(engine, "things_seats")
        self._next = before.copy()
        hidden = {n: world.rows.pop(n) for n in self.scene.hidden if n in world.rows}
        self._next.after(world, order.started, self.scene.unseen(set(before.rows)))
        world.rows |= hidden
        removed = len(set(before.rows) - set(self._next.rows))
        if self.declared.write == "replace":  # of which only the number of rows is known
            removed = len(before.rows) - len(self._next.rows)
        if removed > 10 and removed * 2 > len(before.rows):
            return [f"{removed} of {len(before.rows)} rows went because the source showed less"]
        # What was excused before may still be there.
        perhaps_held = set(before.rows) | before.excused
        self._next.excused |= self.scene.altered
        for held_before in (set(before.rows), perhaps_held):
            self._next.excused |= self.scene.perhaps_there(held_before)
        if {fault.name for fault in self.scene.struck()} & {
            "a record that is none",
            "a record without key",
            "no record has the key",
        }:
            # Whatever was missed may have been the one that nobody could read.
            self._next.excused |= perhaps_held - set(self._next.rows)
        if world.moment > began:
            # What changed meanwhile may have been met before or after.
            moved = {n for n, versions in world.past.items() if versions[-1][0] > began or (versions[-1][1] or 0) > began}
            self._next.excused |= moved
        return self._next.differences(held, children, world) + self._wrong_below(engine)

    def _beyond(self) -> set[int]:
        """Rows of a window that has not ended."""
        return {n for n, row in self.world.rows.items() if self.declared.by == "window" and row.at >= STARTED}

    def _wrong_below(self, engine: str) -> list[str]:
        if self.scene.below is None:
            return []
        below = deepcopy(self.scene.below)
        below.after(self.world, self._next.excused | self._beyond())
        return below.differences(self.houses.rows(engine, "places"), self.world)

    def _excuse_difference(self, held: Rows) -> None:
        """It was said before that this cannot be seen: what is missing now is excused until it changes."""
        current = [r for r in held if r.get("_rb_valid_until") is None and r.get("_rb_deleted_at") is None]
        there = {int(r["id"]) for r in current if r["id"] is not None}
        self._next.excused |= set(self._next.rows) - there | {n for n, _ in self._next.appended if n not in there}

    def _there(self, numbers: set[int]) -> bool:
        held = self._rows(self.declared.warehouses[0])
        return numbers <= {int(r["id"]) for r in held if r["id"] is not None}

    def _rows(self, engine: str) -> Rows:
        names = self.scene.columns
        found = self.houses.rows(engine, "things") or []
        return [{names.get(name, name): value for name, value in row.items()} for row in found]

    def _verify(self) -> None:
        """`verify` says "same" exactly where the oracle does."""
        declared, world = self.declared, self.world
        if self.expected.excused or self._beyond():
            return
        self.scene.quiet()
        order = order_of(self.text, self.run)
        found = verify_feed(order, run_context_of(order, self.folder), deep=True, only=None)
        says = all(table.same for table in found) and not any(table.error for table in found)
        shown = {(n, id(r)) for n, r in world.rows.items()}
        is_so = {(n, id(r)) for n, r in self.expected.rows.items()} == shown
        if declared.write == "append":
            is_so = shown <= {(n, id(r)) for n, r in self.expected.appended}
        if (below := self.scene.below) is not None:
            if below.unsure:
                return
            is_so = is_so and below.rows == shown_below(world, set())
        if says != is_so:
            raise Wrong(f"verify says {says}, and it is {is_so}: {[t.as_dict() for t in found]}; {declared}")
