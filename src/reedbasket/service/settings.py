"""What the service can be told when it starts. The command line and the docs are made from this table."""

from __future__ import annotations

import os
from dataclasses import dataclass, field, fields
from pathlib import Path
from typing import Any

from ..core.errors import ReedError


class SettingError(ReedError):
    code = "service.bad_setting"


@dataclass(frozen=True)
class Settings:
    """Each field is an option of `reed serve` (--name) and an environment variable (REED_NAME)."""

    data: Path = field(metadata={"help": "folder for the service's records, keys and relative warehouse files"})
    host: str = field(default="127.0.0.1", metadata={"help": "address to listen on; anything but loopback wants TLS in front"})
    port: int = field(default=8640, metadata={"help": "port to listen on; 0 lets the system pick"})
    workers: int = field(default=2, metadata={"help": "worker processes, one run each at a time"})
    # Each watcher of a live run holds one thread; half of them stay free for everything else.
    threads: int = field(default=16, metadata={"help": "threads that answer requests"})
    keep_days: int = field(default=14, metadata={"help": "days for which the requests of runs are kept"})
    hosts: str = field(default="", metadata={"help": "further host names, comma separated, by which the service may be called"})

    def __post_init__(self) -> None:
        for name, low, high in (("port", 0, 65535), ("workers", 1, 64), ("threads", 4, 256), ("keep_days", 1, 3650)):
            if not low <= getattr(self, name) <= high:
                raise SettingError(
                    "starting the service",
                    f"--{name}",
                    found=str(getattr(self, name)),
                    mend=f"give a number from {low} to {high}",
                )

    @property
    def most_watchers(self) -> int:
        return self.threads // 2


def default_data_folder() -> Path:
    """REED_DATA, else ./reed-data where there is one, else a folder in the user's home (XDG base directories)."""
    if os.environ.get("REED_DATA"):
        return Path(os.environ["REED_DATA"])
    here = Path("reed-data")
    if here.is_dir():
        return here.absolute()
    home = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
    return Path(home) / "reedbasket"


def from_environment(given: dict[str, Any]) -> Settings:
    """Settings from what the command line gave, else the environment, else defaults. Raises SettingError."""
    values: dict[str, Any] = {"data": given.get("data") or default_data_folder()}
    for item in fields(Settings):
        if item.name == "data":
            continue
        value = given.get(item.name)
        if value is None:
            value = os.environ.get(f"REED_{item.name.upper()}")
        if value is None:
            continue
        try:
            values[item.name] = int(value) if item.type == "int" else str(value)
        except ValueError:
            raise SettingError(
                "starting the service", f"--{item.name}", found=repr(value), mend="give a whole number"
            ) from None
    values["data"] = Path(values["data"]).absolute()
    return Settings(**values)
