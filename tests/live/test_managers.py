"""Managers of filters as the real programs in a running guest: what is said from their files is what callers meet."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import pytest

from nightlatch.evidence.always import FIREWALLD_SERVICES, FOLDERS
from nightlatch.evidence.snapshot import from_files
from nightlatch.formats import rule_loads
from nightlatch.lab.image import Account
from nightlatch.lab.labs import Lab
from nightlatch.lab.machine import Guest
from nightlatch.readings.filters import firewalld, firewalld_direct, ifup_rules, iptables, managers, nftables, places, ufw
from nightlatch.readings.filters.managers import StoredRules
from tests.budget import cases
from tests.judges import filters, iptables_filters
from tests.judges.filter_wire import HERE, TRIES, Tally, Wire, wired

pytestmark = pytest.mark.judge(
    "unshare", "nsenter", "ip", "systemctl", "ufw", "firewall-cmd", "iptables-restore", "ifup", root=True
)
UFW_FILES = (*ufw.FILES, places.UFW_SWITCH, ufw.DEFAULTS)


@dataclass
class Managed:
    """A guest with managers in it, and the callers around it."""

    guest: Guest
    wire: Wire

    def held(self, paths: tuple[str, ...]) -> dict[str, bytes]:
        """Files of the guest, as they are now."""
        told = """for each; do [ ! -f "$each" ] || { printf '\\n@@ %s\\n' "$each"; cat "$each"; }; done"""
        parts = [part.partition("\n") for part in self.guest.inside("sh", "-c", told, "sh", *paths).split("\n@@ ")[1:]]
        return {name: text.encode() for name, _, text in parts}


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
    guest, tally, rounds = managed.guest, Tally(), cases(8, 80)
    start = managed.held(UFW_FILES)
    app = "[OpenSSH]\ntitle=Shell\ndescription=Shell\nports=22/tcp\n"
    guest.inside("sh", "-c", "cat >/etc/ufw/applications.d/shell", stdin=app)
    for seed in range(rounds):
        dice = random.Random(seed)
        lines = [f"ufw {ufw_words(dice)} || :" for _ in range(dice.randint(2, 7))]
        policy = dice.choice(("deny", "deny", "reject", "allow"))
        outward = dice.choice(("allow", "allow", "deny", "reject"))
        six = dice.choice(("yes", "yes", "yes", "no"))
        for path, raw in start.items():
            guest.inside("sh", "-c", f"cat >{path}", stdin=raw)
        guest.inside("sed", "-i", f"s/^IPV6=.*/IPV6={six}/", ufw.DEFAULTS)
        defaults = [f"ufw default {policy}", f"ufw default {outward} outgoing"]
        script = "\n".join([*defaults, *lines, "ufw --force enable"])
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


INTERFACES = "auto lo\niface lo inet loopback\n"
RESTORED = ("iptables-restore < /etc/iptables.up.rules", "ip6tables-restore </etc/ip6tables.up.rules || true")
SCRIPT = "/etc/network/if-pre-up.d/rules"
LOADED = ("/etc/network/interfaces", SCRIPT, "/etc/iptables.up.rules", "/etc/ip6tables.up.rules", iptables.SET_FILES[0])


def test_what_ifupdown_loads_is_what_callers_meet(managed: Managed, tell: Callable[[str], None]) -> None:
    """By lines of its file, and by a script beside it, as the real ifup runs them."""
    guest, tally, rounds, refused = managed.guest, Tally(), cases(8, 80), 0
    guest.inside("ipset", "restore", stdin=iptables_filters.IPSETS)
    guest.inside("mkdir", "-p", *rule_loads.FOLDERS)
    for seed in range(rounds):
        lines = "".join(f"    pre-up {command}\n" for command in (RESTORED if seed % 2 else ()))
        script = "\n".join(["#!/bin/sh", "set -e", *(() if seed % 2 else RESTORED), ""])
        rules4, rules6 = (iptables_filters.ruleset(seed, version) for version in ("4", "6"))
        texts = (INTERFACES + lines, script, rules4, rules6, iptables_filters.IPSETS)
        for path, text in zip(LOADED, texts, strict=True):
            guest.inside("sh", "-c", f"mkdir -p {path.rpartition('/')[0]} && cat >{path} && chmod 755 {path}", stdin=text)
        snapshot = from_files("gauge", managed.held(LOADED))
        entries = {**snapshot.entries, SCRIPT: replace(snapshot.entries[SCRIPT], mode=0o755)}
        loads = ifup_rules.read(replace(snapshot, entries=entries))
        assert [each.started for each in loads] == [True, True]
        rules = managers.together(tuple(StoredRules("ifupdown", each.origin, "", True, each.rules) for each in loads))
        try:
            if rules.gaps:  # one that iptables-restore refuses
                refused += 1
                continue
            guest.inside("ifup", "--force", "lo")
            tally.hold(rules, managed.wire, managed.wire.tried(TRIES), f"seed {seed}\n" + "\n".join(texts))
        finally:
            guest.inside("sh", "-c", f"nft flush ruleset; rm -f {SCRIPT}")
    guest.inside("ipset", "destroy")
    tell(f"ifupdown: {rounds - refused} pairs of files that it loads, as callers met them: {tally.counts}")
    assert refused < rounds / 2


FIREWALLD_FOLDERS = tuple(each for each in FOLDERS if "/firewalld/" in each)


def firewalld_words(dice: random.Random) -> list[str]:
    """Changes in firewall-cmd's own words."""
    zones = ("public", "work", "home", "drop", "trusted", "block")
    out = []
    for source in dice.sample(
        ("10.1.0.0/16", "10.1.0.5", "10.2.0.0/16", "2001:db8:0:1::/64", "2001:db8:0:1::5", "ipset:desk"),
        dice.randint(1, 4),
    ):
        out.append(f"--zone={dice.choice(zones)} --add-source={source}")
    if dice.random() < 0.5:
        out.append(f"--zone={dice.choice(zones)} --add-interface={dice.choice(('eth0', 'eth+'))}")
    for _ in range(dice.randint(1, 5)):
        zone = dice.choice(("public", "public", "work", "home"))
        out.append(
            f"--zone={zone} "
            + dice.choice(
                (
                    "--add-service=http",
                    "--add-port=2222/tcp",
                    "--add-port=20-90/tcp",
                    "--remove-service=ssh",
                    "--add-service=depth",
                    "--add-forward-port=port=8022:proto=tcp:toport=22",
                    "--set-target=ACCEPT",
                    "--set-target=DROP",
                    "--add-protocol=tcp",
                    "--add-source-port=1024-65535/tcp",
                )
            )
        )
    for _ in range(dice.randint(0, 4)):
        rule = "rule " + dice.choice(("", "", f"priority={dice.choice((-5, -3, 4, 9))} "))
        four = dice.random() < 0.6
        rule += f"family={'ipv4' if four else 'ipv6'} "
        if dice.random() < 0.8:
            found = ("10.1.0.0/24", "10.200.0.1", "10.2.0.0/15") if four else ("2001:db8:0:2::/64", "2001:db8::2")
            rule += f"source {dice.choice(('', '', 'NOT '))}address={dice.choice(found)} "
        if dice.random() < 0.2:
            rule += f"destination address={filters.HERE4 if four else filters.HERE6} "
        rule += dice.choice(
            (
                "service name=ssh ",
                "port port=80 protocol=tcp ",
                "port port=20-90 protocol=tcp ",
                "protocol value=tcp ",
                "service name=depth ",
            )
        )
        rule += dice.choice(("accept", "accept", "drop", "reject", "log accept", "accept limit value=90/s"))
        out.append(f"--zone={dice.choice(('public', 'work', 'home'))} --add-rich-rule='{rule}'")
    if dice.random() < 0.4:
        zone, target = dice.choice(("ANY", "work", "public")), dice.choice(("CONTINUE", "CONTINUE", "REJECT", "ACCEPT"))
        out += [
            "--new-policy=own",
            f"--policy=own --add-ingress-zone={zone}",
            "--policy=own --add-egress-zone=HOST",
            *dice.choice(((), ("--policy=own --set-priority=-7",), ("--policy=own --set-priority=7",))),
            f"--policy=own --set-target={target}",
            f"--policy=own {dice.choice(('--add-service=ssh', '--add-port=80/tcp', '--add-rich-rule=rule port port=22 protocol=tcp drop'))}",
        ]
    return out


