"""Whatever somebody writes, it is read in bounded time, and is a basket or a list of mistakes; never a failure of ours."""

from __future__ import annotations

import random
import time
from importlib.resources import files
from typing import Any

import pytest
import yaml
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from reedbasket.core.errors import DefinitionError
from reedbasket.core.spec import load_texts
from reedbasket.core.spec.pattern import Pattern

ROOT = files("reedbasket.demo").joinpath("basket")
DEMO = [
    d
    for f in ROOT.iterdir()
    if f.name.endswith(".yaml")
    for d in yaml.safe_load_all(f.read_text("utf-8").replace("SINCE", "2026-01-01"))
]
# fmt: off
ODD: list[Any] = [
    None, True, 0, -1, 2**63, 10**30, -(10**30), 1e308, float("inf"), float("nan"), "", " ", "\u0000", "\u202e", "x" * 5000,
    "{", "}", "{}", "{a", "{0}", "{settings.url!r}", "{settings.url:{x}}", "%", "(", "[", "(?P<a>", "(a+)+$", "*", "**", "**/**/**",
    "../..", "/etc", "~", "-", "---", ":", "on", "2026-02-30", "99999999d", "1e9h", "0s", "P1D", "{now}", [], [[]], [None],
    {}, {"": ""}, {"a": {"b": {"c": []}}}, {"secret": 1}, {"secret": "../x"}, {"mode": "verify-full"},
]
# fmt: on


def places_of(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    found = [path] if path else []
    if isinstance(value, dict):
        for key, item in value.items():
            found += places_of(item, (*path, key))
    elif isinstance(value, list):
        for place, item in enumerate(value):
            found += places_of(item, (*path, place))
    return found


def changed(documents: list[Any], seed: int, count: int) -> list[Any]:
    """Some values of them in other places' stead, or odd ones, or gone, or under another key."""
    rng = random.Random(seed)
    made = yaml.safe_load(yaml.safe_dump(documents))
    for _ in range(count):
        path = rng.choice(places_of(made))
        within = made
        for step in path[:-1]:
            within = within[step]
        way = rng.random()
        if way < 0.15:
            del within[path[-1]]
        elif way < 0.3 and isinstance(within, dict):
            within[rng.choice(["on", "key", "tables", "path", "odd key", ""])] = within[path[-1]]
        else:
            within[path[-1]] = rng.choice(ODD)
        if not made:
            break
    return made


@settings(max_examples=40, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 2**32), st.integers(1, 6))
def test_whatever_is_written_is_a_basket_or_mistakes(seed: int, count: int) -> None:
    made = [document for document in changed(DEMO, seed, count) if document is not None]
    try:
        load_texts({"a.yaml": yaml.safe_dump_all(made, allow_unicode=True)})
    except DefinitionError as error:
        assert error.details
        str(error.details).encode("utf-8", "surrogatepass")


@settings(max_examples=150, suppress_health_check=list(HealthCheck))
@given(st.text(alphabet=st.sampled_from(list("source: feed\n{}[]&*!|>%@`'\"#-0.e?,\t\u0085\u2028\x00é𝄞")), max_size=200))
def test_whatever_is_typed_is_yaml_or_not(text: str) -> None:
    try:
        load_texts({"a.yaml": text})
    except DefinitionError as error:
        assert error.details


NESTED = "".join(f"b{n}: &b{n} [{','.join(['*a' if n == 0 else f'*b{n - 1}'] * 9)}]\n" for n in range(12))
CONNECTOR = "connector: c\ntype: http\nbase_url: {base}\nsettings: {{a: {{type: text{more}}}}}\ntables: [{{table: t, get: /}}]"
LONG = {
    "borders": "---\n" * 200_000,
    "documents": "source: s\n---\n" * 20_000,
    "depth": "source: " + "[" * 50_000,
    "aliases": "a: &a [x,x,x,x,x,x,x,x,x]\n" + NESTED,
    "digits": "source: s\ntype: files\npath: " + "9" * 100_000,
    "pattern": CONNECTOR.format(base="x", more=", pattern: '(a+)+$', default: " + "a" * 40 + "!"),
    "large pattern": CONNECTOR.format(base="x", more=", pattern: '((a{1,1000}){1,1000}){1,1000}', default: a"),
    "template": CONNECTOR.format(base="'" + "{settings.a}" * 20_000 + "'", more=""),
    "path": "source: s\ntype: files\npath: in\n---\nfeed: f\nfrom: s\ninto: w\ntables: [{table: t, files: '"
    + "*a" * 30
    + "'}]",
}


@pytest.mark.parametrize("text", LONG.values(), ids=LONG)
def test_nothing_that_is_written_takes_long(text: str) -> None:
    began = time.process_time()
    with pytest.raises(DefinitionError) as refused:
        load_texts({"a.yaml": text})
    # A few seconds at most; what is quadratic or backtracks takes minutes to ages.
    assert refused.value.details and time.process_time() - began < 60


def test_no_pattern_of_paths_takes_long() -> None:
    began = time.process_time()
    for text in ("*a*a*ab", "<a>-<b>-<c>-<day:%Y>.csv", "**/**/x", "*?*?*?b"):
        Pattern(text).matches("a" * 255)
        Pattern(text).matches("/".join(["a"] * 200))
        Pattern(text).matches("-" * 255)
    assert time.process_time() - began < 60
