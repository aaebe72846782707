"""Connectors in Python: what they bring, what they are kept from, and how they end."""

from __future__ import annotations

import json
import os
import shutil
import sysconfig
import threading
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.errors import DefinitionError
from reedbasket.core.runs import RunOutcome, RunResult, resolve, run_feed
from reedbasket.core.sources.python.description import described
from reedbasket.core.spec import load_texts
from reedbasket.kit.standalone import RecordingListener
from tests.support.feeds import SECRET, run_context_for, table_rows
from tests.support.source import Answer, Changing, Request, serving

BASKET = """
connector: lockers
type: python
code: lockers.py
{more}
---
source: test
connector: lockers
settings: {{url: "{url}", token: {{secret: test_token}}}}
---
warehouse: marsh
type: sqlite
path: marsh.db
---
feed: test
from: test
into: marsh
tables: [{{table: boxes, {table}}}]
"""
HEAD = """
import os, time
import pyarrow as pa
from reedbasket.kit import Connector, Failed, Position, Saved, Secret, Setting, Table, Time, Url

class Lockers(Connector):
    "Parcel lockers."
    url: Url
    token: Secret
    auth = {"type": "bearer", "token": "{settings.token}"}
"""
PAGED = """
    boxes = Table(primary_key="id", cursor="updated_at")
    def read_boxes(self, position):
        after = None
        while True:
            page = self.http.get("/boxes", {"since": position.from_, "after": after}).json()
            yield page["items"]
            after = page["meta"]["next"]
            if after is None:
                return
"""


def run(
    code: str, url: str, folder: Path, *, number: int = 1, more: str = "", table: str = "", stop: threading.Event | None = None
) -> tuple[RunResult, RecordingListener]:
    text = BASKET.format(url=url, more=more, table=table)
    basket = load_texts({"b.yaml": text, "lockers.py": HEAD + code}, describe=described)
    order = resolve(basket, "test", run=number, version=1, started=datetime.now(UTC))
    kept = RecordingListener()
    return run_feed(order, run_context_for(order, folder, stop), listener=kept, clock=lambda: datetime.now(UTC)), kept


def records(count: int, **more: Any) -> list[dict[str, Any]]:
    return [
        {"id": n, "big": 2**63 + n, "kids": [{"n": n}], "updated_at": f"2026-03-01T{n // 60:02d}:{n % 60:02d}:00Z", **more}
        for n in range(count)
    ]


def test_pages_come_by_the_workers_requests_and_only_what_changed_the_next_time(tmp_path: Path) -> None:
    source = Changing(records(120))
    with serving(source) as server:
        result, kept = run(PAGED, server.url, tmp_path)
        assert result.outcome is RunOutcome.SUCCEEDED, result.error
        assert [r.headers["authorization"] for r in server.requests] == [f"Bearer {SECRET}"] * 3
        assert [seen.status for seen in kept.requests] == [200, 200, 200]
        source.records += records(122)[120:]
        source.records[5] = {**source.records[5], "updated_at": "2026-03-02T00:00:00Z"}
        result, kept = run(PAGED, server.url, tmp_path, number=2)
        assert [(line.read, line.inserted, line.updated) for line in kept.ledger if line.table == "boxes"] == [(3, 2, 1)]
    rows = table_rows(tmp_path, "boxes")
    assert len(rows) == 122 and {int(row["big"]) for row in rows} == {2**63 + n for n in range(122)}
    assert len(table_rows(tmp_path, "boxes_kids")) == 122


ARROW = """
    boxes = Table(primary_key="id", own_position=True)
    def read_boxes(self, position):
        for part in range(position.saved or 0, 4):
            if part == {breaks}:
                raise Failed("the shelf is empty", "fill it", retry=True)
            yield pa.table({{"id": pa.array(range(part * 10, part * 10 + 10), pa.int32()), "at": pa.array([0] * 10, pa.timestamp("ms"))}})
            yield Saved(part + 1)
"""


def test_arrow_batches_and_what_is_saved_behind_them(tmp_path: Path) -> None:
    """Appended: what was committed before the end comes once, and only once."""
    table, more = "write: append", "timeouts: {connect: 2}"
    for number, breaks in ((1, 2), (2, 3), (3, 9), (4, 9)):
        result, kept = run(ARROW.format(breaks=breaks), "http://127.0.0.1:9", tmp_path, number=number, table=table, more=more)
        assert (result.outcome is RunOutcome.FAILED) == (breaks < 9), result.error
        if breaks < 9:
            assert result.error and (result.error["code"], result.error["retryable"]) == ("connector.failed", True)
            assert "the shelf is empty" in result.error["found"]
    assert sorted(row["id"] for row in table_rows(tmp_path, "boxes")) == list(range(40))
    assert kept.ledger == []


