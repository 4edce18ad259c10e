"""The guest's own packet filter: the rules that count for callers now, and those stored for the next boot, with their managers.

On a running guest the kernel's own list counts, no matter who made it; on one in a folder what its managers load at boot. A rule
set that plainly filters nothing is no gap.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from nightlatch.evidence.facts import Nft
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.model.gaps import Gap
from nightlatch.origin import Kind as OriginKind
from nightlatch.origin import Origin
from nightlatch.readings.filters import managers, unit_filters, wrapper
from nightlatch.readings.filters.managers import StoredRules
from nightlatch.readings.filters.places import NFT_LISTED
from nightlatch.readings.filters.rules import Chain, Rules
from nightlatch.readings.units.service_reading import ServiceReading

AREA = "packet filter"


@dataclass(frozen=True)
class FilterReading:
    """The rules that count for callers now, or from the next boot on where only files were read; `gaps` is what could not
    be read, `stored` what every manager has on disk, started at boot or not, `behind` what else stands before sshd: the filter of
    its unit, and libwrap; `units` are the filters of other units that listen."""

    rules: Rules | None = None
    gaps: tuple[Gap, ...] = ()
    stored: tuple[StoredRules, ...] = ()
    behind: tuple[Rules, ...] = ()
    units: dict[str, Rules] = field(default_factory=dict)

    @property
    def origin(self) -> Origin:
        """Where the rules that count were read."""
        if self.rules is not None and self.rules.chains:
            return next(iter(self.rules.chains.values())).origin
        return Origin(NFT_LISTED, kind=OriginKind.LISTING)

    @property
    def idle(self) -> tuple[StoredRules, ...]:
        """Rules that nothing loads at boot."""
        return tuple(each for each in self.stored if each.started is False)

    @property
    def booted(self) -> tuple[StoredRules, ...]:
        """Rules that the next boot loads."""
        return tuple(each for each in self.stored if each.started)


def read(snapshot: Snapshot, service: ServiceReading | None = None, *, wrapped: bool = False) -> FilterReading:
    """The filter of a snapshot; `service` is its SSH service, `wrapped` says that its sshd is linked with libwrap."""
    found, linked = _read(snapshot), wrapper.read(snapshot)
    of_unit = unit_filters.read(snapshot, service) if service is not None else None
    behind = tuple(rules for rules in (of_unit, linked if wrapped else None) if rules is not None)
    found = replace(found, behind=behind, units=unit_filters.of_others(snapshot, service) if service is not None else {})
    if linked is None or wrapped:
        return found
    because = "whether this sshd heeds hosts.allow and hosts.deny is not known"
    gap = Gap(wrapper.AREA, because, next(iter(linked.chains.values())).origin)
    return replace(found, gaps=(*found.gaps, gap))


def _read(snapshot: Snapshot) -> FilterReading:
    stored = managers.at_boot(snapshot)
    loaded = _loaded(snapshot)
    if loaded is not None:
        return FilterReading(loaded, (), stored)
    others = tuple(_unlisted(snapshot))
    # A running guest whose kernel was not asked may have other rules than it has stored.
    unsure = [each for each in stored if each.started is None or snapshot.is_live]
    if unsure:
        gaps = [Gap(AREA, "whether these rules are loaded is not known", each.place) for each in unsure]
        return FilterReading(None, (*gaps, *others), stored)
    loading = tuple(each for each in stored if each.started)
    return FilterReading(managers.together(loading) if loading else None, others, stored)


def _loaded(snapshot: Snapshot) -> Rules | None:
    """What the kernel has: tables that iptables made as iptables-save told them, all others as nft did, and beside them those of
    the older iptables; None where not all of that is known."""
    newer = _newer(snapshot)
    if newer is None:
        return None
    from nightlatch.readings.filters import iptables

    older = iptables.older(snapshot)
    if not (older.chains or older.gaps):
        return newer
    gaps = list(older.gaps)
    rewriting = [_rewrites(newer), _rewrites(older)]
    if all(rewriting):
        text = "the older iptables rewrites addresses, as other rules do; which comes first is not known"
        gaps.append(Gap(AREA, text, rewriting[1][0].origin))
    return Rules({**newer.chains, **older.chains}, (*newer.gaps, *gaps), {**newer.answers, **older.answers})


def _newer(snapshot: Snapshot) -> Rules | None:
    if "rules" not in snapshot.listings:
        return Rules() if snapshot.told.nft is Nft.NONE and snapshot.told.root else None
    from nightlatch.readings.filters import iptables, nftables

    listed, tables = nftables.loaded(snapshot), iptables.listed(snapshot)
    if listed is None or tables is None:
        return listed
    told = {key.rpartition(" ")[0] for key in tables.chains}
    kept, answers = (
        {key: chain for key, chain in chains.items() if key.rpartition(" ")[0] not in told}
        for chains in (listed.chains, listed.answers)
    )
    return Rules({**kept, **tables.chains}, listed.gaps, {**answers, **tables.answers})


def _rewrites(rules: Rules) -> list[Chain]:
    return [chain for chain in rules.chains.values() if chain.kind == "nat" and chain.hook == "prerouting" and chain.rules]


def _unlisted(snapshot: Snapshot) -> Iterator[Gap]:
    """Why a running guest's kernel did not tell its rules."""
    origin = Origin(NFT_LISTED, kind=OriginKind.LISTING)
    if "rules-refused" in snapshot.listings:
        yield Gap(AREA, "what the kernel holds was not listed: that takes root", origin)
    elif snapshot.told.nft is not None:
        needed = "the program nft, which is not there" if snapshot.told.nft is Nft.UNKNOWN else "root"
        yield Gap(AREA, f"what the kernel holds was not listed: that takes {needed}", origin)
