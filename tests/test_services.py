"""Services as a table: a made-up one beside SSH goes through grants, audit, draft and JSON, and neither touches the other."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from ipaddress import ip_address
from pathlib import Path

import pytest

from nightlatch.access.exposure import Fate, exposure
from nightlatch.access.paths import guest_access
from nightlatch.access.verdicts import Flow, passed
from nightlatch.audit import wire
from nightlatch.audit.findings import Group, GuestAudit
from nightlatch.describe import holders, sentences
from nightlatch.draft.plan import ProvedDraft
from nightlatch.draft.steps import SetRules
from nightlatch.estate.load import load as load_estate
from nightlatch.estate.model import Estate, GuestSpec, Via, ViaKind
from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot
from nightlatch.faults import EstateError, RefusedError
from nightlatch.formats.keys import parse_public
from nightlatch.latch.planned_change import planned
from nightlatch.model.services import SERVICES
from nightlatch.net.addresses import AddressSet, single
from nightlatch.ops.audit import Audit, Auditor, audit
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.perimeter import draft_perimeter
from nightlatch.ops.survey import survey
from nightlatch.origin import Origin
from nightlatch.probe.ssh import Identification, ProvenKey
from nightlatch.probe.stages import Look, Target
from nightlatch.readings import guest as readings
from nightlatch.report import machine
from nightlatch.services.base import ServerState
from nightlatch.services.ssh.kind import SSH
from nightlatch.services.table import table
from tests.guests import AT, HEAD, KEYS, NFT, Guest, pub
from tests.tide import FILE, TIDE, Tide

KINDS = table([SSH, Tide()])
SSH_GRANT = "{let: mara, into: gauge, by: ssh, from: bench, with: key}"
TIDE_GRANT = "{let: joon, into: gauge, by: tide, from: field, with: password}"
HOLE = "Anyone with the password of joon gets a look at the screen by tide, from anywhere but field."
STARTED = "/etc/systemd/system/multi-user.target.wants"
SSH_RULE = "tcp dport 22 accept"
FIELD = "203.0.113.20-203.0.113.21"
FIELD_RULE = f"ip saddr {FIELD} tcp dport 4711 accept"
FIELD_SET = single(ip_address("203.0.113.20")) | single(ip_address("203.0.113.21"))
Make = Callable[..., Estate]


@pytest.fixture
def estate(tmp_path: Path) -> Make:
    (tmp_path / "keys").symlink_to(KEYS)

    def make(*grants: str, more: str = "") -> Estate:
        path = tmp_path / "estate.yaml"
        via = "via: {folder: gauge, as: keeper, key: keys/keeper.pub, from: bench}"
        text = f"{HEAD}guests:\n  gauge: {{system: debian-12, {via}}}\ngrants:\n"
        path.write_text(text + "".join(f"  - {grant}\n" for grant in grants) + more)
        return load_estate(path, (*SERVICES, TIDE))

    return make


def guest(tided: str | None = "port 4711\nreader joon\n", *rules: str, config: str = "PasswordAuthentication no\n") -> Guest:
    files: dict[str, str | bytes] = {FILE: tided} if tided is not None else {}
    if rules:
        files |= {"/etc/nftables.conf": NFT.format(rule="\n\t\t".join(rules)), f"{STARTED}/nftables.service": ""}
    held = {"mara": ("mara-desk", "mara-token"), "keeper": ("keeper",)}
    keys = {name: "".join(f'from="192.168.40.0/24" {pub(each)}\n' for each in those) for name, those in held.items()}
    return Guest(config, keys, files=files, passwords={"joon": "{yescrypt}"})


def evidence(made: Guest | Snapshot) -> Snapshot:
    return made if isinstance(made, Snapshot) else made.snapshot()


def audited(made: Guest | Snapshot, estate: Estate) -> GuestAudit:
    found = Auditor(estate, AT, KINDS).result(evidence(made))[0]
    assert not found.unread, found.unread
    return found


def differences(found: GuestAudit) -> list[tuple[str, str]]:
    return [(each.check, each.text) for each in found.findings if each.group in (Group.HOLE, Group.SHUT_OUT, Group.MANAGEMENT)]


def drafted(made: Guest | Snapshot, estate: Estate) -> ProvedDraft:
    read = evidence(made)
    return prove(estate, draft(estate, read, AT, KINDS), read, AT, KINDS)


def let_in(snapshot: Snapshot, port: int) -> AddressSet:
    """Who comes through the filter to a port."""
    rules = readings.read(snapshot).filter.rules
    assert rules is not None
    found = passed(rules, Flow("tcp", port))
    assert found.surely == found.perhaps
    return found.surely


def test_a_grant_opens_what_it_says(estate: Make) -> None:
    """The filter of the guest is open, so whoever knows the password reads the tide from anywhere."""
    of = estate(SSH_GRANT, TIDE_GRANT)
    assert differences(audited(guest(), of)) == [("hole", HOLE)]
    assert not differences(audited(guest("port 4711\nreader joon\n", SSH_RULE, FIELD_RULE), of))


def test_a_grant_by_one_service_is_none_by_another(estate: Make) -> None:
    """The same account, proof and place, granted by SSH: the tide is a hole then, and SSH is what somebody can't use."""
    told = differences(audited(guest(), estate(SSH_GRANT, TIDE_GRANT.replace("tide", "ssh"))))
    assert told == [
        ("hole", HOLE.replace(" but field", "")),
        ("shut-out", "joon can't get a shell from field: passwords are switched off."),
    ]