BROKEN = [
    ("yield {}['no']", "connector.broken", "KeyError: 'no' at lockers.py:"),
    ("yield 5", "connector.failed", "yielded int"),
    ("yield os._exit(3)", "connector.broken", "exit code 3"),
    ("yield time.sleep(60)", "connector.timed_out", "yielded nothing for 1 s"),
    ("yield bytearray(10**9)", "connector.out_of_memory", "more than the 200 MB"),
    ("yield self.http.get('http://127.0.0.2:1/x')", "connector.other_server", "a server other than"),
    ("try: yield self.http.get('/gone')\n        except Exception: pass", "source.permission_denied", "it answered 403"),
    ("yield 1 / 0 if self.url else 0", "connector.broken", "ZeroDivisionError"),
    ("yield [{'ID': 1}, {'ID': 2}]", "source.field_not_found", "`id`, the key"),
    ("raise RuntimeError(self.token); yield", "connector.broken", "RuntimeError: •••"),
]


@pytest.mark.parametrize(("code", "wanted", "found"), BROKEN, ids=[wanted + found[:8] for _, wanted, found in BROKEN])
def test_what_goes_wrong_is_told_and_ends_the_table_alone(code: str, wanted: str, found: str, tmp_path: Path) -> None:
    whole = f"    boxes = Table(primary_key='id')\n    def read_boxes(self, position):\n        {code}\n"
    with serving(lambda request: Answer({}, 403)) as server:
        # What is silent is waited for; on a busy machine the others may take longer to fail.
        patience = "1s" if wanted == "connector.timed_out" else "2m"
        result, kept = run(whole, server.url, tmp_path, more=f"idle_timeout: {patience}\nmemory_limit: 200")
    assert result.outcome is RunOutcome.FAILED and result.error is not None
    assert (result.error["code"], found in result.error["found"]) == (wanted, True), result.error
    assert SECRET not in str(result.error) + str(kept.lines)


