"""Drafts: fewest steps, at the place that wins, proved; done twice they change nothing; refused when the door would shut."""

from __future__ import annotations

import random
from dataclasses import replace
from pathlib import Path

import pytest

from nightlatch.access.differences import Hole, find_holes, find_shut_out
from nightlatch.access.grants import address_spaces, expand
from nightlatch.access.paths import guest_access
from nightlatch.draft import marks, plan
from nightlatch.draft.plan import Draft, ProvedDraft
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import RefusedError
from nightlatch.model.bounds import Bounds
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import ADMINISTER, SHELL
from nightlatch.model.secrets import UnknownSecret
from nightlatch.model.steps import AppendBlock, ReplaceLine
from nightlatch.net.addresses import prefix
from nightlatch.ops.draft import draft, prove
from nightlatch.origin import Origin
from nightlatch.readings import guest as readings
from tests.guests import AT, HASH, Guest, estate, pub

GRANT = "let: mara, into: gauge, by: ssh, from: bench, with: key"
BENCH = 'from="192.168.40.0/24"'
DESK = f"{BENCH} {pub('mara-desk')}\n"
OFF = "PasswordAuthentication no\n"
COPY = "let: nightcopy, into: gauge, by: ssh, from: 192.168.56.9, with: key, as: copier, only: {command: /bin/out}"
FILES = "let: tove, into: gauge, by: ssh, from: bench, with: certificate, as: charts, only: {files: /srv/charts}"


def weight(made: Estate, snapshot: Snapshot) -> int:
    """Certain differences that are left."""
    access = guest_access(readings.read(snapshot), AT, address_spaces(made))
    grants = expand(made, "gauge", AT)
    return sum(bool(s.certain) for s in find_holes(access.paths, grants)) + sum(
        bool(m.certain) for m in find_shut_out(access.paths, grants)
    )


def drafted(folder: Path, guest: Guest, grants: str, **more: str) -> tuple[Estate, ProvedDraft]:
    made = estate(folder, grants, **more)
    snapshot = guest.snapshot()
    return made, prove(made, draft(made, snapshot, AT), snapshot, AT)


# Name, guest, grants, the steps as text with what is put there, how much is left.
CASES: list[tuple[str, Guest, str, list[str], int]] = [
    ("nothing to do", Guest(OFF, {"mara": DESK}), GRANT, [], 0),
    ("a key to add", Guest(OFF), GRANT, ["make /home/mara/.ssh", f"authorized_keys: add a line {BENCH} {pub('mara-desk')}"], 0),
    ("a key to narrow", Guest(OFF, {"mara": pub("mara-desk") + "\n"}), GRANT, [f"change a line {DESK.strip()}"], 0),
    (
        "a key to widen",
        Guest(OFF, {"mara": f'from="10.0.0.1" {pub("mara-desk")}\n'}),
        GRANT,
        [f"change a line {DESK.strip()}"],
        0,
    ),
    ("a stranger's key", Guest(OFF, {"mara": DESK + pub("lantern") + "\n"}), GRANT, ["take away a line"], 0),
    (
        "passwords by default",
        Guest("", {"mara": DESK}, passwords={"joon": HASH}),
        GRANT,
        ["put PasswordAuthentication no first"],
        0,
    ),
    (
        "passwords by a drop-in",
        Guest(
            "Include sshd_config.d/*.conf\nPasswordAuthentication no\n",
            {"mara": DESK},
            {"/etc/ssh/sshd_config.d/a.conf": "PasswordAuthentication yes # image\n"},
            passwords={"joon": HASH},
        ),
        GRANT,
        ["sshd_config.d/a.conf: change a line PasswordAuthentication no # image"],
        0,
    ),
    (
        "the challenge path too",
        Guest(OFF, {"mara": DESK}, passwords={"joon": HASH}, pam=True),
        GRANT,
        ["put KbdInteractiveAuthentication no first"],
        0,
    ),
    (
        "a password for one, from one place",
        Guest("", {"mara": DESK}, passwords={"joon": HASH, "mara": HASH}),
        GRANT + "\nlet: joon, into: gauge, by: ssh, from: bench, with: password",
        ["add a block, Match User joon Address 192.168.40.0/24", "put PasswordAuthentication no first"],
        0,
    ),
    (
        "an open door",
        Guest("PermitEmptyPasswords yes\n", {"mara": DESK}, passwords={"joon": ""}),
        GRANT,
        ["change a line PermitEmptyPasswords no"],
        0,
    ),
    (
        "a writable key file",
        Guest(OFF, {"mara": DESK}, modes={"/home/mara/.ssh/authorized_keys": (0o666, 1001, 1001)}),
        GRANT,
        ["mode 0644 for /home/mara/.ssh/authorized_keys"],
        0,
    ),
    (
        "a home of somebody else",
        Guest(OFF, {"mara": DESK}, modes={"/home/mara": (0o755, 1002, 1002)}),
        GRANT,
        ["owner 1001 for /home/mara"],
        0,
    ),
    (
        "a list that leaves her out",
        Guest(OFF + "AllowUsers joon\n", {"mara": DESK}),
        GRANT,
        ["change a line AllowUsers joon mara"],
        0,
    ),
    (
        "keys switched off",
        Guest(OFF + "PubkeyAuthentication no\n", {"mara": DESK}),
        GRANT,
        ["change a line PubkeyAuthentication yes"],
        0,
    ),
    (
        "a command, not a shell",
        Guest(OFF, {"copier": pub("nightcopy") + "\n"}, accounts=("root", "copier")),
        COPY,
        [f'change a line from="192.168.56.9",restrict,command="/bin/out" {pub("nightcopy")}'],
        0,
    ),
    (
        "files only",
        Guest(
            OFF + "Subsystem sftp internal-sftp\n",
            {"charts": f'cert-authority,principals="tove",{BENCH} {pub("skerry-users")}\n'},
            {"/srv/charts/x": ""},
            accounts=("root", "charts"),
        ),
        FILES,
        ["add a block, Match User charts"],
        0,
    ),
    (
        "both proofs",
        Guest(OFF, {"mara": DESK}, passwords={"mara": HASH}),
        GRANT.replace("key", "key + password"),
        ["add a block, Match User mara Address 192.168.40.0/24"],
        0,
    ),
    ("an account that nobody may make", Guest(OFF, accounts=("root",), groups="mara:x:7:\n"), GRANT, [], 1),
    ("root's rights are left", Guest(OFF, {"mara": DESK}), GRANT + ", may: administer, after: own password", [], 1),
    ("sshd does not start", Guest("Banana yes\n"), GRANT, [], 1),
]


