"""Atom (RFC 4287) and RSS 2.0: the entries of a list of feeds."""

from collections.abc import Iterator
from datetime import UTC
from email.utils import parsedate_to_datetime
from typing import Any
from xml.etree import ElementTree as xml

from reedbasket.kit import Connector, Failed, Position, Setting, Table, Url

ATOM = "{http://www.w3.org/2005/Atom}"


class Atom(Connector):
    """Entries of Atom and RSS feeds."""

    url: Url
    feeds: list[str] = Setting(description="their paths", example=["/news.atom"])

    entries = Table(primary_key=("feed", "id"), cursor="updated", bound="none")

    def read_entries(self, position: Position) -> Iterator[list[dict[str, Any]]]:
        """Entries of each feed, as far as they are newer."""
        for path in self.feeds:
            try:
                top = xml.fromstring(self.http.get(path, headers={"accept": "application/atom+xml, application/rss+xml"}).body)
            except xml.ParseError as error:
                raise Failed(f"{path} is no XML: {error}", "see what stands at that address") from None
            found = [_atom(one) for one in top.iter(f"{ATOM}entry")] or [_rss(one) for one in top.iter("item")]
            yield [{"feed": path, **entry} for entry in found]


def _atom(entry: xml.Element) -> dict[str, Any]:
    links = {link.get("rel", "alternate"): link.get("href") for link in entry.iter(f"{ATOM}link")}
    texts = {name: entry.findtext(f"{ATOM}{name}") for name in ("id", "title", "updated", "published", "summary", "content")}
    return {**texts, "link": links.get("alternate"), "author": entry.findtext(f"{ATOM}author/{ATOM}name")}


def _rss(item: xml.Element) -> dict[str, Any]:
    link, said = item.findtext("link"), item.findtext("pubDate")
    updated = parsedate_to_datetime(said).astimezone(UTC).isoformat() if said else None
    return {
        "id": item.findtext("guid") or link,
        "title": item.findtext("title"),
        "updated": updated,
        "summary": item.findtext("description"),
        "link": link,
    }
