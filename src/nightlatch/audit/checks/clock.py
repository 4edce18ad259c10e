"""Checks of the clock: certificates, one-time codes, leases and logs all go by it."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.checks.service import span
from nightlatch.audit.findings import Proof, Severity
from nightlatch.audit.names import listed
from nightlatch.origin import Kind, Origin
from nightlatch.readings.clock import LISTED

HIGH, MEDIUM, LOW = Severity.HIGH, Severity.MEDIUM, Severity.LOW
TOLERATED = 30  # seconds: one step of a one-time code (RFC 6238, 5.2)


@check("time.no-service", MEDIUM, source="systemd-timesyncd.service(8); RFC 5905")
def no_service(context: Context) -> Iterator[CheckResult]:
    """No service that sets the clock is started at boot."""
    clock = context.access.reading.clock
    if not clock.applies or any(each.at_boot is not False or each.running for each in clock.services):
        return
    if not clock.services:
        text = "No service that sets the clock is installed: it drifts, and certificates and logs go by it."
        yield CheckResult(text, (Proof("none of timesyncd, chrony, ntpd", Origin("/usr/sbin")),), ("clock",))
        return
    names = [each.name for each in clock.services]
    text = f"{listed(names)} could set the clock, and is not started at boot."
    yield CheckResult(text, tuple(Proof("not at boot", each.origin) for each in clock.services), tuple(names))


@check("time.two-services", MEDIUM, source="RFC 5905: one discipline of the clock")
def two_services(context: Context) -> Iterator[CheckResult]:
    """Two services set the clock, each against the other."""
    found = [each for each in context.access.reading.clock.services if each.at_boot or each.running]
    if len(found) > 1:
        text = f"{listed([each.name for each in found])} both set the clock: each takes the other's work for drift."
        yield CheckResult(text, tuple(Proof(each.name, each.origin) for each in found), tuple(each.name for each in found))


@check("time.stopped", MEDIUM, source="systemctl(1): is-active")
def stopped(context: Context) -> Iterator[CheckResult]:
    """A time service is started at boot, and does not run now."""
    clock = context.access.reading.clock
    if not clock.applies or any(each.running for each in clock.services):
        return
    for each in clock.services:
        if each.at_boot and each.running is False:
            yield CheckResult(
                f"{each.name} is started at boot and does not run now.", (Proof("inactive", each.origin),), (each.name,)
            )


@check("time.not-synchronised", MEDIUM, source="timedatectl(1): System clock synchronized; adjtimex(2)")
def not_synchronised(context: Context) -> Iterator[CheckResult]:
    """A time service runs, and the clock was not synchronised yet."""
    clock = context.access.reading.clock
    running = [each for each in clock.services if each.running]
    if clock.applies and running and clock.synchronised is False:
        text = f"{running[0].name} runs, and the clock is not synchronised: no time server answers it, or it has only begun."
        yield CheckResult(text, (Proof("NTPSynchronized=no", LISTED),), (running[0].name,))


@check("time.off", HIGH, source="RFC 6238, 5.2; RFC 5280, 4.1.2.5")
def off(context: Context) -> Iterator[CheckResult]:
    """The guest's clock and that of the machine that read it differ: one of them is wrong."""
    found = context.access.reading.clock.off
    if found is None or (found[0] <= TOLERATED and found[1] >= -TOLERATED):
        return
    ahead = found[0] > 0
    least = found[0] if ahead else -found[1]
    where = "ahead of" if ahead else "behind"
    text = f"The clock is at least {span(least)} {where} that of the machine that read it: one of them is wrong."
    yield CheckResult(text, (Proof("its clock against ours", Origin("date +%s", kind=Kind.LISTING)),), ("clock",))


@check("time.zone", LOW, source="localtime(5); timezone(5)")
def zone(context: Context) -> Iterator[CheckResult]:
    """The time zone is not set, or two files say different ones."""
    clock = context.access.reading.clock
    if not clock.applies:
        return
    if clock.zone is None and clock.stated_zone is None:
        text = "No time zone is set: times in logs are told in UTC by chance, not by choice."
        yield CheckResult(text, (Proof("no link", Origin("/etc/localtime")),), ("zone",))
    elif clock.zone is not None and clock.stated_zone is not None and clock.zone.value != clock.stated_zone.value:
        text = f"/etc/localtime says {clock.zone.value}, /etc/timezone {clock.stated_zone.value}: programs tell different times."
        proofs = tuple(Proof(each.value, each.origin) for each in (clock.zone, clock.stated_zone))
        yield CheckResult(text, proofs, ("zone",))


@check("time.local-hardware-clock", LOW, source="adjtime(5)")
def local_hardware_clock(context: Context) -> Iterator[CheckResult]:
    """The hardware's clock is kept in local time, so it is wrong for an hour twice a year."""
    place = context.access.reading.clock.in_local_time
    if place is not None:
        yield CheckResult("The hardware's clock is kept in local time; expected UTC.", (Proof("LOCAL", place),), ("clock",))
