"""A source over HTTP: how it may be declared, what it is asked, and what strikes it."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from hypothesis import strategies as st

from tests.truth.below import Below
from tests.truth.faults import BY_NAME, FAULTS
from tests.truth.scene import Scene, Struck
from tests.truth.serving import Declaration, Host, Server
from tests.truth.world import WRITINGS, World

# Faults that only a total tells.
NEEDS_TOTAL = (
    "cut between lines",
    "no next page anywhere",
    "no next page once",
    "a short page",
    "an empty page",
    "delete while reading",
)
MOST_REQUESTS = 500


def warehouses() -> Any:
    return st.sampled_from([("sqlite",), ("duckdb",), ("sqlite", "duckdb"), ("postgres",), ("mysql",), ("duckdb", "mysql")])


@st.composite
def declarations(draw: Any) -> Declaration:
    form = draw(st.sampled_from(["json", "json", "json", "ndjson", "csv", "xml"]))
    styles = ["token_header", "page", "offset", "link", "url_header", "last", "none"]
    if form in ("json", "xml"):
        styles += ["token", "token", "url"]
    style = draw(st.sampled_from(styles))
    by = draw(st.sampled_from(["cursor", "cursor", "full", "compare", "window"]))
    writes = {
        "window": ["upsert", "versions"],
        "cursor": ["upsert", "upsert", "append", "versions"],
        "compare": ["upsert", "mirror", "versions"],
    }
    write = draw(st.sampled_from(writes.get(by, ["upsert", "append", "replace", "mirror", "versions"])))
    writing = draw(st.sampled_from(WRITINGS))
    text = writing not in ("epoch", "epoch_ms", "day_first", "offset")
    order = "id" if style == "last" else draw(st.sampled_from(["cursor", "cursor", "id", "newest"]))
    below = draw(st.sampled_from(["", "all", "changed"] if by == "cursor" else ["", "all"])) if form == "json" else ""
    totals = ["none", "header", *(["body"] if form in ("json", "xml") else [])]
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
        deletes=draw(st.sampled_from(["hard", "hard", "soft"])),
        warehouses=draw(warehouses()),
        concurrency=draw(st.sampled_from([1, 3])),
        nested=form in ("json", "ndjson") and draw(st.booleans()),
        below=below if write != "append" else "",
        below_write=draw(st.sampled_from(["upsert", "mirror"])) if below == "all" else "upsert",
    )


def faults_of(declared: Declaration) -> list[str]:
    return [fault.name for fault in FAULTS if fault.fits(declared)]


def compatible(faults: list[tuple[str, int]]) -> list[tuple[str, int]]:
    """Of two lies that fit each other nobody can tell; and a total that falls while pages are read is another fault."""
    faults = [(name, 0 if name == "total too low" else page) for name, page in faults]
    if ("total too low" in (name for name, _ in faults)) and any(name in NEEDS_TOTAL for name, _ in faults):
        return [fault for fault in faults if fault[0] != "total too low"]
    return faults


def basket(declared: Declaration, url: str) -> str:
    d = declared
    key, changed = ("ref.id", "meta.updated_at") if d.nested else ("id", "updated_at")
    following = {
        "token": f"{{by: page_token, at: {'meta' if d.form == 'json' else 'answer'}.next, param: after}}",
        "token_header": "{by: page_token, response_header: x-next, param: after}",
        "page": f"{{by: page_number, param: page, size: {d.size}, size_param: limit}}",
        "offset": f"{{by: offset, param: skip, size: {d.size}, size_param: limit}}",
        "link": "{by: link_header}",
        "url": "{by: next_url, at: meta.url}" if d.form == "json" else "{by: next_url, at: answer.next}",
        "url_header": "{by: next_url, response_header: X-NEXT-page}",
        "last": f"{{by: keyset, column: {key}, param: after}}",
    }
    forms = {"epoch": ", format: epoch", "epoch_ms": ", format: epoch_ms", "day_first": ', format: "%d.%m.%Y %H:%M:%S"'}
    lines = ["    get: /things"]
    sent = [] if d.style in ("page", "offset", "none") else [f"limit: {d.size}"]
    if d.by == "cursor":
        sent.append('since: "{cursor.from}"')
    if d.by == "window":
        sent += ['from: "{window.from}"', 'until: "{window.until}"']
    if sent:
        lines.append(f"    query_params: {{{', '.join(sent)}}}")
    if d.form != "json":
        lines.append(f"    format: {d.form}")
    if d.form in ("json", "xml"):
        lines.append("    records: items" if d.form == "json" else "    records: answer.items.item")
    if d.style != "none":
        lines.append(f"    pagination: {following[d.style]}")
    if d.total != "none":
        where = (
            "{response_header: x-total-count}" if d.total == "header" else "meta.total" if d.form == "json" else "answer.total"
        )
        lines.append(f"    total: {where}")
    lines.append(f"    primary_key: {key}")
    if d.by == "cursor":
        more = forms.get(d.writing, "") + (", sorted: true" if d.promised else "") + f", bound: {d.bound}"
        lines.append(f"    cursor: {{column: {changed}, overlap: 10m{more}}}")
    # All windows come again each time, for what changes in a window that was taken is seen in no other way.
    window = ", from: 2026-02-01, length: month, overlap: 700d" if d.by == "window" else ""
    table = "\n".join([*lines, *(places(key, d.below) if d.below else [])])
    into = ", ".join(f"in_{w}" for w in d.warehouses)
    deletes = f", deletes: {d.deletes}" if d.write not in ("append", "replace") else ""
    return f"""
