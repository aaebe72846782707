"""Finding the service, by its address or by its data folder."""

from __future__ import annotations

import json
import os
from pathlib import Path

from .client import Client
from .errors import ServiceUnreachable


def connect(url: str | None = None, token: str | None = None) -> Client:
    """A client for the given address and token, otherwise for REED_URL and REED_TOKEN, otherwise for the service of the data folder:
    REED_DATA, ./reed-data, or the one in the user's home.

    Raises:
        ServiceUnreachable: no service is found.
    """
    url = url or os.environ.get("REED_URL")
    token = token or os.environ.get("REED_TOKEN")
    if url and token:
        return Client(url, token)
    places = _places()
    for folder in places:
        try:
            found = url or json.loads((folder / "service.json").read_text())["url"]
            return Client(found, token or (folder / "token").read_text().strip())
        except (OSError, ValueError, KeyError):
            continue
    looked = " and ".join(str(p) for p in places)
    raise ServiceUnreachable(
        f"no running service found (looked in {looked}); start one with `reed serve` or `reed demo`, or give --url and --token"
    )


def data_folder_of(client: Client) -> Path | None:
    """The service's data folder, if it is on this machine and we may read it."""
    for folder in _places():
        try:
            if json.loads((folder / "service.json").read_text())["url"] == client.url:
                return folder
        except (OSError, ValueError, KeyError):
            continue
    return None


def _places() -> list[Path]:
    if os.environ.get("REED_DATA"):
        return [Path(os.environ["REED_DATA"])]
    home = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
    return [Path("reed-data"), Path(home) / "reedbasket"]
