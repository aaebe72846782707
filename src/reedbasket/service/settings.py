"""What the service can be told when it starts. The command line and the docs are made from this table."""

from __future__ import annotations

import os
from dataclasses import dataclass, field, fields
from pathlib import Path
from typing import Any

from ..core.errors import ReedError
from ..core.spec.model import Notify

_NUMBERS = (
    ("port", 0, 65535),
    ("workers", 1, 64),
    ("threads", 4, 256),
    ("keep_days", 1, 3650),
    ("grace_seconds", 0, 3600),
    ("notice_seconds", 0, 3600),
    ("keep_runs_days", 1, 36500),
    ("keep_rejects_days", 1, 36500),
    ("keep_audit_days", 1, 36500),
)


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
    public_url: str = field(
        default="", metadata={"help": "address by which people reach it, for links; its own where nothing is said"}
    )
    proxy: str = field(default="", metadata={"help": "address of the proxy in front, whose X-Forwarded-For and -Proto count"})
    tls_cert: str = field(default="", metadata={"help": "file with the certificate and its chain (PEM), to answer with TLS"})
    tls_key: str = field(default="", metadata={"help": "file with its key (PEM)"})
    grace_seconds: int = field(default=20, metadata={"help": "seconds that runs may still take when the service is stopped"})
    keep_runs_days: int = field(default=400, metadata={"help": "days for which runs with their log, and notices, are kept"})
    keep_rejects_days: int = field(default=400, metadata={"help": "days for which rejects are kept"})
    keep_audit_days: int = field(default=800, metadata={"help": "days for which it is kept who changed what"})
    mail_server: str = field(default="", metadata={"help": "host:port of the server that takes mail; no mail without it"})
    mail_tls: str = field(default="starttls", metadata={"help": "none, starttls or tls"})
    mail_from: str = field(default="reed-basket@localhost", metadata={"help": "address that mail comes from"})
    mail_user: str = field(default="", metadata={"help": "user at the mail server; the secret mail_password is the password"})
    mail_to: str = field(default="", metadata={"help": "who hears of failures of feeds that name nobody, comma separated"})
    notice_seconds: int = field(default=10, metadata={"help": "seconds within which notices to one recipient go out as one"})
    log_format: str = field(default="text", metadata={"help": "text, or json: an object a line"})

    def __post_init__(self) -> None:
        for name, low, high in _NUMBERS:
            if not low <= getattr(self, name) <= high:
                raise SettingError(
                    "starting the service",
                    f"--{name}",
                    found=str(getattr(self, name)),
                    mend=f"give a number from {low} to {high}",
                )

        for name, words in (("mail_tls", ("none", "starttls", "tls")), ("log_format", ("text", "json"))):
            if getattr(self, name) not in words:
                raise SettingError(
                    "starting the service",
                    f"--{name.replace('_', '-')}",
                    found=repr(getattr(self, name)),
                    mend=f"give one of {', '.join(words)}",
                )
        if bool(self.tls_cert) != bool(self.tls_key):
            raise SettingError(
                "starting the service", "--tls-cert", found="one of the two files", mend="give --tls-cert and --tls-key"
            )

    @property
    def default_notify(self) -> Notify | None:
        """Who hears of feeds that do not say so themselves."""
        addresses = [address.strip() for address in self.mail_to.split(",") if address.strip()]
        return Notify(mail=addresses) if addresses else None

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
