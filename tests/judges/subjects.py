"""Every parser and every reading, each as a call on bytes with the errors that it declares: the mutating judge's subjects."""

from __future__ import annotations

import base64
import tempfile
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from nightlatch.access.paths import guest_access
from nightlatch.estate import editing, perimeters, tree
from nightlatch.estate.load import load
from nightlatch.evidence import byhand, opinions, stream
from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot, from_files
from nightlatch.faults import EstateError, RefusedError, UnreadableError
from nightlatch.formats import (
    accounts,
    authorized_keys,
    dpkg_status,
    hosts_access,
    interfaces,
    ip_listing,
    ipset_save,
    iptables_save,
    keys,
    krl,
    leases,
    lines,
    name_files,
    netplan,
    network_secrets,
    nft,
    own_rules,
    pam,
    paths,
    patterns,
    rule_loads,
    sections,
    shell_vars,
    sshd_config,
    sshd_keywords,
    sshd_tokens,
    sshd_values,
    sudoers,
    text_secrets,
    xml_tree,
    yaml_tree,
)
from nightlatch.latch import records
from nightlatch.net import literal
from nightlatch.origin import Kind as OriginKind
from nightlatch.probe.ssh import Conversation
from nightlatch.readings import address_lists
from nightlatch.readings import guest as readings
from nightlatch.readings.guest import GuestReading
from nightlatch.readings.units import socket_units
from tests.canaries import private_keys, texts
from tests.guests import AT, Guest, pub
from tests.judges import seeds
from tests.test_probe import packet
from tests.test_streams import NONCE, WHOLE


@dataclass(frozen=True)
class Subject:
    """One parser or reading. `reads` is called with bytes and may raise nothing but `declared`.

    `size` is how many bytes are read within a second. The YAML library takes about 20 ms for 1,000, whoever wrote them: a
    guest's netplan files are read up to a length, and an estate file is its owner's. `then` is what is done with what was read.
    """

    name: str
    reads: Callable[[bytes], object]
    seeds: tuple[bytes, ...]
    declared: tuple[type[Exception], ...] = ()
    size: int = 100_000
    then: Callable[[Any], object] = lambda _: None
    costly: bool = False  # reads a whole guest or estate each time: tried less often


def text(reads: Callable[[str], object]) -> Callable[[bytes], object]:
    """A call on text, as the callers make text of bytes."""
    return lambda raw: reads(raw.decode("utf-8", "surrogateescape"))


def listed(reads: Callable[[bytes], object]) -> Callable[[bytes], object]:
    """A call whose answer comes bit by bit."""
    return lambda raw: list(reads(raw))  # type: ignore[call-overload]


def all_of(*reads: Callable[[bytes], object]) -> Callable[[bytes], object]:
    """Several calls on the same bytes."""
    return lambda raw: [each(raw) for each in reads]


def raw(*of: str) -> tuple[bytes, ...]:
    return tuple(each.encode() for each in of)


def same(parse: Callable[[bytes], object], render: Callable[..., bytes]) -> Callable[[bytes], object]:
    """A format that gives every byte back."""

    def reads(given: bytes) -> object:
        document = parse(given)
        assert render(document) == given, "the bytes that came back are others"
        return document

    return reads


