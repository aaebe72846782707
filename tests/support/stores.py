"""Every kind of store of files, on a real server of its own on the loopback, that serves a folder."""

from __future__ import annotations

import asyncio
import base64
import functools
import http.server
import json
import logging
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import asyncssh
import boto3
from moto.s3.models import s3_backends
from moto.server import ThreadedMotoServer
from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
from pyftpdlib.servers import ThreadedFTPServer

from tests.support.certificates import Authority
from tests.support.feeds import SECRETS


def depot(endpoint: str) -> Any:
    """A client of the bucket `depot`."""
    return boto3.client(
        "s3", endpoint_url=endpoint, region_name="us-east-1", aws_access_key_id="me", aws_secret_access_key="word"
    )


@contextmanager
def s3(folder: Path) -> Iterator[str]:
    logging.getLogger("werkzeug").setLevel(logging.ERROR)
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    try:
        endpoint = "http://{}:{}".format(*server.get_host_and_port())
        client = depot(endpoint)
        s3_backends.reset()  # they outlive their server, in this process
        client.create_bucket(Bucket="depot")
        for path in folder.rglob("*"):
            if path.is_file():
                client.put_object(
                    Bucket="depot", Key=f"in/{path.relative_to(folder)}", Body=path.read_bytes(), ACL="public-read"
                )
        yield f"url: s3://depot/in\nendpoint: {endpoint}\nuser: me\npassword: {{secret: word}}"
    finally:
        server.stop()


@contextmanager
def sftp(folder: Path) -> Iterator[str]:
    """asyncssh's own server, in a thread of its own."""
    host_key, started, loop = asyncssh.generate_private_key("ssh-ed25519"), threading.Event(), asyncio.new_event_loop()
    found: dict[str, Any] = {}

    class Server(asyncssh.SSHServer):
        def password_auth_supported(self) -> bool:
            return True

        def public_key_auth_supported(self) -> bool:
            return True

        def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
            return username == "me" and key.export_public_key().decode() == SECRETS.get("our public key")

        def validate_password(self, username: str, password: str) -> bool:
            return (username, password) == ("me", SECRETS["word"])

    class Files(asyncssh.SFTPServer):
        def __init__(self, chan: Any) -> None:
            super().__init__(chan, chroot=str(folder).encode())

    async def serve() -> None:
        server = await asyncssh.create_server(Server, "127.0.0.1", 0, server_host_keys=[host_key], sftp_factory=Files)
        found["port"] = server.get_port()
        started.set()

    def run() -> None:
        asyncio.set_event_loop(loop)
        loop.run_until_complete(serve())
        loop.run_forever()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    assert started.wait(10)
    key = host_key.export_public_key().decode().strip()
    try:
        yield f"url: sftp://127.0.0.1:{found['port']}/\nuser: me\npassword: {{secret: word}}\nhost_key: {key}"
    finally:
        loop.call_soon_threadsafe(loop.stop)
        thread.join(5)


@contextmanager
def ftp(folder: Path, tls: Path | None = None, old: bool = False) -> Iterator[str]:
    """old: it knows nothing of RFC 3659 but SIZE and MDTM."""
    authorizer = DummyAuthorizer()
    authorizer.add_user("me", SECRETS["word"], str(folder), perm="elradfmwMT")
    kind = TLS_FTPHandler if tls else FTPHandler
    known = {name: facts for name, facts in kind.proto_cmds.items() if not (old and name in ("MLSD", "MLST"))}
    handler = type("Handler", (kind,), {"authorizer": authorizer, "proto_cmds": known})
    more = ""
    if tls:
        tls.mkdir()
        Authority(tls, "us").issue("localhost", tls / "server.crt", tls / "server.key")
        handler.certfile, handler.keyfile = str(tls / "server.crt"), str(tls / "server.key")
        handler.tls_control_required = handler.tls_data_required = True
        more = f"\ntls: {{mode: verify-full, root: {tls / 'us.pem'}}}"
    log = logging.getLogger("pyftpdlib")
    log.addHandler(logging.NullHandler())  # else it sets up one of its own, that tells all
    log.setLevel(logging.ERROR)
    server = ThreadedFTPServer(("127.0.0.1", 0), handler)
    thread = threading.Thread(target=server.serve_forever, kwargs={"timeout": 0.2}, daemon=True)
    thread.start()
    try:
        scheme = "ftps" if tls else "ftp"
        yield f"url: {scheme}://{'localhost' if tls else '127.0.0.1'}:{server.address[1]}/\nuser: me\npassword: {{secret: word}}{more}"
    finally:
        server.close_all()
        # Its thread closes it once more as it ends, and what tells connections to end is one for all such servers: left
        # to itself it would hang up on those of the next one.
        thread.join(30)
        assert not thread.is_alive()


@contextmanager
def web(folder: Path) -> Iterator[str]:
    class Quiet(http.server.SimpleHTTPRequestHandler):
        def log_message(self, *_: Any) -> None:
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Quiet, directory=str(folder)))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"url: http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()


def local(folder: Path) -> Any:
    return _same(f"path: {folder}")


@contextmanager
def _same(text: str) -> Iterator[str]:
    yield text


@contextmanager
def crate(folder: Path) -> Iterator[str]:
    """The toy of tests/contracts/toys, which keeps its file beside the folder."""
    packed = {
        f"in/{path.relative_to(folder)}": [base64.b64encode(path.read_bytes()).decode(), "2026-03-01T06:00:00+00:00"]
        for path in sorted(folder.rglob("*"))
        if path.is_file()
    }
    data = folder.parent / "data"
    data.mkdir(exist_ok=True)
    (data / "shed.crate").write_text(json.dumps(packed))
    yield "url: crate://shed/in"
