"""The ports of SSH as the estate states them: sshd's files and the socket unit together, and SSH open at every step.

While Nightlatch comes in by a port that is to go, it stays beside the new ones; the estate file follows to a new port
once that was proven, and the next draft closes the old one over it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from nightlatch.access.desired_state import ssh_ports
from nightlatch.access.layers import flow_to
from nightlatch.access.paths import GuestAccess
from nightlatch.access.verdicts import Flow, RuleVerdict, deciding, passed
from nightlatch.draft import filter_steps
from nightlatch.draft.acts import LabelPort
from nightlatch.draft.partial_draft import PartialDraft
from nightlatch.draft.steps import AnyStep, Rewrite, apply_all
from nightlatch.draft.work import Work
from nightlatch.estate.model import Estate, ServiceSpec, ViaKind
from nightlatch.evidence.snapshot import ABSENT, EntryKind
from nightlatch.formats import lines as text_lines
from nightlatch.formats import sshd_config
from nightlatch.model.grants import Grant, seen_by_guest
from nightlatch.model.rules import RuleAction
from nightlatch.model.services import SSH
from nightlatch.model.steps import InsertSetting, MakeFile, MakeFolder, ReplaceLine
from nightlatch.net.addresses import EVERY_ADDRESS, AddressSet, union
from nightlatch.readings import guest as readings
from nightlatch.readings.units import socket_units
from nightlatch.services.ssh.settings import listeners
from nightlatch.systems import posix

DROP_IN = "90-ports.conf"
HEAD = "# the ports of SSH, as the estate file states them"


def given(estate: Estate, access: GuestAccess, grants: Sequence[Grant]) -> PartialDraft:
    """All that is due so that SSH is reached on the stated ports, and no other; `grants` name the callers."""
    out = PartialDraft()
    spec, now = ssh_ports(estate, access)
    if spec is None:
        return out
    wanted = set(spec.ports)
    why = f"SSH should be on port {_listed(wanted)} ({spec.origin}); it is on {_listed(now) or 'none'}."
    if not access.reading.installed or access.ssh.effective.refusal is not None:
        out.leave(why, "sshd has to be there and to start; mend that first")
        return out
    came = _came_by(access)
    target = wanted | ({came} if came in now else set())
    _taken(access, target - now, why, out)
    if not out.left:
        _sshd(access, target, why, out)
    if out.left:
        return out
    _socket(access, target, why, out)
    if out.left:
        return PartialDraft(left=out.left)
    if out.steps:
        _labelled(access, target - now, out)
        _outside(access, sorted(target - now), seen_by_guest(g for g in grants if g.service == SSH.name), out)
        _let_in(Work(access, tuple(grants), estate), sorted(target - now), target, why, out)
    if target != wanted:
        _later(estate, access, spec, came, bool(out.steps), out)
    return out


def _came_by(access: GuestAccess) -> int:
    """The port by which this evidence was read, 0 where no connection did."""
    return access.reading.snapshot.told.came.port


def _listed(ports: set[int] | frozenset[int]) -> str:
    return ", ".join(str(port) for port in sorted(ports))


def _taken(access: GuestAccess, fresh: set[int], why: str, out: PartialDraft) -> None:
    """A port that another program holds now."""
    service = access.reading.service
    for socket in service.sockets:
        others = [] if service.is_door(socket) else [name for name, _ in socket.programs]
        if socket.port in fresh and others:
            out.leave(why, f"{others[0]} listens on port {socket.port} already; free it first, or state another")
            return


def _sshd(access: GuestAccess, target: set[int], why: str, out: PartialDraft) -> None:
    """sshd's own Port lines; where a socket holds the port they count for the next time that it does not."""
    reading = access.reading
    stored = {each.port for each in listeners(access.ssh.effective.top)}
    if stored == target:
        return
    options = [text for text, _ in (*reading.options, *reading.stored_options)]
    if any(text.lower().startswith(("port", "listenaddress")) for text in options):
        out.leave(why, "the service starts sshd with a port of its own (-p or -o); change that first")
        return
    named = access.ssh.effective.top["listenaddress"]
    if any(named.value[1::2]):
        out.leave(why, f"ListenAddress names ports of its own ({named.origin}); change them by hand")
        return
    lines = [each for each in reading.sshd.directives if each.keyword == "port"]
    fresh = sorted(target - stored)
    if not lines:
        fresh = sorted(target)
    steps: list[AnyStep] = []
    for each in lines:
        if int(each.value[0]) not in target:
            after = fresh.pop(0) if fresh else 0
            steps.insert(0, _line(access, each.origin.path, each.origin.line, after, why))
    # The port of now is written out first: with only the new one in the file the door would be shut for a step.
    fresh.sort(key=lambda port: (port not in stored, -port))
    out.steps += [InsertSetting(reading.main_path, why, False, f"Port {port}") for port in fresh] + steps


def _line(access: GuestAccess, path: str, number: int, port: int, why: str) -> ReplaceLine:
    """One Port line with another port, or taken away."""
    content = access.reading.snapshot.content(path) or b""
    line = sshd_config.parse(content).lines[number - 1]
    before = text_lines.text_of(line.raw).rstrip("\r\n")
    earlier = (text_lines.text_of(each).rstrip("\r\n") for each in text_lines.split(content)[: number - 1])
    after = sshd_config.rewritten(line, str(port)) if port else ""
    return ReplaceLine(path, why, False, before, after, sum(text == before for text in earlier))


