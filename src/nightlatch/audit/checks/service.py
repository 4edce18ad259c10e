"""Stored, loaded, at boot: what runs on a live guest, held against its files and against what the next boot brings."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.formats.sshd_keywords import spelled
from nightlatch.origin import Kind, Origin
from nightlatch.services.ssh.opinion import Disagreement, disagreements
from nightlatch.services.ssh.settings import listeners

HIGH, MEDIUM, LOW = Severity.HIGH, Severity.MEDIUM, Severity.LOW
WAITING = "who connects now is answered by what was loaded, not by what the files say"


@check("service.stopped", HIGH, source="systemctl(1): is-active")
def stopped(context: Context) -> Iterator[CheckResult]:
    """The SSH server is installed, and does not run: nobody gets in now."""
    reading = context.access.reading
    if not reading.service.is_live or not reading.installed or reading.service.is_running:
        return
    unit = reading.service.service
    later = " It is started at boot." if unit and unit.at_boot else ""
    origin = unit.origin if unit else Origin("processes named sshd", kind=Kind.LISTING)
    nobody = (
        "who gets in by what calls itself sshd there is not in this audit"
        if reading.service.strangers
        else "nobody gets in over SSH now"
    )
    yield CheckResult(
        f"sshd does not run, and no socket waits for it: {nobody}.{later}",
        (Proof("inactive" if unit else "none", origin),),
        ("sshd",),
    )


@check("service.not-at-boot", HIGH, source="systemctl(1): is-enabled")
def not_at_boot(context: Context) -> Iterator[CheckResult]:
    """The SSH server runs now, and nothing starts it at boot."""
    service = context.access.reading.service
    units = [unit for unit in (service.service, service.socket) if unit is not None]
    if not service.is_running or not service.has_units or not units or any(unit.at_boot for unit in units):
        return
    proofs = tuple(Proof(f"UnitFileState {unit.file_state or 'none'}", unit.origin) for unit in units)
    yield CheckResult("sshd runs, but nothing starts it at boot: after the next one nobody gets in.", proofs, ("sshd",))


@check("service.older-than-its-files", MEDIUM, source="sshd(8): SIGHUP; systemctl(1): reload")
def older_than_its_files(context: Context) -> Iterator[CheckResult]:
    """A file of sshd was changed after sshd last read its files."""
    reading = context.access.reading
    unit = reading.service.service
    if unit is None or not unit.active or not unit.started:
        return
    read_at = max(unit.started, unit.reloaded)
    files = [(p, reading.snapshot.entries.get(p)) for p in reading.sshd.files]
    newer = [(path, entry.changed) for path, entry in files if entry is not None and entry.changed > read_at]
    if newer:
        path, when = max(newer, key=lambda pair: pair[1])
        text = f"{path} was changed {span(when - read_at)} after sshd last read its files: {WAITING}."
        yield CheckResult(
            text,
            (Proof("changed later", Origin(path)), Proof(f"last read {_past(reading.service.clock - read_at)}", unit.origin)),
            (path,),
        )


def span(seconds: int) -> str:
    """A length of time in its largest whole unit."""
    for size, word in ((86400, "day"), (3600, "hour"), (60, "minute")):
        if seconds >= size:
            count = seconds // size
            return f"{count} {word}{'' if count == 1 else 's'}"
    return f"{seconds} second{'' if seconds == 1 else 's'}"


def _past(seconds: int) -> str:
    return f"{span(max(0, seconds))} ago"


@check("service.second-server", HIGH, source="proc(5): exe, status, cgroup; systemctl(1): show, ControlGroup")
def second_server(context: Context) -> Iterator[CheckResult]:
    """Another process than the guest's sshd bears its name and listens; only the guest's own is asked and reasoned about."""
    service = context.access.reading.service
    first = service.daemon
    for daemon in (*service.daemons, *service.strangers):
        if daemon is first or (first is None and len(service.daemons) == 1 and not daemon.doubt):
            continue
        held = sorted({s.port for s in service.sockets if s.inode in daemon.holds})
        where = " on port " + ", ".join(map(str, held)) if held else ""
        text = f"A second sshd listens{where}, started as: {daemon.title}. Who gets in there is not in this audit."
        because = f"not the guest's own sshd: {daemon.doubt}" if daemon.doubt else f"unit {daemon.unit or 'none'}"
        yield CheckResult(text, (Proof(because, daemon.origin),), (f"pid {daemon.pid}",))


@check("service.restart-due", MEDIUM, source="proc(5): exe")
def restart_due(context: Context) -> Iterator[CheckResult]:
    """The file of the running sshd's program was replaced, mostly by an upgrade: what runs is the old program."""
    for daemon in context.access.reading.service.daemons:
        if daemon.replaced:
            text = f"sshd runs a program that was replaced on the disk since: {daemon.program} counts from its next start on."
            proof = Proof("another file than the one that runs", Origin(f"/proc/{daemon.pid}/exe", kind=Kind.LISTING))
            yield CheckResult(text, (proof,), ("sshd",))


