"""Managers of filters as the real programs in a running guest: what is said from their files is what callers meet."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import pytest

from nightlatch.evidence.snapshot import from_files
from nightlatch.lab.image import Account
from nightlatch.lab.labs import Lab
from nightlatch.lab.machine import Guest
from nightlatch.readings import ufw
from tests.judges import filters
from tests.judges.filter_wire import HERE, TRIES, Tally, Wire, wired

pytestmark = pytest.mark.judge("unshare", "nsenter", "ip", "systemctl", "ufw", "iptables-restore", root=True)
UFW_FILES = (*ufw.FILES, ufw.SWITCH, ufw.DEFAULTS)


@dataclass
class Managed:
    """A guest with managers in it, and the callers around it."""

    guest: Guest
    wire: Wire

    def held(self, paths: tuple[str, ...]) -> dict[str, bytes]:
        """Files of the guest, as they are now."""
        found = self.guest.inside(
            "sh", "-c", 'for each; do [ ! -f "$each" ] || { echo "@@ $each"; cat "$each"; }; done', "sh", *paths
        )
        parts = [part.partition("\n") for part in ("\n" + found).split("\n@@ ")[1:]]
        return {name: (text if text.endswith("\n") else f"{text}\n").encode() for name, _, text in parts}


@pytest.fixture(scope="module")
def managed() -> Iterator[Managed]:
    with Lab() as lab:
        lab.network("wire")
        guest = lab.guest("gauge", HERE)
        guest.image.base("gauge")
        guest.image.accounts([Account("keeper", 1000)])
        guest.image.units()
        guest.boot()
        with wired(lab, guest) as wire:
            yield Managed(guest, wire)


def ufw_words(dice: random.Random) -> str:
    """One rule in ufw's own words."""
    verb = dice.choice(("allow", "allow", "allow", "deny", "reject", "limit"))
    version = dice.choice("446")
    sources = filters.CALLERS4 if version == "4" else filters.CALLERS6
    source = dice.choice(("any", "any", dice.choice(sources), "10.1.0.0/16" if version == "4" else "2001:db8:0:1::/64"))
    target = dice.choice(("any", "any", "any", filters.HERE4 if version == "4" else filters.HERE6))
    port = dice.choice(("22", "80", "2222", "22,80", "20:90"))
    inward = dice.choice(("", "", "in on eth0 "))
    place = "prepend " if dice.random() < 0.2 else ""
    kind = dice.random()
    if kind < 0.2:
        return f"{place}{verb} {dice.choice(('OpenSSH', 'ssh', '22/tcp', '80/tcp'))}"
    ports = "" if kind < 0.35 and verb != "limit" else f" port {port} proto tcp"
    return f"{place}{verb} {inward}from {source} to {target}{ports}"


def test_what_ufw_holds_is_what_callers_meet(managed: Managed, tell: Callable[[str], None]) -> None:
    guest, tally, rounds = managed.guest, Tally(), 12
    start = managed.held(UFW_FILES)
    app = "[OpenSSH]\ntitle=Shell\ndescription=Shell\nports=22/tcp\n"
    guest.inside("sh", "-c", "cat >/etc/ufw/applications.d/shell", stdin=app)
    for seed in range(rounds):
        dice = random.Random(seed)
        lines = [f"ufw {ufw_words(dice)} || :" for _ in range(dice.randint(2, 7))]
        policy = dice.choice(("deny", "deny", "reject", "allow"))
        six = dice.choice(("yes", "yes", "yes", "no"))
        for path, raw in start.items():
            guest.inside("sh", "-c", f"cat >{path}", stdin=raw)
        guest.inside("sed", "-i", f"s/^IPV6=.*/IPV6={six}/", ufw.DEFAULTS)
        script = "\n".join([f"ufw default {policy}", *lines, "ufw --force enable"])
        try:
            guest.inside("sh", "-s", stdin=script)
            held = managed.held(UFW_FILES)
            snapshot = from_files("gauge", held)
            assert ufw.is_on(snapshot) is not None
            rules = ufw.stored(snapshot)
            assert rules.gaps == ()
            tally.hold(
                rules,
                managed.wire,
                managed.wire.tried(TRIES),
                f"seed {seed}, IPV6={six}\n{script}\n{held['/etc/ufw/user.rules'].decode()}",
            )
        finally:
            guest.inside("ufw", "disable")
    tell(f"ufw: {rounds} sets of its own words, as callers met them: {tally.counts}")
    assert not tally.open
    assert ufw.is_on(from_files("gauge", managed.held(UFW_FILES))) is None
