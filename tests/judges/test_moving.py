"""Drafted addresses: on random settings of every system, the real program must see exactly what the draft says it gives."""

from __future__ import annotations

import re
from collections.abc import Callable
from ipaddress import ip_interface
from pathlib import Path

import pytest

from nightlatch.draft.addresses import AddressDraft, moved
from nightlatch.draft.steps import apply_all
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot, from_files
from nightlatch.readings.network import keyfiles, networkd
from nightlatch.readings.network.profiles import Method
from tests.budget import cases
from tests.judges import networks
from tests.judges.test_networks import run

ROUNDS = cases(40, 400)
WANTED = "172.30.1.9/24"
WANTED_6 = "2001:db8:ffff::9/64"
HEAD = """\
nightlatch: 1
estate: Tests
networks: {isle: {subnet: [172.30.1.0/24, "2001:db8:ffff::/64"], gateway: [172.30.1.1, "2001:db8:ffff::1"], name_servers: [172.30.1.53]}}
"""


@pytest.fixture(scope="module")
def wish(tmp_path_factory: pytest.TempPathFactory) -> Callable[[str, int], Estate]:
    """An estate that gives one interface of the guest addresses: of IPv4 always, of IPv6 for every second seed."""
    folder = tmp_path_factory.mktemp("wish")

    def make(interface: str, seed: int) -> Estate:
        addresses = f'{WANTED}, "{WANTED_6}"' if seed % 2 else WANTED
        path = folder / "estate.yaml"
        path.write_text(f"{HEAD}guests: {{x: {{via: {{folder: x}}, addresses: {{{interface}: [{addresses}]}}}}}}\n")
        return load(path)

    return make


def wanted(seed: int) -> set[str]:
    return {WANTED, WANTED_6} if seed % 2 else {WANTED}


def given(estate: Estate, snapshot: Snapshot) -> tuple[AddressDraft, dict[str, bytes]]:
    """The draft, and the files after it; done twice, it changes nothing the second time."""
    made = moved(estate, snapshot)
    after = apply_all(snapshot, made.steps)
    if made.steps:
        assert not moved(estate, after).steps
    return made, {path: entry.content for path, entry in after.entries.items() if entry.content is not None}


def lay(root: Path, files: dict[str, bytes], top: str = "/") -> None:
    for path, raw in files.items():
        target = root / path.removeprefix(top)
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(raw)
        target.chmod(0o600)


@pytest.mark.judge("netplan")
def test_netplan_generates_what_was_drafted(
    tmp_path: Path, wish: Callable[[str, int], Estate], tell: Callable[[str], None]
) -> None:
    drafted = 0
    for seed in range(ROUNDS):
        dice = networks.Dice(seed)
        files = {path: text.encode() for path, text in networks.netplan(dice).items()}
        name = dice.one("eth0", "eth1", "eth2", "eth3")
        made, after = given(wish(name, seed), from_files("x", {**files, "/usr/sbin/netplan": b"", "/etc/hostname": b"x\n"}))
        if not made.steps:
            assert made.left, seed
            continue
        drafted += 1
        root = tmp_path / str(seed)
        lay(root, {path: raw for path, raw in after.items() if "/netplan/" in path and path.endswith(".yaml")})
        done = run("netplan", "generate", "--root-dir", str(root))
        assert done.returncode == 0, (seed, done.stderr)
        written = {f"/run/systemd/network/{p.name}": p.read_bytes() for p in (root / "run/systemd/network").glob("*.network")}
        found = [p for p in networkd.generated(from_files("x", written)) if p.match.fits(name, f"52:54:00:00:00:0{name[-1]}")]
        (profile,) = [p for p in found if p.interface == name or p.match.hardware]
        version = {4, 6} if seed % 2 else {4}
        got = {str(a.value) for a in profile.addresses if a.value.version in version}
        assert got == wanted(seed), (seed, files, after)
        assert not any(profile.has(Method.LEASED, v) for v in version), (seed, after)
        for path, raw in files.items():
            assert after[path].count(b"#") == raw.count(b"#"), "comments stay"
    assert drafted > ROUNDS / 4
    tell(f"drafted addresses: netplan {drafted} of {ROUNDS}, the others left with a reason")