@pytest.mark.parametrize("name, guest, grants, steps, left", CASES, ids=[c[0] for c in CASES])
def test_drafts(tmp_path: Path, name: str, guest: Guest, grants: str, steps: list[str], left: int) -> None:
    made, proved = drafted(tmp_path, guest, grants)
    shown = [f"{step} {getattr(step, 'after', '') or getattr(step, 'line', '')}" for step in proved.draft.steps]
    assert len(shown) == len(steps), shown
    for part in steps:
        assert any(part in each for each in shown), shown
    assert len(proved.draft.left) == left
    assert weight(made, proved.after) == left
    again = draft(made, proved.after, AT)
    assert again.steps == ()


def test_narrowing_at_the_service_when_that_comes_first(tmp_path: Path) -> None:
    wide = Guest(OFF, {"mara": pub("mara-desk") + "\n"})
    _, proved = drafted(tmp_path, wide, GRANT, more="narrow_at: [service, key]\n")
    (step,) = proved.draft.steps
    assert isinstance(step, AppendBlock)
    assert step.lines == ("Match User mara Address *,!192.168.40.0/24", "    PubkeyAuthentication no")


def test_comments_order_and_line_ends_stay(tmp_path: Path) -> None:
    config = "# head\r\n\r\nPasswordAuthentication  yes   # why\r\n#PermitRootLogin no\r\nMatch User x\r\n  Banner none\r\n"
    guest = Guest(config, {"mara": DESK}, passwords={"joon": HASH})
    _, proved = drafted(tmp_path, guest, GRANT)
    before = proved.before.content("/etc/ssh/sshd_config") or b""
    after = proved.after.content("/etc/ssh/sshd_config")
    assert after == before.replace(b"  yes   # why", b"  no   # why")


def test_a_draft_that_shuts_management_access_is_refused(tmp_path: Path) -> None:
    via = ", as: keeper, key: keys/keeper.pub, from: [192.168.40.9]"
    guest = Guest(OFF, {"mara": DESK, "keeper": f'from="192.168.40.9" {pub("keeper")}\n'})
    made = estate(tmp_path, GRANT, via=via)
    snapshot = guest.snapshot()
    line = f'from="192.168.40.9" {pub("keeper")}'
    shuts = Draft("gauge", (ReplaceLine("/home/keeper/.ssh/authorized_keys", "test", False, line, ""),))
    with pytest.raises(RefusedError, match="would shut management access or an emergency account"):
        prove(made, shuts, snapshot, AT)
    stops = Draft("gauge", (ReplaceLine("/etc/ssh/sshd_config", "test", False, "PasswordAuthentication no", "Banana no"),))
    with pytest.raises(RefusedError, match="sshd would not start"):
        prove(made, stops, snapshot, AT)
    gone = Draft("gauge", (ReplaceLine("/etc/ssh/sshd_config", "test", False, "Port 23", "Port 24"),))
    with pytest.raises(RefusedError, match="does not fit this evidence"):
        prove(made, gone, snapshot, AT)
    empty = Draft("gauge", ())
    with pytest.raises(RefusedError, match="does not close everything"):
        prove(made, empty, Guest("", {"mara": DESK}, passwords={"joon": HASH}).snapshot(), AT)


