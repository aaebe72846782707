"""Checks within one connector: the names in its templates, its settings, tables that follow other tables."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from contextlib import suppress
from typing import Any

from . import regular_expression as expression_of_text
from . import template
from .auth import Auth
from .fields import check_name
from .http import Body, Connector, HttpTable, Setting
from .mistakes import nearest
from .times import parse_time
from .yaml_source import Path

REQUEST_NAMES = ("cursor.from", "cursor.until", "window.from", "window.until", "run.started", "run.id")

Finding = tuple[Path, str, str]
# What may be said of a table whose records code asks for.
_OF_CODE = {"description", "primary_key", "cursor", "window", "own_position", "deleted_when", "records", "format"}


def connector_mistakes(connector: Connector) -> Iterator[Finding]:
    """(path, message, code) of each mistake."""
    settings = [f"settings.{s}" for s in connector.settings]
    for name, setting in connector.settings.items():
        if setting.default is not None:
            wrong = setting_mistake(setting, setting.default)
            if wrong:
                yield ("settings", name, "default"), wrong, "definition.bad_value"
    yield from _formats_of_secrets(connector)
    yield from _names(("base_url",), connector.base_url, settings)
    if connector.auth:
        for path, text in auth_templates(connector.auth):
            yield from _names(("auth", *path), text, settings)
    for header, text in connector.headers.items():
        yield from _names(("headers", header), text, settings)
    if (connector.type == "python") != (connector.code is not None):
        yield ("code",), "`code` is for connectors of type python", "definition.bad_value"
    if connector.discover_tables and connector.type != "python":
        yield ("discover_tables",), "only a connector in Python can ask the source for its tables", "definition.bad_value"
    elif not connector.tables and not connector.discover_tables:
        yield ("tables",), "a connector needs at least one table", "definition.missing_key"
    for table, rule in connector.tables.items():
        yield from _table(table, rule, connector, settings)


def _table(name: str, rule: HttpTable, connector: Connector, settings: list[str]) -> Iterator[Finding]:
    here: Path = ("tables", name)
    if not connector.discover_tables:
        try:
            check_name(name)
        except ValueError as error:
            yield here, str(error), "definition.bad_value"
    if connector.type == "python":
        asks = sorted(rule.model_fields_set - _OF_CODE)
        if asks:
            yield (*here, asks[0]), "the connector's own code requests its records", "definition.bad_value"
        return
    if rule.get is None and rule.post is None:
        yield here, "give either `get` or `post`", "definition.bad_value"
    if rule.own_position:
        yield (*here, "own_position"), "only a connector in Python can have its own position", "definition.bad_value"
    yield from _templates(here, name, rule, connector, settings)


def _templates(here: Path, name: str, rule: HttpTable, connector: Connector, settings: list[str]) -> Iterator[Finding]:
    known = [*settings, *REQUEST_NAMES, *(f"value.{n}" for n in rule.for_values)]
    lists = [f"settings.{n}" for n, setting in connector.settings.items() if setting.type == "list"]
    for path, text in request_templates(rule):
        yield from _names((*here, *path), text, known, parents=rule.parent is not None)
        for n in lists:
            if "{" + n in text and not (path[:2] in (("body", "json"), ("body", "variables")) and text == f"{{{n}}}"):
                message = f"{{{n}}} is a list: use it in `for_values`, for one request for each value, or alone in a JSON body"
                yield (*here, *path), message, "definition.list_in_text"
    for field, text in rule.add_columns.items():
        yield from _names((*here, "add_columns", field), text, known, parents=rule.parent is not None)
    for n, values in rule.for_values.items():
        for place, text in enumerate(values):
            yield from _names((*here, "for_values", n, place), text, settings)
    for what in ("start", "until") if rule.cursor else ():
        bound = getattr(rule.cursor, what)
        if bound is not None:
            yield from _names((*here, "cursor", "from" if what == "start" else what), bound, settings)
    if rule.window:
        yield from _names((*here, "window", "from"), rule.window.start, settings)
    yield from _parents(here, name, rule, connector)


def _parents(here: Path, name: str, rule: HttpTable, connector: Connector) -> Iterator[Finding]:
    if rule.parent is None:
        return
    above: str | None = rule.parent.table
    seen = [name]
    while above is not None:
        if above not in connector.tables:
            if len(seen) == 1:
                message = f'there is no table "{above}"{nearest(above, connector.tables)}'
                yield (*here, "parent", "table"), message, "definition.unknown_table"
            return
        if above in seen:
            message = f"the tables are each other's parents, in a circle: {' of '.join([*seen, above])}"
            yield (*here, "parent", "table"), message, "definition.cycle"
            return
        seen.append(above)
        above = connector.tables[above].parent_table
    if not rule.by_changed_parents:
        return
    if connector.tables[rule.parent.table].cursor is None:
        message = f"only a cursor shows which parents changed, and {rule.parent.table} has none; use `rows: all`"
        yield (*here, "parent", "rows"), message, "definition.no_cursor"
    if rule.cursor is not None:
        message = "with rows: changed the parents' cursor says what is asked for; leave `cursor` out, or say rows: all"
        yield (*here, "cursor"), message, "definition.bad_value"


def auth_templates(auth: Auth) -> Iterator[tuple[Path, str]]:
    """((path), text) of every template of the authentication."""
    for name in auth.templates:
        text = getattr(auth, name)
        for path, one in text.items() if isinstance(text, dict) else [("", text)] if text is not None else []:
            yield (name, path) if path else (name,), one


def request_templates(rule: HttpTable) -> Iterator[tuple[Path, str]]:
    """((path), text) of every template of one table's request."""
    yield ("get" if rule.get is not None else "post",), rule.path
    for part in ("query_params", "headers"):
        for name, text in getattr(rule, part).items():
            yield (part, name), text
    if rule.body is not None:
        for path, text in template.texts_in(body_values(rule.body)):
            yield ("body", *path), text


