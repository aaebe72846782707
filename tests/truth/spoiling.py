"""What faults do to an answer: functions of the server and of what it would have sent. Imports nothing of the product."""

from __future__ import annotations

import gzip
import re
import zlib
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
    return d.by == "compare" or (d.by == "full" and d.write in ("mirror", "replace", "versions"))


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
    if server.declared.bare and len(server.shown) == 1:  # which is a record that is none, in the place of one
        server.altered |= server.shown
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


def byte_order_mark(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes] | None:
    # UTF-16 has its own.
    return None if "UTF-16" in text[0] else (text[0], b"\xef\xbb\xbf" + text[1])


def no_type(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    return "", text[1]


def text_plain(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    return "text/plain; charset=utf-8", text[1]


def octets(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes]:
    return "application/octet-stream", text[1]


def other_charset(server: Server, text: tuple[str, bytes]) -> tuple[str, bytes] | None:
    return text[0] + "; charset=UTF-16", text[1].decode("utf-8-sig").encode("utf-16")


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
