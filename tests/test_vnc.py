"""VNC in grants, audit and drafts, on guests that are made by hand; that it is read as the servers read it is held in tests/live."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.access.paths import guest_access
from nightlatch.audit.findings import Group
from nightlatch.audit.run import guest_audit
from nightlatch.audit.why import Standing, WhyQuestion
from nightlatch.evidence.collect import collect
from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot
from nightlatch.faults import EstateError
from nightlatch.formats import crontab, perl_settings
from nightlatch.formats.text_secrets import reduce_jobs
from nightlatch.model.links import Holds
from nightlatch.model.powers import DESKTOP, VIEW
from nightlatch.model.routes import Seal
from nightlatch.model.sockets import CONSOLE
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.why import why_of
from nightlatch.origin import Origin
from nightlatch.readings import guest as readings
from nightlatch.services.base import ServerState
from nightlatch.services.posix.x_sessions import STARTED
from nightlatch.services.vnc.collected import COLLECTED
from nightlatch.services.vnc.session import OWN
from nightlatch.services.vnc.starts import command, starts
from nightlatch.transports.folder import Folder
from tests.guests import AT, HASH, NFT, UIDS, Guest, estate, lifted, listening, pub, sshd

GRANT = "let: mara, into: gauge, by: vnc, from: bench, with: screen password"
KEY = "let: mara, into: gauge, by: ssh, from: bench, with: key"
MARA = UIDS["mara"]
SHUT = "PasswordAuthentication no\n"
PEM = "-----BEGIN CERTIFICATE-----\nMA==\n-----END CERTIFICATE-----\n"
WANTS = "/etc/systemd/system/multi-user.target.wants"
TEMPLATE = "[Service]\nType=forking\nExecStart=/usr/libexec/tigervncsession-start %i\n[Install]\nWantedBy=multi-user.target\n"
GOOD = '$localhost = "no";\n$SecurityTypes = "X509Vnc";\n1;\n'
SPOKEN = {
    f"vnc.{name}"
    for name in (
        "not-started no-session asks-nothing open-on-guest clear no-certificate no-tls password-file password-on-line short-password root "
        "mirrors same-port no-lockout not-at-boot ends-after-one unknown-start starts-for-everybody announced"
    ).split()
} | {"grant.clear", "grant.asks-nothing", "screen.xdmcp", "screen.x-over-tcp", "screen.own-sharing"}


def unit(line: str, user: str = "mara", more: str = "") -> dict[str, str | bytes]:
    """A unit that starts a server, and is started at a boot."""
    text = f"[Service]\nUser={user}\nExecStart={line}\n{more}[Install]\nWantedBy=multi-user.target\n"
    return {"/etc/systemd/system/screen.service": text, f"{WANTS}/screen.service": text}


def screens(
    conf: str = GOOD,
    *,
    files: dict[str, str | bytes] | None = None,
    modes: dict[str, tuple[int, int, int]] | None = None,
    secret: int = 8,
    at_boot: bool = True,
    users: str = ":1=mara\n",
    absent: tuple[str, ...] = (),
) -> Snapshot:
    """A guest with TigerVNC's server for mara on display 1, by the unit of its package; a password file of so many bytes."""
    held: dict[str, str | bytes] = {
        "/etc/tigervnc/vncserver.users": users,
        "/usr/lib/systemd/system/tigervncserver@.service": TEMPLATE,
        "/home/mara/.vnc/tigervnc.conf": conf,
        "/home/mara/.vnc/passwd": "x" * secret,
        "/etc/pam.d/tigervnc": "auth required pam_unix.so\naccount required pam_unix.so\n",
        f"{WANTS}/other.service": "",
        "/etc/X11/Xtigervnc-session": "exec /etc/X11/Xsession\n",
        "/etc/X11/Xsession": "",
        "/usr/bin/x-session-manager": "",
        "/usr/bin/startxfce4": "",
        **({f"{WANTS}/tigervncserver@:1.service": TEMPLATE} if at_boot else {}),
        **dict.fromkeys(("/usr/bin/Xtigervnc", "/usr/bin/tigervncserver", "/usr/bin/x11vnc"), ""),
        **(files or {}),
    }
    owners = {"/home/mara/.vnc/passwd": (0o600, MARA, MARA), **(modes or {})}
    keys = {"mara": f'from="192.168.40.0/24" {pub("mara-desk")}\n'}
    made = Guest(SHUT, keys, held, owners, {"mara": HASH}).snapshot()
    gone = [
        f"/home/{name}/.vnc/{file}" for name in ("joon", "keeper") for file in ("tigervnc.conf", "vnc.conf", "config", "passwd")
    ]
    gone += [f"/home/{name}/.x11vncrc" for name in ("mara", "joon", "keeper")]
    gone += ["/root/.x11vncrc", "/etc/pam.d/vnc"]
    gone += [f"/etc/tigervnc/vncserver-config-{kind}" for kind in ("defaults", "mandatory")]
    gone += [f"/home/mara/.vnc/{name}" for name in ("vnc.conf", "config", "passwdfile", *OWN)]
    gone += [f"/home/{name}/.vnc/{file}" for name in ("joon", "keeper") for file in OWN]
    known = {path: Entry(EntryKind.ABSENT) for path in (*gone, *absent) if path not in held or path in absent}
    secret_file = made.entries["/home/mara/.vnc/passwd"]
    return made.with_files({**known, "/home/mara/.vnc/passwd": replace(secret_file, content=None)} if absent == () else known)


