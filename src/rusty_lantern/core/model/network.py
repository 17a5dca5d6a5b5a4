"""From where a store or a bucket may be asked at all."""

import ipaddress
from typing import Literal

import msgspec

from rusty_lantern.core.answer import Answer, Fact, fact_of
from rusty_lantern.core.value_types import Levels


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


_PRIVATE = [ipaddress.ip_network(net) for net in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "fc00::/7")]


def network_fact(answer: Answer[Network]) -> Fact:
    """From where requests are let in, by the widest network that is; a network that makes no sense is unknown."""
    if answer.value is None or answer.value.everywhere:
        return fact_of(answer.map(lambda _: "everywhere"))
    listed = answer.value.networks
    try:
        nets = [ipaddress.ip_network(net, strict=False) for net in listed]
    except ValueError as error:
        return Answer("failed", None, f"not a network: {error}", answer.evidence)
    private = all(any(net.version == p.version and net.subnet_of(p) for p in _PRIVATE) for net in nets)  # type: ignore[arg-type]
    word = "endpoints-only" if not nets else "private-networks" if private else "public-networks"
    return Answer("known", word, ", ".join([*listed[:5], *answer.value.endpoints[:3]]), answer.evidence)
