"""A password goes only where a key was seen to work: taken by sshd from here, or in its log; what any user writes there is no proof."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from nightlatch.faults import RefusedError
from nightlatch.lab.image import PASSWORD
from nightlatch.lab.machine import Guest, Node
from nightlatch.lab.tools import waited
from nightlatch.ops.enact import Consent, LiveChange
from nightlatch.ops.key_proofs import Seen
from tests.live.latching import enact, settled
from tests.live.station import DEBIAN_13, Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "journalctl", root=True)
KINDS = {"gauge": ("192.168.56.21", Path("/")), "pier": ("192.168.56.23", DEBIAN_13)}
ALL = ["gauge", pytest.param("pier", marks=pytest.mark.judge(tree=DEBIAN_13))]
BENCH = 'from="192.168.40.0/24,2001:db8:40::/64"'
FIELD = 'from="203.0.113.0/24"'
GRANTS = """
let: mara, into: all guests, by: ssh, from: bench, with: key
let: joon, into: all guests, by: ssh, from: field, with: key
"""


@pytest.fixture(scope="module")
def field(station: Station) -> Node:
    return station.lab.node("buoy", {"field": ["203.0.113.9/24"]})


@pytest.fixture(scope="module")
def guests(station: Station) -> dict[str, Guest]:
    """Guests whose passwords are open, and where everybody has a key, too; joon's from the field only."""
    out = {}
    for name, (address, lower) in KINDS.items():
        if lower.exists():
            guest = out[name] = station.guest(name, address, lower=lower)
            hashed = guest.image.hash(PASSWORD)
            shadow = guest.image.folder / "etc/shadow"
            shadow.write_text(shadow.read_text().replace("joon:*:", f"joon:{hashed}:"))
            for uid, account, line in ((1000, "keeper", BENCH), (1001, "mara", BENCH), (1002, "joon", FIELD)):
                key = station.keys["desk" if account == "keeper" else account]
                guest.image.write(f"/home/{account}/.ssh/authorized_keys", f"{line} {key}\n", 0o600, uid, uid)
            guest.boot()
            guest.until_listening()
    return out


def seen(done: LiveChange) -> dict[str, Seen]:
    return {each.account: each.seen for each in done.keys}


def taken_back(station: Station, path: Path, guest: Guest, **more: object) -> LiveChange:
    done = enact(station, path, guest.name, decide=lambda _: False, **more)
    settled(guest)
    assert done.outcome == "put back"
    return done


@pytest.mark.parametrize("name", ALL)
def test_passwords_go_once_each_key_was_seen(station: Station, guests: dict[str, Guest], field: Node, name: str) -> None:
    guest, path = guests[name], station.estate(GRANTS)
    before = (guest.root / "etc/ssh/sshd_config").read_bytes()
    told = "passwords would go before a key was seen to work: joon-key of joon for joon. Nothing was changed"
    with pytest.raises(RefusedError, match=told):
        enact(station, path, name)
    guest.inside("setpriv", "--reuid=joon", "--regid=joon", "--clear-groups", "sh", "-c", forged(station))
    with pytest.raises(RefusedError, match=told):
        enact(station, path, name)
    done = taken_back(station, path, guest, agreed={Consent.UNSEEN_KEYS})
    assert seen(done) == {"keeper": Seen.CAME_BY, "mara": Seen.TAKEN, "joon": Seen.NOT}
    assert station.login(guest, "joon", "joon", node=field)
    done = taken_back(station, path, guest)
    assert seen(done) == {"keeper": Seen.CAME_BY, "mara": Seen.TAKEN, "joon": Seen.LOGGED}
    assert (guest.root / "etc/ssh/sshd_config").read_bytes() == before
    out = " ".join(station.nightlatch("enact", "--yes", "--on", name, "--ssh-config", "ssh_config").split())
    settled(guest)
    assert "mara by the key mara-key: sshd takes it from here, asked without a signature" in out
    assert station.login(guest, "mara", "mara")
    assert station.login(guest, "joon", "joon", node=field)


def forged(station: Station) -> str:
    """Any account may write a line that names sshd."""
    public = (station.folder / "joon.pub").read_text()
    done = subprocess.run(["ssh-keygen", "-l", "-f", "-"], input=public, capture_output=True, text=True, check=True)
    line = f"Accepted publickey for joon from 203.0.113.9 port 4711 ssh2: ED25519 {done.stdout.split()[1]}"
    return f"logger -t sshd -p auth.info '{line}'; printf '%s\\n' '{line}' | systemd-cat -t sshd"


def test_what_sshd_does_not_take_closes_no_password(station: Station, guests: dict[str, Guest]) -> None:
    """The files were changed and not loaded: they say that the key opens, and the running sshd says that it does not."""
    guest, path = guests["gauge"], station.estate(GRANTS.splitlines()[1])
    more = guest.root / "etc/ssh/sshd_config.d/05-mara.conf"
    main = guest.root / "etc/ssh/sshd_config"
    was = main.read_bytes()
    main.write_bytes(b"".join(line for line in was.splitlines(True) if b"PasswordAuthentication no" not in line))
    more.write_text("Match User mara\n    PubkeyAuthentication no\n")
    guest.inside("systemctl", "reload", "ssh")
    # One login may fail for another reason, while sshd starts anew.
    refused = iter(lambda: not any(station.login(guest, "mara", "mara") for _ in range(2)), None)
    waited("sshd, to read its files again", refused, 20)
    more.unlink()
    with pytest.raises(RefusedError, match="sshd does not take mara-key for mara from here"):
        enact(station, path, "gauge")
    main.write_bytes(was)
    guest.inside("systemctl", "reload", "ssh")