def xstartup(text: str, mode: int = 0o755) -> Snapshot:
    """A guest whose wrapper starts mara's own script."""
    return screens(files={"/home/mara/.vnc/xstartup": text}, modes={"/home/mara/.vnc/xstartup": (mode, MARA, MARA)})


JOONS = screens(
    users=":1=joon\n",
    files={"/home/joon/.vnc/passwd": "x" * 8},
    modes={"/home/joon/.vnc/passwd": (0o600, UIDS["joon"], UIDS["joon"])},
)


def told(snapshot: Snapshot, folder: Path, grants: str = GRANT) -> dict[str, list[str]]:
    """The texts of findings by check."""
    made = estate(folder, grants)
    out: dict[str, list[str]] = {}
    for each in guest_audit(guest_access(readings.read(snapshot), AT, lifted(made)), AT, made).findings:
        out.setdefault(each.check, []).append(each.text)
    return out


def mirror(options: str = "-forever -rfbauth /etc/screen.pw", user: str = "root", more: str = "") -> Snapshot:
    """A guest whose console is mirrored by x11vnc."""
    files = {**unit(f"/usr/bin/x11vnc -display :0 {options}", user, more), "/etc/screen.pw": "x" * 8}
    return screens(files=files, at_boot=False, users="", modes={"/etc/screen.pw": (0o600, 0, 0)})


def test_a_grant_is_served_by_the_password_of_the_screen_and_by_nothing_else(tmp_path: Path) -> None:
    found = told(screens(), tmp_path, f"{GRANT}\n{KEY}")
    assert "shut-out" not in found
    assert found["hole"] == ["Anyone with the screen password of mara gets a desktop by vnc, from anywhere but bench."]
    paths = [p for p in guest_access(readings.read(screens()), AT).paths if p.service == "vnc"]
    assert {(p.account, p.seal, p.power, p.route.port) for p in paths} == {("mara", Seal.TLS, DESKTOP, 5901)}


def test_a_look_at_the_screen_has_a_password_of_its_own(tmp_path: Path) -> None:
    look = f"{GRANT}, only: {{view: yes}}"
    assert "shut-out" not in told(screens(secret=16), tmp_path / "a", look)
    assert "shut-out" in told(screens(), tmp_path / "b", look)
    assert (
        "Anyone with the screen password of mara gets a desktop by vnc, from anywhere."
        in told(screens(secret=16), tmp_path / "c", look)["hole"]
    )
    paths = {p.power for p in guest_access(readings.read(screens(secret=16)), AT).paths if p.service == "vnc"}
    assert paths == {DESKTOP, VIEW}


