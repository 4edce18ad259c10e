"""One change as a single sh file: what it touches, what must be true, and how the guest takes it back by itself.

The file is written here from a proved draft; `latch.sh` and `service.sh` are its unchanging parts. Contents travel as
quoted text where they are plain, and as printf's octal escapes where they are not, so that no program but sh is needed to
unpack them.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from importlib.resources import files

from nightlatch import versions
from nightlatch.draft import reversal
from nightlatch.draft.acts import Install, LoadRules, words
from nightlatch.draft.plan import ProvedDraft
from nightlatch.evidence.script import trust
from nightlatch.evidence.snapshot import ABSENT, Entry, EntryKind
from nightlatch.faults import RefusedError
from nightlatch.latch.planned_change import InterfaceMove, PlannedChange
from nightlatch.latch.records import CHANGES, HOME, PathState, Record, TouchedPath
from nightlatch.latch.words import quoted
from nightlatch.model import account_steps

SEAM = 'at() { say step "$*"; }\n'
PLAIN = re.compile(rb"[\t\n\x20-\x7e]*\n")
LOADING = {
    "nftables": ("nftables.service",),
    "iptables": ("netfilter-persistent.service", "iptables.service", "ip6tables.service"),
    "ufw": ("ufw.service",),
    "firewalld": ("firewalld.service",),
}
MARK = "NIGHTLATCH_TEXT_ENDS_HERE"


@dataclass(frozen=True, slots=True)
class Terms:
    """On what terms a change is made: its id, tool, time and owner, and the time on the latch in `seconds`.

    `forget` is the kept change that it takes back; a record stays unless `stay` is off; `seam` is a function of the script that
    tests replace."""

    change: str
    tool: str
    time: str
    owner: str
    seconds: int
    unguarded: bool = False
    forget: str = ""
    stay: bool = True
    seam: str = SEAM


@dataclass(frozen=True)
class Transaction:
    """A planned change on its terms: everything that the guest's own script is told."""

    planned: PlannedChange
    terms: Terms

    @property
    def proved(self) -> ProvedDraft:
        """The draft that it carries out."""
        return self.planned.proved

    @property
    def change(self) -> str:
        """Its id."""
        return self.terms.change

    @property
    def rows(self) -> tuple[str, ...]:
        """The paths in the order in which they are replaced: as the draft's steps have them."""
        changed = set(self.proved.changed)
        ordered = dict.fromkeys(step.path for step in self.proved.draft.steps if step.path in changed)
        return tuple(ordered)

    @property
    def acts(self) -> tuple[tuple[str, ...], ...]:
        """What is done beside files, as words: accounts first, and without packages, which are there by now."""
        others = (words(act) for act in self.proved.draft.acts if not isinstance(act, Install))
        return (*(account_steps.words(step) for step in self.proved.accounts), *others)

    @property
    def filters(self) -> str:
        """The units that load rules at a boot: what takes a change back then has to come before them."""
        managers = {act.manager for act in self.proved.draft.acts if isinstance(act, LoadRules)}
        return " ".join(unit for manager in sorted(managers) for unit in LOADING[manager])

    def record(self) -> Record:
        """What is kept of it on the guest."""
        touched = [
            TouchedPath(
                path=path,
                before=_side(self._before(path)),
                after=_side(self._after(path)),
                copy_name=f"{number}.before" if self._before(path).kind is EntryKind.FILE else "",
            )
            for number, path in enumerate(self.rows)
        ]
        return Record(
            format="nightlatch/change/1",
            id=self.change,
            tool=self.terms.tool,
            time=self.terms.time,
            guest=self.proved.draft.guest,
            steps=[str(s) for s in self.proved.draft.steps],
            touched=touched,
            folders=[],
            acts=[list(each) for each in self.acts],
            left=[each.mark for each in self.proved.draft.left if each.mark],
            returns=self.proved.draft.returns,
        )

    def _before(self, path: str) -> Entry:
        return self.proved.before.entries.get(path, ABSENT)

    def _after(self, path: str) -> Entry:
        return self.proved.after.entries[path]

    def file(self) -> str:
        """The guest's own script, whole."""
        terms, server, checks = self.terms, self.planned.server, self.planned.checks
        values = {
            "id": self.change,
            "seconds": str(terms.seconds),
            "owner": terms.owner,
            "reload": _word(checks.reload),
            "was_running": _word(server.running),
            "check": _word(checks.reload or bool(server.start)),
            "start": " ".join(server.start),
            "program": server.daemon.program,
            "options": shlex.join(server.daemon.options),
            "door": str(server.daemon.pid),
            "door_since": server.daemon.started,
            "unit": server.unit,
            "units": " ".join(server.units),
            "mainfile": server.main_file,
            "merge": _program("merge.awk"),
            "mainpath": server.main_path,
            "sockets": " ".join(checks.sockets),
            "rebind": server.rebind,
            "was_sockets": " ".join(checks.sockets if checks.was_sockets is None else checks.was_sockets),
            "acts": "yes" if self.acts else "",
            "rules": self.filters,
            "unguarded": _word(terms.unguarded),
            "forget": terms.forget,
            "stay": _word(terms.stay),
        }
        move = self.planned.move or InterfaceMove("", "", ())
        values |= {
            "net": move.system,
            "interface": move.interface,
            "gives": " ".join(move.addresses),
            "asked_name": move.name,
        }
        head = "".join(f"{name}={quoted(text)}\n" for name, text in values.items())
        folder = files("nightlatch.latch")
        parts = [
            "latch.sh",
            "files.sh",
            "guard.sh",
            "service.sh",
            *(["net.sh"] if self.planned.move is not None else []),
        ]
        parts += ["acts.sh"] if self.acts else []
        parts += ["accounts.sh"] if self.proved.accounts else []
        parts += ["rules.sh"] if self.filters else []
        parts += ["identity.sh"] if self.planned.new_host_keys else []
        body = "".join(folder.joinpath(name).read_text() for name in parts)
        return head + trust() + body + terms.seam + 'main "$@"\n'

    def table(self) -> str:
        """One line a path: kind, mode, owner, group and digest before and after, then the path."""
        lines = []
        for number, path in enumerate(self.rows):
            if not re.fullmatch(r"/[^\n\\]*", path) or path != path.strip():
                raise RefusedError(
                    f"{path!r} can't be changed: its name can't be carried safely",
                    guest=self.proved.draft.guest,
                )
            lines.append(f"{number} {_columns(self._before(path))} {_columns(self._after(path))} {path}\n")
        return "".join(lines)

    def parts(self) -> str:
        """One line for each folder on the way to a path: whose it may be, before and by this change, then the folder."""
        ways = {path.rsplit("/", depth)[0] for path in self.rows for depth in range(1, path.count("/"))}
        lines = []
        for way in sorted(ways):
            found = (entries.entries.get(way, ABSENT) for entries in (self.proved.before, self.proved.after))
            owners = {str(each.uid) for each in found if each.kind is EntryKind.FOLDER}
            lines.append(f"{','.join(sorted(owners)) or '-'} {way}\n")
        return "".join(lines)

    def contents(self) -> dict[str, bytes]:
        """The files that the guest's script needs beside it, by name."""
        table = self.table().encode("utf-8", "surrogateescape")
        backwards = b"".join(reversed(table.splitlines(keepends=True)))
        out: dict[str, bytes] = {
            "table": table,
            "table.back": backwards,
            "parts": self.parts().encode("utf-8", "surrogateescape"),
        }
        for number, path in enumerate(self.rows):
            before, after = self._before(path), self._after(path)
            if after.kind is EntryKind.FILE:
                out[f"{number}.after"] = after.content or b""
                hunks = reversal.hunks(before.content or b"", after.content or b"")
                out[f"{number}.hunks"] = "".join(f"{a} {b} {c} {d}\n" for a, b, c, d in hunks).encode()
        if self.acts:
            out["acts"] = "".join(" ".join(each) + "\n" for each in self.acts).encode()
        out["format"] = f"{versions.name('latch')}\n".encode()
        out["record.part"] = (self.record().model_dump_json(indent=1) + "\n").encode()
        lines = [
            line for who, told in self.planned.checks.expected.items() for line in (f"asked {who}", *(f"must {t}" for t in told))
        ]
        out["expected"] = "".join(f"{line}\n" for line in lines).encode("utf-8", "surrogateescape")
        out |= {f"copy{path}": raw for path, raw in self._copy().items()}
        return out

    def _copy(self) -> dict[str, bytes]:
        """A mirror of sshd's files for guests where nothing can be mounted, where they are to be loaded."""
        if not self.planned.checks.reload:
            return {}
        return mirrored(self.proved.after.entries, self.planned.server.files, f"{self.place}/copy")

    @property
    def place(self) -> str:
        """The folder of this change on the guest."""
        return f"{CHANGES}/{self.change}"

    def unpacked(self) -> str:
        """Shell lines that put everything in place; they end the function they stand in where there is no room."""
        place = self.place
        contents = {**self.contents(), "latch.sh": self.file().encode("utf-8", "surrogateescape")}
        folders = sorted({HOME, CHANGES, *(f"{place}/{name}".rpartition("/")[0] for name in contents)})
        made = " && ".join(f"{{ [ -d {word} ] || mkdir {word}; }}" for word in _nested(folders))
        parts = [
            f"{made} || {{ echo 'refused: {HOME} can not be written'; return 4; }}\n",
            f"chmod 700 {HOME} {CHANGES}\n",
        ]
        parts += [written(f"{place}/{name}", raw) for name, raw in contents.items()]
        # What was sent is looked at again where it arrived: a full disk cuts files short without a word.
        parts += [f"[ $(wc -c <{quoted(f'{place}/{name}')}) = {len(raw)} ] || whole=no\n" for name, raw in contents.items()]
        # Room is taken now, bytes and inodes, so that all can be told and taken back even when the disk is full by then. The one
        # link by which the change can be kept is there already, too.
        parts.append(f"mkdir {place}/room && dd if=/dev/urandom of={place}/room/0 bs=4096 count=4 2>/dev/null || whole=no\n")
        parts.append(f"for each in 1 2 3 4 5 6 7 8; do : >{place}/room/$each || whole=no; done\n")
        parts.append(f"dd if=/dev/zero bs=4096 count=1 2>/dev/null | tr '\\000' '\\n' >{place}/outcome.part || whole=no\n")
        parts.append(f"[ $(wc -c <{place}/outcome.part) = 4096 ] && ln -s keep {place}/may-keep && : >{place}/turn || whole=no\n")
        parts.append(f"[ \"$whole\" != no ] || {{ echo 'refused: {HOME} has no room'; rm -rf {place}; return 4; }}\n")
        return "".join(parts)

    def begin(self, nonce: str) -> bytes:
        """The script for the connection: put everything in place, start it apart from this session, tell how it goes."""
        body = session(self.unpacked() + "follow_begin", nonce, place=self.place, whole="yes")
        return body.encode("utf-8", "surrogateescape")


