"""Sign-in, users, tokens, secrets, and the audit log."""

from __future__ import annotations

from typing import Annotated

from flask import Response, make_response, request
from pydantic import Field

from ... import wire
from ...store import access, secrets
from ...store.access import Role
from ..auth import SESSION_COOKIE
from ..operations import Body, Query, as_json
from ..problems import BadRequest, Forbidden, NotSignedIn
from .shared import caller, inspect_in_process, noted, operations, parts

UserName = Annotated[str, Field(pattern=r"^[a-z][a-z0-9._-]{0,62}$")]
Password = Annotated[str, Field(min_length=1, max_length=1000)]

# Who may say where a secret goes, too.
MAY_SET_SECRETS: Role = "editor"


class SignIn(Body):
    """The code of a sign-in link, or a name and its password."""

    code: Annotated[str | None, Field(max_length=200)] = None
    name: Annotated[str | None, Field(max_length=200)] = None
    password: Annotated[str | None, Field(max_length=1000)] = None


class SecretValue(Body):
    """A secret's value."""

    value: Annotated[str, Field(min_length=1, max_length=20_000)]


class NewUser(Body):
    """A new user."""

    name: UserName
    role: Role
    password: Password | None = None


class ChangedUser(Body):
    """What to change about a user."""

    role: Role | None = None
    password: Password | None = None
    disabled: bool | None = None


class OwnPassword(Body):
    """The password of whoever is signed in."""

    old: Password
    new: Password


class TokenParameters(Body):
    """A new token."""

    label: Annotated[str, Field(min_length=1, max_length=100)]
    role: Role
    days: Annotated[int | None, Field(ge=1, le=3650, description="days until it expires; never by default")] = None


class AuditPart(Query):
    """Which lines of the audit log."""

    before: Annotated[int, Field(ge=1, le=2**53)] | None = None
    limit: Annotated[int, Field(ge=1, le=1000)] = 100


@operations.add("POST", "/api/v1/sign-in-codes", "create a single-use link into the console", status=201)
def make_sign_in_code() -> wire.SignInCode:
    who = caller()
    if who.user is None and not who.may("admin"):
        raise Forbidden(
            "creating a sign-in link",
            found="a token that is not an admin's",
            fix="sign in by name, or ask an admin",
            code="access.link_not_allowed",
        )
    code = access.make_code(parts().store, who)
    return {"code": code, "url": f"{parts().url}/sign-in#{code}"}


@operations.add(
    "POST",
    "/api/v1/session",
    "sign in with a sign-in code, or with a name and its password",
    answer=wire.Session,
    body=SignIn,
    problems=(401, 429),
    role=None,
)
def sign_in(body: SignIn) -> Response:
    store, tries = parts().store, parts().tries
    address = request.remote_addr or ""
    if body.code is not None:
        session = access.use_code(store, body.code)
        if session is None:
            raise NotSignedIn(
                "signing in",
                found="the link was used before, or has expired",
                fix="get a new one with `reed sign-in`",
                code="access.link_used",
            )
    else:
        name = body.name or ""
        tries.begin(name, address)
        if not access.check_password(store, name, body.password or ""):
            tries.failed(name, address)
            access.note(store, name[:63] or "nobody", "sign in", address, 401)
            raise NotSignedIn(
                "signing in",
                found="wrong name or password",
                fix="try again",
                code="access.wrong_password",
            )
        tries.succeeded(name, address)
        access.note(store, name, "sign in", address, 200)
        session = access.begin_session(store, name)
    who = access.caller_of_session(store, session)
    assert who is not None
    answer = make_response(as_json(_session(who)))
    answer.set_cookie(
        SESSION_COOKIE,
        session,
        max_age=access.SESSION_DAYS * 86400,
        httponly=True,
        samesite="Strict",
        secure=request.is_secure or parts().url.startswith("https://"),
    )
    return answer


@operations.add("GET", "/api/v1/session", "the signed-in user and role")
def session_state() -> wire.Session:
    return _session(caller())


@operations.add("DELETE", "/api/v1/session", "sign out", answer=None, status=204, role="viewer")
def sign_out() -> Response:
    session = request.cookies.get(SESSION_COOKIE)
    if session:
        access.end_session(parts().store, session)
    answer = make_response("", 204)
    answer.delete_cookie(SESSION_COOKIE)
    return answer


