"""RDP in grants, audit and drafts, on guests that are made by hand; that it is read as xrdp reads it is held in tests/live."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.access.paths import guest_access
from nightlatch.audit.findings import Group
from nightlatch.audit.run import fleet, guest_audit, identities
from nightlatch.audit.symptoms import Borne, Symptom
from nightlatch.audit.why import WhyQuestion
from nightlatch.evidence.screen_files import LIBRARY_FOLDERS
from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot
from nightlatch.faults import EstateError
from nightlatch.formats import xrdp_ini
from nightlatch.model.powers import DESKTOP
from nightlatch.model.routes import Seal
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.why import why_of
from nightlatch.readings import guest as readings
from nightlatch.readings.units.unit_state import paths_of
from nightlatch.services.base import ServerState
from tests.guests import AT, HASH, Guest, estate, lifted, listening, pub, sshd

GRANT = "let: mara, into: gauge, by: rdp, from: bench, with: password"
KEY = "let: mara, into: gauge, by: ssh, from: bench, with: key"
MAIN = """[Globals]
port={port}
security_layer={layer}
certificate=
key_file=
{more}
[Logging]
LogFile=xrdp.log
[Xorg]
name=Xorg
lib=libxup.so
username=ask
password=ask
port=-1
{sections}"""
SESMAN = """[Globals]
EnableUserWindowManager=true
UserWindowManager=startwm.sh
DefaultWindowManager=startwm.sh
[Security]
AllowRootLogin={root}
{group}
[Sessions]
MaxSessions=50
{limits}
[Xorg]
param=/usr/lib/xorg/Xorg
{params}"""
PEM = "-----BEGIN CERTIFICATE-----\nMA==\n-----END CERTIFICATE-----\n"
STARTWM = "#!/bin/sh\nexec /bin/sh /etc/X11/Xsession\n"
UNIT = "[Service]\nUser=xrdp\nExecStart=/usr/sbin/xrdp\n"
SHUT = "PasswordAuthentication no\n"
SPOKEN = {
    f"rdp.{name}"
    for name in (
        "not-started clear falls-back no-tls key-readable stock-certificate root-login group-not-enforced no-limits relay "
        "preset-login no-session session-ports not-at-boot shared-certificate"
    ).split()
}


def desk(
    port: str = "3389",
    layer: str = "tls",
    *,
    more: str = "",
    sections: str = "",
    root: str = "false",
    group: str = "",
    limits: str = "KillDisconnected=true\nDisconnectedTimeLimit=60\nIdleTimeLimit=0",
    params: str = "",
    files: dict[str, str | bytes] | None = None,
    modes: dict[str, tuple[int, int, int]] | None = None,
    accounts: tuple[str, ...] = ("root", "keeper", "mara", "joon"),
    absent: tuple[str, ...] = (),
) -> Snapshot:
    """A guest with xrdp, a window manager, and mara's password; a file's mode and owner as in `modes`."""
    held: dict[str, str | bytes] = {
        "/etc/xrdp/xrdp.ini": MAIN.format(port=port, layer=layer, more=more, sections=sections),
        "/etc/xrdp/sesman.ini": SESMAN.format(root=root, group=group, limits=limits, params=params),
        "/etc/xrdp/cert.pem": PEM,
        "/etc/xrdp/key.pem": "",
        "/etc/xrdp/startwm.sh": STARTWM,
        "/etc/X11/Xsession": "",
        "/etc/X11/Xsession.options": "allow-user-xsession\n",
        "/etc/systemd/system/xrdp.service": UNIT,
        "/etc/systemd/system/multi-user.target.wants/xrdp.service": UNIT,
        "/etc/pam.d/xrdp-sesman": "@include common-auth\n@include common-account\n",
        "/etc/pam.d/common-auth": "auth required pam_unix.so nullok\n",
        "/etc/pam.d/common-account": "account required pam_unix.so\n",
        **dict.fromkeys(
            ("/usr/sbin/xrdp", "/usr/lib/xorg/Xorg", "/usr/lib/xorg/modules/libxorgxrdp.so", "/usr/bin/x-window-manager"), ""
        ),
        **(files or {}),
    }
    owners = {"/etc/xrdp/startwm.sh": (0o755, 0, 0), "/etc/xrdp/key.pem": (0o640, 0, 990), **(modes or {})}
    keys = {"mara": f'from="192.168.40.0/24" {pub("mara-desk")}\n'}
    made = Guest(SHUT, keys, held, owners, {"mara": HASH}, accounts, groups="xrdp:x:990:\n").snapshot()
    passwd = made.content("/etc/passwd") or b""
    gone = dict.fromkeys(("/usr/bin/x-session-manager", "/usr/lib/xorg/Xorg.wrap", *absent), Entry(EntryKind.ABSENT))
    homes = {f"/home/{name}/{own}" for name in accounts for own in ("startwm.sh", ".xsession", ".Xsession")} | {
        "/root/startwm.sh"
    }
    gone |= {path: Entry(EntryKind.ABSENT) for path in homes if path not in held}
    whole = passwd + b"xrdp:x:990:990::/run/xrdp:/usr/sbin/nologin\n"
    return made.with_files({"/etc/passwd": replace(made.entries["/etc/passwd"], content=whole, size=len(whole)), **gone})


def told(snapshot: Snapshot, folder: Path, grants: str = GRANT) -> dict[str, list[str]]:
    """The texts of findings by check."""
    made = estate(folder, grants)
    out: dict[str, list[str]] = {}
    for each in guest_audit(guest_access(readings.read(snapshot), AT, lifted(made)), AT, made).findings:
        out.setdefault(each.check, []).append(each.text)
    return out


def test_a_grant_by_rdp_is_served_over_tls_by_its_password_and_by_nothing_else(tmp_path: Path) -> None:
    found = told(desk(), tmp_path, f"{GRANT}\n{KEY}")
    assert "shut-out" not in found
    assert found["hole"] == ["Anyone with the password of mara gets a desktop by rdp, from anywhere but bench."]
    paths = [p for p in guest_access(readings.read(desk()), AT).paths if p.service == "rdp"]
    assert {(p.account, p.seal, p.power) for p in paths} == {("mara", Seal.TLS, DESKTOP)}


@pytest.mark.parametrize(
    "snapshot, because",
    [
        (desk(layer="rdp"), "RDP is not served over tls: security_layer rdp"),
        (
            desk(modes={"/etc/xrdp/key.pem": (0o600, 0, 0)}),
            "RDP is not served over tls: /etc/xrdp/key.pem: xrdp can't read it (mode 0600)",
        ),
        (
            desk(files={"/home/mara/.xsession": "openbox &\n"}),
            "a login as mara ends at once: /home/mara/.xsession: its last command, openbox, runs in the background",
        ),
        (
            desk(absent=("/usr/bin/x-window-manager", "/usr/bin/x-terminal-emulator", "/usr/bin/xmessage")),
            "a login as mara ends at once: /usr/bin/x-session-manager: no desktop is installed",
        ),
        (desk(absent=("/usr/lib/xorg/Xorg",)), "a login as mara ends at once: /usr/lib/xorg/Xorg: there is no such program"),
        (desk(group="TerminalServerUsers=xrdp"), "mara may not log in: TerminalServerUsers does not name it"),
        (desk("rdp"), "no socket of xrdp takes callers of their family of addresses"),
        (desk("80"), "xrdp does not start: port 80 is below 1024, and xrdp does not run as root"),
        (desk(absent=("/usr/sbin/xrdp",)), "there is no RDP server"),
    ],
)
def test_why_nobody_gets_in_is_told(tmp_path: Path, snapshot: Snapshot, because: str) -> None:
    assert told(snapshot, tmp_path)["shut-out"] == [f"mara can't get a desktop by rdp from bench: {because}."]


def test_without_tls_only_a_grant_that_says_so_is_served(tmp_path: Path) -> None:
    clear = f"{GRANT}, seal: clear"
    assert "shut-out" not in told(desk(layer="rdp"), tmp_path / "a", clear)
    assert "shut-out" in told(desk(layer="rdp"), tmp_path / "b")
    both = told(desk(layer="negotiate"), tmp_path / "c")
    assert "shut-out" not in both
    assert "Anyone with the password of mara gets a desktop by rdp, from anywhere." in both["hole"], "who does not ask for TLS"
    with pytest.raises(EstateError, match="every connection of ssh has one"):
        estate(tmp_path / "d", f"{KEY}, seal: clear")


CHECKS = [
    ("rdp.not-started", desk("80"), desk()),
    ("rdp.not-started", desk("here"), desk()),
    ("rdp.clear", desk(layer="rdp"), desk(layer="rdp", port="tcp://.:3389")),
    ("rdp.falls-back", desk(layer="negotiate"), desk()),
    ("rdp.no-tls", desk(layer="negotiate", modes={"/etc/xrdp/key.pem": (0o600, 0, 0)}), desk(layer="rdp")),
    ("rdp.no-tls", desk(files={"/etc/xrdp/cert.pem": "none"}), desk()),
    ("rdp.key-readable", desk(modes={"/etc/xrdp/key.pem": (0o644, 0, 0)}), desk()),
    (
        "rdp.stock-certificate",
        desk(more="key_file=/etc/ssl/private/ssl-cert-snakeoil.key", files={"/etc/ssl/private/ssl-cert-snakeoil.key": ""}),
        desk(),
    ),
    ("rdp.group-not-enforced", desk(group="TerminalServerUsers=tsusers"), desk(group="TerminalServerUsers=xrdp")),
    ("rdp.no-limits", desk(limits="KillDisconnected=false\nDisconnectedTimeLimit=60"), desk(limits="IdleTimeLimit=600")),
    (
        "rdp.relay",
        desk(sections="[on]\nlib=libvnc.so\nip=ask\nport=ask5900\n", files={f"{LIBRARY_FOLDERS[0]}/libvnc.so": ""}),
        desk(sections="[on]\nlib=libvnc.so\nip=ask\nport=-1\n"),
    ),
    ("rdp.preset-login", desk(sections="[desk]\nlib=libxup.so\nusername=mara\npassword=gull\nport=-1\n"), desk()),
    ("rdp.no-session", desk(files={"/home/mara/.xsession": "# nothing\n"}), desk()),
    ("rdp.session-ports", desk(params="param=-listen\nparam=tcp"), desk(params="param=-nolisten\nparam=tcp")),
]


@pytest.mark.parametrize("check, bad, good", CHECKS, ids=[f"{name} {number}" for number, (name, _, _) in enumerate(CHECKS)])
def test_what_is_unhygienic_is_told_and_nothing_else(tmp_path: Path, check: str, bad: Snapshot, good: Snapshot) -> None:
    assert len(told(bad, tmp_path / "bad").get(check, ())) == 1
    assert check not in told(good, tmp_path / "good")


def test_root_s_desktop_is_told(tmp_path: Path) -> None:
    made = desk(root="true")
    shadow = (made.content("/etc/shadow") or b"").replace(b"root:*:", f"root:{HASH}:".encode())
    opened = made.with_files({"/etc/shadow": replace(made.entries["/etc/shadow"], content=shadow)})
    assert told(opened, tmp_path / "a")["rdp.root-login"] == ["root gets a desktop with a password, from anywhere."]
    kept = desk()
    closed = kept.with_files({"/etc/shadow": replace(kept.entries["/etc/shadow"], content=shadow)})
    assert "rdp.root-login" not in told(closed, tmp_path / "b")


def test_what_is_granted_has_to_come_back_after_a_boot(tmp_path: Path) -> None:
    made = desk()
    link = "/etc/systemd/system/multi-user.target.wants/xrdp.service"
    off = made.with_files({link: Entry(EntryKind.ABSENT)})
    assert "rdp.not-at-boot" not in told(made, tmp_path / "a")
    known = {path: Entry(EntryKind.ABSENT) for path in paths_of("xrdp.service") if path not in made.entries or path == link}
    assert "rdp.not-at-boot" in told(off.with_files(known), tmp_path / "b")


def test_a_certificate_of_two_guests_is_told_once() -> None:
    other = PEM.replace("MA==", "MQ==")
    made = [desk(), desk(), desk(files={"/etc/xrdp/cert.pem": other}), desk(layer="rdp")]
    seen = [
        identities(guest_access(readings.read(replace(each, guest=f"g{number}")), AT), None) for number, each in enumerate(made)
    ]
    found = [each for told in fleet(seen, None, AT).values() for each in told if each.check == "rdp.shared-certificate"]
    assert [each.text for each in found] == [
        "g0 and g1 show the same certificate for their remote desktops: each can pose as the other."
    ]


def test_evidence_without_its_files_says_so(tmp_path: Path) -> None:
    old = Guest(SHUT, {"mara": pub("mara-desk")}, passwords={"mara": HASH}).snapshot()
    entries = {path: entry for path, entry in old.entries.items() if path != "/usr/sbin"}
    access = guest_access(readings.read(replace(old, entries=entries, listed=frozenset())), AT)
    [server] = access.of("rdp")
    assert server.state is ServerState.NOT_COLLECTED
    assert server.listeners == ()


def test_a_draft_has_tls_alone_served(tmp_path: Path) -> None:
    made, snapshot = estate(tmp_path, f"{GRANT}\n{KEY}"), desk(layer="negotiate # both")
    proved = prove(made, draft(made, snapshot, AT), snapshot, AT)
    after = (proved.after.content("/etc/xrdp/xrdp.ini") or b"").decode()
    assert "security_layer=tls # both\n" in after
    assert "rdp.falls-back" not in told(proved.after, tmp_path, f"{GRANT}\n{KEY}")


def test_a_desktop_that_nobody_is_granted_is_for_the_guest_itself(tmp_path: Path) -> None:
    made, snapshot = estate(tmp_path, KEY), desk()
    proved = prove(made, draft(made, snapshot, AT), snapshot, AT)
    assert "port=tcp://.:3389\n" in (proved.after.content("/etc/xrdp/xrdp.ini") or b"").decode()
    again = prove(made, draft(made, proved.after, AT), proved.after, AT)
    assert not again.draft.steps
    holes = guest_audit(guest_access(readings.read(proved.after), AT, lifted(made)), AT, made).findings
    assert not [each for each in holes if each.group is Group.HOLE and each.service == "rdp"]


LINES = st.lists(
    st.sampled_from(
        [
            "[Globals]",
            "[globals ]",
            "x[Globals]y",
            "[Globals",
            "port=3389",
            " PORT = 3390 # x",
            "port",
            "a=b;c",
            "",
            "#",
            "\ufeff[Xorg]",
            "=",
            "[]",
        ]
    )
    | st.text(st.characters(codec="utf-8"), max_size=12),
    max_size=12,
)


@given(LINES, st.sampled_from(["\n", "\r\n", "\r"]))
def test_every_byte_comes_back(lines: list[str], end: str) -> None:
    raw = end.join(lines).encode()
    assert xrdp_ini.render(xrdp_ini.parse(raw)) == raw


@given(LINES, st.sampled_from(["\n", "\r\n"]), st.sampled_from(["Globals", "Xorg"]), st.sampled_from(["port", "Kind"]))
def test_a_key_that_is_set_counts_and_all_else_stays(lines: list[str], end: str, section: str, key: str) -> None:
    document = xrdp_ini.parse(end.join(lines).encode())
    made = document.set(section, key, "42")
    found = made.last(section.lower(), key.lower())
    assert found is not None
    assert found.value == "42"
    assert made.set(section, key, "42") == made
    others = {
        (line.section, line.key, line.value) for line in document.lines if line.counts and line.key and line.key != key.lower()
    }
    assert others <= {(line.section, line.key, line.value) for line in made.lines if line.counts and line.key}


def test_of_a_running_guest_what_needs_a_restart_is_told_to_a_person(tmp_path: Path) -> None:
    """Each connection reads the seal anew; where it listens is read at the start, and a restart ends all sessions."""
    rows = {**listening(("tcp", "0.0.0.0", 22, "sshd", 7), ("tcp", "[::]", 3389, "xrdp", 9)), **sshd(7, 1000)}
    live = replace(desk(layer="negotiate"), listings=rows)
    found = draft(estate(tmp_path / "a", GRANT), live, AT)
    [step] = [step for step in found.steps if step.path.startswith("/etc/xrdp")]
    assert str(step) == "in /etc/xrdp/xrdp.ini: change a line"
    found = draft(estate(tmp_path / "b", KEY), replace(desk(), listings=rows), AT)
    assert not [step for step in found.steps if step.path.startswith("/etc/xrdp")]
    alone = "xrdp tells no callers apart: have a packet filter let those who are granted in to port 3389 alone"
    assert alone in [each.hand for each in draft(estate(tmp_path / "c", GRANT), replace(desk(), listings=rows), AT).left]
    hand = "write port=tcp://.:3389 under [Globals] of /etc/xrdp/xrdp.ini, then start xrdp anew, which ends all sessions"
    assert hand in [each.hand for each in found.left]


EVERYWHERE = f"{GRANT.replace('bench', 'anywhere')}\n{KEY}"  # no filter is drafted beside what opens


def without(line: str) -> Snapshot:
    """The guest without a line of xrdp.ini."""
    made = desk()
    content = (made.content("/etc/xrdp/xrdp.ini") or b"").replace(line.encode(), b"")
    return made.with_files({"/etc/xrdp/xrdp.ini": replace(made.entries["/etc/xrdp/xrdp.ini"], content=content)})


OPENED = [
    ("tls is asked for", desk(layer="rdp"), {"/etc/xrdp/xrdp.ini"}),
    ("it is not set at all", without("security_layer=tls\n"), {"/etc/xrdp/xrdp.ini"}),
    ("the key is for a group", desk(modes={"/etc/xrdp/key.pem": (0o640, 0, 1500)}), {"/etc/group"}),
    (
        "both",
        desk(layer="rdp", modes={"/etc/xrdp/key.pem": (0o640, 0, 1500)}),
        {"/etc/xrdp/xrdp.ini", "/etc/group"},
    ),
    ("a group is asked for", desk(group="TerminalServerUsers=ssl-cert"), {"/etc/group"}),
]


@pytest.mark.parametrize("name, snapshot, paths", OPENED, ids=[name for name, _, _ in OPENED])
def test_a_draft_lets_in_those_who_are_granted(tmp_path: Path, name: str, snapshot: Snapshot, paths: set[str]) -> None:
    groups = (snapshot.content("/etc/group") or b"") + b"ssl-cert:x:1500:\n"
    made, read = (
        estate(tmp_path, EVERYWHERE),
        snapshot.with_files({"/etc/group": replace(snapshot.entries["/etc/group"], content=groups, size=len(groups))}),
    )
    assert "shut-out" in told(read, tmp_path, EVERYWHERE)
    proved = prove(made, draft(made, read, AT), read, AT)
    touched = {step.path for step in (*proved.draft.steps, *proved.accounts)}
    assert paths <= touched
    assert "shut-out" not in told(proved.after, tmp_path, EVERYWHERE)


WILD = st.lists(
    st.sampled_from(
        [
            "[Globals]",
            "[Xorg]",
            "[Security]",
            "port=",
            "security_layer=tls",
            "lib=libxup.so",
            "param=",
            "TerminalServerUsers=\udcff",
        ]
    )
    | st.text(max_size=20),
    max_size=12,
).map(lambda lines: "\n".join(lines).encode("utf-8", "surrogateescape" if "\udcff" in "".join(lines) else "replace"))


@given(WILD | st.binary(max_size=200), WILD | st.binary(max_size=200), st.binary(max_size=60), st.binary(max_size=60))
def test_whatever_its_files_hold_the_guest_is_judged(main: bytes, sesman: bytes, session: bytes, certificate: bytes) -> None:
    made = desk()
    held = {
        "/etc/xrdp/xrdp.ini": main,
        "/etc/xrdp/sesman.ini": sesman,
        "/home/mara/.xsession": session,
        "/etc/xrdp/cert.pem": certificate,
    }
    files = {path: Entry(EntryKind.FILE, 0o644, size=len(content), content=content) for path, content in held.items()}
    access = guest_access(readings.read(made.with_files(files)), AT)
    assert guest_audit(access, AT, None).guest == "gauge"
    assert identities(access).guest == "gauge"


SEEN = [
    ("session ends", desk(files={"/home/mara/.xsession": "openbox &\n"}), "no session starts, or it ends with its script"),
    ("closes at once", desk(modes={"/etc/xrdp/key.pem": (0o600, 0, 0)}), "the seal that is asked for is not served"),
    ("permission denied", desk(group="TerminalServerUsers=xrdp"), "a list leaves the account out"),
    ("refused", desk("80"), "no server listens there"),
]


@pytest.mark.parametrize("symptom, snapshot, cause", SEEN, ids=[each[0] for each in SEEN])
def test_what_is_seen_leads_to_its_cause(tmp_path: Path, symptom: str, snapshot: Snapshot, cause: str) -> None:
    made = estate(tmp_path, GRANT)
    found = why_of(made, snapshot, AT, WhyQuestion("mara", "gauge", ("rdp",)), symptom=Symptom(symptom))
    assert [each.text for each in found.suspicions if each.stands is Borne.CONFIRMED] == [cause]
