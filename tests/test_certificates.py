"""What a certificate has to say, by the grants: who it is for, from where, to do what, and how long."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.access.credentials import Unlimited, WantedCertificate, wanted_certificate
from nightlatch.estate.load import load
from tests.guests import pub

AT = datetime(2026, 12, 1, 12, tzinfo=UTC)
SHELL = ("permit-agent-forwarding", "permit-port-forwarding", "permit-pty", "permit-user-rc")
HEAD = """\
nightlatch: 1
estate: Station
authorities: {crew: crew.pub}
places: {bench: 192.168.40.0/24, field: 203.0.113.0/24, hut: {inside: 10.0.0.0/24, seen_as: 203.0.113.9}}
people:
  mara: {keys: [crew.pub], certificate: {authority: crew, principals: [mara, keeper]}}
  joon: {keys: [crew.pub]}
networks:
  isle: {subnet: 192.168.56.0/24}
  cellar: {subnet: 10.9.0.0/24, private: true, forwards: [{at: any, port: 2222, to: {guest: gate, port: 22}, guest_sees: 10.9.0.1}]}
guests:
  gauge: {via: {folder: gauge}, network: isle}
  gate: {via: {folder: gate}, network: cellar}
grants:
"""


def wanted(tmp_path: Path, *grants: str, who: str = "mara") -> WantedCertificate | None:
    (tmp_path / "crew.pub").write_text(pub("skerry-users") + "\n")
    path = tmp_path / "estate.yaml"
    path.write_text(HEAD + "".join(f"  - {{let: {who}, by: ssh, {each}}}\n" for each in grants))
    estate = load(path)
    return wanted_certificate(estate, estate.principals[who], AT)


CASES = (
    (["into: gauge, from: bench, with: certificate"], ["192.168.40.0/24"], "", SHELL, ()),
    (["into: gauge, from: [bench, field], with: certificate"], ["192.168.40.0/24", "203.0.113.0/24"], "", SHELL, ()),
    (["into: gauge, from: anywhere, with: certificate"], None, "", SHELL, ()),
    (["into: gauge, from: hut, with: certificate"], ["203.0.113.9"], "", SHELL, ()),
    # Behind the forward all are seen as one address, and that is what a limit on the guest has to name.
    (["into: gate, from: field, with: certificate"], ["10.9.0.1"], "", SHELL, ()),
    (["into: gauge, from: bench, with: certificate, only: {command: /bin/tide}"], ["192.168.40.0/24"], "/bin/tide", (), ()),
    (["into: gauge, from: bench, with: certificate, only: {files: /}"], ["192.168.40.0/24"], "internal-sftp", (), ()),
    (["into: gauge, from: bench, with: certificate, only: {files: /srv}"], ["192.168.40.0/24"], "internal-sftp", (), (Unlimited.FOLDER,)),
    (
        ["into: gauge, from: bench, with: certificate, only: {command: /bin/a}", "into: gauge, from: bench, with: certificate, only: {command: /bin/b}"],
        ["192.168.40.0/24"], "", (), (Unlimited.SEVERAL_POWERS,),
    ),
    # A shell anywhere: one certificate opens all of them.
    (
        ["into: gauge, from: bench, with: certificate, only: {command: /bin/a}", "into: gauge, from: field, with: certificate"],
        ["192.168.40.0/24", "203.0.113.0/24"], "", SHELL, (),
    ),
    # What a key opens, and what is over, says nothing of a certificate.
    (["into: gauge, from: bench, with: certificate", "into: gauge, from: anywhere, with: key"], ["192.168.40.0/24"], "", SHELL, ()),
    (["into: gauge, from: bench, with: certificate", "into: gauge, from: field, with: certificate, until: 2026-11-30"], ["192.168.40.0/24"], "", SHELL, ()),
    (["into: gauge, from: field, with: [key, certificate + password]"], ["203.0.113.0/24"], "", SHELL, ()),
)  # fmt: skip


@pytest.mark.parametrize("grants, callers, command, allows, unlimited", CASES)
def test_what_it_says(
    tmp_path: Path,
    grants: list[str],
    callers: list[str] | None,
    command: str,
    allows: tuple[str, ...],
    unlimited: tuple[Unlimited, ...],
) -> None:
    found = wanted(tmp_path, *grants)
    assert found is not None
    assert found.principals == ("mara", "keeper")
    assert (found.callers.prefixes() if found.callers is not None else None) == callers
    assert (found.command, found.allows, found.unlimited) == (command, allows, unlimited)
    assert found.guests == (("gate",) if "gate" in grants[0] else ("gauge",))


def test_it_ends_with_the_last_grant(tmp_path: Path) -> None:
    grant = "into: gauge, from: bench, with: certificate"
    one = wanted(tmp_path, f"{grant}, until: 2026-12-24")
    assert one is not None
    assert one.until == datetime(2026, 12, 25, tzinfo=UTC)
    both = wanted(tmp_path, f"{grant}, until: 2026-12-24", "into: gate, from: field, with: certificate, until: 2026-12-31")
    assert both is not None
    assert both.until == datetime(2027, 1, 1, tzinfo=UTC)
    endless = wanted(tmp_path, f"{grant}, until: 2026-12-24", "into: gate, from: field, with: certificate")
    assert endless is not None
    assert endless.until is None


def test_nobody_gets_one_without_a_grant(tmp_path: Path) -> None:
    assert wanted(tmp_path, "into: gauge, from: bench, with: key") is None
    assert wanted(tmp_path, "into: gauge, from: bench, with: certificate, until: 2026-11-30") is None
    assert wanted(tmp_path, "into: gauge, from: bench, with: key", who="joon") is None
