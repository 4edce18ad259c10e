"""The keywords of sshd_config: where each may stand, how its words are read, which line wins, its built-in default.

Source: sshd_config(5), OpenSSH 9.2p1 with Debian's additions; every line is held against `sshd -T` by the tests.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import Enum

from nightlatch.formats import sshd_values as v
from nightlatch.formats.sshd_algorithms import DEFAULT, names, plain_names


class Precedence(Enum):
    """The effect of several lines of one keyword."""

    FIRST = "first"  # the first value is kept
    LAST = "last"  # a later line replaces an earlier one (measured: sshd -T)
    FIRST_OR_NONE = "first or none"  # the first, unless a later line says none (measured: UnusedConnectionTimeout)
    PARTS = "parts"  # the first value is kept for each word of the value; "" says nothing (RekeyLimit)
    LAST_PARTS = "last parts"  # the last value is kept for each word of the value (MaxStartups)
    ADD = "add"  # all values count, in order
    NAMED = "named"  # all count, and no name may come twice (Subsystem)


@dataclass(frozen=True, slots=True)
class Keyword:
    """One keyword. `anywhere` says that it may stand in a Match block; `per_line` that `sshd -T` gives a line each."""

    name: str
    read: v.Reader
    default: tuple[str, ...] = ()
    anywhere: bool = False
    wins: Precedence = Precedence.FIRST
    per_line: bool = False


_FLAG = v.choice(yes="yes", no="no")
_FORWARD = v.choice(yes="yes", all="yes", no="no", local="local", remote="remote")
_ROOT = v.choice(
    yes="yes",
    no="no",
    without_password="without-password",
    prohibit_password="without-password",
    forced_commands_only="forced-commands-only",
)
_KEY_NAMES = names("key", wildcards=True)


def _keys(kind: str) -> tuple[str, ...]:
    return (",".join(DEFAULT[kind]),)


def _flags(**defaults: str) -> list[Keyword]:
    """Keywords that are yes or no, with their defaults."""
    return [Keyword(name, _FLAG, (value,)) for name, value in defaults.items()]


# May stand in a Match block.
_EVERYWHERE = [
    Keyword("permitrootlogin", _ROOT, ("without-password",)),
    Keyword("ignorerhosts", v.choice(yes="yes", no="no", shosts_only="shosts-only"), ("yes",)),
    Keyword("gatewayports", v.choice(yes="yes", no="no", clientspecified="clientspecified"), ("no",)),
    Keyword("allowtcpforwarding", _FORWARD, ("yes",)),
    Keyword("allowstreamlocalforwarding", _FORWARD, ("yes",)),
    Keyword("loglevel", v.level, ("INFO",)),
    Keyword("logverbose", v.maybe_many),
    Keyword("x11displayoffset", v.number, ("10",)),
    Keyword("maxauthtries", v.number, ("6",)),
    Keyword("maxsessions", v.number, ("10",)),
    Keyword("clientaliveinterval", v.time, ("0",)),
    Keyword("clientalivecountmax", v.number, ("3",)),
    Keyword("requiredrsasize", v.number, ("1024",)),
    Keyword("unusedconnectiontimeout", v.time_or_none, ("none",), wins=Precedence.FIRST_OR_NONE),
    Keyword("streamlocalbindmask", v.mask, ("0177",), wins=Precedence.LAST),
    Keyword("hostbasedacceptedalgorithms", _KEY_NAMES, _keys("key")),
    Keyword("pubkeyacceptedalgorithms", _KEY_NAMES, _keys("key")),
    Keyword("casignaturealgorithms", names("signature", wildcards=True), _keys("signature")),
    Keyword("pubkeyauthoptions", v.key_options, ("none",)),
    Keyword("allowusers", v.maybe_many, wins=Precedence.ADD, per_line=True),
    Keyword("denyusers", v.maybe_many, wins=Precedence.ADD, per_line=True),
    Keyword("allowgroups", v.maybe_many, wins=Precedence.ADD, per_line=True),
    Keyword("denygroups", v.maybe_many, wins=Precedence.ADD, per_line=True),
    Keyword("acceptenv", v.no_equals, wins=Precedence.ADD, per_line=True),
    Keyword("setenv", v.settings, per_line=True),
    Keyword("banner", v.file, ("none",)),
    Keyword("chrootdirectory", v.plain, ("none",)),
    Keyword("forcecommand", v.command, ("none",)),
    Keyword("trustedusercakeys", v.file, ("none",)),
    Keyword("revokedkeys", v.file, ("none",)),
    Keyword("authorizedkeysfile", v.homes, (".ssh/authorized_keys", ".ssh/authorized_keys2")),
    Keyword("authorizedprincipalsfile", v.home_path, ("none",)),
    Keyword("authorizedkeyscommand", v.absolute_command, ("none",)),
    Keyword("authorizedkeyscommanduser", v.plain, ("none",)),
    Keyword("authorizedprincipalscommand", v.absolute_command, ("none",)),
    Keyword("authorizedprincipalscommanduser", v.plain, ("none",)),
    Keyword("authenticationmethods", v.methods, ("any",)),
    Keyword("permittunnel", v.tunnel, ("no",)),
    Keyword("permitopen", v.targets, ("any",)),
    Keyword("permitlisten", v.listen_targets, ("any",)),
    Keyword("ipqos", v.quality, ("lowdelay", "throughput"), wins=Precedence.LAST),
    Keyword("rekeylimit", v.rekey, ("", ""), wins=Precedence.PARTS),
    Keyword("channeltimeout", v.timeouts),
]
_EVERYWHERE += _flags(
    hostbasedauthentication="no",
    hostbasedusesnamefrompacketonly="no",
    pubkeyauthentication="yes",
    passwordauthentication="yes",
    kbdinteractiveauthentication="yes",
    kerberosauthentication="no",
    gssapiauthentication="no",
    x11forwarding="no",
    x11uselocalhost="yes",
    permitemptypasswords="no",
    allowagentforwarding="yes",
    permittty="yes",
    permituserrc="yes",
    streamlocalbindunlink="no",
    disableforwarding="no",
    exposeauthinfo="no",
)

# May stand at the top only.
_ONLY_TOP = [
    Keyword("port", v.port, ("22",), wins=Precedence.ADD, per_line=True),
    Keyword("listenaddress", v.listen, wins=Precedence.ADD, per_line=True),
    Keyword("addressfamily", v.choice(any="any", inet="inet", inet6="inet6"), ("any",)),
    Keyword("logingracetime", v.time, ("120",)),
    Keyword("compression", v.choice(yes="yes", delayed="yes", no="no"), ("yes",)),
    Keyword("fingerprinthash", v.choice(md5="MD5", sha256="SHA256"), ("SHA256",), wins=Precedence.LAST),
    Keyword("pidfile", v.file, ("/run/sshd.pid",)),
    Keyword("modulifile", v.file, ("/etc/ssh/moduli",)),
    Keyword("xauthlocation", v.file, ("/usr/bin/xauth",)),
    Keyword("ciphers", names("cipher"), _keys("cipher")),
    Keyword("macs", names("mac"), _keys("mac")),
    Keyword("kexalgorithms", names("kex"), _keys("kex")),
    Keyword("hostkeyalgorithms", _KEY_NAMES, _keys("key")),
    Keyword("gssapikexalgorithms", plain_names("gss"), _keys("gss")),
    Keyword("securitykeyprovider", v.plain, ("internal",)),
    Keyword("versionaddendum", v.banner_text, ("none",)),
    Keyword("hostkeyagent", v.plain, ("none",)),
    Keyword("syslogfacility", v.facility, ("AUTH",)),
    Keyword(
        "hostkey",
        v.file,
        tuple(f"/etc/ssh/ssh_host_{kind}_key" for kind in ("rsa", "ecdsa", "ed25519")),
        wins=Precedence.ADD,
        per_line=True,
    ),
    Keyword("hostcertificate", v.file, wins=Precedence.ADD, per_line=True),
    Keyword("maxstartups", v.startups, ("10", "30", "100"), wins=Precedence.LAST_PARTS),
    Keyword("persourcemaxstartups", v.per_source, ("none",), wins=Precedence.LAST),
    Keyword("persourcenetblocksize", v.block_size, ("32:128",)),
    Keyword("permituserenvironment", v.environment, ("no",)),
    Keyword("subsystem", v.subsystem, wins=Precedence.NAMED, per_line=True),
]
_ONLY_TOP += _flags(
    usepam="no",
    kerberosorlocalpasswd="yes",
    kerberosticketcleanup="yes",
    gssapicleanupcredentials="yes",
    gssapikeyexchange="no",
    gssapistrictacceptorcheck="yes",
    gssapistorecredentialsonrekey="no",
    printmotd="yes",
    printlastlog="yes",
    ignoreuserknownhosts="no",
    strictmodes="yes",
    tcpkeepalive="yes",
    usedns="no",
    debianbanner="yes",
)

KEYWORDS = {k.name: replace(k, anywhere=True) for k in _EVERYWHERE} | {k.name: k for k in _ONLY_TOP}

ALIASES = {
    "challengeresponseauthentication": "kbdinteractiveauthentication",
    "skeyauthentication": "kbdinteractiveauthentication",
    "dsaauthentication": "pubkeyauthentication",
    "pubkeyacceptedkeytypes": "pubkeyacceptedalgorithms",
    "hostbasedacceptedkeytypes": "hostbasedacceptedalgorithms",
    "hostdsakey": "hostkey",
    "keepalive": "tcpkeepalive",
    "gssapicleanupcreds": "gssapicleanupcredentials",
}
# Aliases that may stand only outside Match blocks although the keyword they stand for may stand inside.
TOP_ONLY_ALIASES = frozenset({"dsaauthentication"})

# Still accepted, no longer honoured; True: may stand in a Match block.
IGNORED = {
    **dict.fromkeys(("authorizedkeysfile2", "rhostsrsaauthentication", "rsaauthentication"), True),
    **dict.fromkeys(
        tuple(
            """
    afstokenpassing checkmail gssapiusesessioncredcache gssusesessionccache kerberosgetafstoken
    kerberostgtpassing keyregenerationinterval pamauthenticationviakbdint permitblacklistedkeys protocol
    reversemappingcheck rhostsauthentication serverkeybits uselogin useprivilegeseparation verifyreversemapping
