"""What sshd and PAM write into a guest's log of logins that fail (auth.c, auth2-pubkey.c, misc.c of OpenSSH; pam_unix(8),
pam_faillock(8)).

A line is somebody else's text, in which a name may be a typed password: only those that name the account, or a key, that is
asked about are let through.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from nightlatch.model.links import LinkKind

# A script that prints the end of sshd's log, whichever the guest has.
READ = (
    b"{ journalctl -q -t sshd -t sshd-session -n 400 -o short-iso --no-pager 2>/dev/null || "
    b"tail -n 4000 /var/log/auth.log /var/log/secure 2>/dev/null | grep 'sshd'; } | tail -n 400 | cut -c1-400\n"
)
# Logins by key, as sshd itself wrote them: any account may write a line that names sshd, so the journal is asked by uid.
ACCEPTED = (
    b"journalctl -q -r _UID=0 -t sshd -t sshd-session -n 20000 -o cat --no-pager 2>/dev/null | "
    b"grep '^Accepted publickey for ' | cut -c1-400 | sort -u | head -n 4000\n"
)
BY_KEY = re.compile(r"Accepted publickey for (\S{1,64}) from \S+ port [0-9]+ ssh2: \S+ (SHA256:[A-Za-z0-9+/]{43})")
MOST = 400
SIGNS: tuple[tuple[re.Pattern[str], LinkKind], ...] = tuple(
    (re.compile(pattern), kind)
    for pattern, kind in (
        (r"refused connect from", LinkKind.FILTER),
        (r"not allowed because (?:not )?listed in (?:AllowUsers|DenyUsers)", LinkKind.SETTINGS),
        (r"not allowed because .*(?:AllowGroups|DenyGroups|not in any group)", LinkKind.SETTINGS),
        (r"ROOT LOGIN REFUSED", LinkKind.SETTINGS),
        (r"Invalid user \S+ from", LinkKind.ACCOUNT),
        (r"not allowed because (?:shell|account is locked)", LinkKind.ACCOUNT),
        (r"account .* has expired|Access denied for user .* by PAM", LinkKind.ACCOUNT),
        (r"account temporarily locked", LinkKind.ACCOUNT),
        (r"Authentication refused: bad ownership or modes", LinkKind.PROOF),
        (r"not in PubkeyAcceptedAlgorithms", LinkKind.PROOF),
        (r"Failed (?:publickey|password|keyboard-interactive/pam) for", LinkKind.PROOF),
        (r"maximum authentication attempts exceeded", LinkKind.PROOF),
        (r"bad ownership or modes for chroot", LinkKind.SESSION),
    )
)


@dataclass(frozen=True, slots=True)
class LogLine:
    """A line of the log, and the link that it speaks of."""

    kind: LinkKind
    text: str


def by_key(lines: Iterable[str]) -> frozenset[tuple[str, str]]:
    """The accounts that were logged in to by a key, each with the key's fingerprint."""
    return frozenset((found[1], found[2]) for found in map(BY_KEY.fullmatch, lines) if found)


def telling(lines: Iterable[str], account: str, keys: Iterable[str] = (), home: str = "") -> Iterator[LogLine]:
    """The lines that say why this account, or one of these keys, was not let in, in their order."""
    named = re.compile(rf"(?<![\w.-]){re.escape(account)}(?![\w.-])")
    held = tuple(keys)
    for line in list(lines)[-MOST:]:
        mine = named.search(line) or any(key in line for key in held) or (home and f"{home}/" in line)
        kind = next((kind for sign, kind in SIGNS if sign.search(line)), None) if mine else None
        if kind is not None:
            yield LogLine(kind, line.strip())
