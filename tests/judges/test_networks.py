"""Network settings: what we read of them against what netplan, ifup and NetworkManager make of the same files."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Callable
from ipaddress import ip_interface
from pathlib import Path

import pytest

from nightlatch.evidence.snapshot import from_files
from nightlatch.formats import netplan
from nightlatch.readings.network import ifupdown, keyfiles, networkd
from nightlatch.readings.network import netplan as netplan_reading
from nightlatch.readings.network.profiles import Method, Profile
from tests.budget import cases
from tests.judges import networks

ROUNDS = cases(40, 400)


def told(profile: Profile, *, metrics: bool = True) -> dict[str, object]:
    """What a profile says, without its places and without the order of lists that no system keeps."""
    return {
        "name": profile.interface,
        "hardware": profile.match.hardware,
        "methods": sorted({(m.version, m.method.value) for m in profile.methods if m.method is not Method.STATIC}),
        "addresses": sorted({str(each.value) for each in profile.addresses}),
        "gateways": sorted({(str(each.address), each.metric if metrics else None) for each in profile.gateways}, key=str),
        "routes": sorted({(each.to, str(each.via)) for each in profile.routes}),
        "servers": [str(each.value) for each in profile.servers],
        "boot": profile.at_boot,
    }


def run(*words: str, stdin: str | None = None) -> subprocess.CompletedProcess[str]:
    return subprocess.run(words, input=stdin, capture_output=True, text=True, timeout=60, check=False)


@pytest.mark.judge("netplan")
def test_merging_as_netplan_get_and_meaning_as_netplan_generate(tmp_path: Path, tell: Callable[[str], None]) -> None:
    interfaces = 0
    for seed in range(ROUNDS):
        dice = networks.Dice(seed)
        root = tmp_path / str(seed)
        files = networks.netplan(dice)
        for path, text in files.items():
            target = root / path.lstrip("/")
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_text(text)
            target.chmod(0o600)
        snapshot = from_files("x", {path: text.encode() for path, text in files.items()})
        ours, gaps = netplan_reading.read(netplan_reading.documents(snapshot))
        assert not gaps, seed
        got = run("netplan", "get", "--root-dir", str(root))
        assert got.returncode == 0, (seed, got.stderr)
        theirs, _ = netplan_reading.read([netplan.parse(got.stdout.encode(), "/etc/netplan/merged.yaml")])
        assert [told(p) for p in sorted(ours, key=lambda p: p.interface)] == [
            told(p) for p in sorted(theirs, key=lambda p: p.interface)
        ], (seed, files)
        interfaces += _generated(root, ours, seed, files)
    tell(f"netplan: {ROUNDS} sets of files, {interfaces} interfaces, merged as netplan get, meant as netplan generate")


def _generated(root: Path, ours: tuple[Profile, ...], seed: int, files: dict[str, str]) -> int:
    done = run("netplan", "generate", "--root-dir", str(root))
    assert done.returncode == 0, (seed, done.stderr)
    written = {
        f"/run/systemd/network/{each.name}": each.read_bytes() for each in (root / "run/systemd/network").glob("*.network")
    }
    by_name = {p.interface or p.match.hardware[0]: p for p in networkd.generated(from_files("x", written))}
    for profile in ours:
        found = by_name.get(profile.interface) or by_name[profile.match.hardware[0]]
        left, right = told(profile), told(found)
        for key in ("addresses", "gateways", "servers", "boot"):
            assert left[key] == right[key], (seed, profile.interface, key, files)
        for method in (Method.LEASED, Method.LINK_LOCAL, Method.ANNOUNCED):
            for version in (4, 6):
                assert profile.has(method, version) is found.has(method, version), (
                    seed,
                    profile.interface,
                    method,
                    files,
                )
    return len(ours)


BAD_NETPLAN = [
    ("tab", "network:\n  version: 2\n  ethernets:\n\teth0: {dhcp4: true}\n", 4),
    ("no prefix", "network:\n  version: 2\n  ethernets:\n    eth0:\n      addresses: [10.0.0.4]\n", 5),
    ("no mapping", "network:\n  version: 2\n  ethernets:\n    eth0: dhcp4: true\n", 4),
]


@pytest.mark.judge("netplan")
@pytest.mark.parametrize(("text", "line"), [case[1:] for case in BAD_NETPLAN], ids=[case[0] for case in BAD_NETPLAN])
def test_what_netplan_refuses_is_told_with_its_line(text: str, line: int, tmp_path: Path) -> None:
    target = tmp_path / "etc/netplan/01-x.yaml"
    target.parent.mkdir(parents=True)
    target.write_text(text)
    assert run("netplan", "generate", "--root-dir", str(tmp_path)).returncode != 0
    profiles, gaps = netplan_reading.read([netplan.parse(text.encode(), "/etc/netplan/01-x.yaml")])
    gaps += tuple(gap for profile in profiles for gap in profile.gaps)
    assert [gap.origin.line for gap in gaps] == [line]
    assert "expected" in gaps[0].because


@pytest.mark.judge("ifup", "ifquery")
def test_stanzas_as_ifup_reads_them(tmp_path: Path, tell: Callable[[str], None]) -> None:
    count = 0
    for seed in range(ROUNDS):
        dice = networks.Dice(seed)
        files = networks.interfaces(dice)
        root = tmp_path / str(seed)
        for path, text in files.items():
            target = root / path.rpartition("/etc/network/")[2]
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_text(text.replace("/etc/network/", f"{root}/"))
        profiles, gaps = ifupdown.read(from_files("x", {path: text.encode() for path, text in files.items()}))
        assert not gaps, (seed, gaps, files)
        # What is told beside is an address without its length, and nothing else.
        bare = {p.interface for p in profiles if any("has no prefix length: ifup takes" in g.because for g in p.gaps)}
        assert bare == {p.interface for p in profiles if p.gaps}, (seed, files)
        main = str(root / "interfaces")
        at_boot = {
            name for kind in ((), ("--allow", "hotplug")) for name in run("ifquery", "-i", main, "--list", *kind).stdout.split()
        }
        assert {p.interface for p in profiles if p.at_boot} == at_boot - {"lo"}, (seed, files)
        for profile in profiles:
            count += 1
            done = run("ifup", "--no-act", "-v", "--force", "-i", main, "--state-dir", str(root), profile.interface)
            text = done.stderr + done.stdout
            # ifup writes a netmask as it was given: dotted, as a length, or the one of the address's class.
            theirs = {str(ip_interface(found)) for found in re.findall(r"ip (?:-6 )?addr add (\S+)", text)}
            assert {str(a.value) for a in profile.addresses} == theirs, (seed, profile.interface, text, files)
            routes = set(re.findall(r"route (?:add|replace|append) default via (\S+)", text))
            assert {str(g.address) for g in profile.gateways} == routes, (seed, profile.interface, text, files)
            leased = (
                bool(re.search(r"(?m)^\s*(?:CLIENT=\S+;\s+)?(?:/sbin/)?(?:dhclient -4|udhcpc|dhcpcd|No DHCP client)", text))
                or "DHCP client" in text
            )
            assert profile.has(Method.LEASED, 4) is leased, (seed, profile.interface, text)
    tell(f"ifupdown: {ROUNDS} sets of files, {count} interfaces, as ifup and ifquery have them")


@pytest.mark.judge("nmcli")
def test_profiles_as_networkmanager_reads_them(tell: Callable[[str], None]) -> None:
    """nmcli --offline reads a profile and writes it anew, in one spelling: both must say the same to us."""
    for seed in range(2 * ROUNDS):
        text = networks.keyfile(networks.Dice(seed), seed)
        done = run("nmcli", "--offline", "connection", "modify", "connection.lldp", "1", stdin=text)
        assert done.returncode == 0, (seed, done.stderr, text)
        ours, theirs = (keyfiles.profile(each.encode(), "/x") for each in (text, done.stdout))
        assert told(ours) == told(theirs), (seed, text, done.stdout)
        assert ours.lease_names is theirs.lease_names, (seed, text)
    tell(f"NetworkManager: {2 * ROUNDS} profiles, as nmcli reads them")


@pytest.mark.judge("nmcli")
@pytest.mark.parametrize("text", ["[connection]\nid=x\njunk\n", "id=x\n[connection]\ntype=ethernet\n", "[connection\nid=x\n"])
def test_what_networkmanager_refuses_is_refused(text: str) -> None:
    assert run("nmcli", "--offline", "connection", "modify", "connection.lldp", "1", stdin=text).returncode != 0
    assert keyfiles.profile(text.encode(), "/x").refused
