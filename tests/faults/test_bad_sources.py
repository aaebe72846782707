"""A source that misbehaves in every way known to us: what comes of it, and with which code. The list stands in docs/http.md."""

from __future__ import annotations

import json
import ssl
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.runs import RunOutcome, RunResult
from tests.core.test_requests import basket
from tests.support.certificates import Authority
from tests.support.feeds import Heard, run_once, table_rows
from tests.support.source import Answer, Handler, Request, serving

THINGS = (
    "  - {table: things, get: /things, records: items, primary_key: id, pagination: {by: page_token, at: next, param: after}}"
)
QUICK = "timeouts: {connect: 5, read: 1, total: 3}"


def pages(request: Request) -> Answer:
    """Three pages of ten."""
    start = int(request.query.get("after", 0))
    following = str(start + 10) if start < 20 else None
    return Answer({"items": [{"id": n, "n": n} for n in range(start, start + 10)], "next": following})


def read(handler: Handler, folder: Path, tables: str = THINGS, **more: Any) -> tuple[RunResult, Heard]:
    with serving(handler) as source:
        return run_once(basket(source.url, tables, more.pop("feed", "tables: [things]"), more.pop("extra", QUICK)), folder)


def soon() -> str:
    return format_datetime(datetime.now(UTC) + timedelta(seconds=1), usegmt=True)


@pytest.mark.parametrize(
    "passing",
    [
        [Answer({}, 429, {"Retry-After": "0"})],
        [Answer({}, 429, {"Retry-After": soon()})],
        [Answer({}, 429)],
        [Answer({}, 503)],
        [Answer(raw=b'{"items": [{"id"', cut=900, reset=True)],
        [Answer(raw=b'{"items": [{"id"', cut=900)],
        [Answer({"items": []}, drip=3)],
    ],
    ids=["429 seconds", "429 date", "429 alone", "503", "reset in mid-body", "cut off", "silence in mid-body"],
)
def test_what_passes_is_tried_again(tmp_path: Path, passing: list[Answer]) -> None:
    count = 0

    def handler(request: Request) -> Answer:
        nonlocal count
        count += 1
        return passing[0] if count == 2 else pages(request)

    result, heard = read(handler, tmp_path)
    assert result.error is None
    assert len(table_rows(tmp_path, "things")) == 30
    assert [bool(r.problem) for r in heard.requests] == [False, True, False, False]


@pytest.mark.parametrize(
    ("lasting", "code"),
    [
        (Answer({}, 429, {"Retry-After": "7200"}), "source.busy"),
        (Answer({}, 503), "source.failed"),
        (Answer(raw=b'{"items": [' + b" " * 100 + b"]}", drip=0.06), "source.timed_out"),
        (Answer(raw=b'{"items": [{"id": 11}, {"id": 1'), "source.body_unreadable"),
        (Answer(raw=b"<html><body>Please sign in</body></html>"), "source.body_unreadable"),
        (Answer(raw=b"{}", headers={"Content-Type": "application/json; charset=marsh"}), "source.body_unreadable"),
        (Answer(raw=b"\x1f\x8b\x08 no gzip", headers={"Content-Encoding": "gzip"}), "source.body_unreadable"),
        (Answer({"rows": []}), "source.records_not_found"),
        (Answer(raw=b"", status=302, headers={"Location": "/v1/elsewhere"}), "source.redirect_loop"),
        (Answer(raw=b'{"items": ' + b"[" * 100_000), "source.body_unreadable"),
    ],
    ids=["429 for hours", "503 for good", "slow drip", "cut-off JSON", "HTML with 200", "unknown charset", "no gzip", "no records",
         "redirects in a circle", "nesting without end"],
)  # fmt: skip
def test_what_lasts_ends_the_run_with_its_code(tmp_path: Path, lasting: Answer, code: str) -> None:
    """Windows committed before it stay."""

    def handler(request: Request) -> Answer:
        if request.query.get("day") == "2026-03-02" or request.path == "/v1/elsewhere":
            return lasting
        return Answer({"items": [{"id": request.query["day"]}]})

    table = """  - table: things
    get: /things
    query_params: {day: "{window.from:%Y-%m-%d}"}
    records: items
    window: {from: 2026-03-01}
    primary_key: id
"""
    extra = QUICK + "\nrate_limit: {concurrency: 1}"
    from reedbasket.core.runs.execution import table_commits
    from reedbasket.core.sources import batching as feeder

    with pytest.MonkeyPatch.context() as patched, serving(handler) as source:
        patched.setattr(table_commits, "_COMMIT_SECONDS", 0.0)
        patched.setattr(feeder, "SLOW_SECONDS", 0.0)
        text = basket(source.url, table, extra=extra)
        result, heard = run_once(text, tmp_path, started=datetime(2026, 3, 4, tzinfo=UTC))
    assert result.error is not None
    assert (result.outcome, result.error["code"]) == (RunOutcome.FAILED, code), result.error
    assert result.error["fix"]
    assert table_rows(tmp_path, "things") == [{"id": "2026-03-01"}]
    assert heard.ledger[-1].cursor_to == "2026-03-02T00:00:00Z"


