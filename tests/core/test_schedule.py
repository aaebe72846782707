"""When feeds are due: moments, windows, how they lie on each other; and what definitions say wrongly of it."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import islice, pairwise
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from reedbasket.core.errors import DefinitionError
from reedbasket.core.spec import load_texts
from reedbasket.core.spec.schedule import Schedule
from reedbasket.core.spec.schedule_times import Cron, Every, Monthly
from reedbasket.core.spec.times import format_time
from reedbasket.core.spec.window_grid import Grid, covered, grid_of

BASE = """
connector: api
type: http
settings: {url: {type: url}, region: {type: text, default: all}, token: {type: secret}}
base_url: "{settings.url}"
tables: [{table: things, get: "/{settings.region}/things", records: items, primary_key: id}]
---
source: api
connector: api
settings: {url: "http://127.0.0.1:1", token: {secret: t}}
---
warehouse: marsh
type: sqlite
path: marsh.db
"""
FEED = "---\nfeed: {name}\nfrom: api\ninto: marsh\ntable_prefix: {name}_\ntables: [things]\n{more}\n"


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).astimezone(UTC)


def mistakes(*feeds: tuple[str, str]) -> list[tuple[str, str]]:
    text = BASE + "".join(FEED.format(name=name, more=more) for name, more in feeds)
    try:
        load_texts({"b.yaml": text})
    except DefinitionError as error:
        return [(one["code"], one["message"]) for one in error.details]
    return []


@pytest.mark.slow
@settings(max_examples=200)
@given(
    st.sampled_from([30, 60, 900, 3600, 86400, 31 * 86400]), st.text("abc", min_size=1, max_size=5), st.integers(0, 4 * 10**9)
)
def test_every_comes_once_in_each_interval(seconds: int, feed: str, moment: int) -> None:
    ticks, now = Every(timedelta(seconds=seconds), feed), datetime.fromtimestamp(moment, UTC)
    assert ticks.latest(now) <= now < ticks.after(now)
    assert ticks.after(now) - ticks.latest(now) == timedelta(seconds=seconds)
    assert ticks.latest(ticks.after(now)) == ticks.after(now)


def test_feeds_of_one_interval_are_spread_over_it() -> None:
    now = at("2026-03-01T00:00:00Z")
    begins = sorted((Every(timedelta(minutes=1), f"feed-{n}").after(now) - now).total_seconds() for n in range(300))
    # Of 300 in a minute hardly ever more than a dozen begin within one second.
    assert max(sum(second <= b < second + 1 for b in begins) for second in range(60)) <= 15


@settings(max_examples=100)
@given(st.integers(0, 4 * 10**9))
def test_monthly_is_once_a_month(moment: int) -> None:
    ticks, now = Monthly("f"), datetime.fromtimestamp(moment, UTC)
    following = list(islice(ticks.between(now, now + timedelta(days=3700)), 25))
    assert [(b.year * 12 + b.month) - (a.year * 12 + a.month) for a, b in pairwise(following)] == [1] * 24
    assert ticks.latest(now) <= now < following[0]


@pytest.mark.parametrize(
    ("expression", "since", "expected"),
    [
        # The clock goes from 2 to 3 on 29 March 2026 in Paris: what was to come in between comes right behind the gap.
        ("30 2 * * *", "2026-03-28T12:00+01:00", ["2026-03-29T03:00+02:00", "2026-03-30T02:30+02:00"]),
        # It shows 2 to 3 twice on 25 October: a fixed time comes once, what comes every hour comes every hour.
        ("30 2 * * *", "2026-10-24T12:00+02:00", ["2026-10-25T02:30+02:00", "2026-10-26T02:30+01:00"]),
        (
            "15 * * * *",
            "2026-10-25T01:30+02:00",
            ["2026-10-25T02:15+02:00", "2026-10-25T02:15+01:00", "2026-10-25T03:15+01:00"],
        ),
        ("0 6 * * 1-5", "2026-11-27T12:00+01:00", ["2026-11-30T06:00+01:00"]),
        ("0 0 29 2 *", "2026-01-01T00:00+01:00", ["2028-02-29T00:00+01:00"]),
    ],
)
def test_cron_goes_by_the_clock_on_the_wall(expression: str, since: str, expected: list[str]) -> None:
    ticks = Cron(expression, "Europe/Paris")
    found = list(islice(ticks.between(at(since), at(since) + timedelta(days=1500)), len(expected)))
    assert found == [at(text) for text in expected]
    for tick in found:
        assert ticks.latest(tick) == ticks.latest(tick + timedelta(seconds=59)) == tick
        assert ticks.after(tick - timedelta(seconds=1)) == tick


@settings(max_examples=150)
@given(st.integers(1, 500), st.integers(0, 10**6), st.integers(0, 20_000))
def test_windows_meet_without_gap_or_overlap(hours: int, moment: int, lag: int) -> None:
    """However often the past is decided, and wherever that stopped, the windows are the same."""
    start = at("2026-01-01T00:00:00Z")
    grid, now = Grid(start, timedelta(hours=hours), timedelta(seconds=lag)), start + timedelta(seconds=moment)
    whole = list(grid.due(start, now))
    assert all(a[1] == b[0] for a, b in pairwise(whole))
    assert all(end + timedelta(seconds=lag) <= now for _, end in whole)
    half = list(grid.due(start, start + timedelta(seconds=moment // 2)))
    assert half + list(grid.due(half[-1][1] if half else start, now)) == whole
    if whole:
        assert covered((whole[0][0], whole[-1][1]), whole)
        assert not covered((whole[0][0], whole[-1][1] + timedelta(seconds=1)), whole)


def test_a_grid_that_changed_goes_on_where_the_old_one_ended() -> None:
    days = Grid(at("2026-01-01T00:00:00Z"), timedelta(days=1))
    first = next(days.from_(at("2026-01-03T06:00:00Z")))
    assert [format_time(t) for t in first] == ["2026-01-03T06:00:00Z", "2026-01-04T00:00:00Z"]
    months = Grid(at("2026-01-31T00:00:00Z"), "month")
    assert [format_time(w[1])[:10] for w in islice(months.from_(months.start), 3)] == ["2026-02-28", "2026-03-31", "2026-04-30"]


HOURS = "schedule: {windows: {from: 2026-01-01, length: 1h}}"


@pytest.mark.parametrize(
    ("behind", "code", "words"),
    [
        ("schedule: {after: hours, windows_per_run: 24}", None, ""),
        ("schedule: {after: hours, windows_per_run: 24, shift: 30m}", None, ""),
        ("schedule: {after: hours, windows: {from: 2026-01-02, length: 1d}}", None, ""),
        ("schedule: {after: hours, windows: {from: 2026-02-01, length: month}}", None, ""),
        ("schedule: {after: hours, windows: {from: 2026-01-02T00:20:00Z, length: 1d}, shift: 20m}", None, ""),
        (
            "schedule: {after: hours, windows: {from: 2026-01-02T00:20:00Z, length: 1d}}",
            "windows_misaligned",
            "`shift: 20m` would fit",
        ),
        ("schedule: {after: hours, windows: {from: 2026-01-02, length: 90m}}", "windows_misaligned", "take a multiple of 1h"),
        (
            "schedule: {after: hours, windows: {from: 2026-01-02, length: 30m}}",
            "windows_misaligned",
            "are not multiples of those of hours",
        ),
        ("schedule: {after: hour}", "unknown_feed", 'did you mean "hours"?'),
        ("schedule: {after: behind}", "cycle", "behind after behind"),
        ("schedule: {every: 10s}", "bad_value", "at most every 30s"),
        ("schedule: {every: 1h, cron: '0 * * * *'}", "bad_value", "found every and cron"),
        ("schedule: {cron: '0 25 * * *'}", "bad_value", "not a cron expression"),
        ("schedule: {cron: '0 0 30 2 *'}", "bad_value", "not a cron expression"),
        ("schedule: {cron: '0 6 * * *', time_zone: Mars/Olympus}", "bad_value", "not a time zone"),
        ("schedule: {every: 1h, missed: all}", "bad_value", "loads everything that is new"),
        ("schedule: {every: 1h, windows_per_run: 2}", "bad_value", "`windows_per_run` goes with `after`"),
        ("notify: {email: ['a@b.example\\nBcc: x@y.example']}", "bad_value", "not a mail address"),
    ],
)
def test_misaligned_and_mistaken_schedules_are_refused_with_what_would_fit(behind: str, code: str | None, words: str) -> None:
    found = mistakes(("hours", HOURS), ("behind", behind))
    assert [c for c, _ in found] == ([f"definition.{code}"] if code else [])
    assert words in (found[0][1] if found else "")


def test_windows_behind_others_take_their_step_and_offset() -> None:
    hours = Schedule.model_validate({"windows": {"from": "2026-01-01", "length": "1h"}})
    days = Schedule.model_validate({"after": "hours", "windows_per_run": 24, "shift": "30m"})
    weeks = Schedule.model_validate({"after": "days", "windows_per_run": 7})
    grid = grid_of("weeks", {"hours": hours, "days": days, "weeks": weeks})
    assert grid == Grid(at("2026-01-01T00:30:00Z"), timedelta(days=7))


def variants_of(more: str) -> Any:
    return load_texts({"b.yaml": BASE + more}).feeds


def test_one_definition_makes_a_feed_of_each_set() -> None:
    feeds = variants_of(
        """---
