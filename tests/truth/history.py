"""Histories: a world that changes, runs with faults, and the promises that must hold after each of them."""

from __future__ import annotations

import threading
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from hypothesis import strategies as st

from reedbasket.core.extract.pacer import LocalPacer
from reedbasket.core.run import Outside, RunOrder, RunResult, plan_feed, resolve, run_feed, verify_feed
from reedbasket.core.spec import load_texts
from tests.support.feeds import Heard
from tests.truth.faults import BY_NAME, FAULTS
from tests.truth.oracle import Expected, rows_of
from tests.truth.serving import Declaration, Host, Server
from tests.truth.world import WRITINGS, World

STARTED = datetime(2027, 1, 1, tzinfo=UTC)
# Faults that only a total tells.
NEEDS_TOTAL = ("cut between lines", "no next page once", "a short page", "an empty page", "delete while reading")
MUTATIONS = ("insert", "insert", "equal", "late", "change", "change", "delete")


@dataclass(frozen=True)
class Round:
    """What happens at the source, and then one run. faults: (name, page)."""

    mutations: tuple[tuple[str, int], ...] = ()
    faults: tuple[tuple[str, int], ...] = ()


@dataclass(frozen=True)
class History:
    declared: Declaration
    seed: int
    first: int
    rounds: tuple[Round, ...] = field(default_factory=tuple)


class Wrong(AssertionError):
    """A promise that was not kept."""


@st.composite
def declarations(draw: Any) -> Declaration:
    form = draw(st.sampled_from(["json", "json", "json", "ndjson", "csv", "xml"]))
    styles = ["token_header", "page", "offset", "link", "url_header", "last", "none"]
    if form in ("json", "xml"):
        styles += ["token", "token", "url"]
    style = draw(st.sampled_from(styles))
    by = draw(st.sampled_from(["cursor", "cursor", "everything", "compare"]))
    writes = {"cursor": ["merge", "merge", "append", "history"], "compare": ["merge", "mirror", "history"]}
    write = draw(st.sampled_from(writes.get(by, ["merge", "append", "replace", "mirror", "history"])))
    writing = draw(st.sampled_from(WRITINGS))
    text = writing not in ("epoch", "epoch_ms", "day_first", "offset")
    order = "id" if style == "last" else draw(st.sampled_from(["cursor", "cursor", "id", "newest"]))
    totals = ["none", "header", *(["body"] if form in ("json", "xml") else [])]
    warehouses = draw(st.sampled_from([("sqlite",), ("sqlite",), ("duckdb",), ("sqlite", "duckdb")]))
    return Declaration(
        style=style,
        form=form,
        by=by,
        write=write,
        writing=writing,
        compares=draw(st.sampled_from(["text", "instant"])) if text else "instant",
        bound=draw(st.sampled_from(["inclusive", "inclusive", "exclusive"])),
        order=order,
        promised=order == "cursor" and draw(st.booleans()),
        total=draw(st.sampled_from(totals)) if style != "none" else "none",
        coding=draw(st.sampled_from(["identity", "gzip", "deflate"])),
        deletes=draw(st.sampled_from(["apply", "apply", "mark"])),
        warehouses=warehouses,
        at_once=draw(st.sampled_from([1, 3])),
        nested=form in ("json", "ndjson") and draw(st.booleans()),
    )


@st.composite
def histories(draw: Any, faults: int = 2) -> History:
    """faults: of one run, at most."""
    declared = draw(declarations())
    fitting = [fault.name for fault in FAULTS if fault.fits(declared)]
    rounds = []
    for _ in range(draw(st.integers(1, 3))):
        mutations = draw(st.lists(st.tuples(st.sampled_from(MUTATIONS), st.integers(0, 9)), max_size=5))
        chosen = draw(
            st.lists(st.tuples(st.sampled_from(fitting), st.integers(0, 2)), max_size=faults, unique_by=lambda f: f[0])
        )
        if ("total too low" in (name for name, _ in chosen)) and any(name in NEEDS_TOTAL for name, _ in chosen):
            # Of two lies that fit each other nobody can tell.
            chosen = [fault for fault in chosen if fault[0] != "total too low"]
        rounds.append(Round(tuple(mutations), tuple(chosen)))
    return History(declared, draw(st.integers(0, 999)), draw(st.sampled_from([0, 1, 3, 4, 5, 8, 9, 13, 40])), tuple(rounds))


# The basket