def test_a_screen_by_number_is_the_port_that_is_meant(tmp_path: Path) -> None:
    assert "shut-out" not in told(screens(), tmp_path / "a", f"{GRANT}, screen: 1")
    assert "shut-out" in told(screens(), tmp_path / "b", f"{GRANT}, screen: 2")
    assert any("from anywhere." in text for text in told(screens(), tmp_path / "c", f"{GRANT}, screen: 2")["hole"])
    with pytest.raises(EstateError, match="rdp has none by number"):
        estate(tmp_path / "d", "let: mara, into: gauge, by: rdp, from: bench, with: password, screen: 1")
    with pytest.raises(EstateError, match="asks for nothing and for something"):
        estate(tmp_path / "e", GRANT.replace("screen password", "none + password"))


@pytest.mark.parametrize(
    "snapshot, because",
    [
        (
            screens('$localhost = "no";\n$SecurityTypes = "VncAuth,TLSVnc";\n'),
            "VNC is not served over tls: SecurityTypes VncAuth,TLSVnc",
        ),
        (screens('$localhost = "no";\n$SecurityTypes = "X509Plain";\n'), "passwords are switched off"),
        (
            screens(absent=("/home/mara/.vnc/passwd",)),
            "a VNC server does not start: there is no password file /home/mara/.vnc/passwd, and nobody is there to type one",
        ),
        (
            screens(modes={"/home/mara/.vnc/passwd": (0o644, MARA, MARA)}),
            "a VNC server does not start: others may read /home/mara/.vnc/passwd, so the wrapper removes it and asks for another "
            "password",
        ),
        (
            xstartup("startxfce4 &\n"),
            "a login as mara ends at once: /home/mara/.vnc/xstartup: its last command, startxfce4, runs in the background",
        ),
        (JOONS, "no server of VNC shows the screen of mara"),
        (screens(at_boot=False), "a VNC server does not run"),
        (
            screens('$SecurityTypes = "X509Vnc";\n$X509Cert = "/etc/c.pem";\n$X509Key = "/etc/k.pem";\n'),
            "a VNC server does not start",
        ),
        (
            screens(absent=("/usr/bin/Xtigervnc", "/usr/bin/tigervncserver", "/usr/bin/x11vnc")),
            "there is no VNC server",
        ),
    ],
)
def test_why_nobody_gets_in_is_told(tmp_path: Path, snapshot: Snapshot, because: str) -> None:
    [text] = told(snapshot, tmp_path)["shut-out"]
    assert text.startswith(f"mara can't get a desktop by vnc from bench: {because}")


def test_the_console_is_granted_by_its_name(tmp_path: Path) -> None:
    grant = f"{GRANT}, as: console, seal: clear"
    assert "shut-out" not in told(mirror(), tmp_path / "a", grant)
    assert {p.account for p in guest_access(readings.read(mirror()), AT).paths if p.service == "vnc"} == {CONSOLE}
    assert "shut-out" in told(screens(), tmp_path / "b", grant)