def test_it_sees_its_own_settings_and_no_file_of_ours(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "service.db").write_text("full")
    monkeypatch.setenv("REED_SECRET_OTHER", "another's")
    code = f"""
    boxes = Table(primary_key="id")
    def read_boxes(self, position):
        print("seen on the way")
        found = []
        for path in ("{tmp_path}/service.db", "/root", "/proc/1/environ"):
            try:
                found.append(repr(os.listdir(path) if os.path.isdir(path) else open(path, "rb").read()))
            except OSError as error:
                found.append(type(error).__name__)
        open("scratch", "w").write("mine")
        self.log.warning("looked around")
        yield {{"id": 1, "found": found, "env": sorted(os.environ), "token": self.token == "{SECRET}"}}
"""
    result, kept = run(code, "http://127.0.0.1:9", tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    (row,) = table_rows(tmp_path, "boxes")
    assert json.loads(row["found"]) == ["PermissionError"] * 3
    assert row["token"] == 1 and not any(name.startswith("REED") for name in json.loads(row["env"]))
    assert {code for _, code, _, _ in kept.lines} >= {"connector.output", "connector.log"}
    assert ("connector.log", "looked around") in [(code, message) for _, code, message, _ in kept.lines]


def test_a_run_that_is_cancelled_ends_its_process(tmp_path: Path) -> None:
    stop = threading.Event()
    code = """
    boxes = Table(primary_key="id")
    def read_boxes(self, position):
        yield [{"id": n} for n in range(3000)]
        time.sleep(600)
"""
    threading.Timer(1.5, stop.set).start()
    result, _ = run(code, "http://127.0.0.1:9", tmp_path, stop=stop)
    assert result.outcome is RunOutcome.CANCELLED  # and the ten minutes are not waited for


SETTINGS = """
    since: Time = Setting("2026-01-01T00:00:00Z", description="from then on")
    landings: list[str] = Setting(("OSQ",))
    most: int = 5
    boxes = Table(primary_key=("a", "b"), window="30d", from_="{settings.since}", description="each box")
    def read_boxes(self, position):
        yield {"a": position.window[0].isoformat(), "b": str(self.since.year) + self.landings[0] + str(self.most + 1)}
"""


def test_what_its_class_says_is_its_definition(tmp_path: Path) -> None:
    said = load_texts(
        {"b.yaml": BASKET.format(url="http://x", more="rate_limit: {per_second: 3}", table=""), "lockers.py": HEAD + SETTINGS},
        describe=described,
    )
    connector = said.connectors["lockers"]
    assert (connector.description, connector.rate_limit.per_second, connector.tables["boxes"].primary_key) == (
        "Parcel lockers.",
        3,
        ["a", "b"],
    )
    assert {name: setting.type for name, setting in connector.settings.items()} == {
        "url": "url", "token": "secret", "since": "time", "landings": "list", "most": "number",
    }  # fmt: skip
    result, _ = run(SETTINGS, "http://127.0.0.1:9", tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    rows = table_rows(tmp_path, "boxes")
    assert rows[0] == {"a": "2026-01-01 00:00:00.000000Z", "b": "2026OSQ6"} and len(rows) > 9


@pytest.mark.parametrize(
    ("code", "word"),
    [
        ("    boxes = Table(primary_key='id', window='1d')\n", "definition.bad_value"),
        ("    boxes = Table(primary_key='id')\n    odd: dict = {}\n", "connector.failed"),
        ("    boxes = Table(primary_key='id')\n    this is no Python\n", "connector.broken"),
        ("class Other(Connector):\n    pass\n", "connector.failed"),
    ],
)
def test_a_class_with_mistakes_is_a_mistake_of_the_definition(code: str, word: str) -> None:
    with pytest.raises(DefinitionError) as caught:
        load_texts({"b.yaml": BASKET.format(url="http://x", more="", table=""), "lockers.py": HEAD + code}, describe=described)
    assert word in [mistake["code"] for mistake in caught.value.details or []], caught.value.details
    with pytest.raises(DefinitionError) as caught:
        load_texts({"b.yaml": BASKET.format(url="http://x", more="", table="")}, describe=described)
    assert "there is no file lockers.py" in str(caught.value.details)


def test_what_is_asked_of_an_api_is_sent_as_said(tmp_path: Path) -> None:
    heard: list[Request] = []

    def answer(request: Request) -> Answer:
        heard.append(request)
        return Answer({"id": len(heard)}, 404 if request.path == "/none" else 200, {"X-Left": "3"})

    code = """
    boxes = Table(primary_key="id")
    def read_boxes(self, position):
        assert self.http.get("/none", good=(200, 404)).status == 404
        answer = self.http.post("/by", json={"day": 1}, query={"when": position.until, "no": None, "yes": True})
        assert answer.headers["x-left"] == "3" and answer.text.startswith("{")
        self.http.post("/form", form={"a": "b c"})
        yield self.http.get(answer.url.replace("/by", "/next")).json()
"""
    with serving(answer) as server:
        result, _ = run(code, server.url, tmp_path)
        assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert [(r.method, r.path) for r in heard] == [("GET", "/none"), ("POST", "/by"), ("POST", "/form"), ("GET", "/next")]
    assert heard[1].json == {"day": 1} and set(heard[1].query) == {"when", "yes"} and heard[1].query["yes"] == "true"
    assert heard[2].form == {"a": "b c"} and heard[3].query == heard[1].query


def test_tables_asked_of_the_source_and_what_is_said_on_the_way(tmp_path: Path) -> None:
    code = """
    def tables(self):
        self.log.info("looked into the shelves")
        for name in self.http.get("/shelves").json():
            yield Table(name=name, primary_key="id")
    def read(self, table, position):
        yield {"id": 1, "shelf": table}
"""
    with serving(lambda request: Answer(["boxes", "spare ones"])) as server:
        result, kept = run(code, server.url, tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert [(row["id"], row["shelf"]) for row in table_rows(tmp_path, "boxes")] == [(1, "boxes")]
    said = {(code, message) for _, code, message, _ in kept.lines}
    assert ("connector.log", "looked into the shelves") in said
    assert ("table.ignored", "tables of the source, not part of this feed: spare ones") in said
    with serving(lambda request: Answer(["bo*"])) as server:
        result, _ = run(code, server.url, tmp_path, number=2)
    assert result.error is not None and result.error["code"] == "connector.bad_table"


def test_what_an_installed_package_publishes(tmp_path: Path) -> None:
    """By name; without a file of its program anywhere in the basket."""
    site = Path(sysconfig.get_paths()["purelib"])
    name = f"lockers_{os.getpid()}"
    module, facts = site / f"{name}.py", site / f"{name}-1.0.dist-info"
    text = BASKET.format(url="{url}", more="", table="").replace("code: lockers.py", f"code: {name}")
    with serving(Changing(records(30))) as server:
        text = text.replace("{url}", server.url)
        with pytest.raises(DefinitionError) as caught:
            load_texts({"b.yaml": text}, describe=described)
        assert f"no installed package publishes a connector {name}" in str(caught.value.details)
        try:
            facts.mkdir()
            (facts / "METADATA").write_text(f"Metadata-Version: 2.1\nName: {name}\nVersion: 1.0\n")
            (facts / "entry_points.txt").write_text(f"[reedbasket.connectors]\n{name} = {name}:Lockers\n")
            module.write_text(HEAD + PAGED)
            order = resolve(
                load_texts({"b.yaml": text}, describe=described), "test", run=1, version=1, started=datetime.now(UTC)
            )
            result = run_feed(
                order, run_context_for(order, tmp_path), listener=RecordingListener(), clock=lambda: datetime.now(UTC)
            )
        finally:
            module.unlink(missing_ok=True)
            shutil.rmtree(facts, ignore_errors=True)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert len(table_rows(tmp_path, "boxes")) == 30