def body_values(body: Body) -> dict[str, Any]:
    """What of a body may contain names, by key."""
    if body.form is not None:
        return {"form": body.form}
    return {"variables": body.variables} if body.graphql is not None else {"json": body.as_json}


def _formats_of_secrets(connector: Connector) -> Iterator[Finding]:
    """Part of a secret, or one that is padded, is a writing of it that nobody could blank."""
    names = {f"settings.{name}" for name, setting in connector.settings.items() if setting.type == "secret"}
    shown = connector.model_dump(by_alias=True, exclude_none=True, include={"base_url", "auth", "headers", "tables"})
    for path, text in template.texts_in(shown):
        with suppress(ValueError):  # what is no template is told where templates are looked at
            for _, name, form in template.parse(text):
                if name in names and form:
                    yield path, f"{{{name}:{form}}}: a secret cannot be formatted", "definition.secret_format"


def _names(path: Path, text: str, known: Iterable[str], *, parents: bool = False) -> Iterator[Finding]:
    """parents: {parent.…} is known, whatever stands behind the point."""
    known = list(known)
    try:
        used = template.names(text)
    except ValueError as error:
        yield path, str(error), "definition.bad_value"
        return
    for name in used:
        if name.startswith("parent.") and parents:
            continue
        if name.startswith("parent."):
            yield path, f"{{{name}}} is a field of a parent record, but the table has no `parent`", "definition.unknown_name"
        elif name not in known:
            yield path, f"{{{name}}} is not defined here{nearest(name, known)}", "definition.unknown_name"


def _wrong_type(setting: Setting, value: Any) -> str | None:
    if setting.type == "number" and (isinstance(value, bool) or not isinstance(value, int | float)):
        return f"expected a number, found {value!r}"
    if setting.type == "flag" and not isinstance(value, bool):
        return f"expected true or false, found {value!r}"
    if setting.type == "url" and not re.fullmatch(r"https?://[^\s/]+\S*", str(value)):
        return f"expected an address that starts with http:// or https://, found {value!r}"
    if setting.type == "time":
        try:
            parse_time(value)
        except ValueError as error:
            return str(error)
    return None


def setting_mistake(setting: Setting, value: Any) -> str | None:
    """What is wrong with a value for a setting; None for nothing. Never repeats the value of a secret."""
    if setting.type == "secret":
        if isinstance(value, dict) and set(value) == {"secret"} and isinstance(value["secret"], str):
            return None
        return "a secret is given by name, {secret: NAME}, and set with `reed secret set NAME`"
    if setting.type == "list":
        if not isinstance(value, list) or not value or any(isinstance(v, dict | list | None) for v in value):
            return f"expected a list of texts, found {value!r}"
        values = value
    elif isinstance(value, dict | list):
        return f"expected one value of type {setting.type}"
    else:
        values = [value]
    wrong = _wrong_type(setting, value)
    if wrong is not None:
        return wrong
    for one in values:
        if setting.pattern is not None and not expression_of_text.matches(setting.pattern, str(one)):
            return f"found {one!r}, which does not match the pattern {setting.pattern}"
        if setting.allowed is not None and one not in setting.allowed:
            return f"found {one!r}{nearest(str(one), setting.allowed)}"
    return None