CHECKS = [
    (
        "vnc.no-session",
        xstartup("#!/bin/sh\nunset DBUS_SESSION_BUS_ADDRESS\nstartxfce4 &\n"),
        xstartup("#!/bin/sh\nexec startxfce4\n"),
    ),
    ("vnc.no-session", xstartup("#!/bin/sh\nexec startxfce4\n", 0o644), screens()),
    ("vnc.no-session", screens(f"$vncStartup = undef;\n{GOOD}"), screens()),
    ("vnc.no-session", xstartup("#!/bin/sh\nexec icewm-session\n"), xstartup("startxfce4\n")),
    (
        "vnc.no-session",
        screens(absent=("/usr/bin/x-session-manager", *STARTED[1:])),
        screens(),
    ),
    ("vnc.not-started", screens('$localhost = "no";\n$SecurityTypes = "None";\n'), screens()),
    ("vnc.not-started", screens(users=":1=nobody-there\n"), screens()),
    ("vnc.not-started", screens(conf='$localhost = "off";\n'), screens()),
    ("vnc.asks-nothing", mirror("-forever"), mirror("-forever -localhost")),
    ("vnc.open-on-guest", screens('$SecurityTypes = "None";\n'), screens()),
    ("vnc.clear", screens('$localhost = "no";\n'), screens()),
    ("vnc.clear", mirror(), mirror("-forever -rfbauth /etc/screen.pw -localhost")),
    ("vnc.no-certificate", screens('$SecurityTypes = "TLSVnc";\n'), screens()),
    (
        "vnc.no-tls",
        screens(files=unit("/usr/bin/Xtigervnc :2 -SecurityTypes X509Vnc,VncAuth -rfbauth /home/mara/.vnc/passwd")),
        screens(
            files={
                **unit("/usr/bin/Xtigervnc :2 -SecurityTypes X509Vnc -X509Cert /etc/c.pem -X509Key /etc/k.pem"),
                "/etc/c.pem": PEM,
                "/etc/k.pem": "",
            }
        ),
    ),
    (
        "vnc.password-file",
        screens(
            files=unit("/usr/bin/Xtigervnc :2 -rfbauth /home/mara/.vnc/passwd"),
            modes={"/home/mara/.vnc/passwd": (0o644, MARA, MARA)},
            at_boot=False,
            users="",
        ),
        screens(),
    ),
    ("vnc.password-on-line", mirror("-forever -passwd {secret}"), mirror()),
    ("vnc.short-password", screens(), screens('$localhost = "no";\n$SecurityTypes = "X509Plain";\n')),
    ("vnc.root", screens(files=unit("/usr/bin/Xtigervnc :2 -SecurityTypes X509Vnc", "root")), screens()),
    ("vnc.mirrors", mirror(), mirror("-forever -rfbauth /etc/screen.pw -localhost")),
    ("vnc.same-port", screens(files=unit("/usr/bin/Xtigervnc :7 -rfbport 5901")), screens()),
    ("vnc.no-lockout", screens(f"$UseBlacklist = 0;\n{GOOD}"), screens()),
    ("vnc.not-at-boot", screens(at_boot=False), screens()),
    ("vnc.ends-after-one", mirror("-rfbauth /etc/screen.pw"), mirror("-rfbauth /etc/screen.pw", more="Restart=always\n")),
    (
        "vnc.starts-for-everybody",
        screens(files={"/etc/xdg/autostart/screen.desktop": "[Desktop Entry]\nExec=x11vnc -forever\n"}),
        screens(files={"/etc/xdg/autostart/screen.desktop": "[Desktop Entry]\n#Exec=x11vnc\nExec=xterm\n"}),
    ),
    (
        "vnc.announced",
        screens(files={"/etc/avahi/services/rfb.service": "<service><type>_rfb._tcp</type></service>"}),
        screens(files={"/etc/avahi/services/ssh.service": "<service><type>_ssh._tcp</type></service>"}),
    ),
]


@pytest.mark.parametrize("check, bad, good", CHECKS, ids=[f"{name} {number}" for number, (name, _, _) in enumerate(CHECKS)])
def test_what_is_unhygienic_is_told_and_nothing_else(tmp_path: Path, check: str, bad: Snapshot, good: Snapshot) -> None:
    assert len(told(bad, tmp_path / "bad").get(check, ())) == 1
    assert check not in told(good, tmp_path / "good")


def test_what_a_grant_does_without_is_always_told(tmp_path: Path) -> None:
    assert "grant.clear" in told(screens(), tmp_path / "a", f"{GRANT}, seal: clear")
    assert "grant.asks-nothing" in told(screens(), tmp_path / "b", GRANT.replace("screen password", "none"))
    assert not {"grant.clear", "grant.asks-nothing"} & set(told(screens(), tmp_path / "c"))


def test_a_server_that_nothing_read_starts_is_undecided(tmp_path: Path) -> None:
    rows = {**listening(("tcp", "0.0.0.0", 22, "sshd", 7), ("tcp", "0.0.0.0", 5903, "Xtigervnc", 9)), **sshd(7, 1000)}
    live = replace(screens(at_boot=False, users=""), listings=rows)
    found = told(live, tmp_path)
    assert len(found["vnc.unknown-start"]) == 1
    paths = [p for p in guest_access(readings.read(live), AT).paths if p.service == "vnc"]
    assert paths
    assert not any(path.callers.surely and not path.need for path in paths)


