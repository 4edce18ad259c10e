"""Steps that let somebody in who is granted it: key lines, modes and owners, lists of users, passwords for some."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import EntryKind
from nightlatch.formats import authorized_keys, sshd_tokens
from nightlatch.formats import lines as text_lines
from nightlatch.formats.authorized_keys import KeyEntry, quote
from nightlatch.formats.keys import PublicKey
from nightlatch.model.account_steps import MARKER, NAME, SHADOW, AccountStep, GivePassword, SetExpiry, UnlockPassword
from nightlatch.model.candidates import Candidate
from nightlatch.model.grants import Grant, seen_by_guest
from nightlatch.model.powers import PowerKind
from nightlatch.model.secrets import Certificate, Key, Need, Password
from nightlatch.model.sources import COMMON
from nightlatch.model.steps import AddLine, AppendBlock, FileStep, MakeFolder, ReplaceLine, SetMode, SetOwner
from nightlatch.readings.accounts import Account
from nightlatch.services.base import ServiceCase
from nightlatch.services.posix import new_account, privilege_steps
from nightlatch.services.ssh import blocks, wanted
from nightlatch.services.ssh.closing_steps import ClosingSteps


def open_up(work: ClosingSteps, grant: Grant, why: str) -> Iterator[Candidate]:
    """Candidates that may let a grant in, the best first."""
    account = work.reading.accounts.by_name.get(grant.account)
    if account is None:
        yield from _new(work, grant, why)
        return
    yield from _enabled(work, account, why)
    yield from privilege_steps.gives(work.reading, grant, account, why)
    yield from _modes(work, account, why)
    yield from _lists(work, account, why)
    yield from _tunnels(work, grant, why)
    yield from _widen(work, grant, why)
    opened = next(iter(sorted(_enabled(work, account, why), key=len, reverse=True)), ())
    for need in sorted(grant.proofs, key=lambda n: (len(n), str(sorted(map(str, n))))):
        for proof in _proof(work, grant, need, account, why):
            yield proof
            if opened:  # neither lets anybody in without the other
                yield (*opened, *proof)


def _tunnels(work: ClosingSteps, grant: Grant, why: str) -> Iterator[Candidate]:
    """The settings that let a granted tunnel be opened: tunnels at all, and its target among those that are named."""
    targets = [power.what for power in grant.gives if power.gives is PowerKind.TUNNEL]
    if not targets:
        return
    [settings] = work.access.settings(grant.account, seen_by_guest([grant]))[:1]
    off, tcp, named = (settings[each] for each in ("disableforwarding", "allowtcpforwarding", "permitopen"))
    steps: list[Candidate] = []
    if off.word != "no":
        steps.append(work.setting("disableforwarding", "no", off.origin, why, opens=True))
    if tcp.word not in ("yes", "local"):
        steps.append(work.setting("allowtcpforwarding", "local" if tcp.word == "no" else "yes", tcp.origin, why, opens=True))
    if named.value != ("any",) and not set(targets) & set(named.value):
        listed = [*(named.value if named.value != ("none",) else ()), targets[0]]
        steps.append(work.setting("permitopen", " ".join(listed), named.origin, why, opens=True))
    if steps and all(steps):
        yield tuple(step for each in steps for step in each)


def _enabled(work: ClosingSteps, account: Account, why: str) -> Iterator[Candidate]:
    """What opens an account again that is expired or locked: each by itself, then both."""
    steps: list[AccountStep] = []
    if account.expires is not None and account.in_shadow:
        steps.append(SetExpiry(SHADOW, why, True, account.name, None, account.expires))
    if account.password.startswith("!") and account.password.strip("!") and NAME.fullmatch(account.name):
        steps.append(UnlockPassword(SHADOW, why, True, account.name))
    for each in steps:
        yield (each,)
    if len(steps) > 1:
        yield tuple(steps)


def _new(work: ClosingSteps, grant: Grant, why: str) -> Iterator[Candidate]:
    """An account of its own with its proof; where a list of users leaves it out, with its name on it, too."""
    found = new_account.made(work.reading.snapshot, work.reading.accounts, grant.account, why)
    if found is None:
        return
    made, account = found
    proofs = [
        each
        for need in sorted(grant.proofs, key=lambda n: (len(n), str(sorted(map(str, n)))))
        for each in (*_proof(work, grant, need, account, why), ())
    ]
    for proof in proofs:
        yield (*made, *proof)
        for listed in _lists(work, account, why):
            yield (*made, *proof, *listed)


def added_key(case: ServiceCase, secret: Key, account: Account, why: str) -> tuple[FileStep, ...]:
    """The steps that put one key of an account's grants where sshd looks for it, limited as they say."""
    return tuple(_add_key(ClosingSteps(case), secret, account, why))


