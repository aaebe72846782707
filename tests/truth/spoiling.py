"""What faults do to an answer: functions of the server and of what it would have sent. Imports nothing of the product."""

from __future__ import annotations

import gzip
import json
import re
import zlib
from base64 import urlsafe_b64encode
from dataclasses import replace
from typing import Any

from tests.truth.serving import CSV_COLUMNS, Declaration, Page, Sent, Server

HTML = b"<!DOCTYPE html>\n<html><head><title>Sign in</title></head><body>\n<p>Please, sign in</p>\n</body></html>\n"


def _header(sent: Sent, name: str, value: str | None) -> Sent:
    others = [(n, v) for n, v in sent.headers if n.lower() != name.lower()]
    return replace(sent, headers=[*others, (name, value)] if value is not None else others)


def status(status: int, *headers: tuple[str, str], body: bytes = b"no") -> Any:
    return lambda server, value: Sent(status, [("Content-Type", "text/plain"), *headers], body)


def is_coded(d: Declaration) -> bool:
    return d.coding != "identity"


def is_plain(d: Declaration) -> bool:
    return d.coding == "identity"


def is_json(d: Declaration) -> bool:
    return d.form == "json"


def is_paged(d: Declaration) -> bool:
    return d.style != "none"


def is_counted(d: Declaration) -> bool:
    return d.style in ("page", "offset")


def is_led(d: Declaration) -> bool:
    """The answer says which page follows."""
    return d.style in ("token", "token_header", "link", "url", "url_header")


def removes_rows(d: Declaration) -> bool:
    return d.by == "compare" or (d.by == "everything" and d.write in ("mirror", "replace", "history"))


def has_total(d: Declaration) -> bool:
    return d.total != "none"


# Bodies that end too soon


def cut_coded(server: Server, sent: Sent) -> Sent:
    """The stream of a compressed body ends early, and the length agrees."""
    return replace(sent, body=sent.body[: max(1, len(sent.body) - 9)])


def cut_coded_tail(server: Server, sent: Sent) -> Sent | None:
    """All of the text is there; the trailer that says so is not."""
    return replace(sent, body=sent.body[:-4])


