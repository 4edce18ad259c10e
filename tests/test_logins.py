"""PAM stacks, powers and privilege, case by case; the judges hold the same against the real programs."""

from __future__ import annotations

import pytest

from nightlatch.evidence.snapshot import from_files
from nightlatch.formats.keys import parse_public
from nightlatch.model.powers import ADMINISTER, SHELL, Power, PowerKind
from nightlatch.model.secrets import Key, Password
from nightlatch.readings import guest as readings
from nightlatch.services.posix import pam
from nightlatch.services.posix.pam import PamOutcome
from tests.guests import AT, HASH, Guest, pub

UNIX = {"pam_unix.so": "success"}
DEBIAN = "account [success=1 new_authtok_reqd=done default=ignore] pam_unix.so\naccount requisite pam_deny.so\naccount required pam_permit.so\n"

STACKS: list[tuple[str, dict[str, str], dict[str, str], PamOutcome, str]] = [
    ("Debian's own", {"sshd": DEBIAN}, UNIX, PamOutcome.OPEN, ""),
    ("Debian's own, expired", {"sshd": DEBIAN}, {"pam_unix.so": "acct_expired"}, PamOutcome.SHUT, ""),
    (
        "Debian's own, a new password is due",
        {"sshd": DEBIAN},
        {"pam_unix.so": "new_authtok_reqd"},
        PamOutcome.CHANGE,
        "",
    ),
    ("included", {"sshd": "@include common\n", "common": DEBIAN}, UNIX, PamOutcome.OPEN, ""),
    (
        "included by facility",
        {"sshd": "account include common\nauth include none\n", "common": DEBIAN},
        UNIX,
        PamOutcome.OPEN,
        "",
    ),
    ("includes itself", {"sshd": "@include sshd\n"}, UNIX, PamOutcome.SHUT, ""),
    (
        "required fails, the rest is still asked",
        {"sshd": "account required pam_unix.so\naccount required pam_permit.so\n"},
        {"pam_unix.so": "auth_err"},
        PamOutcome.SHUT,
        "",
    ),
    (
        "sufficient ends it",
        {"sshd": "account sufficient pam_unix.so\naccount required pam_deny.so\n"},
        UNIX,
        PamOutcome.OPEN,
        "",
    ),
    ("optional alone", {"sshd": "account optional pam_unix.so\n"}, UNIX, PamOutcome.OPEN, ""),
    ("deny", {"sshd": "account requisite pam_deny.so\naccount required pam_permit.so\n"}, UNIX, PamOutcome.SHUT, ""),
    (
        "a stranger",
        {"sshd": "account required pam_sss.so\n" + DEBIAN},
        UNIX,
        PamOutcome.UNKNOWN,
        "pam_sss.so would have to run",
    ),
    (
        "a stranger that can't shut the door",
        {"sshd": "account optional pam_sss.so\n" + DEBIAN},
        UNIX,
        PamOutcome.OPEN,
        "",
    ),
    ("no line of that kind", {"sshd": "auth required pam_unix.so\n"}, UNIX, PamOutcome.SHUT, ""),
    ("not a line", {"sshd": "account whenever\n"}, UNIX, PamOutcome.UNKNOWN, "not a PAM line"),
    (
        "a comment and a continued line",
        {"sshd": "# account required pam_deny.so\naccount \\\n required pam_permit.so # x\n"},
        UNIX,
        PamOutcome.OPEN,
        "",
    ),
    ("other stands in", {"other": DEBIAN}, UNIX, PamOutcome.OPEN, ""),
    ("nothing at all", {}, UNIX, PamOutcome.UNKNOWN, "no PAM configuration"),
]


@pytest.mark.parametrize("name, files, answers, outcome, because", STACKS, ids=[s[0] for s in STACKS])
def test_pam_stacks(name: str, files: dict[str, str], answers: dict[str, str], outcome: PamOutcome, because: str) -> None:
    snapshot = from_files("gauge", {f"/etc/pam.d/{n}": t.encode() for n, t in files.items()} or {"/etc/x": b""})
    verdict = pam.stack(readings.read(snapshot).pam, "sshd", "account").run(lambda module, _: answers.get(module))
    assert verdict.outcome is outcome
    assert because in (verdict.gap.because if verdict.gap else "")