@pytest.mark.parametrize(("by", "left"), [("", 1), (", by: ssh", 1), (", by: tide", 0)])
def test_a_waiver_is_for_one_service(estate: Make, by: str, left: int) -> None:
    words = f"account: joon, with: password, from: anywhere{by}"
    waiver = f"{{finding: hole, on: gauge, owner: mara, because: old, until: 2027-01-31, {words}}}"
    found = audited(guest(), estate(SSH_GRANT, more=f"waivers:\n  - {waiver}\n")).findings
    assert len([each for each in found if each.check == "hole" and not each.waived]) == left


@pytest.mark.parametrize(
    ("tided", "because"),
    [
        ("port 4711\n", "joon may not log in: reader none."),
        (None, "there is no tide server."),
        ("port\n", "tided does not start: port is no word of it."),
    ],
)
def test_who_is_shut_out_is_told_by_the_service(estate: Make, tided: str | None, because: str) -> None:
    told = differences(audited(guest(tided), estate(SSH_GRANT, TIDE_GRANT)))
    assert told == [("shut-out", f"joon can't get a look at the screen by tide from field: {because}")]


@pytest.mark.parametrize("config", ["PasswordAuthentication perhaps\n", None])
def test_other_services_answer_where_ssh_is_broken_or_missing(estate: Make, config: str | None) -> None:
    gone = {"/usr/sbin/sshd": Entry(EntryKind.ABSENT)} if config is None else {}
    made = guest(config=config or "").snapshot().with_files(gone)
    access = [guest_access(readings.read(each), AT, kinds=KINDS) for each in (guest().snapshot(), made)]
    sound, broken = ([path for path in each.paths if path.service == "tide"] for each in access)
    assert sound == broken != []
    assert [each.state for each in access[1].services] == [
        ServerState.BROKEN if config else ServerState.ABSENT,
        ServerState.SERVES,
    ]
    assert ("hole", HOLE) in differences(audited(made, estate(TIDE_GRANT)))


def test_a_draft_opens_the_port_of_its_own_service_alone(estate: Make) -> None:
    """SSH is open to bench only; a grant by the tide from field opens 4711 to field, and 22 to nobody more."""
    made = guest("port 4711\nreader joon\n", f"ip saddr 192.168.40.0/24 {SSH_RULE}")
    of = estate(SSH_GRANT, TIDE_GRANT)
    assert [check for check, _ in differences(audited(made, of))] == ["shut-out"]
    proved = drafted(made, of)
    assert {type(step) for step in proved.draft.steps} == {SetRules}
    assert not proved.draft.left
    before, after = made.snapshot(), proved.after
    assert let_in(after, 22) == let_in(before, 22)
    assert let_in(after, 4711) - let_in(before, 4711) == FIELD_SET
    assert not differences(audited(after, of))
    assert not drafted(after, of).draft.steps