def cut_plain(server: Server, sent: Sent) -> Sent | None:
    """In the middle of a record; the length agrees."""
    if server.declared.bare:
        # At a place where the line cannot be whole.
        lines = sent.body.rstrip(b"\n").rpartition(b"\n")
        first = re.search(rb",", lines[2])
        if first is None or not lines[0]:
            return None
        return replace(sent, body=lines[0] + b"\n" + lines[2][: first.start()])
    return replace(sent, body=sent.body[: len(sent.body) * 2 // 3])


def cut_at_line(server: Server, sent: Sent) -> Sent | None:
    """Between two lines: only what the source says of itself tells."""
    lines = sent.body.splitlines(keepends=True)
    return replace(sent, body=b"".join(lines[:-1])) if len(lines) > 2 else None


def hang_up(server: Server, sent: Sent) -> Sent:
    return replace(sent, stop=len(sent.body) // 2)


def reset(server: Server, sent: Sent) -> Sent:
    return replace(sent, stop=len(sent.body) // 2, reset=True)


def cut_chunks(server: Server, sent: Sent) -> Sent:
    """The last chunk, which says that it is the last, never comes."""
    return replace(sent, framing="chunked", stop=len(sent.body) // 2)


def cut_chunks_end(server: Server, sent: Sent) -> Sent:
    framed = len(b"%x\r\n" % max(1, len(sent.body) // 2)) * 2 + len(sent.body) + 4
    return replace(sent, framing="chunked", stop=framed)


def empty_body(server: Server, sent: Sent) -> Sent:
    return replace(_header(sent, "Content-Encoding", None), body=b"")


def until_closed(server: Server, sent: Sent) -> Sent:
    return replace(sent, framing="close")


# Bodies of another kind


def html_said(server: Server, sent: Sent) -> Sent:
    return replace(_header(_header(sent, "Content-Encoding", None), "Content-Type", "text/html"), body=HTML)


def html_unsaid(server: Server, sent: Sent) -> Sent:
    return replace(_header(sent, "Content-Encoding", None), body=HTML)


def login_page(server: Server, sent: Sent) -> Sent:
    """One line of text with status 200."""
    return replace(_header(_header(sent, "Content-Encoding", None), "Content-Type", "text/plain"), body=b"Session expired\n")


def error_object(server: Server, sent: Sent) -> Sent:
    body = b'{"error": {"code": 17, "message": "too busy"}}\n'
    return replace(_header(_header(sent, "Content-Encoding", None), "Content-Type", "application/json"), body=body)


def error_beside(server: Server, page: Page) -> Page:
    """Some records, and an error that says why not all."""
    return replace(page, records=page.records[:-1], extra={"errors": [{"message": "shard 3 did not answer"}]})


def no_errors_beside(server: Server, page: Page) -> Page:
    return replace(page, extra={"errors": [], "error": None, "warnings": []})


def partial_status(server: Server, sent: Sent) -> Sent:
    return replace(sent, status=206)


def json_array_of_nothing(server: Server, sent: Sent) -> Sent:
    return replace(_header(sent, "Content-Encoding", None), body=b"null\n")


def other_columns(server: Server, sent: tuple[str, bytes]) -> tuple[str, bytes]:
    return sent[0], b"shard,state\n3,down\n"


def no_header_line(server: Server, sent: tuple[str, bytes]) -> tuple[str, bytes] | None:
    _, _, rest = sent[1].partition(b"\n")
    return (sent[0], rest) if rest else None


def columns_reordered(server: Server, page: tuple[str, bytes]) -> tuple[str, bytes]:
    lines = [line.split(b",") for line in page[1].splitlines()]
    if any(len(line) != len(CSV_COLUMNS) or b'"' in b"".join(line) for line in lines):
        return page
    return page[0], b"".join(b",".join(reversed(line)) + b"\n" for line in lines)


# Unusual clothes


def members(server: Server, sent: Sent) -> Sent | None:
    if server.declared.coding != "gzip":
        return None
    text = gzip.decompress(sent.body)
    third = max(1, len(text) // 3)
    return replace(sent, body=b"".join(gzip.compress(text[i : i + third]) for i in range(0, len(text), third)))


def raw_deflate(server: Server, sent: Sent) -> Sent | None:
    """Some servers send deflate without zlib's wrapping."""
    if server.declared.coding != "deflate":
        return None
    packer = zlib.compressobj(wbits=-15)
    return replace(sent, body=packer.compress(zlib.decompress(sent.body)) + packer.flush())


def upper_case(server: Server, sent: Sent) -> Sent:
    return replace(sent, headers=[(n.upper(), v) for n, v in sent.headers])


def lower_case(server: Server, sent: Sent) -> Sent:
    return replace(sent, headers=[(n.lower(), v.upper() if n == "Content-Encoding" else v) for n, v in sent.headers])


def byte_order_mark(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    return text[0], b"\xef\xbb\xbf" + text[1]


def no_type(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    return "", text[1]


def text_plain(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    return "text/plain; charset=utf-8", text[1]


def octets(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    return "application/octet-stream", text[1]


def other_charset(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes] | None:
    return text[0] + "; charset=UTF-16", text[1].decode().encode("utf-16")


def windows_lines(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes] | None:
    return text[0], text[1].replace(b"\n", b"\r\n")


def no_last_line_end(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    return text[0], text[1].removesuffix(b"\n")


def no_length(server: Server, sent: Sent) -> Sent:
    return replace(sent, framing="chunked")


def interim(server: Server, sent: Sent) -> Sent:
    return replace(sent, interim=True)


def redirected(server: Server, value: None) -> Sent | None:
    """To the same address with a mark, where the answer is."""
    if "again=1" in server.here:
        return None
    return Sent(307, [("Location", server.here + ("&" if "?" in server.here else "?") + "again=1")], b"")


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
