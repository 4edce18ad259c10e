"""Files in which a guest may be told to log an account in without asking: units of consoles, inittab, display managers."""

from __future__ import annotations

UNITS = "/etc/systemd/system"
CONSOLES = ("getty@", *(f"getty@tty{n}" for n in range(1, 7)), "serial-getty@", "serial-getty@ttyS0", "console-getty")
GDM = ("/etc/gdm3/daemon.conf", "/etc/gdm3/custom.conf", "/etc/gdm/custom.conf")
LIGHTDM, SDDM, INITTAB = "/etc/lightdm/lightdm.conf", "/etc/sddm.conf", "/etc/inittab"
FILES = (*(f"{UNITS}/{unit}.service" for unit in CONSOLES), *GDM, LIGHTDM, SDDM, INITTAB)
FOLDERS = (*(f"{UNITS}/{unit}.service.d" for unit in CONSOLES), f"{LIGHTDM}.d", f"{SDDM}.d")
