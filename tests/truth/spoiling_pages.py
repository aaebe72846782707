"""What faults do to pages and records before they are sent: functions of the server and of what it would have sent. Imports nothing of the
product."""

from __future__ import annotations

import json
import re
from base64 import urlsafe_b64encode
from dataclasses import replace
from typing import Any

from tests.truth.serving import Page, Server

# What the source says of its pages


def no_next_anywhere(server: Server, page: Page) -> Page | None:
    """Not even the place where it would stand is there."""
    return replace(page, following=None, silent=True) if page.following else None


def silent_end(server: Server, page: Page) -> Page | None:
    """After the last page, and only there, the place is left out."""
    return (
        replace(page, silent=True)
        if page.following is None and page.number and len(page.records) < server.declared.size
        else None
    )


def no_next_once(server: Server, page: Page) -> Page | None:
    return replace(page, following=None) if page.following else None


def next_elsewhere(server: Server, page: Page) -> Page | None:
    """The next page's address, in a place that the rule does not look at."""
    if page.following is None:
        return None
    address = page.following if "://" in page.following else f"{server.here.split('?')[0]}?after={page.following}"
    if server.declared.form == "json":
        return replace(page, following=None, silent=True, extra={"links": {"next": address}})
    return replace(page, following=None, headers=[("X-Page-Next", address)])


def next_the_same(server: Server, page: Page) -> Page | None:
    if page.following is None:
        return None
    server.held = server.held or page.following
    return replace(page, following=server.held)


def tokens_without_end(server: Server, page: Page) -> Page:
    """New ones for ever, nothing behind them."""
    server.count += 1
    far = urlsafe_b64encode(
        json.dumps([9e12 + server.count, 0] if server.declared.order != "id" else [9e9 + server.count]).encode()
    )
    if server.declared.style in ("link", "url", "url_header"):
        return replace(page, following=f"{server.here.split('?')[0]}?after={far.decode()}")
    return replace(page, following=far.decode())


def short_page(server: Server, page: Page) -> Page | None:
    """Fewer than there are, while more follow."""
    return replace(page, records=page.records[:-1]) if page.following or server.declared.total != "none" else None


def empty_page(server: Server, page: Page) -> Page | None:
    return replace(page, records=[]) if page.records and (page.following or server.declared.total != "none") else None


def records_missing(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    body = json.loads(text[1])
    del body["items"]
    return text[0], json.dumps(body).encode()


def records_null(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    body = json.loads(text[1])
    body["items"] = None
    return text[0], json.dumps(body).encode()


def total_too_high(server: Server, page: Page) -> Page:
    return replace(page, total=(page.total or 0) + 3)


def total_too_low(server: Server, page: Page) -> Page:
    return replace(page, total=max(0, (page.total or 0) - 2))


def total_as_text(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes] | None:
    return text[0], re.sub(rb'"total": (\d+)', rb'"total": "\1"', text[1])


def repeated_over_border(server: Server, records: list[Any]) -> list[Any] | None:
    """A record that stands at the end of one page stands at the beginning of the next, too."""
    size = server.declared.size
    return [*records[:size], *records[size - 1 :]] if len(records) > size else None


def all_gone(server: Server, records: list[Any]) -> list[Any] | None:
    """From the first page on: what goes while pages are read is another fault."""
    if server.requests > 1 and not server.hidden:
        return None
    server.hidden = {r["id"] for r in records}
    return []


def most_gone(server: Server, records: list[Any]) -> list[Any] | None:
    if server.requests > 1 and not server.hidden:
        return None
    shown = records[: max(1, len(records) // 4)]
    server.hidden = {r["id"] for r in records} - {r["id"] for r in shown}
    return shown


# Movement while pages are read


def delete_ahead(server: Server, value: None) -> None:
    """A record of the first page goes, once that has been sent: all behind it move up."""
    if server.world.rows and not server.moved:
        server.moved = True
        server.world.delete(0)
        server.struck.add("delete while reading")


def insert_ahead(server: Server, value: None) -> None:
    if not server.moved:
        server.moved = True
        # In the run's own time, as whoever changes something while we read does.
        server.world.latest = max(server.world.latest, server.now)
        server.world.insert(2)
        server.struck.add("insert while reading")


def change_ahead(server: Server, value: None) -> None:
    if server.world.rows and not server.moved:
        server.moved = True
        server.world.latest = max(server.world.latest, server.now)
        server.world.change(0)
        server.struck.add("change while reading")


# Records and values


def _each(server: Server, text: tuple[str, bytes], do: Any) -> tuple[str, bytes] | None:
    body = json.loads(text[1])
    if not body["items"]:
        return None
    for record in (body["items"][0], body["items"][-1]):
        if isinstance(record, dict):
            server.altered.add(record["ref"]["id"] if server.declared.nested else record["id"])
    do(body["items"])
    return text[0], json.dumps(body, ensure_ascii=False).encode()


def _alter(server: Server, text: tuple[str, bytes]) -> None:
    server.altered |= {int(number) for number in re.findall(rb'"id": (\d+)', text[1])}


def not_a_record(server: Server, text: tuple[str, bytes]) -> Any:
    return _each(server, text, lambda items: items.insert(0, ["A1", 4]))


def key_missing(server: Server, text: tuple[str, bytes]) -> Any:
    return _each(server, text, lambda items: items[0].pop("ref" if server.declared.nested else "id"))


def key_in_capitals(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    """No record has the declared key at all."""
    _alter(server, text)
    return text[0], text[1].replace(b'"id":', b'"ID":')


def cursor_missing(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    _alter(server, text)
    return text[0], text[1].replace(b'"updated_at":', b'"updatedAt":')


def cursor_missing_csv(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    return text[0], text[1].replace(b",updated_at", b",updatedAt")


def not_a_number(server: Server, text: tuple[str, bytes]) -> Any:
    return _each(server, text, lambda items: items[0].update(amount=float("nan")))


def infinity(server: Server, text: tuple[str, bytes]) -> Any:
    return _each(server, text, lambda items: items[0].update(amount=float("inf")))


def number_as_text(server: Server, text: tuple[str, bytes]) -> Any:
    return _each(server, text, lambda items: items[-1].update(n="a few"))


def _timed(record: dict[str, Any]) -> dict[str, Any]:
    found: dict[str, Any] = record.get("meta", record)
    return found


def bad_time(server: Server, text: tuple[str, bytes]) -> Any:
    return _each(server, text, lambda items: _timed(items[0]).update(updated_at="yesterday"))


def time_null(server: Server, text: tuple[str, bytes]) -> Any:
    return _each(server, text, lambda items: _timed(items[0]).update(updated_at=None))


def not_utf8(server: Server, text: tuple[str, bytes]) -> Any:
    if b"Osier Quay" not in text[1]:
        return None
    server.altered |= {n for n, row in server.world.rows.items() if row.values["name"] == "Osier Quay"}
    return text[0], text[1].replace(b"Osier Quay", b"Osier\xffQuay")


def new_field(server: Server, text: tuple[str, bytes]) -> Any:
    return _each(server, text, lambda items: items[0].update(berth=7))


def empty_inside(server: Server, text: tuple[str, bytes]) -> Any:
    return _each(server, text, lambda items: items[0].update(crew=[], extras={}))
