"""Why somebody gets in or not: the links of each chain against the whole reasoning, and each link broken on purpose."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime
from itertools import product
from pathlib import Path
from typing import Any

import pytest

from nightlatch.access.chains import Chain, chains
from nightlatch.access.differences import find_shut_out
from nightlatch.access.grants import address_spaces, expand
from nightlatch.access.paths import guest_access
from nightlatch.audit.symptoms import Borne, Symptom
from nightlatch.audit.why import Standing, WhyQuestion
from nightlatch.demo.build import build
from nightlatch.draft.filter_steps import together
from nightlatch.draft.steps import apply_all
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import NightlatchError
from nightlatch.formats.keys import parse_public
from nightlatch.model import causes
from nightlatch.model.bounds import Bounds
from nightlatch.model.links import Holds, Link, LinkKind, admitted
from nightlatch.model.secrets import Certificate, Key, Need, Password
from nightlatch.model.sources import COMMON, Sources, joined, without
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet
from nightlatch.ops.survey import survey
from nightlatch.ops.why import Why, why, why_of, why_target
from nightlatch.readings import guest as readings
from nightlatch.services.base import Login
from nightlatch.services.ssh.log_lines import telling
from nightlatch.services.table import KINDS
from tests.budget import ALL, cases
from tests.commands import COMMANDS, Done
from tests.guests import AT, NFT, Guest, pub
from tests.guests import estate as estate_of

DAY = datetime(2026, 11, 25, tzinfo=UTC)
OUTSIDE = (LinkKind.ROUTE, LinkKind.PERIMETER, LinkKind.FORWARD)
DESK = parse_public(pub("mara-desk").encode()).fingerprint
FORWARDED = """\
networks:
  hidden: {subnet: 10.0.2.0/24, private: true, host: 10.0.2.1,
           forwards: [{at: 192.168.56.1, port: 2222, to: {guest: gauge, port: %s}, guest_sees: 10.0.2.2}]}
