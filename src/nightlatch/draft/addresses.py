"""Fixed addresses as the estate gives them: which files of the guest change, and the proof that only that changes.

The edit is made in memory, and the guest's network is read again from the result: the interface must have exactly the
addresses that the estate gives it, by no lease, at boot; no default route more, no name server less, nothing new unread,
and every other interface as before. What can't be shown that way is left, with what to do by hand.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from nightlatch.access.default_routes import leading
from nightlatch.draft.address_edits import AddressWish, CannotEditError, edited, fresh
from nightlatch.draft.steps import AnyStep, SetAddress, apply_all
from nightlatch.estate.model import Estate, GuestSpec, NetworkSpec
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.model.steps import MakeFile, MakeFolder, ManualTask, SetMode
from nightlatch.net.literal import IPAddress, IPInterface
from nightlatch.readings.network import ifupdown, network_reading
from nightlatch.readings.network import netplan as netplan_reading
from nightlatch.readings.network.network_reading import NetworkReading
from nightlatch.readings.network.profiles import Method, Profile, System

STARTED = (System.NETWORKD, System.MANAGER)
MOVABLE = (System.NETWORKD, System.MANAGER, System.IFUPDOWN)  # while they run
Wanted = dict[int, tuple[IPInterface, ...]]  # the addresses of one interface by family


@dataclass(frozen=True)
class AddressDraft:
    """The steps that give a guest the estate's addresses, and what is left to a person."""

    steps: tuple[AnyStep, ...] = ()
    left: tuple[ManualTask, ...] = ()


def moved(estate: Estate, snapshot: Snapshot) -> AddressDraft:
    """The steps for one guest, each interface proved by itself; nothing where the guest has what the estate gives it."""
    spec = estate.guests[snapshot.guest]
    steps: list[AnyStep] = []
    left: list[ManualTask] = []
    for name in dict.fromkeys(each.interface for each in spec.addresses):
        now = apply_all(snapshot, tuple(steps))
        reading = network_reading.read(now)
        wanted = _wanted(spec, name)
        if not _differs(reading, name, wanted):
            continue
        said = f"{name} should have {' and '.join(str(a) for found in wanted.values() for a in found)}, fixed."
        try:
            if spec.via.is_live:
                _may_move(spec, reading, name, bool(steps))
            made = _steps(estate, spec, now, reading, name, wanted, said)
            _prove(now, made, name, wanted)
        except CannotEditError as error:
            left.append(ManualTask(said, str(error)))
        else:
            steps += made
    return AddressDraft(tuple(steps), tuple(left))


def _may_move(spec: GuestSpec, reading: NetworkReading, name: str, other: bool) -> None:
    """Raise CannotEditError for a running guest whose interface can't be moved on the latch."""
    profiles = reading.profiles_of(name)
    system = profiles[0].system if profiles else None
    by_networkd = system is System.NETPLAN and reading.renderers.get(name) == "networkd"
    if not (system in MOVABLE or by_networkd) or not any(each.link.name == name for each in reading.live):
        raise CannotEditError(
            "only networkd, netplan over it, NetworkManager and ifupdown are moved while they run; use its console"
        )
    if not spec.host_keys:
        raise CannotEditError("no host key is pinned to know it again by; nightlatch meet first")
    if other:
        raise CannotEditError("one interface at a time; enact this draft first")


def _wanted(spec: GuestSpec, name: str) -> Wanted:
    """A family of which the estate says nothing stays as it is."""
    out: dict[int, list[IPInterface]] = {}
    for each in spec.addresses:
        if each.interface == name:
            out.setdefault(each.address.version, []).append(each.address)
    return {version: tuple(found) for version, found in out.items()}


def _stored(profiles: tuple[Profile, ...], version: int) -> set[IPInterface]:
    return {a.value for p in profiles if p.at_boot for a in p.addresses if a.value.version == version}


def _differs(reading: NetworkReading, name: str, wanted: Wanted) -> bool:
    profiles = reading.profiles_of(name)
    return any(
        _stored(profiles, version) != set(addresses) or any(p.has(Method.LEASED, version) for p in profiles)
        for version, addresses in wanted.items()
    )


