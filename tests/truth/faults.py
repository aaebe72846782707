"""The faults of a source over HTTP, and what is only unusual. Each is a function of the server and of what it would have sent."""

from __future__ import annotations

import gzip
import json
import re
import zlib
from base64 import urlsafe_b64encode
from dataclasses import replace
from typing import Any

from tests.truth.serving import CSV_COLUMNS, Declaration, Fault, Page, Sent, Server

HTML = b"<!DOCTYPE html>\n<html><head><title>Sign in</title></head><body>\n<p>Please, sign in</p>\n</body></html>\n"


def _header(sent: Sent, name: str, value: str | None) -> Sent:
    others = [(n, v) for n, v in sent.headers if n.lower() != name.lower()]
    return replace(sent, headers=[*others, (name, value)] if value is not None else others)


def _status(status: int, *headers: tuple[str, str], body: bytes = b"no") -> Any:
    return lambda server, value: Sent(status, [("Content-Type", "text/plain"), *headers], body)


def _coded(d: Declaration) -> bool:
    return d.coding != "identity"


def _plain(d: Declaration) -> bool:
    return d.coding == "identity"


def _json(d: Declaration) -> bool:
    return d.form == "json"


def _paged(d: Declaration) -> bool:
    return d.style != "none"


def _counted(d: Declaration) -> bool:
    return d.style in ("page", "offset")


def _led(d: Declaration) -> bool:
    """The answer says which page follows."""
    return d.style in ("token", "token_header", "link", "url", "url_header")


def _removing(d: Declaration) -> bool:
    return d.by == "compare" or (d.by == "everything" and d.write in ("mirror", "replace", "history"))


def _totalled(d: Declaration) -> bool:
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


def all_gone(server: Server, records: list[Any]) -> list[Any]:
    server.hidden = {r["id"] for r in records}
    return []


def most_gone(server: Server, records: list[Any]) -> list[Any]:
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