def test_what_starts_servers_is_found_wherever_it_stands() -> None:
    files = {
        **unit("-/bin/sh -c 'sleep 5; exec /usr/bin/x11vnc -forever >/dev/null 2>&1'", "joon"),
        "/etc/systemd/system/seat@.service": "[Service]\nUser=mara\nExecStart=/usr/bin/Xvnc :%i -rfbport 59%i\n",
        f"{WANTS}/seat@03.service": "",
        "/etc/cron.d/screens": "@reboot joon DISPLAY=:0 tigervncserver :4 -localhost no\n5 4 * * * joon x11vnc\n",
        "/var/spool/cron/crontabs/mara": "# mine\n@reboot vncserver :5\n@daily x11vnc\n",
        "/etc/crontab": "@reboot root su - mara -c 'x0tigervncserver -display :0'\n@reboot root runuser -u joon -- x11vnc -nopw\n",
    }
    found = {(each.program.value, each.account, each.words, each.at_boot) for each in starts(screens(files=files))}
    assert found == {
        ("tigervncserver", "mara", (":1",), True),
        ("x11vnc", "joon", ("-forever",), True),
        ("Xtigervnc", "mara", (":03", "-rfbport", "5903"), True),
        ("tigervncserver", "joon", (":4", "-localhost", "no"), True),
        ("tigervncserver", "mara", (":5",), True),
        ("x0tigervncserver", "mara", ("-display", ":0"), True),
        ("x11vnc", "joon", ("-nopw",), True),
    }


@pytest.mark.parametrize(
    "files",
    [
        {"/etc/os-release": "ID=fedora\n"},
        {"/var/lib/dpkg/status": "Package: tigervnc-standalone-server\nStatus: install ok installed\nVersion: 1.15.0+dfsg-2\n\n"},
    ],
)
def test_another_wrapper_than_the_one_that_is_known_is_undecided(files: dict[str, str | bytes]) -> None:
    paths = [p for p in guest_access(readings.read(screens(files=files)), AT).paths if p.service == "vnc"]
    assert paths
    assert not any(path.callers.surely for path in paths)


@pytest.mark.parametrize("text", ["x11vnc $OPTIONS", "sh -c 'x11vnc -rfbport `port`'", "tigervncserver %h"])
def test_what_can_t_be_followed_is_said(text: str) -> None:
    [found] = command(text, "mara", Origin("/etc/x", 1))
    assert found.gap is not None


@given(st.text(max_size=60))
def test_any_command_is_read_without_an_error(text: str) -> None:
    list(command(f"x11vnc {text}", "mara", Origin("/etc/x", 1)))
    list(command(text, "mara", Origin("/etc/x", 1)))


def test_of_a_table_of_cron_only_what_runs_at_a_boot_is_carried() -> None:
    raw = b"MAILTO=mara\n# remark\n\n  @Reboot x11vnc -passwd gull-and-tern -forever\n5 4 * * * backup --token abcdefgh\n"
    made = reduce_jobs(raw)
    assert made == b"{not carried}\n{not carried}\n\n  @Reboot x11vnc -passwd {secret} -forever\n{not carried}\n"
    assert [job.command for job in crontab.parse(made, "mara")] == ["x11vnc -passwd {secret} -forever"]


def test_what_only_root_may_read_is_not_carried_because_an_account_names_it(tmp_path: Path) -> None:
    root = tmp_path / "gauge"
    for path, text in {
        "etc/passwd": "mara:x:1001:1001::/home/mara:/bin/sh\n",
        "usr/bin/x11vnc": "",
        "root/plan": "the plan of the harbour\n",
        "home/mara/.x11vncrc": "rc /root/plan\nssl /root/plan\n",
        "home/mara/.vnc/config": "localhost=1\n",
    }.items():
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_text(text)
        (root / path).chmod(0o600 if path.startswith("root") else 0o644)
    (root / "home/mara/.vnc/tigervnc.conf").symlink_to("/root/plan")
    (root / "home/mara/.xsession").symlink_to("/root/plan")
    with Folder(root) as source:
        found = collect(source, "gauge", COLLECTED)
    assert found.content("/home/mara/.vnc/config") == b"localhost=1\n"
    if os.geteuid() == 0:
        assert all(b"harbour" not in (entry.content or b"") for entry in found.entries.values())


