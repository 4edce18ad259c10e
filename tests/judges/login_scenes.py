"""Scenes for real logins: every reason for denial, with and without it; then random mixtures.

A scene is a guest and the attempts made on it: (account, what is shown, from where).
"""

from __future__ import annotations

import random
from collections.abc import Iterator

from tests.judges.login_guest import Person, Scene

Attempt = tuple[str, str, str]
M, J = ("mara", "key ed", "bench"), ("joon", "key ed", "bench")
HOLD = "<ed>\n"
SHOWN = ("key ed", "key ec", "password", "kbd", "key ed+password")


def person(name: str = "mara", **more: object) -> Person:
    uid = {"mara": 1001, "joon": 1002, "root": 0, "charts": 1003}[name]
    return Person(name, uid, **{"keys": HOLD, **more})  # type: ignore[arg-type]


def plain(config: str = "", *people: Person, pam: bool = False, **files: str) -> Scene:
    return Scene(config, list(people) or [person()], {"/" + k.replace("__", "/"): v for k, v in files.items()}, {}, pam)


def reasons() -> Iterator[tuple[str, Scene, list[Attempt]]]:
    """Each reason beside its absence; the attempts on both are the same."""
    key = [M]
    every = [M, ("mara", "key ed", "field"), ("mara", "key ed", "six")]
    passwords = [("mara", "password", "bench"), ("mara", "kbd", "bench")]
    roots = [("root", "key ed", "bench"), ("root", "password", "bench")]
    both = [*key, *passwords, ("mara", "key ed+password", "bench"), ("mara", "key other", "bench")]
    for pam in (False, True):
        yield "nothing in the way", plain(pam=pam), both
        yield "passwords off", plain("PasswordAuthentication no\n", pam=pam), both
        yield (
            "passwords and challenge off",
            plain("PasswordAuthentication no\nKbdInteractiveAuthentication no\n", pam=pam),
            both,
        )
        yield "keys off", plain("PubkeyAuthentication no\n", pam=pam), both
        for secret in ("!HASH", "*", "!", "", "NONE"):
            yield f"password field {secret}", plain("PermitEmptyPasswords no\n", person(password=secret), pam=pam), both
        yield (
            "empty allowed",
            plain("PermitEmptyPasswords yes\n", person(password=""), pam=pam),
            [("mara", "none", "bench"), M],
        )
        yield "expired", plain("", person(shadow="19800:0:99999:7::1:"), pam=pam), both
        yield "expires later", plain("", person(shadow="19800:0:99999:7::40000:"), pam=pam), key
        yield "password too old and inactive", plain("", person(shadow="10000:0:10:7:5::"), pam=pam), key
        yield "no shell", plain("", person(shell="/bin/missing"), pam=pam), both
        yield "shell can't be run", plain("", person(shell="/etc/hosts"), pam=pam), key
        yield "nologin shell", plain("", person(shell="/usr/sbin/nologin"), pam=pam), key
    for auth in (
        "optional pam_unix.so\nauth required pam_permit.so",
        "sufficient pam_unix.so\nauth required pam_permit.so",
        "[default=ignore] pam_unix.so\nauth sufficient pam_permit.so",
        "required pam_unix.so\nauth required pam_permit.so",
        "[success=1 default=ignore] pam_unix.so\nauth requisite pam_deny.so\nauth required pam_permit.so",
        "sufficient pam_permit.so\nauth required pam_unix.so",
        "requisite pam_unix.so",
        "[success=ok default=die] pam_unix.so",
        "optional pam_unix.so",
        "[success=done default=bad] pam_unix.so\nauth sufficient pam_permit.so",
    ):
        stack = f"auth {auth}\naccount required pam_permit.so\nsession required pam_permit.so\n"
        tries = [("mara", "password", "bench"), ("mara", "none", "bench"), ("mara", "key ed", "bench")]
        yield f"PAM auth {auth!r}", Scene("", [person()], {"/etc/pam.d/sshd": stack}, {}, True), tries
        yield (
            f"PAM auth {auth!r}, no password",
            Scene("", [person(password="*")], {"/etc/pam.d/sshd": stack}, {}, True),
            tries[1:2],
        )
    yield (
        "nologin file",
        Scene("", [person(), person("root")], {"/etc/nologin": "no\n"}, {}, True),
        [M, ("root", "key ed", "bench")],
    )
    yield "access file", Scene("", [person()], {"/etc/security/access.conf": "# all\n"}, {}, True), key
    for mode in ("yes", "no", "prohibit-password", "forced-commands-only"):
        for pam in (False, True):
            yield f"root {mode}", plain(f"PermitRootLogin {mode}\n", person("root"), pam=pam), roots
    forced = person("root", keys='command="true" <ed>\n')
    yield "root forced", plain("PermitRootLogin forced-commands-only\n", forced), roots
    yield "AllowUsers other", plain("AllowUsers joon\n"), key
    yield "AllowUsers wildcard", plain("AllowUsers m*a\n"), key
    yield "AllowUsers with place", plain("AllowUsers mara@192.168.40.0/24\n"), every
    yield "AllowUsers text", plain("AllowUsers mara@192.168.*,!192.168.40.7 mara@2001:db8:*\n"), every
    yield "AllowUsers six", plain("AllowUsers *@2001:db8:40::/64\n"), every
    yield "DenyUsers", plain("DenyUsers mara\n"), key
    yield "DenyUsers with place", plain("DenyUsers mara@203.0.113.9\n"), every
    yield "DenyUsers negated place", plain("DenyUsers mara@*,!192.168.40.7\n"), every
    yield "AllowGroups none", plain("AllowGroups boats\n"), key
    yield "AllowGroups one", plain("AllowGroups boats\n", person(groups=("boats",))), key
    yield "DenyGroups", plain("DenyGroups b*\n", person(groups=("boats",))), key
    yield "Match address", plain("Match Address 203.0.113.0/24\nPubkeyAuthentication no\n"), every
    yield "Match negated", plain("Match Address *,!192.168.40.0/24\nPubkeyAuthentication no\n"), every
    yield "Match user and place", plain("Match User mara Address 2001:db8::/32\nDenyUsers mara\n"), every
    yield (
        "Match group",
        plain("Match Group boats\nPubkeyAuthentication no\n", person(groups=("boats",)), person("joon")),
        [M, J],
    )
    yield "Match host text", plain("Match Host 192.168.*\nPubkeyAuthentication no\n"), every
    yield "Match port", plain("Match LocalPort 2222\nPubkeyAuthentication no\n"), key
    yield "Match all", plain("Match all\nPubkeyAuthentication no\n"), key
    include = Scene(
        "Include sshd_config.d/*.conf\nPasswordAuthentication yes\n",
        [person()],
        {"/etc/ssh/sshd_config.d/50-image.conf": "PasswordAuthentication no\n"},
    )
    yield "drop-in", include, passwords
    nested = Scene(
        "Match User mara\nInclude sshd_config.d/*.conf\n",
        [person()],
        {"/etc/ssh/sshd_config.d/a.conf": "PubkeyAuthentication no\nMatch Address 203.0.113.9\nPubkeyAuthentication yes\n"},
    )
    yield "Include in Match", nested, every
    for bits in (0o644, 0o664, 0o666, 0o660, 0o600, 0o400, 0o100, 0o000):
        yield f"keys mode {bits:o}", plain("", person(key_mode=bits)), key
        yield f"keys mode {bits:o}, not strict", plain("StrictModes no\n", person(key_mode=bits)), key
    for bits in (0o755, 0o775, 0o777, 0o700, 0o600, 0o711, 0o070):
        yield f"home mode {bits:o}", plain("", person(home_mode=bits)), key
        yield f"folder mode {bits:o}", plain("", person(folder_mode=bits)), key
    shared = person("joon", groups=("mara",), keys="")
    yield "home 775, group not private", plain("", person(home_mode=0o775), shared), key
    yield "home of another", plain("", person(owner=1002), person("joon", keys="")), key
    yield "keys of another", plain("", person(key_owner=1002), person("joon", keys="")), key
    yield "keys of root", plain("", person(key_owner=0, key_mode=0o644)), key
    yield "keys of root, closed", plain("", person(key_owner=0, key_mode=0o600)), key
    for text in (
        'from="192.168.40.0/24" <ed>',
        'from="203.0.113.*,2001:db8:40::5" <ed>',
        'from="!192.168.40.7,*" <ed>',
        'from="192.168.40.1/24" <ed>',
        'from="192.168.40.0/24" <ed>\n<ed>',
        'expiry-time="20200101" <ed>',
        'expiry-time="20990101" <ed>',
        "nonsense <ed>",
        "from=192.168.40.7 <ed>",
        "no-pty,restrict <ed>",
        "# <ed>",
        "  <ed>",
        'command="true",from="10.*" <ed>',
        "cert-authority <ed>",
        'from="192.168.40.7" <ed>\nfrom="203.0.113.9" <ed>',
        'environment="A=1" <ed>',
        'permitopen="localhost:80" <ed>',
        'permitopen="nowhere" <ed>',
        "ssh-ed25519 AAAA",
        'from="192.168.40.7",from="203.0.113.9" <ed>',
        "restrict, <ed>",
        'FROM="192.168.40.7" <ed>',
        "<rsa>\n<ed>",
    ):
        yield f"line {text[:40]!r}", plain("", person(keys=text + "\n")), every
    kinds = [("mara", "key rsa", "bench"), ("mara", "key weak", "bench"), ("mara", "key ec", "bench")]
    many = person(keys="<rsa>\n<weak>\n<ec>\n<ed>\n")
    yield "kinds of keys", plain("", many), kinds
    yield "short keys refused", plain("RequiredRSASize 2048\n", many), kinds
    yield "only some kinds", plain("PubkeyAcceptedAlgorithms ecdsa-*\n", many), kinds
    yield "less some kinds", plain("PubkeyAcceptedAlgorithms -rsa-*\n", many), kinds
    yield "revoked", Scene("RevokedKeys /etc/ssh/gone\n", [many], {"/etc/ssh/gone": "<ed>\n"}), [*kinds, M]
    yield "revoked list missing", plain("RevokedKeys /etc/ssh/gone\n", many), key
    yield (
        "keys elsewhere",
        Scene("AuthorizedKeysFile /etc/ssh/keys/%u\n", [person()], {"/etc/ssh/keys/mara": "<other>\n"}),
        [M, ("mara", "key other", "bench")],
    )
    yield "keys nowhere", plain("AuthorizedKeysFile none\n"), key
    certs = [("mara", f"cert {name}", "bench") for name in ("mara", "charts", "nobody")]
    yield (
        "authority",
        Scene("TrustedUserCAKeys /etc/ssh/ca\n", [person(keys="")], {"/etc/ssh/ca": "<ca>\n"}),
        [*certs, M],
    )
    for accepted in ("ssh-ed25519", "-*-cert-*", "ssh-ed25519,ssh-ed25519-cert-v01@openssh.com"):
        for keys, config in (("", "TrustedUserCAKeys /etc/ssh/ca\n"), ("cert-authority <ca>\n", "")):
            scene = Scene(f"{config}PubkeyAcceptedAlgorithms {accepted}\n", [person(keys=keys)], {"/etc/ssh/ca": "<ca>\n"})
            yield f"certificates with {accepted}", scene, certs[:1]
    listed = {"/etc/ssh/ca": "<ca>\n", "/etc/ssh/names/mara": "charts\n"}
    yield (
        "authority and names",
        Scene("TrustedUserCAKeys /etc/ssh/ca\nAuthorizedPrincipalsFile /etc/ssh/names/%u\n", [person(keys="")], listed),
        certs,
    )
    limited = {"/etc/ssh/ca": "<ca>\n", "/etc/ssh/names/mara": 'from="203.0.113.9" charts\n'}
    yield (
        "names with place",
        Scene("TrustedUserCAKeys /etc/ssh/ca\nAuthorizedPrincipalsFile /etc/ssh/names/%u\n", [person(keys="")], limited),
        [("mara", "cert charts", s) for s in ("bench", "field")],
    )
    yield "authority line", plain("", person(keys="cert-authority <ca>\n")), certs
    yield "authority line, names", plain("", person(keys='cert-authority,principals="charts" <ca>\n')), certs
    for methods in (
        "publickey,password",
        "publickey password",
        "password,publickey",
        "publickey,publickey",
        "publickey",
        "password",
        "publickey,keyboard-interactive",
    ):
        for pam in (False, True):
            two = person(keys="<ed>\n<ec>\n")
            tries = [
                M,
                ("mara", "password", "bench"),
                ("mara", "key ed+password", "bench"),
                ("mara", "key ed+key ec", "bench"),
            ]
            if "keyboard" in methods:
                tries[2] = ("mara", "key ed+kbd", "bench")
            yield f"methods {methods}", plain(f"AuthenticationMethods {methods}\n", two, pam=pam), tries
    yield (
        "methods for root",
        plain("AuthenticationMethods publickey,password\nPermitRootLogin prohibit-password\n", person("root")),
        [("root", "key ed+password", "bench")],
    )
    yield (
        "methods in Match",
        plain("Match Address 203.0.113.0/24\nAuthenticationMethods publickey,password\n"),
        [*every, ("mara", "key ed+password", "field")],
    )
    yield (
        "chroot good",
        Scene("ChrootDirectory /srv/box\nForceCommand internal-sftp\n", [person()], {"/srv/box/x": ""}),
        key,
    )
    yield (
        "chroot bad",
        Scene(
            "ChrootDirectory /srv/box\nForceCommand internal-sftp\n",
            [person()],
            {"/srv/box/x": ""},
            {"/srv/box": 0o777},
        ),
        key,
    )
    yield "refused tree", plain("PasswordAuthentication maybe\n"), key
    yield "only six", plain("AddressFamily inet6\n"), every
    yield "loopback only", plain("ListenAddress 127.0.0.1\n"), every


