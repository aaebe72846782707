"""Bodies of every form: the same rows whatever they are written as, and what is none is told."""

from __future__ import annotations

import gzip
import json
from pathlib import Path

import pytest

from reedbasket.core.runs import RunOutcome
from tests.core.test_requests import read
from tests.support.feeds import table_rows
from tests.support.source import Answer, serving

LEVELS = [{"landing": "EEL", "metres": 1.5}, {"landing": "OSQ", "metres": -0.25}]
XML = b"""<?xml version="1.0"?><levels unit="m">
  <level landing="EEL"><metres>1.5</metres></level><level landing="OSQ"><metres>-0.25</metres></level></levels>"""


@pytest.mark.parametrize(
    ("rule", "answer"),
    [
        ("format: ndjson", Answer(raw=b'{"landing": "EEL", "metres": 1.5}\n\n{"landing": "OSQ", "metres": -0.25}\r\n')),
        ("format: csv", Answer(raw=b'\xef\xbb\xbflanding,metres\nEEL,1.5\n"OSQ",-0.25\n')),
        (
            'format: {type: csv, delimiter: ";"}',
            Answer(
                raw="landing;metres\nEEL;1.5\nOSQ;-0.25".encode("utf-16"), headers={"Content-Type": "text/csv; charset=utf-16"}
            ),
        ),
        ("format: xml\n    records: levels.level", Answer(raw=XML)),
        ("records: '@'", Answer(raw=gzip.compress(json.dumps(LEVELS).encode()), headers={"Content-Encoding": "gzip"})),
        (
            "records: '@'",
            Answer(raw=json.dumps(LEVELS).encode("utf-16"), headers={"Content-Type": "application/json; charset=utf-16"}),
        ),
    ],
    ids=["ndjson", "csv", "csv of another kind", "xml", "gzip", "charset"],
)
def test_bodies_of_every_form_bring_the_same_rows(tmp_path: Path, rule: str, answer: Answer) -> None:
    with serving(lambda request: answer) as source:
        feed = "tables: [{table: things, cast: {metres: double}}]"
        result, _ = read(source, tmp_path, f"  - table: things\n    get: /levels\n    {rule}\n    primary_key: landing", feed)
    assert result.error is None
    assert table_rows(tmp_path, "things") == LEVELS


def test_a_line_that_is_none_is_one_reject_and_emptiness_is_no_error(tmp_path: Path) -> None:
    bodies = {
        "/v1/lines": b'{"n": 1}\n{"n": \n[7]\n{"n": 2}\n{"n": 3}\n{"n": 4}',
        "/v1/cells": b'n,word\n1,"a, ""b"""\n2\n3,\n4,""',
        "/v1/nothing": b"",
        "/v1/header": b"n,word",
        "/v1/marked": '{"n": 1}\n'.encode("utf-16"),
        "/v1/mark": "".encode("utf-16"),
        "/v1/wide": '{"n": 1}\n'.encode("utf-32"),
        "/v1/leaves": b"<leaves/>",
    }
    tables = """
  - {table: lines, get: /lines, format: ndjson, primary_key: n}
  - {table: cells, get: /cells, format: csv, primary_key: n}
  - {table: nothing, get: /nothing, format: csv, missing_means_empty: true}
  - {table: header, get: /header, format: csv, primary_key: n}
  - {table: marked, get: /marked, format: ndjson, primary_key: n}
  - {table: mark, get: /mark, format: ndjson, primary_key: n}
  - {table: wide, get: /wide, format: ndjson, primary_key: n}
  - {table: leaves, get: /leaves, format: xml, records: leaves.leaf}
"""
    with serving(lambda request: Answer(raw=bodies[request.path])) as source:
        result, heard = read(source, tmp_path, tables, "tables: [lines, cells, nothing, header, marked, mark, wide, leaves]")
    assert result.outcome is RunOutcome.SUCCEEDED
    assert table_rows(tmp_path, "marked") == table_rows(tmp_path, "wide") == [{"n": 1}]
    assert table_rows(tmp_path, "lines") == [{"n": n} for n in (1, 2, 3, 4)]
    assert sorted((r["n"], r["word"]) for r in table_rows(tmp_path, "cells") if r["word"] is not None) == [
        ("1", 'a, "b"'),
        ("4", ""),
    ]
    assert sorted(repr(reject.record) for reject in heard.rejected) == ["'2'", "'{\"n\": '", "[7]"]