DIALECTS = {name: value for name, value in vars(sections).items() if isinstance(value, sections.Dialect)}
KEY = pub("mara-desk")
ESTATE_TEXT = """\
nightlatch: 1
estate: Isle   # ours
time_zone: Atlantic/Faroe
places: {bench: [192.168.40.0/24, "2001:db8::/64"], field: {inside: [10.0.0.0/8], seen_as: [203.0.113.20]}}
people:
  mara: {keys: [mara.pub], until: 2027-03-31}
teams: {crew: [mara]}
robots: {nightcopy: {keys: [mara.pub]}}
networks:
  isle: {subnet: 192.168.56.0/24, host: 192.168.56.1, leases: 192.168.56.100-192.168.56.199, perimeter: {read: outer.csv, taken: 2026-11-20, columns: {source: src, port: dport, action: verdict}}}
  hidden: {subnet: 10.0.2.0/24, private: true, forwards: [{at: 192.168.56.1, port: 2222, to: {guest: gauge, port: 22}, guest_sees: 10.0.2.2}]}
guests:
  gauge: {system: debian-12, via: {ssh: 192.168.56.21, as: keeper, port: 22}, host_keys: ["SHA256:0000000000000000000000000000000000000000000"], labels: [a, b], addresses: {eth0: [192.168.56.21/24]}}
  plotter: {via: {folder: images/plotter}, network: hidden}
grants:
  - {let: team crew, into: [label a, gauge], by: ssh, from: bench, with: [key, key + password]}
  - let: mara
    into: "gauge"
    by: ssh
    from: [field, 192.168.40.9]
    with: key
    may: administer
    after: own password
    until: 2026-12-31
  - {let: nightcopy, into: gauge, by: ssh, from: bench, with: key, as: copier, only: {command: '/bin/x "y"'}}
emergency:
  - {account: lantern, into: all guests, tested: 2026-11-02, test_every_days: 90, by: {console: {with: password}, ssh: {from: bench, with: key, keys: [mara.pub]}}}
waivers:
  - {finding: ssh.password-login, on: gauge, owner: mara, because: "tablet, no key store", until: 2027-01-31}
narrow_at: [filter, service, key]
"""
TABLE = 'src,dport,verdict,note\n192.168.40.0/24,22,allow,"a, b"\n\nany,1-65535,deny,\n'
TABLE_JSON = '[{"source": "192.168.40.0/24", "port": "22", "action": "allow"}, {"source": "::/0", "port": 80, "action": null}]'
GUESTS = "guest,system,folder,labels,addresses\ngauge,debian-12,images/gauge,a b,eth0=192.168.56.21/24\n"
SIDE = '{"kind": "file", "mode": 420, "uid": 0, "gid": 0, "sha256": "", "mtime": 5, "attributes": {}}'
RECORD = (
    '{"format": "nightlatch/change/1", "id": "20261130-064623-000001", "tool": "0.1.0", "time": "2026-11-30T06:46:23+00:00", "guest": "gauge", "steps": ["a"],'
    f' "touched": [{{"path": "/etc/ssh/sshd_config", "before": {SIDE}, "after": {SIDE}, "copy_name": "1.before"}}], "folders": ["/etc/x"],'
    ' "acts": [["enable", "ssh.service"]], "left": [], "returns": ""}'
)
OPINIONS = "question user=mara,addr=192.0.2.1\n+port 22\n+usepam yes\nquestion user=joon\n-port 22\n+sshd: no\n"
SSH2 = '---- BEGIN SSH2 PUBLIC KEY ----\nComment: "a \\\nb"\n' + KEY.split()[1] + "\n---- END SSH2 PUBLIC KEY ----\n"
SOCKET = "/etc/systemd/system/ssh.socket"
NAMES = ("a", "b.conf", "[x]", "ssh_config", "-", "]")


def _string(of: bytes) -> bytes:
    return len(of).to_bytes(4, "big") + of


_BLOB = base64.b64decode(KEY.split()[1])
KRL = (
    krl.MAGIC
    + bytes([0, 0, 0, 1])
    + bytes(24)
    + _string(b"") * 2
    + bytes([krl.EXPLICIT])
    + _string(_string(_BLOB))
    + bytes([krl.BY_SHA256])
    + _string(_string(bytes(32)))
)
_OFFER = (
    bytes([20])
    + bytes(16)
    + b"".join(
        _string(each)
        for each in (
            b"curve25519-sha256",
            b"ssh-ed25519",
            b"aes128-ctr",
            b"aes128-ctr",
            b"hmac-sha2-256",
            b"hmac-sha2-256",
            b"none",
            b"none",
            b"",
            b"",
        )
    )
    + bytes(5)
)
_REPLY = bytes([31]) + _string(_BLOB) + _string(bytes([9]) + bytes(31)) + _string(_string(b"ssh-ed25519") + _string(bytes(64)))
PEERS = (
    b"SSH-2.0-liar\r\n" + packet(_OFFER) + packet(_REPLY),
    b"banner\r\nSSH-1.99-old\n",
    b"SSH-2.0-liar\r\n" + packet(_OFFER) + packet(bytes([1]) + bytes(4) + _string(b"no")),
)
_worker = zlib.compressobj(9, zlib.DEFLATED, 31)
BY_HAND = (
    byhand.BEGINS.encode() + b"\n" + base64.encodebytes(_worker.compress(WHOLE) + _worker.flush()) + byhand.ENDS.encode() + b"\n"
)


