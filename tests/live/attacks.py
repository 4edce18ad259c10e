"""Attacks on lab guests: what a user or a broken guest does at any moment, and what must be so afterwards.

`make judges` tries every class at every step, `make test` a sample of each class (tests/budget.py).
"""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
from collections.abc import Iterator

from nightlatch.lab.machine import Guest, environment

# Whoever is run as root by mistake leaves this.
OWNED = "/root/owned"
AS_MARA = ("setpriv", "--reuid=1001", "--regid=1001", "--clear-groups", "--inh-caps=-all")


def enter(guest: Guest) -> list[str]:
    """The words that enter a guest, for a process that is left running there."""
    return ["nsenter", "-t", str(guest.pid), "-m", "-p", "-u", "-i", "-n", "-C", "-r", "-w", "--"]


@contextlib.contextmanager
def running(guest: Guest, *words: str) -> Iterator[subprocess.Popen[bytes]]:
    """A process of mara's in the guest, ended by its number afterwards."""
    process = subprocess.Popen(
        [*enter(guest), *AS_MARA, *words],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env=environment({"PATH": "/usr/sbin:/usr/bin:/sbin:/bin"}),
        start_new_session=True,
    )
    try:
        yield process
    finally:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait(10)


# A program that calls itself sshd: it notes every signal, and when root runs it, root is owned. usage: PORT (0: does not listen)
FAKE = """#!/usr/bin/perl
use IO::Socket::INET;
if ($< == 0 || $> == 0) { open my $f, ">", "/root/owned"; close $f; exit 0 }
my $port = shift;
for my $name (qw(HUP USR1 TERM)) { $SIG{$name} = sub { open my $f, ">>", "/home/mara/signals"; print $f "$name\\n" } }
my $socket = $port && IO::Socket::INET->new(Proto => "tcp", LocalPort => $port, Listen => 5, ReuseAddr => 1);
sleep 1 while 1;
"""
TITLE = "sshd: /home/mara/sshd -D [listener] 0 of 10-100 startups"


def plant(guest: Guest) -> None:
    """Mara's programs: one by the name sshd, and a copy of an interpreter under that name, so that its process bears it, too."""
    guest.image.write("/home/mara/sshd", FAKE, 0o755, 1001, 1001)
    with open("/usr/bin/perl", "rb") as stream:
        guest.image.own("/home/mara/bin", 0o755, 1001, 1001)
        guest.image.write("/home/mara/bin/sshd", stream.read(), 0o755, 1001, 1001)


def fake(port: int = 0, title: str = TITLE) -> tuple[str, ...]:
    """The words that start such a process."""
    return ("bash", "-c", f'exec -a "{title}" /home/mara/bin/sshd /home/mara/sshd {port}')


# Swaps what it finds without end, as mara: usage: perl -e RACE KIND
RACE = r"""
chdir "/home/mara" or die;
my $kind = shift; my $n = 0;
while (1) {
    $n++;
    if ($kind eq "link") { symlink "/etc/shadow", ".ssh/x"; rename ".ssh/x", ".ssh/authorized_keys" }
    elsif ($kind eq "flicker") {
        rename ".ssh/authorized_keys", ".ssh/mine"; symlink "/etc/shadow", ".ssh/authorized_keys";
        rename ".ssh/mine", ".ssh/authorized_keys";
    }
    elsif ($kind eq "folder") {
        rename ".ssh", ".mine"; symlink "/etc", ".ssh"; unlink ".ssh"; rename ".mine", ".ssh";
    }
    elsif ($kind eq "root-folder") {
        rename ".ssh", ".mine"; symlink "/root/.ssh", ".ssh"; unlink ".ssh"; rename ".mine", ".ssh";
    }
    elsif ($kind eq "pipe") { system "mkfifo", ".ssh/x" unless -e ".ssh/x"; rename ".ssh/x", ".ssh/authorized_keys" }
    elsif ($kind eq "second name") { link ".stolen", ".ssh/x"; rename ".ssh/x", ".ssh/authorized_keys" }
    elsif ($kind eq "modes") { chmod 0777, "/home/mara", ".ssh"; chmod 0700, ".ssh"; chmod 0755, "/home/mara" }
    elsif ($kind eq "what is staged") {
        for my $top (".", ".ssh") {
            opendir my $d, $top or next;
            for my $name (grep { /nightlatch/ } readdir $d) {
                rename "$top/$name", "$top/taken$n"; symlink "/etc/shadow", "$top/$name"; symlink "/etc", "$top/$name";
            }
        }
    }
    elsif ($kind eq "grows") { open my $f, ">>", ".ssh/authorized_keys"; print $f "# more\n" x 2000 }
}
"""
RACES = ("link", "flicker", "folder", "root-folder", "pipe", "second name", "modes", "what is staged", "grows")