def mixtures(seed: int, count: int) -> Iterator[tuple[str, Scene, list[Attempt]]]:
    """Random guests, with several attempts each."""
    r = random.Random(seed)
    for number in range(count):
        lines = [_line(r) for _ in range(r.randint(0, 5))]
        if r.random() < 0.6:
            where = r.choice(
                (
                    "Address 192.168.40.0/24",
                    "User mara",
                    "Group boats",
                    "Address *,!203.0.113.9",
                    "User !joon,*",
                    "Host 192.168.*",
                )
            )
            lines += [f"Match {where}", *(_line(r) for _ in range(r.randint(1, 3)))]
        people = [
            person(
                name,
                keys=_keys(r),
                password=r.choice(("HASH", "HASH", "!HASH", "*")),
                groups=r.choice(((), ("boats",))),
                home_mode=r.choice((0o755, 0o755, 0o775, 0o777)),
                key_mode=r.choice((0o600, 0o644, 0o664)),
            )
            for name in ("mara", "joon")
        ]
        tries = [(r.choice(("mara", "joon")), r.choice(SHOWN), r.choice(("bench", "field", "six", "ten"))) for _ in range(4)]
        pam = r.random() < 0.5
        if pam and "PermitEmptyPasswords yes" in lines:
            # ssh always tries "none" first; its failure is kept by pam_unix and fails the session of a later challenge
            # (measured: pam_setcred, 9.2). A caller who does not try "none" gets in, so the path is there all the same.
            tries = [each for each in tries if each[1] != "kbd"]
        yield f"mixture {number}", Scene("\n".join(lines) + "\n", people, pam=pam), tries


def _line(r: random.Random) -> str:
    return r.choice(
        (
            "PasswordAuthentication no",
            "PasswordAuthentication yes",
            "PubkeyAuthentication no",
            "PubkeyAuthentication yes",
            "KbdInteractiveAuthentication no",
            "AllowUsers mara@192.168.* joon",
            "DenyUsers joon@203.0.113.9",
            "AllowGroups boats mara",
            "AuthenticationMethods publickey,password publickey",
            "PermitEmptyPasswords yes",
            "DenyGroups boats",
            "PubkeyAcceptedAlgorithms ssh-ed25519",
            "AuthorizedKeysFile .ssh/authorized_keys /etc/ssh/none",
            "AllowUsers *@10.0.0.0/8 mara",
        )
    )


def _keys(r: random.Random) -> str:
    limits = ("", "", 'from="192.168.40.0/24" ', 'from="!10.0.0.1,*" ', 'from="2001:db8:*,203.0.113.9" ', "restrict ")
    return "".join(f"{r.choice(limits)}<{r.choice(('ed', 'ec', 'other'))}>\n" for _ in range(r.randint(0, 3)))
