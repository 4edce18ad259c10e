"""The address book, and one guest's interfaces, as text, JSON and CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

from nightlatch.access.book import NetworkPage
from nightlatch.access.holdings import Holding
from nightlatch.audit import documents
from nightlatch.net.kinds import kind_of
from nightlatch.readings.network.profiles import Method, Profile
from nightlatch.report import page
from nightlatch.report.audit_text import count, findings
from nightlatch.report.rows import cell

if TYPE_CHECKING:
    from nightlatch.ops.addresses import AddressBook, DialAdvice, Interfaces
    from nightlatch.readings.network.network_reading import NetworkReading

PLENTY = 1_000_000
WORDS = {
    Method.STATIC: "fixed",
    Method.LEASED: "leased",
    Method.ANNOUNCED: "announced",
    Method.LINK_LOCAL: "link-local",
}


FIXABLE = ("address.twice", "address.in-pool", "address.taken", "address.wrong-length", "address.lost-at-boot")


def how(each: Holding) -> str:
    """How an address is come by, in a word or two."""
    if each.method is None:
        return "estate file only"
    if each.temporary:
        return "temporary"
    return WORDS[each.method]


def tomorrow(each: Holding) -> str:
    """Whether it will be the same after the next boot."""
    if each.method is None:
        return "not known"
    if each.method is Method.STATIC:
        if each.stored is None:
            return "gone at the next boot"
        if not each.at_boot:
            return "not up at boot"
        return "not applied yet" if each.loaded is None and each.seen else "stays"
    if each.temporary:
        return "changes by itself"
    return {Method.LEASED: "may change", Method.ANNOUNCED: "while announced"}.get(each.method, "this link only")


def text(sheet: page.Page, result: AddressBook, source: str) -> None:
    """The whole book: each network, what lies outside of them, dialling, proposals, what is wrong."""
    for each in result.book.pages:
        _page(sheet, each)
    if result.book.elsewhere:
        sheet.line(("On no network of the estate", "name"))
        _table(sheet, result.book.elsewhere)
        sheet.blank()
    if not result.book.pages:
        sheet.wrapped("The estate file names no networks; write them under networks: to see what is free and what collides.")
        sheet.blank()
    if result.book.without:
        sheet.wrapped(f"No address is known of {', '.join(result.book.without)}.", label="unknown", indent=2)
        sheet.blank()
    for guest, problem in result.unread:
        sheet.wrapped(problem, label=guest, indent=2, style="high")
    if result.place:
        _dials(sheet, result)
    if result.proposals is not None:
        _proposals(sheet, result)
    told = [f for f in result.findings if not f.waived]
    findings(sheet, told, source)
    _sum(sheet, result, source)


def _page(sheet: page.Page, each: NetworkPage) -> None:
    network = each.network
    parts = [
        f"{name} {', '.join(str(a) for a in found if a.version == each.subnet.version)}"
        for name, found in (("host", network.hosts), ("gateway", network.gateways))
        if found
    ]
    pools = [f"{low}-{high}" for low, high in network.leases if low in each.subnet]
    parts += [f"leases {', '.join(pools)}"] if pools else []
    sheet.line((network.name, "name"), "   " + "   ".join([str(each.subnet), *parts]))
    _table(sheet, each.holdings)
    free = f"{each.free} addresses are" if each.free < PLENTY else "plenty is"
    following = f"; the next is {each.following}" if each.following is not None else ""
    sheet.line("  ", (f"{free} free for fixed ones{following}" if each.following else "none is free", "place"))
    sheet.blank()


def _table(sheet: page.Page, found: Iterable[Holding], indent: int = 2) -> None:
    """Address, guest, interface, how, tomorrow, and the place that says so."""
    found = list(found)
    holders: dict[object, set[str]] = {}
    for each in found:
        holders.setdefault(each.address, set()).add(each.guest)
    rows = []
    for h in found:
        twice = f", {len(holders[h.address])} guests have it" if len(holders[h.address]) > 1 else ""
        rows.append((str(h.address), h.guest, h.interface or "?", how(h), tomorrow(h) + twice, str(h.origin)))
    styles = ["plain", "name", "plain", "plain", "plain", "place"]
    sheet.table(rows, styles, indent=indent)


def _dials(sheet: page.Page, result: AddressBook) -> None:
    """Which address to dial, with the reason once for all guests that share it, and how to make one last."""
    sheet.line(("From " + result.place, "name"), "   dial")
    grouped: dict[str, list[DialAdvice]] = {}
    for dial in result.dials:
        grouped.setdefault(_because(dial), []).append(dial)
    for because, dials in grouped.items():
        sheet.table([_row(dial) for dial in dials], ["name", "plain", "plain", "plain", "plain", "medium"], indent=2)
        sheet.wrapped(because, indent=4, style="place")
    remedies: dict[str, list[str]] = {}
    for dial in result.dials:
        remedy = lasting(dial.best.holding) if dial.best is not None else ""
        if remedy:
            remedies.setdefault(remedy, []).append(dial.guest)
    for remedy, guests in remedies.items():
        sheet.wrapped(f"{', '.join(guests)}: {remedy}", indent=2, label="to stay")
    sheet.blank()


def _because(dial: DialAdvice) -> str:
    if dial.best is not None:
        return dial.best.because
    if not dial.choices:
        return "no address of it is known"
    return f"no address is known that leads there: {dial.choices[0].because} ({dial.choices[0].holding.address})"


def _row(dial: DialAdvice) -> tuple[str, ...]:
    """Guest, address, kind, how, tomorrow, and what else is to be known of it."""
    if dial.best is None:
        return (dial.guest, dial.name or "-", "", "", "", "")
    held = dial.best.holding
    more = [f"also {', '.join(dial.shared)} has it"] if dial.shared else []
    more += [f"people type {dial.name}"] if dial.name and dial.name != str(held.address) else []
    return (dial.guest, str(held.address), kind_of(held.address).value, how(held), tomorrow(held), "; ".join(more))


def lasting(each: Holding) -> str:
    """The condition on which an address lasts, empty where it lasts by itself."""
    if each.method is Method.LEASED:
        return "reserve it at the lease server by its hardware address, or give the guest a fixed one"
    if each.method is Method.STATIC and each.stored is None:
        return "write it into the guest's own network settings"
    if each.method is Method.STATIC and not each.at_boot:
        return "let the interface come up at boot"
    if each.temporary or each.method is Method.ANNOUNCED:
        return "give the guest a fixed address beside the announced ones"
    return ""


def _proposals(sheet: page.Page, result: AddressBook) -> None:
    sheet.line(("Proposed", "name"), "   free, in the network, outside of its pool")
    for each in result.proposals or ():
        if not each.address:
            sheet.wrapped(f"{each.because}, on {each.network}", label=each.guest, indent=2, style="medium")
            continue
        where = each.interface or "INTERFACE"
        line = f"addresses: {{{where}: [{each.address}]}}   on {each.network}: {each.because}"
        sheet.wrapped(line, label=each.guest, indent=2)
    if not result.proposals:
        sheet.wrapped("nothing: every guest that is said to sit on a network has a lasting address there", indent=2)
    sheet.blank()


def _sum(sheet: page.Page, result: AddressBook, source: str) -> None:
    held = sum(len(each.holdings) for each in result.book.pages) + len(result.book.elsewhere)
    told = {(f.check, f.text) for f in result.findings if not f.waived}
    parts = [count(held, "address", "addresses"), count(len(told), "finding") if told else "nothing wrong"]
    parts += [count(len(result.unread), "guest") + " not read"] if result.unread else []
    then = "" if result.place else f"   Next: nightlatch addresses {source} --from PLACE"
    if any(f.check in FIXABLE and not f.waived for f in result.findings):
        then = f"   Next: write what a guest should have under addresses: in {source}, then nightlatch draft"
    if any(f.check == "address.not-as-stated" and not f.waived for f in result.findings):
        then = f"   Next: nightlatch draft {source}"
    sheet.line(", ".join(parts) + ".", (then, "next"))


def interfaces(sheet: page.Page, result: Interfaces) -> None:
    """One guest: every interface with what is stored, what is loaded, and who owns it."""
    network = result.network
    state = "as it runs and as its files stand" if network.is_live else "as its files stand"
    sheet.line((result.guest, "name"), f"   {count(len(network.interfaces), 'interface')}, {state}")
    for name in network.interfaces:
        mac = network.hardware_of(name)
        sheet.line("  ", (name, "name"), f"   {mac}" if mac else "")
        for profile in network.profiles_of(name):
            _profile(sheet, profile)
        _table(sheet, [h for h in result.holdings if h.interface == name], indent=4)
    loose = [h for h in result.holdings if h.interface not in network.interfaces]
    if loose:
        sheet.line("  ", ("by match or lease", "name"))
        _table(sheet, loose, indent=4)
    sheet.wrapped(_started(network), indent=2, style="place")
    sheet.blank()
    findings(sheet, result.findings)
    sheet.line(f"{count(len(result.holdings), 'address', 'addresses')}, {count(len(result.findings), 'finding')}.")


def _started(network: NetworkReading) -> str:
    """Which of the systems whose files are there take part at boot."""
    there = dict.fromkeys(profile.system for profile in network.profiles)
    surely = [system.value for system in there if network.starts.get(system)]
    perhaps = [system.value for system in there if network.starts.get(system) is None]
    never = [system.value for system in there if network.starts.get(system) is False]
    told = [f"brought up at boot by {' and '.join(surely)}"] if surely else []
    told += [f"perhaps by {' and '.join(perhaps)}"] if perhaps else []
    told += [f"not by {' and '.join(never)}, which is not started"] if never else []
    return "; ".join(told) or "no system that is known here has a file about an interface"


def _profile(sheet: page.Page, profile: Profile) -> None:
    words = []
    for version in (4, 6):
        methods = [WORDS.get(m, m.value) for m in profile.methods_of(version) if m is not Method.LINK_LOCAL]
        words += [f"IPv{version} {' and '.join(methods)}"] if methods else []
    words += [f"gateway {gateway.address}" for gateway in profile.gateways]
    words += ["name servers " + ", ".join(str(s.value) for s in profile.servers)] if profile.servers else []
    words += ["at boot" if profile.at_boot else "not at boot"]
    sheet.wrapped(", ".join(words), label=profile.system.value, indent=4)
    sheet.line(" " * 8, (str(profile.origin), "place"))


def interfaces_document(result: Interfaces) -> dict[str, Any]:
    """One guest as JSON, nightlatch/interfaces/1."""
    network = result.network
    return {
        "format": "nightlatch/interfaces/1",
        "guest": result.guest,
        "live": network.is_live,
        "at_boot": {system.value: on for system, on in network.starts.items()},
        "profiles": [_profile_document(p) for p in network.profiles],
        "addresses": [_held(each) for each in result.holdings],
        "findings": documents.findings(result.findings),
    }


def _profile_document(profile: Profile) -> dict[str, Any]:
    return {
        "system": profile.system.value,
        "interface": profile.interface,
        "origin": documents.origin(profile.origin),
        "match": {"names": list(profile.match.names), "hardware": list(profile.match.hardware), "more": profile.match.more},
        "methods": {str(v): [m.value for m in profile.methods_of(v)] for v in (4, 6)},
        "addresses": [str(a.value) for a in profile.addresses],
        "gateways": [str(g.address) for g in profile.gateways],
        "routes": [{"to": r.to, "via": str(r.via) if r.via is not None else None} for r in profile.routes],
        "name_servers": [str(s.value) for s in profile.servers],
        "at_boot": profile.at_boot,
        "identifier": profile.identifier.value if profile.identifier is not None else None,
        "ignored": profile.refused or profile.set_aside or None,
    }


def document(result: AddressBook) -> dict[str, Any]:
    """The book as JSON, nightlatch/addresses/1."""
    out: dict[str, Any] = {
        "format": "nightlatch/addresses/1",
        "estate": result.estate,
        "at": result.at.isoformat(),
        "networks": [_page_document(each) for each in result.book.pages],
        "elsewhere": [_held(each) for each in result.book.elsewhere],
        "unknown": list(result.book.without),
        "unread": [{"guest": guest, "because": why} for guest, why in result.unread],
        "findings": [
            {"guest": each.guest, **told} for each, told in zip(result.findings, documents.findings(result.findings), strict=True)
        ],
    }
    if result.place:
        out["from"] = result.place
        out["dial"] = [_dial_document(each) for each in result.dials]
    if result.proposals is not None:
        out["proposals"] = [
            {
                "guest": p.guest,
                "network": p.network,
                "interface": p.interface,
                "address": p.address or None,
                "because": p.because,
            }
            for p in result.proposals
        ]
    return out


def _page_document(each: NetworkPage) -> dict[str, Any]:
    network = each.network
    return {
        "network": network.name,
        "subnet": str(each.subnet),
        "host": [str(a) for a in network.hosts],
        "gateway": [str(a) for a in network.gateways],
        "leases": [f"{low}-{high}" for low, high in network.leases],
        "free": each.free,
        "next": str(each.following) if each.following is not None else None,
        "addresses": [_held(holding) for holding in each.holdings],
    }


def _held(each: Holding) -> dict[str, Any]:
    return {
        "address": str(each.address),
        "length": each.length,
        "kind": kind_of(each.address).value,
        "guest": each.guest,
        "interface": each.interface,
        "method": each.method.value if each.method is not None else None,
        "stated": each.stated is not None,
        "stored": each.stored is not None,
        "loaded": each.loaded is not None,
        "at_boot": each.at_boot,
        "lasts": each.lasts,
        "origin": documents.origin(each.origin),
    }


def _dial_document(dial: DialAdvice) -> dict[str, Any]:
    found = [
        {
            "address": str(c.holding.address),
            "way": c.way.name.lower().replace("_", " "),
            "because": c.because,
            "lasts": c.holding.lasts,
            "remedy": lasting(c.holding),
        }
        for c in dial.choices
    ]
    best = str(dial.best.holding.address) if dial.best is not None else None
    return {"guest": dial.guest, "name": dial.name, "dial": best, "also": list(dial.shared), "all": found}


def rows(result: AddressBook) -> str:
    """The addresses as CSV, one row each. Lines end with CR LF (RFC 4180)."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(("network", "address", "length", "guest", "interface", "how", "tomorrow", "place"))
    for network, each in _listed(result):
        address = (network, str(each.address), str(each.length or ""), each.guest, each.interface)
        writer.writerow([cell(field) for field in (*address, how(each), tomorrow(each), str(each.origin))])
    return out.getvalue()


def _listed(result: AddressBook) -> Iterator[tuple[str, Holding]]:
    for each in result.book.pages:
        yield from ((each.network.name, holding) for holding in each.holdings)
    yield from (("", holding) for holding in result.book.elsewhere)
