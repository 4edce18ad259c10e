"""The seals that xrdp serves to callers: TLS, or the older one of the protocol itself ([MS-RDPBCGR] 5.3, 5.4; measured: 0.9.21).

Whether both files can be read by the account of the process is all that xrdp looks at before it says "TLS"; what is in them
decides at the handshake. The older seal has a key of its own make and no certificate: it counts as clear. Not covered: ciphers
that a setting names, and whether a key belongs to its certificate.
"""

from __future__ import annotations

import re
from base64 import b64decode
from dataclasses import dataclass, field
from hashlib import sha256

from nightlatch.evidence.selection import NO_TEXT
from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot
from nightlatch.model.causes import Cause, SettingLine, UnusableFile
from nightlatch.model.gaps import Gap
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account, Accounts
from nightlatch.services.posix import readable
from nightlatch.services.rdp.settings import RdpSettings

STOCK = {"certificate": "/etc/xrdp/cert.pem", "key_file": "/etc/xrdp/key.pem"}
VERSIONS = ("SSLv2", "SSLv3", "TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3")
SERVED = frozenset(["TLSv1.2", "TLSv1.3"])  # the others need ciphers of a lower level than Debian's OpenSSL allows
FIRST = re.compile(rb"-----BEGIN CERTIFICATE-----([A-Za-z0-9+/=\s]{1,20000})-----END CERTIFICATE-----")
CERTIFICATE = re.compile(rb"-----BEGIN (X509 |TRUSTED )?CERTIFICATE-----")


@dataclass(frozen=True)
class Seals:
    """What is served: `tls` and `clear` say whether, `unsure` why TLS may not be; `selects` that xrdp says TLS to a caller who
    asks for it, though the handshake may fail then. `causes` are the lines that it follows from, `lacking` why there is no TLS
    where it is wanted."""

    layer: SettingLine
    tls: bool
    clear: bool
    selects: bool = True
    unsure: tuple[Gap, ...] = ()
    lacking: tuple[Cause, ...] = ()
    causes: tuple[Cause, ...] = field(default=())

    @property
    def falls_back(self) -> bool:
        """Whether a caller who asks for TLS gets it, and one who does not is served all the same."""
        return self.tls and self.clear


def layer_of(settings: RdpSettings) -> tuple[str, SettingLine]:
    """The layer as it counts (tls, negotiate or rdp), and the setting."""
    found = settings.of_main("security_layer")
    if found.origin.line == 0:
        return "rdp", found
    word = found.value.lower()
    return (word if word in ("tls", "rdp") else "negotiate"), found


def seals(settings: RdpSettings, snapshot: Snapshot, accounts: Accounts) -> Seals:
    """The seals of a guest's xrdp."""
    word, layer = layer_of(settings)
    cause = SettingLine("security_layer", layer.value or word, layer.origin)
    if word == "rdp":
        return Seals(layer, tls=False, clear=True, selects=False, causes=(cause,))
    account = accounts.by_name.get(settings.account)
    lacking = tuple(_lacking(settings, snapshot, account))
    if lacking:
        return Seals(layer, tls=False, clear=word == "negotiate", selects=False, lacking=lacking, causes=(cause, *lacking))
    failing = tuple(_failing(settings, snapshot))
    unsure = tuple(_unsure(settings, snapshot, account))
    # Who asks for TLS is told that it is served, and then the handshake fails; who does not ask is served without.
    return Seals(layer, tls=not failing, clear=word == "negotiate", unsure=unsure, lacking=failing, causes=(cause, *failing))


def files(settings: RdpSettings) -> dict[str, tuple[str, SettingLine]]:
    """The certificate and the key, by the names of their settings: where each is looked for."""
    out = {}
    for key, stock in STOCK.items():
        found = settings.of_main(key)
        out[key] = (found.value if found.value.startswith("/") else stock, found)
    return out


def _lacking(settings: RdpSettings, snapshot: Snapshot, account: Account | None) -> list[Cause]:
    """Why xrdp says from the start that it has no TLS."""
    out: list[Cause] = []
    for key, (path, found) in files(settings).items():
        if found.origin.line == 0:
            out.append(SettingLine(key, "not set", found.origin))
        else:
            why = readable.opened(snapshot, path, account)
            out += [why] if why is not None else []
    return out


def _failing(settings: RdpSettings, snapshot: Snapshot) -> list[Cause]:
    """Why every handshake of TLS fails, for all that is known of the files."""
    out: list[Cause] = []
    versions = settings.of_main("ssl_protocols")
    if versions.origin.line and not versions_of(versions) & SERVED:
        out.append(SettingLine("ssl_protocols", versions.value or "empty", versions.origin))
    for key, (path, _) in files(settings).items():
        found = snapshot.resolve(path)
        if found.entry is not None and found.entry.kind is not EntryKind.FILE:
            out.append(UnusableFile(path, "it is no regular file", Origin(found.path)))
        elif key == "certificate" and found.entry is not None and not _is_pem(found.entry):
            out.append(UnusableFile(path, "it holds no certificate in PEM", Origin(found.path)))
    return out


def _is_pem(entry: Entry) -> bool:
    """Whether a file may hold a certificate in PEM; one whose content was not carried for another reason may."""
    if entry.content is None:
        return entry.note != NO_TEXT
    return CERTIFICATE.search(entry.content) is not None


def certificate_of(settings: RdpSettings, snapshot: Snapshot) -> tuple[str, str] | None:
    """The file of the certificate that is shown, and its SHA256 fingerprint in hexadecimal (of the DER form); None where no
    certificate can be read."""
    path = snapshot.resolve(files(settings)["certificate"][0]).path
    found = FIRST.search(snapshot.content(path) or b"")
    if found is None:
        return None
    try:
        return path, sha256(b64decode(found[1], validate=False)).hexdigest()
    except ValueError:
        return None


def versions_of(setting: SettingLine) -> frozenset[str]:
    """The versions of TLS that a value names; words are known in their exact spelling alone."""
    if setting.origin.line == 0:
        return SERVED
    return frozenset(word for word in re.split(r"[ \t,]+", setting.value) if word in VERSIONS)


def _unsure(settings: RdpSettings, snapshot: Snapshot, account: Account | None) -> list[Gap]:
    out: list[Gap] = []
    ciphers = settings.of_main("tls_ciphers")
    if ciphers.value:
        out.append(Gap("RDP server", f"which ciphers {ciphers.value[:80]} leaves is for OpenSSL to say", ciphers.origin))
    for path, found in files(settings).values():
        if not readable.looked_at(snapshot, path):
            out.append(Gap("RDP server", f"{path} was not looked at", found.origin))
    if account is None and settings.account != "root":
        because = f"the account {settings.account}, which xrdp runs as, is not there"
        out.append(Gap("RDP server", because, settings.account_origin))
    return out
