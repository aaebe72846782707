"""Nothing that a definition names leads a connection to the machine's metadata, to its neighbours by link, or back to the service."""

from __future__ import annotations

import socket
from pathlib import Path
from typing import Any

import psycopg
import pytest

from reedbasket.client import Client
from reedbasket.core import outgoing
from reedbasket.core.allowed_paths import Places
from reedbasket.core.errors import DefinitionError
from reedbasket.core.outgoing import AddressNotAllowed, Outgoing
from reedbasket.core.postgres import Address
from reedbasket.core.spec import load_texts
from tests.conftest import RunningService
from tests.security.test_secrets import BASKET
from tests.support.source import Answer, serving
from tests.support.warehouses import Cluster

WAREHOUSE = "warehouse: marsh\ntype: sqlite\npath: marsh.db\n"
DENIED = "127.0.0.3"


@pytest.mark.parametrize(
    ("host", "port", "why"),
    [
        ("169.254.169.254", 80, "link-local"),
        ("::ffff:169.254.169.254", 80, "link-local"),
        ("64:ff9b::a9fe:a9fe", 80, "link-local"),
        ("fe80::1%lo", 80, "link-local"),
        ("fd00:ec2::254", 80, "link-local"),
        ("127.0.0.1", 8640, "own"),
        ("localhost", 8640, "own"),
        ("127.9.9.9", 8640, "own"),
        ("0.0.0.0", 8640, "own"),
        ("::1", 8640, "own"),
        ("::ffff:127.0.0.1", 8640, "own"),
        ("127.0.0.1", 8641, ""),
        ("192.0.2.7", 443, ""),
        ("nobody.invalid", 443, ""),
    ],
)
def test_what_is_denied_by_default(host: str, port: int, why: str) -> None:
    policy = Outgoing(own_port=8640)
    if not why:
        policy.require(host, port)
        return
    with pytest.raises(AddressNotAllowed, match=why):
        policy.require(host, port)


def test_networks_that_the_operator_names() -> None:
    with pytest.raises(AddressNotAllowed, match="other networks"):
        Outgoing(allow=("10.0.0.0/8",)).require("192.0.2.7", 443)
    Outgoing(allow=("10.0.0.0/8",)).require("10.1.2.3", 443)
    Outgoing(allow=("169.254.169.254/32",)).require("169.254.169.254", 80)
    with pytest.raises(AddressNotAllowed, match="denied"):
        Outgoing(deny=("192.0.2.0/24",)).require("192.0.2.7", 443)


def test_a_name_is_looked_up_once(cluster: Cluster, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A name that means another address a moment later leads a driver of its own nowhere else."""
    real = socket.getaddrinfo

    def told(host: Any, *more: Any, **named: Any) -> Any:
        return real("127.0.0.1" if host == "landing.invalid" else host, *more, **named)

    monkeypatch.setattr(socket, "getaddrinfo", told)
    monkeypatch.setattr(outgoing, "_installed", True)
    text = f"warehouse: marsh\ntype: postgres\nhost: landing.invalid\nport: {cluster.port}\ndatabase: postgres\nuser: boss\n"
    text += "tls: {mode: disable}\n"
    definition = load_texts({"marsh.yaml": text}).warehouses["marsh"]
    address = Address(definition, "public", None, Places.anywhere(tmp_path))
    with psycopg.connect(address.conninfo()) as connection:  # libpq asks no Python
        assert connection.info.hostaddr == "127.0.0.1"
    for host in ("nobody.invalid", f"{DENIED},landing.invalid"):  # what has no address now is not left to the driver to look up
        address.host = host
        with pytest.raises(psycopg.OperationalError, match="has no address"):
            address.conninfo()
    with pytest.raises(DefinitionError) as refused:
        load_texts({"marsh.yaml": text.replace("landing.invalid", f"/run/postgresql,{DENIED}")})
    assert [mistake["path"] for mistake in refused.value.details] == ["warehouses.marsh.host"], refused.value.details


def test_an_address_is_connected_to_as_it_was_told(monkeypatch: pytest.MonkeyPatch) -> None:
    """An IPv4 address within an IPv6 one is judged as the one, and reached as the other: the network may know no IPv4."""
    told = [(socket.AF_INET6, socket.SOCK_STREAM, 6, "", ("64:ff9b::c000:207", 5432, 0, 0))]
    monkeypatch.setattr(socket, "getaddrinfo", lambda *_, **__: told)
    assert Outgoing().require("landing.invalid", 5432) == ["64:ff9b::c000:207"]
    with pytest.raises(AddressNotAllowed):
        Outgoing(deny=("192.0.2.7/32",)).require("landing.invalid", 5432)


@pytest.mark.parametrize(
    "way", ["the service itself", "denied", "a redirect", "a token's address", "postgres", "mysql", "sftp", "ftp", "s3"]
)
def test_no_source_leads_there(tmp_path: Path, way: str) -> None:
    service = RunningService(tmp_path / "data", "--deny-network", f"{DENIED}/32")
    port = service.url.rpartition(":")[2]
    try:
        editor = Client(service.url, service.client.tokens.add("editor", "editor")["token"])
        editor.secrets.set("quay_token", "planted-quay-7")
        with serving(lambda _: Answer({}, 302, {"Location": f"http://localhost:{port}/healthz"})) as source:
            text = BASKET.format(url=source.url)
            place = {"the service itself": service.url, "denied": f"http://{DENIED}:9", "a redirect": source.url}.get(way)
            server = f"host: localhost\nport: {port}\ndatabase: d\nuser: u\npassword: {{secret: quay_token}}"
            if place is not None:
                text = BASKET.format(url=place)
            elif way == "a token's address":
                oauth = f'auth: {{type: oauth2, grant: client_credentials, token_url: "http://[::1]:{port}/t", client_id: x}}'
                text = text.replace('auth: {type: bearer, token: "{settings.token}"}', oauth)
            elif way in ("postgres", "mysql"):
                text = f"source: quays\ntype: {way}\n{server}\ntls: {{mode: disable}}\n"
            else:
                url = f"{way}://{DENIED}:9/" if way != "s3" else f"s3://bucket/\nendpoint: http://{DENIED}:9\nuser: u"
                user = "" if way == "s3" else "\nuser: u"
                text = f"source: quays\ntype: files\nurl: {url}{user}\npassword: {{secret: quay_token}}\n"
            editor.definitions.apply({"b.yaml": text})
            steps = editor.sources.check("quays")
            assert any(
                "address.not_allowed" in str(step) or "service's own" in str(step) or "denied" in str(step) for step in steps
            ), steps
            assert not all(step["ok"] for step in steps)
    finally:
        service.stop()