def _session(who: access.Caller) -> wire.Session:
    return {"signed_in": True, "name": who.name, "role": who.role, "user": who.user}


@operations.add(
    "PUT", "/api/v1/session/password", "change your own password", answer=None, status=204, body=OwnPassword, role="viewer"
)
def change_own_password(body: OwnPassword) -> None:
    who = caller()
    if who.user is not None:
        parts().tries.begin(who.user, request.remote_addr or "")
    if who.user is None or not access.check_password(parts().store, who.user, body.old):
        raise BadRequest(
            "changing the password", found="the old password is wrong", fix="try again", code="access.wrong_password"
        )
    parts().tries.succeeded(who.user, request.remote_addr or "")
    access.change_user(parts().store, who.user, password=body.new)


# People


@operations.add("GET", "/api/v1/users", "list users", role="admin")
def list_users() -> list[wire.User]:
    return access.list_users(parts().store)


@operations.add(
    "POST",
    "/api/v1/users",
    "add a user",
    answer=None,
    status=204,
    body=NewUser,
    problems=(409, 422),
    role="admin",
)
def add_user(body: NewUser) -> None:
    noted(f"{body.name}, {body.role}")
    access.add_user(parts().store, body.name, body.role, body.password)


@operations.add(
    "PUT",
    "/api/v1/users/{name}",
    "change a user's role or password, or disable the user",
    answer=None,
    status=204,
    body=ChangedUser,
    problems=(404, 422),
    role="admin",
)
def change_user(name: str, body: ChangedUser) -> None:
    noted(", ".join(f"{k}: {'…' if k == 'password' else v}" for k, v in body.model_dump(exclude_none=True).items()))
    access.change_user(parts().store, name, role=body.role, password=body.password, disabled=body.disabled)


@operations.add("DELETE", "/api/v1/users/{name}", "remove a user", answer=None, status=204, problems=(404,), role="admin")
def remove_user(name: str) -> None:
    access.remove_user(parts().store, name)


@operations.add("GET", "/api/v1/tokens", "list tokens by label; their values are never shown again", role="admin")
def list_tokens() -> list[wire.Token]:
    return access.list_tokens(parts().store)


@operations.add(
    "POST",
    "/api/v1/tokens",
    "create a token; its value is shown in this answer only",
    status=201,
    body=TokenParameters,
    role="admin",
)
def make_token(body: TokenParameters) -> wire.NewToken:
    noted(f"{body.label}, {body.role}")
    return {"token": access.make_token(parts().store, body.label, body.role, maker=caller(), days=body.days)}


@operations.add("DELETE", "/api/v1/tokens/{token}", "revoke a token", answer=None, status=204, problems=(404,), role="admin")
def remove_token(token: str) -> None:
    access.remove_token(parts().store, token)


@operations.add("GET", "/api/v1/audit", "the audit log, newest first", query=AuditPart, role="admin")
def read_audit(query: AuditPart) -> list[wire.AuditLine]:
    return access.read_audit(parts().store, before=query.before, limit=query.limit)


# Secrets


@operations.add("GET", "/api/v1/secrets", "list the names of secrets; values are never returned")
def list_secrets() -> list[wire.SecretName]:
    return secrets.list_secrets(parts().store)


@operations.add(
    "PUT",
    "/api/v1/secrets/{name}",
    "set a secret",
    answer=None,
    status=204,
    body=SecretValue,
    problems=(409,),
    role=MAY_SET_SECRETS,
)
def set_secret(name: str, body: SecretValue) -> None:
    secrets.set_secret(parts().store, name, body.value)


@operations.add(
    "DELETE", "/api/v1/secrets/{name}", "remove a secret", answer=None, status=204, problems=(404,), role=MAY_SET_SECRETS
)
def remove_secret(name: str) -> None:
    secrets.remove_secret(parts().store, name)


@operations.add("POST", "/api/v1/secret-key/rotate", "encrypt all secrets with a new key", problems=(409,), role="admin")
def rotate_secrets() -> wire.Counted:
    return {"count": inspect_in_process(secrets.rotate)}
