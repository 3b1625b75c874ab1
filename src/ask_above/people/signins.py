"""Sign-ins, as a site records them: who, when, from which address."""

from __future__ import annotations

from ipaddress import ip_address, ip_network
from typing import NamedTuple

from ask_above.charter.moments import Instant
from ask_above.charter.where import NOWHERE, Where

IPV4_PREFIX, IPV6_PREFIX = 16, 32


class SignIn(NamedTuple):
    """One sign-in; ``network`` is the address's /16, or /32 for IPv6."""

    member: str
    at: Instant
    network: str
    where: Where = NOWHERE


def network_of(address: str) -> str:
    """Return the network of an address; one of IPv4 written as IPv6 counts as IPv4. Raises ``ValueError``.

    >>> network_of("192.0.2.7"), network_of("2001:db8::1")
    ('192.0.0.0/16', '2001:db8::/32')
    """
    parsed = ip_address(address.strip())
    mapped = getattr(parsed, "ipv4_mapped", None)
    parsed = mapped or parsed
    prefix = IPV4_PREFIX if parsed.version == 4 else IPV6_PREFIX  # noqa: PLR2004
    return str(ip_network(f"{parsed}/{prefix}", strict=False))
