"""Whether sssd lets an account of its directory in, of what its own files say (sssd.conf(5), sssd-simple(5)).

Not covered: access providers that ask the directory (ldap, ad, ipa, krb5, proxy), lists of groups, values on several lines.
There the answer is None.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from nightlatch.evidence.remembered import remembered
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import sections
from nightlatch.formats.sections import Dialect

FILE, FOLDER = "/etc/sssd/sssd.conf", "/etc/sssd/conf.d"
_GROUPS = ("simple_allow_groups", "simple_deny_groups")

Settings = dict[tuple[str, str], str]


def lets_in(snapshot: Snapshot, account: str) -> bool | None:
    """Whether the account phase of pam_sss(8) says success; None where only the directory or nobody could say."""
    settings = _settings(snapshot)
    if settings is None:
        return None
    domains = _listed(settings.get(("sssd", "domains"), ""))
    answers = {_of_domain(settings, f"domain/{domain}", account) for domain in domains}
    return answers.pop() if len(answers) == 1 else None


def _of_domain(settings: Settings, section: str, account: str) -> bool | None:
    def listed(key: str) -> list[str]:
        return _listed(settings.get((section, key), ""))

    provider = settings.get((section, "access_provider"), "permit").lower()
    if provider in ("permit", "deny"):
        return provider == "permit"
    if provider != "simple" or any(map(listed, _GROUPS)):
        return None
    allowed, denied = listed("simple_allow_users"), listed("simple_deny_users")
    if any(re.search(r"[@\\]", name) or name.lower() == account.lower() != name for name in (*allowed, *denied)):
        return None  # names with a domain, and in other letters: that depends on the domain
    return account not in denied and (not allowed or account in allowed)


@remembered(64)
def _settings(snapshot: Snapshot) -> Settings | None:
    """The last value of each key; None where a file was not read or holds what is not known here."""
    out: Settings = {}
    for path in (FILE, *_snippets(snapshot)):
        content = snapshot.content(path)
        if content is None:
            return None
        document = sections.parse(content, Dialect.KEYFILE)
        if document.faults or re.search(rb"(?m)^[ \t]+[^ \t\r\n#;]|^;", content):
            return None
        for line in document.lines:
            if line.key:
                out[line.section.lower(), line.key.lower()] = line.value
    return out


def _snippets(snapshot: Snapshot) -> Iterator[str]:
    for name in sorted(snapshot.children(FOLDER)):
        if name.endswith(".conf") and not name.startswith("."):
            yield f"{FOLDER}/{name}"


def _listed(value: str) -> list[str]:
    return [part.strip() for part in value.split(",") if part.strip()]