def test_each_service_has_a_door_of_its_own(estate: Make) -> None:
    """Both are shut out, one after the other drafts its door into the same file; neither lets the other's callers in."""
    made, of = guest("port 4711\nreader joon\n", "tcp dport 80 accept"), estate(SSH_GRANT, TIDE_GRANT)
    after = drafted(made, of).after
    assert not [each for each in differences(audited(after, of)) if each[0] == "shut-out"]
    assert let_in(after, 4711) - let_in(made.snapshot(), 4711) == FIELD_SET
    assert not let_in(after, 22) & FIELD_SET
    assert b"tcp dport 22 ip saddr" in (after.content("/etc/nightlatch.nft") or b"")
    alone = estate(SSH_GRANT)
    assert not let_in(drafted(made, alone).after, 4711) - let_in(made.snapshot(), 4711)


def test_a_draft_closes_by_the_service_s_own_file(estate: Make) -> None:
    proved = drafted(guest("port 4711\nreader joon\nopen yes\n"), estate(SSH_GRANT))
    assert proved.after.content(FILE) == b"port 4711\n"
    assert {step.path for step in proved.draft.steps} == {FILE}
    opened = drafted(guest("port 4711\n", SSH_RULE, FIELD_RULE), estate(SSH_GRANT, TIDE_GRANT))
    assert opened.after.content(FILE) == b"port 4711\nreader joon\n"


def test_documents_name_the_service(estate: Make) -> None:
    of = estate(SSH_GRANT, TIDE_GRANT)
    result = Audit(of.name, AT, (audited(guest(), of),))
    [told] = json.loads(machine.dumps(machine.audit(result)))["guests"]
    assert told["service"].endswith("; tided on all addresses port 4711")
    assert {way["by"] for way in told["ways_in"]} == {"ssh", "tide"}
    assert [each["about"] for each in told["findings"] if each["check"] == "hole"] == [
        [{"account": "joon", "with": "password", "by": "tide", "from": "anywhere but field"}]
    ]


@pytest.mark.parametrize(
    ("sentence", "said"),
    [
        (TIDE_GRANT.replace("tide", "tides"), 'the service "tides" is not known'),
        (TIDE_GRANT.replace("tide", "winrm"), 'the service "winrm" can\'t be honoured by this version yet'),
        (TIDE_GRANT.replace("password", "key"), '"key" is no proof'),
        (TIDE_GRANT.replace("}", ", may: administer, after: nothing}"), "grant 1 says may, which tide can't give"),
        (TIDE_GRANT.replace("}", ", only: {command: ls}}"), "only can't be said of tide"),
    ],
)
def test_a_sentence_takes_the_words_of_its_service(estate: Make, sentence: str, said: str) -> None:
    with pytest.raises(EstateError) as error:
        estate(sentence)
    assert said in str(error.value)


def test_its_files_are_read_with_all_others(tmp_path: Path, estate: Make) -> None:
    of = estate(TIDE_GRANT)
    guest().write(tmp_path / "gauge")
    [read] = survey(of, kinds=KINDS)
    assert read.snapshot is not None
    assert read.snapshot.content(FILE) == b"port 4711\nreader joon\n"
    found = audit(of, AT, kinds=KINDS, jobs=2).guests[0]
    assert ("hole", HOLE) in differences(found)


def test_each_socket_is_told_with_its_program() -> None:
    found = exposure(readings.read(guest("port 4711\nreader joon\n", SSH_RULE, FIELD_RULE).snapshot()), kinds=KINDS)
    assert [(each.port, each.program) for each in found] == [(22, "sshd"), (4711, "tided")]
    assert found[1].sources(Fate.IN) == FIELD_SET