def basket(declared: Declaration, url: str) -> str:
    d = declared
    key, changed = ("ref.id", "meta.updated_at") if d.nested else ("id", "updated_at")
    following = {
        "token": "{token: meta.next, as: after}" if d.form == "json" else "{token: answer.next, as: after}",
        "token_header": "{token_header: x-next, as: after}",
        "page": f"{{page: page, size: {d.size}, size_as: limit}}",
        "offset": f"{{offset: skip, size: {d.size}, size_as: limit}}",
        "link": "{link: next}",
        "url": "{url: meta.url}" if d.form == "json" else "{url: answer.next}",
        "url_header": "{url_header: X-NEXT-page}",
        "last": f"{{last: {key}, as: after}}",
    }
    forms = {"epoch": ", format: epoch", "epoch_ms": ", format: epoch_ms", "day_first": ', format: "%d.%m.%Y %H:%M:%S"'}
    lines = ["    get: /things"]
    sent = [] if d.style in ("page", "offset", "none") else [f"limit: {d.size}"]
    if d.by == "cursor":
        sent.append('since: "{cursor.from}"')
    if sent:
        lines.append(f"    send: {{{', '.join(sent)}}}")
    if d.form != "json":
        lines.append(f"    format: {d.form}")
    if d.form in ("json", "xml"):
        lines.append("    records: items" if d.form == "json" else "    records: answer.items.item")
    if d.style != "none":
        lines.append(f"    next: {following[d.style]}")
    if d.total != "none":
        where = (
            "{response_header: x-total-count}" if d.total == "header" else "meta.total" if d.form == "json" else "answer.total"
        )
        lines.append(f"    total: {where}")
    lines.append(f"    key: {key}")
    if d.by == "cursor":
        more = forms.get(d.writing, "") + (", sorted: true" if d.promised else "") + f", bound: {d.bound}"
        lines.append(f"    cursor: {{column: {changed}, overlap: 10m{more}}}")
    table = "\n".join(lines)
    houses = "\n---\n".join(f"warehouse: in_{w}\non: {w}\npath: marsh.{w}" for w in d.warehouses)
    into = ", ".join(f"in_{w}" for w in d.warehouses)
    deletes = f", deletes: {d.deletes}" if d.write != "append" and d.write != "replace" else ""
    return f"""
connector: truth-api
on: http
settings: {{url: {{type: url}}}}
base: "{{settings.url}}"
timeouts: {{connect: 2, read: 1, request: 3}}
retry: {{attempts: 3, first: 1ms, most: 2ms, rest_after: 1000}}
pace: {{at_once: {d.at_once}}}
tables:
  things:
{table}
---
source: truth
connector: truth-api
settings: {{url: "{url}"}}
---
{houses}
---
feed: truth
from: truth
into: [{into}]
tables: {{things: {{changes: {{by: {d.by}}}, write: {d.write}{deletes}}}}}
"""


# Playing


