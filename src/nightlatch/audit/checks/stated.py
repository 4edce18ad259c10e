"""Checks of what the estate states of a guest itself: its services, the ports of SSH, its clock's zone, its name."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.access.desired_state import of_units, ssh_ports
from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.audit.names import listed
from nightlatch.origin import Kind, Origin
from nightlatch.services.ssh.settings import listeners

HIGH, MEDIUM, LOW = Severity.HIGH, Severity.MEDIUM, Severity.LOW
NAME = Origin("/proc/sys/kernel/hostname", kind=Kind.LISTING)


@check("service.not-as-stated", MEDIUM, source="systemctl(1); design: services in the estate file")
def not_as_stated(context: Context) -> Iterator[CheckResult]:
    """The estate says of a service that it runs, or that it does not, and the guest has it otherwise."""
    if context.estate is None:
        return
    for each in of_units(context.estate, context.access.reading):
        if each.lacks:
            wish = "runs" if each.spec.runs else "does not run"
            how = " and ".join(lack.value for lack in each.lacks)
            text = f"The estate says that {each.state.name} {wish}, now and at boot; it {how}."
            yield CheckResult(text, (Proof("stated here", each.spec.origin), Proof(how, each.state.origin)), (each.state.name,))


@check("service.port-not-as-stated", MEDIUM, source="sshd_config(5): Port; systemd.socket(5): ListenStream")
def port_not_as_stated(context: Context) -> Iterator[CheckResult]:
    """SSH is on other ports than the estate says."""
    if context.estate is None or not context.access.reading.installed or context.access.ssh.effective.refusal is not None:
        return
    spec, now = ssh_ports(context.estate, context.access)
    if spec is not None and now != frozenset(spec.ports):
        is_on = listed([str(port) for port in sorted(now)]) or "none"
        text = f"The estate says that SSH is on port {listed([str(p) for p in sorted(spec.ports)])}; it is on {is_on}."
        proofs = [Proof("stated here", spec.origin)]
        others = (each for each in context.access.ssh.listeners if each.port not in spec.ports)
        proofs += [Proof(f"port {each.port}", each.origin or spec.origin) for each in others]
        yield CheckResult(text, tuple(proofs), ("sshd",))


@check("service.port-label", HIGH, source="semanage-port(8); selinux(8)")
def port_label(context: Context) -> Iterator[CheckResult]:
    """Mandatory access control keeps sshd from a port that its files name: the port lacks its label."""
    labels = context.access.reading.labels
    if not labels.enforced or labels.origin is None or context.access.ssh.effective.refusal is not None:
        return
    for each in {found.port: found for found in listeners(context.access.ssh.effective.top)}.values():
        if context.access.reading.installed and not labels.lets_ssh(each.port):
            text = f"SELinux is enforcing, and port {each.port} lacks the label ssh_port_t: sshd can't listen there."
            proofs = (Proof(f"Port {each.port}", each.origin or labels.origin), Proof("enforcing", labels.origin))
            yield CheckResult(text, proofs, (f"tcp/{each.port}",))


@check("time.zone-not-as-stated", LOW, source="localtime(5); design: time_zone of a guest")
def zone_not_as_stated(context: Context) -> Iterator[CheckResult]:
    """The guest's clock shows another time zone than the estate says."""
    spec = context.estate.guests[context.guest] if context.estate is not None else None
    clock = context.access.reading.clock
    for found in (clock.zone, clock.stated_zone) if spec is not None and spec.time_zone else ():
        assert spec is not None
        if found is not None and found.value != spec.time_zone:
            text = f"The estate says {spec.time_zone} for the clock of {spec.name}, the guest {found.value}."
            yield CheckResult(text, (Proof("stated here", spec.origin), Proof(found.value, found.origin)), ("zone",))
            return


@check("name.not-as-stated", LOW, source="hostname(5); design: host_name of a guest")
def name_not_as_stated(context: Context) -> Iterator[CheckResult]:
    """The guest calls itself otherwise than the estate says."""
    spec = context.estate.guests[context.guest] if context.estate is not None else None
    stored = context.access.reading.network.hostname
    if spec is not None and spec.host_name and stored is not None and stored.value != spec.host_name:
        text = f"The estate says {spec.host_name} for the name of {spec.name}, the guest {stored.value}."
        yield CheckResult(text, (Proof("stated here", spec.origin), Proof(stored.value, stored.origin)), ("name",))


@check("name.changed-at-boot", LOW, source="hostname(5); hostname(7)")
def changed_at_boot(context: Context) -> Iterator[CheckResult]:
    """The running guest has another name than the next boot gives it."""
    reading = context.access.reading
    stored, loaded = reading.network.hostname, reading.snapshot.told.host
    if reading.service.is_live and stored is not None and loaded and stored.value != loaded:
        text = f"The guest's name is {loaded} now and {stored.value} after the next boot: logs of one guest go by two names."
        yield CheckResult(text, (Proof(loaded, NAME), Proof(stored.value, stored.origin)), ("name",))