def direct_words(dice: random.Random) -> list[str]:
    """Direct rules, as a third of all sets has them."""
    out = ["--direct --add-chain ipv4 filter own"] if dice.random() < 0.3 else []
    for _ in range(dice.choice((0, 0, 0, 0, 1, 2, 4))):
        version = dice.choice("46")
        sources = (
            ("10.1.0.0/16", "10.2.0.0/15,10.1.0.5", "10.200.0.1") if version == "4" else ("2001:db8:0:1::/64", "2001:db8::2")
        )
        words = f"{dice.choice(('', '! '))}-s {dice.choice(sources)}".replace(
            "! -s 10.2.0.0/15,10.1.0.5", "-s 10.2.0.0/15,10.1.0.5"
        )
        words += f" -p tcp --dport {dice.choice(('22', '80', '20:90'))} -j "
        if dice.random() < 0.25:
            out.append(
                f"--direct --add-passthrough ipv{version} {dice.choice(('-A', '-I'))} INPUT {words.replace(',10.1.0.5', '')}{dice.choice(('DROP', 'ACCEPT'))}"
            )
            continue
        own = bool(out) and "add-chain" in out[0] and version == "4"
        chain = dice.choice(("INPUT", "INPUT", "INPUT_direct", *(("own",) if own else ())))
        target = dice.choice(("DROP", "DROP", "ACCEPT", "REJECT", *(("own",) if own and chain != "own" else ())))
        out.append(f"--direct --add-rule ipv{version} filter {chain} {dice.choice((0, 0, 1, -3))} {words}{target}")
    return out


