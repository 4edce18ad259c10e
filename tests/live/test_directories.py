"""Accounts from elsewhere than files: a real module for nsswitch.conf(5) on a running guest, and real logins."""

from __future__ import annotations

import subprocess
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.access.paths import guest_access
from nightlatch.audit.findings import GuestAudit
from nightlatch.draft.plan import ProvedDraft
from nightlatch.estate.load import load
from nightlatch.lab.image import PASSWORD
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest
from nightlatch.ops.audit import Audit, audit
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.enact import enact
from nightlatch.ops.survey import more_of, survey_live
from nightlatch.readings import guest as readings
from nightlatch.readings import sssd
from tests.guests import lifted
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "getent", "id", root=True)
PROGRAMS = Path("/var/cache/nightlatch-lab/directory")  # tools/unpacked-programs.sh
BOUND = 'from="192.168.40.0/24,2001:db8:40::/64"'
GRANTS = """
let: mara, into: all guests, by: ssh, from: bench, with: key
let: joon, into: all guests, by: ssh, from: bench, with: key, as: tove, shared: a test
let: joon, into: all guests, by: ssh, from: bench, with: key, as: runa, shared: a test
"""


SOURCES = ["extrausers", pytest.param("sss", marks=pytest.mark.judge(tree=PROGRAMS))]
NAMES = {"extrausers": "gauge", "sss": "pilot"}
SLAPD = """\
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/nis.schema
modulepath /usr/lib/ldap
moduleload back_mdb
database mdb
suffix "dc=skerry,dc=example"
directory /var/lib/ldap
"""
PERSON = """
dn: uid={name},dc=skerry,dc=example
objectClass: account
objectClass: posixAccount
uid: {name}
cn: {name}
uidNumber: {uid}
gidNumber: 5001
homeDirectory: /home/{name}
loginShell: /bin/bash
userPassword: {password}
"""
ENTRIES = (
    "dn: dc=skerry,dc=example\nobjectClass: dcObject\nobjectClass: organization\no: Skerry Point\ndc: skerry\n"
    + "".join(PERSON.format(name=name, uid=uid, password=PASSWORD) for name, uid in (("tove", 5001), ("ragna", 5002)))
    + "\ndn: cn=boats,dc=skerry,dc=example\nobjectClass: posixGroup\ncn: boats\ngidNumber: 5003\nmemberUid: tove\n"
)
SSSD = """\
[sssd]
services = nss, pam
domains = harbour
[domain/harbour]
id_provider = ldap
auth_provider = ldap
access_provider = permit
ldap_uri = ldap://127.0.0.1
ldap_search_base = dc=skerry,dc=example
ldap_auth_disable_tls_never_use_in_production = true
"""
# As pam-auth-update(8) writes them where libpam-sss is installed.
PAM = {
    "common-auth": "auth [success=2 default=ignore] pam_unix.so nullok\nauth [success=1 default=ignore] pam_sss.so use_first_pass\n"
    "auth requisite pam_deny.so\nauth required pam_permit.so\n",
    "common-account": "account [success=1 new_authtok_reqd=done default=ignore] pam_unix.so\naccount requisite pam_deny.so\n"
    "account required pam_permit.so\naccount sufficient pam_localuser.so\n"
    "account [default=bad success=ok user_unknown=ignore] pam_sss.so\n",
}
START = """\
ldconfig
slapadd -f /etc/ldap/slapd.conf -l /root/entries.ldif && slapd -f /etc/ldap/slapd.conf -h ldap://127.0.0.1
mkdir -p /var/lib/sss/db /var/lib/sss/mc /var/lib/sss/pipes/private /var/log/sssd
systemctl start sssd && rm /root/entries.ldif && getent passwd tove
"""


@pytest.fixture(scope="module", params=SOURCES)
def guest(request: pytest.FixtureRequest, station: Station) -> Guest:
    """A guest whose nsswitch.conf names a second source, with tove and ragna; runa is in none. The source is a file, or sssd with a
    directory of its own (sssd-ldap(5))."""
    source = str(request.param)
    made = station.guest(
        NAMES[source],
        "192.168.56.21" if source == "extrausers" else "192.168.56.22",
        config="PasswordAuthentication no\nAllowGroups sudo mara boats\n",
    )
    made.image.write(
        "/etc/nsswitch.conf", f"passwd: files {source}\ngroup: files {source}\nshadow: files {source}\nhosts: files\n"
    )
    if source == "sss":
        subprocess.run(["cp", "-a", f"{PROGRAMS}/.", str(made.image.folder)], check=True)
        made.image.write("/etc/ldap/slapd.conf", SLAPD, 0o600)
        made.image.write("/root/entries.ldif", ENTRIES, 0o600)
        made.image.write("/etc/sssd/sssd.conf", SSSD, 0o600)
        made.image.own("/var/lib/ldap", 0o700, 0, 0)
        for name, text in PAM.items():
            made.image.write(f"/etc/pam.d/{name}", text)
    else:
        _beside(made)
    for uid, account, key in ((1000, "keeper", "desk"), (1001, "mara", "mara"), (5001, "tove", "joon")):
        made.image.own(f"/home/{account}", 0o755, uid, uid)
        made.image.own(f"/home/{account}/.ssh", 0o700, uid, uid)
        made.image.write(f"/home/{account}/.ssh/authorized_keys", f"{BOUND} {station.keys[key]}\n", 0o600, uid, uid)
    (made.image.folder / "home/joon/.ssh/authorized_keys").unlink()
    made.boot()
    made.until_listening()
    if source == "sss":
        assert made.inside("sh", "-c", START).startswith("tove:*:5001:5001:")
    return made


