"""Facts about POSIX guests that are known beforehand: families, folders of units, the SSH server's program, legal names."""

from __future__ import annotations

import re

SSHD = "/usr/sbin/sshd"
# Folders of units, the one that counts first before the others (systemd.unit(5)).
UNIT_FOLDERS = ("/etc/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system")
# A file of an account's name in one of these has its jobs run (crontab(1) of three families), or its user manager (loginctl(1)).
CRON_FOLDERS = ("/var/spool/cron/crontabs", "/var/spool/cron/tabs", "/var/spool/cron")
JOB_FOLDERS = (*CRON_FOLDERS, "/var/lib/systemd/linger")
# Tables that name an account on each line (crontab(5)).
JOB_TABLE, JOB_TABLES = "/etc/crontab", "/etc/cron.d"
UNITS_SET = "/etc/systemd/system.control"  # what `systemctl set-property` writes counts before these

# IDs of os-release(5) of what is made of Debian, and the word for what takes after it under another name.
FROM_DEBIAN = ("ubuntu", "raspbian", "linuxmint", "devuan")
DEBIAN_LIKE = ("debian", *FROM_DEBIAN, "debian-like")

UNIT = re.compile(r"[A-Za-z0-9:_.@-]{1,200}\.(service|socket|timer)")
PACKAGE = re.compile(r"[a-z0-9][a-z0-9+.-]{0,80}")
ZONE = re.compile(r"[A-Za-z0-9_+-]{1,30}(/[A-Za-z0-9_+-]{1,30}){0,2}")
# RFC 1123, 2.1, and the 64 bytes of hostname(7).
HOST_NAME = re.compile(r"(?=.{1,64}$)[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?(\.[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?)*")