RED = {
    "/etc/pam.d/sshd": (
        "auth substack password-auth\nauth include postlogin\naccount required pam_sepermit.so\n"
        "account required pam_nologin.so\naccount include password-auth\n"
    ),
    "/etc/pam.d/password-auth": (
        "auth required pam_env.so\nauth required pam_faildelay.so delay=2000000\n"
        "auth [default=1 ignore=ignore success=ok] pam_usertype.so isregular\n"
        "auth [default=1 ignore=ignore success=ok] pam_localuser.so\n"
        "auth sufficient pam_unix.so nullok\nauth required pam_deny.so\n"
        "account required pam_unix.so\naccount sufficient pam_localuser.so\n"
        "account sufficient pam_usertype.so issystem\naccount required pam_permit.so\n"
    ),
    "/etc/pam.d/postlogin": "session optional pam_umask.so silent\n",
    "/etc/os-release": 'ID="fedora"\nVERSION_ID=40\n',
}


@pytest.mark.parametrize("account, opens", [("mara", True), ("root", True)])
def test_the_stacks_of_the_rpm_family_are_decided(account: str, opens: bool) -> None:
    guest = Guest("PermitRootLogin yes\n", files=dict(RED), passwords={account: HASH}, pam=True)
    access = guest.access()
    assert not access.gaps
    assert ({p.account for p in access.paths} == {account}) is opens
    expired = Guest("", files=dict(RED), pam=True)
    expired.files["/etc/shadow"] = f"{account}:{HASH}:20000:0:99999:7::1:\n"
    assert not expired.access().paths


def test_private_groups_are_trusted_by_debians_sshd_only() -> None:
    keys, modes = {"mara": pub("mara-desk") + "\n"}, {"/home/mara": (0o775, 1001, 1001)}
    assert Guest(OFF, keys, modes=modes).access().paths
    assert not Guest(OFF, keys, {"/etc/os-release": "ID=fedora\n"}, modes).access().paths


OFF = "PasswordAuthentication no\n"
ALL = {"a shell", "tunnels to anywhere", "tunnels back from anywhere", "a tunnel to local sockets", "agent forwarding"}
SFTP = "Subsystem sftp internal-sftp\n"
POWERS: list[tuple[str, str, str, str, set[str]]] = [
    ("a shell", "", "", "/bin/bash", ALL),
    ("sftp too", SFTP, "", "/bin/bash", ALL | {"files under /"}),
    ("restricted", "", "restrict ", "/bin/bash", {"a shell"}),
    ("restricted, tunnels given back", "", "restrict,port-forwarding ", "/bin/bash", ALL - {"agent forwarding"}),
    ("a command on the key", "", 'restrict,command="/bin/out" ', "/bin/bash", {"runs /bin/out"}),
    (
        "the server's command beats the key's",
        "ForceCommand /bin/in\n",
        'restrict,command="/bin/out" ',
        "/bin/bash",
        {"runs /bin/in"},
    ),
    ("files only", "ForceCommand internal-sftp -l INFO\n", "restrict ", "/bin/bash", {"files under /"}),
    ("no shell", "", "", "/usr/sbin/nologin", ALL - {"a shell", "agent forwarding"}),
    ("no shell, yet sftp needs none", SFTP, "restrict ", "/usr/sbin/nologin", {"files under /"}),
    ("no shell, and sftp needs one", "Subsystem sftp /usr/lib/sftp-server\n", "restrict ", "/usr/sbin/nologin", set()),
    ("a program for a shell", "", "restrict ", "/usr/bin/git-shell", {"runs /usr/bin/git-shell"}),
    ("forwarding off", "DisableForwarding yes\n", "", "/bin/bash", {"a shell"}),
    (
        "local only",
        "AllowTcpForwarding local\nAllowStreamLocalForwarding no\nAllowAgentForwarding no\n",
        "",
        "/bin/bash",
        {"a shell", "tunnels to anywhere"},
    ),
    (
        "to named targets",
        "PermitOpen localhost:5901 *:22\nPermitListen none\nAllowStreamLocalForwarding no\nAllowAgentForwarding no\n",
        'permitopen="localhost:5901",permitopen="localhost:80" ',
        "/bin/bash",
        {"a shell", "a tunnel to localhost:5901"},
    ),
]


