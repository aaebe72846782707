"""Health, the API's own description, sign-in."""

from __future__ import annotations

from typing import Annotated, Any

from flask import Response, make_response, request
from pydantic import Field

from ... import __version__, wire
from ...core.spec import json_schema
from ...store import access, secrets
from .. import openapi
from ..auth import SESSION_COOKIE
from ..operations import Body, as_json
from ..problems import NotSignedIn
from .shared import operations, parts


class SignIn(Body):
    code: Annotated[str, Field(max_length=200)]


class SecretValue(Body):
    value: Annotated[str, Field(min_length=1, max_length=20_000)]


@operations.add("GET", "/healthz", "whether the service answers", answer=wire.Health, open_to_all=True)
def health() -> Any:
    parts().store.connection.execute("select 1")
    return {"status": "ok", "version": __version__}


@operations.add("GET", "/api/v1/openapi.json", "this document", answer=dict[str, Any], open_to_all=True)
def api_document() -> Any:
    return openapi.document(operations)


@operations.add("GET", "/api/v1/schema", "JSON Schema of definitions, for editors", answer=dict[str, Any])
def definition_schema() -> Any:
    return json_schema()


@operations.add("POST", "/api/v1/sign-in-codes", "a one-use link into the console", answer=wire.SignInCode, status=201)
def make_sign_in_code() -> Any:
    code = access.make_code(parts().store)
    return {"code": code, "url": f"{parts().url}/sign-in#{code}"}


@operations.add(
    "POST",
    "/api/v1/session",
    "trade a sign-in code for a session",
    answer=wire.Session,
    body=SignIn,
    problems=(401,),
    open_to_all=True,
)
def sign_in(body: SignIn) -> Response:
    session = access.use_code(parts().store, body.code)
    if session is None:
        raise NotSignedIn(
            "signing in",
            found="the link was used before, or its hour is over",
            mend="get a new one with `reed sign-in`",
            code="access.code_spent",
        )
    answer = make_response(as_json({"signed_in": True}))
    answer.set_cookie(
        SESSION_COOKIE,
        session,
        max_age=access.SESSION_DAYS * 86400,
        httponly=True,
        samesite="Strict",
        secure=request.is_secure,
    )
    return answer


@operations.add("GET", "/api/v1/session", "whether the caller is signed in", answer=wire.Session)
def session_state() -> Any:
    return {"signed_in": True}


@operations.add("DELETE", "/api/v1/session", "sign out", answer=None, status=204)
def sign_out() -> Response:
    session = request.cookies.get(SESSION_COOKIE)
    if session:
        access.end_session(parts().store, session)
    answer = make_response("", 204)
    answer.delete_cookie(SESSION_COOKIE)
    return answer


@operations.add("GET", "/api/v1/secrets", "names of secrets; values never leave", answer=list[wire.SecretName])
def list_secrets() -> Any:
    return secrets.list_secrets(parts().store)


@operations.add("PUT", "/api/v1/secrets/{name}", "set a secret", answer=None, status=204, body=SecretValue)
def set_secret(name: str, body: SecretValue) -> None:
    secrets.set_secret(parts().store, name, body.value)


@operations.add("DELETE", "/api/v1/secrets/{name}", "remove a secret", answer=None, status=204, problems=(404,))
def remove_secret(name: str) -> None:
    secrets.remove_secret(parts().store, name)