def own_key(case: ServiceCase, account: Account, why: str) -> tuple[FileStep, ...]:
    """The steps that put the keys of the grants of a case, such as the key of management access, where sshd looks for them."""
    work = ClosingSteps(case)
    found = {s for grant in case.grants for need in grant.proofs for s in need if isinstance(s, Key)}
    secrets = sorted(found, key=lambda s: s.fingerprint)
    return tuple(step for secret in secrets for step in _add_key(work, secret, account, why))


def _proof(work: ClosingSteps, grant: Grant, need: Need, account: Account, why: str) -> Iterator[Candidate]:
    steps: list[FileStep | AccountStep] = []
    for secret in need:
        if isinstance(secret, Key | Certificate):
            steps += _add_key(work, secret, account, why)
        elif isinstance(secret, Password) and _lacks_password(account):
            steps.append(GivePassword(SHADOW, why, True, account.name, account.password, account.changed))
    block = blocks.for_need(grant, need)
    on: list[FileStep | AccountStep] = []
    for settings in work.access.settings(account.name, seen_by_guest([grant])):
        switch, by_name = settings["pubkeyauthentication"], settings["permitrootlogin"]
        if any(not isinstance(secret, Password) for secret in need) and switch.word == "no":
            on += work.setting("pubkeyauthentication", "yes", switch.origin, why, opens=True)
        if account.uid == 0 and by_name.word == "no":
            on += work.setting("permitrootlogin", "prohibit-password", by_name.origin, why, opens=True)
    if on:
        yield (*steps, *dict.fromkeys(on))
    if any(power.gives is PowerKind.FILES for power in grant.gives):
        root = next(power.what for power in grant.gives if power.gives is PowerKind.FILES)
        yield (*steps, AppendBlock(work.main, why, True, blocks.for_files(grant.account, root)))
    for line in work.asking(account, need, why):
        yield (*steps, line, AppendBlock(work.main, why, True, block))
    if block:
        yield (*steps, AppendBlock(work.main, why, True, block))
    elif steps:
        yield tuple(steps)


def _lacks_password(account: Account) -> bool:
    """Whether an account of the guest's own has none, and no locked one either: that would be unlocked."""
    known = account.in_shadow and not account.elsewhere and NAME.fullmatch(account.name)
    return bool(known and MARKER.fullmatch(account.password))


def _add_key(work: ClosingSteps, secret: Key | Certificate, account: Account, why: str) -> list[FileStep]:
    public = _public(secret, work.estate)
    want = wanted.of_secret(secret, account.name, work.grants)
    path = _key_path(work, account)
    if public is None or want is None or path is None:
        return []
    parts = [f"{name}={quote(value)}" if value else name for name, value in wanted.options(want).items() if value is not None]
    if isinstance(secret, Certificate):
        parts = ["cert-authority", f"principals={quote(secret.principal or '')}", *parts]
    line = " ".join([",".join(parts), public.line] if parts else [public.line])
    out: list[FileStep] = []
    found = work.reading.snapshot.resolve(path)
    if found.entry is not None and found.entry.kind is EntryKind.FILE and line.encode() in (found.entry.content or b""):
        return []
    folder = work.reading.snapshot.resolve(path.rpartition("/")[0])
    if folder.entry is None or folder.entry.kind is EntryKind.ABSENT:
        out.append(MakeFolder(folder.path, why, True, 0o700, account.uid, account.gid))
    real = found.path if found.entry and found.entry.kind is EntryKind.FILE else f"{folder.path}/{path.rpartition('/')[2]}"
    out.append(AddLine(real, why, True, line, account.uid, account.gid))
    return out


