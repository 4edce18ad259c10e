"""What a service's PAM stack says of one account: whether it may log in, and what it is asked for.

The modules that ask about the account itself are answered from its files; any other would have to run (pam.py).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from nightlatch.formats import pam as pam_format
from nightlatch.model.gaps import Gap
from nightlatch.net.numbers import whole
from nightlatch.origin import Origin
from nightlatch.readings import sssd
from nightlatch.readings.accounts import Account
from nightlatch.readings.guest import GuestReading
from nightlatch.services.posix import codes
from nightlatch.services.posix.codes import CodeState
from nightlatch.services.posix.pam import Answers, PamOutcome, PamStack, PamVerdict, stack

FIRST_REGULAR = 1000  # login.defs(5), UID_MIN
PASSWORD, CODE = "password", "code"
TRIED: tuple[frozenset[str], ...] = tuple(map(frozenset, ((PASSWORD,), (CODE,), (PASSWORD, CODE))))


@dataclass(frozen=True, slots=True)
class Asked:
    """What a stack asks for: each of `needs` opens it, the words `password` and `code` in them, the fewest first. `empty` says
    that an empty password is enough, `by` is the line by which it is open to whatever is typed; `gap` is why nothing is known."""

    needs: tuple[frozenset[str], ...] = ()
    gap: Gap | None = None
    by: Origin | None = None
    empty: bool = False

    def opens(self, shown: Iterable[str]) -> bool:
        """Whether what is shown is enough."""
        return any(need <= {*shown} for need in self.needs)


class LoginStack:
    """The stack of one `service` on one guest; `today` is in days since 1970, as shadow(5) counts."""

    def __init__(self, reading: GuestReading, service: str, today: int) -> None:
        self.reading, self.service, self.today = reading, service, today
        self._stacks: dict[str, PamStack] = {}
        self._asked: dict[tuple[str, bool], Asked] = {}

    def _stack(self, facility: str) -> PamStack:
        if facility not in self._stacks:
            self._stacks[facility] = stack(self.reading.pam, self.service, facility)
        return self._stacks[facility]

    def account(self, account: Account, *, blocked: bool) -> PamVerdict:
        """Whether the account may log in; `blocked` says that pam_nologin(8) keeps it out."""

        def answers(module: str, arguments: tuple[str, ...]) -> str | None:
            if module == "pam_nologin.so":
                return "auth_err" if blocked else "ignore"
            if module == "pam_unix.so":
                return self.unix(account)
            if module == "pam_access.so":
                return self._access_file()
            if module == "pam_sss.so" and account.elsewhere and not any(word.startswith("domains=") for word in arguments):
                held = sssd.lets_in(self.reading.snapshot, account.name)
                return None if held is None else "success" if held else "perm_denied"
            return _by_account(account, module, arguments)

        return self._stack("account").run(answers)

    def _access_file(self) -> str | None:
        content = self.reading.snapshot.content("/etc/security/access.conf") or b""
        rules = [line for line in content.split(b"\n") if line.strip() and not line.lstrip().startswith(b"#")]
        return None if rules else "success"

    def unix(self, account: Account) -> str | None:
        """pam_unix(8), account phase: expiry of the account, then of the password (shadow(5)); None for an account of a directory
        of whose password nothing is known."""
        today = self.today
        if account.elsewhere and not account.in_shadow:
            return None
        if not account.in_shadow:
            return "authinfo_unavail"
        if account.expires is not None and today >= account.expires:
            return "acct_expired"
        if account.changed == 0:
            return "new_authtok_reqd"
        if account.changed is None or account.longest is None or account.changed > today:
            return "success"
        over = today - account.changed - account.longest
        if over > 0:
            if account.inactive is not None and over > account.inactive:
                return "acct_expired"
            return "new_authtok_reqd"
        return "success"

    def asked(self, account: Account, *, empty_allowed: bool) -> Asked:
        """What PAM asks an account for before it lets in."""
        key = (account.name, empty_allowed)
        if key not in self._asked:
            self._asked[key] = self._worked_out(account, empty_allowed=empty_allowed)
        return self._asked[key]

    def _worked_out(self, account: Account, *, empty_allowed: bool) -> Asked:
        """The stack is walked with nothing right, and with each of the secrets right: what opens it shows what is needed."""
        nothing = self._walked(account, frozenset(), empty_allowed=False)
        if nothing.outcome is PamOutcome.OPEN:  # a stack that goes on after whatever is wrong
            return Asked((frozenset(),), by=nothing.origin)
        if self._walked(account, frozenset(), empty_allowed=empty_allowed).outcome is PamOutcome.OPEN:
            return Asked((frozenset(),), empty=True)
        needs: list[frozenset[str]] = []
        for right in TRIED:
            if any(need <= right for need in needs):
                continue
            verdict = self._walked(account, right, empty_allowed=empty_allowed)
            if verdict.outcome is PamOutcome.UNKNOWN:
                return Asked(gap=verdict.gap)
            if verdict.outcome is PamOutcome.OPEN:
                needs.append(right)
        return Asked(tuple(needs))

    def _walked(self, account: Account, right: frozenset[str], *, empty_allowed: bool) -> PamVerdict:
        return self._stack("auth").run(self._answers(account, right, empty_allowed=empty_allowed))

    def _answers(self, account: Account, right: frozenset[str], *, empty_allowed: bool) -> Answers:
        """The modules' answers where these secrets are right and all others wrong."""

        def answers(module: str, arguments: tuple[str, ...]) -> str | None:
            if module == "pam_nologin.so":
                return "ignore"
            if module == pam_format.CODES:
                state = codes.read(self.reading.snapshot, account, arguments).state
                if state is CodeState.ASKED:
                    return "success" if CODE in right else "auth_err"
                return {CodeState.WITHOUT: "ignore", CodeState.REFUSED: "auth_err"}.get(state)
            if module != "pam_unix.so":
                return _by_account(account, module, arguments)
            if account.elsewhere and not account.in_shadow:
                return None
            if account.has_empty_password:
                if not empty_allowed or not {"nullok", "nullok_secure"} & set(arguments):
                    return "auth_err"
                return "success"
            return "success" if account.hash_method and PASSWORD in right else "auth_err"

        return answers


def _by_account(account: Account, module: str, arguments: tuple[str, ...]) -> str | None:
    """Modules that ask only what kind of account it is (pam_localuser(8), pam_usertype(8)), or count failures.

    pam_faillock(8) shuts for a while after wrong passwords: that passes, so it is no answer to who may get in.
    """
    if module == "pam_faillock.so" or (module == "pam_localuser.so" and not account.elsewhere):
        return "success"
    if module == "pam_localuser.so":
        return "perm_denied"
    if module == "pam_usertype.so":
        is_system = account.uid < FIRST_REGULAR
        return "success" if ("issystem" in arguments) == is_system else "perm_denied"
    if module == "pam_succeed_if.so":
        words = [word for word in arguments if word not in ("quiet", "quiet_success", "quiet_fail", "use_uid")]
        number = whole(words[2], 10) if len(words) == 3 and words[0] == "uid" else None
        if number is not None:
            held = {">=": account.uid >= number, "<": account.uid < number}.get(words[1])
            return None if held is None else "success" if held else "perm_denied"
    return None