@pytest.mark.parametrize("name, config, options, shell, powers", POWERS, ids=[p[0] for p in POWERS])
def test_powers(name: str, config: str, options: str, shell: str, powers: set[str]) -> None:
    guest = Guest(OFF + config, {"mara": f"{options}{pub('mara-desk')}\n"}, {shell: ""})
    guest.files["/etc/passwd"] = f"root:x:0:0::/root:/bin/bash\nmara:x:1001:1001::/home/mara:{shell}\n"
    assert {str(path.power) for path in guest.access().paths} == powers


def test_a_password_that_is_due_gives_its_change_and_all_else_behind_that() -> None:
    guest = Guest(OFF, {"mara": pub("mara-desk") + "\n"}, pam=True)
    key, known = Key(parse_public(pub("mara-desk").encode()).fingerprint), Password("gauge", "mara")
    for held, needs in (
        ("{yescrypt}", {frozenset([key]), frozenset([key, known]), frozenset([known])}),
        ("*", {frozenset([key])}),
    ):
        guest.files["/etc/shadow"] = f"root:*:20000:0:99999:7:::\nmara:{held}:0:0:99999:7:::\n"
        paths = guest.access().paths
        assert {path.need for path in paths} == needs
        bare = {path.power for path in paths if path.need == {key}}
        assert bare == {Power(PowerKind.CHANGE_PASSWORD)}
        assert (SHELL in {path.power for path in paths if known in path.need}) == (held != "*")


def test_roots_rights_carry_the_password_that_is_asked() -> None:
    files = {"/etc/sudoers": "Defaults rootpw\nmara ALL=(ALL) ALL\njoon ALL=(ALL) NOPASSWD: ALL\n"}
    keys = {"mara": pub("mara-desk") + "\n", "joon": pub("joon-desk") + "\n"}
    paths = Guest(OFF, keys, dict(files), passwords={"root": HASH}).access().paths
    up = {p.account: {s for s in p.need if isinstance(s, Password)} for p in paths if p.power.gives is PowerKind.ADMINISTER}
    assert up == {"mara": {Password("gauge", "root")}, "joon": set()}
    locked = Guest(OFF, keys, dict(files)).access().paths
    assert {p.account for p in locked if p.power.gives is PowerKind.ADMINISTER} == {"joon"}, "root has no password to ask for"


@pytest.mark.parametrize(
    "files, port",
    [
        ({"/etc/default/ssh": 'SSHD_OPTS="-o Port=2222"\n'}, 2222),
        ({"/etc/default/ssh": "SSHD_OPTS='-p 2200'\n"}, 2200),
        ({"/lib/systemd/system/ssh.service": "[Service]\nExecStart=/usr/sbin/sshd -D -o Port=24\n"}, 24),
        (
            {
                "/lib/systemd/system/ssh.service": "[Service]\nExecStart=/usr/sbin/sshd -D -f /etc/ssh/other\n",
                "/etc/ssh/other": "Port 26\n",
            },
            26,
        ),
        (
            {
                "/lib/systemd/system/ssh.service": "[Service]\nExecStart=/usr/sbin/sshd -D -o Port=24\n",
                "/etc/systemd/system/ssh.service.d/a.conf": "[Service]\nExecStart=\nExecStart=/usr/sbin/sshd -D\n",
            },
            22,
        ),
    ],
)
def test_what_the_service_starts_sshd_with_comes_first(files: dict[str, str], port: int) -> None:
    access = Guest(OFF, {"mara": pub("mara-desk") + "\n"}, dict(files)).access()
    assert [socket.port for socket in access.ssh.listeners] == [port]