FAULTS = [
    # bodies that end too soon
    Fault("compressed cut, once", "sent", cut_coded, once=True, fits=_coded),
    Fault("compressed cut", "sent", cut_coded, fits=_coded),
    Fault("compressed without its end", "sent", cut_coded_tail, fits=_coded),
    Fault("compressed without its end, once", "sent", cut_coded_tail, once=True, fits=_coded),
    Fault("plain cut, once", "sent", cut_plain, once=True, fits=_plain),
    Fault("plain cut", "sent", cut_plain, fits=_plain),
    Fault("cut between lines", "sent", cut_at_line, fits=lambda d: d.bare and _plain(d) and _totalled(d)),
    Fault("hung up, once", "sent", hang_up, once=True),
    Fault("hung up", "sent", hang_up),
    Fault("reset, once", "sent", reset, once=True),
    Fault("reset", "sent", reset),
    Fault("chunks cut, once", "sent", cut_chunks, once=True),
    Fault("chunks cut", "sent", cut_chunks),
    Fault("chunks without the last", "sent", cut_chunks_end),
    Fault("nothing in the body", "sent", empty_body),
    Fault("nothing in the body, once", "sent", empty_body, once=True),
    # of another kind
    Fault("html, said", "sent", html_said),
    Fault("html, said, once", "sent", html_said, once=True),
    Fault("html, unsaid", "sent", html_unsaid),
    Fault("a line of text", "sent", login_page),
    Fault("an error in place of records", "sent", error_object),
    Fault("an error beside records", "page", error_beside, fits=_json),
    Fault("null in place of all", "sent", json_array_of_nothing),
    Fault("part of it, by status", "sent", partial_status),
    Fault("columns of something else", "text", other_columns, fits=lambda d: d.form == "csv" and _plain(d)),
    Fault("no header line", "text", no_header_line, fits=lambda d: d.form == "csv"),
    Fault("503 once", "asked", _status(503), once=True),
    Fault("503", "asked", _status(503)),
    Fault("500 once", "asked", _status(500), once=True),
    Fault("429 with a date in the past", "asked", _status(429, ("Retry-After", "Wed, 21 Oct 2015 07:28:00 GMT")), once=True),
    Fault("429 with seconds", "asked", _status(429, ("Retry-After", "0")), once=True),
    Fault("401", "asked", _status(401)),
    Fault("404", "asked", _status(404)),
    Fault("403", "asked", _status(403)),
    # pages
    Fault("no next page anywhere", "page", no_next_anywhere, fits=_led, told="pages.may_go_on"),
    Fault("no next page once", "page", no_next_once, fits=lambda d: _led(d) and _totalled(d)),
    Fault("next page told elsewhere", "page", next_elsewhere, fits=_led, told="pages.may_go_on"),
    Fault("the same next page", "page", next_the_same, fits=_led),
    Fault("tokens without end", "page", tokens_without_end, fits=lambda d: _led(d)),
    Fault("a short page", "page", short_page, fits=_totalled),
    Fault("an empty page", "page", empty_page, fits=_totalled),
    Fault("records' key missing", "text", records_missing, fits=_json),
    Fault("records null", "text", records_null, fits=_json),
    Fault("total too high", "page", total_too_high, fits=_totalled),
    Fault("total too low", "page", total_too_low, fits=_totalled, harmless=True),
    Fault("total as text", "text", total_as_text, fits=lambda d: _json(d) and d.total == "body", harmless=True),
    Fault("a record twice over a border", "listed", repeated_over_border, fits=_counted, harmless=True),
    Fault("all records gone", "listed", all_gone, fits=_removing),
    Fault("most records gone", "listed", most_gone, fits=_removing),
    Fault("delete while reading", "asked", delete_ahead, fits=_paged, told="pages.may_move"),
    Fault("insert while reading", "asked", insert_ahead, fits=_paged, told="pages.may_move"),
    Fault("change while reading", "asked", change_ahead, fits=_paged, told="pages.may_move"),
    # records
    Fault("a record that is none", "text", not_a_record, fits=_json),
    Fault("a record without key", "text", key_missing, fits=_json),
    Fault("no record has the key", "text", key_in_capitals, fits=lambda d: d.form in ("json", "ndjson")),
    Fault("no record has the cursor", "text", cursor_missing, fits=lambda d: d.form in ("json", "ndjson") and d.by == "cursor"),
    Fault("no line has the cursor", "text", cursor_missing_csv, fits=lambda d: d.form == "csv" and d.by == "cursor"),
    Fault("NaN", "text", not_a_number, fits=_json),
    Fault("Infinity", "text", infinity, fits=_json),
    Fault("a number as text", "text", number_as_text, fits=_json),
    Fault("a time that is none", "text", bad_time, fits=lambda d: _json(d) and d.by == "cursor"),
    Fault("a time that is null", "text", time_null, fits=lambda d: _json(d) and d.by == "cursor"),
    Fault("no UTF-8", "text", not_utf8, fits=lambda d: d.form in ("json", "ndjson")),
    Fault("a new field", "text", new_field, fits=_json),
    Fault("empty list and object", "text", empty_inside, fits=_json),
    # unusual clothes: all is right
    Fault("several gzip members", "sent", members, fits=lambda d: d.coding == "gzip", harmless=True),
    Fault("raw deflate", "sent", raw_deflate, fits=lambda d: d.coding == "deflate", harmless=True),
    Fault("headers in capitals", "sent", upper_case, harmless=True),
    Fault("headers in small letters", "sent", lower_case, harmless=True),
    Fault("byte-order mark", "text", byte_order_mark, harmless=True),
    Fault("no content type", "text", no_type, harmless=True),
    Fault("text/plain", "text", text_plain, harmless=True),
    Fault("application/octet-stream", "text", octets, harmless=True),
    Fault("UTF-16", "text", other_charset, fits=lambda d: d.form != "xml", harmless=True),
    Fault("lines of Windows", "text", windows_lines, fits=lambda d: d.bare, harmless=True),
    Fault("no end of the last line", "text", no_last_line_end, fits=lambda d: d.bare, harmless=True),
    Fault("redirected", "asked", redirected, harmless=True),
    Fault("no place for the next after the last", "page", silent_end, fits=_led, harmless=True),
    Fault("in chunks", "sent", no_length, harmless=True),
    Fault("until the connection ends", "sent", until_closed, harmless=True),
    Fault("interim answer", "sent", interim, harmless=True),
    Fault("columns in another order", "text", columns_reordered, fits=lambda d: d.form == "csv", harmless=True),
    Fault("no errors, said", "page", no_errors_beside, fits=_json, harmless=True),
]  # fmt: skip
BY_NAME = {fault.name: fault for fault in FAULTS}
assert len(BY_NAME) == len(FAULTS)

__all__ = ["BY_NAME", "FAULTS"]