@check("service.unit-changed", LOW, source="systemctl(1): daemon-reload")
def unit_changed(context: Context) -> Iterator[CheckResult]:
    """A unit's file was changed, and the service manager has not read it again."""
    service = context.access.reading.service
    for unit in (service.service, service.socket):
        if unit is not None and unit.needs_reload:
            text = f"The file of {unit.name} was changed and not loaded: systemctl daemon-reload is due."
            yield CheckResult(text, (Proof("NeedDaemonReload yes", unit.origin),), (unit.name,))


@check("service.options-differ", MEDIUM, source="sshd(8): -o, -p, -f")
def options_differ(context: Context) -> Iterator[CheckResult]:
    """The running sshd was started with other options than its unit and defaults file say now."""
    reading = context.access.reading
    daemon = reading.service.daemon
    if daemon is None or not daemon.unit:
        return
    running, stored = [text for text, _ in reading.options], [text for text, _ in reading.stored_options]
    if running != stored:
        proofs = [Proof(f"runs with {' '.join(running) or 'no options'}", daemon.origin)]
        proofs += [Proof(f"says {text}", origin) for text, origin in reading.stored_options] or [
            Proof("says no options", Origin(f"{daemon.unit}"))
        ]
        yield CheckResult("sshd runs with other options than the next start will give it.", tuple(proofs), ("sshd",))


@check("service.listener-differs", HIGH, source="sshd_config(5): ListenAddress, Port; ss(8)")
def listener_differs(context: Context) -> Iterator[CheckResult]:
    """sshd listens elsewhere than its files say, or a socket unit decides instead of them."""
    reading = context.access.reading
    service = reading.service
    if not service.is_running or not service.sockets or context.access.ssh.effective.refusal is not None:
        return
    stated = {socket.port for socket in listeners(context.access.ssh.effective.top)}
    unit = service.socket
    if unit is not None and unit.listens:
        held = {port for _, port in unit.listens}
        if held != stated:
            text = (
                f"Connections come in by {unit.name} on port {_ports(held)}; Port {_ports(stated)} in sshd's files has no effect."
            )
            yield CheckResult(text, (Proof(f"Listen {_ports(held)}", unit.origin),), (unit.name,), MEDIUM)
        return
    daemon = service.daemon or next(iter(service.daemons), None)
    open_ports = {s.port for s in service.sockets if daemon is not None and s.inode in daemon.holds}
    if open_ports and open_ports != stated:
        text = f"sshd listens on port {_ports(open_ports)}; its files say {_ports(stated)}."
        yield CheckResult(text, (Proof(f"port {_ports(open_ports)}", service.sockets[0].origin),), ("sshd",))


def _ports(ports: set[int]) -> str:
    return ", ".join(str(port) for port in sorted(ports))


@check("ssh.second-opinion", HIGH, source="sshd(8): -T, -C")
def second_opinion(context: Context) -> Iterator[CheckResult]:
    """The guest's own sshd says another setting than the one we reason: a fault of ours, or of the guest."""
    told: dict[str, list[Disagreement]] = {}
    for each in disagreements(context.access.ssh, context.access.accounts):
        told.setdefault(each.keyword, []).append(each)
    for keyword, found in told.items():
        first = found[0]
        name = spelled(keyword) if keyword else "its start"
        ours, theirs = ", ".join(first.ours) or "nothing", ", ".join(first.theirs) or "nothing"
        more = f", and {len(found) - 1} callers more" if len(found) > 1 else ""
        text = (
            f"{name} for {first.question}{more}: the guest's own sshd says {theirs}, Nightlatch reasons {ours}. "
            "What is said here about this guest may be wrong."
        )
        proofs = [Proof(theirs, Origin("sshd -T -C " + first.question, kind=Kind.LISTING))]
        proofs += [Proof(ours, first.setting.origin)] if first.setting is not None else []
        yield CheckResult(text, tuple(proofs), (keyword or "sshd",))
