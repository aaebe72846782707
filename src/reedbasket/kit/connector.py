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
    """What went wrong, for people.

    Attributes:
        found: what was met.
        fix: what to do about it.
        retry: it may go well another time.
    """

    def __init__(self, found: str, fix: str = "see the connector's documentation", *, retry: bool = False) -> None:
        super().__init__(found)
        self.found, self.fix, self.retry = found, fix, retry


@dataclass(frozen=True)
class SettingFacts:
    """The facts of a setting; see Setting."""

    default: Any = None
    description: str = ""
    example: Any = None
    pattern: str | None = None
    allowed: Sequence[Any] | None = None


def Setting(  # noqa: N802 - stands in a class as if it were one
    default: Any = None,
    description: str = "",
    example: Any = None,
    pattern: str | None = None,
    allowed: Sequence[Any] | None = None,
) -> Any:
    """Say more about a setting than its type: `limit: int = Setting(500, description="records on a page")`.

    Args:
        default: its value if a source gives none; without it, every source has to give one.
        description: a line for whoever fills it in.
        example: a value, shown next to it.
        pattern: a regular expression that the whole value must match.
        allowed: the values it may have.
    """
    return SettingFacts(default, description, example, pattern, allowed)


@dataclass(frozen=True)
class Table:
    """One table of a connector, as a member of its class: `boxes = Table(primary_key="box_id", cursor="updated_at")`.

    Attributes:
        primary_key: the field, or fields, that identify a record.
        cursor: the field that grows with every change. `read` has to bring what is equal to or newer than `position.from_`; records
            that come again are recognised.
        cursor_type: `time`, `number` or `text`.
        from_: where the first read, or the first window, begins; may be a template, such as `{settings.since}`.
        overlap: how far back each read goes (`5m`), for records that arrive late.
        sorted: records come in the cursor's order, so that a long load may commit on the way.
        bound: `none` if everything comes whatever is requested; older records are then skipped.
        window: ranges of time of this length (`1d`), each read separately.
        own_position: `read` reports its own position, with `Saved`.
        deleted_when: the field that is set if a record is deleted.
        description: a line for people.
        name: what `read` is given; the member's own name if it is not set.
    """

    primary_key: str | Sequence[str] = ()
    cursor: str | None = None
    cursor_type: str = "time"
    from_: str | None = None
    overlap: str | None = None
    sorted: bool = False
    bound: str | None = None
    window: str | None = None
    own_position: bool = False
    deleted_when: str | None = None
    description: str = ""
    name: str = ""

    def as_definition(self) -> dict[str, Any]:
        """The table in the form of a connector's YAML."""
        made: dict[str, Any] = {"description": self.description} if self.description else {}
        if self.primary_key:
            made["primary_key"] = self.primary_key if isinstance(self.primary_key, str) else list(self.primary_key)
        if self.cursor:
            rule = {
                "column": self.cursor,
                "type": self.cursor_type,
                "from": self.from_,
                "overlap": self.overlap,
                "bound": self.bound,
            }
            made["cursor"] = {name: value for name, value in rule.items() if value is not None} | {"sorted": self.sorted}
        if self.window:
            made["window"] = {"length": self.window, "from": self.from_}
        if self.own_position:
            made["own_position"] = True
        if self.deleted_when:
            made["deleted_when"] = self.deleted_when
        return made


@dataclass(frozen=True)
class Position:
    """Where to read a table from.

    Attributes:
        from_: for a table with a cursor, its lowest value, inclusive; None for everything.
        until: when the run began; newer records are left for the next one.
        window: (from, until) of one range of time, half-open; None for a table without windows.
        saved: the value of the last `Saved`; None at first.
    """

    from_: Any
    until: datetime
    window: tuple[datetime, datetime] | None = None
    saved: Any = None


@dataclass(frozen=True)
class Saved:
    """Yielded by `read` after the records that it covers.

    Attributes:
        value: what `position.saved` will be the next time; anything that JSON can represent.
    """

    value: Any


class Log:
    """Writes to the run's log."""

    def __init__(self, tell: Callable[[str, str], None]) -> None:
        self._tell = tell

    def info(self, message: str) -> None:
        """Write a line for people who look at the run."""
        self._tell("info", message)

    def warning(self, message: str) -> None:
        """Write a warning, which appears in the run's summary too."""
        self._tell("warning", message)


class Connector:
    """A connector in Python: a class whose annotations are settings (`url: Url`, `limit: int = 500`) and whose members are tables
    (`boxes = Table(primary_key="box_id")`). When `read` is called, `self` has the settings by their names.

    Attributes:
        base_url: prefix of the paths given to `self.http`.
        auth: how requests are authenticated, as in a declared connector; templates such as `{settings.token}` are filled in.
        headers: sent with each request.
        rate_limit: how often the source may be asked, as in a declared connector.
        retry: how failed requests are retried, as in a declared connector.
        timeouts: seconds, as in a declared connector.
        http: sends requests.
        log: writes to the run's log.
    """

    base_url: ClassVar[str] = "{settings.url}"
    auth: ClassVar[Mapping[str, Any] | None] = None
    headers: ClassVar[Mapping[str, str]] = {}
    rate_limit: ClassVar[Mapping[str, Any]] = {}
    retry: ClassVar[Mapping[str, Any]] = {}
    timeouts: ClassVar[Mapping[str, Any]] = {}
    http: Http
    log: Log

    def check(self) -> None:
        """Check that the source can be read. By default, the first record is requested.

        Raises:
            Failed: it cannot. Any other error is reported as it is.
        """

    def tables(self) -> Iterable[Table]:
        """All tables. By default, those that are members of the class, which are known without asking.

        If only the source knows its tables, override this and ask it (`self.http`); it is called by each inspection and each run.

        Returns:
            Tables with the names that `read` is given: `Table(name="Boats", primary_key="BoatId")`.
        """
        return members_of(type(self))

    def read(self, table: str, position: Position) -> Iterator[Any]:
        """Read one table. By default, what the method named `read_` and the table's name yields.

        Args:
            table: its name.
            position: where to begin.

        Yields:
            Records (dicts), lists of them, Arrow batches or tables, and `Saved`.

        Raises:
            Failed: it cannot be read any further; what was read is kept as far as its position is safe.
        """
        yield from getattr(self, f"read_{table}")(position)

    def __init_subclass__(cls) -> None:
        for name, member in list(vars(cls).items()):
            if isinstance(member, Table) and not member.name:
                setattr(cls, name, Table(**{**vars(member), "name": name}))


def definition_of(kind: type[Connector]) -> dict[str, Any]:
    """What the class declares, in the form of a connector's YAML.

    Raises:
        Failed: it declares something wrong.
    """
    made: dict[str, Any] = {"description": (inspect.getdoc(kind) or "").split("\n")[0], "base_url": kind.base_url}
    for name in ("auth", "headers", "rate_limit", "retry", "timeouts"):
        if getattr(kind, name):
            made[name] = dict(getattr(kind, name))
    made["settings"] = {name: _setting(kind, name, hint) for name, hint in settings_of(kind).items()}
    if kind.tables is not Connector.tables:
        made["discover_tables"] = True
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
    made = {"type": _TYPES[hint], "description": said.description or None, "example": said.example, "default": said.default}
    made |= {"pattern": said.pattern, "allowed": list(said.allowed) if said.allowed else None}
    return {key: value for key, value in made.items() if value is not None}
