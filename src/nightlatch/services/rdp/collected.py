"""The files that are read of a guest for RDP, beside those that its settings name (evidence/screen_files.py)."""

from __future__ import annotations

from nightlatch.evidence.extra_paths import ExtraPaths
from nightlatch.evidence.screen_files import MAIN, PROGRAM, SESMAN
from nightlatch.readings.units.unit_state import paths_of
from nightlatch.services.posix import scripts
from nightlatch.services.posix.x_sessions import STARTED, XMESSAGE, XSESSION, XSESSION_OPTIONS
from nightlatch.services.rdp.seal import STOCK
from nightlatch.services.rdp.settings import OPTION_FILES, SESMAN_UNIT, UNIT
from nightlatch.systems import posix

WRAPPER = "/etc/X11/Xwrapper.config"
WINDOW_MANAGER = "/etc/xrdp/startwm.sh"
XTERM = "/usr/bin/xterm"
XORG, WRAPS, XORG_DRIVER = "/usr/lib/xorg/Xorg", "/usr/lib/xorg/Xorg.wrap", "/usr/lib/xorg/modules/libxorgxrdp.so"
XVNC = "/usr/bin/Xvnc"

COLLECTED = ExtraPaths(
    looked=(
        PROGRAM,
        "/usr/sbin/xrdp-sesman",
        STOCK["key_file"],
        XTERM,
        XMESSAGE,
        *STARTED,
        XORG,
        WRAPS,
        XORG_DRIVER,
        XVNC,
        *(f"/usr/bin/{name}" for name in scripts.LAST),
        *(path for unit in (UNIT, SESMAN_UNIT) for path in paths_of(unit) if ".wants/" in path),
    ),
    files=(
        MAIN,
        SESMAN,
        STOCK["certificate"],
        WINDOW_MANAGER,
        XSESSION,
        XSESSION_OPTIONS,
        WRAPPER,
        *OPTION_FILES,
        *(f"{top}/{unit}" for top in posix.UNIT_FOLDERS for unit in (UNIT, SESMAN_UNIT)),
    ),
    folders=tuple(f"{posix.UNIT_FOLDERS[0]}/{unit}.d" for unit in (UNIT, SESMAN_UNIT)),
)