def _steps(
    estate: Estate, spec: GuestSpec, snapshot: Snapshot, reading: NetworkReading, name: str, wanted: Wanted, why: str
) -> list[AnyStep]:
    profiles = reading.profiles_of(name)
    if len(profiles) > 1:
        raise CannotEditError(f"{len(profiles)} files configure {name}; let one of them have it first")
    if any(p.refused and p.interface == name for p in reading.profiles):
        raise CannotEditError(f"a file about {name} is ignored as it stands; mend that first")
    system = profiles[0].system if profiles else _system_for_new(reading)
    wishes: list[AddressWish] = []
    for version, addresses in wanted.items():
        wish = AddressWish(name, version, addresses, _gateway(estate, reading, name, version, addresses))
        wishes.append(wish if wishes else _with_servers(estate, reading, profiles, wish))
    if not profiles:
        return _new_file(spec, snapshot, system, tuple(wishes), why)
    return _edits(snapshot, profiles[0], tuple(wishes), why)


def _edits(snapshot: Snapshot, profile: Profile, wishes: tuple[AddressWish, ...], why: str) -> list[AnyStep]:
    """One step for each file that changes, all families of the interface together."""
    before = _files(snapshot, profile)
    files = dict(before)
    for wish in wishes:
        current = profile if files == before else _again(snapshot, files, profile)
        files.update(edited(current, files, wish))
    told = tuple(str(address) for wish in wishes for address in wish.addresses)
    out: list[AnyStep] = []
    for path, raw in files.items():
        if raw == before[path]:
            continue
        real = snapshot.resolve(path).path
        entry = snapshot.entries[real]
        if entry.reduced:
            raise CannotEditError(f"{path} holds secrets that were taken out on reading; edit it on the guest")
        out.append(SetAddress(real, why, False, wishes[0].interface, told, entry, raw))
        if profile.system is System.MANAGER and entry.mode & 0o077:
            out.append(SetMode(real, why, False, 0o600))
    return out


def _files(snapshot: Snapshot, profile: Profile) -> dict[str, bytes]:
    """The files that an edit of a profile may touch."""
    if profile.system is System.IFUPDOWN:
        paths = [path for path, _ in ifupdown.files(snapshot)]
    elif profile.system is System.NETPLAN:
        paths = [document.path for document in netplan_reading.documents(snapshot)]
    else:
        places = [profile.origin, *(m.origin for m in profile.methods), *(a.origin for a in profile.addresses)]
        paths = list(dict.fromkeys(place.path for place in places))
    return {path: snapshot.content(path) or b"" for path in paths}


def _again(snapshot: Snapshot, files: dict[str, bytes], profile: Profile) -> Profile:
    """The profile as it reads after the first family's edit, for its places have moved."""
    entries = {}
    for path, raw in files.items():
        real = snapshot.resolve(path).path
        entries[real] = replace(snapshot.entries[real], content=raw, size=len(raw))
    found = network_reading.read(snapshot.with_files(entries)).profiles
    return next(p for p in found if p.system is profile.system and p.interface == profile.interface)


def _gateway(
    estate: Estate, reading: NetworkReading, name: str, version: int, addresses: tuple[IPInterface, ...]
) -> IPAddress | None:
    """The gateway to write: none where a fitting one is written already, or another interface leads out; never a copied one."""
    ways = list(leading(reading, version))
    written = [g for p in reading.profiles_of(name) for g in p.gateways if g.address.version == version]
    if any(g.on_link or g.address.is_link_local or g.address in a.network for g in written for a in addresses):
        return None
    known = [g for n in _networks(estate, addresses) for g in n.gateways if any(g in a.network for a in addresses)]
    elsewhere = any(way.interface != name for way in ways)
    if written and (elsewhere or not known):
        raise CannotEditError(f"its gateway {written[0].address} lies outside of the new network; take it away by hand first")
    if elsewhere:
        return None
    if ways and not known:
        raise CannotEditError("it leads out by its lease, and the estate names no gateway; write gateway: under its network")
    return known[0] if known else None


