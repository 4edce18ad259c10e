"""Interfaces that NetworkManager gives to zones of firewalld: what is said from the files is what callers meet."""

from __future__ import annotations

import itertools
import random
from collections.abc import Callable
from dataclasses import replace

import pytest

from nightlatch.evidence.always import FIREWALLD_SERVICES
from nightlatch.evidence.snapshot import from_files
from nightlatch.lab.image import Account
from nightlatch.lab.labs import Lab
from nightlatch.lab.machine import Guest
from nightlatch.readings.filters import firewalld, places
from tests.judges import filters
from tests.judges.filter_wire import TRIES, Tally, wired

pytestmark = pytest.mark.judge("unshare", "nsenter", "ip", "systemctl", "firewall-cmd", "nmcli", root=True)
PROFILE = "/etc/NetworkManager/system-connections/pier.nmconnection"
PIER = f"""[connection]
id=pier
uuid=7f1d0c52-3a86-4e0b-9c55-0d6f2a9be022
type=ethernet
interface-name=eth0
%s
[ipv4]
method=manual
address1={filters.HERE4}/8

[ipv6]
method=manual
address1={filters.HERE6}/32
"""
POLICY = """<policy target="DROP"><ingress-zone name="%s"/><egress-zone name="HOST"/></policy>
"""
STARTED = {"/usr/sbin/NetworkManager": b"", "/etc/systemd/system/multi-user.target.wants/NetworkManager.service": b""}
# A unit that is started more than five times in ten seconds is not started again (systemd.unit(5), StartLimitBurst).
BEGUN = """
systemctl stop NetworkManager firewalld
systemctl reset-failed NetworkManager firewalld
ip addr flush dev eth0
ip link set eth0 down
rm -rf /run/NetworkManager
for each in %s; do systemctl start $each; done
nm-online -q -t 20
for try in $(seq 100); do
    [ "$(nmcli -g GENERAL.STATE device show eth0)" = '100 (connected)' ] && [ -n "$(ip -6 addr show dev eth0 -tentative scope global)" ] && break
    sleep 0.1
done
firewall-cmd --get-active-zones
"""
# The connection's zone, and the one whose own file names the interface.
ZONES = list(itertools.product(("", "trusted", "drop", "nowhere"), ("", "trusted", "drop")))


def paths(guest: Guest, *words: str) -> list[str]:
    return guest.inside("find", *words, check=False).split()


def test_zones_of_connections_are_those_that_callers_meet(tell: Callable[[str], None]) -> None:
    tally = Tally()
    with Lab() as lab:
        lab.network("wire")
        guest = lab.guest("gauge", {"wire": []})
        guest.image.base("gauge")
        guest.image.accounts([Account("keeper", 1000)])
        guest.image.units("NetworkManager.service", "firewalld.service")
        guest.image.write("/etc/NetworkManager/NetworkManager.conf", "[main]\nplugins=keyfile\n")
        guest.image.write(PROFILE, PIER % "", 0o600)
        guest.boot()
        with wired(lab, guest) as wire:
            for seed, (connection, written) in enumerate(ZONES):
                dice = random.Random(seed)
                held = {PROFILE: PIER % (f"zone={connection}" if connection else "")}
                if written:
                    shipped = guest.inside("cat", f"/usr/lib/firewalld/zones/{written}.xml")
                    held[f"/etc/firewalld/zones/{written}.xml"] = shipped.replace("</zone>", '<interface name="eth0"/></zone>')
                if dice.random() < 0.4:
                    held["/etc/firewalld/policies/own.xml"] = POLICY % dice.choice(("public", "trusted"))
                guest.inside(
                    "sh",
                    "-c",
                    "rm -rf /etc/firewalld/zones /etc/firewalld/policies; mkdir /etc/firewalld/zones /etc/firewalld/policies",
                )
                for path, text in held.items():
                    guest.inside("sh", "-c", f"umask 077; cat >{path}", stdin=text)
                order = dice.choice(("firewalld NetworkManager", "NetworkManager firewalld"))
                active = guest.inside("sh", "-s", stdin=BEGUN % order, timeout=120)
                shipped_files = (
                    *paths(guest, "/usr/lib/firewalld/zones", "-name", "*.xml"),
                    places.FIREWALLD,
                    *FIREWALLD_SERVICES,
                )
                files = {path: text.encode() for path, text in held.items()} | STARTED
                files |= {path: guest.inside("cat", path).encode() for path in shipped_files}
                snapshot = from_files("gauge", files)
                entries = {**snapshot.entries, PROFILE: replace(snapshot.entries[PROFILE], mode=0o600, uid=0)}
                rules = firewalld.stored(replace(snapshot, entries=entries))
                assert rules.gaps == ()
                told = "\n".join([active, *(f"{path}\n{text}" for path, text in held.items())])
                tally.hold(rules, wire, wire.tried(TRIES), f"seed {seed}, {order}\n{told}")
    tell(f"zones: {len(ZONES)} pairs of connection and zone, as callers met them: {tally.counts}")
    assert not tally.open
