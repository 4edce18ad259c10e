"""The chapter of the story about screens: a guest with a VNC server, and one with a desktop by RDP."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import nightlatch
from nightlatch.demo.build import PAM, Story, write_guest
from nightlatch.report import audit_text, change_text
from nightlatch.report.page import Page

FILE = "screens.yaml"
ESTATE = """\
nightlatch: 1
estate: Skerry Point, the screens
places: {bench: [192.168.40.0/24, "2001:db8:40::/64"]}
people:
  mara: {keys: [keys/mara-desk.pub, keys/mara-token.pub]}
  joon: {keys: [keys/joon-desk.pub]}
guests:
  watch: {system: debian-12, via: {folder: screens/watch}}       # shows the tides, on a screen by VNC
  berth: {system: debian-12, via: {folder: screens/berth}}       # a desktop by RDP
grants:
  - {let: mara, into: watch, by: vnc, screen: 1, from: bench, with: screen password, through: {ssh: watch, with: key}}
  - {let: [mara, joon], into: berth, by: ssh, from: bench, with: key}
  - {let: [mara, joon], into: berth, by: rdp, from: bench, with: password}
emergency:
  - {account: lantern, into: all guests, by: {ssh: {from: bench, with: key, keys: [keys/lantern.pub]}}}
"""
WANTS = "/etc/systemd/system/multi-user.target.wants"
# Accounts of other stories, that nobody has keys to here.
QUIET = {f"/home/{name}/.ssh/authorized_keys": "" for name in ("keeper", "charts", "copier")}
QUIET["/etc/sudoers"] = "root ALL=(ALL:ALL) ALL\n"
WATCH = {
    **QUIET,
    "/home/joon/.ssh/authorized_keys": "",
    "/etc/ssh/sshd_config.d/20-quiet.conf": "PasswordAuthentication no\n# Nobody needs tunnels here.\nAllowTcpForwarding no\n",
    "/etc/tigervnc/vncserver.users": "# display=account\n:1=mara\n",
    "/usr/lib/systemd/system/tigervncserver@.service": (
        "[Service]\nType=forking\nExecStart=/usr/libexec/tigervncsession-start %i\n\n[Install]\nWantedBy=multi-user.target\n"
    ),
    f"{WANTS}/tigervncserver@:1.service": "",
    "/home/mara/.vnc/tigervnc.conf": (
        '# the tablet on the bench could not get in\n$localhost = "no";\n$SecurityTypes = "VncAuth";\n1;\n'
    ),
    "/home/mara/.vnc/passwd": "8 bytes.",
    "/home/mara/.vnc/xstartup": "#!/bin/sh\nunset SESSION_MANAGER\nexec openbox\n",
    "/etc/systemd/system/mirror.service": (
        "[Unit]\nDescription=The tide table, for the tablet\n\n[Service]\nUser=charts\n"
        "ExecStart=/usr/bin/x11vnc -display :0 -forever -shared\nRestart=always\n\n[Install]\nWantedBy=multi-user.target\n"
    ),
    f"{WANTS}/mirror.service": "",
}
FILTER = """\
flush ruleset
table inet filter {
	chain input {
		type filter hook input priority filter; policy drop;
		ct state established,related accept
		iif lo accept
		meta l4proto { icmp, ipv6-icmp } accept
		ip saddr 192.168.40.0/24 tcp dport { 22, 3389 } accept
		ip6 saddr 2001:db8:40::/64 tcp dport { 22, 3389 } accept
	}
}
"""
BERTH = {
    **QUIET,
    "/etc/nftables.conf": FILTER,
    "/etc/systemd/system/sysinit.target.wants/nftables.service": "",
    "/etc/ssh/sshd_config.d/20-quiet.conf": "PasswordAuthentication no\n",
    "/etc/xrdp/xrdp.ini": (
        "[Globals]\nport=3389\n; so that every client gets in\nsecurity_layer=negotiate\ncertificate=\nkey_file=\n\n"
        "[Logging]\nLogFile=xrdp.log\n\n[Xorg]\nname=Xorg\nlib=libxup.so\nusername=ask\npassword=ask\nport=-1\n"
    ),
    "/etc/xrdp/sesman.ini": (
        "[Globals]\nEnableUserWindowManager=true\nUserWindowManager=startwm.sh\nDefaultWindowManager=startwm.sh\n\n"
        "[Security]\nAllowRootLogin=true\nTerminalServerUsers=tsusers\n\n[Sessions]\nMaxSessions=50\n\n[Xorg]\nparam=/usr/lib/xorg/Xorg\n"
    ),
    "/etc/xrdp/cert.pem": "-----BEGIN CERTIFICATE-----\nMA==\n-----END CERTIFICATE-----\n",
    "/etc/xrdp/key.pem": "",
    "/etc/xrdp/startwm.sh": "#!/bin/sh\nexec /bin/sh /etc/X11/Xsession\n",
    "/etc/X11/Xsession.options": "allow-user-xsession\n",
    "/etc/systemd/system/xrdp.service": "[Service]\nUser=xrdp\nExecStart=/usr/sbin/xrdp\n",
    f"{WANTS}/xrdp.service": "",
    "/home/joon/.xsession": "# a desktop of my own\nopenbox &\n",
    "/etc/pam.d/xrdp-sesman": "@include common-auth\n@include common-account\n",
    "/etc/pam.d/common-account": PAM["common-account"],
}
PROGRAMS = (
    "/etc/X11/Xsession",
    "/usr/bin/x-window-manager",
    "/usr/bin/openbox",
)
OF_WATCH = ("/usr/bin/Xtigervnc", "/usr/bin/tigervncserver", "/usr/bin/x11vnc")
OF_BERTH = ("/usr/sbin/xrdp", "/usr/sbin/xrdp-sesman", "/usr/lib/xorg/Xorg", "/usr/lib/xorg/modules/libxorgxrdp.so")
# The account of the server, and the group that may read keys, as their packages make them.
PASSWD, GROUP, KEYS = "xrdp:x:990:990::/run/xrdp:/usr/sbin/nologin\n", "xrdp:x:990:\nssl-cert:x:110:\n", 110


def build(folder: Path) -> Path:
    """Write both guests and their estate file beside the others; returns the file's path."""
    path = folder / FILE
    path.write_text(ESTATE)
    secrets = {"/home/mara/.vnc/passwd": (0o600, 1001, 1001), "/home/mara/.vnc/xstartup": (0o755, 1001, 1001)}
    watch = Story("watch", WATCH, secrets)
    run = {
        "/etc/xrdp/startwm.sh": (0o755, 0, 0),
        "/etc/xrdp/key.pem": (0o640, 0, KEYS),
        "/home/joon/.xsession": (0o644, 1002, 1002),
    }
    berth = Story("berth", BERTH, run, ("mara", "joon"))
    write_guest(folder / "screens/watch", watch, (*PROGRAMS, *OF_WATCH))
    write_guest(folder / "screens/berth", berth, (*PROGRAMS, *OF_BERTH), PASSWD, GROUP)
    return path


def tell(sheet: Page, folder: Path, at: datetime) -> None:
    """Audit, draft and enact, and audit again."""
    path = build(folder)
    estate = nightlatch.load_estate(path)
    for spec in estate.grants:
        sheet.wrapped(spec.text, indent=2)
    sheet.blank()
    audit_text.audit(sheet, nightlatch.audit(estate, at), FILE)
    for found in nightlatch.survey(estate):
        if found.snapshot is not None:
            made = nightlatch.draft(estate, found.snapshot, at)
            change_text.draft(sheet, nightlatch.prove(estate, made, found.snapshot, at))
            change_text.enacted(sheet, nightlatch.enact(estate, found.guest, at).changed, FILE)
    audit_text.audit(sheet, nightlatch.audit(estate, at), FILE)
