"""OData v4: every entity set of a service, with the key that its metadata declares, and changes only if the service knows when an
entity changed.
"""

from collections.abc import Iterator
from typing import Any
from xml.etree import ElementTree as xml

from reedbasket.kit import Connector, Failed, Position, Secret, Setting, Table, Url

EDM = "{http://docs.oasis-open.org/odata/ns/edm}"


class OData(Connector):
    """Entity sets of an OData v4 service (https://docs.oasis-open.org/odata/odata/v4.01/odata-v4.01-part1-protocol.html)."""

    url: Url = Setting(example="http://127.0.0.1:8000/odata")
    token: Secret
    changed: str = Setting(
        "ChangedAt", description="the property that tells when an entity changed; sets without it are read whole"
    )
    auth = {"type": "bearer", "token": "{settings.token}"}
    headers = {"odata-maxversion": "4.01", "prefer": "odata.maxpagesize=100"}

    def tables(self) -> Iterator[Table]:
        """The entity sets of the service."""
        try:
            schema = xml.fromstring(self.http.get("/$metadata", headers={"accept": "application/xml"}).body)
        except xml.ParseError as error:
            raise Failed(f"its metadata is no XML: {error}", "see that the url is the root of an OData v4 service") from None
        types = {one.get("Name"): one for one in schema.iter(f"{EDM}EntityType")}
        for entity_set in schema.iter(f"{EDM}EntitySet"):
            key: list[str] = []
            properties: set[str | None] = set()
            name = entity_set.get("EntityType")
            while name is not None and (kind := types.get(name.rpartition(".")[2])) is not None:
                key = key or [str(part.get("Name")) for part in kind.iterfind(f"{EDM}Key/{EDM}PropertyRef")]
                properties |= {one.get("Name") for one in kind.iterfind(f"{EDM}Property")}
                name = kind.get("BaseType")
            cursor = self.changed if self.changed in properties else None
            yield Table(
                name=str(entity_set.get("Name")),
                primary_key=key,
                cursor=cursor,
                from_="1970-01-01" if cursor else None,
                sorted=cursor is not None,
            )

    def read(self, table: str, position: Position) -> Iterator[list[dict[str, Any]]]:
        """Entities of a set, as far as they changed."""
        query = {}
        if position.from_ is not None:
            since = position.from_.isoformat().replace("+00:00", "Z")
            query = {"$filter": f"{self.changed} ge {since}", "$orderby": self.changed}
        page = self.http.get(f"/{table}", query).json()
        while True:
            yield page["value"]
            if not page.get("@odata.nextLink"):
                return
            page = self.http.get(page["@odata.nextLink"]).json()
