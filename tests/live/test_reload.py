"""sshd is told to read its files again when it can hear it: what was written last is what it runs by, each time."""

from __future__ import annotations

from importlib.resources import files

import pytest

from nightlatch.evidence.script import trust
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)

AGAIN = """\
set -u
init={init} reload=yes start='' rebind='' was_running=yes unit=ssh.service program=/usr/sbin/sshd was_sockets=''
{service}
wrong=0 port=22
for one in 1 2 3 4 5 6 7 8 9 10; do
    # Somebody else has just told it, so it is on its way into itself.
    sockets="any:$port any:$((port + 2200))"
    kill -HUP "$(listener)"
    sleep "0.0$one"
    port=$((port + 2200))
    echo "Port $port" >/etc/ssh/sshd_config.d/01-port.conf
    load || echo "not told"
    sockets=any:$port
    listens || wrong=$((wrong + 1))
done
echo "$wrong wrong"
"""


@pytest.mark.parametrize("init", ["systemd", "other"])
def test_no_reload_is_lost_on_a_server_that_is_just_starting_over(station: Station, init: str) -> None:
    guest = station.guest(
        "buoy" if init == "systemd" else "mole", f"192.168.56.{31 if init == 'systemd' else 32}", unit="ssh.service"
    )
    guest.boot()
    guest.until_listening()
    service = trust() + files("nightlatch.latch").joinpath("service.sh").read_text()
    script = AGAIN.replace("{init}", init).replace("{service}", service)
    assert guest.inside("sh", "-s", stdin=script).strip() == "0 wrong"