"""


@pytest.fixture(scope="module")
def home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("why") / "skerry"
    build(place)
    return place


def agree(chain: Chain) -> None:
    """The links of a chain let in together whom the whole reasoning lets in, and each that breaks says why."""
    entering = [each for each in chain.links if each.kind is not LinkKind.RIGHTS]
    assert _together(chain, entering) == _of(chain, Bounds(chain.certain, joined([chain.certain, chain.possible])))
    if chain.serves:
        surely, perhaps = _of(chain, chain.serves[0][1])
        for _, bounds in chain.serves[1:]:
            more = _of(chain, bounds)
            surely, perhaps = surely & more[0], perhaps & more[1]
        assert _together(chain, list(chain.links)) == (surely, perhaps)
    for each in chain.links:
        assert each.breaks or each.holds in (Holds.YES, Holds.UNDECIDED) or each.admits.because, (chain.login, each)
        assert each.holds is not Holds.UNDECIDED or each.admits.because


def _space(chain: Chain) -> str:
    return COMMON if COMMON in chain.asked else next(iter(chain.asked))


def _of(chain: Chain, bounds: Bounds[Sources]) -> tuple[AddressSet, AddressSet]:
    return bounds.surely.get(_space(chain), NO_ADDRESS), bounds.perhaps.get(_space(chain), NO_ADDRESS)


def _together(chain: Chain, links: list[Link]) -> tuple[AddressSet, AddressSet]:
    """Who comes through all of these links; behind a forward that hides them it is all or nobody."""
    wanted = chain.asked[_space(chain)]
    if not chain.alike:
        whole = admitted(links)
        return whole.surely & wanted, whole.perhaps & wanted
    through = admitted(each for each in links if each.kind in OUTSIDE)
    behind = admitted(each for each in links if each.kind not in OUTSIDE)
    surely = through.surely & wanted if behind.surely else NO_ADDRESS
    return surely, through.perhaps & wanted if behind.perhaps else NO_ADDRESS


def logins(access: Any, estate: Estate) -> Iterator[tuple[str, Login, Sources]]:
    """Logins that nobody is granted: every account with what people hold, and everything that opens."""
    every = joined([{COMMON: EVERY_ADDRESS}, *({p.name: p.inside} for p in estate.places.values() if p.inside is not None)])
    held: list[Need] = [frozenset([Key(key.fingerprint)]) for person in estate.principals.values() for key in person.keys]
    held += [frozenset([Certificate(key.fingerprint, "tove")]) for key in estate.authorities.values()]
    for account in (*access.reading.accounts.by_name, "nobody-there"):
        password = Password(access.guest, account)
        for need in (*held, frozenset(), frozenset([password]), frozenset([password, *held[0]])):
            yield "ssh", Login(account, need), every
    for path in access.paths:
        yield path.service, Login(path.account, path.need), path.callers.perhaps


def test_chains_say_of_every_grant_what_the_audit_says(home: Path) -> None:
    estate = load(home / "estate.yaml")
    asked = 0
    for found in survey(estate):
        assert found.snapshot is not None
        access = guest_access(readings.read(found.snapshot), DAY, address_spaces(estate))
        grants = expand(estate, access.guest, DAY)
        missing = {(id(each.grant), each.power): each.certain for each in find_shut_out(access.paths, grants)}
        for grant in grants:
            serves: dict[Any, list[Sources]] = {power: [] for power in grant.gives}
            for need in grant.proofs:
                login = Login(grant.account, need, grant.after, grant.gives)
                for chain in chains(access, KINDS, estate, login, grant.service, grant.callers.surely):
                    agree(chain)
                    for power, bounds in chain.serves:
                        serves[power].append(bounds.perhaps)
            for power, those in serves.items():
                assert without(grant.callers.surely, joined(those)) == missing.get((id(grant), power), {})
        for service, login, sources in logins(access, estate):
            for chain in chains(access, KINDS, estate, login, service, sources):
                agree(chain)
                asked += 1
    assert asked > 400


# What stands in the way, one of each group at a time: a name, lines of sshd_config, and the link and cause that say so.
Hindrance = tuple[str, str, LinkKind, type]
GROUPS: tuple[tuple[Hindrance, ...], ...] = (
    (("filter", "", LinkKind.FILTER, causes.RuleLine),),
    (("loopback only", "ListenAddress 127.0.0.1", LinkKind.LISTENER, causes.ListenAddress),),
    (
        ("not allowed", "AllowUsers joon", LinkKind.SETTINGS, causes.UserList),
        ("elsewhere only", "AllowUsers mara@10.0.0.0/8", LinkKind.SETTINGS, causes.UserList),
        ("keys off", "PubkeyAuthentication no", LinkKind.SETTINGS, causes.SettingLine),
        ("more asked", "AuthenticationMethods publickey,keyboard-interactive", LinkKind.SETTINGS, causes.SettingLine),
    ),
    (("nologin", "", LinkKind.ACCOUNT, causes.NoLogin),),
    (
        ("mode", "", LinkKind.PROOF, causes.RefusedKey),
        ("from", "", LinkKind.PROOF, causes.KeyLine),
        ("another key", "", LinkKind.PROOF, causes.KeysPlace),
        ("revoked", "RevokedKeys /etc/ssh/revoked", LinkKind.PROOF, causes.RefusedKey),
    ),
    (
        ("shell", "DisableForwarding yes", LinkKind.SESSION, causes.AccountState),
        ("command", "ForceCommand /bin/true", LinkKind.RIGHTS, causes.SettingLine),
        ("sudo", "", LinkKind.RIGHTS, causes.NoSudoRule),
        ("due", "", LinkKind.RIGHTS, causes.AccountState),
    ),
)


def hindered(names: set[str], config: list[str]) -> Guest:
    key = pub("joon-desk" if "another key" in names else "mara-desk") + "\n"
    files: dict[str, str | bytes] = {
        "/etc/nftables.conf": NFT.format(rule=f"tcp dport 22 {'ip saddr 10.0.0.0/8 ' if 'filter' in names else ''}accept"),
        "/etc/systemd/system/multi-user.target.wants/nftables.service": "",
        "/etc/sudoers": "root ALL=(ALL) ALL\n" + ("" if "sudo" in names else "mara ALL=(ALL) NOPASSWD: ALL\n"),
        "/etc/ssh/revoked": pub("mara-desk") + "\n",
    }
    if "nologin" in names:
        files["/etc/nologin"] = "closed\n"
    guest = Guest(
        "KbdInteractiveAuthentication yes\nPasswordAuthentication no\n" + "".join(f"{line}\n" for line in config if line),
        {"mara": f'from="10.0.0.0/8" {key}' if "from" in names else key},
        files=files,
        modes={"/home/mara/.ssh/authorized_keys": (0o666, 1001, 1001)} if "mode" in names else {},
        pam=True,
    )
    if "due" in names:
        guest.files["/etc/shadow"] = guest.contents()["/etc/shadow"].replace(b"mara:*:20000:", b"mara:*:0:")
    if "shell" in names:
        guest.files["/etc/passwd"] = guest.contents()["/etc/passwd"].replace(
            b"/home/mara:/bin/bash", b"/home/mara:/usr/sbin/nologin"
        )
        guest.files["/usr/sbin/nologin"] = ""
    return guest


GRANT = "let: mara, into: gauge, by: ssh, from: bench, with: key, may: administer, after: own password"


def test_every_link_that_breaks_is_told_whatever_else_breaks(tmp_path: Path) -> None:
    estate = estate_of(tmp_path, GRANT.replace("with: key", "with: key"))
    every = list(product(*((None, *group) for group in GROUPS)))
    dice = random.Random(18)
    counted: set[str] = set()
    for picked in every if ALL else [(None,) * len(GROUPS), *dice.sample(every, cases(90, 0))]:
        those = [each for each in picked if each is not None]
        names = {each[0] for each in those}
        found = why_of(
            estate, hindered(names, [each[1] for each in those]).snapshot(), AT, WhyQuestion("mara", "gauge", keys=(DESK,))
        )
        ((standing, chain),) = [each for each in found.answer.chains if each[1].grants]
        agree(chain)
        told = {(each.kind, type(one.cause)) for each in chain.broken for one in each.breaks}
        wanted = {(kind, cause) for _, _, kind, cause in those}
        # A session that ends at once gives none of the rights, and for the same reason.
        also = {(LinkKind.RIGHTS, causes.AccountLine), (LinkKind.RIGHTS, causes.NoSudoRule), (LinkKind.RIGHTS, causes.KeyLine)}
        assert wanted <= told <= wanted | (also if names & {"shell", "command"} else set()), (names, told)
        assert standing is (Standing.SHUT_OUT if those else Standing.AS_GRANTED), names
        counted |= names
    assert counted == {each[0] for group in GROUPS for each in group}


@pytest.mark.parametrize(
    "config, files, what",
    [
        ("AuthorizedKeysCommand /usr/bin/keys\nAuthorizedKeysCommandUser nobody\n", {}, LinkKind.PROOF),
        ("UseDNS yes\nAllowUsers mara@desk.skerry.example\n", {}, LinkKind.SETTINGS),
        ("UseDNS yes\nMatch Host *.skerry.example\n\tPubkeyAuthentication no\n", {}, LinkKind.SETTINGS),
        ("", {"/etc/pam.d/sshd": "account required pam_tally_of_ours.so\n"}, LinkKind.ACCOUNT),
    ],
)
def test_what_is_not_known_is_said_so_and_where(tmp_path: Path, config: str, files: dict[str, Any], what: LinkKind) -> None:
    keys = {} if "Command" in config else {"mara": pub("mara-desk")}
    guest = Guest(config, keys, files=files, pam="pam.d" in str(files))
    estate = estate_of(tmp_path, "let: mara, into: gauge, by: ssh, from: bench, with: key")
    found = why_of(estate, guest.snapshot(), AT, WhyQuestion("mara", "gauge", keys=(DESK,)))
    (chain,) = [chain for _, chain in found.answer.chains if chain.grants]
    agree(chain)
    assert found.standing is Standing.UNDECIDED
    assert found.exit_code == 3
    assert [each.kind for each in chain.broken if each.holds is Holds.UNDECIDED][:1] == [what]


def on_hidden(folder: Path, networks: str) -> Estate:
    """An estate whose guest sits on a private network."""
    path = estate_of(folder, "let: mara, into: gauge, by: ssh, from: bench, with: key").path
    path.write_text(path.read_text().replace("[loggers]", "[loggers], network: hidden") + networks)
    return load(path)


@pytest.mark.parametrize("port, breaks", [(22, None), (2022, LinkKind.LISTENER)])
def test_a_forward_is_a_link_that_hides_the_caller(tmp_path: Path, port: int, breaks: LinkKind | None) -> None:
    networks = FORWARDED % port
    estate = on_hidden(tmp_path, networks)
    assert estate.networks
    found = why_of(estate, Guest("", {"mara": pub("mara-desk")}).snapshot(), AT, WhyQuestion("mara", "gauge", keys=(DESK,)))
    (chain,) = [chain for _, chain in found.answer.chains if chain.grants]
    agree(chain)
    assert chain.alike == "10.0.2.2"
    assert LinkKind.FORWARD in {each.kind for each in chain.links}
    assert next((each.kind for each in chain.broken), None) is breaks


def test_no_way_there_is_the_first_link(tmp_path: Path) -> None:
    networks = "networks:\n  hidden: {subnet: 10.0.2.0/24, private: true, host: 10.0.2.1}\n"
    estate = on_hidden(tmp_path, networks)
    found = why_of(estate, Guest("", {"mara": pub("mara-desk")}).snapshot(), AT, WhyQuestion("mara", "gauge"))
    assert {type(chain.links[0].breaks[0].cause) for _, chain in found.answer.chains if chain.grants} == {causes.PrivateNetwork}
    assert found.standing is Standing.SHUT_OUT


@pytest.mark.parametrize("state", ["absent", "refused"])
def test_without_a_server_the_account_is_asked_about_all_the_same(tmp_path: Path, state: str) -> None:
    guest = Guest("Port twentytwo\n" if state == "refused" else "", {"mara": pub("mara-desk")}, accounts=("root", "keeper"))
    snapshot = guest.snapshot()
    if state == "absent":
        snapshot = replace(snapshot, entries={p: e for p, e in snapshot.entries.items() if p != "/usr/sbin/sshd"})
    estate = estate_of(tmp_path, "let: mara, into: gauge, by: ssh, from: bench, with: key")
    found = why_of(estate, snapshot, AT, WhyQuestion("mara", "gauge", keys=(DESK,)))
    (chain,) = [chain for _, chain in found.answer.chains if chain.grants]
    assert [each.kind for each in chain.broken] == [LinkKind.LISTENER, LinkKind.ACCOUNT]


def asked(home: Path, who: str, guest: str, **more: Any) -> Why:
    return why(load(home / "estate.yaml"), DAY, WhyQuestion(who, guest, **more))


def snapshot_of(home: Path, guest: str) -> Snapshot:
    found = next(iter(survey(load(home / "estate.yaml"), [guest]))).snapshot
    assert found is not None
    return found


@pytest.mark.parametrize("who, guest", [("joon", "plotter"), ("mara", "chartbox"), ("keeper", "gate"), ("mara", "gate")])
def test_the_step_that_mends_it_mends_it_and_no_more(home: Path, who: str, guest: str) -> None:
    estate, found = load(home / "estate.yaml"), asked(home, who, guest)
    assert found.standing in (Standing.SHUT_OUT, Standing.HOLE)
    assert found.exit_code == 1
    assert found.mend is not None
    assert found.mend.steps
    before = snapshot_of(home, guest)
    after = why_of(estate, apply_all(before, found.mend.steps), DAY, WhyQuestion(who, guest))
    assert after.standing is Standing.AS_GRANTED
    for group in together(found.mend.steps):
        fewer = tuple(step for step in found.mend.steps if step not in group)
        assert why_of(estate, apply_all(before, fewer), DAY, WhyQuestion(who, guest)).standing is not Standing.AS_GRANTED


def test_a_grant_that_has_ended_is_told(home: Path) -> None:
    found = why(load(home / "estate.yaml"), datetime(2027, 2, 1, tzinfo=UTC), WhyQuestion("tove", "plotter"))
    assert [each.who for each in found.answer.ended] == ["tove"]
    assert found.standing is Standing.HOLE  # and the guest still lets her in


def test_one_guest_without_an_estate(home: Path) -> None:
    found = why_target(home / "images/gauge", DAY, WhyQuestion("mara", ""))
    assert found.standing is Standing.GETS_IN
    assert found.exit_code == 0
    assert why_target(home / "images/gauge", DAY, WhyQuestion("root", "")).standing is Standing.KEPT_OUT


@pytest.mark.parametrize(
    "question, places, says",
    [
        (WhyQuestion("mara", "guage"), (), 'there is no guest "guage"'),
        (WhyQuestion("mara", "gauge"), ("fiedl",), 'did you mean "field"'),
        (WhyQuestion("mara", "gauge", services=("telnet",)), (), 'there is no service "telnet"'),
    ],
)
def test_what_is_not_there_can_not_be_asked_for(home: Path, question: WhyQuestion, places: tuple[str, ...], says: str) -> None:
    with pytest.raises(NightlatchError, match=says):
        why(load(home / "estate.yaml"), DAY, question, places=places)


def run(home: Path, *words: str) -> Done:
    return COMMANDS.run("why", *words, "--as-of", "2026-11-25", cwd=home, env={"PATH": "/usr/bin", "LC_ALL": "C.UTF-8"})


def test_the_command_tells_every_link_with_its_place(home: Path) -> None:
    done = run(home, "joon", "plotter")
    assert done.returncode == 1
    head, chain, end = done.stdout.split("\n\n")
    assert head == "joon is granted a shell on plotter as joon, and is shut out from bench."
    marks = [tuple(line.split()[:2]) for line in chain.splitlines() if line.startswith("  ") and line[2] != " "]
    kinds = ("grant", "route", "perimeter", "filter", "listener", "settings", "account", "proof", "session", "rights")
    assert marks == [("breaks" if kind == "proof" else "holds", kind) for kind in kinds]
    assert "/home/joon/.ssh/authorized_keys" in chain
    assert all(each["causes"] or each["breaks"] for each in chains_of(home, "joon", "plotter") if each["link"] != "rights")
    assert "mode 0644 for /home/joon/.ssh/authorized_keys" in end
    assert "nightlatch draft estate.yaml --on plotter" in end
    assert all(len(line) <= 80 for line in done.stdout.splitlines())


def chains_of(home: Path, who: str, guest: str) -> list[dict[str, Any]]:
    """The links of all chains, as programs get them."""
    told = json.loads(run(home, who, guest, "--format", "json").stdout)
    return [link for chain in told["chains"] for link in chain["links"]]


def test_questions_are_narrowed(home: Path) -> None:
    by_file = run(home, "keys/mara-token.pub", "gate", "--from", "bench")
    assert by_file.returncode == 0
    assert "The key mara-token (mara's) gets into gate as mara from bench, as granted." in " ".join(by_file.stdout.split())
    assert "key mara-desk" not in run(home, "mara", "gate", "--with", "keys/mara-token.pub").stdout
    assert "with the password of mara" in run(home, "mara", "gauge", "--with", "password").stdout
    assert "ssh as charts" in run(home, "mara", "plotter", "--as", "charts").stdout
    slip = run(home, "maar", "gauge")
    assert 'did you mean "mara"?' in " ".join(slip.stdout.split())
    assert "there is no account maar" in slip.stdout
    assert run(home, "mara", "gauge", "--with", "fingerprint").returncode == 2
    misspelt = run(home, "mara", "gauge", "--with", "key + pasword")
    assert misspelt.returncode == 2
    assert '"pasword" is no proof; did you mean "password"?' in misspelt.stderr


def test_programs_get_the_same(home: Path) -> None:
    told = json.loads(run(home, "joon", "plotter", "--format", "json").stdout)
    assert (told["format"], told["standing"], told["who"]) == ("nightlatch/why/1", "shut out", {"kind": "person", "name": "joon"})
    (chain,) = told["chains"]
    (broken,) = [each for each in chain["links"] if each["holds"] == "broken"]
    assert (broken["link"], broken["breaks"][0]["kind"]) == ("proof", "key refused")
    assert [each["path"] for each in told["mends"]] == ["/home/joon/.ssh/authorized_keys"]


def test_a_guest_that_is_not_there_is_told(home: Path) -> None:
    (home / "half.yaml").write_text((home / "estate.yaml").read_text().replace("images/chartbox", "images/nowhere"))
    done = run(home, "joon", "chartbox", "half.yaml")
    assert done.returncode == 3
    assert "there is no such folder" in done.stdout
    assert "--evidence evidence" in " ".join(done.stdout.split())
    archive = run(home / "images", "mara", "gauge")  # no estate file there, but a folder of that name
    assert (archive.returncode, archive.stdout.startswith("Somebody gets into gauge as mara")) == (0, True)
    assert 'there is no guest "nowhere"' in run(home, "mara", "nowhere").stderr


SYMPTOMS = {
    "filter": ("times out", "a filter drops it"),
    "loopback only": ("refused", "it listens on another address only"),
    "not allowed": ("permission denied", "a list leaves the account out"),
    "elsewhere only": ("permission denied", "a list leaves the account out"),
    "keys off": ("asks for a password", "keys are switched off for it"),
    "more asked": ("asks for a password", "more is asked than the key"),
    "nologin": ("permission denied", "the account is closed"),
    "mode": ("asks for a password", "its key stands there, and is refused"),
    "from": ("asks for a password", "its key line lets it in from elsewhere only"),
    "another key": ("asks for a password", "its key is not listed"),
    "revoked": ("permission denied", "its key stands there, and is refused"),
    "shell": ("session ends", "its shell ends every session"),
    "command": ("session ends", "only one command runs"),
    "due": ("session ends", "only a new password can be set"),
}


@pytest.mark.parametrize("name", SYMPTOMS)
def test_a_symptom_leads_to_what_is_in_the_way(tmp_path: Path, name: str) -> None:
    symptom, text = SYMPTOMS[name]
    estate = estate_of(tmp_path, GRANT)
    line = next(each[1] for group in GROUPS for each in group if each[0] == name)
    for names, stands in (({name}, Borne.CONFIRMED), (set[str](), Borne.RULED_OUT)):
        snapshot = hindered(names, [line] if names else []).snapshot()
        found = why_of(estate, snapshot, AT, WhyQuestion("mara", "gauge", keys=(DESK,)), symptom=Symptom(symptom))
        assert [each.stands for each in found.suspicions if each.text == text] == [stands]
        assert [list(Borne).index(each.stands) for each in found.suspicions] == sorted(
            list(Borne).index(each.stands) for each in found.suspicions
        )
        assert all(each.causes for each in found.suspicions if each.stands is Borne.CONFIRMED)


def test_a_rebuilt_guest_and_one_at_the_same_address_are_told(tmp_path: Path) -> None:
    path = estate_of(tmp_path, "let: mara, into: gauge, by: ssh, from: bench, with: key").path
    pins = 'host_keys: ["SHA256:' + "A" * 43 + '"]'
    other = "  gate: {via: {folder: images/gate}, dial: gauge.skerry.example}\n"
    path.write_text(
        path.read_text().replace("labels: [loggers]}\n", f"labels: [loggers], {pins}, dial: gauge.skerry.example}}\n{other}")
    )
    guest = Guest("", {"mara": pub("mara-desk")}, {"/etc/ssh/ssh_host_ed25519_key.pub": pub("keeper")})
    found = why_of(load(path), guest.snapshot(), AT, WhyQuestion("mara", "gauge"), symptom=Symptom.HOST_KEY)
    assert [each.stands for each in found.suspicions] == [Borne.CONFIRMED, Borne.CONFIRMED, Borne.POSSIBLE]
    assert all(type(each.look) is str and "{" not in each.look for each in found.suspicions)


@pytest.mark.parametrize(
    "line, kind",
    [
        ("sshd[1]: User mara from 192.168.40.7 not allowed because not listed in AllowUsers", LinkKind.SETTINGS),
        ("sshd[1]: Authentication refused: bad ownership or modes for file /home/mara/.ssh/authorized_keys", LinkKind.PROOF),
        ("sshd[1]: Invalid user mara from 192.168.40.7 port 3", LinkKind.ACCOUNT),
        ("sshd[1]: User tamara from 192.168.40.7 not allowed because not listed in AllowUsers", None),
        ("sshd[1]: Invalid user hunter2 from 192.168.40.7 port 3", None),
        ("sshd[1]: Accepted publickey for mara from 192.168.40.7 port 3 ssh2", None),
    ],
)
def test_only_lines_about_the_account_come_out_of_a_log(line: str, kind: LinkKind | None) -> None:
    assert [each.kind for each in telling([line], "mara", (), "/home/mara")] == ([kind] if kind else [])