def test_a_draft_seals_what_is_granted_and_shuts_what_is_not(tmp_path: Path) -> None:
    made, snapshot = (
        estate(tmp_path / "a", f"{GRANT}\n{KEY}"),
        screens('$localhost = "no"; # for the bench\n$SecurityTypes = "VncAuth";\n1;\n'),
    )
    proved = prove(made, draft(made, snapshot, AT), snapshot, AT)
    after = (proved.after.content("/home/mara/.vnc/tigervnc.conf") or b"").decode()
    assert after == '$localhost = "no"; # for the bench\n$SecurityTypes = "X509Vnc";\n1;\n'
    other = estate(tmp_path / "b", KEY)
    for before, path, line in (
        (snapshot, "/home/mara/.vnc/tigervnc.conf", '$localhost = "yes"; # for the bench'),
        (
            mirror(),
            "/etc/systemd/system/screen.service",
            "ExecStart=/usr/bin/x11vnc -display :0 -forever -rfbauth /etc/screen.pw -localhost",
        ),
    ):
        shut = prove(other, draft(other, before, AT), before, AT)
        assert f"{line}\n" in (shut.after.content(path) or b"").decode()
        again = prove(other, draft(other, shut.after, AT), shut.after, AT)
        assert not again.draft.steps
        findings = guest_audit(guest_access(readings.read(shut.after), AT, lifted(other)), AT, other).findings
        assert not [each for each in findings if each.group is Group.HOLE and each.service == "vnc"]


def test_each_screen_has_a_door_of_its_own_in_the_filter(tmp_path: Path) -> None:
    """Two screens on one guest, granted to callers from different places."""
    words = "-SecurityTypes X509Vnc -rfbauth /etc/screen.pw -X509Cert /etc/c.pem -X509Key /etc/k.pem"
    files = unit(f"/usr/bin/Xtigervnc :2 {words}", "joon")
    files |= {
        path.replace("screen", "third"): str(text).replace(":2", ":3").replace("joon", "keeper") for path, text in files.items()
    }
    more: dict[str, str | bytes] = {"/etc/c.pem": PEM, "/etc/k.pem": "", "/etc/screen.pw": "x" * 8}
    more |= {
        "/etc/nftables.conf": NFT.format(rule="tcp dport 5902-5903 accept"),
        f"{WANTS.replace('multi-user', 'sysinit')}/nftables.service": "",
    }
    snapshot = screens(files={**files, **more}, at_boot=False, users="")
    grants = f"""let: mara, into: gauge, by: vnc, as: joon, from: bench, with: screen password
let: joon, into: gauge, by: vnc, as: keeper, from: [198.51.100.0/24], with: screen password
{KEY}"""
    made = estate(tmp_path / "a", grants)
    assert len(told(snapshot, tmp_path / "b", grants)["hole"]) == 2
    proved = prove(made, draft(made, snapshot, AT), snapshot, AT)
    assert "hole" not in told(proved.after, tmp_path / "c", grants)
    assert "shut-out" not in told(proved.after, tmp_path / "d", grants)
    gate = (proved.after.content("/etc/nightlatch.nft") or b"").decode()
    assert "5902" in gate
    assert "5903" in gate


def test_of_a_running_guest_a_restart_is_left_to_a_person(tmp_path: Path) -> None:
    rows = {**listening(("tcp", "0.0.0.0", 22, "sshd", 7), ("tcp", "0.0.0.0", 5901, "Xtigervnc", 9)), **sshd(7, 1000)}
    live = replace(screens('$localhost = "no";\n$SecurityTypes = "VncAuth";\n'), listings=rows)
    found = draft(estate(tmp_path, f"{GRANT}\n{KEY}"), live, AT)
    assert not [step for step in found.steps if step.path.startswith("/home/mara/.vnc")]
    hand = (
        'write $SecurityTypes = "X509Vnc"; into /home/mara/.vnc/tigervnc.conf, then start the server anew, which ends its session'
    )
    assert hand in [each.hand for each in found.left]