@pytest.mark.parametrize("rule, certain", [("mara ALL=(ALL) NOPASSWD: ALL", True), ("mara gate=(ALL) NOPASSWD: ALL", False)])
def test_a_sudo_rule_for_a_named_host_is_undecided(rule: str, certain: bool) -> None:
    access = Guest(OFF, {"mara": pub("mara-desk") + "\n"}, {"/etc/sudoers": rule + "\n"}).access()
    (up,) = [p for p in access.paths if p.power.gives is PowerKind.ADMINISTER]
    assert bool(up.callers.surely) is certain
    assert bool(up.callers.because) is not certain


@pytest.mark.parametrize(
    "expiry, surely, perhaps",
    [
        ("20261125", False, True),
        ("20261125Z", False, False),
        ("20261126Z", True, True),
        ("20261124", False, False),
        ("20261127", True, True),
    ],
)
def test_an_expiry_time_near_now_hangs_on_the_zone(expiry: str, surely: bool, perhaps: bool) -> None:
    """The moment of the tests is noon, UTC, on the 25th; 25th 00:00 local has surely passed only from 12:00 UTC on."""
    at = AT.replace(hour=11)
    access = Guest(OFF, {"mara": f'expiry-time="{expiry}" {pub("mara-desk")}\n'}).access(at=at)
    shells = [p for p in access.paths if p.power.gives is PowerKind.SHELL]
    assert bool(shells and shells[0].callers.surely) is surely
    assert bool(shells) is perhaps


SINGLE = [
    ("mara ALL=(root) NOPASSWD: /bin/bash", "/bin/bash"),
    ("mara ALL=(ALL) /usr/bin/vi /etc/motd", "/usr/bin/vi /etc/motd"),
    ("Cmnd_Alias EDIT = /usr/bin/less, /usr/bin/id\nmara ALL=(root) EDIT", "/usr/bin/less"),
    ("mara ALL=(root) /usr/bin/tee", "/usr/bin/tee"),
    ("mara ALL=(root) /usr/bin/tee /var/log/*", "/usr/bin/tee /var/log/*"),
    ("mara ALL=(root) sudoedit /etc/motd", "sudoedit /etc/motd"),
    ("mara ALL=(root) /usr/local/bin/", "/usr/local/bin/"),
    ("mara ALL=(root) /usr/bin/python3*", "/usr/bin/python3*"),
    ("%crew ALL=(root) /bin/sh", "/bin/sh"),
    ("mara ALL=(root) /usr/bin/systemctl restart tide", ""),
    ("mara ALL=(root) /usr/bin/tee /var/log/tide", ""),
    ("mara ALL=(charts) /bin/bash", ""),
    ("mara ALL=(root) /bin/bash\nmara ALL=(root) !/bin/bash", ""),
    ("joon ALL=(root) /bin/bash", ""),
    ("mara ALL=(root) /usr/bin/id", ""),
]


@pytest.mark.parametrize("rules, command", SINGLE)
def test_a_single_command_that_leads_on_is_undecided_and_told(rules: str, command: str) -> None:
    """A sudo rule for a shell or an editor is neither root's rights for certain nor nothing."""
    guest = Guest(
        OFF,
        {"mara": pub("mara-desk")},
        {"/etc/sudoers": rules + "\n"},
        passwords={"mara": "{yescrypt}"},
        groups="crew:x:50:mara\n",
    )
    access = guest.access()
    up = [path for path in access.paths if path.power == ADMINISTER and path.account == "mara"]
    told = [gap for gap in access.gaps if gap.area == "privilege"]
    assert bool(up) == bool(command)
    assert all(not any(path.callers.surely.values()) and any(path.callers.perhaps.values()) for path in up)
    assert [f"run {command} as root" in gap.because and gap.origin.path == "/etc/sudoers" for gap in told] == [True] * bool(
        command
    )
    if command:
        assert {bool(set(path.need) - {Key(parse_public(pub("mara-desk").encode()).fingerprint)}) for path in up} == {
            "NOPASSWD" not in rules
        }
