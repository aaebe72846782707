"""Months of it: what goes with time, copies of the records, baskets under version control, keys, TLS, figures for monitoring."""

from __future__ import annotations

import json
import os
import sqlite3
import ssl
import stat
import subprocess
import sys
import tarfile
from pathlib import Path
from typing import Any

import pytest
import urllib3
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from reedbasket.client import ServiceProblem
from reedbasket.store import Store, feed_status, keeping
from tests.conftest import RunningService
from tests.service.test_schedule import FEED, basket, hourly, prepare, rows, wait_for
from tests.support.certificates import Authority
from tests.support.source import serving


def reed(service: RunningService, *arguments: str, code: int = 0) -> str:
    done = subprocess.run(
        [sys.executable, "-m", "reedbasket.cli.main", *arguments], capture_output=True, text=True, env=service.environment()
    )
    assert done.returncode == code, done.stdout + done.stderr
    return done.stdout + done.stderr


def test_what_is_old_goes_and_the_latest_of_each_feed_stays(service: RunningService) -> None:
    with serving(hourly) as source:
        prepare(service, basket(source.url, ("a", ""), ("b", "")))
        ids = [service.client.feeds.run(feed, wait_seconds=30)["id"] for feed in ("a", "a", "a", "b")]
    db = sqlite3.connect(service.folder / "service.db")
    db.execute("update run set ended_at = '2026-01-01T00:00:00.000Z' where id <> ?", (ids[1],))
    db.commit()
    db.close()
    gone = keeping.purge(Store(service.folder), requests_days=14, runs_days=30, rejects_days=30, audit_days=30)
    assert (gone["runs"], gone["lines"] > 0, gone["requests"]) == (1, True, 0)
    assert [r["id"] for r in service.client.runs.list()] == [ids[3], ids[2], ids[1]]
    assert service.client.feeds.ledger("a") != []
    with pytest.raises(ServiceProblem):
        service.client.runs.log(ids[0])
    assert feed_status.last_succeeded(Store(service.folder), "b") is not None


def test_for_how_long_things_are_kept_can_be_changed_while_it_runs(tmp_path: Path) -> None:
    service = RunningService(tmp_path / "data")
    with serving(hourly) as source:
        prepare(service, basket(source.url, ("a", "")))
        run = service.client.feeds.run("a", wait_seconds=30)["id"]
    assert service.client.runs.requests(run) != []
    db = sqlite3.connect(service.folder / "service.db")
    db.execute("update request set at = strftime('%Y-%m-%dT%H:%M:%SZ', 'now', '-3 days')")
    db.commit()
    db.close()
    for name, value, code in (("keep_days", 0, "setting.out_of_bounds"), ("port", 3, "setting.not_changeable")):
        with pytest.raises(ServiceProblem) as caught:
            service.client.settings.change(name, value)
        assert caught.value.code == code
    assert "started with 14" in reed(service, "settings", "keep-days", "2")
    assert next(line["details"] for line in service.client.audit() if "setting" in line["what"]) == "keep_days: 2"
    service.stop()
    service = RunningService(tmp_path / "data")
    wait_for(lambda: service.client.runs.requests(run) == [])
    service.stop()


def test_a_copy_made_while_it_runs_is_a_service_again(service: RunningService, tmp_path: Path) -> None:
    with serving(hourly) as source:
        prepare(service, basket(source.url, ("a", "schedule: {windows: {from: 2026-11-01, length: 1d}}")))
        wait_for(lambda: service.client.feeds.get("a")["schedule"]["windows"].get("done", 0) > 3)
        copy, other = tmp_path / "copy.tar.gz", tmp_path / "other"
        said = reed(service, "backup", str(copy))
        assert "service.db, key" in said
        assert stat.S_IMODE(copy.stat().st_mode) == 0o600
        with tarfile.open(copy) as tar:
            assert "token" not in tar.getnames()
        wait_for(lambda: not service.client.feeds.get("a")["schedule"]["windows"].get("waiting"))
        service.stop()
        (service.warehouses / "marsh.db").rename(tmp_path / "marsh.db")
        assert "Restored" in reed(service, "restore", str(copy), "--data", str(other))
        assert "it is not empty" in reed(service, "restore", str(copy), "--data", str(other), code=1)
        (tmp_path / "marsh.db").rename(other / "warehouses" / "marsh.db")
        again = RunningService(other)
        try:
            # It is as of a moment in which less was done than the warehouse holds: what is done twice is recognised there.
            wait_for(lambda: set(again.client.feeds.get("a")["schedule"]["windows"]) == {"done"})
            total = again.client.feeds.get("a")["schedule"]["windows"]["done"]
            assert rows(again, "select count(*), count(distinct at || hour) from a_readings") == [(24 * total,) * 2]
        finally:
            again.stop()
    hostile = tmp_path / "hostile.tar.gz"
    with tarfile.open(hostile, "w:gz") as tar:
        tar.add(copy, "../../outside")
        tar.add(copy, "service.db")
    assert "backup.failed" in reed(service, "restore", str(hostile), "--data", str(tmp_path / "third"), code=1)
    assert not (tmp_path.parent / "outside").exists()


