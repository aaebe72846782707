"""What a connector is made of."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, ClassVar, NewType, get_type_hints

from .http import Http

# What a setting may be, beside str, int, float, bool and list[str].
Url = NewType("Url", str)
Secret = NewType("Secret", str)
Time = NewType("Time", datetime)

_TYPES: dict[Any, str] = {
    Url: "url",
    Secret: "secret",
    Time: "time",
    str: "text",
    int: "number",
    float: "number",
    bool: "flag",
    list[str]: "list",
}


class Failed(Exception):
    """What went wrong, for people: what was found, and what would mend it. retry: it may go well another time."""

    def __init__(self, found: str, mend: str = "see the connector's documentation", *, retry: bool = False) -> None:
        super().__init__(found)
        self.found, self.mend, self.retry = found, mend, retry


@dataclass(frozen=True)
class SettingFacts:
    """See Setting."""

    default: Any = None
    about: str = ""
    example: Any = None
    pattern: str | None = None
    allowed: Sequence[Any] | None = None


def Setting(  # noqa: N802 - stands in a class as if it were one
    default: Any = None,
    about: str = "",
    example: Any = None,
    pattern: str | None = None,
    allowed: Sequence[Any] | None = None,
) -> Any:
    """More about a setting than its type: `limit: int = Setting(500, about="records a page")`. Without a default it has to be filled in.
    pattern: a regular expression that the whole of it must match; allowed: what it may be."""
    return SettingFacts(default, about, example, pattern, allowed)


@dataclass(frozen=True)
class Table:
    """One table, as a member of the class: `boxes = Table(key="box_id", cursor="updated_at")`.

    key: the field, or fields, that tell a record. cursor: the field that grows with every change; `read` is then asked for what is equal
    to or newer than `position.since`, and records that come again are recognised. cursor_type: time, number or text. start: where a first
    read begins; overlap: how far back each one goes (`5m`), for records that come late. sorted: records come in the cursor's order, so
    that a long load may commit on the way. bound: `none` where all comes whatever is asked for; what is older is passed over then.
    window, since: ranges of time of so long (`1d`), from a day on; each is read by itself. saves: `read` says itself how far it is, by
    `Saved`. deleted: the field that is set where a record is gone.
    """

    key: str | Sequence[str] = ()
    cursor: str | None = None
    cursor_type: str = "time"
    start: str | None = None
    overlap: str | None = None
    sorted: bool = False
    bound: str | None = None
    window: str | None = None
    since: str | None = None
    saves: bool = False
    deleted: str | None = None
    about: str = ""
    name: str = ""

    def as_definition(self) -> dict[str, Any]:
        """As a connector's YAML says it."""
        made: dict[str, Any] = {"about": self.about} if self.about else {}
        if self.key:
            made["key"] = self.key if isinstance(self.key, str) else list(self.key)
        if self.cursor:
            rule = {
                "column": self.cursor,
                "type": self.cursor_type,
                "start": self.start,
                "overlap": self.overlap,
                "bound": self.bound,
            }
            made["cursor"] = {name: value for name, value in rule.items() if value is not None} | {"sorted": self.sorted}
        if self.window:
            made["window"] = {"step": self.window, "from": self.since}
        if self.saves:
            made["saves"] = True
        if self.deleted:
            made["deleted"] = self.deleted
        return made


@dataclass(frozen=True)
class Position:
    """From where a table is to be read. since: of a table with a cursor, its lowest value, inclusive; None for everything. until: when the
    run began; what is newer comes with the next. window: (from, until) of one range. saved: what the last `Saved` held, None at first."""

    since: Any
    until: datetime
    window: tuple[datetime, datetime] | None = None
    saved: Any = None


@dataclass(frozen=True)
class Saved:
    """Yielded by `read` behind the records that it covers: what `position.saved` is to be the next time. Anything that JSON holds."""

    value: Any


class Log:
    """Lines for the run's log."""

    def __init__(self, tell: Callable[[str, str], None]) -> None:
        self._tell = tell

    def info(self, message: str) -> None:
        """For people who look at the run."""
        self._tell("info", message)

    def warning(self, message: str) -> None:
        """For people who look at the run; it shows."""
        self._tell("warning", message)


class Connector:
    """Settings are annotations (`url: Url`, `limit: int = 500`), tables members (`boxes = Table(key="box_id")`); both stand in `self` by
    their names when `read` is called.

    base, auth, headers, pace, retry, timeouts: as in a declared connector, templates included; they are what `self.http` goes by.
    """

    base: ClassVar[str] = "{settings.url}"
    auth: ClassVar[Mapping[str, Any] | None] = None
    headers: ClassVar[Mapping[str, str]] = {}
    pace: ClassVar[Mapping[str, Any]] = {}
    retry: ClassVar[Mapping[str, Any]] = {}
    timeouts: ClassVar[Mapping[str, Any]] = {}
    http: Http
    log: Log

    def check(self) -> None:
        """Raises Failed where the source cannot be read; what else it raises is told as it is. By itself: the first record is asked for."""

    def tables(self) -> Iterable[Table]:
        """All of them. By itself those that are members of the class, which are known without asking. Where only the source knows, this
        asks it (`self.http`), at each look and each run: `Table(name="Boats", key="BoatId")`, by the name that `read` is told."""
        return members_of(type(self))

    def read(self, table: str, position: Position) -> Iterator[Any]:
        """Yields records (dicts), lists of them, Arrow batches or tables, and `Saved`. By itself: what the method named `read_` and the
        table's name yields."""
        yield from getattr(self, f"read_{table}")(position)

    def __init_subclass__(cls) -> None:
        for name, member in list(vars(cls).items()):
            if isinstance(member, Table) and not member.name:
                setattr(cls, name, Table(**{**vars(member), "name": name}))


def definition_of(kind: type[Connector]) -> dict[str, Any]:
    """What the class says of itself, as a connector's YAML would. Raises Failed."""
    made: dict[str, Any] = {"about": (inspect.getdoc(kind) or "").split("\n")[0], "base": kind.base}
    for name in ("auth", "headers", "pace", "retry", "timeouts"):
        if getattr(kind, name):
            made[name] = dict(getattr(kind, name))
    made["settings"] = {name: _setting(kind, name, hint) for name, hint in settings_of(kind).items()}
    if kind.tables is not Connector.tables:
        made["tables_at_source"] = True
    made["tables"] = {table.name: table.as_definition() for table in members_of(kind)}
    return made


def members_of(kind: type[Connector]) -> list[Table]:
    """The tables that a connector's class declares."""
    return [found for _, found in inspect.getmembers(kind, lambda member: isinstance(member, Table))]


def settings_of(kind: type[Connector]) -> dict[str, Any]:
    """{name: its type}"""
    own = set(Connector.__annotations__)
    return {name: hint for name, hint in get_type_hints(kind).items() if name not in own and not name.startswith("_")}


def _setting(kind: type[Connector], name: str, hint: Any) -> dict[str, Any]:
    if hint not in _TYPES:
        raise Failed(
            f"the setting {name} is a {hint}",
            f"a setting is one of {', '.join(getattr(t, '__name__', str(t)) for t in _TYPES)}",
        )
    said = getattr(kind, name, None)
    said = said if isinstance(said, SettingFacts) else SettingFacts(said)
    made = {"type": _TYPES[hint], "about": said.about or None, "example": said.example, "default": said.default}
    made |= {"pattern": said.pattern, "allowed": list(said.allowed) if said.allowed else None}
    return {key: value for key, value in made.items() if value is not None}
