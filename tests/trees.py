"""Random sshd configuration trees: valid ones mostly, with nested Include, Match and negation, and some faulty ones."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass, field

USERS = ("root", "games", "daemon", "backup", "nobody")
GROUPS = ("root", "games", "daemon", "backup", "nogroup", "tape")
NETS = ("192.168.40.0/24", "10.0.0.0/8", "2001:db8:40::/64", "192.168.40.7", "203.0.113.*", "10.?.0.1", "*", "192.168")
HOSTS = ("192.168.*", "*.skerry.example", "10.0.0.1", "2001:db8:*", "*", "boat.skerry.example")
SHELL_WORDS = ("internal-sftp", "/usr/local/bin/copy-out --all", "none", '"quoted # thing"')

Value = Callable[[random.Random], str]


def pick(*options: str) -> Value:
    return lambda r: r.choice(options)


def several(*options: str) -> Value:
    return lambda r: " ".join(r.choice(options) for _ in range(r.randint(1, 3)))


def algorithms(*options: str) -> Value:
    def make(r: random.Random) -> str:
        return r.choice(("", "+", "-", "^")) + ",".join(r.sample(options, r.randint(1, min(3, len(options)))))

    return make


FLAG = pick("yes", "no", "YES", "No")
TIMES = pick("0", "30", "2m", "1h30m", "1d", "90s", "1W")
FILES = pick("/etc/ssh/extra", "none", "/srv/x y".replace(" ", "-"))
PATTERNS = several("root", "games", "g*", "*@192.168.40.0/24", "root@10.0.0.*", "daemon@*,!10.0.0.1", "*", "b?ckup")
GROUP_PATTERNS = several("root", "ga*", "tape", "*", "nogroup")
KEYS = algorithms("ssh-rsa", "ssh-ed25519", "rsa-sha2-*", "ecdsa-*", "ssh-dss", "*-cert-v01@openssh.com")

ANYWHERE: dict[str, Value] = {
    **dict.fromkeys(
        tuple(
            """
    HostbasedAuthentication HostbasedUsesNameFromPacketOnly PubkeyAuthentication PasswordAuthentication
    KbdInteractiveAuthentication ChallengeResponseAuthentication KerberosAuthentication GSSAPIAuthentication
    X11Forwarding X11UseLocalhost PermitEmptyPasswords AllowAgentForwarding PermitTTY PermitUserRC
    StreamLocalBindUnlink DisableForwarding ExposeAuthInfo
""".split()
        ),
        FLAG,
    ),
    "PermitRootLogin": pick("yes", "no", "prohibit-password", "without-password", "forced-commands-only"),
    "IgnoreRhosts": pick("yes", "no", "shosts-only"),
    "GatewayPorts": pick("yes", "no", "clientspecified"),
    "AllowTcpForwarding": pick("yes", "no", "all", "local", "remote"),
    "AllowStreamLocalForwarding": pick("yes", "no", "all", "local", "remote"),
    "LogLevel": pick("INFO", "verbose", "DEBUG", "DEBUG3", "quiet"),
    "LogVerbose": several("kex.c:*:1000", "*:main:1"),
    "X11DisplayOffset": pick("10", "20"),
    "MaxAuthTries": pick("3", "6", "0"),
    "MaxSessions": pick("1", "10"),
    "ClientAliveInterval": TIMES,
    "ClientAliveCountMax": pick("0", "3"),
    "RequiredRSASize": pick("2048", "3072"),
    "UnusedConnectionTimeout": pick("none", "5m", "0"),
    "ChannelTimeout": pick("none", "session=5m", "session=0 agent-connection=1h"),
    "StreamLocalBindMask": pick("0177", "022", "0"),
    "HostbasedAcceptedAlgorithms": KEYS,
    "PubkeyAcceptedAlgorithms": KEYS,
    "PubkeyAcceptedKeyTypes": KEYS,
    "CASignatureAlgorithms": algorithms("ssh-ed25519", "rsa-sha2-*", "ecdsa-sha2-nistp256"),
    "PubkeyAuthOptions": pick("none", "touch-required", "verify-required", "touch-required verify-required"),
    "AllowUsers": PATTERNS,
    "DenyUsers": PATTERNS,
    "AllowGroups": GROUP_PATTERNS,
    "DenyGroups": GROUP_PATTERNS,
    "AcceptEnv": several("LANG", "LC_*"),
    "SetEnv": several("A=1", "B=2", "A=3", '"C=x y"'),
    "Banner": FILES,
    "ChrootDirectory": pick("/srv/%u", "none", "%h"),
    "ForceCommand": pick(*SHELL_WORDS),
    "TrustedUserCAKeys": FILES,
    "RevokedKeys": FILES,
    "AuthorizedKeysFile": several(".ssh/authorized_keys", "/etc/ssh/keys/%u", "%h/.ssh/more"),
    "AuthorizedPrincipalsFile": pick("/etc/ssh/principals/%u", "none", ".ssh/principals"),
    "AuthenticationMethods": pick(
        "any",
        "publickey",
        "publickey,password",
        "publickey,keyboard-interactive password",
        "publickey,publickey",
        "none",
    ),
    "PermitTunnel": pick("yes", "no", "ethernet", "point-to-point"),
    "PermitOpen": pick("any", "none", "localhost:5901", "*:22 [2001:db8::1]:80"),
    "PermitListen": pick("any", "none", "8080", "localhost:8080 *"),
    "IPQoS": pick("af21 cs1", "ef", "lowdelay throughput", "none", "0x10 le"),
    "RekeyLimit": pick("1G", "512M 1h", "default none", "default 30m"),
}
TOP_ONLY: dict[str, Value] = {
    **dict.fromkeys(
        tuple(
            """
    UsePAM KerberosOrLocalPasswd KerberosTicketCleanup GSSAPICleanupCredentials GSSAPIKeyExchange
    GSSAPIStrictAcceptorCheck GSSAPIStoreCredentialsOnRekey PrintMotd PrintLastLog IgnoreUserKnownHosts
    StrictModes TCPKeepAlive UseDNS DSAAuthentication
