"""What people do after a run: verify, profile, look at drift, fix and replay rejects, change the way of writing."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from reedbasket.cli.main import main as reed
from reedbasket.client import ServiceProblem
from tests.conftest import RunningService
from tests.service.test_service import THINGS, prepare
from tests.support.feeds import SECRET, basket_text
from tests.support.source import Changing, serving


@pytest.mark.parametrize(("by", "write"), [("compare", "upsert"), ("full", "mirror")])
def test_what_was_rejected_and_then_went_at_the_source_does_not_come_back_by_a_replay(
    service: RunningService, by: str, write: str
) -> None:
    client, records = service.client, [dict(r) for r in THINGS[:20]]
    with serving(Changing(records)) as source:
        prepare(client, source.url, by=by, write=write, feed="on_drift: {changed_type: reject}")
        client.feeds.run("test", wait_seconds=30)
        records += [{"id": f"T90{n}", "n": "none", "at": "y", "updated_at": "2026-03-01T09:00:00Z"} for n in range(2)]
        client.feeds.run("test", wait_seconds=30)
        assert len(client.feeds.rejects("test")) == 2
        del records[-1]
        gone = client.feeds.run("test", wait_seconds=30)
        assert "rejects.dropped" in [line["code"] for line in client.runs.log(gone["id"])]
        prepare(client, source.url, by=by, write=write, feed="on_drift: {changed_type: widen}")
        client.feeds.run("test", wait_seconds=30, replay=True)
        assert client.warehouses.query("marsh", "select id from things where id like 'T90%'")["rows"] == [["T900"]]


def test_rejects_are_mended_and_replayed_and_the_rest_is_verified(
    service: RunningService, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("REED_DATA", str(service.folder))
    client, records = service.client, [dict(r) for r in THINGS[:60]]
    with serving(Changing(records)) as source:
        prepare(client, source.url, feed="on_drift: {changed_type: reject}")
        client.feeds.run("test", wait_seconds=30)
        records.append({"id": "T900", "n": "none", "at": "y", "updated_at": "2026-03-01T09:00:00Z", "fresh": 1.5})
        records.append({"id": "T901", "n": 5, "at": "y", "updated_at": "2026-03-01T09:00:00Z", "fresh": 1.5})
        second = client.feeds.run("test", wait_seconds=30)
        assert (second["totals"]["rejected"], second["totals"]["inserted"]) == (1, 1)
        assert [(d["what"], d["column"], d["ignored"]) for d in client.feeds.drift("test")] == [("column", "fresh", False)]
        assert reed(["rejects", "test", "--to-file", str(tmp_path / "rejects.ndjson")]) == 0
        (line,) = (tmp_path / "rejects.ndjson").read_text().splitlines()
        assert (json.loads(line)["record"]["id"], json.loads(line)["code"]) == ("T900", "value.wrong_type")

        assert client.feeds.run("test", wait_seconds=30, replay=True)["totals"]["rejected"] == 1
        assert client.feeds.rejects("test")[0]["times"] == 2
        prepare(client, source.url, feed="on_drift: {changed_type: widen}")
        (planned,) = client.feeds.plan("test")["tables"]
        assert (planned["losses"], planned["drift"]) == ([], [])
        replayed = client.feeds.run("test", wait_seconds=30, replay=True)
        assert (replayed["outcome"], replayed["replay"], replayed["totals"]["requests"]) == ("succeeded", True, 0)
        assert client.feeds.rejects("test") == []
        assert client.warehouses.query("marsh", "select n from things where id in ('T900', 'T901') order by id")["rows"] == [
            ["none"],
            ["5"],
        ]

        (same,) = client.feeds.verify("test", deep=True)
        assert (same["same"], same["source"], same["warehouse"]) == (True, 62, 62)
        records[3]["at"], records[7]["id"] = "changed", "T777"
        (differs,) = client.feeds.verify("test", deep=True)
        counted: Any = [differs[k] for k in ("only_source", "only_warehouse", "differing")]  # type: ignore[literal-required]
        assert counted == [1, 1, 1]
        assert {"what": "differs", "key": ["T003"], "values": {"at": ["changed", "x"]}} in differs["samples"]
        capsys.readouterr()
        assert reed(["verify", "test", "--deep"]) == 1
        out = capsys.readouterr().out
        assert "DIFFERS" in out
        assert "T777: only at the source" in out
        with pytest.raises(ServiceProblem, match="tables of the feed"):
            client.feeds.verify("test", table="nothing")

    profile = client.warehouses.profile("marsh", "things")
    at = next(c for c in profile["columns"] if c["name"] == "at")
    assert (profile["rows"], at["nulls"], at["distinct"], at["min"], at["max"]) == (62, 0, 2, "x", "y")
    assert [s["ok"] for s in client.warehouses.check("marsh")] == [True, True, True, True]
    capsys.readouterr()
    for command in (
        ["profile", "marsh", "things"],
        ["check", "marsh"],
        ["drift", "test"],
        ["rejects", "test"],
        ["replay", "test"],
    ):
        assert reed(command) == 0
    out = capsys.readouterr().out
    assert "fresh" in out
    assert "lock taken" in out
    assert "No rejects to replay" in out


def test_what_cannot_be_kept_is_asked_for(service: RunningService) -> None:
    client = service.client
    with serving(Changing([dict(r) for r in THINGS[:10]])) as source:
        prepare(client, source.url, write="versions")
        client.feeds.run("test", wait_seconds=30)
        prepare(client, source.url, write="upsert")
        (planned,) = client.feeds.plan("test")["tables"]
        assert "older versions" in planned["losses"][0]
        refused = client.feeds.run("test", wait_seconds=30)
        assert refused["error"] is not None
        assert refused["error"]["code"] == "definition.would_lose_data"
        accepted = client.feeds.run("test", wait_seconds=30, allow_loss=True)
        assert (accepted["outcome"], accepted["allow_loss"]) == ("succeeded", True)
    assert client.warehouses.query("marsh", "select count(*) from things")["rows"] == [[10]]


def test_a_basket_with_wrong_expressions_is_not_applied(service: RunningService) -> None:
    wrong = "compute: {a: 'n *', b: 'nofun(n)', c: '(select 1)', d: 'sum(n)'}, filter: \"n > 0; drop\", hash: id"
    with pytest.raises(ServiceProblem) as caught:
        prepare(service.client, "http://127.0.0.1:1", table=wrong)
    found = {m["path"].rpartition("things.")[2]: m["code"] for m in caught.value.details}  # type: ignore[union-attr]
    assert found == {
        **{f"compute.{name}": "definition.bad_expression" for name in "abcd"},
        "filter": "definition.bad_expression",
        "hash.0": "definition.key_column_changed",
    }


def test_a_cursor_is_moved_back_and_what_that_costs_is_told_before(
    service: RunningService, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("REED_DATA", str(service.folder))
    records = [{"id": f"T{n:02d}", "updated_at": f"2026-03-{n + 1:02d}T00:00:00Z"} for n in range(20)]
    client = service.client
    with serving(Changing(records)) as source:
        client.secrets.set("test_token", SECRET)
        client.definitions.apply({"basket.yaml": basket_text(source.url)})
        client.feeds.run("test", wait_seconds=30)
        assert reed(["rewind", "test", "things", "--to", "2026-03-11", "--dry-run"]) == 0
        told = capsys.readouterr().out
        assert "would read things from 2026-03-11T00:00:00Z on" in told and "10 records, 1 request" in told
        assert client.feeds.run("test", wait_seconds=30)["totals"]["read"] == 0, "nothing was moved"
        assert reed(["rewind", "test", "things", "--from-start"]) == 0
        assert "from the beginning on; the cursor was 2026-03-20" in capsys.readouterr().out
        assert client.feeds.run("test", wait_seconds=30)["totals"]["read"] == 20
        assert client.feeds.ledger("test")[0]["unchanged"] == 20
        with pytest.raises(ServiceProblem) as none:
            client.feeds.rewind("test", "nothing")
        assert (none.value.status, none.value.code) == (409, "cursor.none_saved")
    assert any("2026-03-20" in line["details"] and "the beginning" in line["details"] for line in client.audit())
    assert any(line["details"].endswith("to 2026-03-11T00:00:00Z, dry run") for line in client.audit())
