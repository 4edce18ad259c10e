"""The two differences, on the awkward cases of the definition; bounds; causes."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import pytest

from nightlatch.access.differences import Hole, ShutOut, find_holes, find_shut_out
from nightlatch.access.grants import expand
from nightlatch.model.grants import GrantKind
from nightlatch.model.powers import SHELL, PowerKind
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import ALL_V4, EVERY_ADDRESS
from nightlatch.net.literal import parse_network
from tests.guests import AT, HASH, Guest, estate, lifted, pub

BENCH = 'from="192.168.40.0/24"'
GRANT = "let: mara, into: gauge, by: ssh, from: bench, with: key"
DESK, TOKEN = f"{BENCH} {pub('mara-desk')}\n", f"{BENCH} {pub('mara-token')}\n"
NO_PASSWORDS = "PasswordAuthentication no\n"


def differences(folder: Path, guest: Guest, grants: str, at: object = AT, **more: str) -> tuple[list[Hole], list[ShutOut]]:
    made = estate(folder, grants, **more)
    access = guest.access(lifted(made))
    found = expand(made, "gauge", at)  # type: ignore[arg-type]
    return list(find_holes(access.paths, found)), list(find_shut_out(access.paths, found))


def told(over: list[Hole], under: list[ShutOut]) -> tuple[set[str], set[str]]:
    return {str(s.path.power) for s in over if s.certain}, {str(m.power) for m in under if m.certain}


# Name, guest, grants, then which holes are certain, and what is certainly shut out, by power.
CASES: list[tuple[str, Guest, str, set[str], set[str]]] = [
    ("two keys, one of them authorised", Guest(NO_PASSWORDS, {"mara": DESK}), GRANT, set(), set()),
    ("two keys, none", Guest(NO_PASSWORDS), GRANT, set(), {"a shell"}),
    (
        "more asked than granted shuts out, and is no hole",
        Guest("AuthenticationMethods publickey,password\n", {"mara": DESK}, passwords={"mara": HASH}),
        GRANT,
        set(),
        {"a shell"},
    ),
    (
        "less asked than granted is a hole, and shuts nobody out",
        Guest(NO_PASSWORDS, {"mara": DESK}),
        GRANT.replace("key", "key + password"),
        {"a shell", "tunnels to anywhere", "tunnels back from anywhere", "a tunnel to local sockets", "agent forwarding"},
        set(),
    ),
    (
        "a shell where a command is granted: a hole, and nobody shut out",
        Guest(NO_PASSWORDS, {"copier": f'from="192.168.56.9",restrict {pub("nightcopy")}\n'}, accounts=("root", "copier")),
        "let: nightcopy, into: gauge, by: ssh, from: 192.168.56.9, with: key, as: copier, only: {command: /bin/out}",
        {"a shell"},
        set(),
    ),
    (
        "a command where a shell is granted: shut out, and no hole",
        Guest(NO_PASSWORDS, {"mara": f'{BENCH},command="/bin/out" {pub("mara-desk")}\n'}),
        GRANT,
        set(),
        {"a shell"},
    ),
    (
        "the right command, and tunnels on top",
        Guest(
            NO_PASSWORDS + "AllowAgentForwarding no\n",
            {"copier": f'from="192.168.56.9",command="/bin/out" {pub("nightcopy")}\n'},
            accounts=("root", "copier"),
        ),
        "let: nightcopy, into: gauge, by: ssh, from: 192.168.56.9, with: key, as: copier, only: {command: /bin/out}",
        {"tunnels to anywhere", "tunnels back from anywhere", "a tunnel to local sockets"},
        set(),
    ),
    ("open to fewer", Guest(NO_PASSWORDS, {"mara": f'from="192.168.40.0/25" {pub("mara-desk")}\n'}), GRANT, set(), {"a shell"}),
    (
        "no tunnels although there is a shell: nothing is missing, for none was granted by name",
        Guest(NO_PASSWORDS + "DisableForwarding yes\n", {"mara": DESK}),
        GRANT,
        set(),
        set(),
    ),
    (
        "root's rights after the own password",
        Guest(NO_PASSWORDS, {"mara": DESK}, {"/etc/sudoers": "mara ALL=(ALL) ALL\n"}, passwords={"mara": HASH}),
        GRANT + ", may: administer, after: own password",
        set(),
        set(),
    ),
    (
        "root's rights without any password",
        Guest(NO_PASSWORDS, {"mara": DESK}, {"/etc/sudoers": "mara ALL=(ALL) NOPASSWD: ALL\n"}),
        GRANT + ", may: administer, after: own password",
        {"root's rights"},
        set(),
    ),
    (
        "the account of another",
        Guest(NO_PASSWORDS, {"joon": DESK}),
        GRANT,
        {"a shell", "tunnels to anywhere", "tunnels back from anywhere", "a tunnel to local sockets", "agent forwarding"},
        {"a shell"},
    ),
    (
        "a grant that is over",
        Guest(NO_PASSWORDS, {"mara": DESK}),
        GRANT + ", until: 2026-11-24",
        {"a shell", "tunnels to anywhere", "tunnels back from anywhere", "a tunnel to local sockets", "agent forwarding"},
        set(),
    ),
]


@pytest.mark.parametrize("name, guest, grants, over, under", CASES, ids=[case[0] for case in CASES])
def test_awkward_cases(tmp_path: Path, name: str, guest: Guest, grants: str, over: set[str], under: set[str]) -> None:
    assert told(*differences(tmp_path, guest, grants)) == (over, under)


def test_sources_are_exact(tmp_path: Path) -> None:
    key = f'from="192.168.0.0/16,!192.168.40.7" {pub("mara-desk")}\n'
    over, under = differences(tmp_path, Guest(NO_PASSWORDS, {"mara": key}), GRANT)
    shell = next(s for s in over if s.path.power == SHELL)
    assert shell.certain == {COMMON: parse_network("192.168.0.0/16") - parse_network("192.168.40.0/24")}
    assert [m.certain for m in under] == [{COMMON: parse_network("192.168.40.7")}]


def test_a_place_behind_a_pool_is_only_surely_in_when_all_its_faces_are(tmp_path: Path) -> None:
    grant = GRANT.replace("bench", "field")
    both = f'from="203.0.113.20,203.0.113.21" {pub("mara-desk")}\n'
    assert told(*differences(tmp_path / "a", Guest(NO_PASSWORDS, {"mara": both}), grant)) == (set(), set())
    one = f'from="203.0.113.20" {pub("mara-desk")}\n'
    over, under = differences(tmp_path / "b", Guest(NO_PASSWORDS, {"mara": one}), grant)
    assert not [s for s in over if s.certain]
    (lost,) = under
    assert lost.certain == {COMMON: parse_network("203.0.113.21")}
    assert lost.possible == {"field": parse_network("10.77.0.0/16")}


def test_management_access_covers_its_key_and_source_only(tmp_path: Path) -> None:
    via = ", as: keeper, key: keys/keeper.pub, from: [192.168.40.9]"
    right = f'from="192.168.40.9" {pub("keeper")}\n'
    guest = Guest(NO_PASSWORDS, {"keeper": right}, {"/etc/sudoers": "keeper ALL=(ALL) NOPASSWD: ALL\n"})
    assert told(*differences(tmp_path, guest, "", via=via)) == (set(), set())
    wide = replace(guest, keys={"keeper": pub("keeper") + "\n"})
    over, _ = differences(tmp_path, wide, "", via=via)
    assert {s.path.power.gives for s in over} >= {PowerKind.SHELL, PowerKind.ADMINISTER}
    assert all("192.168.40.9" not in s.certain[COMMON] for s in over)
    other = replace(guest, keys={"keeper": right + f'from="192.168.40.9" {pub("joon-desk")}\n'})
    over, _ = differences(tmp_path, other, "", via=via)
    assert {s.path.need for s in over} != set()


def test_emergency_accounts_are_granted_what_they_state(tmp_path: Path) -> None:
    more = "emergency:\n  - {account: lantern, into: all guests, by: {console: {with: password}, ssh: {from: bench, with: key, keys: [keys/lantern.pub]}}}\n"
    guest = Guest(NO_PASSWORDS, {"lantern": f"{BENCH} {pub('lantern')}\n"}, accounts=("root", "lantern"))
    assert told(*differences(tmp_path, guest, "", more=more)) == (set(), set())
    made = estate(tmp_path, "", more=more)
    assert {g.kind for g in expand(made, "gauge", AT)} == {GrantKind.EMERGENCY}


@pytest.mark.parametrize(
    "path, content",
    [
        (
            "/etc/nftables.conf",
            "table inet f {\n chain i {\n type filter hook input priority 0; policy drop;\n meta mark 7 accept\n }\n}\n",
        ),
        ("/etc/iptables/rules.v4", "*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -m mark --mark 7 -j DROP\nCOMMIT\n"),
        ("/etc/ufw/ufw.conf", 'ENABLED=yes\nDEFAULT_INPUT_POLICY="deny"\n'),
        ("/etc/hosts.deny", "sshd: .example, UNKNOWN\n"),
    ],
)
def test_an_unread_filter_makes_the_bounds_differ_and_is_named(tmp_path: Path, path: str, content: str) -> None:
    units = ("sysinit.target.wants/nftables", "multi-user.target.wants/ufw", "basic.target.wants/netfilter-persistent")
    files: dict[str, str | bytes] = {path: content, **{f"/etc/systemd/system/{unit}.service": "" for unit in units}}
    if path.endswith("v4"):
        files["/etc/iptables/rules.v6"] = content
    over, under = differences(tmp_path, Guest(NO_PASSWORDS, {"mara": pub("mara-desk") + "\n"}, files), GRANT)
    assert not [s for s in over if s.certain]
    assert not [m for m in under if m.certain]
    shell = next(s for s in over if s.path.power == SHELL)
    assert shell.possible
    assert path in {gap.origin.path for gap in shell.path.callers.because} <= {path, "/etc/default/ufw", "/etc/iptables/rules.v6"}


EMPTY_RULES = "#!/usr/sbin/nft -f\nflush ruleset\ntable inet filter {\n\tchain input {\n\t\ttype filter hook input priority filter;\n\t}\n}\n"


@pytest.mark.parametrize(
    "files",
    [
        {"/etc/nftables.conf": EMPTY_RULES},
        {"/etc/iptables/rules.v4": "*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n"},
        {"/etc/ufw/ufw.conf": "ENABLED=no\n"},
        {"/etc/hosts.deny": "# nothing\n"},
        {"/etc/nftables.conf": " " * 200_000},
    ],
)
def test_bounds_are_equal_where_nothing_filters(files: dict[str, str]) -> None:
    access = Guest(NO_PASSWORDS, {"mara": DESK}, dict(files)).access()
    assert access.paths
    assert all(p.callers.surely == p.callers.perhaps and not p.callers.because for p in access.paths)
    assert not access.gaps


UNDECIDED = [
    (
        "a program names the keys",
        "AuthorizedKeysCommand /usr/bin/keys\nAuthorizedKeysCommandUser nobody\n",
        {},
        "would have to run",
    ),
    ("a name would be looked up", "UseDNS yes\nMatch Host *.skerry.example\nPubkeyAuthentication no\n", {}, "looked up"),
    ("another machine's word", "HostbasedAuthentication yes\n", {}, "trusts other machines"),
    ("a local address", "Match LocalAddress 192.168.56.21\nPubkeyAuthentication no\n", {}, "dialled"),
    ("accounts elsewhere", "", {"/etc/nsswitch.conf": "passwd: files sss\n"}, "sss"),
    ("a PAM module", "UsePAM yes\n", {"/etc/pam.d/sshd": "account required pam_sss.so\n"}, "pam_sss.so would have to run"),
]


@pytest.mark.parametrize("name, config, files, because", UNDECIDED, ids=[u[0] for u in UNDECIDED])
def test_what_cannot_be_decided_is_said(name: str, config: str, files: dict[str, str], because: str) -> None:
    guest = Guest("", {"mara": DESK}, dict(files))
    guest.files["/etc/ssh/sshd_config"] = NO_PASSWORDS + config
    access = guest.access()
    assert any(because in gap.because for gap in access.gaps)
    if name != "accounts elsewhere":
        assert any(p.callers.surely != p.callers.perhaps for p in access.paths)


def test_a_config_that_was_not_read_leaves_everything_possible() -> None:
    guest = Guest("Include /etc/ssh/more.conf\n", {"mara": DESK}, {"/etc/ssh/more.conf": b"Port 22\n\0"})
    access = guest.access()
    assert access.paths
    assert not any(p.callers.surely for p in access.paths)
    assert any(p.callers.perhaps.get(COMMON) == EVERY_ADDRESS for p in access.paths)


def test_time_is_a_parameter() -> None:
    guest = Guest(NO_PASSWORDS, {"mara": f'expiry-time="20261126Z" {pub("mara-desk")}\n'})
    assert guest.access().paths
    later = guest.access(at=AT + timedelta(days=2))
    assert not later.paths
    assert "expiry-time" in later.ssh.rejected[0].because


def test_families_and_loopback_of_the_listening_socket() -> None:
    six = Guest(NO_PASSWORDS + "AddressFamily inet\n", {"mara": pub("mara-desk") + "\n"}).access()
    assert all(p.callers.surely[COMMON] == ALL_V4 for p in six.paths)
    loop = Guest(NO_PASSWORDS + "ListenAddress 127.0.0.1\n", {"mara": pub("mara-desk") + "\n"}).access()
    assert all(str(p.callers.surely[COMMON]) == "127.0.0.0/8" for p in loop.paths)