def _networks(estate: Estate, addresses: tuple[IPInterface, ...]) -> Iterator[NetworkSpec]:
    for each in estate.networks.values():
        if any(each.subnet_of(address.ip) is not None for address in addresses):
            yield each


def _with_servers(estate: Estate, reading: NetworkReading, profiles: tuple[Profile, ...], wish: AddressWish) -> AddressWish:
    """Name servers are kept: those that only the lease brought are written down, as the estate names them."""
    leased = any(p.has(Method.LEASED, wish.version) and p.lease_names for p in profiles)
    written = any(p.servers for p in reading.counting) or bool(reading.resolved_servers)
    elsewhere = any(p.has(Method.LEASED) and p.lease_names and p not in profiles for p in reading.counting)
    fixed = any(not placed.value.is_loopback for placed in reading.resolvers) and not leased
    if written or elsewhere or fixed or not (leased or wish.gateway):
        return wish
    servers = tuple(dict.fromkeys(s for n in _networks(estate, wish.addresses) for s in n.servers))
    if not servers:
        raise CannotEditError("no name server would be written down; write name_servers: under its network in the estate file")
    return replace(wish, servers=servers)


def _system_for_new(reading: NetworkReading) -> System:
    """The one system that is started, for an interface that no file speaks of."""
    planned = any(p.system is System.NETPLAN for p in reading.counting)
    systems = [System.NETPLAN] if planned else [s for s in STARTED if reading.starts.get(s)]
    if len(systems) != 1:
        raise CannotEditError("no file speaks of it, and it is not known which system is to have it")
    return systems[0]


def _new_file(spec: GuestSpec, snapshot: Snapshot, system: System, wishes: tuple[AddressWish, ...], why: str) -> list[AnyStep]:
    """A file of its own, and the folder where that is missing."""
    path, content, mode = fresh(system, spec.name, wishes)
    entry = snapshot.entries.get(path)
    if entry is not None and entry.kind is not EntryKind.ABSENT:
        raise CannotEditError(f"{path} is there already")
    file = MakeFile(path, why, False, content, mode, 0, 0)
    folder = path.rpartition("/")[0]
    there = snapshot.resolve(folder).entry
    if there is not None and there.kind is EntryKind.FOLDER:
        return [file]
    return [MakeFolder(folder, why, False, 0o755, 0, 0), file]


def _prove(snapshot: Snapshot, steps: list[AnyStep], name: str, wanted: Wanted) -> None:
    """Raise CannotEditError unless the result, read again, is what was wanted and nothing else."""
    before, after = network_reading.read(snapshot), network_reading.read(apply_all(snapshot, tuple(steps)))
    profiles = after.profiles_of(name)
    for version, addresses in wanted.items():
        if _stored(profiles, version) != set(addresses) or any(p.has(Method.LEASED, version) for p in profiles):
            raise CannotEditError("read again, the files do not say what they should; edit them by hand")
        had, has = (len(list(leading(reading, version))) for reading in (before, after))
        if has > max(1, had):
            raise CannotEditError("a default route more would come up at boot")
        if had and not has:
            raise CannotEditError("no default route would be left")
    if len(profiles) != 1 or not profiles[0].at_boot:
        raise CannotEditError("read again, it is not one file that brings it up at boot")
    others = [[_told(p) for p in reading.profiles if p.interface != name] for reading in (before, after)]
    if others[0] != others[1] or len(_gaps(after)) > len(_gaps(before)):
        raise CannotEditError("more than this interface would change")


def _told(profile: Profile) -> tuple[object, ...]:
    """What a profile says, without its places."""
    return (
        profile.system,
        profile.interface,
        profile.match,
        tuple(a.value for a in profile.addresses),
        tuple(g.address for g in profile.gateways),
        {(m.version, m.method) for m in profile.methods},
        profile.at_boot,
        tuple(s.value for s in profile.servers),
    )


def _gaps(reading: NetworkReading) -> list[object]:
    return [*reading.gaps, *(gap for profile in reading.profiles for gap in profile.gaps)]
