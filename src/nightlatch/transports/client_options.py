"""The treatment of every option of the SSH client's configuration (ssh_config(5), to 10.2, and what distributions add).

A user's configuration says how a guest is reached and by which proof; that is theirs. What would let a guest pass for
another, carry anything of this machine to it, or change what the client does once it is in, is set before their files
are read: the first value counts. A test holds this table against the client that is installed.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

CONNECT_SECONDS = 15


class OptionUse(StrEnum):
    """The treatment of an option."""

    SET = "set"  # always, whatever the user's files say
    PINNED = "set for pinned guests"  # where host keys are pinned; else the user's own counts
    CLEARED = "cleared"  # taken back after the user's files were read
    ALLOWED = "allowed"  # the user's value counts
    IRRELEVANT = "irrelevant"  # it changes nothing here


@dataclass(frozen=True, slots=True)
class ClientOption:
    """One option. `value` is what it is set to; `if_known`: only clients whose -G names it take it."""

    name: str
    use: OptionUse
    why: str
    value: str = ""
    if_known: bool = False


def _set(name: str, value: str, why: str, *, if_known: bool = False) -> ClientOption:
    return ClientOption(name, OptionUse.SET, why, value, if_known)


def _each(use: OptionUse, why: str, names: str) -> tuple[ClientOption, ...]:
    return tuple(ClientOption(name, use, why) for name in names.split())


_NO_FORWARD = "ClearAllForwardings is set: there is no forward"
_NO_SESSION_OF_ITS_KIND = "the session has no terminal, and nothing of this kind is asked for"
_TWO_SIDES = "an algorithm that both sides take; what is pinned or known is held against the key all the same"
_ROUTE = "how the guest is reached is the user's to say; its host key is checked on every route"
_PROOF = "by which proof the user comes in is theirs to say; what was accepted is read from the client's log"

OPTIONS: tuple[ClientOption, ...] = (
    # Who the guest is.
    _set("StrictHostKeyChecking", "yes", "an unknown or changed host key is never accepted"),
    _set("NoHostAuthenticationForLocalhost", "no", "a forward ends on 127.0.0.1: its host key is checked like any other"),
    _set("VerifyHostKeyDNS", "no", "a name service is no proof of who a guest is"),
    _set("CheckHostIP", "no", "adds nothing to a strict host key, and warns where addresses are leased"),
    _set("UpdateHostKeys", "no", "a survey writes nothing into the user's known_hosts"),
    _set("FingerprintHash", "sha256", "pins are SHA256 fingerprints; another hash would match none"),
    _set("GSSAPIKeyExchange", "no", "this exchange proves no host key, so no pin could be held against it", if_known=True),
    ClientOption("KnownHostsCommand", OptionUse.PINNED, "tells whether the key that the exchange has proved is pinned"),
    ClientOption("UserKnownHostsFile", OptionUse.PINNED, "a pin is all that counts", "/dev/null"),
    ClientOption("GlobalKnownHostsFile", OptionUse.PINNED, "a pin is all that counts", "/dev/null"),
    # What is carried over.
    _set("ForwardAgent", "no", "a guest could use the agent's keys"),
    _set("ForwardX11", "no", "a guest could read this screen"),
    _set("ClearAllForwardings", "yes", "a guest could dial from here, or be dialled"),
    _set("Tunnel", "no", "a guest could send packets into this network"),
    _set("GSSAPIDelegateCredentials", "no", "a guest could act as the user elsewhere"),
    _set("SetEnv", "LC_ALL=C", "values of the user's configuration stay here; the first SetEnv is the only one"),
    ClientOption("SendEnv", OptionUse.CLEARED, "variables of this machine stay here", "-*"),
    # What runs, and where.
    _set("PermitLocalCommand", "no", "a survey runs nothing else on this machine"),
    _set("AddKeysToAgent", "no", "a survey puts nothing into the agent"),
    _set("RemoteCommand", "none", "the script is what runs"),
    _set("SessionType", "default", "with none or subsystem the script would not run", if_known=True),
    _set("RequestTTY", "no", "a terminal would change what comes back, and could be written to"),
    _set("EscapeChar", "none", "the script's text is no command to the client"),
    _set("StdinNull", "no", "the script is sent over standard input", if_known=True),
    _set("ForkAfterAuthentication", "no", "the client is waited for", if_known=True),
    # Each connection proves that the door opens now, and ends.
    _set("ControlMaster", "no", "a shared session proves nothing about the door"),
    _set("ControlPath", "none", "a shared session proves nothing about the door"),
    _set("ControlPersist", "no", "nothing stays open behind a survey"),
    _set("ConnectTimeout", str(CONNECT_SECONDS), "a guest that does not answer is a result"),
    _set("ConnectionAttempts", "1", "it is tried again where that makes sense, and said"),
    _set("ServerAliveInterval", "5", "a connection that is dead is noticed"),
    _set("ServerAliveCountMax", "3", "a connection that is dead is noticed"),
    ClientOption("BatchMode", OptionUse.SET, "asks only at a terminal, and only for a single guest"),
    # The client's log is read.
    _set("LogLevel", "DEBUG1", "the log says which key was accepted, and why a connection failed"),
    _set("LogVerbose", "none", "would put the client's sources before the lines that are read", if_known=True),
    # The user's own.
    *_each(
        OptionUse.ALLOWED,
        _ROUTE,
        """AddressFamily BindAddress BindInterface CanonicalDomains CanonicalizeFallbackLocal
        CanonicalizeHostname CanonicalizeMaxDots CanonicalizePermittedCNAMEs HostKeyAlias Hostname IPQoS Port ProxyCommand
        ProxyJump ProxyUseFdpass TCPKeepAlive""",
    ),
    *_each(
        OptionUse.ALLOWED,
        _PROOF,
        """User CertificateFile GSSAPIAuthentication GSSAPIClientIdentity HostbasedAuthentication
        EnableSSHKeysign IdentitiesOnly IdentityAgent IdentityFile KbdInteractiveAuthentication KbdInteractiveDevices
        NumberOfPasswordPrompts PKCS11Provider PasswordAuthentication PreferredAuthentications PubkeyAuthentication
        SecurityKeyProvider""",
    ),
    *_each(
        OptionUse.ALLOWED,
        _TWO_SIDES,
        """CASignatureAlgorithms Ciphers Compression HostKeyAlgorithms HostbasedAcceptedAlgorithms
        KexAlgorithms MACs PubkeyAcceptedAlgorithms RekeyLimit RequiredRSASize WarnWeakCrypto""",
    ),
    *_each(
        OptionUse.ALLOWED,
        "the user's configuration is read as the client reads it",
        "Host Match Include IgnoreUnknown Tag Version VersionAddendum",
    ),
    *_each(OptionUse.ALLOWED, "refuses more than the strict check does", "RevokedHostKeys RefuseConnection"),
    *_each(OptionUse.ALLOWED, "ends a silent session at the worst, and that is told", "ChannelTimeout"),
    # Nothing to do with what is done here.
    *_each(
        OptionUse.IRRELEVANT,
        _NO_FORWARD,
        """DynamicForward ExitOnForwardFailure ForwardX11Timeout ForwardX11Trusted GatewayPorts
        LocalForward PermitRemoteOpen RemoteForward StreamLocalBindMask StreamLocalBindUnlink TunnelDevice XAuthLocation""",
    ),
    *_each(OptionUse.IRRELEVANT, _NO_SESSION_OF_ITS_KIND, "EnableEscapeCommandline ObscureKeystrokeTiming VisualHostKey"),
    *_each(OptionUse.IRRELEVANT, "PermitLocalCommand is set to no", "LocalCommand"),
    *_each(OptionUse.IRRELEVANT, "no host key is ever written", "HashKnownHosts"),
    *_each(OptionUse.IRRELEVANT, "the log goes to a file of ours", "SyslogFacility"),
    *_each(
        OptionUse.IRRELEVANT,
        "no exchange and no delegation by GSSAPI is allowed",
        "GSSAPIKexAlgorithms GSSAPIRenewalForcesRekey GSSAPIServerIdentity GSSAPITrustDns",
    ),
)


def first(known: frozenset[str], *, batch: bool) -> list[tuple[str, str]]:
    """The options set before the user's files are read; `known`: the names that the client's -G prints."""
    out = [("BatchMode", "yes" if batch else "no")]
    for each in OPTIONS:
        if each.use is OptionUse.SET and each.value and (not each.if_known or each.name.lower() in known):
            out.append((each.name, each.value))
    return out


def last() -> list[tuple[str, str]]:
    """The options taken back after the user's files were read."""
    return [(each.name, each.value) for each in OPTIONS if each.use is OptionUse.CLEARED]


def for_pinned(command: str) -> list[tuple[str, str]]:
    """The options set where host keys are pinned; `command` tells whether a key is one of them."""
    return [(each.name, each.value or command) for each in OPTIONS if each.use is OptionUse.PINNED]