def words(given: str) -> None:
    """The text as what stands behind each of sshd's keywords, and as each list of algorithms."""
    told = given[:100_000].split(" ")
    for keyword in sshd_keywords.KEYWORDS.values():
        try:
            keyword.read(told, given)
        except sshd_values.ValueRefusal:
            pass


def conversation(given: bytes) -> None:
    """A peer's bytes, whole and then the end."""
    talk = Conversation()
    talk.start()
    for part in (given, b""):
        talk.receive(part)
        list(talk.events())


def file_pattern(given: str) -> None:
    """The text as a pattern of file names; a guest's paths hold no NUL."""
    if "\0" not in given:
        paths.expand(given, lambda _: NAMES, lambda _: False)


def word_pattern(given: str) -> None:
    """The text as a list of patterns for names."""
    patterns.in_list("mara", given)
    patterns.matches("192.168.40.9", given)


def address_pattern(given: str) -> None:
    """The text as a list of patterns for addresses."""
    address_lists.host_list(given)
    address_lists.by_address(given)


def estate(given: str) -> None:
    """The text as an estate file's tree, edited in place."""
    tree.parse(tree.source("estate.yaml", given))
    editing.with_host_keys(given, "gauge", ["SHA256:" + "a" * 43])
    editing.with_address(given, "gauge", "192.168.56.21", "192.168.56.22")
    editing.with_port(given, "gauge", 22, 2222)


def literals(given: str) -> None:
    """The text as every kind of address, range and port."""
    for reads in (
        literal.parse_network,
        literal.parse_address,
        literal.parse_interface,
        literal.parse_subnet,
        literal.parse_range,
        literal.parse_mask,
    ):
        try:
            reads(given)
        except literal.AddressError:
            pass


def listings(given: str) -> None:
    """The text as each listing of ip(8)."""
    for reads in (ip_listing.addresses, ip_listing.links, ip_listing.routes, ip_listing.neighbours):
        list(reads(given))


def folder(changed: str) -> Callable[[bytes], object]:
    """An estate in a folder of its own, one of its files as given."""
    held = {"estate.yaml": ESTATE_TEXT, "outer.csv": TABLE, "mara.pub": KEY, "guests.csv": GUESTS}
    if changed == "guests.csv":
        start, end = ESTATE_TEXT.index("guests:\n"), ESTATE_TEXT.index("grants:\n")
        held["estate.yaml"] = ESTATE_TEXT[:start] + "guests_from: guests.csv\n" + ESTATE_TEXT[end:]

    def reads(given: bytes) -> object:
        with tempfile.TemporaryDirectory() as made:
            for name, content in held.items():
                (Path(made) / name).write_bytes(given if name == changed else content.encode())
            return load(Path(made) / "estate.yaml")

    return reads