def _beside(made: Guest) -> None:
    extra = "/var/lib/extrausers"
    made.image.write(f"{extra}/passwd", "tove:x:5001:5001:Tove:/home/tove:/bin/bash\nragna:x:5002:5001::/home/ragna:/bin/bash\n")
    made.image.write(f"{extra}/group", "crew:x:5001:\nboats:x:5003:tove\n")
    made.image.write(f"{extra}/shadow", "tove:*:20000:0:99999:7:::\nragna:*:20000:0:99999:7:::\n", 0o600)


def of(result: Audit, guest: Guest) -> GuestAudit:
    return next(each for each in result.guests if each.guest == guest.name)


def test_an_account_of_a_directory_is_known_by_what_the_guest_says_of_it(station: Station, guest: Guest) -> None:
    path = station.estate(GRANTS)
    estate = load(path)
    snapshot = survey_live(Inside(guest), more_of(estate, estate.guests[guest.name]))
    told = snapshot.listings["directory"].decode().splitlines()
    field = "*" if guest.name == NAMES["sss"] else "x"
    assert f"account tove:{field}:5001:5001::/home/tove:/bin/bash" in told
    assert {line for line in told if line.startswith("asked")} == {"asked runa", "asked tove"}, "mara is in the guest's own files"
    assert not any("ragna" in line for line in told), "nobody asked for her"
    with station.client() as client:
        result = audit(estate, datetime.now(UTC), client=client)
    findings = {(f.check, f.text) for f in of(result, guest).findings if f.check.startswith(("hole", "shut-out"))}
    assert station.login(guest, "tove", "joon")
    assert [text for _, text in findings if "tove" in text] == [], "she gets in, as granted; AllowGroups knows her group by id(1)"
    assert [check for check, text in findings if "runa" in text] == ["shut-out"], (
        "who was asked for and is not there is not there"
    )


LETS_IN = [
    ("access_provider = permit", True),
    ("access_provider = deny", False),
    ("ACCESS_provider = simple\nsimple_allow_users = ragna , tove", True),
    ("access_provider = simple\nsimple_allow_users = ragna", False),
    ("access_provider = simple\nsimple_deny_users = tove", False),
    ("access_provider = simple\nsimple_allow_users = tove\nsimple_deny_users = tove", False),
    ("access_provider = simple", True),
    ("access_provider = simple\nsimple_allow_groups = boats", None),
    ("access_provider = simple\nsimple_allow_users = tove@harbour", None),
    ("# access_provider = deny", True),
]


def test_what_sssd_lets_in_is_read_from_its_files(station: Station, guest: Guest) -> None:
    if guest.name != NAMES["sss"]:
        return
    estate = load(station.estate(GRANTS))
    agreed = 0
    for text, said in LETS_IN:
        _settings(guest, SSSD.replace("access_provider = permit\n", ""), f"[domain/harbour]\n{text}\n")
        snapshot = survey_live(Inside(guest), more_of(estate, estate.guests[guest.name]))
        assert sssd.lets_in(snapshot, "tove") is said, text
        found = guest_access(readings.read(snapshot), datetime.now(UTC), lifted(estate)).paths
        certain = any(path.account == "tove" and path.callers.surely for path in found)
        assert certain is (said is True), text
        if said is not None:
            assert station.login(guest, "tove", "joon") is said, text
            agreed += 1
    assert agreed > 7
    _settings(guest, SSSD, "")


def _settings(guest: Guest, main: str, snippet: str) -> None:
    """Write both files of sssd, and wait until it has read them."""
    for path, text in (("sssd.conf", main), ("conf.d/20-harbour.conf", snippet)):
        guest.inside("sh", "-c", f"umask 077; mkdir -p /etc/sssd/conf.d; cat >/etc/sssd/{path}", stdin=text)
    guest.inside("sh", "-c", "systemctl reset-failed sssd; systemctl restart sssd && getent passwd tove")


def test_with_a_list_of_the_directory_nothing_is_left_undecided(station: Station, guest: Guest) -> None:
    path = station.estate(GRANTS)
    (station.folder / "harbour.csv").write_text("account,disabled\ntove,no\nragna,no\n")
    path.write_text(path.read_text() + "directories: {harbour: {accounts: harbour.csv, taken: 2026-11-20}}\n")
    with station.client() as client:
        for text, undecided in ((path.read_text(), False), (path.read_text().split("directories:")[0], True)):
            path.write_text(text)
            found = of(audit(load(path), datetime.now(UTC), client=client), guest).undecided
            assert any("accounts also come from" in proof.text for proof in found) is undecided, found


def test_an_account_of_a_directory_is_never_made_again(station: Station, guest: Guest) -> None:
    path = station.estate(GRANTS)
    with station.client() as client:
        made = proved(path, guest)
        assert not made.accounts, "runa may come from the directory one day: a person decides"
        assert any("runa" in entry.text for entry in made.draft.left)
        guest.inside("rm", "/home/tove/.ssh/authorized_keys")
        assert not station.login(guest, "tove", "joon")
        done = enact(load(path), guest.name, datetime.now(UTC), client=client, seconds=60)
    assert done.outcome == "kept"
    assert station.login(guest, "tove", "joon"), "her key was put into the home that the directory names"


def proved(path: Path, guest: Guest) -> ProvedDraft:
    estate, at = load(path), datetime.now(UTC)
    snapshot = survey_live(Inside(guest), more_of(estate, estate.guests[guest.name]))
    return prove(estate, draft(estate, snapshot, at), snapshot, at)