class Player:
    """Plays one history in a folder of its own."""

    def __init__(self, history: History, host: Host, folder: Path) -> None:
        self.history, self.declared, self.host, self.folder = history, history.declared, host, folder
        d = self.declared
        self.world = World(d.writing, d.form in ("csv", "xml"), history.seed)
        self.server = host.server = Server(self.world, d)
        self.expected = Expected(d.by, d.write, d.deletes)
        self.text = basket(d, host.url)
        self.run = 0

    def play(self) -> None:
        """Raises Wrong."""
        self.world.insert(self.history.first)
        for round_ in self.history.rounds:
            for what, place in round_.mutations:
                self._mutate(what, place)
            self._round(round_.faults)
        # After the faults, all ends right; and where nothing happened since, nothing comes.
        self._round(())
        lines = self._round(())
        if self.declared.by == "cursor" and any(line.inserted or line.updated or line.deleted for line in lines):
            raise Wrong(f"nothing happened, and yet: {lines}")
        self._verify()

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

    def _order(self) -> tuple[RunOrder, Outside]:
        started = STARTED + timedelta(hours=self.run)
        order = resolve(load_texts({"truth.yaml": self.text}), "truth", run=self.run, version=1, started=started)
        return order, Outside(lambda name: "", self.folder, LocalPacer(order.pace, order.retry), threading.Event())

    def _round(self, faults: tuple[tuple[str, int], ...]) -> list[Any]:
        self.run += 1
        server, world = self.server, self.world
        server.quiet()
        order, outside = self._order()
        planned = plan_feed(order, outside)
        problems = [p.error for p in planned if p.error]
        # One page that is just full, of a source that says nothing behind the last page, is doubted by whoever would remove rows.
        silent = ("token_header", "link", "url_header", *(("token", "url") if self.declared.form == "xml" else ()))
        ambiguous = self.declared.style in silent and self.declared.total == "none"
        self.doubtful = ambiguous and any(problem["code"] == "source.pages_may_go_on" for problem in problems)
        if problems and not self.doubtful:
            raise Wrong(f"plan failed on a source without a fault: {[p.error for p in planned]}")
        foreseen = {warning["code"] for p in planned for warning in p.warnings}
        server.quiet()
        server.faults = [(BY_NAME[name], page) for name, page in faults]
        server.now = order.started + timedelta(seconds=1)
        began = world.moment
        heard = Heard()
        order, outside = self._order()
        result = run_feed(order, outside, listener=heard, clock=lambda: datetime.now(UTC))
        self._judge(result, heard, order, began, foreseen)
        return heard.ledger

    def _judge(self, result: RunResult, heard: Heard, order: RunOrder, began: int, foreseen: set[str]) -> None:
        server, world, declared = self.server, self.world, self.declared
        struck = [fault for fault, _ in server.faults if fault.name in server.struck]
        about = f"{declared}; run {self.run}, struck by {struck}, {result.outcome}, {result.error}"
        if server.requests > 400:
            raise Wrong(f"{server.requests} requests; {about}")
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
        if server.altered and result.outcome == "succeeded" and not heard.rejected and not self._there(server.altered):
            raise Wrong(f"a record came, and is neither a row nor a reject; {about}")
        for engine in declared.warehouses:
            held = self._rows(engine)
            children = rows_of(self.folder, engine, "things_seats")
            if result.outcome != "succeeded":
                self.expected.excused |= server.altered
                wrong = self.expected.broken(held, world)
            else:
                wrong = self._after_success(held, children, order, began)
                codes = {fault.told for fault in struck if fault.told}
                strict = declared.write in ("mirror", "replace", "history") or declared.by == "compare"
                told = codes & foreseen if "pages.may_move" in codes else codes & set(heard.codes())
                if wrong and codes and told and not (strict and "pages.may_move" not in codes):
                    self._excuse_difference(held)
                    wrong = []
            if wrong:
                raise Wrong(f"in {engine}: {'; '.join(wrong[:4])}; {about}; log {heard.lines[-6:]}")
        if result.outcome == "succeeded":
            self.expected = self._next

    def _after_success(self, held: Any, children: Any, order: RunOrder, began: int) -> list[str]:
        world, before = self.world, self.expected
        self._next = before.copy()
        hidden = {n: world.rows.pop(n) for n in self.server.hidden if n in world.rows}
        self._next.after(world, order.started)
        world.rows |= hidden
        removed = len(set(before.rows) - set(self._next.rows))
        if removed > 10 and removed * 2 > len(before.rows):
            return [f"{removed} of {len(before.rows)} rows went because the source showed less"]
        self._next.excused |= self.server.altered
        if self.server.struck & {"a record that is none", "a record without key", "no record has the key"}:
            # Whatever was missed may have been the one that nobody could read.
            self._next.excused |= set(before.rows) - set(self._next.rows)
        if world.moment > began:
            # What changed meanwhile may have been met before or after.
            moved = {n for n, versions in world.past.items() if versions[-1][0] > began or (versions[-1][1] or 0) > began}
            self._next.excused |= moved
        return self._next.differences(held, children, world)

    def _excuse_difference(self, held: Any) -> None:
        """It was said before that this cannot be seen: what is missing now is excused until it changes."""
        there = {int(r["id"]) for r in held if r["id"] is not None}
        self._next.excused |= set(self._next.rows) - there | {n for n, _ in self._next.appended if n not in there}

    def _there(self, numbers: set[int]) -> bool:
        held = self._rows(self.declared.warehouses[0])
        return numbers <= {int(r["id"]) for r in held if r["id"] is not None}

    def _rows(self, engine: str) -> list[dict[str, Any]]:
        found = rows_of(self.folder, engine, "things") or []
        names = {"ref_id": "id", "meta_updated_at": "updated_at"}
        return [{names.get(name, name): value for name, value in row.items()} for row in found]

    def _verify(self) -> None:
        """`verify` says "same" exactly where the oracle does."""
        declared, world = self.declared, self.world
        if self.expected.excused:
            return
        self.server.quiet()
        order, outside = self._order()
        found = verify_feed(order, outside, deep=True, only=None)
        says = all(table.same for table in found) and not any(table.error for table in found)
        shown = {(n, id(r)) for n, r in world.rows.items()}
        is_so = {(n, id(r)) for n, r in self.expected.rows.items()} == shown
        if declared.write == "append":
            is_so = shown <= {(n, id(r)) for n, r in self.expected.appended}
        if says != is_so:
            raise Wrong(f"verify says {says}, and it is {is_so}: {[t.as_dict() for t in found]}; {declared}")