def _nested(folders: Iterable[str]) -> list[str]:
    """The folders and those above them from /var/lib down, quoted, outermost first."""
    out: dict[str, None] = {}
    for folder in folders:
        parts = folder.split("/")
        out.update(dict.fromkeys("/".join(parts[:depth]) for depth in range(4, len(parts) + 1)))
    return [quoted(word) for word in sorted(out)]


def session(call: str, nonce: str, **values: str) -> str:
    """The script of one connection: `session.sh` with these variables, and what of it is called."""
    body = files("nightlatch.latch").joinpath("session.sh").read_text()
    told = "".join(
        f"{name}={quoted(text)}\n" for name, text in {"home": HOME, "format": versions.name("latch"), **values}.items()
    )
    head = f"LC_ALL=C; export LC_ALL; umask 077\n{trust()}safe_path\nprintf '\\n@latch %s\\n' {nonce}\n"
    return f"nightlatch_session() {{\n{head}{told}{body}{call}\n}}\nnightlatch_session\n"


def written(path: str, raw: bytes) -> str:
    """Shell lines that write `raw` to a file: as text where it is plain, else as octal escapes (printf(1))."""
    place = quoted(path)
    if PLAIN.fullmatch(raw) and MARK.encode() not in raw:
        return f"cat >{place} <<'{MARK}'\n{raw.decode()}{MARK}\n"
    if not raw:
        return f": >{place}\n"
    out = []
    for start in range(0, len(raw), 8192):
        text = "".join(_octal(byte) for byte in raw[start : start + 8192])
        out.append(f"printf '{text}' {'>>' if start else '>'}{place}\n")
    return "".join(out)