@pytest.mark.parametrize(
    "snapshot, link",
    [
        (screens(), ""),
        (screens('$localhost = "no";\n'), "settings"),
        (JOONS, "listener account"),
        (screens('$localhost = "no";\n$SecurityTypes = "X509Plain";\n'), "proof"),
    ],
)
def test_why_names_the_link_that_breaks(tmp_path: Path, snapshot: Snapshot, link: str) -> None:
    found = why_of(estate(tmp_path, GRANT), snapshot, AT, WhyQuestion("mara", "gauge", ("vnc",)))
    standing, chain = found.answer.chains[0]
    assert [each.kind.value for each in chain.links if each.holds is Holds.NO] == link.split()
    assert standing is (Standing.SHUT_OUT if link else Standing.AS_GRANTED)


THROUGH = f"{GRANT}, screen: 1, through: {{ssh: gauge, with: key}}"
OPEN, INSIDE = '$localhost = "no";\n$SecurityTypes = "VncAuth";\n1;\n', '$localhost = "yes";\n1;\n'


def forwarding(setting: str) -> Snapshot:
    """A guest whose screen is on the loopback address, with this setting of SSH."""
    return screens(INSIDE, files={"/etc/ssh/sshd_config": f"UsePAM no\n{SHUT}{setting}\n"})


def test_a_screen_through_ssh_has_no_other_way(tmp_path: Path) -> None:
    """The password and the key together open it, from where the key does; the direct way is a hole."""
    assert told(screens(INSIDE), tmp_path / "a", THROUGH) == {}
    assert told(screens(OPEN), tmp_path / "b", THROUGH)["hole"] == [
        "Anyone with the screen password of mara gets a desktop by vnc, from anywhere."
    ]
    made = estate(tmp_path / "c", THROUGH)
    proved = prove(made, draft(made, screens(OPEN), AT), screens(OPEN), AT)
    assert b'$localhost = "yes";' in (proved.after.content("/home/mara/.vnc/tigervnc.conf") or b"")
    assert told(proved.after, tmp_path / "d", THROUGH) == {}
    for sentence, because in (
        (THROUGH.replace("with: key}", "with: key, only: x}"), "gives nothing but a tunnel comes later"),
        (THROUGH.replace("ssh: gauge", "ssh: gate"), "ways through another guest come later"),
        (f"{KEY}, through: {{ssh: gauge, with: key}}", "ssh through a guest comes later"),
    ):
        with pytest.raises(EstateError, match=because):
            estate(tmp_path / "e", sentence)


@pytest.mark.parametrize(
    "setting, line",
    [
        ("AllowTcpForwarding no", "AllowTcpForwarding local\n"),
        ("AllowTcpForwarding remote", "AllowTcpForwarding yes\n"),
        ("PermitOpen localhost:80", "PermitOpen localhost:80 localhost:5901\n"),
        ("PermitOpen none", "PermitOpen localhost:5901\n"),
        ("DisableForwarding yes", "DisableForwarding no\n"),
    ],
)
def test_a_tunnel_that_is_not_permitted_is_told_and_drafted(tmp_path: Path, setting: str, line: str) -> None:
    keyword = setting.partition(" ")[0]
    [text] = told(forwarding(setting), tmp_path / "a", THROUGH)["shut-out"]
    assert "the login by ssh on the way opens no tunnel to it" in text
    assert keyword.lower() in text.lower()
    made = estate(tmp_path / "b", THROUGH)
    proved = prove(made, draft(made, forwarding(setting), AT), forwarding(setting), AT)
    assert line in (proved.after.content("/etc/ssh/sshd_config") or b"").decode()
    assert "shut-out" not in told(proved.after, tmp_path / "c", THROUGH)


@pytest.mark.parametrize("named", ["localhost:5901", "127.0.0.1:5901", "[::1]:5901", "localhost:*", "*:5901"])
def test_a_tunnel_that_is_permitted_by_any_spelling_serves(tmp_path: Path, named: str) -> None:
    assert "shut-out" not in told(forwarding(f"PermitOpen {named}"), tmp_path, THROUGH)


def test_why_follows_a_login_on_the_way_to_its_end(tmp_path: Path) -> None:
    made = estate(tmp_path, THROUGH)
    told_of = why_of(made, screens(INSIDE), AT, WhyQuestion("mara", "gauge", ("vnc",))).answer.chains
    [good] = [chain for standing, chain in told_of if standing is Standing.AS_GRANTED]
    assert [each.kind.value for each in good.links][-5:] == ["tunnel", "listener", "account", "settings", "proof"]
    assert not good.broken
    told_of = why_of(made, forwarding("AllowTcpForwarding no"), AT, WhyQuestion("mara", "gauge", ("vnc",))).answer.chains
    assert {standing for standing, _ in told_of} == {Standing.SHUT_OUT}
    assert ["tunnel"] in [[each.kind.value for each in chain.broken] for _, chain in told_of]