def _public(secret: Key | Certificate, estate: Estate) -> PublicKey | None:
    wanted_print = secret.fingerprint if isinstance(secret, Key) else secret.authority
    known = [key for person in estate.principals.values() for key in person.keys]
    known += [*estate.authorities.values(), *(key for kept in estate.emergency for key in kept.keys)]
    known += [guest.via.key for guest in estate.guests.values() if guest.via.key is not None]
    return next((key for key in known if key.fingerprint == wanted_print), None)


def _key_path(work: ClosingSteps, account: Account) -> str | None:
    for name in work.access.effective.top["authorizedkeysfile"].value:
        if name.lower() != "none":
            return sshd_tokens.file_for(name, user=account.name, uid=account.uid, home=account.home)
    return None


def _modes(work: ClosingSteps, account: Account, why: str) -> Iterator[Candidate]:
    """Take write rights of others off a key file or a folder above it, or give it to its account."""
    steps: list[FileStep] = []
    for rejected in work.access.rejected:
        entry = work.reading.snapshot.entries.get(rejected.path)
        if rejected.account != account.name or not rejected.path or entry is None:
            continue
        if entry.uid not in (0, account.uid):
            steps.append(SetOwner(rejected.path, why, True, account.uid))
        mode = entry.mode & ~0o022
        if entry.uid == account.uid:
            mode |= 0o100 if entry.kind is EntryKind.FOLDER else 0o400
        if mode != entry.mode:
            steps.append(SetMode(rejected.path, why, True, mode))
    if steps:
        yield tuple(dict.fromkeys(steps))


def _lists(work: ClosingSteps, account: Account, why: str) -> Iterator[Candidate]:
    """AllowUsers, AllowGroups and DenyUsers lines that leave the account out, or name it."""
    top = work.access.effective.top
    for keyword, name in (("allowusers", account.name), ("allowgroups", account.groups[0] if account.groups else "")):
        setting = top[keyword]
        if setting.value and name:
            last = setting.directive.value if setting.directive else setting.value
            yield work.setting(keyword, " ".join([*last, name]), setting.origin, why, opens=True)
    denied = top["denyusers"]
    if account.name in denied.value and denied.directive is not None:
        left = [each for each in denied.directive.value if each != account.name]
        if left:
            yield work.setting("denyusers", " ".join(left), denied.origin, why, opens=True)


def _widen(work: ClosingSteps, grant: Grant, why: str) -> Iterator[Candidate]:
    """Change the options of a key line that is there, but narrower or for less than is granted."""
    for secret in {s for need in grant.proofs for s in need if isinstance(s, Key)}:
        want = wanted.of_secret(secret, grant.account, work.grants)
        if want is None or not grant.callers.surely.get(COMMON):
            continue
        for path in {c.origin.path for a in work.paths if a.account == grant.account for c in a.causes}:
            content = work.reading.snapshot.content(path)
            if content is None or path in work.reading.sshd.files:
                continue
            for entry in authorized_keys.parse(content):
                if isinstance(entry, KeyEntry) and entry.key.fingerprint == secret.fingerprint and not entry.options.authority:
                    before = text_lines.text_of(text_lines.split(content)[entry.number - 1]).rstrip("\r\n")
                    after = authorized_keys.with_options(before, entry, wanted.options(want))
                    if after != before:
                        yield (ReplaceLine(path, why, True, before, after),)
