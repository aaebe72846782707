"""Definitions reach the folders that the operator allowed, and nothing else: when they are applied, and when a file is opened."""

from __future__ import annotations

import shutil
import sqlite3
from pathlib import Path
from typing import Any

import pytest

from reedbasket.client import Client, ServiceProblem
from tests.conftest import RunningService

PLACES = """
warehouse: marsh
type: sqlite
path: marsh.db
---
source: drop
type: files
path: drop
"""
FEED = "---\nfeed: taken\nfrom: {source}\ninto: {into}\ntables: [{table}]\n"


@pytest.fixture
def editor(service: RunningService) -> Client:
    """Who may write definitions, and no more."""
    (service.files / "drop").mkdir()
    service.client.definitions.apply({"places.yaml": PLACES})
    return Client(service.url, service.client.tokens.add("editor", "editor")["token"])


def codes(refused: ServiceProblem) -> list[str]:
    return [mistake["code"] for mistake in refused.details]


def absolute(service: RunningService, elsewhere: Path) -> list[str]:
    return [
        "..",
        "../token",
        str(service.folder),
        "../warehouses/../service.db",
        str(elsewhere),
        "/etc",
        "drop/../../key",
        "link",
    ]


def test_no_definition_leads_out_of_what_is_allowed(service: RunningService, editor: Client, tmp_path: Path) -> None:
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    (service.files / "link").symlink_to(service.folder)
    (service.warehouses / "link").symlink_to(service.folder / "service.db")
    server = "host: h, database: d, user: u"
    for path in absolute(service, elsewhere):
        tls = f"tls: {{mode: verify-full, root: '{path}'}}"
        for definition in (
            f"{{source: s, type: files, path: '{path}'}}",
            f"{{source: s, type: sqlite, path: '{path}'}}",
            f"{{source: s, type: files, url: 'ftps://h/', user: u, {tls}}}",
            f"{{source: s, type: postgres, {server}, {tls}}}",
            f"{{source: s, type: mysql, {server}, {tls}}}",
            f"{{warehouse: w, type: sqlite, path: '{path}'}}",
            f"{{warehouse: w, type: duckdb, path: '{path}'}}",
            f"{{warehouse: w, type: postgres, schema: s, {server}, {tls}}}",
        ):
            with pytest.raises(ServiceProblem) as refused:
                editor.definitions.apply({"evil.yaml": definition})
            assert codes(refused.value) == ["place.not_allowed"], definition
            with pytest.raises(ServiceProblem) as refused:
                editor.drafts.check(definition, "s")
            assert refused.value.code == "definition.mistakes" and codes(refused.value) == ["place.not_allowed"], definition


def test_no_pattern_leads_out_of_its_source(editor: Client) -> None:
    for table in (
        "{table: rows, files: '../../token'}",
        "{table: rows, files: /etc/passwd}",
        "{table: rows, files: '*', copy: {to: drop, under: ../..}}",
    ):
        with pytest.raises(ServiceProblem) as refused:
            editor.definitions.apply({"feed.yaml": FEED.format(source="drop", into="marsh", table=table)})
        assert refused.value.code == "definition.mistakes", table


def ended(client: Client, text: str) -> dict[str, Any]:
    client.definitions.apply({"feed.yaml": text})
    run = client.feeds.run("taken", wait_seconds=50)
    return {**run.facts, "problem": run["error"] or next((t["error"] for t in run["tables"] if t["error"]), None)}


@pytest.mark.parametrize("way", ["a file", "a folder", "a warehouse", "a database"])
def test_a_link_or_a_name_made_afterwards_opens_nothing(
    service: RunningService, editor: Client, tmp_path: Path, way: str
) -> None:
    drop, own = service.files / "drop", service.folder
    table, source, into, more = (
        "{table: rows, files: '*.csv', changes: {by: files, stable_for: 0s}, format: {type: csv, header: false, columns: [a, b]}}",
        "drop",
        "marsh",
        "",
    )
    (drop / "fair.csv").write_text("1,2\n")
    if way == "a file":
        (drop / "key.csv").symlink_to(own / "token")
    elif way == "a folder":
        table = table.replace("*.csv", "**/*")
        (tmp_path / "elsewhere").mkdir()
        (tmp_path / "elsewhere" / "t.csv").write_text(service.token)
        (drop / "inner").symlink_to(tmp_path / "elsewhere")
    elif way == "a warehouse":
        into, more = "late", "---\nwarehouse: late\ntype: sqlite\npath: late.db\n"
        editor.definitions.apply({"late.yaml": more})
        (service.warehouses / "late.db").symlink_to(own / "service.db")
    else:
        source, table = "late", "{table: token, as: rows}"
        sqlite3.connect(service.files / "late.db").execute("create table token (a int)")
        editor.definitions.apply({"late.yaml": "source: late\ntype: sqlite\npath: late.db\n"})
        (service.files / "late.db").unlink()
        (service.files / "late.db").symlink_to(own / "service.db")
    run = ended(editor, FEED.format(source=source, into=into, table=table))
    assert run["outcome"] == "failed", run
    assert run["problem"]["code"] in ("place.not_allowed", "file.unreadable", "definition.unknown_table"), run["problem"]
    told = str([run, service.client.feeds.rejects("taken"), service.client.runs.log(run["id"])])
    assert service.token not in told
    tables = sqlite3.connect(own / "service.db").execute("select name from sqlite_master where name like '\\_rb%' escape '\\'")
    assert tables.fetchall() == []
    for path in (*service.warehouses.glob("*"), *drop.glob("**/*")):
        assert path.is_symlink() or path.is_dir() or service.token.encode() not in path.read_bytes()


def test_a_folder_that_the_operator_allowed_is_reached(tmp_path: Path) -> None:
    context = tmp_path / "outside"
    context.mkdir()
    (context / "a.csv").write_text("id,n\n1,2\n")
    service = RunningService(tmp_path / "data", "--allow-path", f"{context},{tmp_path}/data")
    try:
        text = PLACES.replace("path: drop", f"path: {context}").replace("path: marsh.db", f"path: {context}/marsh.db")
        service.client.definitions.apply({"places.yaml": text})
        run = ended(
            service.client,
            FEED.format(
                source="drop", into="marsh", table="{table: rows, files: '*.csv', changes: {by: files, stable_for: 0s}}"
            ),
        )
        assert run["outcome"] == "succeeded", run
        assert sqlite3.connect(context / "marsh.db").execute("select id, n from rows").fetchall() == [(1, 2)]
        # The service's own folder stays closed, whatever is allowed.
        with pytest.raises(ServiceProblem) as refused:
            service.client.definitions.apply({"evil.yaml": f"{{source: s, type: files, path: '{tmp_path}/data'}}"})
        assert codes(refused.value) == ["place.not_allowed"]
    finally:
        service.stop()
        shutil.rmtree(context)
