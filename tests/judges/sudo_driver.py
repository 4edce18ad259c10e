"""Runs inside a mount namespace: writes sudoers trees, asks `sudo -l -U` and our reasoning, prints both as JSON lines."""

from __future__ import annotations

import json
import os
import random
import re
import subprocess
import sys
from pathlib import Path

from nightlatch.evidence.collect import collect
from nightlatch.readings import accounts, sudo
from nightlatch.services.posix.privilege import Sudo
from nightlatch.transports.folder import Folder

PEOPLE = ("mara", "joon", "tove")
WHO = ("mara", "joon", "%crew", "%boats", "ALL", "KEEPERS", "!mara", "#1002", "tove,joon", "%#2002")
RUNAS = ("", "(ALL) ", "(root) ", "(ALL:ALL) ", "(charts) ", "(ROOTS) ")
TAGS = ("", "", "NOPASSWD: ", "PASSWD: ", "NOPASSWD:NOEXEC: ")
COMMANDS = ("ALL", "ALL", "ALL", "/bin/ls", "!ALL", "/bin/ls, ALL", "ALL, !/bin/su", "ANY")


def prepare(work: str) -> None:
    subprocess.run(["mount", "-t", "tmpfs", "tmpfs", work], check=True)
    for kind in ("upper", "spare"):
        os.mkdir(f"{work}/{kind}")
    options = f"lowerdir=/etc,upperdir={work}/upper,workdir={work}/spare"
    subprocess.run(["mount", "-t", "overlay", "overlay", "-o", options, "/etc"], check=True)
    passwd = [
        "root:x:0:0::/root:/bin/bash",
        *(f"{n}:x:{1001 + i}:{1001 + i}::/home/{n}:/bin/bash" for i, n in enumerate((*PEOPLE, "charts"))),
    ]
    groups = [
        "root:x:0:",
        *(f"{n}:x:{1001 + i}:" for i, n in enumerate((*PEOPLE, "charts"))),
        "crew:x:2001:mara,joon",
        "boats:x:2002:tove",
    ]
    Path("/etc/passwd").write_text("\n".join(passwd) + "\n")
    Path("/etc/group").write_text("\n".join(groups) + "\n")
    Path("/etc/shadow").write_text("".join(f"{line.split(':')[0]}:*:19800:0:99999:7:::\n" for line in passwd))


def tree(r: random.Random) -> dict[str, str]:
    head = [
        "Defaults env_reset",
        "User_Alias KEEPERS = mara, tove",
        "Runas_Alias ROOTS = root, charts",
        "Cmnd_Alias ANY = ALL",
    ]
    if r.random() < 0.3:
        head.append(
            r.choice(
                (
                    "Defaults !authenticate",
                    "Defaults:mara !authenticate",
                    "Defaults rootpw",
                    "Defaults:%crew !authenticate",
                )
            )
        )

    def rule() -> str:
        line = f"{r.choice(WHO)} ALL = {r.choice(RUNAS)}{r.choice(TAGS)}{r.choice(COMMANDS)}"
        return line.replace(" = ", " = \\\n    ") if r.random() < 0.15 else line + r.choice(("", "", "  # why"))

    rules = [rule() for _ in range(r.randint(1, 4))]
    files = {"/etc/sudoers": "\n".join([*head, *rules, "@includedir /etc/sudoers.d"]) + "\n"}
    if r.random() < 0.4:
        files["/etc/sudoers.d/crew"] = rule() + "\n"
        files["/etc/sudoers.d/skipped.bak"] = "ALL ALL = (ALL) NOPASSWD: ALL\n"
    return files


def theirs(user: str) -> str:
    """What sudo says: "" for none, "root" or "own" for whose password, "free" for none asked."""
    done = subprocess.run(["sudo", "-l", "-U", user], capture_output=True, text=True, check=False, timeout=10)
    answer = ""
    for runas, rest in re.findall(r"^    \(([^)]*)\) (.*)$", done.stdout, re.MULTILINE):
        who = [part.strip() for part in runas.split(":")[0].split(",")]
        if not {"ALL", "root"} & set(who) and "ROOTS" not in who:
            continue
        tag = ""
        for part in rest.split(", "):
            found = re.match(r"((?:[A-Z_]+: ?)*)(.*)", part)
            assert found
            for each in re.findall(r"(NOPASSWD|PASSWD)", found[1]):
                tag = each
            if found[2] == "ALL":
                answer = tag or "default"
            elif found[2] == "!ALL":
                answer = ""
    return answer


def ours(user: str) -> str:
    snapshot = collect(Folder(Path("/")), "judged")
    way, elsewhere = Sudo(sudo.read(snapshot)).ways(accounts.read(snapshot).by_name[user])
    assert way == elsewhere, "no rule here names a host"
    return "" if way is None else "asks" if way.password else "free"


def main(work: str, seed: int, count: int) -> None:
    prepare(work)
    for number in range(count):
        r = random.Random(seed * 1000 + number)
        for path in ("/etc/sudoers.d/crew", "/etc/sudoers.d/skipped.bak"):
            if os.path.exists(path):
                os.unlink(path)
        files = tree(r)
        for path, text in files.items():
            Path(path).write_text(text)
            os.chmod(path, 0o440)
        if subprocess.run(["visudo", "-c", "-q"], capture_output=True, check=False).returncode:
            continue
        free_by_default = {
            u: "!authenticate" in files["/etc/sudoers"]
            and (
                "Defaults !auth" in files["/etc/sudoers"]
                or (u == "mara" and "Defaults:mara" in files["/etc/sudoers"])
                or (u in ("mara", "joon") and "Defaults:%crew" in files["/etc/sudoers"])
            )
            for u in PEOPLE
        }
        for user in PEOPLE:
            said = theirs(user)
            real = {"": "", "NOPASSWD": "free", "PASSWD": "asks"}.get(said, "free" if free_by_default[user] else "asks")
            print(json.dumps({"user": user, "real": real, "ours": ours(user), "files": files}), flush=True)


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]))
