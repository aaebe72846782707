"""A small OpenID provider on loopback, which keeps strictly to the rules, and whose tokens can be spoiled."""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
import threading
import time
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import jwt
from cryptography.hazmat.primitives.asymmetric import rsa

CLIENT, PASSWORD = "reed-basket", "pass:word/+=%é"
Claims = dict[str, Any]


class Provider:
    """person: what it says of whoever signs in. spoil: makes another token of the claims and the key. says: its answer's `iss`."""

    def __init__(self) -> None:
        self.person: Claims = {"sub": "u-1", "preferred_username": "Wren", "groups": ["data"]}
        self.spoil: Callable[[Claims, Provider], str] | None = None
        self.says: str | None = None
        self.refused: list[str] = []
        self.key = rsa.generate_private_key(65537, 2048)
        self._codes: dict[str, dict[str, str]] = {}
        provider = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                parts = urlsplit(self.path)
                query = {name: values[-1] for name, values in parse_qs(parts.query).items()}
                if parts.path == "/authorize":
                    self.send_response(302)
                    self.send_header("Location", provider.authorize(query))
                    self.end_headers()
                else:
                    found = {"/.well-known/openid-configuration": provider.description, "/keys": provider.keys}.get(parts.path)
                    self.answer(200 if found else 404, found() if found else {})

            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"])).decode()
                try:
                    sent = {name: values[-1] for name, values in parse_qs(body, strict_parsing=True).items()}
                    self.answer(200, provider.token(sent, self.headers.get("Authorization", "")))
                except AssertionError as why:
                    provider.refused.append(str(why))
                    self.answer(400, {"error": "invalid_grant"})

            def answer(self, status: int, told: Any) -> None:
                data = json.dumps(told).encode()
                self.send_response(status)
                self.send_header("Content-Type", "application/json")
                self.send_header("Content-Length", str(len(data)))
                self.end_headers()
                self.wfile.write(data)

            def log_message(self, *_: Any) -> None:
                pass

        self._http = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self._http.server_port}"
        threading.Thread(target=self._http.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()

    def close(self) -> None:
        self._http.shutdown()
        self._http.server_close()

    def description(self) -> Any:
        places = {"authorization_endpoint": "/authorize", "token_endpoint": "/token", "jwks_uri": "/keys"}
        return {"issuer": self.url, **{name: self.url + path for name, path in places.items()}}

    def keys(self) -> Any:
        shown = jwt.algorithms.RSAAlgorithm.to_jwk(self.key.public_key(), as_dict=True)
        return {"keys": [{**shown, "kid": "k1", "use": "sig", "alg": "RS256"}]}

    def authorize(self, asked: dict[str, str]) -> str:
        """Whoever asks is signed in at once."""
        code = secrets.token_urlsafe(16)
        self._codes[code] = asked
        more = {"iss": self.says} if self.says else {}
        return f"{asked['redirect_uri']}?{urlencode({'code': code, 'state': asked['state'], **more})}"

    def token(self, sent: dict[str, str], authorization: str) -> Any:
        asked = self._codes.pop(sent["code"], None)
        assert asked is not None, "the code is good once"
        assert "openid" in asked["scope"].split() and asked["response_type"] == "code"
        pair = base64.b64encode(f"{CLIENT}:pass%3Aword%2F%2B%3D%25%C3%A9".encode()).decode()  # RFC 6749, 2.3.1
        assert authorization == f"Basic {pair}", authorization
        assert sent["redirect_uri"] == asked["redirect_uri"]
        digest = hashlib.sha256(sent["code_verifier"].encode()).digest()
        assert asked["code_challenge_method"] == "S256"
        assert asked["code_challenge"] == base64.urlsafe_b64encode(digest).decode().rstrip("="), "PKCE"
        now = int(time.time())
        claims = {"iss": self.url, "aud": CLIENT, "iat": now, "exp": now + 60, "nonce": asked["nonce"], **self.person}
        return {"access_token": "x", "token_type": "Bearer", "id_token": (self.spoil or signed)(claims, self)}


def signed(claims: Claims, provider: Provider) -> str:
    return jwt.encode(claims, provider.key, "RS256", {"kid": "k1"})