def test_a_basket_under_version_control(service: RunningService, tmp_path: Path) -> None:
    folder = tmp_path / "basket"
    folder.mkdir()
    shared = next(iter(basket("http://127.0.0.1:1").values()))
    (folder / "shared.yaml").write_text(f"# What all share.\n{shared.strip()}\n")
    (folder / "feeds.yaml").write_text(
        "# First comes a.\n"
        + FEED.format(name="a", prefix="a_", more="").strip("-\n")
        + "\n---\n# Then b and c.\nfeed: of-{variant.x}\n"
        "variants: [{x: b}, {x: c}]\nfrom: readings\ninto: marsh\ntable_prefix: '{variant.x}_'\n"
        "tables: [{table: readings, write: append}]\n"
    )
    assert "2 files, no mistake; 6 new" in reed(service, "apply", str(folder), "--dry-run")
    assert service.client.definitions.list() == []
    reed(service, "apply", str(folder))
    out = tmp_path / "out"
    reed(service, "export", str(out))
    assert {p.name: p.read_text() for p in out.iterdir()} == {p.name: p.read_text() for p in folder.iterdir()}
    assert {one["change"] for one in service.client.definitions.apply({p.name: p.read_text() for p in out.iterdir()})} == {
        "same"
    }

    text = (folder / "feeds.yaml").read_text()
    (folder / "feeds.yaml").write_text(text.replace('table_prefix: "a_"', "table_prefix: aa_").replace(", {x: c}", ""))
    said = reed(service, "apply", str(folder), "--dry-run", "--prune")
    assert "-table_prefix: a_\n  +table_prefix: aa_" in said
    assert "removed  feed of-c" in said
    assert "Nothing was applied" in said
    reed(service, "apply", str(folder), "--prune")
    assert {d["name"] for d in service.client.definitions.list() if d["kind"] == "feed"} == {"a", "of-b"}
    with pytest.raises(ServiceProblem) as gone:
        service.client.definitions.get("feed", "of-c")
    assert gone.value.status == 404
    found = service.client.definitions.versions("feed", "a")
    assert [(v["version"], v["applied_by"]) for v in found] == [(2, "local command line"), (1, "local command line")]
    assert "+table_prefix: aa_" in found[0]["diff"]
    assert "this is version 3" in reed(service, "revert", "feed", "a", "1")
    assert service.client.definitions.get("feed", "a")["data"]["table_prefix"] == "a_"
    assert service.client.definitions.revert("feed", "of-c", 1)["version"] == 3
    with pytest.raises(ServiceProblem) as refused:
        service.client.definitions.apply({"feeds.yaml": (folder / "feeds.yaml").read_text()}, prune=True)
    assert [one["code"] for one in refused.value.details] == ["definition.unknown_source", "definition.unknown_warehouse"] * 2


def test_two_environments_with_one_basket(service: RunningService, tmp_path: Path) -> None:
    folder, settings = tmp_path / "basket", tmp_path / "prod.yaml"
    folder.mkdir()
    (folder / "all.yaml").write_text(next(iter(basket("http://127.0.0.1:1", ("a", "")).values())))
    settings.write_text("warehouse: marsh\npath: prod.db\n---\nfeed: a\nschedule: {every: 1h}\n")
    reed(service, "apply", str(folder), "--settings", str(settings))
    assert service.client.definitions.get("warehouse", "marsh")["data"]["path"] == "prod.db"
    assert service.client.feeds.get("a")["schedule"]["rule"] == {"every": "1h"}
    settings.write_text("warehouse: marhs\npath: prod.db\n")
    said = reed(service, "apply", str(folder), "--settings", str(settings), code=5)
    assert 'prod.yaml:1:1  warehouses.marhs\n  the basket has no warehouse "marhs"' in said