def _octal(byte: int) -> str:
    letter = chr(byte)
    return letter if byte < 0x7F and (letter.isalnum() or letter in " \n.,:;/=_+@#") else f"\\{byte:03o}"


def _program(name: str) -> str:
    return "".join(line for line in files("nightlatch.latch").joinpath(name).read_text().splitlines(True) if line[0] != "#")


def _word(value: bool) -> str:
    return "yes" if value else "no"


def _columns(entry: Entry) -> str:
    if entry.kind is EntryKind.ABSENT:
        return "absent 0 0 0 -"
    kind = "folder" if entry.kind is EntryKind.FOLDER else "file"
    return f"{kind} {entry.mode:o} {entry.uid} {entry.gid} {entry.digest or '-'}"


def _side(entry: Entry) -> PathState:
    if entry.kind is EntryKind.ABSENT:
        return PathState(kind="absent", mode=0, uid=0, gid=0, sha256="")
    kind = "folder" if entry.kind is EntryKind.FOLDER else "file"
    return PathState(kind=kind, mode=entry.mode, uid=entry.uid, gid=entry.gid, sha256=entry.digest)  # type: ignore[arg-type]


def decide_script(change: str, what: str, by: str, nonce: str) -> bytes:
    """The script that keeps a change or takes it back, and waits for the outcome. `what` is keep or back."""
    return session("decide", nonce, place=f"{CHANGES}/{change}", what=what, by=by).encode()