feed: things-{variant.region}
description: of {variant.region}, not of {{variant.region}}
variants: [{region: north}, {region: south}]
from: api
into: marsh
table_prefix: "{variant.region}_"
tables: [{table: things, filter: "region = 'x'"}]
"""
    )
    assert {name: (feed.table_prefix, feed.variant) for name, feed in feeds.items()} == {
        "things-north": ("north_", {"region": "north"}),
        "things-south": ("south_", {"region": "south"}),
    }
    assert feeds["things-north"].description == "of north, not of {{variant.region}}"


@pytest.mark.parametrize(
    ("said", "code", "words"),
    [
        ("feed: same\nvariants: [{region: a}, {region: b}]", "defined_twice", '"same-{variant.region}"'),
        ("feed: f-{variant.regoin}\nvariants: [{region: a}]", "unknown_name", 'did you mean "region"?'),
        ("feed: f-{variant.token}\nvariants: [{token: a}]", "bad_value", "only in the source's settings"),
        ('feed: f-{variant.r}\nvariants: [{r: "x\' or 1"}]', "bad_value", "a name consists of lower case"),
        (
            "feed: f\nvariants: [{region: a}]\nwrite: append\ndescription: '{variant.x}'",
            "unknown_name",
            "this variant has no",
        ),
    ],
)
def test_parameters_that_cannot_be_are_told(said: str, code: str, words: str) -> None:
    with pytest.raises(DefinitionError) as refused:
        variants_of(f"---\n{said}\nfrom: api\ninto: marsh\ntables: [things]\n")
    assert [(one["code"], words in one["message"]) for one in refused.value.details] == [(f"definition.{code}", True)]


def test_sql_is_never_made_out_of_parameters() -> None:
    text = BASE.replace("warehouse: marsh", "source: db\ntype: sqlite\npath: x.db\n---\nwarehouse: marsh")
    feed = "---\nfeed: f-{variant.r}\nvariants: [{r: a}]\nfrom: db\ninto: marsh\n"
    feed += "tables: [{table: t, source_filter: \"r = '{variant.r}'\"}]\n"
    with pytest.raises(DefinitionError) as refused:
        load_texts({"b.yaml": text + feed})
    assert "write :variant_r" in refused.value.details[0]["message"]


def test_a_settings_file_says_what_is_different_here() -> None:
    over = "source: api\nsettings: {url: 'https://api.sedge.example'}\n---\nwarehouse: marsh\npath: /srv/marsh.db\n"
    feed = FEED.format(name="f", more="")
    basket = load_texts({"b.yaml": BASE + feed}, settings={"prod.yaml": over})
    assert basket.sources["api"].settings == {"url": "https://api.sedge.example", "token": {"secret": "t"}}
    assert basket.warehouses["marsh"].path == "/srv/marsh.db"
    wrong = "source: api\nsettings: {url: nowhere}\n---\nsource: apy\nsettings: {}\n---\nhouse: x\n"
    with pytest.raises(DefinitionError) as refused:
        load_texts({"b.yaml": BASE + feed}, settings={"prod.yaml": wrong})
    told = [(one["file"], one["line"], one["code"]) for one in refused.value.details]
    assert told == [
        ("prod.yaml", 2, "definition.bad_setting"),
        ("prod.yaml", 4, "definition.unknown_source"),
        ("prod.yaml", 7, "definition.unknown_kind"),
    ]
