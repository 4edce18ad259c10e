"""tcpdmatch judges: what is said of callers by hosts.allow and hosts.deny is what libwrap says."""

from __future__ import annotations

import random
import re
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from nightlatch.access.verdicts import Flow, passed
from nightlatch.evidence.snapshot import from_files
from nightlatch.net.literal import parse_network
from nightlatch.readings.filters import wrapper
from tests.budget import cases

pytestmark = pytest.mark.judge("tcpdmatch")
ROUNDS = cases(40, 400)
CALLERS = tuple(
    """
    192.0.2.1 192.0.2.9 192.0.3.1 198.51.100.7 10.1.2.3 2001:db8::1 2001:db8:1::1 203.0.113.20
""".split()
)
CLIENTS = tuple(
    """
    ALL 192.0.2. 192.0.2.9 192.0.2.0/255.255.254.0 198.51.100.0/24 10. [2001:db8::]/48 [2001:db8:1::1] 192.0.2
    192.0.2.9/24 ALL@192.0.2. all 203.0.113.20/32 10.1.0.0/255.255.0.0
""".split()
)
DAEMONS = (
    "sshd",
    "ALL",
    "in.telnetd",
    "sshd in.telnetd",
    "ALL EXCEPT sshd",
    "ALL EXCEPT in.telnetd",
    "SSHD",
    "in.ftpd,sshd",
)


def lines(dice: random.Random) -> str:
    out = []
    for _ in range(dice.randint(0, 4)):
        clients = dice.choice((" ", ", ")).join(dice.sample(CLIENTS, dice.randint(1, 3)))
        for _ in range(dice.choice((0, 0, 1, 2))):
            clients += f" EXCEPT {dice.choice(CLIENTS)}"
        option = dice.choice(("", "", "", " : allow", " : deny", " : severity auth.info : deny"))
        line = f"{dice.choice(DAEMONS)} : {clients}{option}"
        if dice.random() < 0.2:
            line = line.replace(" : ", " : \\\n ", 1)
        out.append(dice.choice(("", "# a note\n", "  \n", "no colon here\n")) + line)
    return "\n".join(out) + dice.choice(("\n", "\n", "\n", ""))


def test_callers_are_let_in_as_libwrap_says(tmp_path: Path, tell: Callable[[str], None]) -> None:
    counts, wrong = {"granted": 0, "denied": 0}, []
    for seed in range(ROUNDS):
        dice = random.Random(seed)
        files = {f"/etc/hosts.{name}": lines(dice) for name in ("allow", "deny")}
        for path, text in files.items():
            (tmp_path / path.rsplit("/", 1)[1]).write_text(text)
        rules = wrapper.read(from_files("x", {path: text.encode() for path, text in files.items()}))
        for caller in CALLERS:
            told = subprocess.run(
                ["tcpdmatch", "-d", "sshd", caller], cwd=tmp_path, capture_output=True, text=True, check=False
            ).stdout
            access = re.search(r"access:\s+(\w+)", told)
            assert access is not None, told
            ended = "granted" if access[1] == "granted" else "denied"
            counts[ended] += 1
            one = parse_network(caller)
            if rules is None:
                said = "granted"
            else:
                bounds = passed(rules, Flow("tcp", 22))
                said = "granted" if one <= bounds.surely else "undecided" if one & bounds.perhaps else "denied"
            if said != ended:
                wrong.append(f"seed {seed}: {caller} {said}, really {told}\n{files}")
    tell(f"hosts.allow and hosts.deny: {ROUNDS} pairs, as tcpdmatch has them: {counts}")
    assert not wrong, "\n".join(wrong[:2])