""".split()
        ),
        FLAG,
    ),
    "Port": pick("22", "2222", "22022"),
    "AddressFamily": pick("any", "inet", "inet6"),
    "LoginGraceTime": TIMES,
    "Compression": pick("yes", "no", "delayed"),
    "FingerprintHash": pick("md5", "SHA256"),
    "PidFile": FILES,
    "ModuliFile": FILES,
    "XAuthLocation": FILES,
    "Ciphers": algorithms("aes256-ctr", "aes128-cbc", "chacha20-poly1305@openssh.com"),
    "MACs": algorithms("hmac-sha2-256", "hmac-md5", "umac-64@openssh.com"),
    "KexAlgorithms": algorithms("curve25519-sha256", "diffie-hellman-group14-sha1", "ecdh-sha2-nistp256"),
    "HostKeyAlgorithms": KEYS,
    "GSSAPIKexAlgorithms": pick("gss-group14-sha256-", "gss-gex-sha1-,gss-group14-sha256-"),
    "SecurityKeyProvider": pick("internal", "/usr/lib/x.so"),
    "VersionAddendum": pick("Skerry Point", "none"),
    "HostKeyAgent": pick("/run/agent", "none"),
    "SyslogFacility": pick("AUTH", "local3", "DAEMON"),
    "MaxStartups": pick("10:30:100", "5", "20:50:60"),
    "PerSourceMaxStartups": pick("none", "5"),
    "PerSourceNetBlockSize": pick("24:64", "32:128", "16"),
    "PermitUserEnvironment": pick("yes", "no", "LANG,LC_*"),
    "Subsystem": pick("sftp internal-sftp", "sftp /usr/lib/openssh/sftp-server -l INFO", "more /bin/true"),
    "Protocol": pick("2"),
    "UsePrivilegeSeparation": pick("yes", "sandbox"),
    "ListenAddress": pick("127.0.0.1", "192.168.40.1:2222", "[2001:db8::1]:22", "::", "0.0.0.0"),
    "AuthorizedKeysCommandUser": pick("nobody", "daemon"),
    "AuthorizedPrincipalsCommandUser": pick("nobody", "daemon"),
    "AuthorizedKeysCommand": pick("none"),
    "AuthorizedPrincipalsCommand": pick("none"),
}
FAULTY = (
    "PermitRootLogin maybe",
    "PasswordAuthentication",
    "Banana yes",
    'Banner "open',
    "Port 0",
    "MaxAuthTries x",
    "Match",
    "Match user",
    "Match all user root",
    "Match planet mars",
    "Match address 10.0.0.1/8",
    "Ciphers nonsense",
    "Include",
    "AllowUsers root@10.0.0.1/33",
    "LoginGraceTime soon",
    "AddressFamily ipx",
    "PermitRootLogin yes no",
    "LogLevel loud",
    "MaxStartups 20:10:5",
    "PermitOpen here",
    "AuthenticationMethods any none",
    "IPQoS strange",
    "Match localport 0x1",
    "Subsystem sftp",
    "StreamLocalBindMask 9",
    "PermitTunnel maybe",
    "Match address ,",
)


@dataclass
class Tree:
    """Files by name; the main one is "main". `features` says what occurs in it."""

    files: dict[str, str] = field(default_factory=dict)
    features: set[str] = field(default_factory=set)
    keywords: set[str] = field(default_factory=set)


def condition(r: random.Random, tree: Tree) -> str:
    makers: dict[str, Callable[[], str]] = {
        "user": lambda: ",".join(_signed(r, name) for name in r.sample((*USERS, "g*", "*"), r.randint(1, 2))),
        "group": lambda: ",".join(_signed(r, name) for name in r.sample((*GROUPS, "ga*", "*"), r.randint(1, 2))),
        "address": lambda: ",".join(_signed(r, net) for net in r.sample(NETS, r.randint(1, 2))),
        "host": lambda: ",".join(_signed(r, host) for host in r.sample(HOSTS, r.randint(1, 2))),
        "localport": lambda: r.choice(("22", "2222")),
        "localaddress": lambda: r.choice(("192.168.40.1", "127.0.0.1", "*")),
    }
    tree.features.add("Match")
    if r.random() < 0.1:
        return "Match all"
    parts = []
    for name in r.sample(list(makers), r.choice((1, 1, 1, 2, 3))):
        text = makers[name]()
        if "!" in text:
            tree.features.add("negation")
        separator = r.choice((" ", " ", " ", "=", "  "))
        parts.append(f"{r.choice((name, name.title()))}{separator}{text}")
    return f"{r.choice(('Match', 'match', 'MATCH'))} {' '.join(parts)}"


def _signed(r: random.Random, text: str) -> str:
    return ("!" if r.random() < 0.25 else "") + text


def setting(r: random.Random, tree: Tree, *, matched: bool) -> str:
    table = ANYWHERE if matched or r.random() < 0.5 else {**ANYWHERE, **TOP_ONLY}
    name = r.choice(list(table))
    tree.keywords.add(name.lower())
    shown = r.choice((name, name, name.lower(), name.upper()))
    line = r.choice(("", "", "  ", "\t")) + shown + r.choice((" ", " ", "\t", "=", " = ")) + table[name](r)
    if name not in ("ForceCommand", "VersionAddendum", "AuthorizedKeysCommand", "AuthorizedPrincipalsCommand"):
        line += r.choice(("", "", "", "  # a comment"))
    return line + r.choice(("", "", " ", "\r"))


def tree(r: random.Random, folder: str) -> Tree:
    """A tree whose Include lines name files under `folder`."""
    out = Tree()
    names = [f"part{i}.conf" for i in range(r.choice((0, 0, 1, 2, 3)))]
    for index, name in enumerate(["main", *names]):
        can_include = [f"{folder}/{other}" for other in names[index:]]
        out.files[name] = _file(r, out, can_include, deep=index > 0)
    return out


def _file(r: random.Random, out: Tree, can_include: list[str], *, deep: bool) -> str:
    lines: list[str] = []
    matched = False
    subsystems = 0
    for _ in range(r.randint(1, 9)):
        roll = r.random()
        if roll < 0.18:
            lines.append(condition(r, out))
            matched = True
        elif roll < 0.32 and can_include:
            names = r.sample(can_include, r.randint(1, min(2, len(can_include))))
            lines.append("Include " + " ".join(n.replace("part", "pa?t") if r.random() < 0.3 else n for n in names))
            out.features.add("nested Include" if deep else "Include")
        elif roll < 0.36:
            lines.append(r.choice(("", "# PermitRootLogin yes", "   ")))
        elif roll < 0.375:
            lines.append(r.choice(FAULTY))
        else:
            line = setting(r, out, matched=matched or deep)
            subsystems += line.strip().lower().startswith("subsystem")
            if subsystems < 2 or not line.strip().lower().startswith("subsystem"):
                lines.append(line)
    return "\n".join(lines) + r.choice(("\n", "\n", ""))