def test_what_firewalld_holds_is_what_callers_meet(managed: Managed, tell: Callable[[str], None]) -> None:
    guest, tally, listed, rounds, direct = managed.guest, Tally(), Tally(), cases(9, 90), 0
    guest.inside("systemctl", "start", "firewalld", timeout=60)
    own = '<?xml version="1.0"?>\n<service><port protocol="tcp" port="2222"/><port protocol="udp" port="7"/><include service="http"/></service>\n'
    for seed in range(rounds):
        dice = random.Random(seed)
        rpfilter = dice.choice(("yes", "no"))
        guest.inside(
            "sh",
            "-c",
            f"rm -rf /etc/firewalld/*/* /etc/firewalld/direct.xml && sed -i 's/^IPv6_rpfilter=.*/IPv6_rpfilter={rpfilter}/' {places.FIREWALLD} && cat >/etc/firewalld/services/depth.xml",
            stdin=own,
        )
        script = "\n".join(
            [
                "firewall-cmd --reload",
                "p='firewall-cmd -q --permanent'",
                "$p --new-ipset=desk --type=hash:net",
                "$p --ipset=desk --add-entry=10.2.7.0/24",
                *(f"$p {words} || :" for words in (*firewalld_words(dice), *direct_words(dice))),
                "systemctl reset-failed firewalld",  # or it is not started more than five times in ten seconds
                "systemctl restart firewalld",
                "firewall-cmd --state",
            ]
        )
        guest.inside("sh", "-s", stdin=script, timeout=120)
        names = guest.inside(
            "find",
            *(
                each
                for each in FIREWALLD_FOLDERS
                if each.startswith("/usr") or guest.inside("sh", "-c", f"[ ! -d {each} ] || echo yes").strip()
            ),
            "-name",
            "*.xml",
        ).split()
        shipped = FIREWALLD_SERVICES
        held = managed.held((places.FIREWALLD, firewalld_direct.PATH, *names, *shipped))
        rules = firewalld.stored(from_files("gauge", held))
        assert rules.gaps == (), script
        found = managed.wire.tried(TRIES)
        told = "\n".join(text.decode() for name, text in held.items() if name.startswith("/etc/firewalld/"))
        rules_of = guest.inside("nft", "list", "ruleset")
        tally.hold(rules, managed.wire, found, f"seed {seed}\n{script}\n{told}")
        direct += firewalld_direct.PATH in held
        loaded = nftables.loaded(replace(from_files("x", {}), listings={"rules": rules_of.encode()}))
        assert loaded is not None
        listed.hold(loaded, managed.wire, found, f"seed {seed}, as nft lists them\n{script}\n{rules_of}")
    guest.inside("systemctl", "stop", "firewalld")
    guest.inside("nft", "flush", "ruleset")
    assert direct > rounds / 4
    tell(f"firewalld: {rounds} sets of its own words, as callers met them: {tally.counts}; as nft lists them: {listed.counts}")
    assert not tally.open | listed.open
