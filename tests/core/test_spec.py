"""Definitions: what is right is understood, what is wrong is told all at once, with its place."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from importlib.resources import files
from typing import Any

import jsonschema
import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from reedbasket.core.errors import DefinitionError
from reedbasket.core.runs import resolve
from reedbasket.core.spec import json_schema, load_texts, template
from reedbasket.core.spec.times import format_duration, parse_duration
from reedbasket.core.spec.yaml_source import read_documents
from tests.support.feeds import basket_text

GOOD = basket_text("http://127.0.0.1:1")


def mistakes_of(text: str) -> list[dict[str, Any]]:
    with pytest.raises(DefinitionError) as caught:
        load_texts({"basket/a.yaml": text})
    assert isinstance(caught.value.details, list)
    return caught.value.details


def test_all_mistakes_are_told_at_once_with_their_place() -> None:
    text = """\
connector: harbour-api
type: htp
base_url: "{settings.url}"
settings: {url: {type: url}}
tables:
  - table: sailings
    get: /sailings
    recrds: items
    cursor: {column: updated_at, overlap: 5 minutes}
---
feed: harbour
from: harbour
into: mrsh
tables:
  - {table: sailings, wrte: merge}
---
warehouse: marsh
type: sqlite
path: marsh.db
---
sauce: x
"""
    told = {(m["line"], m["column"], m["path"], m["code"]) for m in mistakes_of(text)}
    assert told == {
        (2, 1, "connectors.harbour-api.type", "definition.bad_value"),
        (8, 5, "connectors.harbour-api.tables.sailings.recrds", "definition.unknown_key"),
        (9, 34, "connectors.harbour-api.tables.sailings.cursor.overlap", "definition.bad_value"),
        (15, 23, "feeds.harbour.tables.sailings.wrte", "definition.unknown_key"),
        (21, 1, "sauce", "definition.unknown_kind"),
    }
    words = {m["path"]: m["message"] for m in mistakes_of(text)}
    assert 'did you mean "http"' in words["connectors.harbour-api.type"]
    assert 'did you mean "records"' in words["connectors.harbour-api.tables.sailings.recrds"]
    assert 'did you mean "write"' in words["feeds.harbour.tables.sailings.wrte"]
    assert "'5 minutes'" in words["connectors.harbour-api.tables.sailings.cursor.overlap"]
    assert 'did you mean "source"' in words["sauce"]


@pytest.mark.parametrize(
    ("change", "path", "code", "says"),
    [
        (("from: test", "from: tset"), "feeds.test.from", "definition.unknown_source", 'did you mean "test"'),
        (("into: marsh", "into: swamp"), "feeds.test.into", "definition.unknown_warehouse", "marsh"),
        (("- table: things", "- table: Things"), "connectors.test-api.tables.Things", "definition.bad_value", "lower case"),
        (("type: http", "type: http\ndiscover_tables: true"), "connectors.test-api.discover_tables", "definition.bad_value", "in Python"),
        (("{table: things, changes", "{table: thongs, changes"), "feeds.test.tables.thongs", "definition.unknown_table", "things"),
        (("write: upsert", "write: replace"), "feeds.test.tables.things", "definition.replace_by_cursor", "would delete"),
        (("primary_key: id", ""), "feeds.test.tables.things", "definition.no_key", "needs a key"),
        (("{settings.token}", "{settings.tokn}"), "connectors.test-api.auth.token", "definition.unknown_name", "settings.token"),
        (('"{cursor.from}"', "now"), "feeds.test.tables.things", "definition.cursor_not_sent", "never sends"),
        (("records: items", "records: 'items['"), "connectors.test-api.tables.things.records", "definition.bad_value", "JMESPath"),
        (("url: \"http://127.0.0.1:1\"", "url: nowhere"), "sources.test.settings.url", "definition.bad_setting", "http://"),
        ((", token: {secret: test_token}", ""), "sources.test.settings", "definition.missing_setting", '"token"'),
        (("get: /things", "get: '/{things!r}'"), "connectors.test-api.tables.things.get", "definition.bad_value", "only dotted names"),
        (("overlap: 0s", "overlap: 5m, type: number"), "connectors.test-api.tables.things.cursor", "definition.bad_value", "duration"),
        (("base_url:", "base:"), "connectors.test-api.base", "definition.unknown_key", 'the key is "base_url"'),
        (("    primary_key:", "    key:"), "connectors.test-api.tables.things.key", "definition.unknown_key", 'is "primary_key"'),
        (("tables: [{", "tables: [{things: {}},{"), "feeds.test.tables.0", "definition.bad_value", "`table: NAME`"),
        (("tables: [{table: things,", "tables: [things, {table: things,"), "feeds.test.tables.1", "definition.defined_twice", "`as`"),
        (("feed: test", "feed: test\ndefaults: {write: append}"), "feeds.test.defaults", "definition.unknown_key", "on the feed itself"),
        (("pagination:", "next:"), "connectors.test-api.tables.things.next", "definition.unknown_key", '"pagination"'),
        (("max_wait:", "most:"), "connectors.test-api.retry.most", "definition.unknown_key", 'the key is "max_wait"'),
        (("rows_per_commit:", "commit_every:"), "feeds.test.commit_every", "definition.unknown_key", 'is "rows_per_commit"'),
    ],
)  # fmt: skip
def test_a_mistake_says_where_and_what_is_allowed(change: tuple[str, str], path: str, code: str, says: str) -> None:
    assert change[0] in GOOD
    found = mistakes_of(GOOD.replace(*change, 1))
    hit = next(m for m in found if m["code"] == code)
    assert hit["path"] == path
    assert says in hit["message"]
    assert hit["line"] > 1


def test_a_secret_in_clear_is_refused_and_not_repeated() -> None:
    (found,) = mistakes_of(GOOD.replace("{secret: test_token}", "hush-hush-value"))
    assert found["code"] == "definition.bad_setting"
    assert "hush" not in str(found)
    assert "reed secret set" in found["message"]


def test_two_feeds_do_not_write_one_table() -> None:
    second = GOOD[GOOD.index("feed: test") :].replace("feed: test", "feed: other")
    (found,) = mistakes_of(GOOD + "---\n" + second)
    assert (found["code"], found["path"]) == ("definition.table_name_taken", "feeds.other.tables.things")
    load_texts({"a.yaml": GOOD + "---\n" + second + "table_prefix: o_\n"})


def test_yaml_reads_as_people_mean_it() -> None:
    documents, wrong = read_documents(
        "a.yaml", "type: http\nmode: off\nzip: 0123\ntime: 12:30\nday: 2026-01-01\nyes: yes\nn: null\n"
    )
    assert not wrong
    assert documents[0].data == {
        "type": "http", "mode": "off", "zip": 123, "time": "12:30", "day": "2026-01-01", "yes": "yes", "n": None,
    }  # fmt: skip


def test_broken_yaml_and_keys_written_twice() -> None:
    assert mistakes_of("feed: [a\n")[0]["code"] == "definition.not_yaml"
    twice = mistakes_of(GOOD + "table_prefix: a_\ntable_prefix: b_\n")
    assert [m["code"] for m in twice] == ["definition.duplicate_key"]
    assert "first in line" in twice[0]["message"]
    assert (
        mistakes_of(GOOD + "---\n" + GOOD[GOOD.index("warehouse") : GOOD.index("feed: test")])[0]["code"]
        == "definition.defined_twice"
    )


def test_defaults_choose_what_the_connector_makes_natural() -> None:
    bare = GOOD.replace("{table: things, changes: {by: cursor}, write: upsert}", "things")
    (table,) = resolve(load_texts({"a": bare}), "test", run=1, version=1, started=datetime.now(UTC)).tables
    assert (table.by, table.write, table.key) == ("cursor", "upsert", ["id"])
    keyless = bare.replace("primary_key: id", "")
    (table,) = resolve(load_texts({"a": keyless}), "test", run=1, version=1, started=datetime.now(UTC)).tables
    assert (table.by, table.write) == ("cursor", "append")


def test_the_json_schema_accepts_the_demo_and_refuses_unknown_keys() -> None:
    schema = json_schema()
    checker = jsonschema.Draft202012Validator(schema)
    for file in files("reedbasket.demo").joinpath("basket").iterdir():
        for document in read_documents(file.name, file.read_text("utf-8"))[0]:
            checker.validate(document.data)
    with pytest.raises(jsonschema.ValidationError):
        checker.validate(yaml.safe_load("{warehouse: marsh, 'type': sqlite, path: a.db, pth: b}"))


def test_templates_hold_names_only() -> None:
    values = {
        "cursor.from": datetime(2026, 3, 2, 6, tzinfo=UTC),
        "settings.n": 7,
        "settings.flag": True,
        "cursor.until": None,
    }
    assert template.fill("{cursor.from}", values) == "2026-03-02T06:00:00Z"
    assert template.fill("{cursor.from:%d.%m.%y}/{settings.n:03d}/{{x}}", values) == "02.03.26/007/{x}"
    assert template.fill("{settings.flag}", values) == "true"
    assert template.fill("a {cursor.until} b", values) is None
    for bad in ("{0}", "{}", "{a!r}", "{a[0]}", "{a.__class__!s}", "{a:{b}}", "{open", "close}"):
        with pytest.raises(ValueError, match=r"template|format"):
            template.parse(bad)


@given(st.integers(0, 10**7))
def test_durations_come_back_as_written(seconds: int) -> None:
    assert parse_duration(format_duration(timedelta(seconds=seconds))) == timedelta(seconds=seconds)
