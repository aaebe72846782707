"""The settings of the service at its start. What each means is next to its option (cli.serve_options)."""

from __future__ import annotations

import os
from dataclasses import dataclass, fields
from ipaddress import ip_network
from pathlib import Path
from typing import Any, cast
from urllib.parse import urlsplit

from ..core.errors import ReedError
from ..core.spec.model import Notify
from ..store.access import ROLES, Role

_NUMBERS = (
    ("port", 0, 65535),
    ("workers", 1, 64),
    ("threads", 4, 256),
    ("keep_days", 1, 3650),
    ("grace_seconds", 0, 3600),
    ("notification_seconds", 0, 3600),
    ("keep_runs_days", 1, 36500),
    ("keep_rejects_days", 1, 36500),
    ("keep_audit_days", 1, 36500),
)


# What may be changed while the service runs: for how many days things are kept.
CHANGEABLE = ("keep_days", "keep_runs_days", "keep_rejects_days", "keep_audit_days")
BOUNDS = {name: (low, high) for name, low, high in _NUMBERS}


class SettingError(ReedError):
    """A setting that is not valid."""

    code = "service.bad_setting"


@dataclass(frozen=True)
class Settings:
    """Each field is an option of `reed serve` (--name) and an environment variable (REED_NAME)."""

    data: Path
    host: str = "127.0.0.1"
    port: int = 8640
    workers: int = 2
    # Who watches a live run, or waits for a look, holds one; see Parts.
    threads: int = 24
    keep_days: int = 14
    hosts: str = ""
    allow_path: str = ""
    allow_network: str = ""
    deny_network: str = ""
    public_url: str = ""
    proxy: str = ""
    tls_cert: str = ""
    tls_key: str = ""
    grace_seconds: int = 20
    keep_runs_days: int = 400
    keep_rejects_days: int = 400
    keep_audit_days: int = 800
    mail_server: str = ""
    mail_tls: str = "starttls"
    mail_from: str = "reed-basket@localhost"
    mail_user: str = ""
    mail_to: str = ""
    openid_issuer: str = ""
    openid_client: str = ""
    openid_scope: str = "openid profile email"
    openid_name: str = "preferred_username"
    openid_claim: str = "groups"
    openid_roles: str = ""
    notification_seconds: int = 10
    log_format: str = "text"

    def __post_init__(self) -> None:
        for name, low, high in _NUMBERS:
            if not low <= getattr(self, name) <= high:
                raise SettingError(
                    "starting the service",
                    f"--{name.replace('_', '-')}",
                    found=str(getattr(self, name)),
                    fix=f"give a number from {low} to {high}",
                )

        for name, words in (("mail_tls", ("none", "starttls", "tls")), ("log_format", ("text", "json"))):
            if getattr(self, name) not in words:
                raise SettingError(
                    "starting the service",
                    f"--{name.replace('_', '-')}",
                    found=repr(getattr(self, name)),
                    fix=f"give one of {', '.join(words)}",
                )
        for name in ("allow_network", "deny_network"):
            for text in _listed(getattr(self, name)):
                try:
                    ip_network(text, strict=False)
                except ValueError as error:
                    raise SettingError(
                        "starting the service",
                        f"--{name.replace('_', '-')}",
                        found=f"{text}: {error}",
                        fix="give networks (10.0.0.0/8) or addresses, separated by commas",
                    ) from None
        if self.openid_issuer:
            self._require_openid()
        if bool(self.tls_cert) != bool(self.tls_key):
            raise SettingError(
                "starting the service", "--tls-cert", found="only one of the two files", fix="give --tls-cert and --tls-key"
            )

    def _require_openid(self) -> None:
        parts = urlsplit(self.openid_issuer)
        here = parts.hostname in ("127.0.0.1", "localhost", "::1")
        wrong = {
            "openid_issuer": "" if parts.scheme == "https" or (here and parts.scheme == "http") else "give its https address",
            "openid_client": "" if self.openid_client else "give the client id that the provider assigned to this service",
            "openid_scope": "" if "openid" in self.openid_scope.split() else "include openid",
            "openid_roles": ""
            if self.roles_of_openid and set(self.roles_of_openid.values()) <= set(ROLES)
            else f"give values of the claim with their roles, data=editor,admins=admin; roles: {', '.join(ROLES)}",
        }
        for name, fix in wrong.items():
            if fix:
                raise SettingError(
                    "starting the service", f"--{name.replace('_', '-')}", found=repr(getattr(self, name)), fix=fix
                )

    @property
    def roles_of_openid(self) -> dict[str, Role]:
        """{value of the claim: role}."""
        pairs = [one.rpartition("=") for one in _listed(self.openid_roles)]
        return {held.strip(): cast(Role, role.strip()) for held, _, role in pairs}

    @property
    def openid_host(self) -> str | None:
        """The provider's host; None if there is none."""
        return urlsplit(self.openid_issuer).hostname if self.openid_issuer else None

    @property
    def default_notify(self) -> Notify | None:
        """Who is notified about feeds that do not say so themselves."""
        addresses = [address.strip() for address in self.mail_to.split(",") if address.strip()]
        return Notify(email=addresses) if addresses else None

    @property
    def allowed(self) -> list[Path]:
        """Further folders that definitions may reach."""
        return [Path(path).absolute() for path in _listed(self.allow_path)]

    @property
    def allow_networks(self) -> tuple[str, ...]:
        """Networks that may be connected to; if empty, all that are not denied."""
        return _listed(self.allow_network)

    @property
    def deny_networks(self) -> tuple[str, ...]:
        """Networks that may not be connected to."""
        return _listed(self.deny_network)


def _listed(text: str) -> tuple[str, ...]:
    return tuple(one.strip() for one in text.split(",") if one.strip())


def default_data_folder() -> Path:
    """REED_DATA, otherwise ./reed-data if it exists, otherwise a folder in the user's home (XDG base directories)."""
    if os.environ.get("REED_DATA"):
        return Path(os.environ["REED_DATA"])
    here = Path("reed-data")
    if here.is_dir():
        return here.absolute()
    home = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
    return Path(home) / "reedbasket"


def from_environment(given: dict[str, Any]) -> Settings:
    """Settings from the command line, otherwise from the environment, otherwise defaults.

    Raises:
        SettingError: a value is not valid.
    """
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
            raise SettingError("starting the service", f"--{item.name}", found=repr(value), fix="give a whole number") from None
    values["data"] = Path(values["data"]).absolute()
    return Settings(**values)