def test_keys_are_rotated_and_secrets_may_stand_outside(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    context = tmp_path / "outside"
    context.mkdir()
    (context / "hook").write_text("from-a-file\n")
    monkeypatch.setenv("REED_SECRETS", str(context))
    monkeypatch.setenv("REED_SECRET_HARBOUR_TOKEN", "from-the-environment")
    service = RunningService(tmp_path / "data")
    seen: list[str] = []

    def answer(request: Any) -> Any:
        seen.append(request.headers["authorization"])
        return hourly(request)

    try:
        with serving(answer) as source:
            text = next(iter(basket(source.url, ("a", "")).values()))
            text = text.replace(
                'base_url: "{settings.url}"', 'base_url: "{settings.url}"\nauth: {type: bearer, token: "{settings.token}"}'
            )
            service.client.secrets.set("t", "in-the-store")
            key = (service.folder / "key").read_text()
            for feed, name in (("a", "t"), ("b", "harbour-token"), ("c", "hook")):
                more = FEED.format(name=feed, prefix=f"{feed}_", more="") if feed != "a" else ""
                service.client.definitions.apply({"b.yaml": text.replace("{secret: t}", f"{{secret: {name}}}") + more})
                assert service.client.feeds.run(feed, wait_seconds=30)["outcome"] == "succeeded"
            assert "1 value encrypted" in reed(service, "secret", "rotate")
            assert (service.folder / "key").read_text() != key
            service.client.definitions.apply({"b.yaml": text})
            service.client.definitions.apply({"c.yaml": FEED.format(name="again", prefix="again_", more="")})
            assert service.client.feeds.run("again", wait_seconds=30)["outcome"] == "succeeded"
        words = list(dict.fromkeys(seen))
        assert words == [f"Bearer {value}" for value in ("in-the-store", "from-the-environment", "from-a-file")]
        assert {(s["name"], s["kept"]) for s in service.client.secrets.list()} == {
            ("t", "store"),
            ("harbour_token", "environment"),
            ("hook", "file"),
        }
        with pytest.raises(ServiceProblem) as refused:
            service.client.secrets.set("hook", "x")
        assert refused.value.code == "secret.external"
    finally:
        service.stop()


def test_tls_by_certificate_files(tmp_path: Path) -> None:
    authority = Authority(tmp_path, "sedge")
    cert, key = tmp_path / "cert.pem", tmp_path / "key.pem"
    authority.issue("localhost", cert, key)
    service = RunningService(tmp_path / "data", "--tls-cert", str(cert), "--tls-key", str(key))
    try:
        assert service.url.startswith("https://127.0.0.1:")
        url = service.url.replace("127.0.0.1", "localhost")
        trusting = urllib3.PoolManager(ca_certs=str(authority.root))
        answer = trusting.request("GET", f"{url}/healthz")
        assert json.loads(answer.data)["status"] == "ok"
        code = service.sign_in.split("#")[1]
        answer = trusting.request(
            "POST",
            f"{url}/api/v1/session",
            body=json.dumps({"code": code}),
            headers={"content-type": "application/json"},
        )
        assert "Secure" in answer.headers["set-cookie"]
        with pytest.raises(urllib3.exceptions.MaxRetryError):
            urllib3.PoolManager(retries=1).request("GET", f"{url}/healthz")
        old = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        old.check_hostname, old.verify_mode = False, ssl.CERT_NONE
        old.maximum_version = ssl.TLSVersion.TLSv1_2
        assert urllib3.PoolManager(ssl_context=old).request("GET", f"{url}/healthz").status == 200
    finally:
        service.stop()


def test_figures_for_monitoring_are_readable_and_true(service: RunningService) -> None:
    with serving(hourly) as source:
        prepare(service, basket(source.url, ("a", "fresh_within: 1h"), ("b", "")))
        service.client.feeds.run("a", wait_seconds=30)
        service.client.feeds.pause("b")
    token = {"Authorization": f"Bearer {service.token}"}

    def figures() -> dict[tuple[str, str, str], float]:
        text = urllib3.request("GET", service.url + "/metrics", headers=token).data.decode()
        return {
            (s.name, s.labels.get("feed", ""), s.labels.get("what", s.labels.get("outcome", ""))): s.value
            for family in text_string_to_metric_families(text)
            for s in family.samples
        }

    found = figures()
    assert found["reed_runs_total", "a", "succeeded"] == 1
    assert found["reed_rows_total", "a", "inserted"] == rows(service, "select count(*) from a_readings")[0][0]
    assert (found["reed_feed_late", "a", ""], found["reed_feed_paused", "b", ""], found["reed_workers_up", "", ""]) == (0, 1, 1)
    assert urllib3.request("GET", service.url + "/metrics").status == 401
    ready = json.loads(urllib3.request("GET", service.url + "/readyz").data)
    assert ready == {"ready": True, "workers": 1, "problems": []}


def test_the_services_own_log_as_json_names_runs_and_feeds(tmp_path: Path) -> None:
    service = RunningService(tmp_path / "data", "--log-format", "json")
    try:
        with serving(hourly) as source:
            prepare(service, basket(source.url, ("a", "")))
            run = service.client.feeds.run("a", wait_seconds=30)["id"]
            log = service.folder.with_suffix(".err")
            lines = wait_for(
                lambda: [json.loads(x) for x in log.read_text().splitlines()] if "succeeded" in log.read_text() else None
            )
    finally:
        service.stop()
    begun, ended = (next(x for x in lines if word in x["message"]) for word in ("begun", "succeeded"))
    assert (begun["run"], begun["feed"], begun["level"]) == (run, "a", "info")
    assert (ended["run"], ended["feed"], ended["outcome"], ended["inserted"] > 0) == (run, "a", "succeeded", True)


def test_the_command_line_and_the_service_say_the_same_of_settings() -> None:
    from dataclasses import fields

    from reedbasket.cli.serve_options import SERVE
    from reedbasket.service.settings import Settings

    assert {f.name: f.default for f in fields(Settings) if f.name != "data"} == {name: default for name, default, _ in SERVE}
    assert os.environ.get("REED_KEY") is None
