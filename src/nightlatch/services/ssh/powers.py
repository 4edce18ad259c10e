"""The powers of a login: shell, one command, files, tunnels, root's rights (session.c, serverloop.c)."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.formats import sshd_tokens
from nightlatch.formats.authorized_keys import Options
from nightlatch.model.powers import ADMINISTER, SHELL, Power, PowerKind
from nightlatch.readings.accounts import Account
from nightlatch.services.ssh.logins import NOT_SHELLS, SHELLS
from nightlatch.services.ssh.settings import Settings

INTERNAL = "internal-sftp"


def powers(settings: Settings, options: Options, account: Account) -> list[Power]:
    """All powers of one login, without root's rights of other accounts than root."""
    out = list(_session(settings, options, account))
    if settings["disableforwarding"].word == "no":
        out.extend(_forwarding(settings, options))
        if (
            settings["allowagentforwarding"].word == "yes"
            and options.agent
            and any(p.gives in (PowerKind.SHELL, PowerKind.COMMAND) for p in out)
        ):
            out.append(Power(PowerKind.AGENT))
    if account.uid == 0 and SHELL in out:
        out.append(ADMINISTER)
    return out


def root_folder(settings: Settings, account: Account) -> str:
    """The folder that sftp shows as /: the ChrootDirectory, or / without one."""
    stated = settings["chrootdirectory"].word
    if stated.lower() == "none":
        return "/"
    return sshd_tokens.expand(stated, user=account.name, uid=account.uid, home=account.home) or stated


def _session(settings: Settings, options: Options, account: Account) -> Iterator[Power]:
    forced = settings["forcecommand"].word
    if forced.lower() == "none":
        forced = options.command or ""
    root = root_folder(settings, account)
    shell = account.shell or "/bin/sh"
    name = shell.rpartition("/")[2]
    subsystems = settings["subsystem"].value
    sftp = dict(zip(subsystems[::2], subsystems[1::2], strict=True)).get("sftp", "")
    if forced:
        if forced.split()[0] == INTERNAL:
            yield Power(PowerKind.FILES, root)
        elif name not in NOT_SHELLS:
            yield Power(PowerKind.COMMAND, forced)
        return
    inside = sftp.split()[:1] == [INTERNAL]
    if name in SHELLS:
        yield SHELL
        if sftp:
            yield Power(PowerKind.FILES, root)
    else:
        if name not in NOT_SHELLS:
            yield Power(PowerKind.COMMAND, shell)
        if inside:
            # The built-in server needs no shell, so a no-login shell does not stop it.
            yield Power(PowerKind.FILES, root)


def _forwarding(settings: Settings, options: Options) -> Iterator[Power]:
    if not options.ports:
        return
    tcp = settings["allowtcpforwarding"].word
    if tcp in ("yes", "local"):
        for target in _narrowed(settings["permitopen"].value, options.opens):
            yield Power(PowerKind.TUNNEL, target)
    if tcp in ("yes", "remote"):
        for target in _narrowed(settings["permitlisten"].value, options.listens):
            yield Power(PowerKind.LISTEN, target)
    if settings["allowstreamlocalforwarding"].word != "no":
        yield Power(PowerKind.TUNNEL, "local sockets")


def _narrowed(by_server: tuple[str, ...], by_key: tuple[str, ...]) -> list[str]:
    """Targets that both the server and the key line let through."""
    if by_server == ("none",):
        return []
    if by_server == ("any",):
        return list(by_key) or ["*"]
    if not by_key:
        return list(by_server)
    return [each for each in by_key if each in by_server or _host(each) + ":*" in by_server]


def _host(target: str) -> str:
    return target.rpartition(":")[0]