def give_script(change: str, account: str, password: str, nonce: str) -> bytes:
    """The script that gives an account a password while a change is on the latch. A script goes through pipes, so the password
    is in no argument and in no file."""
    return session("give", nonce, place=f"{CHANGES}/{change}", who=account, word=password).encode()


def install_script(act: Install, nonce: str) -> bytes:
    """The script that installs a package apart from its connection, with the unit kept from starting meanwhile."""
    return session("install", nonce, package=act.package, unit=act.unit, tool=act.command).encode()


def pending_script(nonce: str) -> bytes:
    """The script that tells what is on the latch, and what became of the last changes."""
    return session("pending", nonce).encode()


def mirrored(entries: Mapping[str, Entry], sources: Iterable[str], below: str) -> dict[str, bytes]:
    """sshd's own files with every Include pointing into `below`, for a check where nothing can be mounted."""
    out: dict[str, bytes] = {}
    for path in sources:
        raw = entries[path].content or b""
        out[path] = re.sub(rb"(?im)^([ \t]*include[ \t]+)(.*)$", lambda m: m[1] + _included(m[2], below), raw)
    return out


def _included(words: bytes, below: str) -> bytes:
    def moved(word: bytes) -> bytes:
        bare = word.strip(b'"')
        return f"{below}/etc/ssh/".encode() + bare if not bare.startswith(b"/") else below.encode() + bare

    return b" ".join(moved(word) for word in words.split())
