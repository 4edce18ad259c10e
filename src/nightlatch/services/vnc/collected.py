"""The files that are read of a guest for VNC, beside those that lines and settings name (evidence/vnc_files.py)."""

from __future__ import annotations

from nightlatch.evidence.extra_paths import ExtraPaths
from nightlatch.evidence.vnc_files import FOR_EVERYBODY, PROGRAMS, SERVICES, TEMPLATE, UNITS, USERS, WANTS
from nightlatch.services.vnc import session
from nightlatch.services.vnc.layers import DEFAULTS, MANDATORY
from nightlatch.systems import posix

COLLECTED = ExtraPaths(
    looked=PROGRAMS,
    files=(USERS, DEFAULTS, MANDATORY, session.SCRIPT, *(f"{top}/{TEMPLATE}" for top in posix.UNIT_FOLDERS)),
    folders=(UNITS, *WANTS, *FOR_EVERYBODY, SERVICES),
)
