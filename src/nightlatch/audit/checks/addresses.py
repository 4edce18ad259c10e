"""Checks of one guest's addresses: what its files say of them, what it has now, and what the next boot brings."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.access.default_routes import leading
from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.audit.names import listed
from nightlatch.origin import Kind, Origin
from nightlatch.readings.network.profiles import Method, System

HIGH, MEDIUM, LOW = Severity.HIGH, Severity.MEDIUM, Severity.LOW
MADE_BY_PROGRAMS = ("docker", "br-", "veth", "virbr", "cni", "flannel", "wg", "tun", "tap", "lxc", "lxd", "podman")


@check("address.two-default-routes", MEDIUM, source="RFC 1122, 3.3.1.2; ip-route(8)")
def two_default_routes(context: Context) -> Iterator[CheckResult]:
    """More than one default route: which way answers take is chance, or a matter of metrics that nobody wrote."""
    network = context.access.reading.network
    for version in (4, 6):
        found = list(leading(network, version))
        metrics = [each.metric for each in found]
        if len(found) > 1 and (None in metrics or len(set(metrics)) < len(metrics)):
            shown = listed([each.text for each in found])
            text = f"{len(found)} default routes for IPv{version} come up at boot: {shown}."
            proofs = tuple(Proof("a default route", each.origin) for each in found)
            yield CheckResult(text, proofs, tuple(each.interface for each in found))
            continue
        live = [route for route in network.default_routes if route.version == version and route.via is not None]
        lowest = min((route.metric for route in live), default=0)
        written = [route for route in live if route.metric == lowest and route.protocol != "ra"]
        best = sorted({(str(route.via), route.interface) for route in written})
        if len(best) > 1:
            shown = listed([f"{via} on {interface}" for via, interface in best])
            text = f"{len(best)} default routes for IPv{version} have the same metric now: {shown}."
            proof = Proof(f"metric {lowest}", Origin("ip -o route", kind=Kind.LISTING))
            yield CheckResult(text, (proof,), tuple(interface for _, interface in best))


@check("address.gateway-outside", HIGH, source="RFC 1122, 3.3.1.1: a gateway is on a connected network")
def gateway_outside(context: Context) -> Iterator[CheckResult]:
    """A gateway lies in no network of its interface, so the route can't be set, and nothing leaves the guest."""
    network = context.access.reading.network
    for profile in network.counting:
        for gateway in profile.gateways:
            version = gateway.address.version
            known = [placed for placed in profile.addresses if placed.value.version == version]
            open_ended = profile.has(Method.LEASED, version) or profile.has(Method.ANNOUNCED, version)
            if gateway.on_link or gateway.address.is_link_local or open_ended or profile.system is System.IFUPDOWN:
                continue
            if not any(gateway.address in placed.value.network for placed in known):
                own = listed([str(placed.value) for placed in known]) or "no address"
                where = profile.interface or "the interface"
                text = f"The gateway {gateway.address} lies outside of {where}, which has {own}."
                proofs = [Proof(f"gateway {gateway.address}", gateway.origin)]
                proofs += [Proof(str(placed.value), placed.origin) for placed in known]
                yield CheckResult(text, tuple(proofs), (profile.interface,))


@check("address.no-name-server", MEDIUM, source="resolv.conf(5); resolved.conf(5)")
def no_name_server(context: Context) -> Iterator[CheckResult]:
    """A guest with a default route has no name server: names are not known there."""
    network = context.access.reading.network
    ways = [route for version in (4, 6) for route in leading(network, version)]
    named = any(profile.servers or (profile.lease_names and profile.has(Method.LEASED)) for profile in network.counting)
    resolvers = [placed for placed in network.resolvers if not placed.value.is_loopback]
    if not ways or named or resolvers or network.resolved_servers or network.resolvers_unknown:
        return
    announced = any(profile.has(Method.ANNOUNCED, 6) for profile in network.counting)
    unless = ", unless a router announces one" if announced else ""
    text = f"A default route is written down and no name server is: names will not be known{unless}."
    proofs = (Proof(ways[0].text, ways[0].origin), Proof("no nameserver", Origin("/etc/resolv.conf")))
    yield CheckResult(text, proofs, ("name servers",))


@check("address.two-systems", MEDIUM, source="design: each interface has one owner")
def two_systems(context: Context) -> Iterator[CheckResult]:
    """Two systems, or two files of one, configure the same interface."""
    network = context.access.reading.network
    for name in network.interfaces:
        found = [p for p in network.profiles_of(name) if p.at_boot and (p.methods or p.gateways)]
        if len(found) > 1:
            systems = list(dict.fromkeys(profile.system.value for profile in found))
            who = listed(systems) if len(systems) > 1 else f"{len(found)} files of {systems[0]}"
            text = f"{who} all configure {name}: which of them wins may differ from boot to boot."
            text = text.replace(" all ", " both ") if len(found) == 2 else text
            yield CheckResult(text, tuple(Proof(profile.system.value, profile.origin) for profile in found), (name,))