def test_a_perimeter_lets_in_to_each_port_whom_its_own_grants_do(estate: Make, tmp_path: Path) -> None:
    """The row that the tide lacks outside is for 4711; that SSH is granted to others does not widen it."""
    (tmp_path / "outer.csv").write_text("from,to,does\n192.168.40.0/24,22,pass\n0.0.0.0/0,any,block\n")
    network = (
        "networks:\n  isle: {subnet: 192.168.56.0/24, perimeter: {read: outer.csv, taken: 2026-11-20,"
        " columns: {source: from, port: to, action: does}}}\n"
    )
    path = tmp_path / "estate.yaml"
    estate(SSH_GRANT, TIDE_GRANT)
    path.write_text(path.read_text().replace("guests:\n  gauge: {", f"{network}guests:\n  gauge: {{network: isle, "))
    guest().write(tmp_path / "gauge")
    of = load_estate(path, (*SERVICES, TIDE))
    [made] = draft_perimeter(of, AT, kinds=KINDS).drafts
    added = [dict(row) for row in made.rows if dict(row)["to"] == "4711"]
    assert [row["from"] for row in added] == ["203.0.113.20/31"]
    assert [dict(row)["from"] for row in made.rows if dict(row)["to"] == "22"] == ["192.168.40.0/24"]


def test_a_description_names_the_service() -> None:
    access = guest_access(readings.read(guest().snapshot()), AT, kinds=KINDS)
    said = sentences.of([access], holders.found_in([access]))
    told = {(each.service, each.account, each.proof, each.only) for each in said.sentences}
    assert ("tide", "joon", "password", None) in told
    assert ("ssh", "mara", "key", None) in told


def test_a_step_that_would_stop_another_service_is_refused(estate: Make) -> None:
    made, of = guest("port 4711\n", SSH_RULE, FIELD_RULE).snapshot(), estate(SSH_GRANT, TIDE_GRANT)
    good = draft(of, made, AT, KINDS)
    bad = replace(good, steps=(replace(good.steps[0], line="reader of tides"),))  # type: ignore[arg-type]
    with pytest.raises(RefusedError, match="tided would not start: reader is no word of it"):
        prove(of, bad, made, AT, KINDS)


def test_the_latch_refuses_what_it_can_not_have_loaded(estate: Make) -> None:
    of = estate(SSH_GRANT)
    with pytest.raises(RefusedError, match="tided can't be told to load its files on the latch yet"):
        planned(of, drafted(guest("port 4711\nopen yes\n"), of), kinds=KINDS)


def test_a_server_that_is_stopped_says_so() -> None:
    """Of a running guest; a folder is judged as if its server ran."""
    found = {}
    for name, listings in (("folder", {}), ("running", {"sockets": b"", "daemons": b""})):
        access = guest_access(readings.read(replace(guest().snapshot(), listings=listings)), AT)
        found[name] = access.ssh.state
        assert access.paths
    assert found == {"folder": ServerState.SERVES, "running": ServerState.STOPPED}


@pytest.mark.parametrize("config", ["", "PasswordAuthentication perhaps\n"])
def test_another_host_key_is_told_though_the_files_that_were_read_are_refused(config: str) -> None:
    made = guest(config=config)
    made.files["/etc/ssh/ssh_host_ed25519_key.pub"] = pub("joon-desk")
    shown = ProvenKey(parse_public((KEYS / "mara-desk.pub").read_bytes()), "curve25519-sha256", "ssh-ed25519")
    look = Look(Target("192.168.56.21"), here="192.168.40.7", keys=(shown,), identified=Identification("SSH-2.0-x"))
    spec = GuestSpec("gauge", Via(ViaKind.SSH, Origin("estate.yaml")), Origin("estate.yaml"), host_keys=(shown.key.fingerprint,))
    told = wire.judged(look, spec, (), made.access())
    assert "reach.not-the-guest-read" in [each.check for each in told]