def test_bytes_that_are_no_text_cost_only_their_record(tmp_path: Path) -> None:
    raw = b'{"items": [{"id": 1, "name": "Eelstairs"}, {"id": 2, "name": "\xff\xfe"}, {"id": 3, "name": "\xc3\x9cber"}], "next": null}'
    result, heard = read(lambda request: Answer(raw=raw), tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED
    assert table_rows(tmp_path, "things") == [{"id": 1, "name": "Eelstairs"}, {"id": 3, "name": "Über"}]
    assert [(r.code, r.record["id"]) for r in heard.rejected] == [("value.not_unicode", 2)]


def test_rows_inserted_while_paging_are_neither_lost_nor_doubled(tmp_path: Path) -> None:
    """Newest first, by page number: each insert pushes a record onto the next page, where it comes once more."""
    rows = [{"id": n} for n in range(30, 0, -1)]

    def handler(request: Request) -> Answer:
        start = (int(request.query["page"]) - 1) * 10
        answer = Answer({"items": rows[start : start + 10]})
        rows.insert(0, {"id": rows[0]["id"] + 1})
        return answer

    table = "  - {table: things, get: /things, records: items, primary_key: id, pagination: {by: page_number, param: page}}"
    result, heard = read(handler, tmp_path, table, extra="rate_limit: {concurrency: 1}")
    assert result.error is None
    assert [row["id"] for row in table_rows(tmp_path, "things")] == sorted(range(1, 31), key=str)
    assert (heard.ledger[0].read, heard.ledger[0].superseded) == (33, 3)


def test_structure_that_turns_on_the_way(tmp_path: Path) -> None:
    """Keys that differ only by case, times in several writings, a number that turns to text on page 40, 200 levels of nesting."""
    deep: Any = 1
    for _ in range(200):
        deep = {"d": deep}

    def handler(request: Request) -> Answer:
        page = int(request.query.get("after", 0))
        item: dict[str, Any] = {"id": page, "Name": "a", "name": "b", "n": page if page < 39 else f"no {page}"}
        item["at"] = ["2026-03-01T06:00:00Z", "2026-03-01 06:00", "1 March"][page % 3]
        if page == 7:
            item["deep"] = deep
        return Answer({"items": [item], "next": str(page + 1) if page < 44 else None})

    result, heard = read(handler, tmp_path, feed="tables: [{table: things, nesting: {objects: json}}]")
    assert result.error is None
    rows = {row["id"]: row for row in table_rows(tmp_path, "things")}
    assert len(rows) == 45
    assert (rows[0]["name"], rows[0]["name_82a353"]) == ("a", "b")
    assert (rows[5]["n"], rows[44]["n"], rows[2]["at"]) == ("5", "no 44", "1 March")
    assert json.loads(rows[7]["deep"]) == deep
    assert heard.rejected == []
    columns, _ = read(handler, tmp_path / "columns")
    assert columns.error is None
    assert len(table_rows(tmp_path / "columns", "things")) == 45


def test_certificates_and_names(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    authority = Authority(tmp_path, "marsh-ca")
    authority.issue("localhost", tmp_path / "here.pem", tmp_path / "here.key")
    authority.issue("elsewhere.example", tmp_path / "there.pem", tmp_path / "there.key")

    def error_of(name: str, folder: str) -> str | None:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(tmp_path / f"{name}.pem", tmp_path / f"{name}.key")
        with serving(pages, context) as source:
            result, _ = run_once(basket(source.url.replace("127.0.0.1", "localhost"), THINGS, extra=QUICK), tmp_path / folder)
        return result.error and result.error["code"]

    assert error_of("here", "unknown") == "source.tls_refused"
    monkeypatch.setenv("SSL_CERT_FILE", str(authority.root))
    assert error_of("here", "known") is None
    assert error_of("there", "another name") == "source.tls_refused"
    nowhere, _ = run_once(basket("http://no-such-host.invalid", THINGS, extra=QUICK), tmp_path / "nowhere")
    closed, _ = run_once(basket("http://127.0.0.1:9", THINGS, extra=QUICK), tmp_path / "closed")
    assert nowhere.error is not None and closed.error is not None
    assert (nowhere.error["code"], closed.error["code"]) == ("source.host_not_found", "source.unreachable")


_READING = """
import sys
from pathlib import Path
from tests.core.test_requests import basket
from tests.support.feeds import run_once
table = "  - {table: things, get: /things, records: data.items, primary_key: id}"
result, _ = run_once(basket(sys.argv[1], table), Path(sys.argv[2]))
# Of this program alone: getrusage remembers the one it was started from.
peak = next(line.split()[1] for line in open("/proc/self/status") if line.startswith("VmHWM"))
print(result.outcome.value, result.tables[0].read, peak)
"""


def test_a_page_of_50_mb_within_the_memory_of_a_worker(tmp_path: Path) -> None:
    rows = [
        {"id": n, "note": f"{n:0>40}" * 5, "at": "2026-03-01T06:00:00Z", "fare": {"amount": n / 100}} for n in range(190_000)
    ]
    raw = json.dumps({"data": {"items": rows}}).encode()
    assert 50 * 2**20 < len(raw) < 64 * 2**20
    with serving(lambda request: Answer(raw=raw)) as source:
        done = subprocess.run(
            [sys.executable, "-c", _READING, source.url, str(tmp_path)],
            capture_output=True, text=True, check=True, cwd=Path(__file__).parents[2],
        )  # fmt: skip
    outcome, count, kilobytes = done.stdout.split()
    assert (outcome, int(count)) == ("succeeded", 190_000)
    assert int(kilobytes) < 300 * 1024
