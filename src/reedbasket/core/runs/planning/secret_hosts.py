"""The servers that a source's secrets are sent to."""

from __future__ import annotations

from datetime import UTC, datetime
from urllib.parse import urlsplit

from ...spec import Basket, template
from ...spec.auth import oauth_of
from .order import ResolvedSource, source_order


def servers(order: ResolvedSource) -> set[str]:
    """The servers as host and port, in lower case; without those that are only known once the source is asked.

    Args:
        order: of the source, with its settings filled in.
    """
    if order.database is not None:
        return order.database.servers
    if order.files is not None:
        return order.files.servers
    values = order.values(dict.fromkeys(order.secrets, ""))
    oauth = oauth_of(order.auth)
    texts = [order.base_url, *((oauth.token_url, oauth.authorize_url) if oauth is not None else ())]
    return {_server(filled) for text in texts if text is not None and (filled := template.fill(text, values))}


def shown(basket: Basket) -> set[tuple[str, str]]:
    """All pairs of (secret, server) in the definitions."""
    now = datetime.now(UTC)
    orders = [source_order(basket, name, started=now) for name in basket.sources]
    found = {(secret, server) for order in orders for secret in order.secrets.values() for server in servers(order)}
    for warehouse in basket.warehouses.values():
        if warehouse.password_shown_to is not None:
            found.add(warehouse.password_shown_to)
    return found


def _server(url: str) -> str:
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}".lower()