DISPLAYS = [
    ("screen.xdmcp", "/etc/gdm3/daemon.conf", "[xdmcp]\nEnable=true\n", "[xdmcp]\nEnable=false\n"),
    ("screen.xdmcp", "/etc/lightdm/lightdm.conf", "[XDMCPServer]\nenabled=true\n", "[XDMCPServer]\n#enabled=true\n"),
    ("screen.x-over-tcp", "/etc/gdm3/daemon.conf", "[security]\nDisallowTCP=false\n", "[security]\nDisallowTCP=true\n"),
    (
        "screen.x-over-tcp",
        "/etc/lightdm/lightdm.conf",
        "[Seat:*]\nxserver-allow-tcp=true\n",
        "[Seat:*]\nxserver-allow-tcp=false\n",
    ),
    ("screen.x-over-tcp", "/etc/sddm.conf", "[X11]\nServerArguments=-listen  tcp\n", "[X11]\nServerArguments=-nolisten tcp\n"),
]


@pytest.mark.parametrize("check, path, bad, good", DISPLAYS)
def test_what_a_display_manager_opens_is_told(tmp_path: Path, check: str, path: str, bad: str, good: str) -> None:
    assert len(told(screens(files={path: bad}), tmp_path / "a").get(check, ())) == 1
    assert check not in told(screens(files={path: good}), tmp_path / "b")


@pytest.mark.parametrize(
    "program, address, port, check",
    [
        ("gnome-remote-de", "0.0.0.0", 3389, "screen.own-sharing"),
        ("qemu-system-x86", "0.0.0.0", 5900, "screen.own-sharing"),
        ("Xorg", "[::]", 6000, "screen.x-over-tcp"),
        ("Xorg", "127.0.0.1", 6000, ""),
        ("krfb", "127.0.0.1", 5900, ""),
    ],
)
def test_what_shares_a_screen_by_itself_is_named(tmp_path: Path, program: str, address: str, port: int, check: str) -> None:
    rows = {**listening(("tcp", "0.0.0.0", 22, "sshd", 7), ("tcp", address, port, program, 9)), **sshd(7, 1000)}
    found = told(replace(screens(at_boot=False, users=""), listings=rows), tmp_path)
    assert {each for each in found if each.startswith("screen.")} == ({check} if check else set())


LINES = st.lists(
    st.sampled_from(
        [
            '$localhost = "no";',
            "$localhost='yes'; # x",
            "my $localhost = 1;",
            "our $localhost = undef;",
            "1;",
            "# x",
            "if (1) {",
            "}",
            "",
        ]
    )
    | st.text(st.characters(codec="utf-8"), max_size=12),
    max_size=10,
)


@given(LINES, st.sampled_from(["\n", "\r\n"]))
def test_every_byte_of_perl_comes_back_and_what_is_set_counts(lines: list[str], end: str) -> None:
    raw = end.join(lines).encode()
    document = perl_settings.parse(raw)
    assert perl_settings.render(document) == raw
    made = document.set("SecurityTypes", "X509Vnc")
    if not any(line.strip() in ("__END__", "__DATA__") for line in raw.decode().split("\n")):
        found = made.last("SecurityTypes")
        assert found is not None
        assert found.value == "X509Vnc"
        assert made.set("SecurityTypes", "X509Vnc") == made


def test_the_state_of_what_is_not_there(tmp_path: Path) -> None:
    bare = Guest(SHUT, {"mara": pub("mara-desk")}).snapshot()
    [server] = guest_access(readings.read(bare), AT).of("vnc")
    assert server.state is ServerState.ABSENT
    lost = {path: entry for path, entry in bare.entries.items() if path != "/usr/bin"}
    [server] = guest_access(readings.read(replace(bare, entries=lost, listed=frozenset())), AT).of("vnc")
    assert server.state is ServerState.NOT_COLLECTED
