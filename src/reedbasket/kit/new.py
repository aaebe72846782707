"""A new connector's folder."""

from __future__ import annotations

from importlib import resources

_DECLARED = """connector: {name}
type: http
settings:
  url: {{type: url, example: "https://api.example"}}
  token: {{type: secret}}
base_url: "{{settings.url}}/v1"                    # prefix of all addresses
auth: {{type: bearer, token: "{{settings.token}}"}}  # or basic, api_key, oauth2; see docs/http.md
rate_limit: {{per_second: 5}}
tables:
  - table: items
    get: /items
    query_params: {{updated_since: "{{cursor.from}}", limit: 100}}
    records: items                            # where the list is in the answer
    pagination: {{by: page_token, at: next, param: after}}  # or page_number, offset, link_header, next_url, keyset
    primary_key: id
    cursor: {{column: updated_at, overlap: 5m}}
"""
_NAMED = """connector: {name}
type: python
code: {name}.py
"""
_PYTHON = '''"""Requests of `self.http` keep the source's rate limit, and are authenticated, retried and logged."""

from collections.abc import Iterator

from reedbasket.kit import Connector, Position, Secret, Table, Url


class {kind}(Connector):
    """What it reads, in one line."""

    url: Url
    token: Secret
    base_url = "{{settings.url}}/v1"
    auth = {{"type": "bearer", "token": "{{settings.token}}"}}
    rate_limit = {{"per_second": 5}}

    items = Table(primary_key="id", cursor="updated_at", overlap="5m")

    def read_items(self, position: Position) -> Iterator[list[dict]]:
        query = {{"updated_since": position.from_, "limit": 100}}
        while True:
            page = self.http.get("/items", query).json()
            yield page["items"]
            if not page.get("next"):
                return
            query["after"] = page["next"]
'''
_SOURCE = """source: {name}
connector: {name}
settings:
  url: http://127.0.0.1:8801
  token: {{secret: {name}_token}}               # its value: REED_SECRET_{upper}_TOKEN while trying, `reed secret set` in a service
"""
_TEST = '''"""The connector passes every check, on answers recorded by `reed connector check . --record`; needs no network."""

from pathlib import Path

from reedbasket.kit.proof import require_proven


def test_it_keeps_what_connectors_promise() -> None:
    require_proven(Path(__file__).parent)
'''
_README = """# {name}

- `{name}.yaml`{code}: the connector. `source.yaml`: a source that uses it, for trying.
- `export REED_SECRET_{upper}_TOKEN=…`, then `reed connector try .` (`--watch`: again after every save): rows and columns of each table.
- `reed connector check .`: everything that a connector has to do right. With `--record` the answers are stored in `answers/`,
  with secrets masked; with `--replay` they replace the API, as they do in `test_{name}.py`.
- `reed apply .` puts it into the service.
"""


EXAMPLES = resources.files(__package__) / "examples"


def examples() -> list[str]:
    """The connectors that ship, each with recorded answers."""
    return sorted(place.name for place in EXAMPLES.iterdir() if place.is_dir())


def like(example: str, name: str) -> dict[str, str]:
    """{file: text} of one that ships, under another name."""
    made = {}
    for place in [*(EXAMPLES / example).iterdir(), *(EXAMPLES / example / "answers").iterdir()]:
        if not place.is_file():
            continue
        text = place.read_text("utf-8")
        if place.name.endswith(".json"):
            made[f"answers/{place.name}"] = text
            continue
        for word in ("connector", "source"):
            text = text.replace(f"{word}: {example}\n", f"{word}: {name}\n")
        text = text.replace(f"code: {example}.py", f"code: {name}.py")
        made[place.name.replace(example, name, 1)] = text
    begun = written(name, python=False)
    return made | {file: text for file, text in begun.items() if not file.endswith(".yaml")}


def written(name: str, *, python: bool) -> dict[str, str]:
    """{file: text}"""
    facts = {
        "name": name,
        "upper": name.upper().replace("-", "_"),
        "kind": "".join(part.capitalize() for part in name.replace("-", "_").split("_")),
    }
    files = {f"{name}.yaml": _NAMED if python else _DECLARED, "source.yaml": _SOURCE, "README.md": _README}
    if python:
        files[f"{name}.py"] = _PYTHON
    facts["code"] = f" and `{name}.py`" if python else ""
    made = {file: text.format(**facts) for file, text in files.items()}
    return made | {f"test_{name.replace('-', '_')}.py": _TEST, ".gitignore": ".trial/\n"}
