"""OAI-PMH 2.0 (https://www.openarchives.org/OAI/openarchivesprotocol.html): records of a repository in Dublin Core, changed since."""

from collections.abc import Iterator
from typing import Any
from xml.etree import ElementTree as xml

from reedbasket.kit import Connector, Failed, Position, Setting, Table, Url

OAI, DC = "{http://www.openarchives.org/OAI/2.0/}", "{http://purl.org/dc/elements/1.1/}"


class OaiPmh(Connector):
    """Records of an OAI-PMH repository, those that are gone among them."""

    url: Url
    path: str = Setting("/oai", description="where it is asked")
    set: str = Setting("", description="one of its sets; all where nothing is said")

    records = Table(primary_key="identifier", cursor="datestamp", deleted_when="deleted")

    def read_records(self, position: Position) -> Iterator[list[dict[str, Any]]]:
        """Records changed since, and those that are gone."""
        since = position.from_.strftime("%Y-%m-%dT%H:%M:%SZ") if position.from_ else None
        query = {"metadataPrefix": "oai_dc", "from": since, "set": self.set or None}
        while True:
            top = xml.fromstring(self.http.get(self.path, {"verb": "ListRecords", **query}).body)
            error = top.find(f"{OAI}error")
            if error is not None:
                if error.get("code") == "noRecordsMatch":
                    return
                raise Failed(f"{error.get('code')}: {error.text}", "see `set` and `path`, and what its Identify says")
            yield [_record(one) for one in top.iter(f"{OAI}record")]
            token = top.findtext(f"{OAI}ListRecords/{OAI}resumptionToken")
            if not token:
                return
            query = {"resumptionToken": token}


def _record(record: xml.Element) -> dict[str, Any]:
    gone = record.find(f"{OAI}header[@status='deleted']") is not None
    made: dict[str, Any] = {name: record.findtext(f"{OAI}header/{OAI}{name}") for name in ("identifier", "datestamp")}
    for element in record.iter():
        name = element.tag.replace(DC, "dc_")
        if name.startswith("dc_") and element.text:
            made[name] = f"{made[name]}; {element.text}" if name in made else element.text
    return {**made, "deleted": True if gone else None}