def _parsers() -> list[Subject]:
    columns = (("source", "source"), ("port", "port"), ("action", "action"))
    return [
        Subject("passwd", all_of(accounts.passwd, accounts.reduce_passwd), raw(seeds.PASSWD)),
        Subject("group", accounts.group, raw(seeds.GROUP)),
        Subject("shadow", all_of(accounts.shadow, accounts.reduce_shadow), raw(seeds.SHADOW, "a:$6$x$y:1:::::\n")),
        Subject("authorized_keys", authorized_keys.parse, raw(seeds.KEY_LINES)),
        Subject(
            "options of a key",
            text(authorized_keys.parse_options),
            raw(*(line.partition(" ")[0] for line in seeds.KEY_LINES.splitlines())),
            (authorized_keys.OptionFault,),
        ),
        Subject("public keys", keys.parse_public, raw(KEY, SSH2), (keys.KeyFault,)),
        Subject("private keys", keys.private_kind, tuple(each.content[:4000] for each in private_keys())),
        Subject("revocations", krl.parse, (KRL,), (krl.KrlFault,)),
        Subject("packages", all_of(dpkg_status.only, lambda given: dpkg_status.version(given, "sudo")), raw(seeds.DPKG)),
        Subject("hosts.allow", hosts_access.parse, raw(seeds.HOSTS_ALLOW)),
        Subject("ifupdown", same(interfaces.parse, interfaces.render), raw(seeds.INTERFACES)),
        *(
            Subject(
                f"sections, {each.name}",
                same(lambda given, each=each: sections.parse(given, each), sections.render),  # type: ignore[misc]
                raw(seeds.NETWORK, seeds.PROFILE, seeds.UNIT, seeds.SOCKET),
            )
            for each in sections.Dialect
        ),
        Subject(
            "shell variables",
            same(shell_vars.parse, shell_vars.render),
            raw(seeds.IFCFG, seeds.UFW_DEFAULTS, "SSHD_OPTS='-o Port=22' # x\n"),
        ),
        Subject("sshd_config", same(sshd_config.parse, sshd_config.render), raw(seeds.SSHD)),
        Subject(
            "values of sshd", text(words), raw(*(line.strip().partition(" ")[2] for line in seeds.SSHD.splitlines())), size=10_000
        ),
        Subject("times of sshd", text(sshd_values.seconds), raw("2m30s", "1w2d3h", "5", "+5"), (sshd_values.ValueRefusal,)),
        Subject(
            "tokens of sshd",
            text(lambda given: sshd_tokens.file_for(given, user="mara", uid=1001, home="/home/mara")),
            raw("%h/.ssh/%u %%", "keys/%U"),
        ),
        Subject("patterns of files", text(file_pattern), raw("*.conf", "[a-c]?[!x]\\*", "/etc/*/[[]x")),
        Subject("patterns of words", text(word_pattern), raw("mara,!joon", "*.skerry.example,?a*")),
        Subject(
            "patterns of addresses",
            text(address_pattern),
            raw("192.168.40.0/24,!10.*,2001:db8::/32", "192.168.4?.*,!192.168.4[0-9].9"),
        ),
        Subject(
            "addresses",
            text(literals),
            raw("192.168.56.1/24", "2001:db8::1%eth0", "192.168.56.1-192.168.56.9", "255.255.255.0", "22,80-90"),
            (literal.AddressError, ValueError),
        ),
        Subject(
            "a socket unit",
            lambda given: socket_units.stored(from_files("gauge", {SOCKET: given}), "ssh.socket"),
            raw(seeds.SOCKET),
        ),
        Subject("PAM", pam.parse, raw(seeds.PAM)),
        Subject("sudoers", sudoers.parse, raw(seeds.SUDOERS)),
        Subject("iptables", iptables_save.parse, raw(seeds.RULES_V4, seeds.UFW_RULES)),
        Subject("sets of iptables", ipset_save.parse, raw(seeds.IPSETS)),
        Subject("nftables", text(nft.parse), raw(seeds.NFTABLES), (nft.NftFault,)),
        Subject("own rules", own_rules.without, raw(seeds.NFTABLES)),
        Subject(
            "scripts with rules", listed(rule_loads.script), raw("#!/bin/sh\niptables-restore < /etc/a\nnft -f /etc/b; exit 0\n")
        ),
        Subject(
            "XML", xml_tree.parse, raw(seeds.ZONE, seeds.POLICY, seeds.SERVICE, seeds.IPSET, seeds.DIRECT), (xml_tree.XmlFault,)
        ),
        Subject(
            "YAML",
            text(lambda given: yaml_tree.parse(yaml_tree.Source("a.yaml", given, OriginKind.FILE))),
            raw(seeds.NETPLAN, ESTATE_TEXT),
            (yaml_tree.YamlError,),
            netplan.LONGEST,
        ),
        Subject("netplan", same(lambda given: netplan.parse(given, "/etc/netplan/a.yaml"), netplan.render), raw(seeds.NETPLAN)),
        Subject(
            "listings of ip",
            text(listings),
            raw(*(seeds.LISTINGS[each] for each in ("addresses", "links", "routes", "neighbours"))),
        ),
        Subject(
            "leases",
            all_of(listed(leases.dhclient), leases.networkd, listed(leases.dnsmasq)),
            raw(seeds.LEASES, seeds.NETWORKD_LEASE, seeds.DNSMASQ),
        ),
        Subject(
            "names",
            all_of(listed(name_files.hosts), name_files.resolv_conf, name_files.first_line),
            raw(seeds.HOSTS, seeds.RESOLV),
        ),
        Subject(
            "secrets in text",
            all_of(text_secrets.reduce, text_secrets.reduce_keys, network_secrets.reduce),
            raw(*texts().values(), seeds.PROFILE, seeds.NETPLAN, seeds.KEY_LINES),
        ),
        Subject("lines", same(lines.split, b"".join), raw(seeds.SSHD, "a\r\nb")),
        Subject("a survey's stream", lambda given: stream.parse(given, NONCE, "gauge"), (WHOLE,), (UnreadableError,)),
        Subject("a survey by hand", lambda given: byhand.stream_of(given, "gauge.txt"), (BY_HAND,), (UnreadableError,)),
        Subject("opinions", listed(opinions.unpacked), raw(OPINIONS)),
        Subject("a change's record", lambda given: records.parse(given, "record"), raw(RECORD), (UnreadableError,)),
        Subject("an estate file", text(estate), raw(ESTATE_TEXT), (EstateError, RefusedError), 4000, costly=True),
        Subject(
            "a table of a perimeter",
            text(lambda given: perimeters.parse("a.json", given, columns)),
            raw(TABLE_JSON),
            (EstateError,),
        ),
        Subject("an estate's folder", folder("estate.yaml"), raw(ESTATE_TEXT), (EstateError,), 30_000, costly=True),
        Subject("a table in CSV", folder("outer.csv"), raw(TABLE), (EstateError,), costly=True),
        Subject("a list of guests", folder("guests.csv"), raw(GUESTS), (EstateError,), costly=True),
        Subject("fingerprints", text(editing.fingerprints), raw("SHA256:" + "a" * 43 + " MD5:" + ":".join(["0f"] * 16))),
        Subject("a peer's bytes", conversation, PEERS),
    ]