@check("address.lost-at-boot", HIGH, source="ip-address(8): an address set by hand lasts until the next boot")
def lost_at_boot(context: Context) -> Iterator[CheckResult]:
    """The guest has an address now that nothing brings back after the next boot."""
    network = context.access.reading.network
    if not any(network.starts.get(system) is not False for system in (System.NETWORKD, System.MANAGER, System.IFUPDOWN)):
        return  # no system that we know starts: addresses come from outside, as in a container
    for each in context.holdings:
        name = each.interface
        if each.loaded is None or each.method is not Method.STATIC or name.startswith(MADE_BY_PROGRAMS) or name == "lo":
            continue
        profiles = network.profiles_of(name)
        if each.stored is None and not any(p.system is System.IFUPDOWN and p.gaps for p in profiles):
            text = f"{name} has {each.address} now, and no file stores it: after the next boot it is gone."
            yield CheckResult(text, (Proof("not dynamic", each.loaded),), (name,))
        elif each.stored is not None and not each.at_boot:
            text = f"{name} has {each.address} now, and is not brought up at boot."
            off = next((p.boot_origin or p.origin for p in profiles if not p.at_boot), each.stored)
            yield CheckResult(text, (Proof("not at boot", off),), (name,))


@check("address.not-loaded", MEDIUM, source="design: stored, loaded and at boot are three states")
def not_loaded(context: Context) -> Iterator[CheckResult]:
    """An address stands in a file, and the running guest does not have it: the file was not applied, or names no interface."""
    network = context.access.reading.network
    names = {each.link.name for each in network.live}
    for each in context.holdings if network.is_live else ():
        if each.stored is not None and each.loaded is None and each.at_boot and each.method is Method.STATIC:
            there = not each.interface or each.interface in names
            why = "the file was not applied" if there else f"there is no {each.interface}"
            text = f"{each.address} is stored and the guest does not have it: {why}."
            yield CheckResult(text, (Proof("stored", each.stored),), (each.interface,))


@check("address.profile-ignored", HIGH, source="nm-settings-keyfile(5); systemd.network(5)")
def profile_ignored(context: Context) -> Iterator[CheckResult]:
    """A file with network settings is ignored by the system it is meant for."""
    network = context.access.reading.network
    for profile in network.profiles:
        if profile.refused and network.starts.get(profile.system) is not False:
            name = profile.interface or profile.origin.path.rpartition("/")[2]
            text = f"The settings for {name} are ignored: {profile.refused}."
            yield CheckResult(text, (Proof(profile.refused, profile.origin),), (name,))


@check("address.unread-line", MEDIUM, source="netplan(5); interfaces(5); systemd.network(5); nm-settings-keyfile(5)")
def unread_line(context: Context) -> Iterator[CheckResult]:
    """A line of the network settings is not taken, or not as it was meant."""
    network = context.access.reading.network
    gaps = [
        *network.gaps,
        *(gap for p in network.profiles if network.starts.get(p.system) is not False for gap in p.gaps),
    ]
    for gap in gaps:
        severity = HIGH if gap.refused else None
        yield CheckResult(_sentence(gap.because), (Proof("as it stands", gap.origin),), (gap.origin.path,), severity)


def _sentence(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}."


@check("address.rewritten", LOW, source="cloud-init's own documentation: network configuration is rendered at first boot")
def rewritten(context: Context) -> Iterator[CheckResult]:
    """A first-boot tool writes the network settings anew: what is edited there may be lost."""
    for placed in context.access.reading.network.rewritten:
        text = f"{placed.value}, when it takes the guest for a new one: an edit there may not last."
        yield CheckResult(_sentence(text.rstrip(".")), (Proof("its file", placed.origin),), (placed.origin.path,))


@check("address.not-as-stated", MEDIUM, source="design: addresses in the estate file")
def not_as_written(context: Context) -> Iterator[CheckResult]:
    """The estate gives the guest an address that its files don't store."""
    network = context.access.reading.network
    if not network.counting and not network.is_live:
        return
    for each in context.holdings:
        if each.stated is None or (each.stored is not None and each.at_boot):
            continue
        how = "has it by a lease only" if each.method is Method.LEASED else "has it now only"
        text = f"The estate gives {each.interface} {each.address}; the guest {how if each.loaded else 'does not have it'}."
        proofs = [Proof("stated here", each.stated), *([Proof("now", each.loaded)] if each.loaded else [])]
        yield CheckResult(text, tuple(proofs), (each.interface,))


@check("name.skipped-line", LOW, source="hosts(5)")
def skipped_line(context: Context) -> Iterator[CheckResult]:
    """A line of the hosts file is skipped."""
    for line in context.access.reading.network.hosts:
        if line.fault:
            text = f"A line of the hosts file is skipped: {line.fault}."
            yield CheckResult(text, (Proof("as it stands", Origin("/etc/hosts", line.number)),), line.names)


@check("address.link-local-scope", MEDIUM, source="RFC 4007, 11")
def link_local_scope(context: Context) -> Iterator[CheckResult]:
    """A link-local address is dialled without saying on which link."""
    spec = context.estate.guests[context.guest] if context.estate is not None else None
    for dialled in (spec.dial, spec.via.host) if spec is not None else ():
        if spec is not None and dialled.lower().startswith("fe80:") and "%" not in dialled:
            text = f"{dialled} is dialled without %INTERFACE: it means another machine on each link."
            yield CheckResult(text, (Proof(dialled, spec.via.origin),), (dialled,))