def test_only_prove_makes_a_proved_draft() -> None:
    snapshot = Guest().snapshot()
    with pytest.raises(TypeError, match="only prove"):
        ProvedDraft(Draft("gauge", ()), snapshot, snapshot, AT)


def random_guest(r: random.Random) -> Guest:
    lines = [
        r.choice(
            (
                "PasswordAuthentication yes",
                "PasswordAuthentication no",
                "PubkeyAuthentication yes",
                "PermitEmptyPasswords yes",
                "AllowUsers mara joon keeper",
                "AllowTcpForwarding no",
                "PermitRootLogin yes",
                "X11Forwarding no",
            )
        )
        for _ in range(r.randint(0, 4))
    ]
    if r.random() < 0.5:
        lines += [f"Match {r.choice(('Address 192.168.40.0/24', 'User mara', 'User *,!joon', 'Address *,!10.0.0.0/8'))}"]
        lines += [r.choice(("    PasswordAuthentication yes", "    PubkeyAuthentication no", "    AllowTcpForwarding no"))]
    limits = ("", BENCH + " ", 'from="10.0.0.0/8" ', "restrict ", 'command="/bin/out" ')
    names = ("mara-desk", "joon-desk", "lantern", "mara-token", "keeper")
    keys = {
        n: "".join(f"{r.choice(limits)}{pub(r.choice(names))}\n" for _ in range(r.randint(0, 3)))
        for n in ("mara", "joon", "root")
    }
    passwords = {n: r.choice((HASH, "*", "!{yescrypt}")) for n in ("mara", "joon", "root")}
    modes = {"/home/joon/.ssh/authorized_keys": (r.choice((0o600, 0o666)), 1002, 1002)} if keys["joon"] else {}
    return Guest("\n".join(lines) + "\n", keys, passwords=passwords, modes=modes, pam=r.random() < 0.5)


def random_grants(r: random.Random) -> str:
    def one() -> str:
        proof = r.choice(("key", "key", "password", "[key, password]", "key + password"))
        return f"let: {r.choice(('mara', 'joon', 'team crew'))}, into: gauge, by: ssh, from: {r.choice(('bench', 'field', '10.0.0.1'))}, with: {proof}"

    return "\n".join(one() for _ in range(r.randint(1, 3)))


@pytest.mark.parametrize("seed", range(60))
def test_random_drafts_hold_what_they_promise(tmp_path: Path, seed: int) -> None:
    r = random.Random(seed)
    guest, grants = random_guest(r), random_grants(r)
    made, proved = drafted(tmp_path, guest, grants)
    start, end = weight(made, proved.before), weight(made, proved.after)
    assert end <= start
    assert bool(end) == bool(proved.draft.left), f"seed {seed}"
    assert draft(made, proved.after, AT).steps == (), f"seed {seed}: a second draft changes something"
    for step in proved.draft.steps:
        shorter = tuple(s for s in proved.draft.steps if s is not step)
        desk = plan.Desk(plan.draft_context(made), proved.before, AT)
        state = desk.tried(shorter)
        assert state is None or state.weight > end, f"seed {seed}: {step} is not needed"


def test_a_difference_that_grows_has_another_mark() -> None:
    """What a draft leaves is known again by whose it is, what it gives and the exact callers, not by its words."""
    need = frozenset([UnknownSecret("a module", Origin("/etc/pam.d/sshd", 3))])
    here = {"": prefix(4, 10 << 24, 8)}
    path = AccessPath("gauge", "mara", need, SHELL, Bounds(here, here), ())
    mark = marks.of([Hole(path, here, {})])
    moved = replace(path, need=frozenset([UnknownSecret("a module", Origin("/etc/pam.d/sshd", 4))]))
    assert mark == marks.of([Hole(moved, here, {})])
    others = [
        Hole(path, {"": prefix(4, 10 << 24, 7)}, {}),
        Hole(path, {"isle": here[""]}, {}),
        Hole(replace(path, service="tide"), here, {}),
        Hole(replace(path, account="joon"), here, {}),
        Hole(replace(path, need=frozenset()), here, {}),
        Hole(replace(path, power=ADMINISTER), here, {}),
    ]
    assert len({mark, *(marks.of([each]) for each in others)}) == len(others) + 1