@pytest.mark.judge("ifup", "ifquery")
def test_ifup_sets_what_was_drafted(tmp_path: Path, wish: Callable[[str, int], Estate], tell: Callable[[str], None]) -> None:
    drafted = 0
    started = {"/sbin/ifup": b"", "/etc/systemd/system/multi-user.target.wants/networking.service": b""}
    for seed in range(ROUNDS):
        files = {path: text.encode() for path, text in networks.interfaces(networks.Dice(seed)).items()}
        made, after = given(wish("eth0", seed), from_files("x", {**files, **started}))
        if not made.steps:
            assert made.left, seed
            continue
        drafted += 1
        root = tmp_path / str(seed)
        mine = {
            p: raw.replace(b"/etc/network/", f"{root}/".encode()) for p, raw in after.items() if p.startswith("/etc/network/")
        }
        lay(root, mine, "/etc/network/")
        main = str(root / "interfaces")
        names = {n for kind in ((), ("--allow", "hotplug")) for n in run("ifquery", "-i", main, "--list", *kind).stdout.split()}
        assert "eth0" in names, (seed, after)
        done = run("ifup", "--no-act", "-v", "--force", "-i", main, "--state-dir", str(root), "eth0")
        text = done.stderr + done.stdout
        got = {str(ip_interface(a)) for a in re.findall(r"ip (?:-6 )?addr add (\S+)", text)}
        assert {a for a in got if seed % 2 or ":" not in a} == wanted(seed), (seed, text, after)
        assert "DHCP client" not in text
        assert len(re.findall(r"ip route (?:add|replace|append) default via", text)) <= 1, (seed, text)
    assert drafted > ROUNDS / 3
    tell(f"drafted addresses: ifupdown {drafted} of {ROUNDS}, the others left with a reason")


@pytest.mark.judge("nmcli")
def test_networkmanager_reads_what_was_drafted(wish: Callable[[str, int], Estate], tell: Callable[[str], None]) -> None:
    drafted = 0
    path = "/etc/NetworkManager/system-connections/a.nmconnection"
    started = {
        "/usr/sbin/NetworkManager": b"",
        "/etc/systemd/system/multi-user.target.wants/NetworkManager.service": b"",
    }
    for seed in range(ROUNDS):
        raw = re.sub(r"interface-name=.*\n|type=ethernet\n", "", networks.keyfile(networks.Dice(seed), seed)).encode()
        raw = raw.replace(b"[connection]\n", b"[connection]\ntype=ethernet\ninterface-name=eth0\n", 1)
        snapshot = from_files("x", {path: raw, **started})
        entry = snapshot.entries[path]
        snapshot = snapshot.with_files({path: type(entry)(entry.kind, 0o600, 0, 0, entry.size, raw)})
        made, after = given(wish("eth0", seed), snapshot)
        if not made.steps:
            assert made.left, seed
            continue
        drafted += 1
        done = run("nmcli", "--offline", "connection", "modify", "connection.lldp", "1", stdin=after[path].decode())
        assert done.returncode == 0, (seed, done.stderr)
        profile = keyfiles.profile(done.stdout.encode(), path)
        got = {str(a.value) for a in profile.addresses if seed % 2 or a.value.version == 4}
        assert got == wanted(seed), (seed, after[path])
        assert profile.at_boot
        assert profile.identifier is not None
        assert profile.identifier.value.encode() in raw, "it stays its own profile"
    assert drafted > ROUNDS / 3
    tell(f"drafted addresses: NetworkManager {drafted} of {ROUNDS}, the others left with a reason")
