"""Where connections may lead: whatever a definition, a redirect or a webhook names is checked once its name is an address.

The machine's metadata service, its link-local neighbours and the service itself can never be reached; otherwise a source could be pointed
there, and show what only this machine may see (OWASP ASVS 4.0, 12.6.1). The interpreter itself asks for each connection
(`sys.addaudithook`), whichever library makes it; drivers that connect outside Python call `require`.
"""

from __future__ import annotations

import ipaddress
import socket
import sys
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from .errors import ReedError

# Link-local (RFC 3927, RFC 4291), where clouds keep a machine's metadata, and what else they keep it at.
_DENIED = ("169.254.0.0/16", "fe80::/10", "fd00:ec2::254/128", "fd20:ce::254/128", "100.100.100.200/32", "168.63.129.16/32")
_TRANSLATED = ipaddress.ip_network("64:ff9b::/96")  # RFC 6052: an IPv4 address within an IPv6 one

Network = ipaddress.IPv4Network | ipaddress.IPv6Network
Address = ipaddress.IPv4Address | ipaddress.IPv6Address


class AddressNotAllowed(ReedError):
    """A connection to an address that is not allowed."""

    code = "address.not_allowed"


@dataclass(frozen=True)
class Outgoing:
    """Which addresses may be connected to.

    Attributes:
        allow: networks; if empty, all that are not denied.
        deny: networks, besides those that are denied by default. A network in `allow` is not denied by those defaults.
        own_port: of the service; nothing on this machine connects to it.
    """

    allow: tuple[str, ...] = ()
    deny: tuple[str, ...] = ()
    own_port: int | None = None

    def require(self, host: str, port: int | None) -> list[str]:
        """Check all addresses of a name.

        Args:
            host: a name or an address.
            port: None if it is not known.

        Returns:
            The addresses that were checked, to connect to; none for a name without an address.

        Raises:
            AddressNotAllowed: one of the addresses may not be connected to.
        """
        found = _addresses(host, port)
        for _, address in found:
            why = self._refusal(address, port)
            if why:
                raise AddressNotAllowed(
                    "connecting to",
                    f"{host}:{port}" if str(address) == host else f"{host}:{port} ({address})",
                    found=why,
                    fix="correct the address; if it is right, ask whoever runs the service to start it with --allow-network "
                    f"{address}/{address.max_prefixlen}",
                )
        return [text for text, _ in found]

    def _refusal(self, address: Address, port: int | None) -> str:
        if self.own_port is not None and port == self.own_port and _is_here(address):
            return "it is the service's own address"
        if any(address in network for network in _networks(self.allow)):
            return ""
        if any(address in network for network in _networks((*self.deny, *_DENIED))):
            return "it is link-local, a cloud's metadata service, or denied by whoever runs the service"
        return "whoever runs the service allows only other networks" if self.allow else ""


_policy = Outgoing()
_installed = False


def install(policy: Outgoing) -> None:
    """Apply a policy to this process, from now on."""
    global _policy, _installed
    _policy = policy
    if not _installed:
        sys.addaudithook(_look)
        _installed = True


def require(host: str, port: int | None) -> list[str]:
    """For whatever connects outside Python. It has to connect to these addresses, because the name might mean another one by then.

    Returns:
        The addresses that were checked; none if no policy is installed, since everything is allowed then.

    Raises:
        AddressNotAllowed: see Outgoing.require.
        OSError: the name has no address. It might have one a moment later, which nobody would have checked.
    """
    if not _installed:
        return []
    found = _policy.require(host, port)
    if not found:
        raise socket.gaierror(socket.EAI_NONAME, f"the name {host} has no address")
    return found


def _look(event: str, given: tuple[Any, ...]) -> None:
    if event == "socket.connect" and isinstance(given[1], tuple):
        _policy.require(str(given[1][0]), int(given[1][1]))


def _addresses(host: str, port: int | None) -> list[tuple[str, Address]]:
    """(as it is connected to, what it is judged by) of each."""
    try:
        return [(host, _plain(ipaddress.ip_address(host.partition("%")[0])))]
    except ValueError:
        pass
    # What has no address is refused by whoever connects, in words of its own.
    with suppress(OSError, UnicodeError):
        texts = [str(found[4][0]) for found in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)]
        return [(text, _plain(ipaddress.ip_address(text.partition("%")[0]))) for text in texts]
    return []


def _plain(address: Address) -> Address:
    """An IPv4 address that is written as an IPv6 one."""
    if isinstance(address, ipaddress.IPv6Address):
        if address.ipv4_mapped is not None:
            return address.ipv4_mapped
        if address in _TRANSLATED:
            return ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)
    return address


def _is_here(address: Address) -> bool:
    """An address of this machine: one that can be listened at."""
    if address.is_loopback or address.is_unspecified:
        return True
    family = socket.AF_INET if address.version == 4 else socket.AF_INET6
    try:
        with socket.socket(family, socket.SOCK_DGRAM) as probe:
            probe.bind((str(address), 0))
    except OSError:
        return False
    return True


def _networks(texts: Sequence[str]) -> list[Network]:
    return [ipaddress.ip_network(text, strict=False) for text in texts]