def _socket(access: GuestAccess, target: set[int], why: str, out: PartialDraft) -> None:
    """The drop-in of the socket unit that holds the port."""
    snapshot, unit = access.reading.snapshot, access.reading.service.socket
    if unit is None or not unit.listens or {port for _, port in unit.listens} == target:
        return
    folder = f"{posix.UNIT_FOLDERS[0]}/{unit.name}.d"
    path = f"{folder}/{DROP_IN}"
    later = [each for each in socket_units.drop_ins(snapshot, unit.name) if each > path]
    if socket_units.stored(snapshot, unit.name) is None or any(b"ListenStream" in (snapshot.content(p) or b"") for p in later):
        out.leave(why, f"the files of {unit.name} say where it listens in a way that is not edited; change them by hand")
        return
    addresses = dict.fromkeys(address for address, _ in unit.listens)
    lines = socket_units.streams(tuple((address, port) for address in addresses for port in sorted(target)))
    out.steps += _file(access, folder, path, "\n".join([HEAD, "[Socket]", *lines]) + "\n", why)


def _file(access: GuestAccess, folder: str, path: str, content: str, why: str) -> Iterator[AnyStep]:
    snapshot = access.reading.snapshot
    if snapshot.entries.get(folder, ABSENT).kind is EntryKind.ABSENT:
        yield MakeFolder(folder, why, False, 0o755, 0, 0)
    entry = snapshot.entries.get(path, ABSENT)
    if entry.kind is EntryKind.FILE:
        yield Rewrite(path, why, False, entry, content.encode(), "the ports of SSH")
    else:
        yield MakeFile(path, why, False, content, 0o644, 0, 0)


def _labelled(access: GuestAccess, fresh: set[int], out: PartialDraft) -> None:
    """The labels that the access control wants of new ports."""
    labels, reading = access.reading.labels, access.reading
    for port in sorted(fresh):
        if labels.mode in ("enforcing", "permissive") and not labels.lets_ssh(port):
            why = f"SELinux is {labels.mode} here, and lets sshd listen only on ports labelled ssh_port_t."
            if reading.service.is_live:
                out.acts.append(LabelPort(port, why))
            else:
                out.leave(f"Port {port} lacks its label. {why}", f"semanage port -a -t ssh_port_t -p tcp {port}, on the guest")


def _let_in(work: Work, fresh: list[int], target: set[int], why: str, out: PartialDraft) -> None:
    """The filter steps that let callers through to new ports, or a task by hand."""
    access, reading = work.access, work.access.reading
    wants = seen_by_guest(work.of(SSH.name)) or EVERY_ADDRESS  # without grants all callers of now are told
    kept_out = [port for port in fresh if _rule_in_the_way(access, port, wants) is not None]
    for steps in filter_steps.lets_in(work, SSH.name, wants, why, tuple(sorted(target))) if kept_out else ():
        after = replace(access, reading=readings.read(apply_all(reading.snapshot, steps)))
        if all(_rule_in_the_way(after, port, wants) is None for port in fresh):
            out.steps[:0] = steps
            return
    for port in kept_out:
        found = _rule_in_the_way(access, port, wants)
        if found is not None:
            text = f"The packet filter keeps callers from port {port} who reach SSH now: {found.text} ({found.origin})."
            out.leave(text, "open it there first; a change that can't be reached over the new port goes back")
    held = reading.filter.rules.gaps if reading.filter.rules is not None else ()
    for gap in (*reading.filter.gaps, *held)[:1] if fresh else ():
        out.leave(
            f"Whether the filter lets port {_listed(set(fresh))} in is not known: {gap.because} ({gap.origin}).",
            "open it there first; a change that can't be reached over the new port goes back",
        )


def _outside(access: GuestAccess, fresh: list[int], wants: AddressSet, out: PartialDraft) -> None:
    """New ports that a filter outside of the guest keeps some callers from who get through to a port of now."""
    for rules in (each for way in access.arrivals if way.forward is None for each in way.around):
        before = union(passed(rules, Flow("tcp", each.port)).perhaps for each in access.ssh.listeners)
        for port in fresh:
            if before & wants - passed(rules, Flow("tcp", port)).perhaps:
                name = next(iter(rules.chains)).rstrip(",")
                out.leave(
                    f"{name[:1].upper()}{name[1:]} keeps callers from port {port} who reach SSH now.",
                    "once SSH listens there, nightlatch perimeter tells the rows that it should have",
                )


def _rule_in_the_way(access: GuestAccess, port: int, wants: AddressSet) -> RuleVerdict | None:
    """The rule by which the guest's own filter keeps some callers from a new port who get through to a port of now."""
    rules = access.reading.filter.rules
    if rules is None:
        return None
    before = union(passed(rules, flow_to(access.reading, each.address, each.port)).perhaps for each in access.ssh.listeners)
    flow = flow_to(access.reading, "", port)
    lost = before & wants - passed(rules, flow).perhaps
    return deciding(rules, flow, lost, (RuleAction.DROP, RuleAction.REJECT)) if lost else None


def _later(estate: Estate, access: GuestAccess, spec: ServiceSpec, came: int, doing: bool, out: PartialDraft) -> None:
    via = estate.guests[access.guest].via
    hand = (
        "nothing now: once this is kept, via follows to the new port, and the next draft closes the old one over it"
        if doing and via.kind is ViaKind.SSH
        else f"write port: {spec.ports[0]} under via of {access.guest}, then draft again"
    )
    out.leave(f"Port {came} stays open, for Nightlatch comes in by it.", hand)
