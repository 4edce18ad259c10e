"""The estate's list of revoked keys on a running guest: real logins with what is on it, before, meanwhile and after."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from nightlatch.estate.load import load
from nightlatch.formats import krl
from nightlatch.formats.keys import parse_public
from nightlatch.ops.undo import undo
from tests.live.latching import enact, leftovers, proved, settled
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "ssh-keygen", root=True)
GRANTS = """
let: joon, into: all guests, by: ssh, from: bench, with: key
let: mara, into: all guests, by: ssh, from: bench, with: key
"""
BOUND = 'from="192.168.40.0/24,2001:db8:40::/64"'


def test_what_is_on_the_list_opens_nothing_any_more(station: Station) -> None:
    guest = station.guest("gauge", config="PasswordAuthentication no\n")
    for uid, account in ((1000, "keeper"), (1001, "mara"), (1002, "joon")):
        key = station.keys["desk" if account == "keeper" else account]
        guest.image.write(f"/home/{account}/.ssh/authorized_keys", f"{BOUND} {key}\n", 0o600, uid, uid)
    guest.boot()
    guest.until_listening()
    before = guest.files("/etc/ssh", "/home/joon", "/home/mara")
    path = station.estate(GRANTS, more="revoked: revoked.krl\n")
    lost = parse_public(station.keys["joon"].encode())
    (station.folder / "revoked.krl").write_bytes(krl.extended(krl.EMPTY, [lost], [], datetime.now(UTC)))
    assert station.login(guest, "joon", "joon")
    assert [step.path for step in proved(station, path, "gauge").draft.steps] == [
        "/home/joon/.ssh/authorized_keys",
        "/etc/ssh/nightlatch_revoked",
        "/etc/ssh/sshd_config",
    ]
    assert enact(station, path, "gauge").outcome == "kept"
    settled(guest)
    assert not station.login(guest, "joon", "joon")
    assert station.login(guest, "mara", "mara")
    # An old copy of the key file comes back: the list refuses it all the same.
    guest.inside("sh", "-c", f"echo '{station.keys['joon']}' >/home/joon/.ssh/authorized_keys; chown joon: /home/joon/.ssh/*")
    assert not station.login(guest, "joon", "joon")
    told = guest.inside("ssh-keygen", "-Q", "-l", "-f", "/etc/ssh/nightlatch_revoked", check=False)
    assert lost.fingerprint in told
    again = proved(station, path, "gauge")
    assert not again.draft.steps, "a line that opens nothing is no way in"
    guest.inside("sh", "-c", ": >/home/joon/.ssh/authorized_keys")
    with station.client() as client:
        assert undo(load(path), "gauge", datetime.now(UTC), client=client).outcome == "put back"
    settled(guest)
    assert station.login(guest, "joon", "joon")
    now = guest.files("/etc/ssh", "/home/joon", "/home/mara")
    assert {p for p in {**before, **now} if before.get(p) != now.get(p)} == set()
    assert not leftovers(guest)