WANTS = "/etc/systemd/system/multi-user.target.wants"
UNITS = tuple(
    """
    nftables ufw firewalld netfilter-persistent ssh NetworkManager systemd-networkd networking iptables
""".split()
)


def guest(path: str) -> Snapshot:
    """A guest that reads the file at `path`: the others it needs are there as a fresh system has them."""
    files: dict[str, str | bytes] = {each: content for each, content in seeds.FILES.items() if each in NEEDED.get(path, ())}
    files |= {
        f"/lib/systemd/system/{each}.service": "[Service]\nExecStart=/bin/true\n[Install]\nWantedBy=multi-user.target\n"
        for each in UNITS
    }
    files |= {f"/usr/sbin/{each}": "" for each in ("nft", "ufw", "firewalld", "NetworkManager", "netplan", "ifup", "iptables")}
    made = Guest(files=files, keys={"mara": pub("mara-desk")}, pam=True).snapshot()
    links = {
        f"{WANTS}/{each}.service": Entry(EntryKind.LINK, 0o777, target=f"/lib/systemd/system/{each}.service")
        for each in UNITS
        if each in STARTS.get(path, ("ssh",))
    }
    above = {WANTS.rsplit("/", n)[0]: Entry(EntryKind.FOLDER, 0o755) for n in range(3)}
    entries = {**above, **made.entries, **links}
    return Snapshot(made.guest, entries, made.listed | set(above))