connector: truth-api
type: http
settings: {{url: {{type: url}}}}
base_url: "{{settings.url}}"
timeouts: {{connect: 2, read: 1, total: 3}}
retry: {{attempts: 3, first_wait: 1ms, max_wait: 2ms, cooldown_after_failures: 1000}}
rate_limit: {{concurrency: {d.concurrency}}}
tables:
  - table: things
{table}
---
source: truth
connector: truth-api
settings: {{url: "{url}"}}
---
feed: truth
from: truth
into: [{into}]
tables:
  - {{table: things, changes: {{by: {d.by}{window}}}, write: {d.write}{deletes}}}
{f"  - {{table: places, write: {d.below_write}}}" if d.below else ""}
"""


def places(key: str, parents: str) -> list[str]:
    lines = [
        "  - table: places",
        f"    parent: {{table: things, rows: {parents}}}",
        f"    get: /things/{{parent.{key}}}/places",
    ]
    return [*lines, f'    add_columns: {{thing: "{{parent.{key}}}"}}', "    records: items", "    primary_key: [thing, seat]"]


class HttpScene(Scene):
    declared: Declaration

    def __init__(self, declared: Declaration, seed: int, host: Host) -> None:
        super().__init__(declared, World(declared.writing, "texts" if declared.form in ("csv", "xml") else "nested", seed))
        self._host = host
        self.server = Server(self.world, declared)
        host.serve(self.server)
        self.columns = {"ref_id": "id", "meta_updated_at": "updated_at"}
        self.below = Below(declared.below_write) if declared.below else None

    def text(self) -> str:
        return basket(self.declared, self.server.url)

    def quiet(self) -> None:
        self._host.serve(self.server)

    @property
    def altered(self) -> set[int]:
        return self.server.altered

    @property
    def hidden(self) -> set[int]:
        return self.server.hidden

    def strike(self, faults: tuple[tuple[str, int], ...], now: datetime) -> None:
        self.server.faults = [(BY_NAME[name], page) for name, page in faults]
        self.server.now = now

    def struck(self) -> list[Struck]:
        met = [fault for fault, _ in self.server.faults if fault.name in self.server.struck]
        return [Struck(fault.name, fault.harmless, fault.told) for fault in met]

    def doubts(self, code: str) -> bool:
        """One page that is just full, of a source that says nothing behind the last page, is doubted by whoever would remove rows."""
        silent = ("token_header", "link", "url_header", *(("token", "url") if self.declared.form == "xml" else ()))
        ambiguous = self.declared.style in silent and self.declared.total == "none"
        return ambiguous and code == "source.pages_may_continue"

    def perhaps_there(self, before: set[int]) -> set[int]:
        # Where places failed, the things may have been committed.
        return set(self.world.past) - set(self.world.rows) if self.declared.below else set()

    def served(self) -> int | None:
        # Who asks for what lies below each of them may read them for that too.
        return None if self.declared.below else self.server.served

    def require_bounds(self) -> str:
        return f"{self.server.requests} requests" if self.server.requests > MOST_REQUESTS else ""
