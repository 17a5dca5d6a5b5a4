"""From where a store or a bucket may be asked at all."""

import ipaddress
from typing import Literal

import msgspec

from rusty_lantern.core.answer import Answer, Fact, fact_of
from rusty_lantern.core.value_types import Levels, show_names


class Network(msgspec.Struct, frozen=True, omit_defaults=True):
    """From where a bucket or store may be asked at all, before any other rule.

    `default` is what happens to everybody whom nothing here names. `networks` are in CIDR form; the word `all` is a
    value of its own. `endpoints` are private endpoints.
    """

    default: Literal["allow", "deny"]
    networks: list[str] = []
    endpoints: list[str] = []

    @property
    def everywhere(self) -> bool:
        """Whether it lets in requests from everywhere."""
        return self.default == "allow" or "all" in self.networks


REACH = Levels(("everywhere", "public-networks", "private-networks", "endpoints-only"), ordered=True)


# Beyond this many public addresses, a set of networks is no restriction: no single organisation holds more, so it takes
# in hosting providers, where anyone can rent an address. A /8 of IPv4; a /32 of IPv6.
RESTRICTION_V4 = 2**24
RESTRICTION_V6 = 2**96


_PRIVATE = [ipaddress.ip_network(net) for net in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "fc00::/7")]


def network_fact(answer: Answer[Network]) -> Fact:
    """From where requests are let in, by all its networks together: `everywhere` where they are no restriction, such as
    both halves of the Internet. A network that makes no sense is unknown."""
    if answer.value is None or answer.value.everywhere:
        return fact_of(answer.map(lambda _: "everywhere"))
    listed = answer.value.networks
    try:
        nets = [ipaddress.ip_network(net, strict=False) for net in listed]
    except ValueError as error:
        return Answer("failed", None, f"not a network: {error}", answer.evidence)
    public = [net for net in nets if not any(net.version == p.version and net.subnet_of(p) for p in _PRIVATE)]  # type: ignore[arg-type]
    word = "everywhere" if _beyond_a_restriction(public) else "public-networks" if public else "private-networks"
    note = ", ".join(show_names(names, 5) for names in (listed, answer.value.endpoints) if names)
    return Answer("known", word if nets else "endpoints-only", note, answer.evidence)


def _beyond_a_restriction(public: list[ipaddress.IPv4Network | ipaddress.IPv6Network]) -> bool:
    """Whether networks take in more addresses than one organisation holds."""
    fourth = [net for net in public if isinstance(net, ipaddress.IPv4Network)]
    sixth = [net for net in public if isinstance(net, ipaddress.IPv6Network)]
    return (
        sum(net.num_addresses for net in ipaddress.collapse_addresses(fourth)) > RESTRICTION_V4
        or sum(net.num_addresses for net in ipaddress.collapse_addresses(sixth)) > RESTRICTION_V6
    )