_FIREWALLD = tuple(each for each in seeds.FILES if each.startswith("/etc/firewalld"))
_UFW = (*(each for each in seeds.FILES if "ufw" in each), "/etc/iptables/ipsets")
NEEDED = {
    **dict.fromkeys(_FIREWALLD, _FIREWALLD),
    **dict.fromkeys(_UFW, _UFW),
    "/etc/iptables/ipsets": ("/etc/iptables/rules.v4",),
    "/etc/iptables/rules.v4": ("/etc/iptables/ipsets",),
    "/etc/sudoers.d/crew": ("/etc/sudoers",),
    "/etc/ssh/sshd_config.d/10.conf": ("/etc/ssh/sshd_config",),
    "/etc/systemd/system/ssh.service.d/a.conf": ("/lib/systemd/system/ssh.service",),
    "/etc/ssh/ca.pub": ("/etc/ssh/sshd_config",),
    "/etc/security/access.conf": ("/etc/pam.d/sshd",),
}
STARTS = {
    **dict.fromkeys(_FIREWALLD, ("ssh", "firewalld")),
    **dict.fromkeys(_UFW, ("ssh", "ufw")),
    "/etc/nftables.conf": ("ssh", "nftables"),
    **dict.fromkeys(("/etc/iptables/rules.v4", "/etc/iptables/ipsets"), ("ssh", "netfilter-persistent")),
}


def read_whole(snapshot: Snapshot) -> GuestReading:
    """Every reading of a guest."""
    found = readings.read(snapshot)
    _ = found.network, found.clock, found.labels, found.unit("ssh.service"), found.families
    return found


def who_gets_in(found: GuestReading) -> object:
    """What the readings come to."""
    return guest_access(found, AT)


def of_file(path: str) -> Callable[[bytes], object]:
    """The readings of a guest with one file as given."""
    plain = guest(path)

    def reads(given: bytes) -> GuestReading:
        old = plain.entries.get(path)
        mode, uid = (old.mode, old.uid) if old is not None else (0o440 if "sudoers" in path else 0o600, 0)
        return read_whole(with_file(plain, path, Entry(EntryKind.FILE, mode, uid, 0, len(given), given)))

    return reads


def with_file(plain: Snapshot, path: str, entry: Entry) -> Snapshot:
    """The guest with one entry, and the folders above it, listed."""
    parts = path.strip("/").split("/")
    above = {"/" + "/".join(parts[:depth]): Entry(EntryKind.FOLDER, 0o755) for depth in range(1, len(parts))}
    return Snapshot(plain.guest, {**above, **plain.entries, path: entry}, plain.listed | set(above))


def of_listing(name: str) -> Callable[[bytes], object]:
    """The readings of a live guest with one listing as given."""
    plain = guest("")
    told = {
        each: content.encode()
        for each, content in seeds.LISTINGS.items()
        if each in ("sockets", "holders", "programs", "owners", "daemons", "units", "addresses", "links")
    }
    facts = {"init": "systemd", "uptime": "1000", "clock": "1798765432", "uid": "0", "legacy": "filter nat"}

    def reads(given: bytes) -> GuestReading:
        return read_whole(Snapshot(plain.guest, plain.entries, plain.listed, facts=facts, listings={**told, name: given}))

    return reads


def subjects() -> list[Subject]:
    """All of them."""
    files = [
        Subject(
            f"guest with {path}",
            of_file(path),
            raw(content, *([seeds.WILD[path]] if path in seeds.WILD else [])),
            then=who_gets_in,
            costly=True,
        )
        for path, content in seeds.FILES.items()
    ]
    listings = [
        Subject(f"guest that lists {name}", of_listing(name), raw(content), then=who_gets_in, costly=True)
        for name, content in seeds.LISTINGS.items()
    ]
    return [*_parsers(), *files, *listings]