""".split()
        ),
        False,
    ),
}

# Keywords of releases newer than the table: known to exist, so that the message can say what is wrong.
NEWER = {
    "persourcepenalties": "9.8",
    "persourcepenaltyexemptlist": "9.8",
    "sshdsessionpath": "9.8",
    "refuseconnection": "9.9",
    "sshdauthpath": "10.0",
}

_SPELLED = (
    "AcceptEnv AddressFamily AllowAgentForwarding AllowGroups AllowStreamLocalForwarding AllowTcpForwarding AllowUsers "
    "AuthenticationMethods AuthorizedKeysCommand AuthorizedKeysCommandUser AuthorizedKeysFile "
    "AuthorizedPrincipalsCommand AuthorizedPrincipalsCommandUser AuthorizedPrincipalsFile Banner CASignatureAlgorithms "
    "ChannelTimeout ChrootDirectory Ciphers ClientAliveCountMax ClientAliveInterval Compression DebianBanner DenyGroups "
    "DenyUsers DisableForwarding ExposeAuthInfo FingerprintHash ForceCommand GSSAPIAuthentication "
    "GSSAPICleanupCredentials GSSAPIKexAlgorithms GSSAPIKeyExchange GSSAPIStoreCredentialsOnRekey "
    "GSSAPIStrictAcceptorCheck GatewayPorts HostCertificate HostKey HostKeyAgent HostKeyAlgorithms "
    "HostbasedAcceptedAlgorithms HostbasedAuthentication HostbasedUsesNameFromPacketOnly IPQoS IgnoreRhosts "
    "IgnoreUserKnownHosts KbdInteractiveAuthentication KerberosAuthentication KerberosOrLocalPasswd "
    "KerberosTicketCleanup KexAlgorithms ListenAddress LogLevel LogVerbose LoginGraceTime MACs MaxAuthTries MaxSessions "
    "MaxStartups ModuliFile PasswordAuthentication PerSourceMaxStartups PerSourceNetBlockSize PermitEmptyPasswords "
    "PermitListen PermitOpen PermitRootLogin PermitTTY PermitTunnel PermitUserEnvironment PermitUserRC PidFile Port "
    "PrintLastLog PrintMotd PubkeyAcceptedAlgorithms PubkeyAuthOptions PubkeyAuthentication RekeyLimit RequiredRSASize "
    "RevokedKeys SecurityKeyProvider SetEnv StreamLocalBindMask StreamLocalBindUnlink StrictModes Subsystem "
    "SyslogFacility TCPKeepAlive TrustedUserCAKeys UnusedConnectionTimeout UseDNS UsePAM VersionAddendum X11DisplayOffset "
    "X11Forwarding X11UseLocalhost XAuthLocation"
)
SPELLED = {name.lower(): name for name in _SPELLED.split()}


def spelled(name: str) -> str:
    """A keyword as the manual spells it."""
    return SPELLED.get(name, name)
